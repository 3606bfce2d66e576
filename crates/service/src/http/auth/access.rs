//! Who calls, what they may do in an estate, and how far that reaches.

use api::people::rights::{Role, Scope};
use chrono::{DateTime, Utc};
use domain::access::Rights;
use domain::grants::Grants;
use store::{EstateId, Membership, Person};

use crate::pipeline::directory::Directory;

/// How a caller is identified.
#[derive(Debug, Clone, PartialEq)]
pub enum By {
    /// A sign-in, by its number.
    SignIn(u64),
    /// An access token.
    Token { id: u32, name: String, estate_id: EstateId, rights: Rights, scope: Scope },
}

/// A caller.
#[derive(Debug, Clone, PartialEq)]
pub struct Who {
    pub person: Person,
    pub by: By,
    /// When the sign-in or token expires.
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

/// What a caller may do in one estate now.
#[derive(Debug, Clone, PartialEq)]
pub struct Access {
    pub estate_id: EstateId,
    pub slug: String,
    pub name: String,
    pub role: Option<Role>,
    pub grants: Grants,
}

impl Access {
    /// From a caller's membership and shares in an estate, and their sign-in or token. `None` if they may do nothing
    /// there.
    pub(crate) fn of(membership: Membership, by: &By, directory: &Directory) -> Option<Self> {
        let Membership { estate_id, slug, name, role, grants } = membership;
        let grants = match by {
            By::SignIn(_) => Grants::new(grants),
            // A token is good in its own estate alone.
            By::Token { estate_id: of, .. } if *of != estate_id => return None,
            By::Token { rights, scope, .. } => {
                Grants::new(grants).by_token(*rights, scope, |eui| directory.fleet_of(eui))
            }
        };
        (!grants.is_empty()).then_some(Self { estate_id, slug, name, role, grants })
    }
}

/// Whether a time has passed.
pub(crate) fn over(until: Option<DateTime<Utc>>) -> bool {
    until.is_some_and(|until| until <= Utc::now())
}
