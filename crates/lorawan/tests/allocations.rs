//! Reading a frame touches the heap nowhere: a network does it for every frame it hears, its
//! neighbours' included.

#![allow(clippy::unwrap_used)] // a test program: a failed unwrap is a failed test

use lorawan::crypto::{Binding, MicKey, PayloadKey};
use lorawan::mac::{DownCommand, UpCommand, commands};
use lorawan::wire::{DataRepr, Frame, JoinRequestRepr, MAX_PHY_PAYLOAD, NetworkKeys11, UplinkFlags};
use lorawan::{AesKey, DevAddr, Eui64};

fn allocations(run: impl FnOnce()) -> u64 {
    allocation_counter::measure(run).count_total
}

#[test]
fn parse_verify_and_decrypt_of_an_uplink() {
    let (nwk, app) = (MicKey::new(&AesKey([1; 16])), PayloadKey::new(&AesKey([2; 16])));
    let keys = NetworkKeys11::new(&AesKey([1; 16]), &AesKey([3; 16]), &AesKey([4; 16]));
    let binding = Binding { conf_f_cnt: 0, tx_dr: 5, tx_ch: 1 };
    let payload = [0x5a; 200];
    let repr = DataRepr::uplink(DevAddr(1), 9, UplinkFlags::default(), Some((2, &payload))).with_fopts(&[2, 6, 0, 5]);
    let frame = repr.emit(&nwk, &app).unwrap();
    let frame_1_1 = repr.emit_1_1(&keys, &app, binding).unwrap();
    let counted = allocations(|| {
        let Ok(Frame::Data(view)) = Frame::parse(&frame) else { panic!("a data frame") };
        assert!(view.verify(&nwk, 9));
        let mut buffer = [0; MAX_PHY_PAYLOAD];
        assert_eq!(view.decrypt_into(&app, 9, &mut buffer), payload);
        assert_eq!(commands::<UpCommand>(view.fopts()).filter(Result::is_ok).count(), 2);
        let Ok(Frame::Data(view)) = Frame::parse(&frame_1_1) else { panic!("a data frame") };
        assert!(view.verify_1_1(&keys, 9, binding));
    });
    assert_eq!(counted, 0);
    assert!(allocations(|| drop(repr.emit(&nwk, &app))) > 0, "what is counted does count");
}

#[test]
fn reading_joins_commands_and_nonsense() {
    let key = MicKey::new(&AesKey([1; 16]));
    let request = JoinRequestRepr { join_eui: Eui64(1), dev_eui: Eui64(2), dev_nonce: 3 }.emit(&key);
    let counted = allocations(|| {
        let Ok(Frame::JoinRequest(view)) = Frame::parse(&request) else { panic!("a join-request") };
        assert!(view.verify(&key));
        assert_eq!(commands::<DownCommand>(&[0x06, 0x03, 0x50, 0xff, 0, 1, 0x99]).count(), 3);
        for len in 0..request.len() {
            assert!(Frame::parse(&request[..len]).is_err());
        }
    });
    assert_eq!(counted, 0);
}
