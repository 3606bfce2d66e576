//! Commands from the device.

use super::fields::{Battery, DeviceClass, flag_byte, flags};
use super::{Cid, Command};
use crate::Direction;

/// A command in an uplink. Reserved bits are ignored when read and zero when written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum UpCommand {
    /// An ABP device has started over with its default parameters (TS001-1.1 §5.1).
    ResetInd {
        /// Minor version of the device: 1 for 1.1.
        minor: u8,
    },
    /// The device asks how well it is heard (TS001 §5.1).
    LinkCheckReq,
    /// Answers a LinkADRReq (TS001 §5.2). Unless all three hold, nothing was changed.
    LinkAdrAns {
        /// The power is possible.
        power_ack: bool,
        /// The data rate is possible.
        data_rate_ack: bool,
        /// The channel mask is.
        channel_mask_ack: bool,
    },
    /// Answers a DutyCycleReq (TS001 §5.3).
    DutyCycleAns,
    /// Answers an RXParamSetupReq (TS001 §5.4). Unless all three hold, nothing was changed.
    RxParamSetupAns {
        /// The offset is possible.
        rx1_offset_ack: bool,
        /// The RX2 data rate is.
        rx2_data_rate_ack: bool,
        /// The RX2 frequency is.
        channel_ack: bool,
    },
    /// Answers a DevStatusReq (TS001 §5.5).
    DevStatusAns {
        /// Battery.
        battery: Battery,
        /// SNR of the DevStatusReq in dB, −32 to 31.
        margin_db: i8,
    },
    /// Answers a NewChannelReq (TS001 §5.6). Unless both hold, nothing was changed.
    NewChannelAns {
        /// The data rates are possible.
        data_rates_ack: bool,
        /// The frequency is.
        frequency_ack: bool,
    },
    /// Answers an RXTimingSetupReq (TS001 §5.7).
    RxTimingSetupAns,
    /// Answers a TxParamSetupReq (TS001 §5.8); devices of other regions stay silent.
    TxParamSetupAns,
    /// Answers a DlChannelReq (TS001 §5.6.2). Unless both hold, nothing was changed.
    DlChannelAns {
        /// The channel has an uplink frequency.
        uplink_exists_ack: bool,
        /// The frequency is possible.
        frequency_ack: bool,
    },
    /// An OTAA device has new session keys (TS001-1.1 §5.10).
    RekeyInd {
        /// Minor version of the device: 1 for 1.1.
        minor: u8,
    },
    /// Answers an ADRParamSetupReq (TS001-1.1 §5.11).
    AdrParamSetupAns,
    /// The device asks for the time (TS001 §5.9).
    DeviceTimeReq,
    /// Answers a RejoinParamSetupReq (TS001-1.1 §5.14).
    RejoinParamSetupAns {
        /// The device keeps the time limit as well as the count.
        time_ack: bool,
    },
    /// The device's ping slots (TS001-1.1 §14.1).
    PingSlotInfoReq {
        /// A slot every 2^periodicity seconds.
        periodicity: u8,
    },
    /// Answers a PingSlotChannelReq (TS001-1.1 §14.3). Unless both hold, nothing was changed.
    PingSlotChannelAns {
        /// The data rate is possible.
        data_rate_ack: bool,
        /// The frequency is.
        frequency_ack: bool,
    },
    /// The device asks for the next beacon; deprecated (TS001-1.1 §14.4).
    BeaconTimingReq,
    /// Answers a BeaconFreqReq (TS001-1.1 §14.2).
    BeaconFreqAns {
        /// The frequency is possible.
        frequency_ack: bool,
    },
    /// The device has changed its class (TS001-1.1 §18.1).
    DeviceModeInd {
        /// The class it is in.
        class: DeviceClass,
    },
}

impl UpCommand {
    /// Its identifier.
    pub const fn cid(&self) -> Cid {
        match self {
            UpCommand::ResetInd { .. } => Cid::Reset,
            UpCommand::LinkCheckReq => Cid::LinkCheck,
            UpCommand::LinkAdrAns { .. } => Cid::LinkAdr,
            UpCommand::DutyCycleAns => Cid::DutyCycle,
            UpCommand::RxParamSetupAns { .. } => Cid::RxParamSetup,
            UpCommand::DevStatusAns { .. } => Cid::DevStatus,
            UpCommand::NewChannelAns { .. } => Cid::NewChannel,
            UpCommand::RxTimingSetupAns => Cid::RxTimingSetup,
            UpCommand::TxParamSetupAns => Cid::TxParamSetup,
            UpCommand::DlChannelAns { .. } => Cid::DlChannel,
            UpCommand::RekeyInd { .. } => Cid::Rekey,
            UpCommand::AdrParamSetupAns => Cid::AdrParamSetup,
            UpCommand::DeviceTimeReq => Cid::DeviceTime,
            UpCommand::RejoinParamSetupAns { .. } => Cid::RejoinParamSetup,
            UpCommand::PingSlotInfoReq { .. } => Cid::PingSlotInfo,
            UpCommand::PingSlotChannelAns { .. } => Cid::PingSlotChannel,
            UpCommand::BeaconTimingReq => Cid::BeaconTiming,
            UpCommand::BeaconFreqAns { .. } => Cid::BeaconFreq,
            UpCommand::DeviceModeInd { .. } => Cid::DeviceMode,
        }
    }

    /// Appends the command's bytes.
    pub fn emit(&self, out: &mut Vec<u8>) {
        out.push(self.cid() as u8);
        match *self {
            UpCommand::LinkCheckReq
            | UpCommand::DutyCycleAns
            | UpCommand::RxTimingSetupAns
            | UpCommand::TxParamSetupAns
            | UpCommand::AdrParamSetupAns
            | UpCommand::DeviceTimeReq
            | UpCommand::BeaconTimingReq => {}
            UpCommand::ResetInd { minor } | UpCommand::RekeyInd { minor } => out.push(minor & 0x0f),
            UpCommand::LinkAdrAns { power_ack, data_rate_ack, channel_mask_ack } => {
                out.push(flag_byte(&[channel_mask_ack, data_rate_ack, power_ack]));
            }
            UpCommand::RxParamSetupAns { rx1_offset_ack, rx2_data_rate_ack, channel_ack } => {
                out.push(flag_byte(&[channel_ack, rx2_data_rate_ack, rx1_offset_ack]));
            }
            UpCommand::DevStatusAns { battery, margin_db } => {
                out.extend([battery.byte(), margin_db.clamp(-32, 31) as u8 & 0x3f]);
            }
            UpCommand::NewChannelAns { data_rates_ack: second, frequency_ack: first }
            | UpCommand::DlChannelAns { uplink_exists_ack: second, frequency_ack: first }
            | UpCommand::PingSlotChannelAns { data_rate_ack: second, frequency_ack: first } => {
                out.push(flag_byte(&[first, second]));
            }
            UpCommand::RejoinParamSetupAns { time_ack: flag } | UpCommand::BeaconFreqAns { frequency_ack: flag } => {
                out.push(u8::from(flag));
            }
            UpCommand::PingSlotInfoReq { periodicity } => out.push(periodicity & 0x07),
            UpCommand::DeviceModeInd { class } => out.push(class.byte()),
        }
    }
}

impl Command for UpCommand {
    const DIRECTION: Direction = Direction::Up;

    fn cid(&self) -> Cid {
        UpCommand::cid(self)
    }

    fn read(cid: Cid, body: &[u8]) -> Option<Self> {
        let byte = body.first().copied();
        Some(match cid {
            Cid::LinkCheck => UpCommand::LinkCheckReq,
            Cid::DutyCycle => UpCommand::DutyCycleAns,
            Cid::RxTimingSetup => UpCommand::RxTimingSetupAns,
            Cid::TxParamSetup => UpCommand::TxParamSetupAns,
            Cid::AdrParamSetup => UpCommand::AdrParamSetupAns,
            Cid::DeviceTime => UpCommand::DeviceTimeReq,
            Cid::BeaconTiming => UpCommand::BeaconTimingReq,
            Cid::ForceRejoin => return None,
            Cid::Reset => UpCommand::ResetInd { minor: byte? & 0x0f },
            Cid::Rekey => UpCommand::RekeyInd { minor: byte? & 0x0f },
            Cid::LinkAdr => {
                let [channel_mask_ack, data_rate_ack, power_ack] = flags(byte?);
                UpCommand::LinkAdrAns { power_ack, data_rate_ack, channel_mask_ack }
            }
            Cid::RxParamSetup => {
                let [channel_ack, rx2_data_rate_ack, rx1_offset_ack] = flags(byte?);
                UpCommand::RxParamSetupAns { rx1_offset_ack, rx2_data_rate_ack, channel_ack }
            }
            Cid::DevStatus => {
                // Six bits of two's complement, shifted up and back down to spread the sign.
                let margin_db = ((body.get(1)? << 2) as i8) >> 2;
                UpCommand::DevStatusAns { battery: Battery::from_byte(byte?), margin_db }
            }
            Cid::NewChannel => {
                let [frequency_ack, data_rates_ack] = flags(byte?);
                UpCommand::NewChannelAns { data_rates_ack, frequency_ack }
            }
            Cid::DlChannel => {
                let [frequency_ack, uplink_exists_ack] = flags(byte?);
                UpCommand::DlChannelAns { uplink_exists_ack, frequency_ack }
            }
            Cid::PingSlotChannel => {
                let [frequency_ack, data_rate_ack] = flags(byte?);
                UpCommand::PingSlotChannelAns { data_rate_ack, frequency_ack }
            }
            Cid::RejoinParamSetup => UpCommand::RejoinParamSetupAns { time_ack: byte? & 1 != 0 },
            Cid::BeaconFreq => UpCommand::BeaconFreqAns { frequency_ack: byte? & 1 != 0 },
            Cid::PingSlotInfo => UpCommand::PingSlotInfoReq { periodicity: byte? & 0x07 },
            Cid::DeviceMode => UpCommand::DeviceModeInd { class: DeviceClass::from_byte(byte?) },
        })
    }
}
