//! What a gateway says: the frames it heard and how it does.

use lorawan::Modulation;
use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;

use super::{MAX_PAYLOAD, PayloadError, modulation, read};
use crate::udp::{AntennaSignal, GatewayStatus, MAX_ANTENNAS, MAX_RXPK, PushData, RxPacket, SECOND_NS};

/// The frequencies that a gateway may name.
pub(super) const FREQUENCIES_HZ: std::ops::Range<u32> = 1_000_000..4_000_000_000;

/// A frame heard.
#[derive(Serialize, Deserialize)]
#[serde(remote = "RxPacket")]
struct Frame {
    clock_us: u32,
    frequency_hz: u32,
    #[serde(with = "modulation")]
    modulation: Modulation,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    coding_rate: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    crc_ok: Option<bool>,
    rssi_dbm: f64,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    snr_db: Option<f64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    channel: Option<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    rf_chain: Option<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    time: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    gps_time_ms: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    fine_time_ns: Option<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    frequency_offset_hz: Option<i32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    signal_rssi_dbm: Option<f64>,
    #[serde(default, skip_serializing_if = "Vec::is_empty", with = "antennas")]
    antennas: Vec<AntennaSignal>,
    #[serde(with = "modulation::hex")]
    phy_payload: Vec<u8>,
}

/// The same frame by one of several antennas.
#[derive(Serialize, Deserialize)]
#[serde(remote = "AntennaSignal")]
struct Antenna {
    antenna: u8,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    channel: Option<u32>,
    rssi_dbm: f64,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    signal_rssi_dbm: Option<f64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    snr_db: Option<f64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    fine_time_ns: Option<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    frequency_offset_hz: Option<i32>,
}

mod antennas {
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    use super::{Antenna, AntennaSignal};

    #[derive(Serialize, Deserialize)]
    struct One(#[serde(with = "Antenna")] AntennaSignal);

    pub(super) fn serialize<S: Serializer>(all: &[AntennaSignal], to: S) -> Result<S::Ok, S::Error> {
        to.collect_seq(all.iter().copied().map(One))
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Vec<AntennaSignal>, D::Error> {
        Ok(Vec::<One>::deserialize(from)?.into_iter().map(|one| one.0).collect())
    }
}

/// The gateway's report on itself.
#[derive(Serialize, Deserialize)]
#[serde(remote = "GatewayStatus")]
struct Status {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    time: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    latitude_deg: Option<f64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    longitude_deg: Option<f64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    altitude_m: Option<f64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    received: Option<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    received_ok: Option<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    forwarded: Option<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    acknowledged_percent: Option<f64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    downlinks_received: Option<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    sent: Option<u32>,
}

#[derive(Serialize, Deserialize)]
struct Heard(#[serde(with = "Frame")] RxPacket);

#[derive(Serialize, Deserialize)]
struct Report(#[serde(with = "Status")] GatewayStatus);

/// The payload: each entry is read by itself, so that a bad one does not cost the others.
#[derive(Default, Serialize, Deserialize)]
struct Body<'a> {
    #[serde(default, borrow, skip_serializing_if = "Vec::is_empty")]
    frames: Vec<&'a RawValue>,
    #[serde(default, borrow, skip_serializing_if = "Option::is_none")]
    status: Option<&'a RawValue>,
    /// What an agent could not read of what its gateway said.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    unreadable: Vec<String>,
}

fn frame(entry: &str) -> Result<RxPacket, String> {
    let Heard(frame) = serde_json::from_str(entry).map_err(|why| why.to_string())?;
    if !FREQUENCIES_HZ.contains(&frame.frequency_hz) {
        return Err(format!("frequency_hz: {} is not a frequency of a gateway", frame.frequency_hz));
    }
    if frame.antennas.len() > MAX_ANTENNAS {
        return Err(format!("antennas: {} are named, at most {MAX_ANTENNAS} are read", frame.antennas.len()));
    }
    let times = frame.antennas.iter().filter_map(|antenna| antenna.fine_time_ns).chain(frame.fine_time_ns);
    match times.into_iter().find(|ns| *ns >= SECOND_NS) {
        Some(ns) => Err(format!("fine_time_ns: {ns} is more than a second")),
        None => Ok(frame),
    }
}

/// Reads what stands in `up`; one bad entry does not cost the others.
///
/// # Errors
/// The payload is too long, or no JSON object of this shape.
pub fn read_up(payload: &[u8]) -> Result<PushData, PayloadError> {
    let body: Body<'_> = read(payload)?;
    let mut push = PushData { unreadable: body.unreadable, ..PushData::default() };
    push.unreadable.truncate(MAX_RXPK);
    for (n, entry) in body.frames.into_iter().enumerate() {
        if n == MAX_RXPK {
            push.unreadable.push(format!("frames: entries after the first {MAX_RXPK} are not read"));
            break;
        }
        match frame(entry.get()) {
            Ok(frame) => push.frames.push(frame),
            Err(why) => push.unreadable.push(format!("frames[{n}]: {why}")),
        }
    }
    match body.status.map(|status| serde_json::from_str(status.get())) {
        Some(Ok(Report(status))) => push.status = Some(status),
        Some(Err(why)) => push.unreadable.push(format!("status: {why}")),
        None => {}
    }
    Ok(push)
}

/// Room for the names around the entries.
const AROUND: usize = 100;

/// Writes payloads for `up`: as many as are needed so that none is longer than [`MAX_PAYLOAD`]. What does not fit into one
/// by itself is named in `unreadable`.
pub fn write_up(push: PushData) -> Vec<Vec<u8>> {
    let room = MAX_PAYLOAD - AROUND;
    let mut unreadable: Vec<String> = push.unreadable.iter().map(|why| why.chars().take(200).collect()).collect();
    unreadable.truncate(MAX_RXPK / 4);
    let mut entries = Vec::new();
    for packet in push.frames {
        let length = packet.phy_payload.len();
        match serde_json::value::to_raw_value(&Heard(packet)) {
            Ok(entry) if entry.get().len() <= room => entries.push(entry),
            _ => unreadable.push(format!("frames: one of {length} bytes is too long to be carried")),
        }
    }
    unreadable.truncate(MAX_RXPK / 4);
    let status = push.status.and_then(|status| serde_json::value::to_raw_value(&Report(status)).ok());
    let status = status.filter(|status| status.get().len() <= room);
    let mut payloads = Vec::new();
    if status.is_some() || !unreadable.is_empty() {
        payloads.push(super::write(&Body { status: status.as_deref(), unreadable, ..Body::default() }));
    }
    let mut begun: (Vec<&RawValue>, usize) = (Vec::new(), 0);
    for entry in &entries {
        if begun.1 + entry.get().len() + 1 > room {
            payloads.push(super::write(&Body { frames: std::mem::take(&mut begun.0), ..Body::default() }));
            begun.1 = 0;
        }
        begun.1 += entry.get().len() + 1;
        begun.0.push(entry);
    }
    if !begun.0.is_empty() {
        payloads.push(super::write(&Body { frames: begun.0, ..Body::default() }));
    }
    payloads
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn heard(clock_us: u32, len: usize) -> RxPacket {
        let lora = Modulation::lora(7, 125).unwrap();
        RxPacket::lora(clock_us, 868_100_000, lora, (-80.0, 9.0), vec![0xab; len])
    }

    #[test]
    fn a_frame_is_written_in_our_own_words() {
        let text = br#"{"frames":[{"clock_us":1,"frequency_hz":868100000,
            "modulation":{"lora":{"spreading_factor":7,"bandwidth_khz":125}},"coding_rate":"4/5","crc_ok":true,
            "rssi_dbm":-80.0,"snr_db":9.0,"phy_payload":"abab"},7],
            "status":{"received":3,"latitude_deg":54.7}}"#;
        let push = read_up(text).unwrap();
        assert_eq!(push.frames, [heard(1, 2)]);
        assert_eq!(push.status.clone().unwrap().received, Some(3));
        assert!(push.unreadable[0].starts_with("frames[1]: "), "{:?}", push.unreadable);
        let [first, second] = &write_up(push)[..] else { panic!("the report, and the frame") };
        assert!(first.starts_with(br#"{"status":{"latitude_deg":54.7,"received":3},"unreadable":["frames[1]: "#));
        assert_eq!(read_up(second).unwrap().frames, [heard(1, 2)]);
    }

    #[test]
    fn what_no_gateway_can_mean_is_refused_by_name() {
        let frame = |more: &str| {
            let text = format!(
                r#"{{"frames":[{{"clock_us":1,"frequency_hz":868100000,"rssi_dbm":-80,"phy_payload":"ab",
                "modulation":{{"lora":{{"spreading_factor":7,"bandwidth_khz":125}}}}{more}}}]}}"#
            );
            let push = read_up(text.as_bytes()).unwrap();
            push.unreadable.first().cloned().unwrap_or_default()
        };
        assert_eq!(frame(""), "");
        assert!(frame(r#","fine_time_ns":1000000000"#).contains("more than a second"));
        let twenty = format!(r#","antennas":[{}]"#, vec![r#"{"antenna":1,"rssi_dbm":-80}"#; 20].join(","));
        assert!(frame(&twenty).contains("at most 16"));
        let read = |text: &str| read_up(text.as_bytes()).unwrap().unreadable.remove(0);
        let wrong = |modulation: &str| {
            read(&format!(
                r#"{{"frames":[{{"clock_us":1,"frequency_hz":5,"modulation":{modulation},"rssi_dbm":1,"phy_payload":"xy"}}]}}"#
            ))
        };
        assert!(wrong(r#"{"lora":{"spreading_factor":4,"bandwidth_khz":125}}"#).contains("SF4 in 125 kHz is not LoRa"));
        assert!(wrong(r#"{"fsk":{"bit_rate_bps":0}}"#).contains("no bit rate"));
        assert!(wrong(r#"{"fsk":{"bit_rate_bps":50000}}"#).contains("phy_payload"));
    }

    #[test]
    fn many_frames_are_spread_over_payloads_that_are_short_enough() {
        let mut frames: Vec<RxPacket> = (0..64).map(|n| heard(n, 255)).collect();
        frames[5].time = Some("x".repeat(MAX_PAYLOAD));
        let payloads = write_up(PushData { frames, ..PushData::default() });
        assert!(payloads.len() > 2 && payloads.iter().all(|payload| payload.len() <= MAX_PAYLOAD));
        let read: Vec<PushData> = payloads.iter().map(|payload| read_up(payload).unwrap()).collect();
        let clocks = read.iter().flat_map(|push| &push.frames).map(|frame| frame.clock_us);
        assert_eq!(clocks.collect::<Vec<_>>(), (0..64).filter(|n| *n != 5).collect::<Vec<_>>());
        assert!(read[0].unreadable[0].contains("255 bytes is too long"), "{:?}", read[0].unreadable);
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_back(clock_us: u32, fine_time_ns in prop::option::of(0u32..SECOND_NS),
            crc_ok: Option<bool>, snr in prop::option::of(-30i8..30), antennas in 0usize..4,
            payload in prop::collection::vec(any::<u8>(), 0..255)) {
            let signal = |n: usize| AntennaSignal { antenna: n as u8, channel: None, rssi_dbm: -80.5, signal_rssi_dbm: None,
                snr_db: snr.map(f64::from), fine_time_ns, frequency_offset_hz: Some(-12) };
            let frame = RxPacket { crc_ok, fine_time_ns, snr_db: snr.map(f64::from), phy_payload: payload,
                antennas: (0..antennas).map(signal).collect(), ..heard(clock_us, 0) };
            let push = PushData { frames: vec![frame], ..PushData::default() };
            prop_assert_eq!(read_up(&write_up(push.clone())[0]), Ok(push));
        }

        #[test]
        fn no_payload_makes_it_panic(payload in prop::collection::vec(any::<u8>(), 0..200)) {
            let _ = read_up(&payload);
        }
    }
}
