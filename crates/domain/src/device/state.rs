//! The state of a device, from when it joined, was heard and was refused.

use api::device::register::PersonalSession;
use api::device::{DeviceKeys, DeviceState};
use chrono::{DateTime, Utc};
use engine::Activation;
use lorawan::{AesKey, Eui64};

/// What is known of a device.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct StateEvidence {
    /// Whether it is activated by personalization: its session is there from the start, and says nothing.
    pub personalized: bool,
    /// When it last joined.
    pub joined_at: Option<DateTime<Utc>>,
    /// When it was last heard.
    pub last_heard: Option<DateTime<Utc>>,
    /// How often it is expected to send, in seconds.
    pub interval_s: Option<f64>,
    /// When it was last refused, if nothing was accepted since.
    pub refused_at: Option<DateTime<Utc>>,
}

/// The state that follows from what is known of a device.
///
/// A device is silent after three of its intervals and a minute. Before it has shown an interval, a day is taken for one.
pub fn device_state(now: DateTime<Utc>, known: StateEvidence) -> DeviceState {
    let joined_at = known.joined_at.filter(|_| !known.personalized);
    let last_good = joined_at.max(known.last_heard);
    match (last_good, known.refused_at) {
        (None, None) if known.personalized => return DeviceState::NeverHeard,
        (None, None) => return DeviceState::NeverJoined,
        (None, Some(_)) => return DeviceState::Refused,
        (Some(good), Some(refused)) if refused > good => return DeviceState::Refused,
        _ => {}
    }
    let patience_s = known.interval_s.unwrap_or(86_400.0) * 3.0 + 60.0;
    match last_good {
        Some(at) if (now - at).num_seconds() as f64 > patience_s => DeviceState::Silent,
        _ => DeviceState::Active,
    }
}

/// What there is, in hex.
pub fn device_keys(dev_eui: Eui64, activation: &Activation) -> DeviceKeys {
    match activation {
        Activation::OverTheAir(root) => DeviceKeys {
            dev_eui,
            app_key: Some(root.app_key.to_hex().into()),
            nwk_key: root.nwk_key.map(|key| key.to_hex().into()),
            personal: None,
        },
        Activation::Personalized { dev_addr, keys } => {
            let apart = |key: AesKey| Some(key.to_hex().into()).filter(|_| key != keys.f_nwk_s_int_key);
            let personal = PersonalSession {
                dev_addr: dev_addr.to_string(),
                app_s_key: keys.app_s_key.to_hex().into(),
                nwk_s_key: keys.f_nwk_s_int_key.to_hex().into(),
                s_nwk_s_int_key: apart(keys.s_nwk_s_int_key),
                nwk_s_enc_key: apart(keys.nwk_s_enc_key),
            };
            DeviceKeys { dev_eui, app_key: None, nwk_key: None, personal: Some(personal) }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::TimeDelta;

    #[test]
    fn a_state_follows_from_what_was_last() {
        let now = Utc::now();
        let ago = |s| Some(now - TimeDelta::seconds(s));
        let state = |joined_at, last_heard, interval_s, refused_at| {
            device_state(now, StateEvidence { personalized: false, joined_at, last_heard, interval_s, refused_at })
        };
        assert_eq!(state(None, None, None, None), DeviceState::NeverJoined);
        assert_eq!(state(None, None, None, ago(5)), DeviceState::Refused);
        assert_eq!(state(ago(10), None, None, ago(5)), DeviceState::Refused);
        assert_eq!(state(ago(10), None, None, ago(50)), DeviceState::Active);
        assert_eq!(state(ago(900), ago(239), Some(60.0), None), DeviceState::Active);
        assert_eq!(state(ago(900), ago(241), Some(60.0), None), DeviceState::Silent);
    }

    #[test]
    fn the_session_of_a_personalized_device_is_no_sign_of_it() {
        let now = Utc::now();
        let session = StateEvidence { personalized: true, joined_at: Some(now), ..StateEvidence::default() };
        assert_eq!(device_state(now, session), DeviceState::NeverHeard);
        assert_eq!(device_state(now, StateEvidence { last_heard: Some(now), ..session }), DeviceState::Active);
        assert_eq!(device_state(now, StateEvidence { refused_at: Some(now), ..session }), DeviceState::Refused);
    }
}
