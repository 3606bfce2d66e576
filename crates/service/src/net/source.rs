//! What counts as one source of connections and requests.

use std::net::{IpAddr, Ipv6Addr};

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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_subscribers_network_is_one_source() {
        let of = |text: &str| one_source(text.parse().unwrap());
        assert_eq!(of("2001:db8::1"), of("2001:db8::ffff:1"));
        assert_ne!(of("2001:db8::1"), of("2001:db8:0:1::1"));
        assert_eq!(of("::ffff:192.0.2.1"), of("192.0.2.1"));
    }
}
