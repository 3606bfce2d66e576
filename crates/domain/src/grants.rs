//! What a person may do in an estate, and in which part of it: a member's role, shares, an access token.

use api::people::rights::{Right, Scope};
use chrono::{DateTime, Utc};
use lorawan::Eui64;

use crate::access::Rights;

/// Some rights somewhere in an estate.
#[derive(Debug, Clone, PartialEq)]
pub struct Grant {
    /// The rights.
    pub rights: Rights,
    /// Where one may do it.
    pub scope: Scope,
    /// When it expires.
    pub until: Option<DateTime<Utc>>,
}

/// A part of an estate: some fleets, by short name, and some devices; nothing if both are empty.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct AccessFilter {
    /// Its fleets.
    pub fleets: Vec<String>,
    /// Its devices.
    pub devices: Vec<Eui64>,
}

impl AccessFilter {
    /// Whether it lets nothing through.
    pub fn is_empty(&self) -> bool {
        self.fleets.is_empty() && self.devices.is_empty()
    }

    /// Whether a device of this fleet is in it.
    pub fn covers(&self, dev_eui: Eui64, fleet: &str) -> bool {
        self.devices.contains(&dev_eui) || self.fleets.iter().any(|slug| slug == fleet)
    }
}

/// The part of an estate that a right covers.
#[derive(Debug, Clone, PartialEq)]
pub enum Visibility {
    /// All of the estate.
    Whole,
    /// A part of it.
    Part(AccessFilter),
    /// Nothing of it.
    Nothing,
}

impl Visibility {
    /// Whether it reaches a device of this fleet.
    pub fn covers(&self, dev_eui: Eui64, fleet: &str) -> bool {
        match self {
            Self::Whole => true,
            Self::Part(part) => part.covers(dev_eui, fleet),
            Self::Nothing => false,
        }
    }

    /// Whether it reaches all of a fleet, so that devices may be put into it: who reaches a device only may not choose its
    /// fleet.
    pub fn reaches_fleet(&self, fleet: &str) -> bool {
        match self {
            Self::Whole => true,
            Self::Part(part) => part.fleets.iter().any(|slug| slug == fleet),
            Self::Nothing => false,
        }
    }

    /// The part that a list is limited to; none if it is not.
    pub fn part(&self) -> Option<AccessFilter> {
        match self {
            Self::Whole => None,
            Self::Part(part) => Some(part.clone()),
            Self::Nothing => Some(AccessFilter::default()),
        }
    }
}

/// All that a person may do in an estate.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Grants(Vec<Grant>);

impl Grants {
    /// Those that allow something.
    pub fn new(grants: Vec<Grant>) -> Self {
        Self(grants.into_iter().filter(|grant| !grant.rights.is_empty()).collect())
    }

    /// Limits the grants to an access token's rights and scope: a token never does more than its maker. `fleet_of`
    /// names a device's fleet.
    #[must_use]
    pub fn by_token(self, rights: Rights, scope: &Scope, fleet_of: impl Fn(Eui64) -> Option<String>) -> Self {
        let limited = |grant: Grant| {
            let scope = narrower(&grant.scope, scope, &fleet_of)?;
            Some(Grant { rights: grant.rights.both(rights), scope, until: grant.until })
        };
        Self::new(self.0.into_iter().filter_map(limited).collect())
    }

    /// Whether nothing is allowed.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The part of an estate that a right covers.
    pub fn visibility(&self, right: Right) -> Visibility {
        let mut part = AccessFilter::default();
        for grant in self.0.iter().filter(|grant| grant.rights.has(right)) {
            match &grant.scope {
                Scope::Estate => return Visibility::Whole,
                Scope::Fleet(slug) => part.fleets.push(slug.clone()),
                Scope::Device(eui) => part.devices.push(*eui),
            }
        }
        if part.is_empty() { Visibility::Nothing } else { Visibility::Part(part) }
    }

    /// All that may be done, somewhere.
    pub fn rights(&self) -> Rights {
        self.0.iter().fold(Rights::NONE, |all, grant| all.either(grant.rights))
    }

    /// The parts that they are limited to; empty if they are not.
    pub fn only(&self) -> Vec<Scope> {
        if self.0.iter().any(|grant| grant.scope == Scope::Estate) {
            return Vec::new();
        }
        self.0.iter().map(|grant| grant.scope.clone()).collect()
    }

    /// When the first of them expires.
    pub fn until(&self) -> Option<DateTime<Utc>> {
        self.0.iter().filter_map(|grant| grant.until).min()
    }

    /// Whether a token with these rights would do no more than this.
    ///
    /// # Errors
    /// Names a right that it would have beyond this.
    pub fn includes(
        &self,
        rights: Rights,
        scope: &Scope,
        fleet_of: impl Fn(Eui64) -> Option<String>,
    ) -> Result<(), Right> {
        let within = |right: Right| {
            let mut grants = self.0.iter().filter(|grant| grant.rights.has(right));
            grants.any(|grant| {
                grant.scope == Scope::Estate || narrower(&grant.scope, scope, &fleet_of).as_ref() == Some(scope)
            })
        };
        rights.iter().find(|right| !within(*right)).map_or(Ok(()), Err)
    }
}

/// What lies in both scopes.
fn narrower(a: &Scope, b: &Scope, fleet_of: &impl Fn(Eui64) -> Option<String>) -> Option<Scope> {
    match (a, b) {
        (Scope::Estate, other) | (other, Scope::Estate) => Some(other.clone()),
        (Scope::Fleet(slug), Scope::Device(eui)) | (Scope::Device(eui), Scope::Fleet(slug)) => {
            fleet_of(*eui).filter(|fleet| fleet == slug).map(|_| Scope::Device(*eui))
        }
        (one, other) => (one == other).then(|| one.clone()),
    }
}

#[cfg(test)]
mod tests {
    use api::people::rights::Role;

    use super::*;
    use crate::access::role_rights;

    fn fleet_of(eui: Eui64) -> Option<String> {
        Some(if eui.0 < 3 { "tide" } else { "nest" }.to_owned())
    }

    fn fleet(slug: &str) -> Scope {
        Scope::Fleet(slug.into())
    }

    fn granted(all: &[(Role, Scope)]) -> Grants {
        let grant =
            |(role, scope): &(Role, Scope)| Grant { rights: role_rights(*role), scope: scope.clone(), until: None };
        Grants::new(all.iter().map(grant).collect())
    }

    fn by_token(grants: Grants, rights: &[Right], scope: &Scope) -> Grants {
        grants.by_token(rights.iter().copied().collect(), scope, fleet_of)
    }

    #[test]
    fn a_token_does_no_more_than_who_made_it() {
        let member = |role| granted(&[(role, Scope::Estate)]);
        let rights = [Right::View, Right::Send, Right::Devices];
        let operator = by_token(member(Role::Operator), &rights, &fleet("tide"));
        assert_eq!(operator.rights().names(), "view,send");
        let visibility = operator.visibility(Right::View);
        assert!(visibility.covers(Eui64(1), "tide") && !visibility.covers(Eui64(3), "nest"));
        assert_eq!(operator.visibility(Right::Devices), Visibility::Nothing);
        assert!(by_token(member(Role::Viewer), &[Right::Send], &Scope::Estate).is_empty(), "nothing is left");
    }

    #[test]
    fn what_lies_in_both_scopes_is_reached() {
        let shared = granted(&[(Role::Viewer, fleet("tide")), (Role::Operator, Scope::Device(Eui64(3)))]);
        let view = |scope| by_token(shared.clone(), &[Right::View, Right::Send], &scope).visibility(Right::View);
        assert!(view(Scope::Device(Eui64(1))).covers(Eui64(1), "tide"));
        assert!(!view(Scope::Device(Eui64(1))).reaches_fleet("tide"), "one device is not its fleet");
        assert!(view(fleet("tide")).reaches_fleet("tide") && !view(fleet("tide")).reaches_fleet("nest"));
        assert!(!view(Scope::Device(Eui64(1))).covers(Eui64(2), "tide"));
        assert_eq!(view(fleet("grazing")), Visibility::Nothing);
        assert!(view(fleet("nest")).covers(Eui64(3), "nest"), "one device of the fleet is shared");
        assert!(!view(fleet("nest")).covers(Eui64(4), "nest"));
        let send = shared.visibility(Right::Send);
        assert!(send.covers(Eui64(3), "nest") && !send.covers(Eui64(1), "tide"));
        assert_eq!(shared.visibility(Right::Keys), Visibility::Nothing);
    }

    #[test]
    fn nobody_makes_a_token_beyond_what_they_reach() {
        let grants = granted(&[(Role::Operator, fleet("tide"))]);
        let try_it = |rights: &[Right], scope| grants.includes(rights.iter().copied().collect(), &scope, fleet_of);
        assert_eq!(try_it(&[Right::View, Right::Send], fleet("tide")), Ok(()));
        assert_eq!(try_it(&[Right::View], Scope::Device(Eui64(2))), Ok(()));
        assert_eq!(try_it(&[Right::View], Scope::Device(Eui64(3))), Err(Right::View));
        assert_eq!(try_it(&[Right::View], Scope::Estate), Err(Right::View));
        assert_eq!(try_it(&[Right::View, Right::Keys], fleet("tide")), Err(Right::Keys));
    }
}
