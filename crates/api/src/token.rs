//! Access tokens: for programs, with rights of their own, never more than those of who made them.

use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::{self, Problem};
use crate::rights::{Right, Rights, Scope};

/// An access token's secret begins with this, so that one that is found lying about is known for what it is.
pub const PREFIX: &str = "khr_";
/// Days that a token is good for at most.
const MOST_DAYS: u32 = 3660;

/// An access token, without its secret.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AccessToken {
    /// Names it, to revoke it.
    pub id: u32,
    /// What it is for.
    pub name: String,
    /// Who made it.
    pub by: String,
    /// What it allows, as long as its maker is allowed it too.
    pub rights: Vec<Right>,
    /// How far it reaches.
    pub scope: Scope,
    /// When it was made.
    #[serde(with = "crate::millis")]
    pub since: DateTime<Utc>,
    /// When it ends.
    #[serde(default, with = "crate::millis_option", skip_serializing_if = "Option::is_none")]
    pub expires_at: Option<DateTime<Utc>>,
    /// When it was used last, to some minutes.
    #[serde(default, with = "crate::millis_option", skip_serializing_if = "Option::is_none")]
    pub last_used: Option<DateTime<Utc>>,
    /// From where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_from: Option<String>,
}

/// An access token to make.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewToken {
    /// What it is for.
    #[schema(example = "dashboard in the harbour office")]
    pub name: String,
    /// What it allows: view, send, devices, decoders, gateways, keys, audit.
    pub rights: Vec<Right>,
    /// How far it reaches; the whole estate if not given.
    #[serde(default)]
    pub scope: Option<Scope>,
    /// Days it is good for; without an end if not given.
    #[serde(default)]
    pub days: Option<u32>,
}

/// Rights that mean nothing for a part of an estate.
const WHOLE_ONLY: [Right; 3] = [Right::Decoders, Right::Gateways, Right::Audit];

impl NewToken {
    /// Name, rights, scope and end.
    ///
    /// # Errors
    /// Names the field, the value and what is allowed.
    #[allow(clippy::type_complexity)] // four things, said once
    pub fn check(&self, now: DateTime<Utc>) -> Result<(String, Rights, Scope, Option<DateTime<Utc>>), Problem> {
        let name = problem::name("name", &self.name)?;
        let rights: Rights = self.rights.iter().copied().collect();
        let scope = self.scope.clone().unwrap_or(Scope::Estate);
        if rights.is_empty() {
            return Err(problem::bad_field("rights", "", "at least one is wanted"));
        }
        if rights.has(Right::People) {
            return Err(problem::bad_field(
                "rights",
                "people",
                "who else comes in is decided by people, not by tokens",
            ));
        }
        let whole = WHOLE_ONLY.into_iter().find(|right| rights.has(*right));
        if let Some(right) = whole.filter(|_| scope != Scope::Estate) {
            let allowed = format!("with {scope}, view, send, devices and keys are allowed");
            return Err(problem::bad_field("rights", right.name(), allowed));
        }
        match self.days {
            Some(days) if !(1..=MOST_DAYS).contains(&days) => {
                Err(problem::bad_field("days", &days.to_string(), format!("1 to {MOST_DAYS} days are allowed")))
            }
            days => Ok((name, rights, scope, days.map(|days| now + TimeDelta::days(i64::from(days))))),
        }
    }
}

/// An access token that was just made.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct MadeToken {
    /// The token.
    pub token: AccessToken,
    /// To be sent as `Authorization: Bearer …`. It is shown only now.
    pub secret: String,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_token_carries_what_makes_sense_for_its_scope() {
        let now = Utc::now();
        let new = |rights: &[Right], scope, days| NewToken { name: "x".into(), rights: rights.into(), scope, days };
        let field = |new: NewToken| new.check(now).unwrap_err().field.unwrap();
        let fleet = || Some(Scope::Fleet("tide".into()));
        let (_, rights, scope, ends) = new(&[Right::View, Right::Send], fleet(), Some(2)).check(now).unwrap();
        assert_eq!((rights.names().as_str(), scope), ("view,send", Scope::Fleet("tide".into())));
        assert_eq!(ends.map(|ends| (ends - now).num_days()), Some(2));
        assert_eq!(field(new(&[], None, None)), "rights");
        assert_eq!(field(new(&[Right::People], None, None)), "rights");
        assert_eq!(field(new(&[Right::Gateways], fleet(), None)), "rights");
        assert!(new(&[Right::Gateways], None, None).check(now).is_ok());
        assert_eq!(field(new(&[Right::View], None, Some(0))), "days");
    }
}
