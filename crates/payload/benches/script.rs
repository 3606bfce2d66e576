//! What decoding an uplink by script costs, beside a script that does nothing. Figures: `docs/performance.md`.

use std::hint::black_box;

use criterion::{Criterion, criterion_group, criterion_main};
use payload::{Interpreter, Limits, Script};
use rquickjs::{Context, Function, Object, Runtime, Value};

const EMPTY: &str = "function decodeUplink(input) { return { data: {} }; }";
const USUAL: &str = include_str!("../../../catalogue/models/brinemark-tg2/decoder.js");
const BYTES: &[u8] = &[0x09, 0x6e, 0x0c, 0xe4, 0x0e, 0x10];

fn decode(c: &mut Criterion) {
    let mut group = c.benchmark_group("script");
    for (name, source, bytes) in [("empty", EMPTY, &[1u8, 2, 3][..]), ("usual", USUAL, BYTES)] {
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

/// The same script and the same call in a bare interpreter, without limits, locks or readings: what `usual` is held
/// against.
fn lone(c: &mut Criterion) {
    let runtime = Runtime::new().expect("a runtime");
    let context = Context::full(&runtime).expect("a context");
    context.with(|ctx| {
        ctx.eval::<(), _>(USUAL).expect("a script that loads");
        let function: Function = ctx.globals().get("decodeUplink").expect("a function");
        c.bench_function("script/lone", |b| {
            b.iter(|| {
                let input = Object::new(ctx.clone()).expect("an object");
                input.set("bytes", black_box(BYTES).to_vec()).expect("bytes");
                input.set("fPort", 2).expect("a port");
                let date: Value = ctx.eval("new Date(1790000000000)").expect("a date");
                input.set("recvTime", date).expect("a time");
                let result: Value = function.call((input,)).expect("a result");
                black_box(ctx.json_stringify(result).expect("JSON").map(|text| text.to_string()))
            });
        });
    });
}

criterion_group!(benches, decode, lone);
criterion_main!(benches);
