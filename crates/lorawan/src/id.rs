//! Identities and keys, each with one canonical written form.
//!
//! On air LoRaWAN sends every multi-byte field least significant byte first (TS001 §3.1); people
//! write identities most significant first. The types here hold the *written* order, and only
//! `wire` turns it round.

use std::fmt;
use std::str::FromStr;

use crate::text::{self, TextError};

/// A 64-bit extended unique identifier: a DevEUI, a JoinEUI or a gateway's EUI.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Eui64(pub u64);

impl Eui64 {
    /// From the eight bytes in the order they are sent over the air.
    pub fn from_wire(bytes: [u8; 8]) -> Self {
        Self(u64::from_le_bytes(bytes))
    }

    /// The eight bytes in the order they are sent over the air.
    pub fn to_wire(self) -> [u8; 8] {
        self.0.to_le_bytes()
    }

    /// The eight bytes in the order they are written.
    pub fn to_bytes(self) -> [u8; 8] {
        self.0.to_be_bytes()
    }

    /// The same bytes back to front: what one gets when a label's order is mistaken.
    pub fn reversed(self) -> Self {
        Self(self.0.swap_bytes())
    }

    /// The two EUIs that are made of a 48-bit address, such as that of a network port: with `fffe` in the midst
    /// as of an EUI-48, and with `ffff` as of a MAC-48 (IEEE, *Guidelines for Use of Extended Unique
    /// Identifier*, "Mapping an EUI-48 to an EUI-64").
    pub fn from_mac(mac: [u8; 6]) -> [Self; 2] {
        let [a, b, c, d, e, f] = mac;
        [0xfe, 0xff].map(|fill| Self(u64::from_be_bytes([a, b, c, 0xff, fill, d, e, f])))
    }
}

/// A device's short address within its network (TS001 §6.1.1 of 1.0.4).
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct DevAddr(pub u32);

/// A network's identifier: 24 bits, the top three giving its type (TS002, "NetID").
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct NetId(u32);

impl NetId {
    /// A NetID from its 24 bits; higher bits are cut off.
    pub const fn new(value: u32) -> Self {
        Self(value & 0x00ff_ffff)
    }

    /// The 24 bits.
    pub const fn value(self) -> u32 {
        self.0
    }

    /// The NetID's type, 0 to 7: how many addresses its owner has.
    pub const fn kind(self) -> u8 {
        (self.0 >> 21) as u8
    }

    /// The part of the NetID that its devices' addresses carry.
    pub const fn nwk_id(self) -> u32 {
        self.0 & ((1 << ADDRESS_KINDS[self.kind() as usize].nwk_id_bits) - 1)
    }

    /// The address with this network's prefix and as many low bits of `nwk_addr` as its type has.
    pub const fn dev_addr(self, nwk_addr: u32) -> DevAddr {
        let kind = self.kind() as u32;
        let bits = ADDRESS_KINDS[self.kind() as usize];
        // `kind` ones and a zero, from the top: 0, 10, 110, …
        let prefix = !(u32::MAX >> kind);
        DevAddr(prefix | (self.nwk_id() << bits.nwk_addr_bits) | (nwk_addr & ((1 << bits.nwk_addr_bits) - 1)))
    }
}

/// How the 32 bits of an address are shared for one type of NetID.
#[derive(Clone, Copy)]
struct AddressKind {
    nwk_id_bits: u32,
    nwk_addr_bits: u32,
}

/// TS002-1.1.0, "DevAddr Assignment", by type of NetID; the type's prefix takes the rest.
const ADDRESS_KINDS: [AddressKind; 8] = {
    const fn of(nwk_id_bits: u32, nwk_addr_bits: u32) -> AddressKind {
        AddressKind { nwk_id_bits, nwk_addr_bits }
    }
    [of(6, 25), of(6, 24), of(9, 20), of(11, 17), of(12, 15), of(13, 13), of(15, 10), of(17, 7)]
};

impl DevAddr {
    /// Type of the NetID that the address was given under, and the NwkID in it. `None` if it begins
    /// with eight ones, which no type does.
    pub const fn network(self) -> Option<(u8, u32)> {
        let kind = self.0.leading_ones();
        if kind > 7 {
            return None;
        }
        let bits = ADDRESS_KINDS[kind as usize];
        Some((kind as u8, (self.0 >> bits.nwk_addr_bits) & ((1 << bits.nwk_id_bits) - 1)))
    }
}

/// An AES-128 key. It never shows itself in `Debug` output.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct AesKey(pub [u8; 16]);

impl AesKey {
    /// The same bytes back to front: what one gets when a key's order is mistaken.
    pub fn reversed(mut self) -> Self {
        self.0.reverse();
        self
    }

    /// The 32 hex digits, for the few places that may show a key.
    pub fn to_hex(&self) -> String {
        hex::encode(self.0)
    }
}

impl fmt::Debug for AesKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("AesKey(hidden)")
    }
}

impl FromStr for AesKey {
    type Err = TextError;
    fn from_str(s: &str) -> Result<Self, TextError> {
        text::bytes_of::<16>(s).map(AesKey)
    }
}

/// Written form, `FromStr`, `Debug` and serde for an identity of N bytes kept in an integer.
macro_rules! written_as_hex {
    ($name:ident, $bytes:literal, $int:ty, $make:expr, $value:expr) => {
        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                write!(f, "{:0width$x}", $value(self), width = $bytes * 2)
            }
        }
        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                write!(f, concat!(stringify!($name), "({})"), self)
            }
        }
        impl FromStr for $name {
            type Err = TextError;
            fn from_str(s: &str) -> Result<Self, TextError> {
                let bytes = text::bytes_of::<$bytes>(s)?;
                Ok($make(bytes.iter().fold(0, |n: $int, b| (n << 8) | <$int>::from(*b))))
            }
        }
        impl serde::Serialize for $name {
            fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
                s.collect_str(self)
            }
        }
        impl<'de> serde::Deserialize<'de> for $name {
            fn deserialize<D: serde::Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
                let written = std::borrow::Cow::<'de, str>::deserialize(d)?;
                written.parse().map_err(serde::de::Error::custom)
            }
        }
    };
}

written_as_hex!(Eui64, 8, u64, Eui64, |e: &Eui64| e.0);
written_as_hex!(DevAddr, 4, u32, DevAddr, |a: &DevAddr| a.0);
written_as_hex!(NetId, 3, u32, NetId::new, |n: &NetId| n.0);

#[cfg(test)]
mod tests {
    use super::*;

    /// The example of the IEEE's guidelines.
    #[test]
    fn two_euis_are_made_of_a_mac_address() {
        let made = Eui64::from_mac([0xac, 0xde, 0x48, 0x23, 0x45, 0x67]).map(|eui| eui.to_string());
        assert_eq!(made, ["acde48fffe234567", "acde48ffff234567"]);
    }

    #[test]
    fn an_eui_is_read_as_written_and_sent_reversed() {
        let eui: Eui64 = "02-1A-2B-3C-4D-5E-6F-70".parse().unwrap();
        assert_eq!(eui.to_string(), "021a2b3c4d5e6f70");
        assert_eq!(eui.to_wire(), [0x70, 0x6f, 0x5e, 0x4d, 0x3c, 0x2b, 0x1a, 0x02]);
        assert_eq!(Eui64::from_wire(eui.to_wire()), eui);
        assert_eq!(eui.reversed().to_string(), "706f5e4d3c2b1a02");
    }

    #[test]
    fn a_type_0_address_carries_the_network_prefix() {
        assert_eq!(NetId::new(1).dev_addr(0x0123_4567).to_string(), "03234567");
        assert_eq!(NetId::new(0).dev_addr(u32::MAX).to_string(), "01ffffff");
    }

    #[test]
    fn an_address_tells_its_network() {
        for kind in 0..8u32 {
            let net_id = NetId::new((kind << 21) | 0x2b);
            let addr = net_id.dev_addr(0x55);
            assert_eq!(addr.network(), Some((kind as u8, 0x2b)), "{addr}");
            assert_eq!(net_id.dev_addr(u32::MAX).network(), addr.network(), "the address cannot reach the prefix");
        }
        assert_eq!(NetId::new(0xe0_0001).dev_addr(1).to_string(), "fe000081", "type 7: 11111110, 17 bits, 7 bits");
        assert_eq!(DevAddr(u32::MAX).network(), None);
    }

    #[test]
    fn a_key_does_not_show_itself() {
        let key: AesKey = "000102030405060708090a0b0c0d0e0f".parse().unwrap();
        assert!(!format!("{key:?}").contains("0102"));
    }

    #[test]
    fn identities_travel_as_text_in_json() {
        let json = serde_json::to_string(&Eui64(0x2a)).unwrap();
        assert_eq!(json, "\"000000000000002a\"");
        assert_eq!(serde_json::from_str::<Eui64>(&json).unwrap(), Eui64(0x2a));
        assert!(serde_json::from_str::<Eui64>("\"2a\"").unwrap_err().to_string().contains("16"));
    }
}
