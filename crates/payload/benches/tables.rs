//! What decoding an uplink by a field table of eight fields costs, and by the low-power format. Figures: `docs/performance.md`.

use std::hint::black_box;

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use payload::{LowPower, Table};

const EIGHT: &str = "
[[block]]
ports = [2]
field = [
  { name = 'water_level', bytes = 2, scale = 0.001, unit = 'm' },
  { name = 'salinity', bytes = 2, scale = 0.01, unit = 'g/kg' },
  { name = 'temperature', bytes = 2, kind = 'signed', scale = 0.1, unit = '°C' },
  { name = 'battery', bytes = 1, scale = 0.02, unit = 'V' },
  { name = 'tide', at = 7, bits = 12, bytes = 2 },
  { name = 'dry', at = 7, bytes = 2, low_bit = 12, kind = 'flag' },
  { name = 'turns', bytes = 4, endian = 'little' },
  { name = 'flow', bytes = 4, kind = 'float' },
]
";

fn decode(c: &mut Criterion) {
    let mut group = c.benchmark_group("tables");
    group.throughput(Throughput::Elements(1));
    let bytes = [0x09, 0x6d, 0x0c, 0xe4, 0x00, 0x91, 0xb4, 0x1a, 0xbc, 1, 2, 3, 4, 0x41, 0xc8, 0, 0];
    let table = Table::new(EIGHT).expect("a table that loads");
    let mut out = Vec::with_capacity(16);
    group.bench_function("eight fields", |b| {
        b.iter(|| {
            out.clear();
            table.decode(2, black_box(&bytes), &mut out).expect("a payload of this table");
            black_box(out.len())
        });
    });
    let channels =
        LowPower::new("channels = { 3 = 'water', 5 = 'air', 6 = 'humidity', 7 = 'gate' }").expect("channels");
    let bytes = [3, 103, 0x01, 0x10, 5, 103, 0xff, 0xd7, 6, 104, 0x65, 7, 0, 1];
    group.bench_function("low-power format, four records", |b| {
        b.iter(|| {
            out.clear();
            channels.decode(black_box(&bytes), &mut out).expect("a payload of this format");
            black_box(out.len())
        });
    });
    group.finish();
}

criterion_group!(benches, decode);
criterion_main!(benches);
