//! What decoding an uplink by script costs, beside a script that does nothing. Figures: `docs/performance.md`.

use std::hint::black_box;

use criterion::{Criterion, criterion_group, criterion_main};
use payload::{Interpreter, Limits, Script};

const EMPTY: &str = "function decodeUplink(input) { return { data: {} }; }";
const USUAL: &str = include_str!("../../../catalogue/models/brinemark-tg2/decoder.js");

fn decode(c: &mut Criterion) {
    let mut group = c.benchmark_group("script");
    for (name, source, bytes) in
        [("empty", EMPTY, &[1u8, 2, 3][..]), ("usual", USUAL, &[0x0a, 0x1b, 0x2c, 0, 0, 0, 0, 0])]
    {
        let mut interpreter = Interpreter::new();
        let script = Script::new(source, Limits::default()).expect("a script that loads");
        group.bench_function(name, |b| {
            b.iter(|| {
                black_box(script.decode_uplink(&mut interpreter, black_box(bytes), 2, 1_790_000_000_000, || false))
            });
        });
    }
    group.finish();
}

criterion_group!(benches, decode);
criterion_main!(benches);
