//! Checks of invitations and shares.

use api::people::rights::Scope;
use api::people::{NewInvitation, Offer};
use api::problem;
use api::problem::Problem;
use chrono::{DateTime, TimeDelta, Utc};
use lorawan::Eui64;

use crate::input;

/// Days that an invitation is valid: by default, and at most.
const INVITED_DAYS: (u32, u32) = (7, 30);

/// For whom it is, and when it expires.
///
/// # Errors
/// Names the field, the value and what is allowed.
pub fn check_invitation(new: &NewInvitation, now: DateTime<Utc>) -> Result<(String, DateTime<Utc>), Problem> {
    let for_whom = input::name("for_whom", &new.for_whom)?;
    let days = new.days.unwrap_or(INVITED_DAYS.0);
    if !(1..=INVITED_DAYS.1).contains(&days) {
        let allowed = format!("1 to {} days are allowed", INVITED_DAYS.1);
        return Err(problem::bad_field("days", &days.to_string(), allowed));
    }
    if let Offer::Share { scope, until, .. } = &new.offer {
        if *scope == Scope::Estate {
            let allowed = "a fleet or a device is shared; who is to see all of it becomes a member";
            return Err(problem::bad_field("offer.share.scope", "estate", allowed));
        }
        check_end("offer.share.until", *until, now)?;
    }
    Ok((for_whom, now + TimeDelta::days(i64::from(days))))
}

/// An end must be in the future.
///
/// # Errors
/// Names the field, the value and what is allowed.
pub fn check_end(field: &str, until: Option<DateTime<Utc>>, now: DateTime<Utc>) -> Result<(), Problem> {
    match until.filter(|until| *until <= now) {
        Some(past) => Err(problem::bad_field(field, &past.to_rfc3339(), "a time to come is wanted")),
        None => Ok(()),
    }
}

/// What a device's EUI and fleet are called where something is shared by name.
pub fn scope_of(fleet: Option<String>, dev_eui: Option<Eui64>) -> Scope {
    match (fleet, dev_eui) {
        (Some(fleet), _) => Scope::Fleet(fleet),
        (None, Some(dev_eui)) => Scope::Device(dev_eui),
        (None, None) => Scope::Estate,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use api::people::rights::{Role, ShareLevel};
    use api::people::{NewAccount, SignIn};

    fn invitation(offer: Offer, days: Option<u32>) -> NewInvitation {
        NewInvitation { for_whom: " Marit ".into(), offer, days }
    }

    #[test]
    fn an_invitation_ends_and_shares_only_a_part() {
        let now = Utc::now();
        let (whom, until) = check_invitation(&invitation(Offer::Role(Role::Viewer), None), now).unwrap();
        assert_eq!((whom.as_str(), (until - now).num_days()), ("Marit", 7));
        let field = |new: NewInvitation| check_invitation(&new, now).unwrap_err().field.unwrap();
        assert_eq!(field(invitation(Offer::Role(Role::Viewer), Some(31))), "days");
        assert_eq!(field(invitation(Offer::Role(Role::Viewer), Some(0))), "days");
        let share = |scope, until| Offer::Share { scope, may: ShareLevel::Read, until };
        assert_eq!(field(invitation(share(Scope::Estate, None), None)), "offer.share.scope");
        let fleet = || Scope::Fleet("tide".into());
        assert_eq!(field(invitation(share(fleet(), Some(now)), None)), "offer.share.until");
        assert!(check_invitation(&invitation(share(fleet(), Some(now + TimeDelta::days(1))), None), now).is_ok());
    }

    #[test]
    fn what_is_not_asked_for_is_not_taken() {
        let extra = r#"{"name":"a","password":"b","keeps_installation":true}"#;
        assert!(serde_json::from_str::<SignIn>(extra).is_err());
        assert!(serde_json::from_str::<NewAccount>(extra).is_err());
        let role = r#"{"for_whom":"a","offer":{"role":"king"}}"#;
        assert!(serde_json::from_str::<NewInvitation>(role).is_err());
        let both = r#"{"for_whom":"a","offer":{"role":"viewer","share":{}}}"#;
        assert!(serde_json::from_str::<NewInvitation>(both).is_err(), "one offer, not two");
    }
}
