//! What the link layer costs, beside the raw AES-CMAC and AES rates over the same bytes: the limits
//! that nothing built on them can pass. Figures and how they were taken: `docs/performance.md`.

use criterion::{BenchmarkId, Criterion, Throughput, criterion_group, criterion_main};
use lorawan::crypto::{Binding, MicKey, PayloadKey, session_keys};
use lorawan::dissect::{self, Known};
use lorawan::mac::{DownCommand, LinkAdr, UpCommand, commands};
use lorawan::region::{ChannelMask, ChannelSet, Region};
use lorawan::wire::{
    DataRepr, DownlinkFlags, Frame, JoinAccept, JoinRequestRepr, MAX_PHY_PAYLOAD, NetworkKeys11, UplinkFlags,
};
use lorawan::{AesKey, DevAddr, Eui64, NetId};
use std::hint::black_box;

const ADDR: DevAddr = DevAddr(0x0200_0001);
const NWK: AesKey = AesKey([0x2b; 16]);
const APP: AesKey = AesKey([0x7e; 16]);

fn uplinks(c: &mut Criterion) {
    let (mic_key, payload_key) = (MicKey::new(&NWK), PayloadKey::new(&APP));
    let keys_1_1 = NetworkKeys11::new(&NWK, &AesKey([3; 16]), &AesKey([4; 16]));
    let binding = Binding { conf_f_cnt: 0, tx_dr: 5, tx_ch: 2 };
    let mut group = c.benchmark_group("uplink");
    for len in [12, 51, 222] {
        let payload = vec![0x5a; len];
        let repr = DataRepr::uplink(ADDR, 412, UplinkFlags::default(), Some((2, &payload)));
        let frame = repr.emit(&mic_key, &payload_key).expect("within 255 bytes");
        let frame_1_1 = repr.emit_1_1(&keys_1_1, &payload_key, binding).expect("within 255 bytes");
        group.throughput(Throughput::Elements(1));
        group.bench_with_input(BenchmarkId::new("raw-aes-cmac", len), &frame, |b, frame| {
            b.iter(|| mic_key.cmac(black_box(frame)));
        });
        group.bench_with_input(BenchmarkId::new("raw-aes", len), &frame, |b, frame| {
            let mut buffer = [0; MAX_PHY_PAYLOAD];
            buffer[..frame.len()].copy_from_slice(frame);
            b.iter(|| {
                payload_key.apply(lorawan::Direction::Up, ADDR, 412, black_box(&mut buffer[..frame.len()]));
            });
        });
        group.bench_with_input(BenchmarkId::new("parse", len), &frame, |b, frame| {
            b.iter(|| {
                let Ok(Frame::Data(view)) = Frame::parse(black_box(frame)) else { panic!("a data frame") };
                (view.dev_addr(), view.counter_low(), view.fport(), view.frm_payload().len())
            });
        });
        group.bench_with_input(BenchmarkId::new("parse-verify-decrypt", len), &frame, |b, frame| {
            b.iter(|| {
                let mut buffer = [0; MAX_PHY_PAYLOAD];
                let Ok(Frame::Data(view)) = Frame::parse(black_box(frame)) else { panic!("a data frame") };
                assert!(view.verify(&mic_key, 412));
                view.decrypt_into(&payload_key, 412, &mut buffer).len()
            });
        });
        // Two keys sign an uplink of 1.1, so the whole frame is read twice.
        group.bench_with_input(BenchmarkId::new("parse-verify-decrypt-1.1", len), &frame_1_1, |b, frame| {
            b.iter(|| {
                let mut buffer = [0; MAX_PHY_PAYLOAD];
                let Ok(Frame::Data(view)) = Frame::parse(black_box(frame)) else { panic!("a data frame") };
                assert!(view.verify_1_1(&keys_1_1, 412, binding));
                view.decrypt_into(&payload_key, 412, &mut buffer).len()
            });
        });
        // What a network pays that keeps raw keys in its sessions and prepares them for each frame.
        group.bench_with_input(BenchmarkId::new("keys-prepared-each-time", len), &frame, |b, frame| {
            b.iter(|| {
                let mut buffer = [0; MAX_PHY_PAYLOAD];
                let Ok(Frame::Data(view)) = Frame::parse(black_box(frame)) else { panic!("a data frame") };
                assert!(view.verify(&MicKey::new(&NWK), 412));
                view.decrypt_into(&PayloadKey::new(&APP), 412, &mut buffer).len()
            });
        });
        group.bench_with_input(BenchmarkId::new("build-encrypt-sign", len), &payload, |b, payload| {
            b.iter(|| {
                let flags = DownlinkFlags { ack: true, ..DownlinkFlags::default() };
                let repr = DataRepr::downlink(ADDR, 412, flags, Some((2, black_box(payload))));
                repr.emit(&mic_key, &payload_key).expect("within 255 bytes")
            });
        });
    }
    group.finish();
}

fn joins(c: &mut Criterion) {
    let request = JoinRequestRepr { join_eui: Eui64(1), dev_eui: Eui64(2), dev_nonce: 7 };
    let frame = request.emit(&MicKey::new(&NWK));
    let accept = JoinAccept {
        join_nonce: 5,
        net_id: NetId::new(1),
        dev_addr: ADDR,
        opt_neg: false,
        rx1_data_rate_offset: 0,
        rx2_data_rate: 0,
        rx_delay_s: 1,
        cf_list: Some(Region::Eu868.plan().cf_list(ChannelSet::EMPTY)),
    };
    let mut group = c.benchmark_group("join");
    group.throughput(Throughput::Elements(1));
    let prepared = MicKey::new(&NWK);
    group.bench_function("raw-aes-cmac", |b| b.iter(|| prepared.cmac(black_box(&frame))));
    group.bench_function("verify", |b| {
        b.iter(|| {
            let Ok(Frame::JoinRequest(view)) = Frame::parse(black_box(&frame)) else { panic!("a join-request") };
            assert!(view.verify(&MicKey::new(&NWK)));
        });
    });
    group.bench_function("verify-and-accept", |b| {
        b.iter(|| {
            let Ok(Frame::JoinRequest(view)) = Frame::parse(black_box(&frame)) else { panic!("a join-request") };
            assert!(view.verify(&MicKey::new(&NWK)));
            (session_keys(&NWK, accept.join_nonce, accept.net_id, view.dev_nonce()), accept.seal(&NWK))
        });
    });
    group.finish();
}

fn mac_commands(c: &mut Criterion) {
    // LinkADRAns, DevStatusAns, RXParamSetupAns, DeviceTimeReq, LinkCheckReq: nine bytes.
    let up = [0x03, 0x07, 0x06, 0xff, 0x05, 0x05, 0x07, 0x0d, 0x02];
    let mut down = Vec::new();
    let channels = ChannelMask { cntl: 0, mask: 0x00ff };
    DownCommand::LinkAdrReq(LinkAdr { data_rate: Some(5), tx_power: Some(1), channels, nb_trans: 1 }).emit(&mut down);
    DownCommand::DeviceTimeAns { gps_s: 1_400_000_000, fraction: 3 }.emit(&mut down);
    let mut group = c.benchmark_group("mac-commands");
    group.throughput(Throughput::Elements(1));
    group.bench_function("parse-five-uplink-commands", |b| {
        b.iter(|| commands::<UpCommand>(black_box(&up)).filter(Result::is_ok).count());
    });
    group.bench_function("parse-two-downlink-commands", |b| {
        b.iter(|| commands::<DownCommand>(black_box(&down)).filter(Result::is_ok).count());
    });
    group.finish();
}

fn masks(c: &mut Criterion) {
    let plan = Region::Us915.plan();
    let all = plan.known_channels();
    let block = plan.eight_channels(1).expect("a block of US915");
    let odd: ChannelSet = [1, 20, 40, 60, 70].into_iter().collect();
    let mut group = c.benchmark_group("us915-masks");
    for (name, wanted) in [("one-block", block), ("five-groups", odd)] {
        group.bench_function(name, |b| {
            b.iter(|| plan.link_adr_masks(black_box(all), black_box(all), black_box(wanted)).map(|steps| steps.len()));
        });
    }
    group.finish();
}

fn taking_apart(c: &mut Criterion) {
    let (mic_key, payload_key) = (MicKey::new(&NWK), PayloadKey::new(&APP));
    let frame = DataRepr::uplink(ADDR, 412, UplinkFlags::default(), Some((2, &[0x5a; 20])))
        .with_fopts(&[0x02, 0x06, 0xff, 0x05])
        .emit(&mic_key, &payload_key)
        .expect("within 255 bytes");
    c.bench_function("dissect-in-words", |b| b.iter(|| dissect::frame(black_box(&frame), &Known::default())));
}

criterion_group!(benches, uplinks, joins, mac_commands, masks, taking_apart);
criterion_main!(benches);
