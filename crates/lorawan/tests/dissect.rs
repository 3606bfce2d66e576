//! Frames of every type taken apart in words.

#![allow(clippy::unwrap_used)] // a test program: a failed unwrap is a failed test

use lorawan::crypto::{Binding, MicKey, PayloadKey, join_server_keys};
use lorawan::dissect::{self, CounterOrigin, Known, Report, SessionKeysKnown};
use lorawan::mac::{Battery, DownCommand, LinkAdr, UpCommand};
use lorawan::region::{ChannelMask, ChannelSet, Region};
use lorawan::wire::{
    Answered, DataRepr, DownlinkFlags, JoinAccept, JoinKind, JoinRequestRepr, NetworkKeys11, RejoinRequestRepr,
    RejoinTo, UplinkFlags,
};
use lorawan::{AesKey, DevAddr, Eui64, NetId};

const ADDR: DevAddr = DevAddr(0x0323_4567);
const JOIN_EUI: Eui64 = Eui64(0x02aa_0000_0000_0001);
const DEV_EUI: Eui64 = Eui64(0x02bb_0000_0000_002a);

fn key(first: u8) -> AesKey {
    AesKey(std::array::from_fn(|i| first.wrapping_add(i as u8)))
}

/// Name and value of each field, parts of fields after a dot.
fn label(report: &Report) -> Vec<String> {
    let dot = |depth: u8| if depth > 0 { ". " } else { "" };
    report.fields.iter().map(|f| format!("{}{}: {}", dot(f.depth), f.name, f.value)).collect()
}

fn session_1_0() -> Known {
    let session =
        SessionKeysKnown { nwk_s_key: Some(key(0x10)), app_s_key: Some(key(0x40)), ..SessionKeysKnown::default() };
    Known { session, region: Some(Region::Eu868), ..Known::default() }
}

fn session_1_1() -> Known {
    let session = SessionKeysKnown {
        nwk_s_key: None,
        f_nwk_s_int_key: Some(key(0x10)),
        s_nwk_s_int_key: Some(key(0x20)),
        nwk_s_enc_key: Some(key(0x30)),
        app_s_key: Some(key(0x40)),
    };
    Known { session, ..Known::default() }
}

fn up(counter: u32, fopts: &[u8], port: u8, payload: &[u8]) -> Vec<u8> {
    let key_of = if port == 0 { key(0x10) } else { key(0x40) };
    DataRepr::uplink(ADDR, counter, UplinkFlags { adr: true, ..UplinkFlags::default() }, Some((port, payload)))
        .with_fopts(fopts)
        .emit(&MicKey::new(&key(0x10)), &PayloadKey::new(&key_of))
        .unwrap()
}

#[test]
fn a_join_request() {
    let request = JoinRequestRepr { join_eui: JOIN_EUI, dev_eui: DEV_EUI, dev_nonce: 7 };
    let bytes = request.emit(&MicKey::new(&key(0)));
    let report = dissect::frame(&bytes, &Known { app_key: Some(key(0)), ..Known::default() });
    assert_eq!(report.summary, "Device 02bb00000000002a asks to join 02aa000000000001, with DevNonce 7.");
    assert_eq!(
        label(&report)[..4],
        ["MHDR: join-request", "JoinEUI: 02aa000000000001", "DevEUI: 02bb00000000002a", "DevNonce: 7"]
    );
    assert!(report.agreed().is_some() && report.stopped.is_none());
    let mut reversed = key(0);
    reversed.0.reverse();
    let report = dissect::frame(&bytes, &Known { app_key: Some(reversed), nwk_key: Some(key(9)), ..Known::default() });
    assert_eq!(report.agreed(), None);
    assert_eq!(report.verdicts[0].note, "it agrees once the key's bytes are reversed");
    assert_eq!(report.verdicts[1].note, "the device has another NwkKey");
}

#[test]
fn an_uplink_under_a_counter_that_must_be_found() {
    let mut fopts = Vec::new();
    UpCommand::LinkAdrAns { power_ack: true, data_rate_ack: false, channel_mask_ack: true }.emit(&mut fopts);
    UpCommand::DevStatusAns { battery: Battery::Level(128), margin_db: -7 }.emit(&mut fopts);
    let bytes = up(0x0001_019c, &fopts, 2, b"hi");
    let known = session_1_0();
    let report = dissect::frame(&bytes, &known);
    assert_eq!(
        label(&report)[3..9],
        [
            "FCnt: 412",
            "FOpts: 0305068039",
            ". LinkADRAns: refused: data rate",
            ". DevStatusAns: battery 50 %; the request was heard with an SNR of -7 dB",
            "FPort: 2",
            "FRMPayload: 06b4",
        ][..]
    );
    assert_eq!(report.payload.as_deref(), Some(&b"hi"[..]));
    let found = report.verdicts[0].counters.last().unwrap();
    assert_eq!((found.counter, found.origin, found.agrees), (0x0001_019c, CounterOrigin::Searched, true));
    assert_eq!(report.fields[3].note.as_deref(), Some("65948 in full"));

    let near = |last| {
        let report = dissect::frame(&bytes, &Known { last_counter: Some(last), ..known.clone() });
        report.verdicts[0].counters.iter().find(|c| c.agrees).map(|c| c.origin)
    };
    assert_eq!(near(0x0001_0000), Some(CounterOrigin::Ahead));
    assert_eq!(near(0x0001_ffff), Some(CounterOrigin::Behind));
    let wrong = dissect::frame(&bytes, &Known { counter: Some(412), ..known });
    assert_eq!((wrong.agreed(), &wrong.payload), (None, &None), "a counter that is given is the only one tried");
}

#[test]
fn mac_commands_on_port_0() {
    let mut commands = Vec::new();
    UpCommand::LinkCheckReq.emit(&mut commands);
    UpCommand::DeviceTimeReq.emit(&mut commands);
    UpCommand::AdrParamSetupAns.emit(&mut commands);
    commands.push(0x99);
    let report = dissect::frame(&up(3, &[], 0, &commands), &session_1_0());
    assert!(label(&report).contains(&". DeviceTimeReq: asks for the time".to_owned()));
    let newer = report.fields.iter().find(|f| f.name == "ADRParamSetupAns").unwrap();
    assert_eq!(newer.note.as_deref(), Some("LoRaWAN 1.1 only"));
    assert_eq!(report.payload, None, "no payload of the application's");
    let stop = report.stopped.unwrap();
    assert_eq!(
        (stop.at, stop.why.as_str()),
        (12, "in FRMPayload, byte 3: 0x99 is proprietary; 0 bytes behind it cannot be read")
    );
    let sealed = dissect::frame(&up(3, &[], 0, &commands), &Known::default());
    assert_eq!(sealed.fields.last().unwrap().name, "MIC");
    assert!(sealed.stopped.is_none(), "what is encrypted is not read as commands");
}

#[test]
fn a_downlink_speaks_of_the_regions_channels() {
    let mut fopts = Vec::new();
    let channels = ChannelMask { cntl: 5, mask: 0x02 };
    DownCommand::LinkAdrReq(LinkAdr { data_rate: Some(3), tx_power: Some(5), channels, nb_trans: 2 }).emit(&mut fopts);
    let pending = DownlinkFlags { pending: true, ..DownlinkFlags::default() };
    let bytes = DataRepr::downlink(ADDR, 9, pending, None)
        .with_fopts(&fopts)
        .confirmed(true)
        .emit(&MicKey::new(&key(0x10)), &PayloadKey::new(&key(0x40)))
        .unwrap();
    let report = dissect::frame(&bytes, &Known { region: Some(Region::Us915), ..session_1_0() });
    let words = label(&report);
    assert_eq!(words[0], "MHDR: confirmed data down");
    assert_eq!(words[2], "FCtrl: FPending; FOpts of 5 bytes");
    assert_eq!(
        words[5],
        ". LinkADRReq: DR3 (SF7/125 kHz), TXPower 5 (20 dBm), of all channels: 8-15, 65 on, each uplink 2 times"
    );
    assert!(report.agreed().is_some());
}

#[test]
fn an_uplink_of_1_1_gives_up_data_rate_and_channel() {
    let keys = NetworkKeys11::new(&key(0x10), &key(0x20), &key(0x30));
    let binding = Binding { conf_f_cnt: 0, tx_dr: 4, tx_ch: 65 };
    let repr = DataRepr::uplink(ADDR, 0x0002_0005, UplinkFlags::default(), Some((1, b"ok"))).with_fopts(&[0x02]);
    let bytes = repr.emit_1_1(&keys, &PayloadKey::new(&key(0x40)), binding).unwrap();
    let report = dissect::frame(&bytes, &session_1_1());
    assert_eq!((report.verdicts[0].key, report.verdicts[0].agrees), ("FNwkSIntKey", false), "not as 1.0.x signs");
    assert!(report.agreed().unwrap().note.ends_with("agrees with DR4 on channel 65"), "{:?}", report.verdicts);
    assert_eq!(report.payload.as_deref(), Some(&b"ok"[..]));
    assert_eq!(report.fields[5].name, "LinkCheckReq");
    let mut sealed = session_1_1();
    sealed.session.nwk_s_enc_key = None;
    let sealed = dissect::frame(&bytes, &sealed);
    assert_eq!(sealed.fields[4].note.as_deref(), Some("encrypted: NwkSEncKey is needed"));
    assert_eq!(sealed.fields[5].name, "FPort", "what is encrypted is not read as commands");
    let told = Known { data_rate: Some(4), channel: Some(64), ..session_1_1() };
    assert_eq!(dissect::frame(&bytes, &told).agreed(), None, "on another channel the MIC is another");
}

#[test]
fn a_downlink_of_1_1_gives_up_what_it_acknowledges() {
    let keys = NetworkKeys11::new(&key(0x10), &key(0x20), &key(0x30));
    let ack = DownlinkFlags { ack: true, ..DownlinkFlags::default() };
    let repr = DataRepr::downlink(ADDR, 5, ack, Some((0, &[0x06])));
    let binding = Binding { conf_f_cnt: 4711, ..Binding::default() };
    let bytes = repr.emit_1_1(&keys, &PayloadKey::new(&key(0x40)), binding).unwrap();
    let report = dissect::frame(&bytes, &session_1_1());
    assert!(report.agreed().unwrap().note.ends_with("acknowledges the uplink with counter 4711 (low half)"));
    assert!(label(&report).contains(&". DevStatusReq: asks for battery and SNR".to_owned()));
    let told = Known { conf_f_cnt: Some(4711), ..session_1_1() };
    assert!(dissect::frame(&bytes, &told).agreed().is_some());
}

fn accept() -> JoinAccept {
    JoinAccept {
        join_nonce: 9,
        net_id: NetId::new(1),
        dev_addr: ADDR,
        opt_neg: false,
        rx1_data_rate_offset: 0,
        rx2_data_rate: 0,
        rx_delay_s: 1,
        cf_list: Some(Region::Eu868.plan().cf_list(ChannelSet::EMPTY)),
    }
}

#[test]
fn a_join_accept_of_each_version() {
    let bytes = accept().seal(&key(0));
    let sealed = dissect::frame(&bytes, &Known::default());
    assert_eq!(sealed.summary, "A sealed join-accept.");
    let report =
        dissect::frame(&bytes, &Known { app_key: Some(key(0)), region: Some(Region::Us915), ..Known::default() });
    let list = report.fields.iter().find(|f| f.name == "CFList").unwrap();
    assert_eq!(list.value, "type 0: 867.1 MHz, 867.3 MHz, 867.5 MHz, 867.7 MHz, 867.9 MHz");
    assert_eq!(list.note.as_deref(), Some("the region wants type 1: devices discard it"));
    let wrong = dissect::frame(&bytes, &Known { app_key: Some(key(1)), ..Known::default() });
    assert_eq!((wrong.agreed(), wrong.fields[1].note.as_deref()), (None, Some("no key known opens it")));

    let known = Known { nwk_key: Some(key(0)), dev_eui: Some(DEV_EUI), join_eui: Some(JOIN_EUI), ..Known::default() };
    let report = dissect::frame(&bytes, &known);
    assert_eq!(report.agreed().unwrap().note, "a 1.0.x network answers a 1.1 device");
    for kind in [JoinKind::Join, JoinKind::Rejoin(2)] {
        let answered = Answered { kind, join_eui: JOIN_EUI, dev_nonce: 300 };
        let bytes = accept().seal_1_1(&key(0), &join_server_keys(&key(0), DEV_EUI), &answered);
        let report = dissect::frame(&bytes, &known);
        let note = &report.agreed().unwrap().note;
        let wanted = match kind {
            JoinKind::Join => "answers the join-request with DevNonce 300",
            JoinKind::Rejoin(_) => "answers rejoin-request type 2 with RJcount 300",
        };
        assert_eq!(note, wanted);
        assert!(label(&report).contains(&"DevAddr: 03234567".to_owned()));
    }
}

#[test]
fn rejoin_requests_and_proprietary_frames() {
    let repr = RejoinRequestRepr { to: RejoinTo::Network(NetId::new(1)), dev_eui: DEV_EUI, rj_count: 2 };
    let report = dissect::frame(&repr.emit(&MicKey::new(&key(0x20))), &session_1_1());
    assert_eq!(
        report.summary,
        "Device 02bb00000000002a sends rejoin-request type 0 to 000001: hand over or renew session and radio settings."
    );
    assert!(report.agreed().is_some());
    let js_int = MicKey::new(&join_server_keys(&key(0), DEV_EUI).js_int_key);
    let lost = RejoinRequestRepr { to: RejoinTo::JoinServer(JOIN_EUI), ..repr }.emit(&js_int);
    let report = dissect::frame(&lost, &Known { nwk_key: Some(key(0)), ..Known::default() });
    assert_eq!((report.agreed().unwrap().key, report.fields[4].name), ("JSIntKey", "RJcount1"));
    let report = dissect::frame(&[0xe0, 1, 2], &Known::default());
    assert_eq!(report.summary, "A proprietary frame of 3 bytes.");
}

/// Each damage is named with the place from which on the frame makes no sense.
#[test]
fn damaged_frames_say_where() {
    let whole = up(412, &[0x02], 2, b"hello");
    let stop = |bytes: &[u8]| {
        let stop = dissect::frame(bytes, &Known::default()).stopped;
        stop.map(|s| (s.at, s.why))
    };
    assert_eq!(stop(&whole), None);
    let cases: [(&[u8], usize, &str); 9] = [
        (&[], 0, "a frame has at least one byte, the MHDR"),
        (&[0x41, 0, 0], 0, "major version 1 is not LoRaWAN R1 (0)"),
        (&whole[..3], 1, "DevAddr should be 4 bytes from byte 1 on, but the frame ends after 3 bytes"),
        (&whole[..5], 5, "FCtrl should be 1 byte from byte 5 on, but the frame ends after 5 bytes"),
        (&whole[..12], 8, "FCtrl announces 1 byte of FOpts and the MIC has 4, but what is left is 4 bytes"),
        (&[0x20, 1, 2], 3, "a join-accept has 17 or 33 bytes, not 3"),
        (&[0xc0, 7, 0], 1, "rejoin type 7 is not defined: it is 0, 1 or 2"),
        (&[0x00; 24], 23, "1 byte too many: the frame should end here"),
        (
            &[0x40, 1, 2, 3, 4, 0x01, 0, 0, 0x02, 0, 9, 9, 9, 9],
            9,
            "FPort 0 carries MAC commands, but FOpts does already: that is not allowed",
        ),
    ];
    for (bytes, at, why) in cases {
        assert_eq!(stop(bytes), Some((at, why.to_owned())), "{bytes:02x?}");
    }
    assert_eq!(stop(&[0x40; 256]).map(|s| s.0), Some(255));
    let truncated = up(1, &[0x06, 0x01], 2, b"x");
    assert_eq!(
        stop(&truncated).unwrap(),
        (8, "in FOpts, byte 0: DevStatusAns needs 2 bytes behind it, but the commands end after 1".into())
    );
    let reserved = dissect::frame(&[0x5c; 12], &Known::default());
    assert_eq!(reserved.fields[0].note.as_deref(), Some("reserved bits are set: 111"));
}
