//! What one may do: rights, the roles that stand for some of them, and how far they reach.
//!
//! This is the only place that says what a role may do. The service asks it, the console and the guide show it.

use std::fmt;
use std::str::FromStr;

use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::{self, Problem};

/// One thing that one may do in an estate.
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
    /// Register, change and remove gateways, and what they get in with.
    Gateways,
    /// See root keys, and session keys that were given.
    Keys,
    /// Invite people, give roles, share, and end what others hold.
    People,
    /// Read the audit log.
    Audit,
}

impl Right {
    /// All of them, the most harmless first.
    pub const ALL: [Self; 8] =
        [Self::View, Self::Send, Self::Devices, Self::Decoders, Self::Gateways, Self::Keys, Self::People, Self::Audit];

    /// Those that a token can carry: who else comes in is decided by people who have signed in.
    pub fn for_tokens() -> impl Iterator<Item = Self> {
        Self::ALL.into_iter().filter(|right| *right != Self::People)
    }

    /// As written everywhere.
    pub const fn name(self) -> &'static str {
        match self {
            Self::View => "view",
            Self::Send => "send",
            Self::Devices => "devices",
            Self::Decoders => "decoders",
            Self::Gateways => "gateways",
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
            Self::Decoders => "change models and decoders, import catalogues, decode history anew",
            Self::Gateways => "register, change and remove gateways, their credentials, kits and firmware",
            Self::Keys => "see and export keys; each look is in the audit log",
            Self::People => "invite people, give roles, share, end what others hold",
            Self::Audit => "read and export the audit log",
        }
    }

    const fn bit(self) -> u16 {
        1 << self as u16
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

/// Some rights.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Rights(u16);

impl Rights {
    /// None at all.
    pub const NONE: Self = Self(0);

    /// Those of both.
    #[must_use]
    pub const fn both(self, other: Self) -> Self {
        Self(self.0 & other.0)
    }

    /// Those of either.
    #[must_use]
    pub const fn either(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    /// Whether one is among them.
    pub const fn has(self, right: Right) -> bool {
        self.0 & right.bit() != 0
    }

    /// Whether there are none.
    pub const fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// One by one, the most harmless first.
    pub fn iter(self) -> impl Iterator<Item = Right> {
        Right::ALL.into_iter().filter(move |right| self.has(*right))
    }

    /// As they are stored: names with commas between.
    pub fn names(self) -> String {
        self.iter().map(Right::name).collect::<Vec<_>>().join(",")
    }

    /// From stored names; what is not known any more allows nothing.
    pub fn of_names(names: &str) -> Self {
        names.split(',').filter_map(|name| name.parse().ok()).collect()
    }
}

impl FromIterator<Right> for Rights {
    fn from_iter<T: IntoIterator<Item = Right>>(rights: T) -> Self {
        Self(rights.into_iter().fold(0, |all, right| all | right.bit()))
    }
}

/// What a member of an estate is there.
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

    /// What it may do.
    pub fn rights(self) -> Rights {
        use Right::{Decoders, Devices, Gateways, Keys, Send, View};
        match self {
            Self::Viewer => [View].into_iter().collect(),
            Self::Operator => [View, Send].into_iter().collect(),
            Self::Engineer => [View, Send, Devices, Decoders, Gateways, Keys].into_iter().collect(),
            Self::Owner => Right::ALL.into_iter().collect(),
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

/// What somebody from outside may do with what is shared.
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

    /// As a member's role would.
    pub fn rights(self) -> Rights {
        match self {
            Self::Read => Role::Viewer.rights(),
            Self::Operate => Role::Operator.rights(),
        }
    }

    /// From what is stored; the lesser one if that cannot be read.
    pub fn of_name(name: &str) -> Self {
        if name == Self::Operate.name() { Self::Operate } else { Self::Read }
    }
}

/// How far rights reach in an estate.
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

impl Scope {
    /// Whether a device in a fleet is within it.
    pub fn covers(&self, dev_eui: Eui64, fleet: &str) -> bool {
        match self {
            Self::Estate => true,
            Self::Fleet(slug) => slug == fleet,
            Self::Device(eui) => *eui == dev_eui,
        }
    }
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

/// The table of rights and roles.
pub fn table() -> Vec<RightAbout> {
    Right::ALL
        .into_iter()
        .map(|right| RightAbout {
            right,
            about: right.about().into(),
            roles: Role::ALL.into_iter().filter(|role| role.rights().has(right)).collect(),
            for_tokens: Right::for_tokens().any(|other| other == right),
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_role_may_do_what_the_lesser_one_may_and_more() {
        for pair in Role::ALL.windows(2) {
            let (less, more) = (pair[0].rights(), pair[1].rights());
            assert_eq!(less.both(more), less, "{} and {}", pair[0], pair[1]);
            assert_ne!(less, more);
        }
        assert!(!Role::Viewer.rights().has(Right::Keys) && !Role::Operator.rights().has(Right::Keys));
        assert!(!Role::Engineer.rights().has(Right::People) && Role::Owner.rights().has(Right::People));
    }

    #[test]
    fn rights_are_stored_by_name_and_what_is_not_known_allows_nothing() {
        for role in Role::ALL {
            assert_eq!(Rights::of_names(&role.rights().names()), role.rights());
        }
        assert_eq!(Rights::of_names("view,fly,send").names(), "view,send");
        assert!(Rights::of_names("").is_empty() && Rights::of_names("everything").is_empty());
        let problem = "fly".parse::<Right>().unwrap_err();
        assert!(problem.to_string().contains("view, send"), "{problem}");
        assert!("king".parse::<Role>().unwrap_err().to_string().contains("viewer, operator"));
    }

    #[test]
    fn no_token_lets_others_in() {
        assert!(Right::for_tokens().all(|right| right != Right::People));
        assert_eq!(Right::for_tokens().count(), Right::ALL.len() - 1);
    }

    #[test]
    fn a_scope_covers_what_is_in_it() {
        let eui = Eui64(7);
        assert!(Scope::Estate.covers(eui, "tide"));
        assert!(Scope::Fleet("tide".into()).covers(eui, "tide") && !Scope::Fleet("tide".into()).covers(eui, "nest"));
        assert!(Scope::Device(eui).covers(eui, "tide") && !Scope::Device(Eui64(8)).covers(eui, "tide"));
    }

    /// The guide's table is this one.
    #[test]
    fn the_guide_shows_the_table() {
        let guide = include_str!("../../../docs/people.md");
        for row in table() {
            let roles = Role::ALL.map(|role| if row.roles.contains(&role) { "yes" } else { "–" });
            let line = format!("| `{}` | {} | {} |", row.right, row.about, roles.join(" | "));
            assert!(guide.contains(&line), "docs/people.md wants: {line}");
        }
    }
}
