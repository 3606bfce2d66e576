//! Sets of uplink channels.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use thiserror::Error;

/// A set of channels by index, 0 to 127: more than any plan has.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(into = "String", try_from = "String")]
pub struct ChannelSet(u128);

impl ChannelSet {
    /// No channel.
    pub const EMPTY: Self = Self(0);

    /// `count` channels from `first` on; those above 127 do not exist and are left out.
    pub const fn run(first: u8, count: u8) -> Self {
        let ones = if count < 128 { (1 << count) - 1 } else { u128::MAX };
        Self(if first < 128 { ones << first } else { 0 })
    }

    /// Whether a channel is in it.
    pub const fn contains(self, index: u8) -> bool {
        index < 128 && self.0 & (1 << index) != 0
    }

    /// Puts a channel in; indices above 127 do not exist and are left out.
    pub fn insert(&mut self, index: u8) {
        if index < 128 {
            self.0 |= 1 << index;
        }
    }

    /// Takes a channel out.
    pub fn remove(&mut self, index: u8) {
        if index < 128 {
            self.0 &= !(1 << index);
        }
    }

    /// How many.
    pub const fn len(self) -> u32 {
        self.0.count_ones()
    }

    /// Whether there is none.
    pub const fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// The indices, lowest first.
    pub fn iter(self) -> impl Iterator<Item = u8> {
        (0..128).filter(move |index| self.contains(*index))
    }

    /// The channels that are also in `other`.
    #[must_use]
    pub const fn intersection(self, other: Self) -> Self {
        Self(self.0 & other.0)
    }

    /// The channels of either.
    #[must_use]
    pub const fn union(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    /// The channels that are not in `other`.
    #[must_use]
    pub const fn difference(self, other: Self) -> Self {
        Self(self.0 & !other.0)
    }

    /// Sixteen channels as a mask, lowest bit first.
    pub const fn sixteen(self, first: u8) -> u16 {
        (self.0 >> first) as u16
    }

    /// The same set with sixteen channels replaced.
    #[must_use]
    pub const fn with_sixteen(self, first: u8, mask: u16) -> Self {
        Self((self.0 & !(0xffff << first)) | ((mask as u128) << first))
    }
}

impl FromIterator<u8> for ChannelSet {
    fn from_iter<I: IntoIterator<Item = u8>>(indices: I) -> Self {
        let mut set = Self::EMPTY;
        indices.into_iter().for_each(|index| set.insert(index));
        set
    }
}

/// Runs as people write them: `0-2, 8-15, 65`.
impl fmt::Display for ChannelSet {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.is_empty() {
            return f.write_str("none");
        }
        let mut separator = "";
        let mut index = 0;
        while index < 128 {
            if self.contains(index) {
                let first = index;
                while self.contains(index + 1) {
                    index += 1;
                }
                match index - first {
                    0 => write!(f, "{separator}{first}")?,
                    _ => write!(f, "{separator}{first}-{index}")?,
                }
                separator = ", ";
            }
            index += 1;
        }
        Ok(())
    }
}

/// A text that is not a set of channels.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{0:?} is not a set of channels: runs of numbers from 0 to 127 such as 0-2, 8-15, 65, or none")]
pub struct BadChannels(String);

impl FromStr for ChannelSet {
    type Err = BadChannels;

    /// The runs that [`Display`](fmt::Display) writes.
    fn from_str(s: &str) -> Result<Self, BadChannels> {
        let bad = || BadChannels(s.to_owned());
        let index = |text: &str| text.trim().parse::<u8>().ok().filter(|i| *i < 128).ok_or_else(bad);
        if s.trim() == "none" {
            return Ok(Self::EMPTY);
        }
        s.split(',').try_fold(Self::EMPTY, |set, part| {
            let (first, last) = part.split_once('-').unwrap_or((part, part));
            let (first, last) = (index(first)?, index(last)?);
            if first > last { Err(bad()) } else { Ok(set.union(Self::run(first, last - first + 1))) }
        })
    }
}

impl From<ChannelSet> for String {
    fn from(set: ChannelSet) -> Self {
        set.to_string()
    }
}

impl TryFrom<String> for ChannelSet {
    type Error = BadChannels;

    fn try_from(text: String) -> Result<Self, BadChannels> {
        text.parse()
    }
}

impl fmt::Debug for ChannelSet {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "ChannelSet({self})")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sets_are_written_as_runs() {
        let set: ChannelSet = (0..3).chain(8..16).chain([65, 127]).collect();
        assert_eq!(set.to_string(), "0-2, 8-15, 65, 127");
        assert_eq!(ChannelSet::EMPTY.to_string(), "none");
        assert_eq!((set.len(), set.sixteen(0), set.sixteen(64)), (13, 0xff07, 0x0002));
        assert_eq!(set.with_sixteen(0, 0).to_string(), "65, 127");
    }

    #[test]
    fn and_read_as_written() {
        for text in ["none", "0-2, 8-15, 65, 127", "0-127"] {
            assert_eq!(text.parse::<ChannelSet>().unwrap().to_string(), text);
        }
        assert_eq!(" 1,3 - 4 ".parse::<ChannelSet>().unwrap().to_string(), "1, 3-4");
        for text in ["", "128", "4-1", "a", "1,,2", "-"] {
            assert!(text.parse::<ChannelSet>().is_err(), "{text:?}");
        }
    }
}
