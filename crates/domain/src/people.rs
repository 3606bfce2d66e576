//! Checks of names of accounts, of invitations and of shares.

use api::people::rights::Scope;
use api::people::{NewInvitation, Offer};
use api::problem;
use api::problem::Problem;
use chrono::{DateTime, TimeDelta, Utc};
use lorawan::Eui64;
use unicode_general_category::{GeneralCategory, get_general_category};
use unicode_normalization::UnicodeNormalization as _;

use crate::input;

/// Days that an invitation is valid: by default, and at most.
const INVITED_DAYS: (u32, u32) = (7, 30);
/// Characters of a name as it is looked for: a caller may send any length.
const LONGEST_KEY: usize = 320;

/// A name of an account: in Unicode's form for compatibility (NFKC, UAX #15), and without characters that cannot be seen, so that no
/// two accounts look the same by them.
///
/// # Errors
/// Names the field, the value and what is allowed.
pub fn account_name(field: &str, value: &str) -> Result<String, Problem> {
    let name: String = value.nfkc().collect();
    let unseen = |c: char| {
        let category = get_general_category(c);
        let no_text = matches!(
            category,
            GeneralCategory::Format
                | GeneralCategory::Control
                | GeneralCategory::PrivateUse
                | GeneralCategory::Unassigned
                | GeneralCategory::Surrogate
                | GeneralCategory::LineSeparator
                | GeneralCategory::ParagraphSeparator
        );
        no_text || is_ignorable(c)
    };
    if let Some(c) = value.chars().chain(name.chars()).find(|c| unseen(*c)) {
        let why = format!("characters that cannot be seen are not allowed (U+{:04X})", u32::from(c));
        return Err(problem::bad_field(field, &value.escape_debug().to_string(), why));
    }
    input::name(field, &name)
}

/// Characters that are letters or marks by their category and still show nothing (Default_Ignorable_Code_Point,
/// DerivedCoreProperties of Unicode 16), and the blank pattern of Braille.
fn is_ignorable(c: char) -> bool {
    matches!(c, '\u{34f}' | '\u{115f}' | '\u{1160}' | '\u{17b4}' | '\u{17b5}' | '\u{180b}'..='\u{180f}' | '\u{2800}' | '\u{3164}'
        | '\u{fe00}'..='\u{fe0f}' | '\u{ffa0}' | '\u{e0000}'..='\u{e0fff}')
}

/// The name of an account in the form in which it is searched: case and Unicode's forms make no difference.
pub fn account_key(name: &str) -> String {
    let lower: String = name.trim().nfkc().flat_map(char::to_lowercase).collect();
    // Lower case can take a name out of the form again.
    lower.nfkc().take(LONGEST_KEY).collect()
}

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
    fn names_that_look_the_same_are_the_same_or_are_refused() {
        let name = |text: &str| account_name("account.name", text).map_err(|problem| problem.to_string());
        assert_eq!(name(" Mara  Holt "), Ok("Mara  Holt".into()));
        // One letter, or a letter and an accent; full width; a ligature; a space that does not break.
        assert_eq!(name("vie\u{300}"), Ok("viè".into()));
        assert_eq!(name("\u{ff4d}ara"), Ok("mara".into()));
        assert_eq!(name("\u{fb01}n"), Ok("fin".into()));
        assert_eq!(name("a\u{a0}b"), Ok("a b".into()));
        for unseen in [
            "vie\u{200b}",
            "\u{200d}vie",
            "v\u{ad}ie",
            "\u{202e}vie",
            "vie\u{3164}",
            "v\u{2060}ie",
            "vie\u{fe0f}",
            "\u{e000}",
        ] {
            let why = name(unseen).unwrap_err();
            assert!(why.contains("cannot be seen (U+") || why.contains("not allowed (U+"), "{unseen:?}: {why}");
        }
        assert!(name(&"\u{fdfa}".repeat(80)).is_err(), "80 characters become 1,440");
        assert_eq!(
            (account_key(" VIE "), account_key("vie"), account_key("viè")),
            ("vie".into(), "vie".into(), "viè".into())
        );
        assert_eq!(account_key("\u{212a}im"), "kim", "the sign of kelvin is a k");
        assert_ne!(account_key("viè"), account_key("vie"));
        assert_eq!(account_key(&"x".repeat(5_000)).len(), LONGEST_KEY);
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
