//! A received frame (§4, `rxpk`).

use lorawan::Modulation;
use serde::Deserialize;
use serde_json::{Value, json};

use super::number;

/// A frame as one gateway heard it.
#[derive(Debug, Clone, PartialEq)]
pub struct RxPacket {
    /// `tmst`: the concentrator's clock when reception ended, in microseconds; it wraps.
    pub clock_us: u32,
    /// `freq`, in hertz.
    pub frequency_hz: u32,
    /// `modu` and `datr`.
    pub modulation: Modulation,
    /// `codr`, LoRa only, as written ("4/5").
    pub coding_rate: Option<String>,
    /// `stat`: whether the CRC was right; `None` where there was none.
    pub crc_ok: Option<bool>,
    /// `rssi`, in dBm.
    pub rssi_dbm: f64,
    /// `lsnr`, in dB; absent for FSK.
    pub snr_db: Option<f64>,
    /// `chan`: the concentrator's channel.
    pub channel: Option<u32>,
    /// `rfch`: the radio.
    pub rf_chain: Option<u32>,
    /// `time`: UTC of reception as the gateway has it, ISO 8601.
    pub time: Option<String>,
    /// `tmms`: milliseconds since the GPS epoch, where the gateway has GPS.
    pub gps_time_ms: Option<u64>,
    /// `data`: the frame.
    pub phy_payload: Vec<u8>,
}

impl RxPacket {
    /// A LoRa frame heard whole, by a gateway that tells no more than it has to.
    pub fn lora(
        clock_us: u32,
        frequency_hz: u32,
        modulation: Modulation,
        (rssi_dbm, snr_db): (f64, f64),
        phy_payload: Vec<u8>,
    ) -> Self {
        Self {
            clock_us,
            frequency_hz,
            modulation,
            coding_rate: Some("4/5".into()),
            crc_ok: Some(true),
            rssi_dbm,
            snr_db: Some(snr_db),
            channel: None,
            rf_chain: None,
            time: None,
            gps_time_ms: None,
            phy_payload,
        }
    }
}

#[derive(Deserialize)]
struct Fields {
    tmst: u32,
    freq: f64,
    modu: String,
    datr: Value,
    codr: Option<String>,
    stat: Option<i8>,
    rssi: f64,
    lsnr: Option<f64>,
    chan: Option<u32>,
    rfch: Option<u32>,
    time: Option<String>,
    tmms: Option<u64>,
    size: Option<usize>,
    data: String,
}

impl RxPacket {
    pub(super) fn from_json(entry: &str) -> Result<Self, String> {
        let f: Fields = serde_json::from_str(entry).map_err(|why| why.to_string())?;
        let phy_payload = number::decode_base64("data", &f.data)?;
        if let Some(size) = f.size
            && size != phy_payload.len()
        {
            return Err(format!("size says {size} bytes, data has {}", phy_payload.len()));
        }
        Ok(Self {
            clock_us: f.tmst,
            frequency_hz: number::hz_from_mhz(f.freq)?,
            modulation: number::modulation(&f.modu, &f.datr)?,
            coding_rate: f.codr,
            crc_ok: match f.stat {
                Some(1) => Some(true),
                Some(-1) => Some(false),
                _ => None,
            },
            rssi_dbm: f.rssi,
            snr_db: f.lsnr,
            channel: f.chan,
            rf_chain: f.rfch,
            time: f.time,
            gps_time_ms: f.tmms,
            phy_payload,
        })
    }

    pub(super) fn to_json(&self) -> Value {
        use base64::Engine as _;
        let mut out = json!({
            "tmst": self.clock_us,
            "freq": number::mhz(self.frequency_hz),
            "modu": number::modu(self.modulation),
            "datr": number::datr(self.modulation),
            "stat": self.crc_ok.map_or(0, |ok| if ok { 1 } else { -1 }),
            "rssi": self.rssi_dbm,
            "size": self.phy_payload.len(),
            "data": number::BASE64.encode(&self.phy_payload),
        });
        for (name, value) in [
            ("codr", self.coding_rate.as_ref().map(|v| json!(v))),
            ("lsnr", self.snr_db.map(|v| json!(v))),
            ("chan", self.channel.map(|v| json!(v))),
            ("rfch", self.rf_chain.map(|v| json!(v))),
            ("time", self.time.as_ref().map(|v| json!(v))),
            ("tmms", self.gps_time_ms.map(|v| json!(v))),
        ] {
            if let Some(value) = value {
                out[name] = value;
            }
        }
        out
    }
}
