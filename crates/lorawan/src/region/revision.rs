//! Revisions of the regional parameters: which versions of the link layer each goes with, and what came with it.
//!
//! From the revision histories at the end of RP001 and RP002. A device keeps to the revision its firmware was written for; it
//! refuses what came later.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::Region;
use crate::MacVersion;

/// A published revision. The first is a chapter of the 1.0 and 1.0.1 specification.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum RegionalRevision {
    /// Chapter 7 of LoRaWAN 1.0 and 1.0.1.
    #[serde(rename = "TS001-1.0.1")]
    Ts001_1_0_1,
    /// For 1.0.2, revision B (February 2017).
    #[serde(rename = "RP001-1.0.2-B")]
    Rp001_1_0_2B,
    /// For 1.0.3, revision A (July 2018).
    #[serde(rename = "RP001-1.0.3-A")]
    Rp001_1_0_3A,
    /// For 1.1, revision A (October 2017).
    #[serde(rename = "RP001-1.1-A")]
    Rp001_1_1A,
    /// For 1.1, revision B (January 2018).
    #[serde(rename = "RP001-1.1-B")]
    Rp001_1_1B,
    /// For all versions, from here on (November 2019).
    #[serde(rename = "RP002-1.0.0")]
    Rp002_1_0_0,
    /// February 2020.
    #[serde(rename = "RP002-1.0.1")]
    Rp002_1_0_1,
    /// October 2020.
    #[serde(rename = "RP002-1.0.2")]
    Rp002_1_0_2,
    /// May 2021.
    #[serde(rename = "RP002-1.0.3")]
    Rp002_1_0_3,
    /// September 2022.
    #[serde(rename = "RP002-1.0.4")]
    Rp002_1_0_4,
}

use RegionalRevision as R;

impl RegionalRevision {
    /// Every revision.
    pub const ALL: [Self; 10] = [
        R::Ts001_1_0_1,
        R::Rp001_1_0_2B,
        R::Rp001_1_0_3A,
        R::Rp001_1_1A,
        R::Rp001_1_1B,
        R::Rp002_1_0_0,
        R::Rp002_1_0_1,
        R::Rp002_1_0_2,
        R::Rp002_1_0_3,
        R::Rp002_1_0_4,
    ];

    /// With which LR-FHSS came.
    pub const LR_FHSS: Self = R::Rp002_1_0_2;

    /// As written everywhere.
    pub const fn name(self) -> &'static str {
        match self {
            R::Ts001_1_0_1 => "TS001-1.0.1",
            R::Rp001_1_0_2B => "RP001-1.0.2-B",
            R::Rp001_1_0_3A => "RP001-1.0.3-A",
            R::Rp001_1_1A => "RP001-1.1-A",
            R::Rp001_1_1B => "RP001-1.1-B",
            R::Rp002_1_0_0 => "RP002-1.0.0",
            R::Rp002_1_0_1 => "RP002-1.0.1",
            R::Rp002_1_0_2 => "RP002-1.0.2",
            R::Rp002_1_0_3 => "RP002-1.0.3",
            R::Rp002_1_0_4 => "RP002-1.0.4",
        }
    }

    /// Whether devices with this version of the link layer can keep to it. RP002 is for all of them; 1.0.4 knows nothing else.
    pub fn goes_with(self, version: MacVersion) -> bool {
        match self {
            R::Ts001_1_0_1 => version <= MacVersion::V1_0_1,
            R::Rp001_1_0_2B => version <= MacVersion::V1_0_2,
            R::Rp001_1_0_3A => version == MacVersion::V1_0_3,
            R::Rp001_1_1A | R::Rp001_1_1B => version == MacVersion::V1_1,
            _ => true,
        }
    }

    /// Its place in time, by what it contains: revisions for 1.0.3 and for 1.1 B have the same regions.
    const fn place(self) -> u8 {
        match self {
            R::Ts001_1_0_1 => 0,
            R::Rp001_1_0_2B | R::Rp001_1_1A => 1,
            R::Rp001_1_0_3A | R::Rp001_1_1B => 2,
            R::Rp002_1_0_0 => 3,
            R::Rp002_1_0_1 => 4,
            R::Rp002_1_0_2 => 5,
            R::Rp002_1_0_3 => 6,
            R::Rp002_1_0_4 => 7,
        }
    }

    /// Whether it contains less than another.
    pub const fn before(self, other: Self) -> bool {
        self.place() < other.place()
    }

    /// The first that has a region.
    pub const fn first_with(region: Region) -> Self {
        match region {
            Region::Eu868 | Region::Us915 | Region::Cn779 | Region::Eu433 => R::Ts001_1_0_1,
            Region::Au915 | Region::As923_1 | Region::Kr920 | Region::In865 => R::Rp001_1_0_2B,
            Region::Ru864 => R::Rp001_1_0_3A,
            Region::As923_2 | Region::As923_3 => R::Rp002_1_0_1,
            // Before it CN470 was one plan with 96 channels.
            Region::Cn470A20 | Region::Cn470B20 | Region::Cn470A26 | Region::Cn470B26 => R::Rp002_1_0_1,
            Region::As923_4 => R::Rp002_1_0_3,
        }
    }
}

impl fmt::Display for RegionalRevision {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

/// A text that is not a revision.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{0:?} is not a revision of the regional parameters: {names}", names = RegionalRevision::ALL.map(RegionalRevision::name).join(", "))]
pub struct UnknownRevision(String);

impl FromStr for RegionalRevision {
    type Err = UnknownRevision;

    fn from_str(s: &str) -> Result<Self, UnknownRevision> {
        let found = Self::ALL.into_iter().find(|revision| revision.name().eq_ignore_ascii_case(s.trim()));
        found.ok_or_else(|| UnknownRevision(s.to_owned()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_version_has_revisions_and_every_region_came_with_one() {
        for version in MacVersion::ALL {
            assert!(R::ALL.into_iter().any(|revision| revision.goes_with(version)), "{version}");
        }
        for region in Region::ALL {
            assert!(!R::Rp002_1_0_4.before(R::first_with(region)), "{region}");
        }
        assert!(R::Rp001_1_0_3A.before(R::first_with(Region::As923_2)));
        assert!(!R::Rp001_1_1B.before(R::first_with(Region::Ru864)));
    }

    #[test]
    fn names_are_read_as_written() {
        for revision in R::ALL {
            assert_eq!(revision.name().to_lowercase().parse(), Ok(revision));
            assert_eq!(serde_json::to_value(revision).unwrap(), revision.name());
        }
        assert!("RP002".parse::<R>().unwrap_err().to_string().contains("RP002-1.0.4"));
    }
}
