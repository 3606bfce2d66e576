//! The UDP protocol against datagrams in the form of its published text, and against anything.

#![allow(clippy::unwrap_used)] // a test program: a failed unwrap is a failed test

use gateway_link::udp::{
    AntennaSignal, Datagram, DatagramError, GatewayStatus, MAX_DATAGRAM, PushData, RxPacket, TxAckError, TxPacket,
    TxTime,
};
use lorawan::modulation::LrFhssCodingRate;
use lorawan::{Eui64, Modulation};
use proptest::prelude::*;

const GATEWAY: Eui64 = Eui64(0x0210_2030_4050_6070);

fn push(json: &str) -> Vec<u8> {
    let mut bytes = vec![2, 0x34, 0x12, 0];
    bytes.extend(GATEWAY.to_bytes());
    bytes.extend(json.as_bytes());
    bytes
}

fn parsed(json: &str) -> PushData {
    match Datagram::parse(&push(json)) {
        Ok(Datagram::PushData { token: 0x1234, gateway: GATEWAY, push }) => push,
        other => panic!("{other:?}"),
    }
}

#[test]
fn several_antennas_and_fine_times_are_read() {
    let read = parsed(
        r#"{"rxpk":[{"tmst":1,"freq":868.1,"modu":"LORA","datr":"SF7BW125","stat":1,"data":"q80=","rsig":[
            {"ant":0,"chan":2,"rssic":-101,"lsnr":-3.5,"ftime":17},
            {"ant":1,"chan":10,"rssic":-99,"rssis":-104,"lsnr":2.0,"ftime":999999999,"foff":-812}]},
          {"tmst":1,"freq":868.1,"modu":"LORA","datr":"SF7BW125","data":"q80=","rsig":[]},
          {"tmst":1,"freq":868.1,"modu":"LORA","datr":"SF7BW125","data":"q80=","rssi":-90,"ftime":1000000000}]}"#,
    );
    let frame = &read.frames[0];
    assert_eq!(
        (frame.antennas.len(), frame.rssi_dbm, frame.snr_db),
        (2, -99.0, Some(2.0)),
        "as the better one heard it"
    );
    assert_eq!((frame.fine_time_ns, frame.frequency_offset_hz), (Some(999_999_999), Some(-812)));
    assert_eq!((frame.signal_rssi_dbm, frame.channel), (Some(-104.0), Some(10)));
    assert_eq!(
        read.unreadable,
        [
            "rxpk[1]: neither rssi nor rsig says how strong it was",
            "rxpk[2]: ftime 1000000000 is more than a second of nanoseconds"
        ]
    );
    let many = vec![r#"{"ant":0,"rssic":-1}"#; 17].join(",");
    let read = parsed(&format!(
        r#"{{"rxpk":[{{"tmst":1,"freq":868.1,"modu":"FSK","datr":50000,"data":"","rsig":[{many}]}}]}}"#
    ));
    assert!(read.unreadable[0].contains("17 antennas"), "{:?}", read.unreadable);
}

#[test]
fn lora_and_fsk_frames_are_read() {
    let read = parsed(
        r#"{"rxpk":[
        {"time":"2026-05-04T09:12:33.481Z","tmst":3512348611,"chan":2,"rfch":0,"freq":866.349812,"stat":1,"modu":"LORA",
         "datr":"SF7BW125","codr":"4/6","rssi":-35,"lsnr":5.1,"size":3,"data":"Chss"},
        {"tmst":3512348514,"chan":9,"rfch":1,"freq":869.1,"stat":-1,"modu":"FSK","datr":50000,"rssi":-75,"size":2,"data":"q80="},
        {"tmst":3512348514,"freq":869.1,"modu":"FSK","datr":50000,"rssi":-75,"data":"q80"}]}"#,
    );
    assert_eq!(read.unreadable, Vec::<String>::new());
    let lora = &read.frames[0];
    assert_eq!(lora.frequency_hz, 866_349_812);
    assert_eq!(lora.modulation, Modulation::lora(7, 125).unwrap());
    assert_eq!((lora.crc_ok, lora.snr_db, &lora.phy_payload[..]), (Some(true), Some(5.1), &[0x0a, 0x1b, 0x2c][..]));
    assert_eq!(read.frames[1].modulation, Modulation::Fsk { bit_rate_bps: 50_000 });
    assert_eq!(read.frames[1].crc_ok, Some(false));
    assert_eq!(read.frames[2].phy_payload, read.frames[1].phy_payload, "padding may be left out");
}

#[test]
fn one_bad_entry_does_not_cost_the_others() {
    let read = parsed(
        r#"{"rxpk":[{"tmst":1},
        {"tmst":1,"freq":868.1,"modu":"LORA","datr":"SF7BW125","rssi":-35,"size":9,"data":"Chss"},
        {"tmst":1,"freq":868.1,"modu":"LORA","datr":"SF4BW125","rssi":-35,"data":"Chss"},
        {"tmst":1,"freq":868.1,"modu":"LORA","datr":"SF7BW125","rssi":-35,"data":"%%"},
        {"tmst":1,"freq":1e300,"modu":"LORA","datr":"SF7BW125","rssi":-35,"data":"Chss"},
        {"tmst":1,"freq":868.1,"modu":"LORA","datr":"SF7BW125","rssi":-35,"data":"Chss"}],
        "stat":{"lati":"north"}}"#,
    );
    assert_eq!(read.frames.len(), 1);
    let said = read.unreadable.join("\n");
    for part in [
        "rxpk[0]: missing field",
        "size says 9 bytes, data has 3",
        "SF4BW125",
        "not base64",
        "not a frequency",
        "stat:",
    ] {
        assert!(said.contains(part), "{part} in {said}");
    }
}

#[test]
fn a_status_alone_is_a_message() {
    let status = parsed(r#"{"stat":{"time":"2026-05-04 09:12:33 GMT","lati":54.7,"long":3.9,"alti":145,"rxnb":2,"rxok":2,"rxfw":2,"ackr":100.0,"dwnb":2,"txnb":2}}"#).status.unwrap();
    assert_eq!((status.latitude_deg, status.acknowledged_percent, status.sent), (Some(54.7), Some(100.0), Some(2)));
}

#[test]
fn malformed_datagrams_are_named() {
    assert_eq!(Datagram::parse(&[2, 0, 0]), Err(DatagramError::TooShort { len: 3, needed: 4 }));
    assert_eq!(Datagram::parse(&[1, 0, 0, 2]), Err(DatagramError::Version(1)));
    assert_eq!(Datagram::parse(&[2, 0, 0, 9]), Err(DatagramError::Identifier(9)));
    assert_eq!(Datagram::parse(&[2, 0, 0, 2, 1, 2, 3]), Err(DatagramError::TooShort { len: 7, needed: 12 }));
    assert_eq!(Datagram::parse(&vec![2; MAX_DATAGRAM + 1]), Err(DatagramError::TooLong { len: MAX_DATAGRAM + 1 }));
    for json in ["", "{\"rxpk\":[{\"tmst\":35", "[]", "{\"rxpk\":7}"] {
        assert!(matches!(Datagram::parse(&push(json)), Err(DatagramError::Json(_))), "{json}");
    }
    let deep = "[".repeat(5_000);
    assert!(matches!(Datagram::parse(&push(&deep)), Err(DatagramError::Json(_))), "nesting has a limit");
}

#[test]
fn a_downlink_is_written_in_the_protocols_words() {
    let packet = TxPacket {
        when: TxTime::Clock(3_512_348_611),
        frequency_hz: 864_123_456,
        rf_chain: 0,
        power_dbm: 14,
        modulation: Modulation::lora(11, 125).unwrap(),
        inverted_polarity: true,
        deviation_hz: None,
        no_crc: true,
        no_header: false,
        preamble_symbols: None,
        phy_payload: vec![0x0a, 0x1b, 0x2c],
    };
    let bytes = Datagram::PullResp { token: 7, packet }.emit();
    assert_eq!(bytes[..4], [2, 7, 0, 3]);
    let json: serde_json::Value = serde_json::from_slice(&bytes[4..]).unwrap();
    assert_eq!(
        json,
        serde_json::json!({"txpk":{"tmst":3_512_348_611_u32,"freq":864.123_456,"rfch":0,"powe":14,"modu":"LORA",
            "datr":"SF11BW125","codr":"4/5","ipol":true,"ncrc":true,"size":3,"data":"Chss"}})
    );
    let Ok(Datagram::PullResp { packet, .. }) = Datagram::parse(&bytes) else { panic!("read as written") };
    let beacon = TxPacket {
        when: TxTime::GpsMs(1_400_000_128_000),
        no_header: true,
        preamble_symbols: Some(10),
        inverted_polarity: false,
        ..packet
    };
    let bytes = Datagram::PullResp { token: 7, packet: beacon }.emit();
    let json: serde_json::Value = serde_json::from_slice(&bytes[4..]).unwrap();
    let said = |name: &str| json["txpk"][name].clone();
    assert_eq!((said("tmms"), said("nhdr"), said("prea")), (1_400_000_128_000_u64.into(), true.into(), 10.into()));
    assert!(said("tmst").is_null() && said("imme").is_null());
}

#[test]
fn transmit_reports() {
    let ack = |json: &str| {
        let mut bytes = push(json);
        bytes[3] = 5;
        match Datagram::parse(&bytes) {
            Ok(Datagram::TxAck { result, .. }) => result,
            other => panic!("{other:?}"),
        }
    };
    assert_eq!(ack(""), Ok(()));
    assert_eq!(ack(r#"{"txpk_ack":{"error":"NONE"}}"#), Ok(()));
    assert_eq!(ack(r#"{"txpk_ack":{"error":"COLLISION_PACKET"}}"#), Err(TxAckError::CollisionPacket));
    assert_eq!(ack(r#"{"txpk_ack":{"error":"NEW\nWORD"}}"#), Err(TxAckError::Other("NEWWORD".into())));
}

fn any_modulation() -> impl Strategy<Value = Modulation> {
    prop_oneof![
        (7u8..=12, prop::sample::select(vec![125, 250, 500])).prop_map(|(sf, khz)| Modulation::lora(sf, khz).unwrap()),
        (1u32..300_000).prop_map(|bit_rate_bps| Modulation::Fsk { bit_rate_bps }),
        (any::<bool>(), 1u16..2000).prop_map(|(third, bandwidth_khz)| Modulation::LrFhss {
            coding_rate: if third { LrFhssCodingRate::OneThird } else { LrFhssCodingRate::TwoThirds },
            bandwidth_khz,
        }),
    ]
}

fn any_time() -> impl Strategy<Value = TxTime> {
    prop_oneof![Just(TxTime::AtOnce), any::<u32>().prop_map(TxTime::Clock), (0u64..1 << 53).prop_map(TxTime::GpsMs),]
}

prop_compose! {
    fn any_frame()(clock_us: u32, khz in 400_000u32..930_000, modulation in any_modulation(), crc_ok: Option<bool>,
                   rssi in -140i32..0, snr in proptest::option::of(-25i32..15), channel in proptest::option::of(0u32..10),
                   fine in proptest::option::of((0u32..1_000_000_000, -9000i32..9000)), antennas in 0u8..3,
                   phy_payload in proptest::collection::vec(any::<u8>(), 0..255)) -> RxPacket {
        let (fine_time_ns, frequency_offset_hz) = fine.unzip();
        let signal_rssi_dbm = fine.map(|_| f64::from(rssi) - 1.0);
        // What the whole frame does not tell is that of an antenna, so each tells the same here.
        let antenna = |antenna| AntennaSignal {
            antenna, channel, rssi_dbm: f64::from(rssi), signal_rssi_dbm, snr_db: snr.map(f64::from), fine_time_ns,
            frequency_offset_hz,
        };
        RxPacket {
            clock_us, frequency_hz: khz * 1000, modulation, coding_rate: Some("4/5".into()), crc_ok,
            rssi_dbm: f64::from(rssi), snr_db: snr.map(f64::from), channel, rf_chain: channel, time: None,
            gps_time_ms: None, fine_time_ns, frequency_offset_hz, signal_rssi_dbm,
            antennas: (0..antennas).map(antenna).collect(), phy_payload,
        }
    }
}

proptest! {
    #[test]
    fn pushes_round_trip(token: u16, eui: u64, frames in proptest::collection::vec(any_frame(), 1..4), sent: Option<u32>) {
        let status = Some(GatewayStatus { sent, ..GatewayStatus::default() });
        let message = Datagram::PushData { token, gateway: Eui64(eui), push: PushData { frames, status, unreadable: vec![] } };
        prop_assert_eq!(Datagram::parse(&message.emit()), Ok(message));
    }

    #[test]
    fn downlinks_round_trip(token: u16, frame in any_frame(), when in any_time(), power_dbm in 0i32..28) {
        let packet = TxPacket {
            when, frequency_hz: frame.frequency_hz, rf_chain: 0, power_dbm, modulation: frame.modulation,
            inverted_polarity: true, deviation_hz: None, no_crc: false, no_header: token % 2 == 0,
            preamble_symbols: (token % 3 == 0).then_some(token), phy_payload: frame.phy_payload,
        };
        let message = Datagram::PullResp { token, packet };
        prop_assert_eq!(Datagram::parse(&message.emit()), Ok(message));
    }

    #[test]
    fn any_bytes_are_answered(mut bytes in proptest::collection::vec(any::<u8>(), 0..80), identifier in 0u8..7) {
        let _ = Datagram::parse(&bytes);
        if bytes.len() > 4 {
            (bytes[0], bytes[3]) = (2, identifier);
            let _ = Datagram::parse(&bytes);
        }
    }
}
