//! Any bytes taken apart in words: no field reaches past the end.
#![no_main]

use libfuzzer_sys::fuzz_target;
use lorawan::dissect::{self, Known, SessionKeysKnown};
use lorawan::region::Region;
use lorawan::{AesKey, Eui64};

fuzz_target!(|bytes: &[u8]| {
    let key = Some(AesKey([7; 16]));
    // A counter and a nonce are given, so that nothing is searched and the fuzzer stays fast.
    let known = Known {
        app_key: key,
        nwk_key: key,
        dev_eui: Some(Eui64(1)),
        join_eui: Some(Eui64(2)),
        dev_nonce: Some(3),
        counter: Some(4),
        conf_f_cnt: Some(5),
        data_rate: Some(0),
        channel: Some(0),
        session: SessionKeysKnown {
            nwk_s_key: key,
            f_nwk_s_int_key: key,
            s_nwk_s_int_key: key,
            nwk_s_enc_key: key,
            app_s_key: key,
        },
        region: bytes.last().map(|byte| Region::ALL[usize::from(*byte) % Region::ALL.len()]),
        ..Known::default()
    };
    for known in [known, Known::default()] {
        let report = dissect::frame(bytes, &known);
        assert!(report.fields.iter().all(|field| field.at + field.len <= bytes.len()));
        assert!(report.stopped.is_none_or(|stop| stop.at <= bytes.len()));
    }
});
