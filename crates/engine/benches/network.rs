//! What the engine takes on one core: uplinks of many devices with three copies each, joins, sessions that
//! share an address. Frames are made beforehand; only the engine's own time counts, with every timer, check
//! and effect. Figures and how they were taken: `docs/performance.md`.

use std::hint::black_box;
use std::sync::Arc;
use std::time::{Duration, Instant};

use criterion::{BenchmarkId, Criterion, Throughput, criterion_group, criterion_main};
use engine::*;
use lorawan::crypto::{MicKey, PayloadKey, SessionKeys};
use lorawan::region::Region;
use lorawan::wire::{DataRepr, JoinRequestRepr, UplinkFlags};
use lorawan::{AesKey, DevAddr, Eui64, Modulation};
use mimalloc::MiMalloc;

/// The service's.
#[global_allocator]
static ALLOCATOR: MiMalloc = MiMalloc;

const DEVICES: u64 = 100_000;
const GATEWAYS: [Eui64; 3] = [Eui64(1), Eui64(2), Eui64(3)];
/// Between two uplinks: 1000 a second of the network's own time.
const STEP_US: i64 = 1_000;

fn keys(n: u64) -> SessionKeys {
    let mut keys = SessionKeys { nwk_s_key: AesKey([7; 16]), app_s_key: AesKey([9; 16]) };
    keys.nwk_s_key.0[..8].copy_from_slice(&n.to_be_bytes());
    keys
}

/// A device that is personalized, at `address`.
fn device(n: u64, address: DevAddr, profile: &Arc<RadioProfile>) -> DeviceConfig {
    DeviceConfig {
        dev_eui: Eui64(0x02bb_0000_0000_0000 + n),
        join_eui: Eui64(0x02aa_0000_0000_0001),
        activation: Activation::Personalized { dev_addr: address, keys: Box::new(keys(n).into()) },
        profile: Arc::clone(profile),
        policy: Policy::default(),
        estate: 0,
        fleet: 1,
        disabled: false,
    }
}

fn engine() -> Engine {
    let mut engine = Engine::new(Config { seed: 1, ..Config::default() });
    for gateway in GATEWAYS {
        let command = Command::PutGateway(GatewayConfig::new(gateway, Region::Eu868, 2.0));
        engine.handle(Timestamp(0), Input::Command(command), &mut Vec::new());
    }
    engine
}

/// Nothing is asked of devices but, with `adaptive`, their data rate.
fn profile(adaptive: bool) -> Arc<RadioProfile> {
    let base = RadioProfile::of(Region::Eu868);
    // Personalized devices know these channels, so none have to be given to them.
    let channels = base.plan().known_channels();
    let rates = if adaptive { base.rates } else { Rates::Device };
    Arc::new(RadioProfile { rates, channels, status_every_s: 0, ..base })
}

fn put(engine: &mut Engine, config: DeviceConfig) {
    engine.handle(Timestamp(0), Input::Command(Command::PutDevice(Box::new(config))), &mut Vec::new());
}

fn heard(phy_payload: &[u8], gateway: Eui64, at: Timestamp) -> FrameHeard {
    FrameHeard {
        phy_payload: phy_payload.to_vec(),
        reception: Reception {
            gateway,
            heard_at: at,
            clock_us: at.0 as u32,
            has_gps: false,
            frequency_hz: 868_100_000,
            modulation: Modulation::lora(7, 125).expect("a data rate"),
            rssi_dbm: -100.0,
            snr_db: Some(gateway.0 as f32),
        },
    }
}

/// Runs frames through the engine as three gateways hear each; gives the engine's time. The frames are
/// copied for the gateways beforehand, as their listener does in the service.
fn run(engine: &mut Engine, now: &mut Timestamp, frames: &[Vec<u8>]) -> Duration {
    let copies: Vec<(Timestamp, FrameHeard)> = frames
        .iter()
        .zip(1..)
        .flat_map(|(frame, i)| {
            let at = now.plus_us(STEP_US * i);
            GATEWAYS.map(|gateway| (at, heard(frame, gateway, at)))
        })
        .collect();
    let last = copies.last().map_or(*now, |(at, _)| *at);
    let mut effects = Vec::with_capacity(64);
    let start = Instant::now();
    for (at, copy) in copies {
        engine.handle(at, Input::FrameHeard(copy), &mut effects);
        if effects.len() > 32 {
            black_box(&effects);
            effects.clear();
        }
    }
    *now = last.plus_us(1_000_000);
    engine.handle(*now, Input::Tick, &mut effects);
    black_box(&effects);
    start.elapsed()
}

/// Times `count` more frames of a row that goes on after `sent`, made a part at a time so that they never
/// take much memory.
fn in_parts(
    count: u64,
    sent: &mut u64,
    engine: &mut Engine,
    now: &mut Timestamp,
    frame: impl Fn(u64) -> Vec<u8>,
) -> Duration {
    let mut taken = Duration::ZERO;
    let end = *sent + count;
    while *sent < end {
        let part = *sent..end.min(*sent + 20_000);
        *sent = part.end;
        let frames: Vec<Vec<u8>> = part.map(&frame).collect();
        taken += run(engine, now, &frames);
    }
    taken
}

fn uplinks(c: &mut Criterion) {
    let mut group = c.benchmark_group("engine");
    group.throughput(Throughput::Elements(1)).sample_size(10).measurement_time(Duration::from_secs(10));
    for (name, profile) in [("uplink", profile(false)), ("uplink-adr", profile(true))] {
        let mut engine = engine();
        for n in 0..DEVICES {
            put(&mut engine, device(n, DevAddr(n as u32), &profile));
        }
        let ready: Vec<MicKey> = (0..DEVICES).map(|n| MicKey::new(&keys(n).nwk_s_key)).collect();
        let app = PayloadKey::new(&keys(0).app_s_key);
        let (mut now, mut sent) = (Timestamp(1_790_000_000_000_000), 0u64);
        let flags = UplinkFlags { adr: name == "uplink-adr", ..UplinkFlags::default() };
        group.bench_function(BenchmarkId::new(name, DEVICES), |b| {
            b.iter_custom(|count| {
                in_parts(count, &mut sent, &mut engine, &mut now, |i| {
                    let (n, counter) = (i % DEVICES, i / DEVICES);
                    let payload = Some((2, &[0x5a; 12][..]));
                    let repr = DataRepr::uplink(DevAddr(n as u32), counter as u32, flags, payload);
                    repr.emit(&ready[n as usize], &app).expect("within 255 bytes")
                })
            });
        });
    }
    group.finish();
}

fn joins(c: &mut Criterion) {
    let mut group = c.benchmark_group("engine");
    group.throughput(Throughput::Elements(1)).sample_size(10).measurement_time(Duration::from_secs(10));
    let profile = profile(false);
    let root = AesKey([5; 16]);
    let mut engine = engine();
    for n in 0..DEVICES {
        let activation = Activation::OverTheAir(RootKeys { app_key: root, nwk_key: None });
        put(&mut engine, DeviceConfig { activation, ..device(n, DevAddr(0), &profile) });
    }
    let key = MicKey::new(&root);
    let (mut now, mut sent) = (Timestamp(1_790_000_000_000_000), 0u64);
    group.bench_function(BenchmarkId::new("join", DEVICES), |b| {
        b.iter_custom(|count| {
            in_parts(count, &mut sent, &mut engine, &mut now, |i| {
                let dev_eui = Eui64(0x02bb_0000_0000_0000 + i % DEVICES);
                let dev_nonce = (i / DEVICES) as u16;
                JoinRequestRepr { join_eui: Eui64(0x02aa_0000_0000_0001), dev_eui, dev_nonce }.emit(&key)
            })
        });
    });
    group.finish();
}

/// All sessions at the address have to be tried: the MIC decides whose a frame is.
fn shared_address(c: &mut Criterion) {
    const SHARING: u64 = 1000;
    let mut group = c.benchmark_group("engine");
    group.throughput(Throughput::Elements(1)).sample_size(10).measurement_time(Duration::from_secs(5));
    let profile = profile(false);
    let mut engine = engine();
    for n in 0..SHARING {
        put(&mut engine, device(n, DevAddr(77), &profile));
    }
    let app = PayloadKey::new(&keys(0).app_s_key);
    let (mut now, mut counter) = (Timestamp(1_790_000_000_000_000), 0);
    let last = MicKey::new(&keys(SHARING - 1).nwk_s_key);
    group.bench_function(BenchmarkId::new("uplink-of-sessions-at-one-address", SHARING), |b| {
        b.iter_custom(|count| {
            let frames: Vec<Vec<u8>> = (counter..counter + count as u32)
                .map(|counter| {
                    let repr = DataRepr::uplink(DevAddr(77), counter, UplinkFlags::default(), Some((2, &[1; 12])));
                    repr.emit(&last, &app).expect("within 255 bytes")
                })
                .collect();
            counter += count as u32;
            run(&mut engine, &mut now, &frames)
        });
    });
    group.finish();
}

/// What a device costs in memory, by the process's own account of its resident pages: not a time, so it is
/// printed and not measured by the harness.
fn memory(_: &mut Criterion) {
    const IDLE: u64 = 1_000_000;
    let resident = || -> Option<u64> {
        let text = std::fs::read_to_string("/proc/self/statm").ok()?;
        Some(text.split_whitespace().nth(1)?.parse::<u64>().ok()? * 4096)
    };
    let profile = Arc::new(RadioProfile::of(Region::Eu868));
    let mut engine = engine();
    let before = resident();
    for n in 0..IDLE {
        let record = DeviceRecord::new(device(n, DevAddr(n as u32), &profile));
        let command = Command::RestoreDevice(Box::new(record));
        engine.handle(Timestamp(0), Input::Command(command), &mut Vec::new());
    }
    if let (Some(before), Some(after)) = (before, resident()) {
        println!("engine/memory: {} bytes a device, {IDLE} devices with a session", (after - before) / IDLE);
    }
    black_box(&engine);
}

criterion_group!(benches, memory, uplinks, joins, shared_address);
criterion_main!(benches);
