//! How a modulation is written: `{"lora": {"spreading_factor": 7, "bandwidth_khz": 125}}`.

use lorawan::Modulation;
use lorawan::modulation::LrFhssCodingRate;
use serde::{Deserialize, Deserializer, Serialize, Serializer, de};

#[derive(Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum Written {
    Lora { spreading_factor: u8, bandwidth_khz: u32 },
    Fsk { bit_rate_bps: u32 },
    LrFhss { coding_rate: CodingRate, bandwidth_khz: u16 },
}

#[derive(Serialize, Deserialize)]
enum CodingRate {
    #[serde(rename = "1/3")]
    OneThird,
    #[serde(rename = "2/3")]
    TwoThirds,
}

pub(super) fn serialize<S: Serializer>(modulation: &Modulation, to: S) -> Result<S::Ok, S::Error> {
    let written = match *modulation {
        Modulation::Lora { spreading_factor, bandwidth } => {
            Written::Lora { spreading_factor: spreading_factor.value(), bandwidth_khz: bandwidth.khz() }
        }
        Modulation::Fsk { bit_rate_bps } => Written::Fsk { bit_rate_bps },
        Modulation::LrFhss { coding_rate, bandwidth_khz } => {
            let coding_rate = match coding_rate {
                LrFhssCodingRate::OneThird => CodingRate::OneThird,
                LrFhssCodingRate::TwoThirds => CodingRate::TwoThirds,
            };
            Written::LrFhss { coding_rate, bandwidth_khz }
        }
    };
    written.serialize(to)
}

pub(super) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Modulation, D::Error> {
    Ok(match Written::deserialize(from)? {
        Written::Lora { spreading_factor, bandwidth_khz } => Modulation::lora(spreading_factor, bandwidth_khz)
            .ok_or_else(|| {
                de::Error::custom(format!("modulation: SF{spreading_factor} in {bandwidth_khz} kHz is not LoRa"))
            })?,
        Written::Fsk { bit_rate_bps: 0 } => return Err(de::Error::custom("bit_rate_bps: 0 is no bit rate")),
        Written::Fsk { bit_rate_bps } => Modulation::Fsk { bit_rate_bps },
        Written::LrFhss { coding_rate, bandwidth_khz } => {
            let coding_rate = match coding_rate {
                CodingRate::OneThird => LrFhssCodingRate::OneThird,
                CodingRate::TwoThirds => LrFhssCodingRate::TwoThirds,
            };
            Modulation::LrFhss { coding_rate, bandwidth_khz }
        }
    })
}

/// A frame's bytes, in hex.
pub(super) mod hex {
    use super::{Deserialize, Deserializer, Serializer, de};

    pub(in crate::mqtt) fn serialize<S: Serializer>(bytes: &[u8], to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(&::hex::encode(bytes))
    }

    pub(in crate::mqtt) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Vec<u8>, D::Error> {
        let text = <std::borrow::Cow<'de, str>>::deserialize(from)?;
        ::hex::decode(text.as_ref()).map_err(|why| de::Error::custom(format!("phy_payload: {why}")))
    }
}
