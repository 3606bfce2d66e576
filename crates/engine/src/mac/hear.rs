//! MAC commands from a device. What it asks for is answered in the next downlink.
//!
//! A device that does not hear the answer asks again, so nothing is kept of a question.

use lorawan::class_b::BEACON_PERIOD_S;
use lorawan::mac::{DeviceClass, DownCommand, UpCommand, commands};
use lorawan::{MacVersion, gps_time};

use crate::device::profile::Class;
use crate::uplink::collect::Collected;

/// The results of a frame's MAC commands.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct Heard {
    /// Everything that could be read.
    pub(crate) commands: Vec<UpCommand>,
    /// The answers.
    pub(crate) answers: Vec<DownCommand>,
    /// Warnings about what could not be read.
    pub(crate) warning: Option<String>,
    /// The device has started over with its default parameters (1.1, ABP).
    pub(crate) reset: bool,
    /// The class the device says it is in (1.1).
    pub(crate) class: Option<Class>,
    /// Ping slots every 2^n seconds.
    pub(crate) ping_periodicity: Option<u8>,
}

/// Reads the commands of a frame, which are in the clear. A question that is asked twice in one frame
/// is answered once.
pub(crate) fn hear(clear: &[u8], version: MacVersion, frame: &Collected) -> Heard {
    let mut heard = Heard::default();
    for command in commands::<UpCommand>(clear) {
        let command = match command {
            Ok(placed) => placed.command,
            Err(why) => {
                heard.warning = Some(format!("in its MAC commands, {why}"));
                continue;
            }
        };
        let repeated = heard.commands.contains(&command);
        heard.commands.push(command);
        // What the network offers: 1.1, or less if the device has less.
        let offered = |minor: u8| minor.min(1);
        let answer = match command {
            UpCommand::LinkCheckReq => link_check_ans(frame),
            UpCommand::DeviceTimeReq => device_time_ans(frame),
            UpCommand::BeaconTimingReq => beacon_timing_ans(frame),
            UpCommand::PingSlotInfoReq { periodicity } => {
                heard.ping_periodicity = Some(periodicity);
                DownCommand::PingSlotInfoAns
            }
            UpCommand::RekeyInd { minor } if version == MacVersion::V1_1 => {
                DownCommand::RekeyConf { minor: offered(minor) }
            }
            UpCommand::ResetInd { minor } if version == MacVersion::V1_1 => {
                heard.reset = true;
                DownCommand::ResetConf { minor: offered(minor) }
            }
            UpCommand::DeviceModeInd { class } => {
                heard.class = match class {
                    DeviceClass::A => Some(Class::A),
                    DeviceClass::C => Some(Class::C),
                    DeviceClass::Reserved(_) => continue,
                };
                DownCommand::DeviceModeConf { class }
            }
            _ => continue,
        };
        if !repeated {
            heard.answers.push(answer);
        }
    }
    heard
}

/// Margin above the demodulation floor, of the copy heard best (TS001 §5.1).
fn link_check_ans(frame: &Collected) -> DownCommand {
    // Without a known floor, the SNR itself is given.
    let floor_db = frame.best().modulation.required_snr_db().unwrap_or(0.0);
    let snr_db = frame.copies.iter().filter_map(|copy| copy.snr_db).fold(f32::NEG_INFINITY, f32::max);
    // A cast of what is out of range ends at the range, and of no number at 0.
    let margin_db = ((f64::from(snr_db) - floor_db).floor() as u8).min(254);
    DownCommand::LinkCheckAns { margin_db, gateways: u8::try_from(frame.copies.len()).unwrap_or(u8::MAX) }
}

/// The time at the end of the uplink (TS001 §5.9): when the first gateway's copy of it came in.
fn device_time_ans(frame: &Collected) -> DownCommand {
    let gps_us = gps_us_at_end(frame);
    DownCommand::DeviceTimeAns {
        // 32 bits of GPS seconds last until 2116.
        gps_s: (gps_us / 1_000_000) as u32,
        fraction: (gps_us % 1_000_000 * 256 / 1_000_000) as u8,
    }
}

/// Time to the next beacon in steps of 30 ms (TS001-1.1 §14.4). The channel is that of the table's first.
fn beacon_timing_ans(frame: &Collected) -> DownCommand {
    let period_us = i64::from(BEACON_PERIOD_S) * 1_000_000;
    let left_us = period_us - gps_us_at_end(frame) % period_us;
    DownCommand::BeaconTimingAns { delay: (left_us / 30_000) as u16, channel: 0 }
}

fn gps_us_at_end(frame: &Collected) -> i64 {
    gps_time::from_unix_us(frame.first_heard().0).max(0)
}
