//! Limits of open files: how many this process may have, and how many each part gets.

use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};

/// Files that the journal, the database, the broker and the listeners need, whatever is connected.
const RESERVE: u64 = 192;
/// The limit asked for.
const WANTED: u64 = 65_536;
/// The most connections of a kind, even if there are files for more.
const MOST_GATEWAYS: u64 = 20_000;
const MOST_CALLERS: u64 = 4_000;

/// Connections at the same time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Room {
    /// Of gateways.
    pub gateways: usize,
    /// Of browsers and programs.
    pub callers: usize,
}

impl Room {
    /// Shares out this many files: four in five to gateways.
    fn of(files: u64) -> Self {
        let free = files.saturating_sub(RESERVE).max(50);
        let gateways = (free * 4 / 5).min(MOST_GATEWAYS);
        let callers = (free - free * 4 / 5).min(MOST_CALLERS);
        let count = |n: u64| usize::try_from(n).unwrap_or(usize::MAX);
        Self { gateways: count(gateways), callers: count(callers) }
    }
}

/// Raises the limit as far as allowed; returns the room for connections.
pub(crate) fn make_room() -> Room {
    let limit = getrlimit(Resource::Nofile);
    let most = limit.maximum.unwrap_or(WANTED);
    let now = limit.current.unwrap_or(u64::MAX);
    let wanted = WANTED.min(most).max(now.min(most));
    if now < wanted
        && let Err(error) = setrlimit(Resource::Nofile, Rlimit { current: Some(wanted), maximum: limit.maximum })
    {
        tracing::warn!("the limit on open files stays at {now}: {error}");
        return Room::of(now);
    }
    let room = Room::of(wanted);
    tracing::debug!(files = wanted, ?room, "room for connections");
    room
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn connections_leave_a_reserve_for_what_stores_frames() {
        for files in [256u64, 1024, 4096, 65_536, 1 << 20] {
            let room = Room::of(files);
            assert!((room.gateways + room.callers) as u64 + RESERVE <= files.max(RESERVE + 50), "{files}: {room:?}");
            assert!(room.gateways >= 40 && room.callers >= 10, "{files}: {room:?}");
        }
        assert_eq!(Room::of(1024), Room { gateways: 665, callers: 167 });
    }
}
