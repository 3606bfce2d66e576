//! Parse + verify + decrypt of an uplink, beside the raw AES-CMAC rate over the same bytes: the
//! limit that nothing built on it can pass.

use criterion::{BenchmarkId, Criterion, Throughput, criterion_group, criterion_main};
use lorawan::crypto::{MicKey, PayloadKey};
use lorawan::wire::{DataRepr, Frame, UplinkFlags};
use lorawan::{AesKey, DevAddr};
use std::hint::black_box;

fn uplinks(c: &mut Criterion) {
    let (nwk, app) = (AesKey([0x2b; 16]), AesKey([0x7e; 16]));
    let (mic_key, payload_key) = (MicKey::new(&nwk), PayloadKey::new(&app));
    let mut group = c.benchmark_group("uplink");
    for len in [12, 51, 222] {
        let payload = vec![0x5a; len];
        let frame = DataRepr::uplink(DevAddr(0x0200_0001), 412, UplinkFlags::default(), Some((2, &payload)))
            .emit(&mic_key, &payload_key)
            .expect("within 255 bytes");
        group.throughput(Throughput::Elements(1));
        group.bench_with_input(BenchmarkId::new("raw-aes-cmac", len), &frame, |b, frame| {
            b.iter(|| mic_key.cmac(black_box(frame)));
        });
        group.bench_with_input(BenchmarkId::new("parse-verify-decrypt", len), &frame, |b, frame| {
            b.iter(|| {
                let Ok(Frame::Data(view)) = Frame::parse(black_box(frame)) else { panic!("a data frame") };
                assert!(view.verify(&mic_key, 412));
                view.decrypt(&payload_key, 412)
            });
        });
        // What a network pays that keeps raw keys in its sessions and prepares them for each frame.
        group.bench_with_input(BenchmarkId::new("keys-prepared-each-time", len), &frame, |b, frame| {
            b.iter(|| {
                let Ok(Frame::Data(view)) = Frame::parse(black_box(frame)) else { panic!("a data frame") };
                assert!(view.verify(&MicKey::new(&nwk), 412));
                view.decrypt(&PayloadKey::new(&app), 412)
            });
        });
    }
    group.finish();
}

criterion_group!(benches, uplinks);
criterion_main!(benches);
