//! The protocol's own notations for numbers: MHz with six digits, `SF7BW125`, base64.

use base64::Engine as _;
use base64::alphabet;
use base64::engine::{DecodePaddingMode, GeneralPurpose, GeneralPurposeConfig};
use lorawan::Modulation;
use lorawan::modulation::LrFhssCodingRate;
use serde_json::{Value, json};

/// Base64 whose padding may be left out by the sender (§4: "padding optional").
pub(super) const BASE64: GeneralPurpose = GeneralPurpose::new(
    &alphabet::STANDARD,
    GeneralPurposeConfig::new().with_decode_padding_mode(DecodePaddingMode::Indifferent),
);

pub(super) fn decode_base64(field: &str, text: &str) -> Result<Vec<u8>, String> {
    BASE64.decode(text).map_err(|why| format!("{field} is not base64: {why}"))
}

/// Hertz from a number of megahertz.
pub(super) fn hz_from_mhz(mhz: f64) -> Result<u32, String> {
    let hz = (mhz * 1e6).round();
    if (1e6..4e9).contains(&hz) { Ok(hz as u32) } else { Err(format!("freq {mhz} is not a frequency in MHz")) }
}

pub(super) fn mhz(hz: u32) -> f64 {
    f64::from(hz) / 1e6
}

/// The `datr` of a packet: text for LoRa, bits a second for FSK.
pub(super) fn datr(modulation: Modulation) -> Value {
    match modulation {
        Modulation::Fsk { bit_rate_bps } => json!(bit_rate_bps),
        Modulation::LrFhss { coding_rate, bandwidth_khz } => {
            let mode = match coding_rate {
                LrFhssCodingRate::OneThird => 0,
                LrFhssCodingRate::TwoThirds => 1,
            };
            json!(format!("M{mode}CW{bandwidth_khz}"))
        }
        Modulation::Lora { spreading_factor, bandwidth } => {
            json!(format!("SF{}BW{}", spreading_factor.value(), bandwidth.khz()))
        }
    }
}

pub(super) fn modu(modulation: Modulation) -> &'static str {
    match modulation {
        Modulation::Lora { .. } => "LORA",
        Modulation::Fsk { .. } => "FSK",
        Modulation::LrFhss { .. } => "LR-FHSS",
    }
}

/// The modulation that `modu` and `datr` name together.
pub(super) fn modulation(modu: &str, datr: &Value) -> Result<Modulation, String> {
    let wrong = || format!("datr {datr} is not a data rate of modulation {modu:?}");
    match (modu, datr) {
        ("LORA", Value::String(text)) => {
            let (sf, khz) = text.strip_prefix("SF").and_then(|rest| rest.split_once("BW")).ok_or_else(wrong)?;
            let (sf, khz) = (sf.parse().map_err(|_| wrong())?, khz.parse().map_err(|_| wrong())?);
            Modulation::lora(sf, khz).ok_or_else(wrong)
        }
        ("FSK", Value::Number(number)) => match number.as_u64().and_then(|n| u32::try_from(n).ok()) {
            Some(bit_rate_bps) if bit_rate_bps > 0 => Ok(Modulation::Fsk { bit_rate_bps }),
            _ => Err(wrong()),
        },
        ("LR-FHSS", Value::String(text)) => {
            let (mode, khz) = text.strip_prefix('M').and_then(|rest| rest.split_once("CW")).ok_or_else(wrong)?;
            let coding_rate = match mode {
                "0" => LrFhssCodingRate::OneThird,
                "1" => LrFhssCodingRate::TwoThirds,
                _ => return Err(wrong()),
            };
            Ok(Modulation::LrFhss { coding_rate, bandwidth_khz: khz.parse().map_err(|_| wrong())? })
        }
        ("LORA" | "FSK" | "LR-FHSS", _) => Err(wrong()),
        _ => Err(format!("modu {modu:?} is none of LORA, FSK and LR-FHSS")),
    }
}
