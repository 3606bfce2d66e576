//! The code on a device's label: the LoRa Alliance's device identification (TR005, "LoRaWAN Device Identification QR
//! Codes"), as pasted text or as a hand-held scanner types it.

use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The content of a label (TR005 §2, schema D0).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Label {
    /// JoinEUI.
    #[schema(value_type = String)]
    pub join_eui: Eui64,
    /// DevEUI.
    #[schema(value_type = String)]
    pub dev_eui: Eui64,
    /// The maker: the LoRa Alliance's VendorID.
    pub vendor_id: u16,
    /// The vendor's number for the type of device.
    pub vendor_profile_id: u16,
    /// The owner token, which shows its owner.
    pub owner_token: Option<String>,
    /// Its serial number.
    pub serial_number: Option<String>,
    /// The vendor's own text.
    pub proprietary: Option<String>,
}

/// The code that was found in a photo.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LabelInPhoto {
    /// The code's text.
    #[schema(example = "LW:D0:02AA000000000001:02BB00000000002A:FB010002")]
    pub code: String,
    /// Its fields.
    pub label: Label,
}
