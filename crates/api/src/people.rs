//! Who is here: accounts, signing in, members of an estate, and what is shared with others.

use chrono::{DateTime, TimeDelta, Utc};
use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::fleet::Estate;
use crate::problem::{self, Problem};
use crate::rights::{Role, Scope, ShareLevel};

/// Name and password.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SignIn {
    /// The account's name.
    pub name: String,
    /// Its password.
    pub password: String,
    /// The six digits of two-step sign-in, or a recovery code.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
}

/// Proof of a sign-in.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SignedIn {
    /// To be sent as `Authorization: Bearer …`. Browsers get it as a cookie as well.
    pub token: String,
    /// When it ends.
    #[serde(with = "crate::millis")]
    pub expires_at: DateTime<Utc>,
    /// Who signed in.
    pub me: Me,
}

/// The person signed in.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// The account's name.
    pub name: String,
    /// The access token that is used, if it is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    /// Whether sign-ins take a code beside the password.
    pub two_step: bool,
    /// Recovery codes that are left.
    pub recovery_codes: u32,
    /// Whether the password was made up by the service, and is known to whoever saw it printed.
    pub given_password: bool,
    /// Whether this account looks after the installation: founds estates, and sees how the service is doing.
    pub keeps_installation: bool,
    /// Estates the person belongs to, or where something is shared with them.
    pub estates: Vec<Estate>,
}

/// One sign-in of one's own.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SignInRecord {
    /// Names it, to end it.
    pub id: String,
    /// Since when.
    #[serde(with = "crate::millis")]
    pub since: DateTime<Utc>,
    /// Until when.
    #[serde(with = "crate::millis")]
    pub expires_at: DateTime<Utc>,
    /// When it was used last, to some minutes.
    #[serde(with = "crate::millis")]
    pub last_used: DateTime<Utc>,
    /// From where.
    pub address: String,
    /// What the program calls itself.
    pub program: String,
    /// Whether it is the one that asks.
    pub this_one: bool,
}

/// A new password.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPassword {
    /// The one until now.
    pub current: String,
    /// The one from now on: at least 12 characters, none that are tried first by whoever guesses.
    pub new: String,
}

/// The password once more, for what a borrowed browser should not do.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PasswordAgain {
    /// The account's password.
    pub password: String,
}

/// What an app that makes codes has to know (RFC 6238: SHA-1, six digits, 30 s). It is shown once.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TwoStepSecret {
    /// In base 32, for entering by hand.
    pub secret: String,
    /// For the app, as it stands in the code.
    pub uri: String,
    /// The same as a QR code, SVG.
    pub svg: String,
}

/// The first code, which shows that the app makes the right ones.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TwoStepCode {
    /// Six digits.
    pub code: String,
}

/// Codes that let one in without the app, each once. They are shown once.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RecoveryCodes {
    /// The codes.
    pub codes: Vec<String>,
}

/// A member of an estate.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct EstateMember {
    /// The account's name.
    pub name: String,
    /// What they are here.
    pub role: Role,
    /// Since when.
    #[serde(with = "crate::millis")]
    pub since: DateTime<Utc>,
    /// Who brought them in; nobody for the first owner.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// Whether their sign-ins take a code beside the password.
    pub two_step: bool,
    /// When they last signed in or used their sign-in, to some minutes.
    #[serde(default, with = "crate::millis_option", skip_serializing_if = "Option::is_none")]
    pub last_seen: Option<DateTime<Utc>>,
}

/// A member's new role.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeMember {
    /// What they are from now on.
    pub role: Role,
    /// What they were when this was decided; if that is no longer so, nothing is changed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub was: Option<Role>,
}

/// Something shared with a person outside the estate.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Share {
    /// Names it.
    pub id: u32,
    /// With whom.
    pub person: String,
    /// What.
    pub scope: Scope,
    /// What they may do with it.
    pub may: ShareLevel,
    /// Until when; it ends by itself.
    #[serde(default, with = "crate::millis_option", skip_serializing_if = "Option::is_none")]
    pub until: Option<DateTime<Utc>>,
    /// Since when.
    #[serde(with = "crate::millis")]
    pub since: DateTime<Utc>,
    /// By whom.
    pub by: String,
}

/// A share as it is to be from now on.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeShare {
    /// What they may do with it.
    pub may: ShareLevel,
    /// Until when; without an end if not given.
    #[serde(default)]
    pub until: Option<DateTime<Utc>>,
}

/// What an invitation offers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum Offer {
    /// To be a member.
    Role(Role),
    /// To have something shared.
    Share {
        /// What: a fleet or a device.
        scope: Scope,
        /// What they may do with it.
        may: ShareLevel,
        /// Until when; without an end if not given.
        #[serde(default)]
        until: Option<DateTime<Utc>>,
    },
}

/// Days that an invitation is good for, if nothing else is said, and at most.
const INVITED_DAYS: (u32, u32) = (7, 30);

/// An invitation to write.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewInvitation {
    /// Whom it is for, in your own words: it does not name an account.
    #[schema(example = "Marit, from the harbour office")]
    pub for_whom: String,
    /// What it offers.
    pub offer: Offer,
    /// Days it is good for, 1 to 30; 7 if not given.
    #[serde(default)]
    pub days: Option<u32>,
}

impl NewInvitation {
    /// For whom, and until when it is good.
    ///
    /// # Errors
    /// Names the field, the value and what is allowed.
    pub fn check(&self, now: DateTime<Utc>) -> Result<(String, DateTime<Utc>), Problem> {
        let for_whom = problem::name("for_whom", &self.for_whom)?;
        let days = self.days.unwrap_or(INVITED_DAYS.0);
        if !(1..=INVITED_DAYS.1).contains(&days) {
            let allowed = format!("1 to {} days are allowed", INVITED_DAYS.1);
            return Err(problem::bad_field("days", &days.to_string(), allowed));
        }
        if let Offer::Share { scope, until, .. } = &self.offer {
            if *scope == Scope::Estate {
                let allowed = "a fleet or a device is shared; who is to see all of it becomes a member";
                return Err(problem::bad_field("offer.share.scope", "estate", allowed));
            }
            check_end("offer.share.until", *until, now)?;
        }
        Ok((for_whom, now + TimeDelta::days(i64::from(days))))
    }
}

/// An end has to lie ahead.
///
/// # Errors
/// Names the field, the value and what is allowed.
pub fn check_end(field: &str, until: Option<DateTime<Utc>>, now: DateTime<Utc>) -> Result<(), Problem> {
    match until.filter(|until| *until <= now) {
        Some(past) => Err(problem::bad_field(field, &past.to_rfc3339(), "a time to come is wanted")),
        None => Ok(()),
    }
}

/// An invitation that nobody has taken yet.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Invitation {
    /// Names it, to withdraw it.
    pub id: u32,
    /// Whom it is for.
    pub for_whom: String,
    /// What it offers.
    pub offer: Offer,
    /// Until when it is good.
    #[serde(with = "crate::millis")]
    pub expires_at: DateTime<Utc>,
    /// Who wrote it.
    pub by: String,
}

/// An invitation that was just written.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct WrittenInvitation {
    /// The invitation.
    pub invitation: Invitation,
    /// What the link ends with. It is shown only now.
    pub code: String,
    /// The path that opens it, to be put behind the console's address.
    pub path: String,
}

/// The end of an invitation's link.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct InvitationCode {
    /// As it stands in the link.
    pub code: String,
}

/// What an invitation is for, before it is taken.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct OpenedInvitation {
    /// The estate's name.
    pub estate: String,
    /// Whom it is for.
    pub for_whom: String,
    /// What it offers.
    pub offer: Offer,
    /// Who wrote it.
    pub by: String,
    /// Until when it is good.
    #[serde(with = "crate::millis")]
    pub expires_at: DateTime<Utc>,
}

/// Taking an invitation: as whoever is signed in, or with a new account.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TakeInvitation {
    /// As it stands in the link.
    pub code: String,
    /// The new account; none for whoever is signed in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub account: Option<NewAccount>,
}

/// An account to make.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewAccount {
    /// Its name.
    pub name: String,
    /// Its password: at least 12 characters, none that are tried first by whoever guesses.
    pub password: String,
}

/// An estate as the one sees it who keeps the installation: that it is there, and whose it is.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct EstateOutline {
    /// Its short name.
    pub slug: String,
    /// Its name.
    pub name: String,
    /// Its owners.
    pub owners: Vec<String>,
    /// When it was founded.
    #[serde(with = "crate::millis")]
    pub added_at: DateTime<Utc>,
}

/// An estate to found.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewEstate {
    /// Its short name: lower-case letters, digits and dashes.
    #[schema(example = "saltholm")]
    pub slug: String,
    /// Its name; the short name if not given.
    #[serde(default)]
    pub name: Option<String>,
    /// Whom the invitation is for that makes its owner, in your own words.
    pub owner: String,
}

/// An estate that was just founded.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FoundedEstate {
    /// The estate.
    pub estate: EstateOutline,
    /// The invitation for its owner.
    pub owner: WrittenInvitation,
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

    fn invitation(offer: Offer, days: Option<u32>) -> NewInvitation {
        NewInvitation { for_whom: " Marit ".into(), offer, days }
    }

    #[test]
    fn an_invitation_ends_and_shares_only_a_part() {
        let now = Utc::now();
        let (whom, until) = invitation(Offer::Role(Role::Viewer), None).check(now).unwrap();
        assert_eq!((whom.as_str(), (until - now).num_days()), ("Marit", 7));
        let field = |new: NewInvitation| new.check(now).unwrap_err().field.unwrap();
        assert_eq!(field(invitation(Offer::Role(Role::Viewer), Some(31))), "days");
        assert_eq!(field(invitation(Offer::Role(Role::Viewer), Some(0))), "days");
        let share = |scope, until| Offer::Share { scope, may: ShareLevel::Read, until };
        assert_eq!(field(invitation(share(Scope::Estate, None), None)), "offer.share.scope");
        let fleet = || Scope::Fleet("tide".into());
        assert_eq!(field(invitation(share(fleet(), Some(now)), None)), "offer.share.until");
        assert!(invitation(share(fleet(), Some(now + TimeDelta::days(1))), None).check(now).is_ok());
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
