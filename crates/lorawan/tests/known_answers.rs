//! Whole frames against answers worked apart from this crate: CMAC and key stream built by hand
//! from single AES-128-ECB blocks (TS001 §4.3.3, §4.4, §6.2.4, §6.2.5).

#![allow(clippy::unwrap_used)] // a test program: a failed unwrap is a failed test

use lorawan::crypto::{MicKey, PayloadKey};
use lorawan::wire::{DataRepr, DownlinkFlags, Frame, JoinAccept, JoinRequestRepr, UplinkFlags};
use lorawan::{AesKey, DevAddr, Eui64, NetId};

/// The address of all frames here, and a counter whose high half is not zero.
const ADDR: DevAddr = DevAddr(0x0323_4567);
const COUNTER: u32 = 0x0001_019c;

fn counting_key(first: u8) -> AesKey {
    AesKey(std::array::from_fn(|i| first + i as u8))
}

#[test]
fn data_up() {
    let (nwk, app) = (MicKey::new(&counting_key(0x10)), PayloadKey::new(&counting_key(0x40)));
    let flags = UplinkFlags { adr: true, ..UplinkFlags::default() };
    let frame = DataRepr::uplink(ADDR, COUNTER, flags, Some((2, &[0x0a, 0x1b, 0x2c]))).emit(&nwk, &app).unwrap();
    assert_eq!(hex::encode(&frame), "4067452303809c010264c6efd059e2ef");
    let Frame::Data(view) = Frame::parse(&frame).unwrap() else { panic!("a data frame") };
    assert!(view.verify(&nwk, COUNTER));
    assert_eq!(view.decrypt(&app, COUNTER), [0x0a, 0x1b, 0x2c]);
}

#[test]
fn data_down_of_two_blocks() {
    let (nwk, app) = (MicKey::new(&counting_key(0x10)), PayloadKey::new(&counting_key(0x40)));
    let payload: Vec<u8> = (0..20).collect();
    let flags = DownlinkFlags { ack: true, pending: true, adr: false };
    let frame = DataRepr::downlink(ADDR, COUNTER, flags, Some((10, &payload))).confirmed(true).emit(&nwk, &app);
    assert_eq!(hex::encode(frame.unwrap()), "a067452303309c010aae2b8b42b5d32c0ea6f963c019488fad75b9916b6e0ab0a7");
}

#[test]
fn join_request() {
    let repr = JoinRequestRepr {
        join_eui: Eui64(0x02aa_0000_0000_0001),
        dev_eui: Eui64(0x02bb_0000_0000_002a),
        dev_nonce: 0x1234,
    };
    let frame = repr.emit(&MicKey::new(&counting_key(0)));
    assert_eq!(hex::encode(frame), "00010000000000aa022a0000000000bb023412d5cc98a9");
}

#[test]
fn join_accept() {
    let accept = JoinAccept {
        join_nonce: 0x01_0203,
        net_id: NetId::new(0x13),
        dev_addr: ADDR,
        opt_neg: false,
        rx1_data_rate_offset: 1,
        rx2_data_rate: 3,
        rx_delay_s: 5,
        cf_list: None,
    };
    let frame = accept.seal(&counting_key(0));
    assert_eq!(hex::encode(&frame), "201b4b0577c59382b18f3e462c2e8ec79e");
    assert_eq!(JoinAccept::open(&frame, &counting_key(0)), Ok(accept));
}
