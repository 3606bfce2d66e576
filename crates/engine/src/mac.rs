//! MAC commands of a device: what it asks for is answered in the very next downlink.
//!
//! A device that does not hear the answer asks again, so nothing is kept of a question.

use lorawan::Modulation;
use lorawan::gps_time;
use lorawan::mac::{DownCommand, UpCommand, commands};

use crate::collect::Collected;

/// What a frame's MAC commands lead to.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct Heard {
    /// Commands for FOpts of the answer: at most nine bytes, so they fit.
    pub(crate) answers: Vec<u8>,
    /// What could not be read.
    pub(crate) warning: Option<String>,
}

/// Reads the commands of a frame, which are in the clear. A question that is asked twice in one frame
/// is answered once.
pub(crate) fn hear(clear: &[u8], frame: &Collected) -> Heard {
    let mut heard = Heard::default();
    let (mut link_check, mut device_time) = (false, false);
    for command in commands::<UpCommand>(clear) {
        let answer = match command.map(|placed| placed.command) {
            Ok(UpCommand::LinkCheckReq) if !std::mem::replace(&mut link_check, true) => link_check_ans(frame),
            Ok(UpCommand::DeviceTimeReq) if !std::mem::replace(&mut device_time, true) => device_time_ans(frame),
            Ok(_) => continue,
            Err(why) => {
                heard.warning = Some(format!("in its MAC commands, {why}"));
                continue;
            }
        };
        answer.emit(&mut heard.answers);
    }
    heard
}

/// Margin above the demodulation floor, of the copy heard best (TS001 §5.1).
fn link_check_ans(frame: &Collected) -> DownCommand {
    let floor_db = match frame.best().modulation {
        Modulation::Lora { spreading_factor, .. } => spreading_factor.required_snr_db(),
        // No floor is laid down for the others; their SNR is told as it is.
        Modulation::Fsk { .. } | Modulation::LrFhss { .. } => 0.0,
    };
    let snr_db = frame.copies.iter().filter_map(|copy| copy.snr_db).fold(f32::NEG_INFINITY, f32::max);
    // A cast of what is out of range ends at the range, and of no number at 0.
    let margin_db = ((f64::from(snr_db) - floor_db).floor() as u8).min(254);
    DownCommand::LinkCheckAns { margin_db, gateways: u8::try_from(frame.copies.len()).unwrap_or(u8::MAX) }
}

/// The time at the end of the uplink (TS001 §5.9): when the first gateway's copy of it came in.
fn device_time_ans(frame: &Collected) -> DownCommand {
    let first = frame.copies.iter().map(|copy| copy.heard_at.0).min().unwrap_or_default();
    let gps_us = gps_time::from_unix_us(first).max(0);
    DownCommand::DeviceTimeAns {
        // 32 bits of GPS seconds last until 2116.
        gps_s: (gps_us / 1_000_000) as u32,
        fraction: (gps_us % 1_000_000 * 256 / 1_000_000) as u8,
    }
}
