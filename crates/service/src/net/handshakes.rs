//! Limits TLS handshakes in progress per address.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use crate::http::auth::limits::one_source;

/// Handshakes of one address at once. Many gateways may be behind one.
const OF_ONE: usize = 64;

/// The handshakes under way.
#[derive(Debug, Clone, Default)]
pub(crate) struct Handshakes(Arc<Mutex<HashMap<IpAddr, usize>>>);

/// One of them, until it is dropped.
#[derive(Debug)]
pub(crate) struct Handshake {
    all: Handshakes,
    of: IpAddr,
}

impl Handshakes {
    fn lock(&self) -> MutexGuard<'_, HashMap<IpAddr, usize>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Begins one; none if that address has too many.
    pub(crate) fn begin(&self, address: IpAddr) -> Option<Handshake> {
        let of = one_source(address);
        let mut all = self.lock();
        let count = all.entry(of).or_default();
        if *count >= OF_ONE {
            return None;
        }
        *count += 1;
        Some(Handshake { all: self.clone(), of })
    }
}

impl Drop for Handshake {
    fn drop(&mut self) {
        let mut all = self.all.lock();
        if let Some(count) = all.get_mut(&self.of) {
            *count -= 1;
            if *count == 0 {
                all.remove(&self.of);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_address_has_few_and_keeps_nobody_else_out() {
        let all = Handshakes::default();
        let (one, other): (IpAddr, IpAddr) = ([10, 0, 0, 1].into(), [10, 0, 0, 2].into());
        let mut held: Vec<_> = (0..OF_ONE).map(|_| all.begin(one).unwrap()).collect();
        assert!(all.begin(one).is_none() && all.begin(other).is_some());
        held.pop();
        assert!(all.begin(one).is_some());
        drop(held);
        assert!(all.lock().is_empty(), "nothing is remembered of clients that are gone");
        let v6 = |text: &str| text.parse::<IpAddr>().unwrap();
        assert_eq!(one_source(v6("2001:db8::1")), one_source(v6("2001:db8::ffff")));
        assert_eq!(one_source(v6("::ffff:10.0.0.1")), one);
    }
}
