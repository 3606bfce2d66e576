//! Outlets: which messages one takes, what is sent of them, and how requests are signed.

pub mod check;
pub mod shape;
pub mod signature;

use api::message::{Body, Message};
use api::outlet::{MessageType, OutletSettings};
use lorawan::Eui64;

/// For how long a message that is not taken is tried again, in seconds, if nobody says.
pub const RETRY_FOR_S: f64 = 6.0 * 3600.0;
/// How long an answer may take, in seconds, if nobody says.
pub const ANSWER_WITHIN_S: f64 = 10.0;
/// Dead letters that an outlet keeps at most. When there are as many, it waits.
pub const MOST_DEAD_LETTERS: u64 = 10_000;

/// The type of a message, if outlets can deliver it.
pub fn type_of(message: &Message) -> Option<MessageType> {
    Some(match message.body {
        Body::Uplink(_) => MessageType::Uplink,
        Body::Join(_) => MessageType::Join,
        Body::Refused(_) => MessageType::Refused,
        Body::Downlink(_) => MessageType::Downlink,
        Body::Notice(_) => MessageType::Notice,
        Body::Gateway(_) => return None,
    })
}

/// Whether an outlet takes a message. `former` are short names that its fleet has had before, as messages keep the one of
/// their time; `tagged` says which devices have its tag.
pub fn takes(
    settings: &OutletSettings,
    former: &[String],
    tagged: impl FnOnce(Eui64) -> bool,
    message: &Message,
) -> bool {
    let Some(kind) = type_of(message) else { return false };
    let of_type = settings.types.is_empty() || settings.types.contains(&kind);
    let of_fleet = settings
        .fleet
        .as_ref()
        .is_none_or(|fleet| message.fleet.as_ref().is_some_and(|of| of == fleet || former.contains(of)));
    let device = message.device.as_ref();
    let of_model = settings.model.as_ref().is_none_or(|model| device.is_some_and(|d| d.model.as_ref() == Some(model)));
    of_type && of_fleet && of_model && (settings.tag.is_none() || device.is_some_and(|device| tagged(device.eui)))
}

#[cfg(test)]
pub(crate) mod tests {
    use api::outlet::{Destination, Shape, Webhook};
    use serde_json::json;

    use super::*;

    pub(crate) fn settings() -> OutletSettings {
        let webhook = Webhook { url: "https://harbour.example/in".into(), ..Webhook::default() };
        OutletSettings {
            slug: "harbour".into(),
            fleet: None,
            types: Vec::new(),
            tag: None,
            model: None,
            shape: Shape::Message,
            to: Destination::Webhook(webhook),
            retry_for_s: None,
        }
    }

    pub(crate) fn notice(fleet: &str, model: &str) -> Message {
        serde_json::from_value(json!({
            "type": "notice", "id": "01KBA7Q2V9ZB3W4X5Y6Z7A8B9C", "time": "2026-05-04T09:12:33.481Z", "estate": "tarnsey",
            "fleet": fleet, "device": { "eui": "02b0090000000001", "name": "sluice-07", "model": model },
            "code": "silent", "wants_attention": true, "why": "nothing heard for 3 h",
            "evidence": [{ "name": "last heard", "value": "06:12" }], "next_step": null
        }))
        .unwrap()
    }

    #[test]
    fn all_that_is_set_has_to_fit() {
        let message = notice("tide", "gauge");
        let of = |change: fn(&mut OutletSettings)| {
            let mut settings = settings();
            change(&mut settings);
            takes(&settings, &["shore".into()], |eui| eui.0 == 0x02b0_0900_0000_0001, &message)
        };
        assert!(of(|_| {}));
        assert!(of(|s| s.fleet = Some("tide".into())) && !of(|s| s.fleet = Some("grazing".into())));
        assert!(of(|s| s.types = vec![MessageType::Join, MessageType::Notice]));
        assert!(!of(|s| s.types = vec![MessageType::Uplink]));
        assert!(of(|s| s.model = Some("gauge".into())) && !of(|s| s.model = Some("collar".into())));
        assert!(of(|s| s.tag = Some("north".into())));
        assert!(!takes(&OutletSettings { tag: Some("north".into()), ..settings() }, &[], |_| false, &message));
    }

    #[test]
    fn a_message_from_before_its_fleet_had_another_name_is_of_that_fleet() {
        let settings = OutletSettings { fleet: Some("tide-and-sluice".into()), ..settings() };
        assert!(takes(&settings, &["tide".into()], |_| true, &notice("tide", "gauge")));
        assert!(!takes(&settings, &[], |_| true, &notice("tide", "gauge")));
    }
}
