//! Addresses that people give and the service calls. Through the service nobody may reach this machine or its network.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use anyhow::{Context as _, Result, anyhow, bail};
use ipnet::{Ipv4Net, Ipv6Net};

/// Networks of version 4 that may not be reached through the service (RFC 6890 and the IANA registry of
/// special-purpose addresses). The networks for documentation are left out: nothing is there.
const INNER_V4: [Ipv4Net; 14] = [
    v4([0, 0, 0, 0], 8),
    v4([10, 0, 0, 0], 8),
    v4([100, 64, 0, 0], 10),
    v4([127, 0, 0, 0], 8),
    v4([169, 254, 0, 0], 16),
    v4([172, 16, 0, 0], 12),
    v4([192, 0, 0, 0], 24),
    v4([192, 31, 196, 0], 24),
    v4([192, 52, 193, 0], 24),
    v4([192, 88, 99, 0], 24),
    v4([192, 168, 0, 0], 16),
    v4([198, 18, 0, 0], 15),
    v4([224, 0, 0, 0], 4),
    v4([240, 0, 0, 0], 4),
];

/// The same of version 6; those that hold an address of version 4 are in [`held_v4`].
const INNER_V6: [Ipv6Net; 10] = [
    v6([0, 0, 0, 0, 0, 0, 0, 0], 127),
    // Local translation (RFC 8215), discarded (RFC 6666), Teredo and other protocols (RFC 2928), segments (RFC 9602).
    v6([0x64, 0xff9b, 1, 0, 0, 0, 0, 0], 48),
    v6([0x100, 0, 0, 0, 0, 0, 0, 0], 64),
    v6([0x2001, 0, 0, 0, 0, 0, 0, 0], 23),
    v6([0x5f00, 0, 0, 0, 0, 0, 0, 0], 16),
    v6([0xfc00, 0, 0, 0, 0, 0, 0, 0], 7),
    v6([0xfe80, 0, 0, 0, 0, 0, 0, 0], 10),
    v6([0xfec0, 0, 0, 0, 0, 0, 0, 0], 10),
    v6([0xff00, 0, 0, 0, 0, 0, 0, 0], 8),
    v6([0x2620, 0x4f, 0x8000, 0, 0, 0, 0, 0], 48),
];

const fn v4([a, b, c, d]: [u8; 4], length: u8) -> Ipv4Net {
    Ipv4Net::new_assert(Ipv4Addr::new(a, b, c, d), length)
}

const fn v6([a, b, c, d, e, f, g, h]: [u16; 8], length: u8) -> Ipv6Net {
    Ipv6Net::new_assert(Ipv6Addr::new(a, b, c, d, e, f, g, h), length)
}

/// The address of version 4 that one of version 6 leads to: mapped or translated (RFC 4291 §2.5.5, RFC 2765 §2.1), by NAT64
/// (RFC 6052 §2.1), by 6to4 (RFC 3056 §2).
fn held_v4(address: Ipv6Addr) -> Option<Ipv4Addr> {
    let at = |high: u16, low: u16| {
        let ([a, b], [c, d]) = (high.to_be_bytes(), low.to_be_bytes());
        Some(Ipv4Addr::new(a, b, c, d))
    };
    match address.segments() {
        [0, 0, 0, 0, 0, 0 | 0xffff, high, low] | [0, 0, 0, 0, 0xffff, 0, high, low] => at(high, low),
        [0x64, 0xff9b, 0, 0, 0, 0, high, low] => at(high, low),
        [0x2002, high, low, ..] => at(high, low),
        _ => None,
    }
}

/// Whether an address may not be reached through the service: it is of this machine, of its network, or of no use outside.
pub(crate) fn is_inner(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(address) => INNER_V4.iter().any(|net| net.contains(&address)),
        IpAddr::V6(address) => {
            INNER_V6.iter().any(|net| net.contains(&address))
                || held_v4(address).is_some_and(|held| is_inner(held.into()))
        }
    }
}

/// Where an address leads.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Leads {
    /// To these addresses, all outside.
    Outside(Vec<IpAddr>),
    /// To a host that the operator allows, wherever that is.
    Allowed,
    /// Into the network of this machine.
    Inside,
}

/// Looks up where a host is, once: who connects afterwards has to go to these addresses, for the next answer may be another.
///
/// # Errors
/// There is no such host.
pub(crate) async fn look_up(host: &str, port: u16, allowed: &[String]) -> Result<Leads> {
    let host = host.trim_matches(['[', ']']).to_ascii_lowercase();
    if allowed.contains(&host) {
        return Ok(Leads::Allowed);
    }
    let found: Vec<IpAddr> = tokio::net::lookup_host((host.as_str(), port)).await?.map(|found| found.ip()).collect();
    if found.is_empty() {
        bail!("{host} has no address");
    }
    Ok(if found.iter().any(|ip| is_inner(*ip)) { Leads::Inside } else { Leads::Outside(found) })
}

/// Why an outlet does not reach a host.
pub(crate) fn inside(host: &str) -> anyhow::Error {
    anyhow!("{host} leads into the network of this machine; the operator can allow it with --outlet-hosts")
}

/// The host and the port of an address like `https://HOST:PORT/…`.
///
/// # Errors
/// There is none that can be read.
pub(crate) fn host_and_port(address: &str, usual_port: u16) -> Result<(&str, u16)> {
    let rest = address.split_once("://").map(|(_, rest)| rest).context("it has no scheme")?;
    let authority = rest.split(['/', '?', '#']).next().unwrap_or_default();
    let (host, port) = match authority.rsplit_once(':') {
        Some((host, port)) if !port.ends_with(']') => (host, port.parse().map_err(|_| anyhow!("{port:?} is no port"))?),
        _ => (authority, usual_port),
    };
    // What one reader takes for the host's end may be part of it for another.
    let literal = host.starts_with('[') && host.ends_with(']');
    let plain =
        |c: char| c.is_alphanumeric() || matches!(c, '-' | '.' | '_') || literal && matches!(c, ':' | '[' | ']');
    if host.is_empty() || !host.chars().all(plain) {
        bail!("{host:?} is no host");
    }
    Ok((host, port))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn inner_addresses_are_known_in_every_form() {
        for inner in [
            "127.0.0.1",
            "10.1.2.3",
            "192.168.0.1",
            "172.16.0.1",
            "169.254.169.254",
            "100.64.0.1",
            "0.0.0.0",
            "0.1.2.3",
            "198.18.0.1",
            "198.19.255.255",
            "240.0.0.1",
            "255.255.255.255",
            "192.0.0.8",
            "::",
            "::1",
            "fe80::1",
            "fec0::1",
            "fd00::1",
            "ff02::1",
            "::ffff:127.0.0.1",
            "::ffff:0:10.0.0.1",
            "::10.0.0.1",
            "64:ff9b::169.254.169.254",
            "64:ff9b:1::1",
            "2002:7f00:1::1",
            "2002:a00:1::",
            "2001:0:4136:e378::1",
        ] {
            assert!(is_inner(inner.parse().unwrap()), "{inner}");
        }
        for outer in
            ["192.0.2.1", "8.8.8.8", "198.20.0.1", "2001:db8::1", "64:ff9b::808:808", "2002:808:808::1", "2a00::1"]
        {
            assert!(!is_inner(outer.parse().unwrap()), "{outer}");
        }
    }

    #[tokio::test]
    async fn a_host_is_looked_up_unless_it_is_allowed() {
        assert_eq!(look_up("127.0.0.1", 80, &[]).await.unwrap(), Leads::Inside);
        assert_eq!(look_up("[::1]", 80, &[]).await.unwrap(), Leads::Inside);
        assert_eq!(look_up("LOCALHOST", 80, &["localhost".into()]).await.unwrap(), Leads::Allowed);
        let there = "192.0.2.7".parse().unwrap();
        assert_eq!(look_up("192.0.2.7", 80, &[]).await.unwrap(), Leads::Outside(vec![there]));
    }

    #[test]
    fn host_and_port_are_read_or_refused() {
        for (address, host, port) in [
            ("https://example.org/m.git", "example.org", 443),
            ("https://example.org:8443", "example.org", 8443),
            ("http://[::1]:99/x", "[::1]", 99),
            ("http://[::1]/x", "[::1]", 443),
            ("https://example.org?x=@127.0.0.1", "example.org", 443),
        ] {
            assert_eq!(host_and_port(address, 443).unwrap(), (host, port), "{address}");
        }
        for address in [
            "example.org",
            "https://",
            "https://a@b/",
            "https://a\\b/",
            "https://a:99999/",
            "https://a:b/",
            "https://a:b:1/",
        ] {
            assert!(host_and_port(address, 443).is_err(), "{address}");
        }
    }
}
