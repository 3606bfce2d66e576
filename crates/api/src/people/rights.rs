//! Rights, roles, and the scope of rights.
//!
//! This is the only place that says what a role may do. The service asks it, the console and the guide show it.

use std::fmt;
use std::str::FromStr;

use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem;
use crate::problem::Problem;

/// A right in an estate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Right {
    /// See everything but secrets.
    View,
    /// Send downlinks and rehearse.
    Send,
    /// Register, change and remove devices, fleets, groups and profiles.
    Devices,
    /// Change models and their decoders.
    Decoders,
    /// Register, change and remove gateways and their credentials.
    Gateways,
    /// Set up outlets: where messages are delivered.
    Outlets,
    /// See root keys, and session keys that were given.
    Keys,
    /// Invite people, give roles, share, and end what others hold.
    People,
    /// Read the audit log.
    Audit,
}

impl Right {
    /// All of them, the most harmless first.
    pub const ALL: [Self; 9] = [
        Self::View,
        Self::Send,
        Self::Devices,
        Self::Decoders,
        Self::Gateways,
        Self::Outlets,
        Self::Keys,
        Self::People,
        Self::Audit,
    ];

    /// As written everywhere.
    pub const fn name(self) -> &'static str {
        match self {
            Self::View => "view",
            Self::Send => "send",
            Self::Devices => "devices",
            Self::Decoders => "decoders",
            Self::Gateways => "gateways",
            Self::Outlets => "outlets",
            Self::Keys => "keys",
            Self::People => "people",
            Self::Audit => "audit",
        }
    }

    /// What it allows, in a few words.
    pub const fn about(self) -> &'static str {
        match self {
            Self::View => "see devices, gateways, traffic, readings and models; no secrets",
            Self::Send => "send downlinks, rehearse",
            Self::Devices => "register, change and remove devices, fleets, groups and radio profiles",
            Self::Decoders => "change models and decoders, import catalogues, decode history again",
            Self::Gateways => "register, change and remove gateways, their credentials, kits and firmware",
            Self::Outlets => "set up outlets, see what they delivered, have it delivered again",
            Self::Keys => "see and export keys; each view is in the audit log",
            Self::People => "invite people, give roles, share, end what others hold",
            Self::Audit => "read and export the audit log",
        }
    }
}

impl fmt::Display for Right {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

impl FromStr for Right {
    type Err = Problem;

    fn from_str(text: &str) -> Result<Self, Problem> {
        let text = text.trim();
        let found = Self::ALL.into_iter().find(|right| right.name() == text);
        found.ok_or_else(|| {
            let names: Vec<_> = Self::ALL.iter().map(|right| right.name()).collect();
            problem::bad_field("rights", text, format!("{} are allowed", names.join(", ")))
        })
    }
}

/// A member's role in an estate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// Sees.
    Viewer,
    /// Sees and sends.
    Operator,
    /// Does everything that devices and gateways need.
    Engineer,
    /// Everything, people included.
    Owner,
}

impl Role {
    /// All of them, the least able first.
    pub const ALL: [Self; 4] = [Self::Viewer, Self::Operator, Self::Engineer, Self::Owner];

    /// As written everywhere.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Viewer => "viewer",
            Self::Operator => "operator",
            Self::Engineer => "engineer",
            Self::Owner => "owner",
        }
    }
}

impl fmt::Display for Role {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

impl FromStr for Role {
    type Err = Problem;

    fn from_str(text: &str) -> Result<Self, Problem> {
        let found = Self::ALL.into_iter().find(|role| role.name() == text.trim());
        found.ok_or_else(|| {
            let names: Vec<_> = Self::ALL.iter().map(|role| role.name()).collect();
            problem::bad_field("role", text, format!("{} are allowed", names.join(", ")))
        })
    }
}

/// What a person may do with what is shared with them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum ShareLevel {
    /// See it.
    Read,
    /// See it, and send to it.
    Operate,
}

impl ShareLevel {
    /// As written everywhere.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Read => "read",
            Self::Operate => "operate",
        }
    }

    /// From what is stored; the lesser one if that cannot be read.
    pub fn of_name(name: &str) -> Self {
        if name == Self::Operate.name() { Self::Operate } else { Self::Read }
    }
}

/// The scope of rights in an estate.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum Scope {
    /// All of it.
    Estate,
    /// One fleet, by its short name, with the devices in it.
    Fleet(String),
    /// One device.
    #[schema(value_type = String)]
    Device(Eui64),
}

impl fmt::Display for Scope {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Estate => f.write_str("the whole estate"),
            Self::Fleet(slug) => write!(f, "fleet {slug}"),
            Self::Device(eui) => write!(f, "device {eui}"),
        }
    }
}

/// What a role may do, for people.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RightAbout {
    /// Its name.
    pub right: Right,
    /// What it allows.
    pub about: String,
    /// The roles that have it.
    pub roles: Vec<Role>,
    /// Whether an access token can carry it.
    pub for_tokens: bool,
}
