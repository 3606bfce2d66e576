//! Any text from a gateway by WebSocket, and any answer to one; frames that are read are written and read again the
//! same.
#![no_main]

use gateway_link::lns::{Answer, FromGateway, Query, ToGateway};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let _ = (Query::parse(text), Answer::parse(text));
    if let Ok(FromGateway::Heard(heard)) = FromGateway::parse(text) {
        let again = FromGateway::parse(&FromGateway::Heard(heard.clone()).emit());
        let Ok(FromGateway::Heard(again)) = again else { panic!("{again:?}") };
        assert_eq!(again.phy_payload, heard.phy_payload);
    }
    if let Ok(ToGateway::Config(config)) = ToGateway::parse(text) {
        let _ = (config.listens_on_hz(), config.modulation(3));
    }
});
