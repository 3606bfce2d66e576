//! Who calls, what they may do in an estate, and how far that reaches.

use api::people::rights::{Right, Role, Scope};
use chrono::{DateTime, Utc};
use domain::access::Rights;
use lorawan::Eui64;
use store::{AccessFilter, EstateId, Grant, Membership, Person};

use crate::pipeline::directory::Directory;

/// By what a caller is known.
#[derive(Debug, Clone, PartialEq)]
pub enum By {
    /// A sign-in, by its number.
    SignIn(u64),
    /// An access token.
    Token { id: u32, name: String, estate_id: EstateId, rights: Rights, scope: Scope },
}

/// Somebody who calls.
#[derive(Debug, Clone, PartialEq)]
pub struct Who {
    pub person: Person,
    pub by: By,
    /// When what they are known by ends by itself.
    pub until: Option<DateTime<Utc>>,
}

impl Who {
    /// The access token's name, if it is one.
    pub fn token(&self) -> Option<&str> {
        match &self.by {
            By::SignIn(_) => None,
            By::Token { name, .. } => Some(name),
        }
    }
}

/// How far a right reaches.
#[derive(Debug, Clone, PartialEq)]
pub enum Visibility {
    Whole,
    Part(AccessFilter),
    Nothing,
}

impl Visibility {
    pub fn covers(&self, dev_eui: Eui64, fleet: &str) -> bool {
        match self {
            Self::Whole => true,
            Self::Part(part) => part.covers(dev_eui, fleet),
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

/// What somebody may do in one estate, as of now.
#[derive(Debug, Clone, PartialEq)]
pub struct Access {
    pub estate_id: EstateId,
    pub slug: String,
    pub name: String,
    pub role: Option<Role>,
    grants: Vec<Grant>,
}

impl Access {
    /// From where somebody stands, and what they are known by: a token never does more than who made it. None if there is
    /// nothing that they may do there.
    pub fn of(membership: Membership, by: &By, directory: &Directory) -> Option<Self> {
        let Membership { estate_id, slug, name, role, mut grants } = membership;
        if let By::Token { estate_id: of, rights, scope, .. } = by {
            if *of != estate_id {
                return None;
            }
            for grant in &mut grants {
                grant.rights = grant.rights.both(*rights);
                match narrower(&grant.scope, scope, directory) {
                    Some(scope) => grant.scope = scope,
                    None => grant.rights = Rights::NONE,
                }
            }
        }
        grants.retain(|grant| !grant.rights.is_empty());
        (!grants.is_empty()).then_some(Self { estate_id, slug, name, role, grants })
    }

    /// How far a right reaches.
    pub fn visibility(&self, right: Right) -> Visibility {
        let mut part = AccessFilter::default();
        for grant in self.grants.iter().filter(|grant| grant.rights.has(right)) {
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
        self.grants.iter().fold(Rights::NONE, |all, grant| all.either(grant.rights))
    }

    /// The parts that it is limited to; empty if it is not.
    pub fn only(&self) -> Vec<Scope> {
        if self.grants.iter().any(|grant| grant.scope == Scope::Estate) {
            return Vec::new();
        }
        self.grants.iter().map(|grant| grant.scope.clone()).collect()
    }

    /// When some of it first ends by itself.
    pub fn until(&self) -> Option<DateTime<Utc>> {
        self.grants.iter().filter_map(|grant| grant.until).min()
    }

    /// Whether a token with these rights would do no more than this.
    pub fn includes(&self, rights: Rights, scope: &Scope, directory: &Directory) -> Result<(), Right> {
        let within = |right: Right| {
            let mut grants = self.grants.iter().filter(|grant| grant.rights.has(right));
            grants.any(|grant| {
                grant.scope == Scope::Estate || narrower(&grant.scope, scope, directory).as_ref() == Some(scope)
            })
        };
        rights.iter().find(|right| !within(*right)).map_or(Ok(()), Err)
    }
}

/// What lies in both scopes.
fn narrower(a: &Scope, b: &Scope, directory: &Directory) -> Option<Scope> {
    match (a, b) {
        (Scope::Estate, other) | (other, Scope::Estate) => Some(other.clone()),
        (Scope::Fleet(slug), Scope::Device(eui)) | (Scope::Device(eui), Scope::Fleet(slug)) => {
            directory.device(*eui).filter(|device| device.fleet == *slug).map(|_| Scope::Device(*eui))
        }
        (one, other) => (one == other).then(|| one.clone()),
    }
}

/// Whether a time has come.
pub(crate) fn over(until: Option<DateTime<Utc>>) -> bool {
    until.is_some_and(|until| until <= Utc::now())
}

#[cfg(test)]
mod tests {
    use domain::access::role_rights;
    use lorawan::region::Region;
    use store::DeviceContext;

    use super::*;

    fn directory() -> Directory {
        let directory = Directory::default();
        for (eui, fleet) in [(1, "tide"), (2, "tide"), (3, "nest")] {
            directory.put_device(DeviceContext {
                dev_eui: Eui64(eui),
                estate_id: 7,
                fleet: fleet.into(),
                name: format!("d-{eui}"),
                model: None,
                hardware: None,
                firmware: None,
                region: Region::Eu868,
                last_heard: None,
                usual_interval_s: None,
            });
        }
        directory
    }

    fn fleet(slug: &str) -> Scope {
        Scope::Fleet(slug.into())
    }

    fn membership(role: Option<Role>, shares: &[(Rights, Scope)]) -> Membership {
        let member = role.map(|role| Grant { rights: role_rights(role), scope: Scope::Estate, until: None });
        let shares = shares.iter().map(|(rights, scope)| Grant { rights: *rights, scope: scope.clone(), until: None });
        Membership {
            estate_id: 7,
            slug: "tarnsey".into(),
            name: "Tarnsey".into(),
            role,
            grants: member.into_iter().chain(shares).collect(),
        }
    }

    fn token(rights: &[Right], scope: Scope) -> By {
        By::Token { id: 1, name: "t".into(), estate_id: 7, rights: rights.iter().copied().collect(), scope }
    }

    #[test]
    fn a_token_does_no_more_than_who_made_it() {
        let directory = directory();
        let of = |role, by: &By| Access::of(membership(Some(role), &[]), by, &directory);
        let all = token(&[Right::View, Right::Send, Right::Devices], fleet("tide"));
        let operator = of(Role::Operator, &all).unwrap();
        assert_eq!(operator.rights().names(), "view,send");
        let visibility = operator.visibility(Right::View);
        assert!(visibility.covers(Eui64(1), "tide") && !visibility.covers(Eui64(3), "nest"));
        assert_eq!(operator.visibility(Right::Devices), Visibility::Nothing);
        assert!(of(Role::Viewer, &token(&[Right::Send], Scope::Estate)).is_none(), "nothing is left");
        let rights = Right::ALL.into_iter().collect();
        let elsewhere = By::Token { id: 1, name: "t".into(), estate_id: 8, rights, scope: Scope::Estate };
        assert!(of(Role::Owner, &elsewhere).is_none(), "a token is good in its own estate alone");
    }

    #[test]
    fn what_lies_in_both_scopes_is_reached() {
        let directory = directory();
        let shared =
            [(role_rights(Role::Viewer), fleet("tide")), (role_rights(Role::Operator), Scope::Device(Eui64(3)))];
        let visibility = |by: &By, right| match Access::of(membership(None, &shared), by, &directory) {
            Some(access) => access.visibility(right),
            None => Visibility::Nothing,
        };
        let view = |scope| visibility(&token(&[Right::View, Right::Send], scope), Right::View);
        assert!(view(Scope::Device(Eui64(1))).covers(Eui64(1), "tide"));
        assert!(!view(Scope::Device(Eui64(1))).covers(Eui64(2), "tide"));
        assert_eq!(view(fleet("grazing")), Visibility::Nothing);
        assert!(view(fleet("nest")).covers(Eui64(3), "nest"), "one device of the fleet is shared");
        assert!(!view(fleet("nest")).covers(Eui64(4), "nest"));
        let send = visibility(&By::SignIn(1), Right::Send);
        assert!(send.covers(Eui64(3), "nest") && !send.covers(Eui64(1), "tide"));
        assert_eq!(visibility(&By::SignIn(1), Right::Keys), Visibility::Nothing);
    }

    #[test]
    fn nobody_makes_a_token_beyond_what_they_reach() {
        let directory = directory();
        let shared = [(role_rights(Role::Operator), fleet("tide"))];
        let access = Access::of(membership(None, &shared), &By::SignIn(1), &directory).unwrap();
        let try_it = |rights: &[Right], scope| access.includes(rights.iter().copied().collect(), &scope, &directory);
        assert_eq!(try_it(&[Right::View, Right::Send], fleet("tide")), Ok(()));
        assert_eq!(try_it(&[Right::View], Scope::Device(Eui64(2))), Ok(()));
        assert_eq!(try_it(&[Right::View], Scope::Device(Eui64(3))), Err(Right::View));
        assert_eq!(try_it(&[Right::View], Scope::Estate), Err(Right::View));
        assert_eq!(try_it(&[Right::View, Right::Keys], fleet("tide")), Err(Right::Keys));
    }
}
