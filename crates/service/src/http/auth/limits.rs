//! Rate limits of requests, per account and per address.

use std::net::{IpAddr, Ipv6Addr};
use std::time::{Duration, Instant};

use store::PersonId;

use crate::net::rate_limit::RateLimiter;

/// Requests of one account in a second, by default.
pub(crate) const REQUESTS_PER_S: u32 = 500;
/// Seconds of requests that may come at once.
pub(crate) const BURST_S: u32 = 5;

/// All the limits.
pub struct Limits {
    /// Wrong sign-ins from one source.
    source: RateLimiter<IpAddr>,
    /// Wrong sign-ins to one account, from sources that it has not been signed in to from.
    account: RateLimiter<String>,
    /// Wrong sign-ins to one account from one source that it has been signed in to from: guesses from elsewhere do not
    /// lock its owner out.
    known: RateLimiter<(String, IpAddr)>,
    /// Unknown tokens, from one source.
    pub unknown: RateLimiter<IpAddr>,
    /// How often an unknown token is recorded, from one source.
    pub told: RateLimiter<IpAddr>,
    /// Costly requests without a sign-in, from one source.
    pub open: RateLimiter<IpAddr>,
    /// Requests of one account.
    pub requests: RateLimiter<PersonId>,
}

/// What counts as one source: an IPv6 subscriber has all of a /64.
pub(crate) fn one_source(address: IpAddr) -> IpAddr {
    match address {
        IpAddr::V6(v6) => match v6.to_ipv4_mapped() {
            Some(v4) => v4.into(),
            None => Ipv6Addr::from(u128::from(v6) & (u128::MAX << 64)).into(),
        },
        v4 => v4,
    }
}

impl Limits {
    pub fn new(requests_per_s: u32) -> Self {
        Self {
            source: RateLimiter::new(10, Duration::from_secs(20)),
            account: RateLimiter::new(20, Duration::from_secs(60)),
            known: RateLimiter::new(10, Duration::from_secs(20)),
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

    /// Before a sign-in: whether it may be tried, or how long to wait.
    pub fn try_sign_in(&self, name: &str, address: IpAddr, knows: bool, now: Instant) -> Result<(), Duration> {
        let source = self.of(address);
        if knows {
            return self.known.take((account(name), source), now);
        }
        self.source.take(source, now)?;
        self.account.take(account(name), now).inspect_err(|_| self.source.give_back(&source))
    }

    /// After a correct sign-in: it is not counted.
    pub fn was_right(&self, name: &str, address: IpAddr, knows: bool) {
        let source = self.of(address);
        if knows {
            return self.known.give_back(&(account(name), source));
        }
        self.source.give_back(&source);
        self.account.give_back(&account(name));
    }
}

/// Names are compared without regard to case, and can be of any length: the caller chooses them.
fn account(name: &str) -> String {
    name.trim().chars().take(80).flat_map(char::to_lowercase).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn guessing_is_slowed_down_and_does_not_lock_the_owner_out() {
        let limits = Limits::new(10);
        let now = Instant::now();
        let elsewhere = |n: u8| IpAddr::from([192, 0, 2, n]);
        let home = IpAddr::from([10, 0, 0, 1]);
        for n in 0..10 {
            assert!(limits.try_sign_in("owner", elsewhere(1), false, now).is_ok(), "{n}");
        }
        assert!(limits.try_sign_in("owner", elsewhere(1), false, now).is_err(), "one source has ten");
        for n in 2..12 {
            assert!(limits.try_sign_in("OWNER ", elsewhere(n), false, now).is_ok(), "{n}");
        }
        assert!(limits.try_sign_in("owner", elsewhere(20), false, now).is_err(), "all together have twenty");
        assert!(limits.try_sign_in("other", elsewhere(20), false, now).is_ok(), "another account is another matter");
        assert!(limits.try_sign_in("owner", home, true, now).is_ok(), "from where it is known, the owner comes in");
        limits.was_right("owner", home, true);
    }

    #[test]
    fn what_is_right_is_not_counted() {
        let limits = Limits::new(10);
        let (now, home) = (Instant::now(), IpAddr::from([10, 0, 0, 1]));
        for _ in 0..100 {
            assert!(limits.try_sign_in("owner", home, false, now).is_ok());
            limits.was_right("owner", home, false);
        }
    }

    #[test]
    fn a_subscribers_network_is_one_source() {
        let limits = Limits::new(10);
        let of = |text: &str| limits.of(text.parse().unwrap());
        assert_eq!(of("2001:db8::1"), of("2001:db8::ffff:1"));
        assert_ne!(of("2001:db8::1"), of("2001:db8:0:1::1"));
        assert_eq!(of("::ffff:192.0.2.1"), of("192.0.2.1"));
    }
}
