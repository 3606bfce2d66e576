//! How a registration was understood.

use lorawan::region::Region;
use lorawan::{Eui64, MacVersion};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::device::DeviceDetail;
use crate::radio::settings::Class;

/// What a registration would come to, or has come to: how each value was understood, and what gives pause.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ReadBack {
    /// The DevEUI in its canonical form.
    #[schema(value_type = String)]
    pub dev_eui: Eui64,
    /// The JoinEUI in its canonical form. A personalized device needs none.
    #[schema(value_type = Option<String>)]
    pub join_eui: Option<Eui64>,
    /// Its name.
    pub name: String,
    /// Its fleet.
    pub fleet: String,
    /// Its model.
    pub model: Option<String>,
    /// Its radio profile.
    pub profile: Option<String>,
    /// Where it is used.
    #[schema(value_type = String)]
    pub region: Region,
    /// Version of its link layer.
    #[schema(value_type = String, example = "1.0.3")]
    pub mac_version: MacVersion,
    /// When it listens.
    pub class: Class,
    /// Whether it joins, or is activated by personalization.
    pub joins: bool,
    /// What could be a mistake, though it is allowed.
    pub warnings: Vec<String>,
}

/// A device that has been registered.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Registered {
    /// The device.
    #[serde(flatten)]
    pub device: DeviceDetail,
    /// What could be a mistake, though it is allowed.
    pub warnings: Vec<String>,
}
