//! Requests of the network: what each asks for, what answers it, and what follows from a yes.

use lorawan::MacVersion;
use lorawan::mac::{DownCommand, ForceRejoin, LinkAdr, NewChannel, RxParamSetup, TxParamSetup, UpCommand};
use lorawan::region::{AdrSettings, ChannelSet, MAX_EIRP_DBM};

use crate::device::profile::{AdrAck, RadioProfile, RejoinTimes};
use crate::device::settings::Settings;

/// What a request is about; what a device refuses is remembered by this.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum About {
    DataRate(u8),
    TxPower(u8),
    /// These channels on, and no others.
    Channels(ChannelSet),
    DutyCycle,
    Windows,
    Delay,
    Channel(u8),
    Dwell,
    PingChannel,
    Status,
    BeaconFrequency,
    /// RX1 of this channel.
    DownlinkChannel(u8),
    AdrAck,
    RejoinTimes,
    Rejoin,
    /// Data rate, power and channels together.
    Adr,
}

/// A request, sent in one downlink.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Ask {
    /// A block of LinkADRReq, and the settings it leads to.
    LinkAdr {
        block: Vec<LinkAdr>,
        target: AdrSettings,
    },
    DutyCycle(u8),
    RxParams(RxParamSetup),
    RxTiming(u8),
    NewChannel(NewChannel),
    TxParams(TxParamSetup),
    PingChannel {
        frequency_hz: Option<u32>,
        data_rate: u8,
    },
    Status,
    /// `None` for the region's.
    BeaconFrequency(Option<u32>),
    DownlinkChannel {
        index: u8,
        frequency_hz: u32,
        /// As stored: 0 for the uplink's own frequency.
        kept_hz: u32,
    },
    AdrAck(AdrAck),
    RejoinTimes(RejoinTimes),
    /// A new session, now.
    Rejoin(ForceRejoin),
}

/// What a device does with a request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Reply {
    Yes,
    /// Refused: the parts it does not want.
    No(Vec<About>),
}

impl Ask {
    /// The requests that lead from `known` to `wanted`, most pressing first: a device that listens at the
    /// wrong moment hears nothing else.
    pub(crate) fn all(profile: &RadioProfile, known: &Settings, wanted: &Settings) -> Vec<Self> {
        let plan = profile.plan();
        let mut asks = Vec::new();
        if wanted.rx_delay_s != known.rx_delay_s {
            asks.push(Ask::RxTiming(wanted.rx_delay_s));
        }
        let windows = |s: &Settings| (s.rx1_data_rate_offset, s.rx2_data_rate, s.rx2_frequency_hz);
        if windows(wanted) != windows(known) {
            asks.push(Ask::RxParams(RxParamSetup {
                rx1_data_rate_offset: wanted.rx1_data_rate_offset,
                rx2_data_rate: wanted.rx2_data_rate,
                rx2_frequency_hz: wanted.rx2_frequency_hz,
            }));
        }
        if (wanted.downlink_dwell_time, wanted.uplink_dwell_time)
            != (known.downlink_dwell_time, known.uplink_dwell_time)
        {
            let limit = plan.tx_power.max_dbm;
            let max_eirp = MAX_EIRP_DBM.iter().rposition(|dbm| f32::from(*dbm) <= limit).unwrap_or(0) as u8;
            asks.push(Ask::TxParams(TxParamSetup {
                downlink_dwell_time: wanted.downlink_dwell_time,
                uplink_dwell_time: wanted.uplink_dwell_time,
                max_eirp,
            }));
        }
        let missing = wanted.defined.difference(known.defined);
        asks.extend(plan.new_channels().filter(|c| missing.contains(c.index)).map(Ask::NewChannel));
        let moved = wanted.extra_hz.iter().zip(&known.extra_hz).map(|(wanted, known)| wanted != known);
        let extra = profile.extra_channels().zip(moved);
        asks.extend(extra.filter(|(c, moved)| *moved || missing.contains(c.index)).map(|(c, _)| Ask::NewChannel(c)));
        // Only channels the device knows can be switched on, so those of a NewChannelReq come later.
        let on = wanted.adr.channels.intersection(known.defined);
        let target = AdrSettings { channels: if on.is_empty() { known.adr.channels } else { on }, ..wanted.adr };
        if target != known.adr
            && let Ok(block) = plan.link_adr_block(known.defined, &known.adr, &target)
        {
            asks.push(Ask::LinkAdr { block, target });
        }
        if wanted.max_duty_cycle != known.max_duty_cycle {
            asks.push(Ask::DutyCycle(wanted.max_duty_cycle));
        }
        let ping = |s: &Settings| (s.ping_frequency_hz, s.ping_data_rate);
        if known.ping_periodicity.is_some() && ping(wanted) != ping(known) {
            let (frequency_hz, data_rate) = ping(wanted);
            asks.push(Ask::PingChannel { frequency_hz, data_rate });
        }
        asks.extend(Self::rarely(profile, known, wanted));
        asks
    }

    /// Requests that few profiles ask for.
    fn rarely(profile: &RadioProfile, known: &Settings, wanted: &Settings) -> Vec<Self> {
        let (plan, version) = (profile.plan(), profile.version);
        let mut asks = Vec::new();
        if wanted.beacon_hz != known.beacon_hz && known.ping_periodicity.is_some() {
            asks.push(Ask::BeaconFrequency(wanted.beacon_hz));
        }
        // Came with 1.0.2, and only devices of dynamic plans know it (TS001 §5.6.2).
        if plan.dynamic() && version >= MacVersion::V1_0_2 && wanted.rx1_hz != known.rx1_hz {
            let moved =
                (0u8..).zip(wanted.rx1_hz.iter().zip(&known.rx1_hz)).filter(|(_, (wanted, known))| wanted != known);
            asks.extend(moved.filter(|(index, _)| known.defined.contains(*index)).filter_map(
                |(index, (wanted_hz, _))| {
                    let frequency_hz = if *wanted_hz == 0 { known.frequency_of(plan, index)? } else { *wanted_hz };
                    Some(Ask::DownlinkChannel { index, frequency_hz, kept_hz: *wanted_hz })
                },
            ));
        }
        if version == MacVersion::V1_1 {
            asks.extend(wanted.adr_ack.filter(|_| wanted.adr_ack != known.adr_ack).map(Ask::AdrAck));
            asks.extend(wanted.rejoin.filter(|_| wanted.rejoin != known.rejoin).map(Ask::RejoinTimes));
        }
        asks
    }

    /// The commands that carry it.
    pub(crate) fn commands(&self) -> Vec<DownCommand> {
        match self {
            Ask::LinkAdr { block, .. } => block.iter().copied().map(DownCommand::LinkAdrReq).collect(),
            Ask::DutyCycle(max_duty_cycle) => vec![DownCommand::DutyCycleReq { max_duty_cycle: *max_duty_cycle }],
            Ask::RxParams(rx) => vec![DownCommand::RxParamSetupReq(*rx)],
            Ask::RxTiming(delay_s) => vec![DownCommand::RxTimingSetupReq { delay_s: *delay_s }],
            Ask::NewChannel(channel) => vec![DownCommand::NewChannelReq(*channel)],
            Ask::TxParams(tx) => vec![DownCommand::TxParamSetupReq(*tx)],
            Ask::PingChannel { frequency_hz, data_rate } => {
                vec![DownCommand::PingSlotChannelReq { frequency_hz: frequency_hz.unwrap_or(0), data_rate: *data_rate }]
            }
            Ask::Status => vec![DownCommand::DevStatusReq],
            Ask::BeaconFrequency(hz) => vec![DownCommand::BeaconFreqReq { frequency_hz: hz.unwrap_or(0) }],
            Ask::DownlinkChannel { index, frequency_hz, .. } => {
                vec![DownCommand::DlChannelReq { index: *index, frequency_hz: *frequency_hz }]
            }
            Ask::AdrAck(AdrAck { limit_exp, delay_exp }) => {
                vec![DownCommand::AdrParamSetupReq { limit_exp: *limit_exp, delay_exp: *delay_exp }]
            }
            Ask::RejoinTimes(RejoinTimes { max_time_n, max_count_n }) => {
                vec![DownCommand::RejoinParamSetupReq { max_time_n: *max_time_n, max_count_n: *max_count_n }]
            }
            Ask::Rejoin(force) => vec![DownCommand::ForceRejoinReq(*force)],
        }
    }

    pub(crate) fn about(&self) -> About {
        match self {
            Ask::LinkAdr { .. } => About::Adr,
            Ask::DutyCycle(_) => About::DutyCycle,
            Ask::RxParams(_) => About::Windows,
            Ask::RxTiming(_) => About::Delay,
            Ask::NewChannel(channel) => About::Channel(channel.index),
            Ask::TxParams(_) => About::Dwell,
            Ask::PingChannel { .. } => About::PingChannel,
            Ask::Status => About::Status,
            Ask::BeaconFrequency(_) => About::BeaconFrequency,
            Ask::DownlinkChannel { index, .. } => About::DownlinkChannel(*index),
            Ask::AdrAck(_) => About::AdrAck,
            Ask::RejoinTimes(_) => About::RejoinTimes,
            Ask::Rejoin(_) => About::Rejoin,
        }
    }

    /// Whether a subject is part of this request. What a device has refused counts as refused in every request.
    pub(crate) fn carries(&self, about: About) -> bool {
        match (self, about) {
            (Ask::LinkAdr { target, .. }, About::DataRate(data_rate)) => target.data_rate == data_rate,
            (Ask::LinkAdr { target, .. }, About::TxPower(tx_power)) => target.tx_power == tx_power,
            (Ask::LinkAdr { target, .. }, About::Channels(channels)) => target.channels == channels,
            _ => self.about() == about,
        }
    }

    /// As text: the settings that are wanted.
    pub(crate) fn label(&self, profile: &RadioProfile) -> String {
        let all: Vec<String> = self
            .commands()
            .iter()
            .map(|c| format!("{}: {}", c.cid().name(lorawan::Direction::Down), c.describe_in(profile.plan())))
            .collect();
        all.join("; ")
    }

    /// How `answer` answers this request; `None` if it belongs to another one.
    pub(crate) fn reply(&self, answer: &UpCommand) -> Option<Reply> {
        let parts = |all: &[(bool, About)]| {
            let no: Vec<About> = all.iter().filter(|(yes, _)| !yes).map(|(_, about)| *about).collect();
            if no.is_empty() { Reply::Yes } else { Reply::No(no) }
        };
        Some(match (self, *answer) {
            (Ask::LinkAdr { target, .. }, UpCommand::LinkAdrAns { power_ack, data_rate_ack, channel_mask_ack }) => {
                parts(&[
                    (power_ack, About::TxPower(target.tx_power)),
                    (data_rate_ack, About::DataRate(target.data_rate)),
                    (channel_mask_ack, About::Channels(target.channels)),
                ])
            }
            (Ask::RxParams(_), UpCommand::RxParamSetupAns { rx1_offset_ack, rx2_data_rate_ack, channel_ack }) => {
                parts(&[(rx1_offset_ack && rx2_data_rate_ack && channel_ack, About::Windows)])
            }
            (Ask::NewChannel(c), UpCommand::NewChannelAns { data_rates_ack, frequency_ack }) => {
                parts(&[(data_rates_ack && frequency_ack, About::Channel(c.index))])
            }
            (Ask::PingChannel { .. }, UpCommand::PingSlotChannelAns { data_rate_ack, frequency_ack }) => {
                parts(&[(data_rate_ack && frequency_ack, About::PingChannel)])
            }
            (Ask::BeaconFrequency(_), UpCommand::BeaconFreqAns { frequency_ack }) => {
                parts(&[(frequency_ack, About::BeaconFrequency)])
            }
            (Ask::DownlinkChannel { index, .. }, UpCommand::DlChannelAns { uplink_exists_ack, frequency_ack }) => {
                parts(&[(uplink_exists_ack && frequency_ack, About::DownlinkChannel(*index))])
            }
            // Without the time it has taken the count all the same (TS001-1.1 §5.14).
            (Ask::RejoinTimes(_), UpCommand::RejoinParamSetupAns { .. })
            | (Ask::AdrAck(_), UpCommand::AdrParamSetupAns) => Reply::Yes,
            (Ask::DutyCycle(_), UpCommand::DutyCycleAns)
            | (Ask::RxTiming(_), UpCommand::RxTimingSetupAns)
            | (Ask::TxParams(_), UpCommand::TxParamSetupAns)
            | (Ask::Status, UpCommand::DevStatusAns { .. }) => Reply::Yes,
            _ => return None,
        })
    }

    /// The settings once the device has said yes.
    pub(crate) fn apply(&self, profile: &RadioProfile, settings: &mut Settings) {
        match self {
            Ask::LinkAdr { target, .. } => settings.adr = *target,
            Ask::DutyCycle(max) => settings.max_duty_cycle = *max,
            Ask::RxParams(rx) => {
                settings.rx1_data_rate_offset = rx.rx1_data_rate_offset;
                settings.rx2_data_rate = rx.rx2_data_rate;
                settings.rx2_frequency_hz = rx.rx2_frequency_hz;
            }
            Ask::RxTiming(delay_s) => settings.rx_delay_s = *delay_s,
            Ask::NewChannel(channel) => {
                // A new channel is on at once (TS001 §5.6).
                settings.defined.insert(channel.index);
                settings.adr.channels.insert(channel.index);
                let extra = profile.extra_channels().position(|extra| extra.index == channel.index);
                if let Some(kept) = extra.and_then(|n| settings.extra_hz.get_mut(n)) {
                    *kept = channel.frequency_hz;
                }
            }
            Ask::TxParams(tx) => {
                settings.downlink_dwell_time = tx.downlink_dwell_time;
                settings.uplink_dwell_time = tx.uplink_dwell_time;
            }
            Ask::PingChannel { frequency_hz, data_rate } => {
                settings.ping_frequency_hz = *frequency_hz;
                settings.ping_data_rate = *data_rate;
            }
            Ask::BeaconFrequency(hz) => settings.beacon_hz = *hz,
            Ask::DownlinkChannel { index, kept_hz, .. } => {
                if let Some(rx1_hz) = settings.rx1_hz.get_mut(usize::from(*index)) {
                    *rx1_hz = *kept_hz;
                }
            }
            Ask::AdrAck(adr_ack) => settings.adr_ack = Some(*adr_ack),
            Ask::RejoinTimes(times) => settings.rejoin = Some(*times),
            Ask::Status | Ask::Rejoin(_) => {}
        }
    }
}

/// Whether a command of the device is an answer, rather than a question or a notice of its own.
pub(super) fn is_answer(command: &UpCommand) -> bool {
    matches!(
        command,
        UpCommand::LinkAdrAns { .. }
            | UpCommand::DutyCycleAns
            | UpCommand::RxParamSetupAns { .. }
            | UpCommand::DevStatusAns { .. }
            | UpCommand::NewChannelAns { .. }
            | UpCommand::RxTimingSetupAns
            | UpCommand::TxParamSetupAns
            | UpCommand::DlChannelAns { .. }
            | UpCommand::AdrParamSetupAns
            | UpCommand::RejoinParamSetupAns { .. }
            | UpCommand::PingSlotChannelAns { .. }
            | UpCommand::BeaconFreqAns { .. }
    )
}

/// Answers that a device repeats in every uplink until it hears a downlink (TS001 §5.4, §5.6.2, §5.7).
pub(super) fn is_sticky(command: &UpCommand) -> bool {
    matches!(command, UpCommand::RxParamSetupAns { .. } | UpCommand::RxTimingSetupAns | UpCommand::DlChannelAns { .. })
}
