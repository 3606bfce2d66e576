//! Any text as pasted bytes, an EUI or a region.
#![no_main]

use libfuzzer_sys::fuzz_target;
use lorawan::region::Region;
use lorawan::{AesKey, Eui64, text};

fuzz_target!(|pasted: &str| {
    let _ = (text::frame(pasted), pasted.parse::<Eui64>(), pasted.parse::<AesKey>(), pasted.parse::<Region>());
});
