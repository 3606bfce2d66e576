//! Registering devices.

use std::collections::BTreeMap;

use lorawan::region::Region;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::device::place::Place;
use crate::radio::settings::RadioSettings;

use crate::secret::Secret;

/// A device to register.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NewDevice {
    /// The code on its label (TR005), as pasted or typed by a scanner. It gives DevEUI and JoinEUI, and the serial
    /// number for a description if there is none.
    #[serde(default)]
    #[schema(example = "LW:D0:02AA000000000001:02BB00000000002A:00000000")]
    pub label: Option<String>,
    /// Its DevEUI, in any pasted form, as written (most significant byte first); not needed beside a label.
    #[serde(default)]
    #[schema(example = "02bb00000000002a")]
    pub dev_eui: String,
    /// Its JoinEUI (AppEUI), likewise. A personalized device needs none.
    #[serde(default)]
    #[schema(example = "02aa000000000001")]
    pub join_eui: String,
    /// Its AppKey, 32 hex digits; `generate` makes one up, `fleet` takes the fleet's default key. A personalized device
    /// has none.
    #[serde(default)]
    pub app_key: Option<Secret>,
    /// Its NwkKey, if it speaks 1.1; or `generate`.
    #[serde(default)]
    pub nwk_key: Option<Secret>,
    /// Its fixed session, if it is activated by personalization (ABP).
    #[serde(default)]
    pub personal: Option<PersonalSession>,
    /// The session it has already, if it comes from another network server and is to go on without joining again.
    #[serde(default)]
    pub session: Option<PersonalSession>,
    /// The counters of that session, or of its fixed one.
    #[serde(default)]
    pub counters: Option<RunningCounters>,
    /// Where it is used; where its profile is for, or EU868 if not given.
    #[serde(default)]
    #[schema(value_type = Option<String>, example = "EU868")]
    pub region: Option<Region>,
    /// The short name of its radio profile.
    #[serde(default)]
    pub profile: Option<String>,
    /// Its own radio and MAC; what is left out follows its profile, then its model, then the region.
    #[serde(default)]
    pub radio: RadioSettings,
    /// Its name; the DevEUI if not given.
    #[serde(default)]
    #[schema(max_length = 80, example = "sluice-07")]
    pub name: String,
    /// The short name of its fleet.
    #[schema(example = "tide-and-sluice")]
    pub fleet: String,
    /// The short name of its model.
    #[serde(default)]
    pub model: Option<String>,
    /// What else is to be known of it, at most 500 characters.
    #[serde(default)]
    #[schema(max_length = 500)]
    pub description: String,
    /// Version of its hardware.
    #[serde(default)]
    #[schema(max_length = 40)]
    pub hardware: Option<String>,
    /// Version of its firmware.
    #[serde(default)]
    #[schema(max_length = 40)]
    pub firmware: Option<String>,
    /// Where it is.
    #[serde(default)]
    pub place: Option<Place>,
    /// What else is known of it, by name: up to 30 texts of at most 200 characters.
    #[serde(default)]
    #[schema(example = json!({ "owner": "harbour office" }))]
    pub attributes: BTreeMap<String, String>,
    /// Words to find it by, 20 at most: letters, digits and dashes, stored in lower case.
    #[serde(default)]
    pub tags: Vec<String>,
}

/// Counters of a session that goes on here.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RunningCounters {
    /// Last FCntUp that was accepted; none if no uplink was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_counter_up: Option<u32>,
    /// Next FCntDown; in 1.1 that of frames without application payload.
    #[serde(default)]
    pub next_counter_down: u32,
    /// Next AFCntDown, in 1.1 only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next_app_counter_down: Option<u32>,
    /// DevNonce of its last join: it is not accepted again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0, maximum = 65_535)]
    pub last_dev_nonce: Option<u16>,
    /// JoinNonce for its next join; 1 if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0, maximum = 16_777_215)]
    pub next_join_nonce: Option<u32>,
}

/// The session of a device that is activated by personalization.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PersonalSession {
    /// Its address, 8 hex digits; `generate` takes a free one of the network's own block.
    #[schema(example = "01ab23cd")]
    pub dev_addr: String,
    /// AppSKey, or `generate`.
    pub app_s_key: Secret,
    /// NwkSKey of 1.0.x; FNwkSIntKey of 1.1; or `generate`.
    pub nwk_s_key: Secret,
    /// SNwkSIntKey of 1.1, or `generate`; the NwkSKey if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub s_nwk_s_int_key: Option<Secret>,
    /// NwkSEncKey of 1.1, or `generate`; the NwkSKey if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub nwk_s_enc_key: Option<Secret>,
}
