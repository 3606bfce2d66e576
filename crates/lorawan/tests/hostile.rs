//! Bytes from the air are anybody's. The entry points that `fuzz/` tries for hours are tried here on
//! bounded input, and the corners of the formats one by one.

#![allow(clippy::unwrap_used)] // a test program: a failed unwrap is a failed test

use lorawan::class_b::Beacon;
use lorawan::crypto::{MicKey, PayloadKey};
use lorawan::dissect::{self, Known};
use lorawan::mac::{DownCommand, UpCommand, commands};
use lorawan::wire::{DataRepr, Frame, FrameError, JoinAccept, UplinkFlags};
use lorawan::{AesKey, DevAddr, text};
use proptest::prelude::*;

fn every_way(bytes: &[u8]) {
    let key = AesKey([7; 16]);
    if let Ok(Frame::Data(view)) = Frame::parse(bytes) {
        let (mic, payload) = (MicKey::new(&key), PayloadKey::new(&key));
        let _ = (view.dev_addr(), view.counter_low(), view.fopts(), view.fport(), view.mic(), view.verify(&mic, 1));
        assert_eq!(view.decrypt(&payload, 1).len(), view.frm_payload().len());
        assert_eq!(
            view.fopts().len() + view.frm_payload().len() + usize::from(view.fport().is_some()) + 12,
            bytes.len()
        );
    }
    let _ = JoinAccept::open(bytes, &key);
    for _ in commands::<UpCommand>(bytes) {}
    for _ in commands::<DownCommand>(bytes) {}
    for sf in 7..=12 {
        let _ = Beacon::parse(bytes, sf);
    }
    let report = dissect::frame(bytes, &Known::default());
    for field in &report.fields {
        assert!(field.at + field.len <= bytes.len(), "{field:?} lies within the {} bytes", bytes.len());
    }
}

#[test]
fn every_length_with_every_mhdr() {
    for mhdr in 0..=255u8 {
        for len in 0..=256usize {
            let mut bytes = vec![0x5a; len];
            if let Some(first) = bytes.first_mut() {
                *first = mhdr;
            }
            if mhdr & 0x03 != 0 && (1..=255).contains(&len) {
                assert_eq!(Frame::parse(&bytes), Err(FrameError::UnknownMajor(mhdr & 0x03)));
            }
            // The whole of it where the length is at an edge, parsing alone elsewhere.
            if matches!(len, 0..=35 | 254..=256) {
                every_way(&bytes);
            } else {
                let _ = Frame::parse(&bytes);
            }
        }
    }
}

#[test]
fn counters_roll_over() {
    let (nwk, app) = (MicKey::new(&AesKey([1; 16])), PayloadKey::new(&AesKey([2; 16])));
    for (last, next) in [(0xffff, 0x1_0000), (0xffff_fffe, u32::MAX), (0x7fff_ffff, 0x8000_0000)] {
        let repr = DataRepr::uplink(DevAddr(1), next, UplinkFlags::default(), Some((1, b"x")));
        let frame = repr.emit(&nwk, &app).unwrap();
        let Ok(Frame::Data(view)) = Frame::parse(&frame) else { panic!("a data frame") };
        let ahead = lorawan::counter::candidates(Some(last), view.counter_low()).ahead.unwrap();
        assert_eq!(ahead, next);
        assert!(view.verify(&nwk, ahead));
    }
    assert_eq!(lorawan::counter::candidates(Some(u32::MAX), 0).ahead, None, "32 bits are all there are");
}

#[test]
fn a_port_without_payload_is_kept() {
    let (nwk, app) = (MicKey::new(&AesKey([1; 16])), PayloadKey::new(&AesKey([2; 16])));
    for port in [0, 1, 223, 224, 255] {
        let frame =
            DataRepr::uplink(DevAddr(1), 1, UplinkFlags::default(), Some((port, b""))).emit(&nwk, &app).unwrap();
        let Ok(Frame::Data(view)) = Frame::parse(&frame) else { panic!("a data frame") };
        assert_eq!((view.fport(), view.frm_payload()), (Some(port), &[][..]));
    }
    let both = DataRepr::uplink(DevAddr(1), 1, UplinkFlags::default(), Some((0, b"\x02"))).with_fopts(&[2]);
    assert_eq!(both.emit(&nwk, &app), Err(FrameError::MacCommandsTwice));
    let long = [2; 16];
    let long = DataRepr::uplink(DevAddr(1), 1, UplinkFlags::default(), None).with_fopts(&long);
    assert!(matches!(long.emit(&nwk, &app), Err(FrameError::TooLong { .. })));
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 1024, ..ProptestConfig::default() })]

    #[test]
    fn any_bytes(bytes in proptest::collection::vec(any::<u8>(), 0..=256)) {
        every_way(&bytes);
    }

    /// Arbitrary bytes seldom get past the MHDR; these do.
    #[test]
    fn almost_frames(mtype in 0u8..8, rest in proptest::collection::vec(any::<u8>(), 0..=60)) {
        every_way(&[&[mtype << 5][..], &rest].concat());
    }

    #[test]
    fn any_text(text in "\\PC{0,80}") {
        let _ = (text::bytes(&text), text::frame(&text));
    }
}
