//! The link-layer versions, and the rules for nonces that differ between them.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use thiserror::Error;

/// A version of the LoRaWAN link layer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub enum MacVersion {
    /// 1.0 (January 2015).
    #[serde(rename = "1.0.0")]
    V1_0_0,
    /// 1.0.1 (February 2016).
    #[serde(rename = "1.0.1")]
    V1_0_1,
    /// 1.0.2 (July 2016).
    #[serde(rename = "1.0.2")]
    V1_0_2,
    /// 1.0.3 (July 2018).
    #[serde(rename = "1.0.3")]
    V1_0_3,
    /// 1.0.4 (October 2020, TS001-1.0.4).
    #[serde(rename = "1.0.4")]
    V1_0_4,
    /// 1.1 (October 2017), with its errata.
    #[serde(rename = "1.1")]
    V1_1,
}

impl MacVersion {
    /// Every version, oldest first; 1.1 stands last though 1.0.4 was published after it.
    pub const ALL: [Self; 6] = [Self::V1_0_0, Self::V1_0_1, Self::V1_0_2, Self::V1_0_3, Self::V1_0_4, Self::V1_1];

    /// As written everywhere.
    pub const fn name(self) -> &'static str {
        match self {
            MacVersion::V1_0_0 => "1.0.0",
            MacVersion::V1_0_1 => "1.0.1",
            MacVersion::V1_0_2 => "1.0.2",
            MacVersion::V1_0_3 => "1.0.3",
            MacVersion::V1_0_4 => "1.0.4",
            MacVersion::V1_1 => "1.1",
        }
    }

    /// What a join server asks of a DevNonce.
    ///
    /// Random up to 1.0.3 (TS001-1.0.3 §6.2.4); from 1.0.4 on (§6.2.4) and in 1.1 (§6.2.2) a counter
    /// that the device keeps through power cycles.
    pub const fn dev_nonce_rule(self) -> NonceRule {
        match self {
            MacVersion::V1_0_4 | MacVersion::V1_1 => NonceRule::Increasing,
            _ => NonceRule::NeverAgain,
        }
    }

    /// What a device asks of a JoinNonce (AppNonce before 1.0.4).
    ///
    /// Up to 1.0.3 it takes any; from 1.0.4 on (§6.2.5) and in 1.1 (§6.2.3) it must have increased.
    pub const fn join_nonce_rule(self) -> NonceRule {
        match self {
            MacVersion::V1_0_4 | MacVersion::V1_1 => NonceRule::Increasing,
            _ => NonceRule::Any,
        }
    }
}

impl fmt::Display for MacVersion {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

/// A text that is not a version.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{0:?} is not a LoRaWAN version: 1.0.0, 1.0.1, 1.0.2, 1.0.3, 1.0.4 or 1.1")]
pub struct UnknownVersion(String);

impl FromStr for MacVersion {
    type Err = UnknownVersion;
    fn from_str(s: &str) -> Result<Self, UnknownVersion> {
        Self::ALL.into_iter().find(|v| v.name() == s).ok_or_else(|| UnknownVersion(s.to_owned()))
    }
}

/// What makes a nonce acceptable.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum NonceRule {
    /// Any value.
    Any,
    /// Any value that was not used before with the same root key.
    NeverAgain,
    /// Above every value used before: the nonce is a counter.
    Increasing,
}

/// Why a nonce is not acceptable.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum NonceError {
    /// It was used before.
    #[error("nonce {nonce} was used before")]
    Used {
        /// The nonce.
        nonce: u32,
    },
    /// It is a counter and has not increased.
    #[error("nonce {nonce} has not increased: the last one was {last}")]
    NotIncreased {
        /// The nonce.
        nonce: u32,
        /// The highest one used.
        last: u32,
    },
}

impl NonceRule {
    /// Checks `nonce` against those `used` before, in any order.
    pub fn check(self, nonce: u32, used: impl IntoIterator<Item = u32>) -> Result<(), NonceError> {
        let mut used = used.into_iter();
        match self {
            NonceRule::Any => Ok(()),
            NonceRule::NeverAgain if used.any(|u| u == nonce) => Err(NonceError::Used { nonce }),
            NonceRule::NeverAgain => Ok(()),
            NonceRule::Increasing => match used.max() {
                Some(last) if last == nonce => Err(NonceError::Used { nonce }),
                Some(last) if last > nonce => Err(NonceError::NotIncreased { nonce, last }),
                _ => Ok(()),
            },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_random_nonce_may_fall_but_not_come_again() {
        let rule = MacVersion::V1_0_3.dev_nonce_rule();
        assert_eq!(rule.check(7, [900, 3]), Ok(()));
        assert_eq!(rule.check(3, [900, 3]), Err(NonceError::Used { nonce: 3 }));
    }

    #[test]
    fn a_counted_nonce_must_rise() {
        for version in [MacVersion::V1_0_4, MacVersion::V1_1] {
            let rule = version.dev_nonce_rule();
            assert_eq!(rule.check(0, []), Ok(()), "the first DevNonce is 0");
            assert_eq!(rule.check(901, [3, 900]), Ok(()));
            assert_eq!(rule.check(7, [3, 900]), Err(NonceError::NotIncreased { nonce: 7, last: 900 }));
            assert_eq!(rule.check(900, [900]), Err(NonceError::Used { nonce: 900 }));
        }
        assert_eq!(MacVersion::V1_0_2.join_nonce_rule().check(1, [5]), Ok(()), "old devices do not look");
    }

    #[test]
    fn versions_are_read_as_written() {
        for version in MacVersion::ALL {
            assert_eq!(version.to_string().parse(), Ok(version));
            assert_eq!(serde_json::to_value(version).unwrap(), version.name());
        }
        assert!("1.2".parse::<MacVersion>().unwrap_err().to_string().contains("1.0.4 or 1.1"));
    }
}
