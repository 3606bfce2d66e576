//! Any payload in any topic of gateways behind a broker.
#![no_main]

use gateway_link::mqtt::{Echo, Order, Report, State, Topic, read, read_up};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|input: (&str, &[u8])| {
    let (topic, payload) = input;
    if let Some((gateway, parsed)) = Topic::parse(topic) {
        assert_eq!(parsed.of(gateway), topic);
    }
    let _ = (read_up(payload), read::<Order>(payload), read::<Report>(payload));
    let _ = (read::<Echo>(payload), read::<State>(payload));
});
