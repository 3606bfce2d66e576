//! Gateway credentials: how long one is valid, and when to warn.

use api::gateway::credential::{CredentialState, GatewayCredential, NewCredential};
use api::problem::{Problem, bad_field};
use chrono::{DateTime, TimeDelta, Utc};

/// Days before its end from which on it is reported.
pub const WARN_DAYS: i64 = 30;

/// Its state now.
pub fn state(credential: &GatewayCredential, now: DateTime<Utc>) -> CredentialState {
    let left = credential.expires_at - now;
    match credential.revoked_at {
        Some(_) => CredentialState::Revoked,
        None if left <= TimeDelta::zero() => CredentialState::Expired,
        None if left <= TimeDelta::days(WARN_DAYS) => CredentialState::Expiring,
        None => CredentialState::Good,
    }
}

/// How long it is valid, checked.
pub fn lifetime(new: &NewCredential) -> Result<TimeDelta, Problem> {
    match new.days.unwrap_or(730) {
        days @ 1..=3650 => Ok(TimeDelta::days(days.into())),
        other => Err(bad_field("days", &other.to_string(), "1 to 3650 days are allowed")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use api::gateway::credential::{CredentialKind, Purpose};

    #[test]
    fn a_credential_is_pointed_out_before_it_ends() {
        let now = Utc::now();
        let mut credential = GatewayCredential {
            id: "1".into(),
            purpose: Purpose::Traffic,
            kind: CredentialKind::Token,
            added_at: now,
            expires_at: now + TimeDelta::days(31),
            last_used: None,
            revoked_at: None,
            replace_asked: false,
        };
        let days = TimeDelta::days;
        assert_eq!(state(&credential, now), CredentialState::Good);
        assert_eq!(state(&credential, now + days(1)), CredentialState::Expiring);
        assert_eq!(state(&credential, now + days(31)), CredentialState::Expired);
        credential.revoked_at = Some(now);
        assert_eq!(state(&credential, now + days(31)), CredentialState::Revoked);
    }

    #[test]
    fn how_long_one_lasts_is_checked() {
        let of = |days| lifetime(&NewCredential { days, ..NewCredential::default() });
        assert_eq!(of(None), Ok(TimeDelta::days(730)));
        assert!(of(Some(0)).unwrap_err().to_string().contains("1 to 3650"));
        assert!(of(Some(3651)).is_err());
    }
}
