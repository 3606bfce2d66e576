//! Any question over CUPS, and any answer; what is read is written and read again the same.
#![no_main]

use gateway_link::cups::{Credentials, Question, Update};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let _ = (Question::parse(bytes), Credentials::parse(bytes));
    if let Ok(update) = Update::parse(bytes) {
        let emitted = update.emit().expect("its parts have come in this form");
        assert_eq!(Update::parse(&emitted), Ok(update));
    }
});
