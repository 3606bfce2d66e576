//! The channel plan a gateway is given (section "Router configuration").

use lorawan::class_b::Beacon;
use lorawan::region::{Plan, Region, Use};
use lorawan::{Bandwidth, Modulation};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};

use crate::layout::{Chain, Layout, MULTI_RATE_CHAINS};

/// Data rates a plan can have.
const DATA_RATES: usize = 16;
/// A data rate that is not there, or that no gateway of this protocol knows.
const NO_DATA_RATE: (i8, u32, u8) = (-1, 0, 0);

/// What a gateway is told when it has introduced itself.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RouterConfig {
    /// Networks whose frames are forwarded; none means all, so that coverage is seen of every device.
    #[serde(rename = "NetID")]
    pub networks: Option<Vec<u32>>,
    /// Ranges of JoinEUIs whose requests are forwarded; none means all.
    #[serde(rename = "JoinEui")]
    pub join_euis: Option<Vec<(u64, u64)>>,
    /// Whose limits the gateway keeps.
    pub region: String,
    /// The form of `sx1301_conf`, and for how many concentrators it is.
    pub hwspec: String,
    /// The lowest and the highest frequency it may send on, in hertz.
    pub freq_range: (u32, u32),
    /// Spreading factor (0 for FSK, -1 for none), bandwidth in kHz, and whether it is for downlinks only.
    #[serde(rename = "DRs")]
    pub data_rates: Vec<(i8, u32, u8)>,
    /// The concentrators' settings.
    pub sx1301_conf: Vec<Value>,
    /// The beacons it is to send by itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bcning: Option<Beaconing>,
    /// The service's UTC, in seconds.
    #[serde(rename = "MuxTime", default, skip_serializing_if = "Option::is_none")]
    pub time_s: Option<f64>,
}

/// Class B beacons, which these gateways make and send by themselves as long as they have GPS time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Beaconing {
    /// Data rate.
    #[serde(rename = "DR")]
    pub data_rate: u8,
    /// Where the time begins, where the gateway's part begins, and how long a beacon is, in bytes.
    pub layout: [usize; 3],
    /// The frequencies, hopped over in turn, in hertz.
    pub freqs: Vec<u32>,
}

impl Beaconing {
    fn of(plan: &Plan) -> Option<Self> {
        let beacon = plan.class_b.beacon;
        let Modulation::Lora { spreading_factor, .. } = plan.data_rate(beacon.max_data_rate)?.modulation else {
            return None;
        };
        let length = Beacon::len_at(spreading_factor.value())?;
        let (time_at, own_at) = Beacon::parts_at(spreading_factor.value())?;
        let freqs = (0..beacon.count).map(|n| beacon.hz(n)).collect();
        Some(Self { data_rate: beacon.max_data_rate, layout: [time_at, own_at, length], freqs })
    }
}

/// A region's name in this protocol.
pub fn region_name(region: Region) -> &'static str {
    match region {
        Region::Eu868 => "EU863",
        Region::Us915 => "US902",
        other => other.name(),
    }
}

impl RouterConfig {
    /// For a gateway whose concentrator is set to a layout of a plan's channels.
    pub fn new(plan: &'static Plan, layout: &Layout, beacons: bool) -> Self {
        Self {
            networks: None,
            join_euis: None,
            region: region_name(plan.region).into(),
            hwspec: "sx1301/1".into(),
            freq_range: plan.band_hz,
            data_rates: (0..DATA_RATES as u8).map(|index| data_rate(plan, index)).collect(),
            sx1301_conf: vec![concentrator(layout)],
            bcning: beacons.then(|| Beaconing::of(plan)).flatten(),
            time_s: None,
        }
    }

    /// The frequencies its concentrators listen on, in hertz.
    pub fn listens_on_hz(&self) -> Vec<u32> {
        let mut all = Vec::new();
        for board in &self.sx1301_conf {
            let Some(settings) = board.as_object() else { continue };
            for (name, chain) in settings.iter().filter(|(name, _)| name.starts_with("chan_")) {
                let radio = chain["radio"].as_u64().and_then(|radio| settings.get(&format!("radio_{radio}")));
                if let (Some(offset), Some(centre)) = (chain["if"].as_i64(), radio.and_then(|r| r["freq"].as_i64()))
                    && chain["enable"].as_bool() == Some(true)
                {
                    // The same channel may be received at one more bandwidth.
                    let hz = u32::try_from(centre + offset).unwrap_or(0);
                    if hz > 0 && !(name == "chan_FSK" && all.contains(&hz)) {
                        all.push(hz);
                    }
                }
            }
        }
        all.sort_unstable();
        all.dedup();
        all
    }

    /// The modulation of one of its data rates.
    pub fn modulation(&self, index: u8) -> Option<Modulation> {
        match *self.data_rates.get(usize::from(index))? {
            (0, ..) => Some(Modulation::Fsk { bit_rate_bps: 50_000 }),
            (sf, khz, _) => Modulation::lora(u8::try_from(sf).ok()?, khz),
        }
    }
}

fn data_rate(plan: &Plan, index: u8) -> (i8, u32, u8) {
    let Some(rate) = plan.data_rate(index) else { return NO_DATA_RATE };
    let down_only = u8::from(rate.direction == Use::Down);
    match rate.modulation {
        Modulation::Lora { spreading_factor, bandwidth } => {
            (spreading_factor.value().cast_signed(), bandwidth.khz(), down_only)
        }
        Modulation::Fsk { .. } => (0, 0, down_only),
        Modulation::LrFhss { .. } => NO_DATA_RATE,
    }
}

/// A concentrator's settings in the form of `sx1301_conf`.
fn concentrator(layout: &Layout) -> Value {
    let mut out = Map::new();
    for (n, hz) in layout.radios_hz.iter().enumerate() {
        out.insert(format!("radio_{n}"), json!({ "enable": hz.is_some(), "freq": hz.unwrap_or(0) }));
    }
    let on = |chain: &Chain| json!({ "enable": true, "radio": chain.radio, "if": chain.offset_hz });
    let off = json!({ "enable": false });
    for n in 0..MULTI_RATE_CHAINS {
        out.insert(format!("chan_multiSF_{n}"), layout.multi_rate.get(n).map_or_else(|| off.clone(), on));
    }
    let standard = layout.standard.as_ref().map(|standard| {
        let mut chain = on(&standard.chain);
        chain["bandwidth"] = json!(standard.bandwidth.hz());
        chain["spread_factor"] = json!(standard.spreading_factor);
        chain
    });
    out.insert("chan_Lora_std".into(), standard.unwrap_or_else(|| off.clone()));
    let fsk = layout.fsk.as_ref().map(|chain| {
        let mut chain = on(chain);
        chain["bandwidth"] = json!(Bandwidth::Khz125.hz());
        chain["datarate"] = json!(50_000);
        chain
    });
    out.insert("chan_FSK".into(), fsk.unwrap_or(off));
    Value::Object(out)
}

#[cfg(test)]
mod tests {
    use lorawan::region::Region;

    use super::*;
    use crate::lns::ToGateway;

    fn config(region: Region, channels: &str, beacons: bool) -> RouterConfig {
        let plan = region.plan();
        RouterConfig::new(plan, &Layout::new(plan, channels.parse().unwrap()).unwrap(), beacons)
    }

    #[test]
    fn europe_in_the_protocols_words() {
        let config = config(Region::Eu868, "0-7", true);
        let text = ToGateway::Config(Box::new(config.clone())).emit();
        let json: Value = serde_json::from_str(&text).unwrap();
        assert_eq!(json["msgtype"], "router_config");
        assert_eq!((&json["region"], &json["freq_range"]), (&json!("EU863"), &json!([863_000_000, 870_000_000])));
        assert_eq!(json["DRs"][0], json!([12, 125, 0]));
        assert_eq!(json["DRs"][7], json!([0, 0, 0]), "FSK");
        assert_eq!(json["DRs"][8], json!([-1, 0, 0]), "LR-FHSS is not this protocol's");
        assert_eq!(json["DRs"].as_array().unwrap().len(), 16);
        let board = &json["sx1301_conf"][0];
        assert_eq!(board["radio_0"], json!({ "enable": true, "freq": 867_500_000 }));
        assert_eq!(board["chan_multiSF_0"], json!({ "enable": true, "radio": 0, "if": -400_000 }));
        assert_eq!(board["chan_Lora_std"], json!({ "enable": false }));
        // TS001-1.1 §15.2 at SF9: RFU 1, param 1, time 4, CRC 2, gateway 7, CRC 2.
        assert_eq!(json["bcning"], json!({ "DR": 3, "layout": [2, 8, 17], "freqs": [869_525_000] }));
        assert_eq!(config.listens_on_hz().first(), Some(&867_100_000));
        assert_eq!(config.listens_on_hz().len(), 8);
        assert_eq!(ToGateway::parse(&text), Ok(ToGateway::Config(Box::new(config))));
    }

    #[test]
    fn america_has_data_rates_for_downlinks_only_and_a_wide_channel() {
        let config = config(Region::Us915, "8-15, 65", false);
        assert_eq!((config.region.as_str(), config.bcning.is_none()), ("US902", true));
        assert_eq!(config.data_rates[0], (10, 125, 0));
        assert_eq!(config.data_rates[8], (12, 500, 1));
        assert_eq!(config.data_rates[14], NO_DATA_RATE);
        assert_eq!(config.modulation(13), Modulation::lora(7, 500));
        assert_eq!(config.modulation(14), None);
        let wide = &config.sx1301_conf[0]["chan_Lora_std"];
        assert_eq!((&wide["bandwidth"], &wide["spread_factor"]), (&json!(500_000), &json!(8)));
        assert!(config.listens_on_hz().contains(&904_600_000));
    }

    #[test]
    fn every_plan_has_beacons_of_whole_symbols() {
        for region in Region::ALL {
            let beaconing = Beaconing::of(region.plan()).unwrap();
            let [time_at, own_at, length] = beaconing.layout;
            assert!(time_at + 4 + 2 == own_at && own_at + 7 + 2 <= length, "{region} {beaconing:?}");
        }
    }
}
