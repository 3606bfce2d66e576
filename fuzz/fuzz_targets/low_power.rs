#![no_main]
//! Payloads of the low-power format, with whatever names.

use libfuzzer_sys::fuzz_target;
use payload::LowPower;

fuzz_target!(|input: (&str, &[u8])| {
    let (source, bytes) = input;
    let names = LowPower::new(source).or_else(|_| LowPower::new("")).expect("no names are good names");
    let _ = names.decode(bytes, &mut Vec::new());
});
