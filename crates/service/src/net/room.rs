//! Who may be connected to a port: how many in all, from one source and of one account, and who has to leave for others.
//!
//! Connections that have shown whose they are stay. Of all others those that say nothing leave first when there is no room:
//! the oldest of the source that has the most of them, so that one source cannot keep everybody else out.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use tokio_util::sync::CancellationToken;

use crate::net::source::one_source;

/// A request of a stranger that takes longer may be ended for others. Nothing that strangers may ask for takes as long.
const STRANGERS_TAKE: Duration = Duration::from_secs(10);

/// How many connections there may be.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Limits {
    /// In all.
    pub most: usize,
    /// Of them only for those who have shown whose they are.
    pub reserve: usize,
    /// From one source, of those who have not.
    pub of_source: usize,
    /// Of one account.
    pub of_account: usize,
}

impl Limits {
    /// For browsers and programs: a quarter is kept for the signed-in.
    pub(crate) const fn callers(most: usize) -> Self {
        Self { most, reserve: most / 4, of_source: most / 2, of_account: if most / 4 < 256 { most / 4 } else { 256 } }
    }

    /// For gateways: many may be behind one address.
    pub(crate) const fn gateways(most: usize) -> Self {
        Self { most, reserve: most / 2, of_source: most, of_account: usize::MAX }
    }
}

/// What a connection does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Doing {
    /// It has said nothing since then.
    Nothing(Instant),
    /// Its request has been answered since then.
    Asking(Instant),
}

#[derive(Debug)]
struct Taken {
    source: IpAddr,
    doing: Doing,
    /// Whose it is; a gateway has no account.
    known: Option<Option<u32>>,
    leave: CancellationToken,
}

impl Taken {
    /// Since when it could leave; none if it stays.
    fn idle_since(&self, now: Instant) -> Option<Instant> {
        match self.doing {
            _ if self.known.is_some() || self.leave.is_cancelled() => None,
            Doing::Nothing(since) => Some(since),
            Doing::Asking(since) if now.saturating_duration_since(since) >= STRANGERS_TAKE => Some(since),
            Doing::Asking(_) => None,
        }
    }
}

#[derive(Debug, Default)]
struct Seats {
    next: u64,
    taken: HashMap<u64, Taken>,
}

impl Seats {
    fn strangers(&self, of: impl Fn(IpAddr) -> bool) -> usize {
        self.taken.values().filter(|one| one.known.is_none() && !one.leave.is_cancelled() && of(one.source)).count()
    }

    /// Sends away a connection that says nothing, of these sources; whether there was one.
    fn make_room(&self, now: Instant, of: Option<IpAddr>) -> bool {
        let mut idle: HashMap<IpAddr, (usize, Instant, &Taken)> = HashMap::new();
        for one in self.taken.values().filter(|one| of.is_none_or(|source| one.source == source)) {
            let Some(since) = one.idle_since(now) else { continue };
            let entry = idle.entry(one.source).or_insert((0, since, one));
            entry.0 += 1;
            if since < entry.1 {
                (entry.1, entry.2) = (since, one);
            }
        }
        let most = idle.into_values().max_by(|a, b| (a.0, b.1).cmp(&(b.0, a.1)));
        most.map(|(.., one)| one.leave.cancel()).is_some()
    }
}

/// The connections of a port.
#[derive(Debug)]
pub(crate) struct Room {
    limits: Limits,
    seats: Mutex<Seats>,
}

/// A connection's place, until it is dropped.
#[derive(Debug)]
pub struct Seat {
    room: Arc<Room>,
    number: u64,
    leave: CancellationToken,
}

impl Room {
    pub(crate) fn new(limits: Limits) -> Arc<Self> {
        Arc::new(Self { limits, seats: Mutex::default() })
    }

    fn lock(&self) -> MutexGuard<'_, Seats> {
        self.seats.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A place for a new connection.
    ///
    /// # Errors
    /// Says why there is none.
    pub(crate) fn enter(self: &Arc<Self>, address: IpAddr, now: Instant) -> Result<Seat, &'static str> {
        let source = one_source(address);
        let mut seats = self.lock();
        let Limits { most, reserve, of_source, .. } = self.limits;
        if seats.strangers(|one| one == source) >= of_source && !seats.make_room(now, Some(source)) {
            return Err("one source has too many connections");
        }
        let all = seats.taken.values().filter(|one| !one.leave.is_cancelled()).count();
        let full = all >= most || seats.strangers(|_| true) >= most - reserve;
        if full && !seats.make_room(now, None) {
            return Err("there are too many connections");
        }
        seats.next += 1;
        let (number, leave) = (seats.next, CancellationToken::new());
        let taken = Taken { source, doing: Doing::Nothing(now), known: None, leave: leave.clone() };
        seats.taken.insert(number, taken);
        drop(seats);
        Ok(Seat { room: Arc::clone(self), number, leave })
    }
}

impl Seat {
    fn with<T>(&self, what: impl FnOnce(&mut Taken) -> T) -> Option<T> {
        self.room.lock().taken.get_mut(&self.number).map(what)
    }

    /// Ends when the connection has to leave for others.
    pub(crate) async fn has_to_leave(&self) {
        self.leave.cancelled().await;
    }

    /// A request has come, or has been answered.
    pub(crate) fn asks(&self, asks: bool, now: Instant) {
        self.with(|taken| taken.doing = if asks { Doing::Asking(now) } else { Doing::Nothing(now) });
    }

    /// It has shown whose it is: it stays.
    pub(crate) fn is_known(&self) {
        self.with(|taken| taken.known = taken.known.or(Some(None)));
    }

    /// It is an account's; whether that may have one more.
    pub(crate) fn is_of(&self, account: u32) -> bool {
        let mut seats = self.room.lock();
        if seats.taken.get(&self.number).is_some_and(|taken| taken.known == Some(Some(account))) {
            return true;
        }
        let others = |(number, one): (&u64, &Taken)| *number != self.number && one.known == Some(Some(account));
        if seats.taken.iter().filter(|one| others(*one)).count() >= self.room.limits.of_account {
            return false;
        }
        if let Some(taken) = seats.taken.get_mut(&self.number) {
            taken.known = Some(Some(account));
        }
        true
    }
}

impl Drop for Seat {
    fn drop(&mut self) {
        self.room.lock().taken.remove(&self.number);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const LIMITS: Limits = Limits { most: 8, reserve: 2, of_source: 5, of_account: 2 };

    fn at(n: u8) -> IpAddr {
        IpAddr::from([192, 0, 2, n])
    }

    #[test]
    fn the_silent_leave_for_others_and_the_signed_in_stay() {
        let (room, start) = (Room::new(LIMITS), Instant::now());
        let later = |s: u64| start + Duration::from_secs(s);
        let mine = room.enter(at(9), start).unwrap();
        assert!(mine.is_of(1));
        let silent: Vec<Seat> = (0..5).map(|n| room.enter(at(1), later(n)).unwrap()).collect();
        // One more of the same source: its own oldest goes.
        let one_more = room.enter(at(1), later(6)).unwrap();
        assert!(silent[0].leave.is_cancelled() && !silent[1].leave.is_cancelled());
        drop(silent);
        drop(one_more);
        let held: Vec<Seat> = (1..=3).flat_map(|n| [n, n]).map(|n| room.enter(at(n), later(10)).unwrap()).collect();
        // Six strangers have all that strangers may have. A newcomer takes the place of a silent one.
        let newcomer = room.enter(at(7), later(11)).unwrap();
        assert_eq!(held.iter().filter(|one| one.leave.is_cancelled()).count(), 1);
        assert!(newcomer.is_of(2) && !mine.leave.is_cancelled());
    }

    #[test]
    fn what_is_being_answered_is_left_alone_unless_it_takes_long() {
        let (room, start) = (Room::new(LIMITS), Instant::now());
        let held: Vec<Seat> = (1..=6).map(|n| room.enter(at(n), start).unwrap()).collect();
        held.iter().for_each(|one| one.asks(true, start));
        assert_eq!(room.enter(at(7), start).unwrap_err(), "there are too many connections");
        let long = start + STRANGERS_TAKE;
        assert!(room.enter(at(7), long).is_ok());
        held[1].asks(false, long);
        drop(held);
        assert_eq!(room.lock().taken.len(), 0, "nothing is left of those that are gone");
    }

    #[test]
    fn a_gateway_stays_and_an_account_has_its_share() {
        let (room, now) = (Room::new(LIMITS), Instant::now());
        let gateway = room.enter(at(1), now).unwrap();
        gateway.is_known();
        let seats: Vec<Seat> = (0..3).map(|_| room.enter(at(2), now).unwrap()).collect();
        assert_eq!(seats.iter().map(|seat| seat.is_of(7)).collect::<Vec<_>>(), [true, true, false]);
        assert!(seats[0].is_of(7), "its next request is no further connection");
        assert!(!room.lock().make_room(now, Some(at(1))), "it does not leave");
    }
}
