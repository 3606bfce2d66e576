//! Outlets: which messages one takes, what is sent of them, and how requests are signed.

pub mod address;
pub mod check;
pub mod connect;
pub mod row;
pub mod shape;
pub mod signature;
pub mod topic;

use api::message::{Body, Message};
use api::outlet::{MessageType, OutletSettings};
use lorawan::Eui64;

/// For how long a message that is not taken is tried again, in seconds, if nobody says.
pub const RETRY_FOR_S: f64 = 6.0 * 3600.0;
/// How long an answer may take, in seconds, if nobody says.
pub const ANSWER_WITHIN_S: f64 = 10.0;
/// Dead letters that an outlet keeps at most. When there are as many, it waits.
pub const MOST_DEAD_LETTERS: u64 = 10_000;
/// Megabytes of one file, if no number is given.
pub const FILE_MB: u32 = 64;
/// Megabytes of an outlet's folder, if no number is given.
pub const FOLDER_MB: u32 = 1_024;

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

/// Which messages somebody takes.
#[derive(Debug, Clone, Copy, Default)]
pub struct Choice<'a> {
    /// Of this fleet.
    pub fleet: Option<&'a str>,
    /// Short names that the fleet has had before: messages keep the one of their time.
    pub former: &'a [String],
    /// Of these types; of all if there are none.
    pub types: &'a [MessageType],
    /// Of devices with this tag.
    pub tag: Option<&'a str>,
    /// Of devices of this model.
    pub model: Option<&'a str>,
}

impl<'a> Choice<'a> {
    /// What an outlet takes.
    pub fn of(settings: &'a OutletSettings, former: &'a [String]) -> Self {
        let OutletSettings { fleet, types, tag, model, .. } = settings;
        Self { fleet: fleet.as_deref(), former, types, tag: tag.as_deref(), model: model.as_deref() }
    }

    /// Whether a message is one of them; `tagged` says which devices have the tag.
    pub fn takes(&self, message: &Message, tagged: impl FnOnce(Eui64) -> bool) -> bool {
        let Some(kind) = type_of(message) else { return false };
        let of_type = self.types.is_empty() || self.types.contains(&kind);
        let is_own = |of: &String| self.fleet == Some(of) || self.former.contains(of);
        let of_fleet = self.fleet.is_none() || message.fleet.as_ref().is_some_and(is_own);
        let device = message.device.as_ref();
        let of_model = self.model.is_none_or(|model| device.is_some_and(|d| d.model.as_deref() == Some(model)));
        of_type && of_fleet && of_model && (self.tag.is_none() || device.is_some_and(|device| tagged(device.eui)))
    }
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
            Choice::of(&settings, &["shore".into()]).takes(&message, |eui| eui.0 == 0x02b0_0900_0000_0001)
        };
        assert!(of(|_| {}));
        assert!(of(|s| s.fleet = Some("tide".into())) && !of(|s| s.fleet = Some("grazing".into())));
        assert!(of(|s| s.types = vec![MessageType::Join, MessageType::Notice]));
        assert!(!of(|s| s.types = vec![MessageType::Uplink]));
        assert!(of(|s| s.model = Some("gauge".into())) && !of(|s| s.model = Some("collar".into())));
        assert!(of(|s| s.tag = Some("north".into())));
        let tagged = OutletSettings { tag: Some("north".into()), ..settings() };
        assert!(!Choice::of(&tagged, &[]).takes(&message, |_| false));
    }

    #[test]
    fn a_message_from_before_its_fleet_had_another_name_is_of_that_fleet() {
        let settings = OutletSettings { fleet: Some("tide-and-sluice".into()), ..settings() };
        assert!(Choice::of(&settings, &["tide".into()]).takes(&notice("tide", "gauge"), |_| true));
        assert!(!Choice::of(&settings, &[]).takes(&notice("tide", "gauge"), |_| true));
    }
}
