//! Attacks from outside and from within: what somebody takes from others, and what they keep when they should not.

mod accounts;
mod broker;
mod floods;
mod parts;

use std::io::Write as _;
use std::net::TcpStream;

use e2e::service::Service;

/// A connection to the service on which this was said.
fn said(service: &Service, text: &str) -> TcpStream {
    let address = service.http.trim_start_matches("http://");
    let mut stream = TcpStream::connect(address).unwrap();
    stream.write_all(text.as_bytes()).unwrap();
    stream
}
