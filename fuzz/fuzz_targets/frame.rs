//! Any bytes as a frame, a join-accept and a beacon.
#![no_main]

use libfuzzer_sys::fuzz_target;
use lorawan::AesKey;
use lorawan::class_b::Beacon;
use lorawan::crypto::{MicKey, PayloadKey};
use lorawan::wire::{Frame, JoinAccept};

fuzz_target!(|bytes: &[u8]| {
    let key = AesKey([7; 16]);
    if let Ok(Frame::Data(view)) = Frame::parse(bytes) {
        let _ = (view.dev_addr(), view.counter_low(), view.mic(), view.verify(&MicKey::new(&key), 1));
        assert_eq!(view.decrypt(&PayloadKey::new(&key), 1).len(), view.frm_payload().len());
        let port = usize::from(view.fport().is_some());
        assert_eq!(12 + view.fopts().len() + port + view.frm_payload().len(), bytes.len());
    }
    let _ = JoinAccept::open(bytes, &key);
    for sf in 7..=12 {
        let _ = Beacon::parse(bytes, sf);
    }
});
