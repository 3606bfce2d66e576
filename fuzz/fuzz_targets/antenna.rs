//! Any antenna as JSON: it is refused, or has a gain in every direction.
#![no_main]

use coverage::link::antenna::Antenna;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let Ok(antenna) = serde_json::from_slice::<Antenna>(bytes) else { return };
    if antenna.check().is_ok() {
        for bearing in 0..36 {
            assert!(antenna.gain_dbi(f64::from(bearing) * 10.0, f64::from(bearing) - 18.0).is_finite());
        }
    }
});
