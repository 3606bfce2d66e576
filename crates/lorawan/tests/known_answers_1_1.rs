//! LoRaWAN 1.1 against answers worked apart from this crate, by another implementation of AES and
//! CMAC and the blocks laid out by hand (TS001-1.1 §4.3, §4.4, §6.1, §6.2, and the erratum on FOpts).

#![allow(clippy::unwrap_used)] // a test program: a failed unwrap is a failed test

use lorawan::crypto::{Binding, PayloadKey, join_server_keys, session_keys_1_1};
use lorawan::wire::{
    Answered, CfList, DataRepr, DataView, DownlinkFlags, JoinAccept, JoinKind, NetworkKeys11, RejoinRequestRepr,
    RejoinTo, UplinkFlags,
};
use lorawan::{AesKey, DevAddr, Eui64, NetId};

const ADDR: DevAddr = DevAddr(0x0323_4567);
const COUNTER: u32 = 0x0001_019c;
const JOIN_EUI: Eui64 = Eui64(0x02aa_0000_0000_0001);
const DEV_EUI: Eui64 = Eui64(0x02bb_0000_0000_002a);

fn counting_key(first: u8) -> AesKey {
    AesKey(std::array::from_fn(|i| first.wrapping_add(i as u8)))
}

fn network() -> NetworkKeys11 {
    NetworkKeys11::new(&counting_key(0x10), &counting_key(0x20), &counting_key(0x30))
}

fn app() -> PayloadKey {
    PayloadKey::new(&counting_key(0x40))
}

#[test]
fn keys() {
    let keys = session_keys_1_1(&counting_key(0), &counting_key(0x80), 0x01_0203, JOIN_EUI, 0x0607);
    assert_eq!(keys.f_nwk_s_int_key.to_hex(), "56e3a848bb175386ac5ef9bff7e0481c");
    assert_eq!(keys.s_nwk_s_int_key.to_hex(), "109291ad7319f9e680e268e082e9a43e");
    assert_eq!(keys.nwk_s_enc_key.to_hex(), "c5bf51cc442f0224bb0d6aa95f04c834");
    assert_eq!(keys.app_s_key.to_hex(), "cf2cb7277e508770b4c39ae0912c0f1d");
    let keys = join_server_keys(&counting_key(0), DEV_EUI);
    assert_eq!(keys.js_enc_key.to_hex(), "9823bece88a300c34950a6fe6b4057c7");
    assert_eq!(keys.js_int_key.to_hex(), "d53c94de7b433ef9d612ab5d426ee71f");
}

#[test]
fn an_uplink_that_acknowledges() {
    let flags = UplinkFlags { adr: true, ack: true, ..UplinkFlags::default() };
    let binding = Binding { conf_f_cnt: 0x0155, tx_dr: 5, tx_ch: 2 };
    let fopts = [0x02, 0x06, 0x00, 0x05];
    let repr = DataRepr::uplink(ADDR, COUNTER, flags, Some((2, &[0x0a, 0x1b, 0x2c]))).confirmed(true);
    let frame = repr.with_fopts(&fopts).emit_1_1(&network(), &app(), binding).unwrap();
    assert_eq!(hex::encode(&frame), "8067452303a49c014a4a15f30264c6efc099abd3");
    let view = DataView::new_checked(&frame).unwrap();
    assert!(view.verify_1_1(&network(), COUNTER, binding));
    assert_eq!(view.decrypt_fopts(&network().nwk_s_enc, COUNTER), fopts);
}

#[test]
fn downlinks_under_each_counter() {
    let ack = DownlinkFlags { ack: true, ..DownlinkFlags::default() };
    let binding = Binding { conf_f_cnt: 0x019b, ..Binding::default() };
    let repr = DataRepr::downlink(ADDR, COUNTER, ack, Some((10, &[0x28]))).with_fopts(&[0x06]);
    let frame = repr.emit_1_1(&network(), &app(), binding).unwrap();
    assert_eq!(hex::encode(frame), "6067452303219c01b30a86a8666cec", "AFCntDown");

    let repr = DataRepr::downlink(ADDR, 7, DownlinkFlags::default(), None).with_fopts(&[0x06]);
    let frame = repr.emit_1_1(&network(), &app(), Binding::default()).unwrap();
    assert_eq!(hex::encode(frame), "6067452303010700d1f1ba3b0e", "NFCntDown, no port");

    let repr = DataRepr::downlink(ADDR, 8, DownlinkFlags::default(), Some((0, &[0x06])));
    let frame = repr.emit_1_1(&network(), &app(), Binding::default()).unwrap();
    assert_eq!(hex::encode(frame), "606745230300080000e92f530381", "NFCntDown, port 0");
}

#[test]
fn join_accepts() {
    let accept = JoinAccept {
        join_nonce: 0x01_0203,
        net_id: NetId::new(0x13),
        dev_addr: ADDR,
        opt_neg: true,
        rx1_data_rate_offset: 1,
        rx2_data_rate: 3,
        rx_delay_s: 5,
        cf_list: Some(CfList::Masks([0xff00, 0, 0, 0, 0x0002])),
    };
    let nwk_key = counting_key(0);
    let keys = join_server_keys(&nwk_key, DEV_EUI);
    let joined = Answered { kind: JoinKind::Join, join_eui: JOIN_EUI, dev_nonce: 0x0607 };
    let frame = accept.seal_1_1(&nwk_key, &keys, &joined);
    assert_eq!(hex::encode(&frame), "20972f6292b7dd4d3e21b58c0ddac5250581a11a70df0b78a1599ff636513c8eb1");
    assert_eq!(JoinAccept::open_1_1(&frame, &nwk_key, &keys, &joined), Ok(accept));
    let rejoined = Answered { kind: JoinKind::Rejoin(0), ..joined };
    let frame = accept.seal_1_1(&nwk_key, &keys, &rejoined);
    assert_eq!(hex::encode(&frame), "20712d19dfbc793555e52d6c2d3889caa771195074960c0feaa1a470cd5940bbf5");
    assert_eq!(JoinAccept::open_1_1(&frame, &nwk_key, &keys, &rejoined), Ok(accept));
}

#[test]
fn rejoin_requests() {
    let repr = RejoinRequestRepr { to: RejoinTo::Network(NetId::new(0x13)), dev_eui: DEV_EUI, rj_count: 0x0607 };
    let s_nwk_s_int = network().s_nwk_s_int;
    assert_eq!(hex::encode(repr.emit(&s_nwk_s_int)), "c0001300002a0000000000bb020706c4fbcf19");
    let js_int = lorawan::crypto::MicKey::new(&join_server_keys(&counting_key(0), DEV_EUI).js_int_key);
    let repr = RejoinRequestRepr { to: RejoinTo::JoinServer(JOIN_EUI), ..repr };
    assert_eq!(hex::encode(repr.emit(&js_int)), "c001010000000000aa022a0000000000bb020706b699ba69");
}
