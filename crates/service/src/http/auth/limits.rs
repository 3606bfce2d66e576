//! Rate limits of requests, per account and per address.

use std::net::IpAddr;
use std::time::{Duration, Instant};

use domain::people::account_key;
use store::PersonId;

use crate::net::rate_limit::RateLimiter;
use crate::net::source::one_source;

/// Requests of one account in a second, by default.
pub(crate) const REQUESTS_PER_S: u32 = 500;
/// Seconds of requests that may come at once.
pub(crate) const BURST_S: u32 = 5;

/// All the limits.
pub struct Limits {
    /// Wrong sign-ins from one source.
    source: RateLimiter<IpAddr>,
    /// Wrong sign-ins to one account, from sources that it has not been signed in to from.
    account: RateLimiter<Account>,
    /// Wrong sign-ins to one account from one source that it has been signed in to from: guesses from elsewhere do not
    /// lock its owner out.
    known: RateLimiter<(PersonId, IpAddr)>,
    /// Wrong passwords and codes of somebody who is signed in, from wherever: a stolen sign-in does not help to guess.
    again: RateLimiter<PersonId>,
    /// Unknown tokens, from one source.
    pub unknown: RateLimiter<IpAddr>,
    /// How often an unknown token is recorded, from one source.
    pub told: RateLimiter<IpAddr>,
    /// Costly requests without a sign-in, from one source.
    pub open: RateLimiter<IpAddr>,
    /// Requests of one account.
    pub requests: RateLimiter<PersonId>,
}

/// Whose sign-in is tried. An account counts as itself, however its name was typed.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Account {
    /// Of a name that there is.
    Person(PersonId),
    /// Of a name that there is not, as it is looked for.
    Nobody(String),
}

impl Account {
    /// The account that was found by a name, or not.
    pub(crate) fn of(person: Option<PersonId>, name: &str) -> Self {
        person.map_or_else(|| Self::Nobody(account_key(name)), Self::Person)
    }
}

impl Limits {
    pub fn new(requests_per_s: u32) -> Self {
        Self {
            source: RateLimiter::new(10, Duration::from_secs(20)),
            account: RateLimiter::new(20, Duration::from_secs(60)),
            known: RateLimiter::new(10, Duration::from_secs(20)),
            again: RateLimiter::new(10, Duration::from_secs(60)),
            unknown: RateLimiter::new(1000, Duration::from_millis(50)),
            told: RateLimiter::new(1, Duration::from_secs(600)),
            open: RateLimiter::new(30, Duration::from_secs(10)),
            requests: RateLimiter::new(requests_per_s * BURST_S, Duration::from_secs(1) / requests_per_s),
        }
    }

    /// What counts as one source.
    pub fn of(&self, address: IpAddr) -> IpAddr {
        one_source(address)
    }

    /// Before a sign-in: whether it may be tried, or how long to wait. `knows` is whether the account has been signed in to from
    /// there.
    pub fn try_sign_in(&self, account: &Account, address: IpAddr, knows: bool, now: Instant) -> Result<(), Duration> {
        let source = self.of(address);
        if let (Account::Person(person), true) = (account, knows) {
            return self.known.take((*person, source), now);
        }
        self.source.take(source, now)?;
        self.account.take(account.clone(), now).inspect_err(|_| self.source.give_back(&source))
    }

    /// After a correct sign-in: it is not counted.
    pub fn was_right(&self, person: PersonId, address: IpAddr, knows: bool) {
        let source = self.of(address);
        if knows {
            return self.known.give_back(&(person, source));
        }
        self.source.give_back(&source);
        self.account.give_back(&Account::Person(person));
    }

    /// Before somebody who is signed in gives the password or a code again.
    pub fn try_again(&self, person: PersonId, now: Instant) -> Result<(), Duration> {
        self.again.take(person, now)
    }

    /// After a correct password or code: it is not counted.
    pub fn again_was_right(&self, person: PersonId) {
        self.again.give_back(&person);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn elsewhere(n: u8) -> IpAddr {
        IpAddr::from([192, 0, 2, n])
    }

    #[test]
    fn guessing_is_slowed_down_and_does_not_lock_the_owner_out() {
        let limits = Limits::new(10);
        let (owner, other) = (Account::Person(1), Account::Person(2));
        let now = Instant::now();
        let home = IpAddr::from([10, 0, 0, 1]);
        for n in 0..10 {
            assert!(limits.try_sign_in(&owner, elsewhere(1), false, now).is_ok(), "{n}");
        }
        assert!(limits.try_sign_in(&owner, elsewhere(1), false, now).is_err(), "one source has ten");
        for n in 2..12 {
            assert!(limits.try_sign_in(&owner, elsewhere(n), false, now).is_ok(), "{n}");
        }
        assert!(limits.try_sign_in(&owner, elsewhere(20), false, now).is_err(), "all together have twenty");
        assert!(limits.try_sign_in(&other, elsewhere(20), false, now).is_ok(), "another account is another matter");
        assert!(limits.try_sign_in(&owner, home, true, now).is_ok(), "from where it is known, the owner comes in");
        limits.was_right(1, home, true);
    }

    #[test]
    fn an_account_counts_as_itself_and_a_name_in_each_form() {
        assert_eq!(Account::of(Some(3), "viè"), Account::of(Some(3), "VIE"));
        assert_eq!(Account::of(None, " NOBODY"), Account::of(None, "nobody"));
        assert_ne!(Account::of(None, "nobody"), Account::of(None, "somebody"));
    }

    #[test]
    fn a_stolen_sign_in_guesses_no_faster_from_many_sources() {
        let (limits, now) = (Limits::new(10), Instant::now());
        assert_eq!((0..100).filter(|_| limits.try_again(1, now).is_ok()).count(), 10);
        limits.again_was_right(1);
        assert!(limits.try_again(1, now).is_ok() && limits.try_again(2, now).is_ok());
    }

    #[test]
    fn what_is_right_is_not_counted() {
        let limits = Limits::new(10);
        let (now, home) = (Instant::now(), IpAddr::from([10, 0, 0, 1]));
        for _ in 0..100 {
            assert!(limits.try_sign_in(&Account::Person(1), home, false, now).is_ok());
            limits.was_right(1, home, false);
        }
    }
}
