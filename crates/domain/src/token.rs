//! Checks of a new access token.

use api::people::rights::{Right, Scope};
use api::people::token::NewToken;
use api::problem;
use api::problem::Problem;
use chrono::{DateTime, TimeDelta, Utc};

use crate::access::Rights;
use crate::input;

/// Days that a token is valid, at most.
const MOST_DAYS: u32 = 3660;

/// Rights that mean nothing for a part of an estate.
const WHOLE_ONLY: [Right; 3] = [Right::Decoders, Right::Gateways, Right::Audit];

/// Name, rights, scope and end.
///
/// # Errors
/// Names the field, the value and what is allowed.
#[allow(clippy::type_complexity)] // four things, said once
pub fn check(new: &NewToken, now: DateTime<Utc>) -> Result<(String, Rights, Scope, Option<DateTime<Utc>>), Problem> {
    let name = input::name("name", &new.name)?;
    let rights: Rights = new.rights.iter().copied().collect();
    let scope = new.scope.clone().unwrap_or(Scope::Estate);
    if rights.is_empty() {
        return Err(problem::bad_field("rights", "", "at least one is wanted"));
    }
    if rights.has(Right::People) {
        return Err(problem::bad_field("rights", "people", "who else comes in is decided by people, not by tokens"));
    }
    let whole = WHOLE_ONLY.into_iter().find(|right| rights.has(*right));
    if let Some(right) = whole.filter(|_| scope != Scope::Estate) {
        let allowed = format!("with {scope}, view, send, devices and keys are allowed");
        return Err(problem::bad_field("rights", right.name(), allowed));
    }
    match new.days {
        Some(days) if !(1..=MOST_DAYS).contains(&days) => {
            Err(problem::bad_field("days", &days.to_string(), format!("1 to {MOST_DAYS} days are allowed")))
        }
        days => Ok((name, rights, scope, days.map(|days| now + TimeDelta::days(i64::from(days))))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_token_carries_what_makes_sense_for_its_scope() {
        let now = Utc::now();
        let new = |rights: &[Right], scope, days| NewToken { name: "x".into(), rights: rights.into(), scope, days };
        let field = |new: NewToken| check(&new, now).unwrap_err().field.unwrap();
        let fleet = || Some(Scope::Fleet("tide".into()));
        let (_, rights, scope, ends) = check(&new(&[Right::View, Right::Send], fleet(), Some(2)), now).unwrap();
        assert_eq!((rights.names().as_str(), scope), ("view,send", Scope::Fleet("tide".into())));
        assert_eq!(ends.map(|ends| (ends - now).num_days()), Some(2));
        assert_eq!(field(new(&[], None, None)), "rights");
        assert_eq!(field(new(&[Right::People], None, None)), "rights");
        assert_eq!(field(new(&[Right::Gateways], fleet(), None)), "rights");
        assert!(check(&new(&[Right::Gateways], None, None), now).is_ok());
        assert_eq!(field(new(&[Right::View], None, Some(0))), "days");
    }
}
