//! Any datagram on the gateways' port; what is read is written and read again the same.
#![no_main]

use gateway_link::udp::Datagram;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    if let Ok(datagram) = Datagram::parse(bytes)
        && let Datagram::PullResp { .. } | Datagram::PullData { .. } | Datagram::TxAck { .. } = datagram
    {
        assert_eq!(Datagram::parse(&datagram.emit()), Ok(datagram));
    }
});
