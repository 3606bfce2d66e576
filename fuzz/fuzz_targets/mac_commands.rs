//! Any bytes as MAC commands; what is read is written back and read again.
#![no_main]

use libfuzzer_sys::fuzz_target;
use lorawan::mac::{DownCommand, UpCommand, commands};

fuzz_target!(|bytes: &[u8]| {
    let up: Vec<UpCommand> = commands(bytes).map_while(Result::ok).map(|placed| placed.command).collect();
    let mut written = Vec::new();
    up.iter().for_each(|command| command.emit(&mut written));
    assert!(commands::<UpCommand>(&written).map_while(Result::ok).map(|placed| placed.command).eq(up));
    let down: Vec<DownCommand> = commands(bytes).map_while(Result::ok).map(|placed| placed.command).collect();
    let mut written = Vec::new();
    down.iter().for_each(|command| command.emit(&mut written));
    assert!(commands::<DownCommand>(&written).map_while(Result::ok).map(|placed| placed.command).eq(down));
});
