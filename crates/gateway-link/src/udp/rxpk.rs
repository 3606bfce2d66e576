//! A received frame (§4, `rxpk`).

use lorawan::Modulation;
use serde::{Deserialize, Serialize};
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
    /// `ftime`: fine time stamp, nanoseconds since the last second of GPS time.
    pub fine_time_ns: Option<u32>,
    /// `foff`: how far the sender is off its channel, in hertz.
    pub frequency_offset_hz: Option<i32>,
    /// `rssis`: strength of the signal alone, in dBm.
    pub signal_rssi_dbm: Option<f64>,
    /// `rsig`: the same frame by each antenna, where there are several. What is not told of the whole frame is that of
    /// the antenna that heard it best.
    pub antennas: Vec<AntennaSignal>,
    /// `data`: the frame.
    pub phy_payload: Vec<u8>,
}

/// A frame as one of several antennas heard it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct AntennaSignal {
    /// `ant`: which antenna.
    #[serde(rename = "ant")]
    pub antenna: u8,
    /// `chan`: the concentrator's channel.
    #[serde(rename = "chan", default, skip_serializing_if = "Option::is_none")]
    pub channel: Option<u32>,
    /// `rssic`: strength in the channel, in dBm.
    #[serde(rename = "rssic")]
    pub rssi_dbm: f64,
    /// `rssis`: strength of the signal alone, in dBm.
    #[serde(rename = "rssis", default, skip_serializing_if = "Option::is_none")]
    pub signal_rssi_dbm: Option<f64>,
    /// `lsnr`, in dB; absent for FSK.
    #[serde(rename = "lsnr", default, skip_serializing_if = "Option::is_none")]
    pub snr_db: Option<f64>,
    /// `ftime`: fine time stamp, nanoseconds since the last second of GPS time.
    #[serde(rename = "ftime", default, skip_serializing_if = "Option::is_none")]
    pub fine_time_ns: Option<u32>,
    /// `foff`: how far the sender is off its channel, in hertz.
    #[serde(rename = "foff", default, skip_serializing_if = "Option::is_none")]
    pub frequency_offset_hz: Option<i32>,
}

/// Antennas looked at; there are no gateways with more.
pub(crate) const MAX_ANTENNAS: usize = 16;
/// Nanoseconds of a second.
pub(crate) const SECOND_NS: u32 = 1_000_000_000;

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
            fine_time_ns: None,
            frequency_offset_hz: None,
            signal_rssi_dbm: None,
            antennas: Vec::new(),
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
    rssi: Option<f64>,
    lsnr: Option<f64>,
    rssis: Option<f64>,
    ftime: Option<u32>,
    foff: Option<i32>,
    #[serde(default)]
    rsig: Vec<AntennaSignal>,
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
        if f.rsig.len() > MAX_ANTENNAS {
            return Err(format!("rsig names {} antennas, at most {MAX_ANTENNAS} are read", f.rsig.len()));
        }
        let fine = f.rsig.iter().filter_map(|antenna| antenna.fine_time_ns).chain(f.ftime).find(|ns| *ns >= SECOND_NS);
        if let Some(ns) = fine {
            return Err(format!("ftime {ns} is more than a second of nanoseconds"));
        }
        let heard_well = |a: &AntennaSignal| a.snr_db.unwrap_or(a.rssi_dbm);
        let best = f.rsig.iter().max_by(|a, b| heard_well(a).total_cmp(&heard_well(b)));
        let rssi_dbm = f.rssi.or(best.map(|antenna| antenna.rssi_dbm));
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
            rssi_dbm: rssi_dbm.ok_or("neither rssi nor rsig says how strong it was")?,
            snr_db: f.lsnr.or(best.and_then(|antenna| antenna.snr_db)),
            signal_rssi_dbm: f.rssis.or(best.and_then(|antenna| antenna.signal_rssi_dbm)),
            fine_time_ns: f.ftime.or(best.and_then(|antenna| antenna.fine_time_ns)),
            frequency_offset_hz: f.foff.or(best.and_then(|antenna| antenna.frequency_offset_hz)),
            channel: f.chan.or(best.and_then(|antenna| antenna.channel)),
            rf_chain: f.rfch,
            time: f.time,
            gps_time_ms: f.tmms,
            antennas: f.rsig,
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
            ("ftime", self.fine_time_ns.map(|v| json!(v))),
            ("foff", self.frequency_offset_hz.map(|v| json!(v))),
            ("rssis", self.signal_rssi_dbm.map(|v| json!(v))),
            ("rsig", (!self.antennas.is_empty()).then(|| json!(self.antennas))),
        ] {
            if let Some(value) = value {
                out[name] = value;
            }
        }
        out
    }
}
