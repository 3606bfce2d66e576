//! Commands from the network.

use super::fields::DeviceClass;
use super::{Cid, Command};
use crate::Direction;
use crate::region::{ChannelMask, MAX_EIRP_DBM};
use crate::wire::{frequency_bytes, frequency_hz};

/// The fields of LinkADRReq (TS001 §5.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LinkAdr {
    /// Data rate index; `None` keeps the present one (sent as 15; from 1.0.4 on, and in 1.1).
    pub data_rate: Option<u8>,
    /// TXPower index; `None` keeps the present one (sent as 15).
    pub tx_power: Option<u8>,
    /// Channels to switch.
    pub channels: ChannelMask,
    /// How often each uplink is sent, 1 to 15; 0 stands for 1, and in 1.0.4 keeps the present value.
    pub nb_trans: u8,
}

/// The fields of RXParamSetupReq (TS001 §5.4).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RxParamSetup {
    /// RX1DROffset.
    pub rx1_data_rate_offset: u8,
    /// Data rate index of RX2.
    pub rx2_data_rate: u8,
    /// Frequency of RX2.
    pub rx2_frequency_hz: u32,
}

/// The fields of NewChannelReq (TS001 §5.6).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NewChannel {
    /// Channel index.
    pub index: u8,
    /// Uplink frequency; 0 takes the channel away.
    pub frequency_hz: u32,
    /// Lowest data rate index.
    pub min_data_rate: u8,
    /// Highest data rate index.
    pub max_data_rate: u8,
}

/// The fields of TxParamSetupReq (TS001 §5.8).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TxParamSetup {
    /// Downlinks are limited to 400 ms.
    pub downlink_dwell_time: bool,
    /// Uplinks are limited to 400 ms.
    pub uplink_dwell_time: bool,
    /// Index into [`MAX_EIRP_DBM`].
    pub max_eirp: u8,
}

impl TxParamSetup {
    /// The device's largest EIRP in dBm.
    pub const fn max_eirp_dbm(&self) -> u8 {
        MAX_EIRP_DBM[(self.max_eirp & 0x0f) as usize]
    }
}

/// The fields of ForceRejoinReq (TS001-1.1 §5.13).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ForceRejoin {
    /// From one try to the next: 32 s · 2^period, and a random part.
    pub period: u8,
    /// Tries after the first.
    pub max_retries: u8,
    /// Rejoin type: 0, or 2 for the keys only.
    pub rejoin_type: u8,
    /// Data rate index to use.
    pub data_rate: u8,
}

/// A command in a downlink. Reserved bits are ignored when read and zero when written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DownCommand {
    /// Answers ResetInd (TS001-1.1 §5.1).
    ResetConf {
        /// Minor version of the network: 1 for 1.1.
        minor: u8,
    },
    /// Answers LinkCheckReq (TS001 §5.1).
    LinkCheckAns {
        /// Link margin in dB above the demodulation floor, 0 to 254.
        margin_db: u8,
        /// Gateways that heard the request.
        gateways: u8,
    },
    /// Sets data rate, power, repetitions and channels (TS001 §5.2).
    LinkAdrReq(LinkAdr),
    /// Limits the device's duty cycle to 1 / 2^max_duty_cycle (TS001 §5.3).
    DutyCycleReq {
        /// 0 to 15; 0 sets no limit beyond the region's.
        max_duty_cycle: u8,
    },
    /// Sets the receive windows (TS001 §5.4).
    RxParamSetupReq(RxParamSetup),
    /// Asks for battery and margin (TS001 §5.5).
    DevStatusReq,
    /// Adds, changes or takes away a channel (TS001 §5.6).
    NewChannelReq(NewChannel),
    /// Sets the delay of RX1 (TS001 §5.7).
    RxTimingSetupReq {
        /// Seconds, 1 to 15; 0 stands for 1.
        delay_s: u8,
    },
    /// Sets dwell times and the largest EIRP (TS001 §5.8).
    TxParamSetupReq(TxParamSetup),
    /// Moves RX1 of a channel (TS001 §5.6.2).
    DlChannelReq {
        /// Channel index.
        index: u8,
        /// RX1 frequency.
        frequency_hz: u32,
    },
    /// Answers RekeyInd (TS001-1.1 §5.10).
    RekeyConf {
        /// Minor version of the network: 1 for 1.1.
        minor: u8,
    },
    /// Sets how long a device waits for a sign of the network (TS001-1.1 §5.11).
    AdrParamSetupReq {
        /// ADR_ACK_LIMIT = 2^limit_exp.
        limit_exp: u8,
        /// ADR_ACK_DELAY = 2^delay_exp.
        delay_exp: u8,
    },
    /// Answers DeviceTimeReq: the time at the end of that uplink (TS001 §5.9).
    DeviceTimeAns {
        /// GPS seconds.
        gps_s: u32,
        /// 1/256 seconds.
        fraction: u8,
    },
    /// Makes the device send rejoin-requests now (TS001-1.1 §5.13).
    ForceRejoinReq(ForceRejoin),
    /// Makes the device send a rejoin-request of type 0 now and then (TS001-1.1 §5.14).
    RejoinParamSetupReq {
        /// At least every 2^(max_time_n + 10) seconds.
        max_time_n: u8,
        /// At least every 2^(max_count_n + 4) uplinks.
        max_count_n: u8,
    },
    /// Answers PingSlotInfoReq (TS001-1.1 §14.1).
    PingSlotInfoAns,
    /// Sets the channel of ping slots (TS001-1.1 §14.3).
    PingSlotChannelReq {
        /// Frequency; 0 goes back to the region's.
        frequency_hz: u32,
        /// Data rate index.
        data_rate: u8,
    },
    /// Answers BeaconTimingReq; deprecated (TS001-1.1 §14.4).
    BeaconTimingAns {
        /// The next beacon begins after 30 ms · (delay + 1) at the latest.
        delay: u16,
        /// Channel index of the next beacon.
        channel: u8,
    },
    /// Sets the frequency of the beacon (TS001-1.1 §14.2).
    BeaconFreqReq {
        /// Frequency; 0 goes back to the region's.
        frequency_hz: u32,
    },
    /// Answers DeviceModeInd (TS001-1.1 §18.1).
    DeviceModeConf {
        /// The class understood.
        class: DeviceClass,
    },
}

impl DownCommand {
    /// Its identifier.
    pub const fn cid(&self) -> Cid {
        match self {
            DownCommand::ResetConf { .. } => Cid::Reset,
            DownCommand::LinkCheckAns { .. } => Cid::LinkCheck,
            DownCommand::LinkAdrReq(_) => Cid::LinkAdr,
            DownCommand::DutyCycleReq { .. } => Cid::DutyCycle,
            DownCommand::RxParamSetupReq(_) => Cid::RxParamSetup,
            DownCommand::DevStatusReq => Cid::DevStatus,
            DownCommand::NewChannelReq(_) => Cid::NewChannel,
            DownCommand::RxTimingSetupReq { .. } => Cid::RxTimingSetup,
            DownCommand::TxParamSetupReq(_) => Cid::TxParamSetup,
            DownCommand::DlChannelReq { .. } => Cid::DlChannel,
            DownCommand::RekeyConf { .. } => Cid::Rekey,
            DownCommand::AdrParamSetupReq { .. } => Cid::AdrParamSetup,
            DownCommand::DeviceTimeAns { .. } => Cid::DeviceTime,
            DownCommand::ForceRejoinReq(_) => Cid::ForceRejoin,
            DownCommand::RejoinParamSetupReq { .. } => Cid::RejoinParamSetup,
            DownCommand::PingSlotInfoAns => Cid::PingSlotInfo,
            DownCommand::PingSlotChannelReq { .. } => Cid::PingSlotChannel,
            DownCommand::BeaconTimingAns { .. } => Cid::BeaconTiming,
            DownCommand::BeaconFreqReq { .. } => Cid::BeaconFreq,
            DownCommand::DeviceModeConf { .. } => Cid::DeviceMode,
        }
    }

    /// Appends the command's bytes.
    pub fn emit(&self, out: &mut Vec<u8>) {
        let nibbles = |high: u8, low: u8| ((high & 0x0f) << 4) | (low & 0x0f);
        out.push(self.cid() as u8);
        match *self {
            DownCommand::DevStatusReq | DownCommand::PingSlotInfoAns => {}
            DownCommand::ResetConf { minor } | DownCommand::RekeyConf { minor } => out.push(minor & 0x0f),
            DownCommand::LinkCheckAns { margin_db, gateways } => out.extend([margin_db, gateways]),
            DownCommand::LinkAdrReq(adr) => {
                out.push(nibbles(adr.data_rate.unwrap_or(KEEP), adr.tx_power.unwrap_or(KEEP)));
                out.extend(adr.channels.mask.to_le_bytes());
                out.push(((adr.channels.cntl & 0x07) << 4) | (adr.nb_trans & 0x0f));
            }
            DownCommand::DutyCycleReq { max_duty_cycle: low } | DownCommand::RxTimingSetupReq { delay_s: low } => {
                out.push(low & 0x0f);
            }
            DownCommand::RxParamSetupReq(rx) => {
                out.push(nibbles(rx.rx1_data_rate_offset & 0x07, rx.rx2_data_rate));
                out.extend(frequency_bytes(rx.rx2_frequency_hz));
            }
            DownCommand::NewChannelReq(channel) => {
                out.push(channel.index);
                out.extend(frequency_bytes(channel.frequency_hz));
                out.push(nibbles(channel.max_data_rate, channel.min_data_rate));
            }
            DownCommand::TxParamSetupReq(tx) => out.push(
                (u8::from(tx.downlink_dwell_time) << 5) | (u8::from(tx.uplink_dwell_time) << 4) | (tx.max_eirp & 0x0f),
            ),
            DownCommand::DlChannelReq { index, frequency_hz } => {
                out.push(index);
                out.extend(frequency_bytes(frequency_hz));
            }
            DownCommand::AdrParamSetupReq { limit_exp, delay_exp } => out.push(nibbles(limit_exp, delay_exp)),
            DownCommand::DeviceTimeAns { gps_s, fraction } => {
                out.extend(gps_s.to_le_bytes());
                out.push(fraction);
            }
            DownCommand::ForceRejoinReq(force) => {
                let low = ((force.rejoin_type & 0x07) << 4) | (force.data_rate & 0x0f);
                out.extend([low, ((force.period & 0x07) << 3) | (force.max_retries & 0x07)]);
            }
            DownCommand::RejoinParamSetupReq { max_time_n, max_count_n } => out.push(nibbles(max_time_n, max_count_n)),
            DownCommand::PingSlotChannelReq { frequency_hz, data_rate } => {
                out.extend(frequency_bytes(frequency_hz));
                out.push(data_rate & 0x0f);
            }
            DownCommand::BeaconTimingAns { delay, channel } => {
                out.extend(delay.to_le_bytes());
                out.push(channel);
            }
            DownCommand::BeaconFreqReq { frequency_hz } => out.extend(frequency_bytes(frequency_hz)),
            DownCommand::DeviceModeConf { class } => out.push(class.byte()),
        }
    }
}

/// The value of a field of LinkADRReq that changes nothing (TS001 §5.2).
const KEEP: u8 = 15;

fn unless_kept(value: u8) -> Option<u8> {
    (value != KEEP).then_some(value)
}

impl Command for DownCommand {
    const DIRECTION: Direction = Direction::Down;

    fn cid(&self) -> Cid {
        DownCommand::cid(self)
    }

    fn read(cid: Cid, body: &[u8]) -> Option<Self> {
        let at = |i: usize| body.get(i).copied();
        let low = |i: usize| at(i).map(|byte| byte & 0x0f);
        let high = |i: usize| at(i).map(|byte| byte >> 4);
        Some(match cid {
            Cid::DevStatus => DownCommand::DevStatusReq,
            Cid::PingSlotInfo => DownCommand::PingSlotInfoAns,
            Cid::Reset => DownCommand::ResetConf { minor: low(0)? },
            Cid::Rekey => DownCommand::RekeyConf { minor: low(0)? },
            Cid::LinkCheck => DownCommand::LinkCheckAns { margin_db: at(0)?, gateways: at(1)? },
            Cid::LinkAdr => DownCommand::LinkAdrReq(LinkAdr {
                data_rate: unless_kept(high(0)?),
                tx_power: unless_kept(low(0)?),
                channels: ChannelMask { cntl: high(3)? & 0x07, mask: u16::from_le_bytes([at(1)?, at(2)?]) },
                nb_trans: low(3)?,
            }),
            Cid::DutyCycle => DownCommand::DutyCycleReq { max_duty_cycle: low(0)? },
            Cid::RxParamSetup => DownCommand::RxParamSetupReq(RxParamSetup {
                rx1_data_rate_offset: high(0)? & 0x07,
                rx2_data_rate: low(0)?,
                rx2_frequency_hz: frequency_hz(body, 1),
            }),
            Cid::NewChannel => DownCommand::NewChannelReq(NewChannel {
                index: at(0)?,
                frequency_hz: frequency_hz(body, 1),
                min_data_rate: low(4)?,
                max_data_rate: high(4)?,
            }),
            Cid::RxTimingSetup => DownCommand::RxTimingSetupReq { delay_s: low(0)? },
            Cid::TxParamSetup => DownCommand::TxParamSetupReq(TxParamSetup {
                downlink_dwell_time: at(0)? & 0x20 != 0,
                uplink_dwell_time: at(0)? & 0x10 != 0,
                max_eirp: low(0)?,
            }),
            Cid::DlChannel => DownCommand::DlChannelReq { index: at(0)?, frequency_hz: frequency_hz(body, 1) },
            Cid::AdrParamSetup => DownCommand::AdrParamSetupReq { limit_exp: high(0)?, delay_exp: low(0)? },
            Cid::DeviceTime => DownCommand::DeviceTimeAns {
                gps_s: u32::from_le_bytes([at(0)?, at(1)?, at(2)?, at(3)?]),
                fraction: at(4)?,
            },
            Cid::ForceRejoin => DownCommand::ForceRejoinReq(ForceRejoin {
                period: (at(1)? >> 3) & 0x07,
                max_retries: at(1)? & 0x07,
                rejoin_type: high(0)? & 0x07,
                data_rate: low(0)?,
            }),
            Cid::RejoinParamSetup => DownCommand::RejoinParamSetupReq { max_time_n: high(0)?, max_count_n: low(0)? },
            Cid::PingSlotChannel => {
                DownCommand::PingSlotChannelReq { frequency_hz: frequency_hz(body, 0), data_rate: low(3)? }
            }
            Cid::BeaconTiming => {
                DownCommand::BeaconTimingAns { delay: u16::from_le_bytes([at(0)?, at(1)?]), channel: at(2)? }
            }
            Cid::BeaconFreq => DownCommand::BeaconFreqReq { frequency_hz: frequency_hz(body, 0) },
            Cid::DeviceMode => DownCommand::DeviceModeConf { class: DeviceClass::from_byte(at(0)?) },
        })
    }
}
