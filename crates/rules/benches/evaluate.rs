//! What a rule costs for each message.
#![allow(clippy::unwrap_used)]

use std::hint::black_box;

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use rules::{AtMs, Combine, Condition, Machine, Rule, Test, Value};

const DEVICES: u64 = 10_000;

/// Two conditions on two readings, one of them with hysteresis, held for a while.
fn two_conditions() -> Rule {
    let conditions = vec![
        Condition { source: 0, test: Test::Above { limit: 3.0, back_by: 0.5 } },
        Condition { source: 1, test: Test::Is(Value::Flag(true)) },
    ];
    Rule { conditions, combine: Combine::All, hold_ms: 60_000, at_least: 1, active: None, reopen_within_ms: 0 }
}

fn evaluate(c: &mut Criterion) {
    let mut group = c.benchmark_group("evaluate");
    group.throughput(Throughput::Elements(DEVICES));
    for (name, level) in [("seldom holds", 0.1), ("often holds", 5.0)] {
        group.bench_function(name, |b| {
            let (mut machine, mut events, mut round) = (Machine::new(two_conditions()), Vec::new(), 0_i64);
            b.iter(|| {
                round += 1;
                for device in 0..DEVICES {
                    let level = if (device as i64 + round) % 7 == 0 { 5.0 } else { level };
                    let samples = [(0, Value::Number(level)), (1, Value::Flag((round + device as i64) % 3 != 0))];
                    machine.apply(device, AtMs(round * 30_000), &samples, &mut events);
                }
                machine.advance(AtMs(round * 30_000), &mut events);
                black_box(machine.take_changed());
                events.clear();
            });
        });
    }
    group.finish();
}

criterion_group!(benches, evaluate);
criterion_main!(benches);
