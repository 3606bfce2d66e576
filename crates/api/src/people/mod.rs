//! Who is here: accounts, signing in, members of an estate, and what is shared with others.

pub mod audit;
pub mod rights;
pub mod token;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::fleet::Estate;
use crate::people::rights::{Role, Scope, ShareLevel};

use crate::secret::Secret;

/// Name and password.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SignIn {
    /// The account's name.
    pub name: String,
    /// Its password.
    pub password: Secret,
    /// The six digits of two-step sign-in, or a recovery code.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
}

/// Proof of a sign-in.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SignedIn {
    /// To be sent as `Authorization: Bearer …`. Browsers get it as a cookie as well.
    pub token: Secret,
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
    /// Whether the password was made up by the service, and is known to everyone who saw it printed.
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
    pub current: Secret,
    /// The one from now on: at least 12 characters, none that are tried first when passwords are guessed.
    pub new: Secret,
    /// Whether access tokens stay valid: they end otherwise, for somebody else may have made some.
    #[serde(default)]
    pub keep_tokens: bool,
}

/// What a new password has ended.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PasswordChanged {
    /// Sign-ins of the account other than this one.
    pub sign_ins_ended: u64,
    /// Its access tokens.
    pub tokens_ended: u64,
}

/// The password again, for what a borrowed browser should not do.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PasswordAgain {
    /// The account's password.
    pub password: Secret,
}

/// The secret for an authenticator app (RFC 6238: SHA-1, six digits, 30 s). It is shown once.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TwoStepSecret {
    /// In base 32, for entering by hand.
    pub secret: Secret,
    /// For the app, as it stands in the code.
    pub uri: String,
    /// The same as a QR code, SVG.
    pub svg: String,
}

/// The first code, which confirms the app.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TwoStepCode {
    /// Six digits.
    pub code: String,
}

/// Recovery codes: each signs in once without the app. They are shown once.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RecoveryCodes {
    /// The codes.
    pub codes: Vec<Secret>,
}

/// A member of an estate.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct EstateMember {
    /// The account's name.
    pub name: String,
    /// Their role.
    pub role: Role,
    /// Since when.
    #[serde(with = "crate::millis")]
    pub since: DateTime<Utc>,
    /// Who invited them; absent for the first owner.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// Whether they use two-step sign-in.
    pub two_step: bool,
    /// When they last signed in or used their sign-in, to some minutes.
    #[serde(default, with = "crate::millis_option", skip_serializing_if = "Option::is_none")]
    pub last_seen: Option<DateTime<Utc>>,
}

/// A member's new role.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeMember {
    /// The new role.
    pub role: Role,
    /// The role that the caller saw; if it is no longer so, nothing is changed.
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
    /// The rights that they get.
    pub may: ShareLevel,
    /// When it expires.
    #[serde(default, with = "crate::millis_option", skip_serializing_if = "Option::is_none")]
    pub until: Option<DateTime<Utc>>,
    /// Since when.
    #[serde(with = "crate::millis")]
    pub since: DateTime<Utc>,
    /// By whom.
    pub by: String,
}

/// Changes of a share; what is left out stays.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeShare {
    /// The rights that they get.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub may: Option<ShareLevel>,
    /// Until when; `null` for without an end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<DateTime<Utc>>,
}

/// The part of a share that can be changed.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct ShareTerms {
    /// The rights that they have.
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
        /// The rights that they get.
        may: ShareLevel,
        /// Until when; without an end if not given.
        #[serde(default)]
        until: Option<DateTime<Utc>>,
    },
}

/// An invitation to create.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewInvitation {
    /// Whom it is for, as free text: it does not name an account.
    #[schema(max_length = 80, example = "Marit, from the harbour office")]
    pub for_whom: String,
    /// What it offers.
    pub offer: Offer,
    /// Days it is valid, 1 to 30; 7 if not given.
    #[serde(default)]
    #[schema(minimum = 1, maximum = 30)]
    pub days: Option<u32>,
}

/// An open invitation.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Invitation {
    /// Its identifier, for revoking it.
    pub id: u32,
    /// Whom it is for.
    pub for_whom: String,
    /// What it offers.
    pub offer: Offer,
    /// When it expires.
    #[serde(with = "crate::millis")]
    pub expires_at: DateTime<Utc>,
    /// Who created it.
    pub by: String,
}

/// An invitation that was just created.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct WrittenInvitation {
    /// The invitation.
    pub invitation: Invitation,
    /// The link's code. It is shown only now.
    pub code: Secret,
    /// The path that opens it, to be put behind the console's address.
    pub path: String,
}

/// The end of an invitation's link.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct InvitationCode {
    /// The code from the link.
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
    /// Who created it.
    pub by: String,
    /// When it expires.
    #[serde(with = "crate::millis")]
    pub expires_at: DateTime<Utc>,
}

/// Taking an invitation: with the account that is signed in, or with a new one.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TakeInvitation {
    /// The code from the link.
    pub code: String,
    /// The new account; none with an account that is signed in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub account: Option<NewAccount>,
}

/// An account to make.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewAccount {
    /// Its name.
    pub name: String,
    /// Its password: at least 12 characters, none that are tried first when passwords are guessed.
    pub password: Secret,
}

/// An estate as the installation's keeper sees it: its names and owners.
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
    /// Whom the owner's invitation is for, as free text.
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
