//! Commands as a sentence.

use std::fmt;

use chrono::DateTime;

use super::{DownCommand, LinkAdr, UpCommand};
use crate::gps_time;
use crate::region::Plan;

/// A frequency in hertz, written in megahertz.
pub(crate) struct Mhz(pub(crate) u32);

impl fmt::Display for Mhz {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} MHz", f64::from(self.0) / 1e6)
    }
}

/// Accepts or refuses, with what was refused.
fn answer(f: &mut fmt::Formatter<'_>, parts: &[(bool, &str)]) -> fmt::Result {
    let refused: Vec<&str> = parts.iter().filter(|(ok, _)| !ok).map(|(_, what)| *what).collect();
    if refused.is_empty() { f.write_str("accepted") } else { write!(f, "refused: {}", refused.join(", ")) }
}

/// LinkADRReq; its numbers are explained if the region is known.
fn link_adr(adr: &LinkAdr, plan: Option<&Plan>) -> String {
    let rate = match (adr.data_rate, plan) {
        (None, _) => "data rate unchanged".into(),
        (Some(index), Some(plan)) => plan.data_rate_label(index),
        (Some(index), None) => format!("DR{index}"),
    };
    let power = match (adr.tx_power, plan) {
        (None, _) => "power unchanged".into(),
        (Some(index), None) => format!("TXPower {index}"),
        (Some(index), Some(plan)) => match plan.tx_power.dbm(index) {
            Some(dbm) => format!("TXPower {index} ({dbm} dBm)"),
            None => format!("TXPower {index} (reserved)"),
        },
    };
    let channels = match plan {
        Some(plan) => plan.mask_label(adr.channels),
        None => format!("ChMaskCntl {}, ChMask 0x{:04x}", adr.channels.cntl, adr.channels.mask),
    };
    let times = match adr.nb_trans {
        0 => "NbTrans 0 (each uplink once; in 1.0.4 unchanged)".into(),
        1 => "each uplink once".into(),
        n => format!("each uplink {n} times"),
    };
    format!("{rate}, {power}, {channels}, {times}")
}

impl DownCommand {
    /// As text; a region explains its numbers.
    pub fn describe_in(&self, plan: &Plan) -> String {
        match self {
            DownCommand::LinkAdrReq(adr) => link_adr(adr, Some(plan)),
            other => other.to_string(),
        }
    }
}

impl fmt::Display for UpCommand {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match *self {
            UpCommand::ResetInd { minor } => write!(f, "the device was reset; LoRaWAN 1.{minor}"),
            UpCommand::LinkCheckReq => f.write_str("asks how well it is heard"),
            UpCommand::LinkAdrAns { power_ack, data_rate_ack, channel_mask_ack } => {
                answer(f, &[(power_ack, "power"), (data_rate_ack, "data rate"), (channel_mask_ack, "channel mask")])
            }
            UpCommand::DutyCycleAns | UpCommand::RxTimingSetupAns | UpCommand::TxParamSetupAns => {
                f.write_str("accepted")
            }
            UpCommand::AdrParamSetupAns => f.write_str("accepted"),
            UpCommand::RxParamSetupAns { rx1_offset_ack, rx2_data_rate_ack, channel_ack } => answer(
                f,
                &[
                    (rx1_offset_ack, "RX1DROffset"),
                    (rx2_data_rate_ack, "RX2 data rate"),
                    (channel_ack, "RX2 frequency"),
                ],
            ),
            UpCommand::DevStatusAns { battery, margin_db } => {
                write!(f, "{battery}; the request was heard with an SNR of {margin_db} dB")
            }
            UpCommand::NewChannelAns { data_rates_ack, frequency_ack } => {
                answer(f, &[(data_rates_ack, "data rates"), (frequency_ack, "frequency")])
            }
            UpCommand::DlChannelAns { uplink_exists_ack, frequency_ack } => {
                answer(f, &[(uplink_exists_ack, "the channel has no uplink frequency"), (frequency_ack, "frequency")])
            }
            UpCommand::RekeyInd { minor } => write!(f, "the device has new session keys; LoRaWAN 1.{minor}"),
            UpCommand::DeviceTimeReq => f.write_str("asks for the time"),
            UpCommand::RejoinParamSetupAns { time_ack: true } => f.write_str("accepted, count and time"),
            UpCommand::RejoinParamSetupAns { time_ack: false } => f.write_str("accepted, the count only"),
            UpCommand::PingSlotInfoReq { periodicity } => write!(f, "a ping slot every {} s", 1u32 << periodicity),
            UpCommand::PingSlotChannelAns { data_rate_ack, frequency_ack } => {
                answer(f, &[(data_rate_ack, "data rate"), (frequency_ack, "frequency")])
            }
            UpCommand::BeaconTimingReq => f.write_str("asks for the next beacon"),
            UpCommand::BeaconFreqAns { frequency_ack } => answer(f, &[(frequency_ack, "frequency")]),
            UpCommand::DeviceModeInd { class } => write!(f, "the device is in {class}"),
        }
    }
}

impl fmt::Display for DownCommand {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match *self {
            DownCommand::ResetConf { minor } | DownCommand::RekeyConf { minor } => {
                write!(f, "confirmed; the network uses LoRaWAN 1.{minor}")
            }
            DownCommand::LinkCheckAns { margin_db, gateways } => {
                let s = if gateways == 1 { "" } else { "s" };
                write!(f, "heard {margin_db} dB above the floor, by {gateways} gateway{s}")
            }
            DownCommand::LinkAdrReq(adr) => f.write_str(&link_adr(&adr, None)),
            DownCommand::DutyCycleReq { max_duty_cycle: 0 } => f.write_str("no limit beyond the region's"),
            DownCommand::DutyCycleReq { max_duty_cycle } => {
                let share = 1u32 << max_duty_cycle;
                write!(f, "at most 1/{share} of the time ({:.3} %)", 100.0 / f64::from(share))
            }
            DownCommand::RxParamSetupReq(rx) => write!(
                f,
                "RX1DROffset {}, RX2 on {} at DR{}",
                rx.rx1_data_rate_offset,
                Mhz(rx.rx2_frequency_hz),
                rx.rx2_data_rate
            ),
            DownCommand::DevStatusReq => f.write_str("asks for battery and SNR"),
            DownCommand::NewChannelReq(c) if c.frequency_hz == 0 => write!(f, "removes channel {}", c.index),
            DownCommand::NewChannelReq(c) => {
                write!(
                    f,
                    "channel {} is {}, DR{} to DR{}",
                    c.index,
                    Mhz(c.frequency_hz),
                    c.min_data_rate,
                    c.max_data_rate
                )
            }
            DownCommand::RxTimingSetupReq { delay_s } => write!(f, "RX1 {} s after the uplink", delay_s.max(1)),
            DownCommand::TxParamSetupReq(tx) => {
                let limited = |on| if on { "at most 400 ms" } else { "of any length" };
                write!(
                    f,
                    "uplinks {}, downlinks {}, EIRP at most {} dBm",
                    limited(tx.uplink_dwell_time),
                    limited(tx.downlink_dwell_time),
                    tx.max_eirp_dbm()
                )
            }
            DownCommand::DlChannelReq { index, frequency_hz } => {
                write!(f, "RX1 of channel {index} is on {}", Mhz(frequency_hz))
            }
            DownCommand::AdrParamSetupReq { limit_exp, delay_exp } => {
                write!(f, "ADR_ACK_LIMIT {} uplinks, ADR_ACK_DELAY {} uplinks", 1u32 << limit_exp, 1u32 << delay_exp)
            }
            DownCommand::DeviceTimeAns { gps_s, fraction } => {
                let gps_us = i64::from(gps_s) * 1_000_000 + i64::from(fraction) * 1_000_000 / 256;
                match DateTime::from_timestamp_micros(gps_time::to_unix_us(gps_us)) {
                    Some(utc) => write!(f, "{} UTC (GPS second {gps_s})", utc.format("%Y-%m-%d %H:%M:%S%.3f")),
                    None => write!(f, "GPS second {gps_s}"),
                }
            }
            DownCommand::ForceRejoinReq(force) => write!(
                f,
                "send a rejoin-request of type {} at DR{}, repeat it {} times, every {} s",
                force.rejoin_type,
                force.data_rate,
                force.max_retries,
                32u32 << force.period
            ),
            DownCommand::RejoinParamSetupReq { max_time_n, max_count_n } => write!(
                f,
                "a rejoin-request at least every {} s or {} uplinks",
                1u64 << (max_time_n + 10),
                1u32 << (max_count_n + 4)
            ),
            DownCommand::PingSlotInfoAns => f.write_str("confirmed"),
            DownCommand::PingSlotChannelReq { frequency_hz: 0, data_rate } => {
                write!(f, "ping slots on the region's channel at DR{data_rate}")
            }
            DownCommand::PingSlotChannelReq { frequency_hz, data_rate } => {
                write!(f, "ping slots on {} at DR{data_rate}", Mhz(frequency_hz))
            }
            DownCommand::BeaconTimingAns { delay, channel } => {
                write!(f, "the next beacon within {} ms on channel {channel}", 30 * (u32::from(delay) + 1))
            }
            DownCommand::BeaconFreqReq { frequency_hz: 0 } => f.write_str("the beacon is on the region's channel"),
            DownCommand::BeaconFreqReq { frequency_hz } => write!(f, "the beacon is on {}", Mhz(frequency_hz)),
            DownCommand::DeviceModeConf { class } => write!(f, "{class} confirmed"),
        }
    }
}
