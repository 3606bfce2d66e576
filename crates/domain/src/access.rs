//! Rights: which role has which, and which devices a share covers. This is the only place that defines them.

use api::people::rights::{Right, RightAbout, Role, Scope, ShareLevel};
use lorawan::Eui64;

/// Rights that a token can carry: not `people`, which needs a sign-in.
pub fn for_tokens() -> impl Iterator<Item = Right> {
    Right::ALL.into_iter().filter(|right| *right != Right::People)
}

const fn bit(right: Right) -> u16 {
    1 << right as u16
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
        self.0 & bit(right) != 0
    }

    /// Whether there are none.
    pub const fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// One by one, the most harmless first.
    pub fn iter(self) -> impl Iterator<Item = Right> {
        Right::ALL.into_iter().filter(move |right| self.has(*right))
    }

    /// As they are stored: names separated by commas.
    pub fn names(self) -> String {
        self.iter().map(Right::name).collect::<Vec<_>>().join(",")
    }

    /// From stored names; unknown ones allow nothing.
    pub fn of_names(names: &str) -> Self {
        names.split(',').filter_map(|name| name.parse().ok()).collect()
    }
}

impl FromIterator<Right> for Rights {
    fn from_iter<T: IntoIterator<Item = Right>>(rights: T) -> Self {
        Self(rights.into_iter().fold(0, |all, right| all | bit(right)))
    }
}

/// What it may do.
pub fn role_rights(role: Role) -> Rights {
    use Right::{Decoders, Devices, Gateways, Keys, Outlets, Send, View};
    match role {
        Role::Viewer => [View].into_iter().collect(),
        Role::Operator => [View, Send].into_iter().collect(),
        Role::Engineer => [View, Send, Devices, Decoders, Gateways, Outlets, Keys].into_iter().collect(),
        Role::Owner => Right::ALL.into_iter().collect(),
    }
}

/// As a member's role would.
pub fn share_rights(level: ShareLevel) -> Rights {
    match level {
        ShareLevel::Read => role_rights(Role::Viewer),
        ShareLevel::Operate => role_rights(Role::Operator),
    }
}

/// Whether a device in a fleet is within it.
pub fn covers(scope: &Scope, dev_eui: Eui64, fleet: &str) -> bool {
    match scope {
        Scope::Estate => true,
        Scope::Fleet(slug) => slug == fleet,
        Scope::Device(eui) => *eui == dev_eui,
    }
}

/// The table of rights and roles.
pub fn table() -> Vec<RightAbout> {
    Right::ALL
        .into_iter()
        .map(|right| RightAbout {
            right,
            about: right.about().into(),
            roles: Role::ALL.into_iter().filter(|role| role_rights(*role).has(right)).collect(),
            for_tokens: for_tokens().any(|other| other == right),
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_role_may_do_what_the_lesser_one_may_and_more() {
        for pair in Role::ALL.windows(2) {
            let (less, more) = (role_rights(pair[0]), role_rights(pair[1]));
            assert_eq!(less.both(more), less, "{} and {}", pair[0], pair[1]);
            assert_ne!(less, more);
        }
        assert!(!role_rights(Role::Viewer).has(Right::Keys) && !role_rights(Role::Operator).has(Right::Keys));
        assert!(!role_rights(Role::Engineer).has(Right::People) && role_rights(Role::Owner).has(Right::People));
    }

    #[test]
    fn rights_are_stored_by_name_and_what_is_not_known_allows_nothing() {
        for role in Role::ALL {
            assert_eq!(Rights::of_names(&role_rights(role).names()), role_rights(role));
        }
        assert_eq!(Rights::of_names("view,fly,send").names(), "view,send");
        assert!(Rights::of_names("").is_empty() && Rights::of_names("everything").is_empty());
        let problem = "fly".parse::<Right>().unwrap_err();
        assert!(problem.to_string().contains("view, send"), "{problem}");
        assert!("king".parse::<Role>().unwrap_err().to_string().contains("viewer, operator"));
    }

    #[test]
    fn no_token_lets_others_in() {
        assert!(for_tokens().all(|right| right != Right::People));
        assert_eq!(for_tokens().count(), Right::ALL.len() - 1);
    }

    #[test]
    fn a_scope_covers_what_is_in_it() {
        let eui = Eui64(7);
        assert!(covers(&Scope::Estate, eui, "tide"));
        assert!(
            covers(&Scope::Fleet("tide".into()), eui, "tide") && !covers(&Scope::Fleet("tide".into()), eui, "nest")
        );
        assert!(covers(&Scope::Device(eui), eui, "tide") && !covers(&Scope::Device(Eui64(8)), eui, "tide"));
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
