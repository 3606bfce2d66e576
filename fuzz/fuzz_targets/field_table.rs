#![no_main]
//! A table that somebody saves, and a payload that somebody sends: whatever they are, both are read or refused.

use libfuzzer_sys::fuzz_target;
use payload::Table;

fuzz_target!(|input: (&str, u8, &[u8])| {
    let (source, port, bytes) = input;
    if let Ok(table) = Table::new(source) {
        let _ = table.decode(port, bytes, &mut Vec::new());
    }
});
