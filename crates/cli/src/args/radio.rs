//! A device's radio and MAC as options, each one once.

use api::radio::settings::{
    ActivationMode, Class, DownlinkChannelSettings, PingSlotSettings, RadioSettings, RateSettings,
};
use clap::{Args, ValueEnum};
use domain::radio::settings::wire_class;
use lorawan::MacVersion;
use lorawan::region::RegionalRevision;

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum WhoSets {
    /// The network, from what it hears.
    Network,
    /// The profile: one fixed data rate.
    Profile,
    /// The device.
    Device,
}

pub(crate) fn class(text: &str) -> Result<Class, String> {
    text.parse::<engine::Class>().map(wire_class)
}

fn activation(text: &str) -> Result<ActivationMode, String> {
    match text.trim().to_ascii_uppercase().as_str() {
        "OTAA" => Ok(ActivationMode::Otaa),
        "ABP" => Ok(ActivationMode::Abp),
        _ => Err(format!("{text:?} is neither OTAA nor ABP")),
    }
}

/// Radio and MAC settings; what is not given follows the region, or stays as it is.
#[derive(Args, Default)]
#[command(next_help_heading = "Radio and MAC")]
pub(crate) struct RadioArgs {
    /// Version of its link layer: 1.0.0 to 1.0.4, or 1.1.
    #[arg(long, value_name = "VERSION")]
    pub mac_version: Option<MacVersion>,
    /// Revision of the regional parameters its firmware keeps to: RP002-1.0.3.
    #[arg(long, value_name = "REVISION")]
    pub regional_revision: Option<RegionalRevision>,
    /// How its devices get a session: OTAA, they join; ABP, they have a fixed one.
    #[arg(long, value_parser = activation, value_name = "OTAA|ABP")]
    pub activation: Option<ActivationMode>,
    /// When it listens: A, B or C.
    #[arg(long, value_parser = class)]
    pub class: Option<Class>,
    /// From the end of an uplink to RX1, 1 to 15 s.
    #[arg(long, value_name = "S")]
    pub rx_delay_s: Option<u8>,
    /// RX1DROffset.
    #[arg(long, value_name = "N")]
    pub rx1_data_rate_offset: Option<u8>,
    /// Data rate index of RX2.
    #[arg(long, value_name = "DR")]
    pub rx2_data_rate: Option<u8>,
    /// Frequency of RX2.
    #[arg(long, value_name = "HZ")]
    pub rx2_frequency_hz: Option<u32>,
    /// Uplink channels that are to be on, as runs: 8-15,65.
    #[arg(long)]
    pub channels: Option<String>,
    /// A channel beyond the network's; may be given several times.
    #[arg(long, value_name = "HZ")]
    pub extra_frequency_hz: Vec<u32>,
    /// The most power it may radiate.
    #[arg(long, value_name = "DBM", allow_negative_numbers = true)]
    pub max_eirp_dbm: Option<f32>,
    /// Whether transmissions are limited to 400 ms, in regions where that is the network's choice.
    #[arg(long, value_name = "TRUE|FALSE")]
    pub dwell_time: Option<bool>,
    /// Share of time the device may send, as 1 / 2^N; 0 sets no limit beyond the region's.
    #[arg(long, value_name = "N")]
    pub max_duty_cycle: Option<u8>,
    /// Who sets the data rate.
    #[arg(long, value_enum, value_name = "WHO")]
    pub rate_by: Option<WhoSets>,
    /// With --rate-by profile: the data rate.
    #[arg(long, value_name = "DR")]
    pub data_rate: Option<u8>,
    /// With --rate-by profile: TXPower index. With network: the highest.
    #[arg(long, value_name = "N")]
    pub tx_power: Option<u8>,
    /// With --rate-by profile: how often each uplink is sent. With network: at most.
    #[arg(long, value_name = "N")]
    pub nb_trans: Option<u8>,
    /// With --rate-by network: the slowest data rate.
    #[arg(long, value_name = "DR")]
    pub min_data_rate: Option<u8>,
    /// With --rate-by network: the fastest data rate.
    #[arg(long, value_name = "DR")]
    pub max_data_rate: Option<u8>,
    /// With --rate-by network: reserve above the demodulation floor.
    #[arg(long, value_name = "DB")]
    pub margin_db: Option<f32>,
    /// With --rate-by network: the device moves about.
    #[arg(long)]
    pub mobile: bool,
    /// From one question for battery and margin to the next; 0 asks never.
    #[arg(long, value_name = "S")]
    pub status_interval_s: Option<u32>,
    /// Frequency of ping slots, with --ping-data-rate.
    #[arg(long, value_name = "HZ", requires = "ping_data_rate")]
    pub ping_frequency_hz: Option<u32>,
    /// Data rate index of ping slots.
    #[arg(long, value_name = "DR", requires = "ping_frequency_hz")]
    pub ping_data_rate: Option<u8>,
    /// From one ping slot to the next, in class B, until the device says so itself: 1, 2, 4 … 128 s.
    #[arg(long, value_name = "S")]
    pub ping_period_s: Option<u16>,
    /// How long the acknowledgement of a class B or C downlink is waited for.
    #[arg(long, value_name = "S")]
    pub ack_timeout_s: Option<u16>,
    /// Transmissions tried of each downlink.
    #[arg(long, value_name = "N")]
    pub attempts: Option<u8>,
    /// How far a frame counter may be above the last one; 0 sets no limit.
    #[arg(long, value_name = "N")]
    pub max_counter_gap: Option<u32>,
    /// RX1 of an uplink channel on another frequency, as CHANNEL:HZ; may be given several times.
    #[arg(long, value_name = "CHANNEL:HZ", value_parser = downlink_channel)]
    pub downlink_channel: Vec<DownlinkChannelSettings>,
    /// The frequency on which a class B device looks for beacons.
    #[arg(long, value_name = "HZ")]
    pub beacon_frequency_hz: Option<u32>,
    /// Uplinks after which a 1.1 device asks for a sign of the network: 1, 2, 4 … 32768.
    #[arg(long, value_name = "UPLINKS")]
    pub adr_ack_limit: Option<u16>,
    /// Uplinks for which it then waits before it slows down: 1, 2, 4 … 32768.
    #[arg(long, value_name = "UPLINKS")]
    pub adr_ack_delay: Option<u16>,
    /// Have a 1.1 device send a rejoin-request at least this often: 2^10 to 2^25 s.
    #[arg(long, value_name = "S")]
    pub rejoin_interval_s: Option<u32>,
    /// The same by uplinks: 2^4 to 2^19.
    #[arg(long, value_name = "UPLINKS")]
    pub rejoin_interval_uplinks: Option<u32>,
    /// Days after which a 1.1 device has to agree on a new session.
    #[arg(long, value_name = "DAYS")]
    pub renew_session_days: Option<u16>,
    /// Accept a frame counter that starts over. Recorded frames can then be replayed.
    #[arg(long, value_name = "TRUE|FALSE")]
    pub counter_restart: Option<bool>,
    /// How often it is expected to send; it is silent when it is three times overdue.
    #[arg(long, value_name = "S")]
    pub uplink_interval_s: Option<u32>,
}

fn downlink_channel(text: &str) -> Result<DownlinkChannelSettings, String> {
    let parts = text.split_once(':').and_then(|(channel, hz)| Some((channel.parse().ok()?, hz.parse().ok()?)));
    let (channel, frequency_hz) = parts.ok_or("a channel's index and a frequency are wanted, as 3:869525000")?;
    Ok(DownlinkChannelSettings { channel, frequency_hz })
}

impl RadioArgs {
    /// `settings` with what is given here put over them.
    pub(crate) fn over(&self, settings: RadioSettings) -> RadioSettings {
        let ping = self.ping_frequency_hz.zip(self.ping_data_rate);
        let ping = ping.map(|(frequency_hz, data_rate)| PingSlotSettings { frequency_hz, data_rate });
        let extra = Some(self.extra_frequency_hz.clone()).filter(|all| !all.is_empty());
        let moved = Some(self.downlink_channel.clone()).filter(|all| !all.is_empty());
        RadioSettings {
            mac_version: self.mac_version.or(settings.mac_version),
            regional_revision: self.regional_revision.or(settings.regional_revision),
            activation: self.activation.or(settings.activation),
            class: self.class.or(settings.class),
            rx_delay_s: self.rx_delay_s.or(settings.rx_delay_s),
            rx1_data_rate_offset: self.rx1_data_rate_offset.or(settings.rx1_data_rate_offset),
            rx2_data_rate: self.rx2_data_rate.or(settings.rx2_data_rate),
            rx2_frequency_hz: self.rx2_frequency_hz.or(settings.rx2_frequency_hz),
            channels: self.channels.clone().or(settings.channels),
            extra_frequencies_hz: extra.or(settings.extra_frequencies_hz),
            max_eirp_dbm: self.max_eirp_dbm.or(settings.max_eirp_dbm),
            dwell_time: self.dwell_time.or(settings.dwell_time),
            max_duty_cycle: self.max_duty_cycle.or(settings.max_duty_cycle),
            rates: self.rates(settings.rates),
            status_interval_s: self.status_interval_s.or(settings.status_interval_s),
            ping_slot: ping.or(settings.ping_slot),
            ping_period_s: self.ping_period_s.or(settings.ping_period_s),
            ack_timeout_s: self.ack_timeout_s.or(settings.ack_timeout_s),
            attempts: self.attempts.or(settings.attempts),
            max_counter_gap: self.max_counter_gap.or(settings.max_counter_gap),
            downlink_channels: moved.or(settings.downlink_channels),
            beacon_frequency_hz: self.beacon_frequency_hz.or(settings.beacon_frequency_hz),
            adr_ack_limit: self.adr_ack_limit.or(settings.adr_ack_limit),
            adr_ack_delay: self.adr_ack_delay.or(settings.adr_ack_delay),
            rejoin_interval_s: self.rejoin_interval_s.or(settings.rejoin_interval_s),
            rejoin_interval_uplinks: self.rejoin_interval_uplinks.or(settings.rejoin_interval_uplinks),
            renew_session_days: self.renew_session_days.or(settings.renew_session_days),
            counter_restart: self.counter_restart.or(settings.counter_restart),
            uplink_interval_s: self.uplink_interval_s.or(settings.uplink_interval_s),
        }
    }

    fn rates(&self, before: Option<RateSettings>) -> Option<RateSettings> {
        let limits = self.min_data_rate.is_some() || self.max_data_rate.is_some() || self.margin_db.is_some();
        let who = self.rate_by.or(if self.data_rate.is_some() {
            Some(WhoSets::Profile)
        } else if limits || self.mobile {
            Some(WhoSets::Network)
        } else {
            None
        });
        match who {
            None => before,
            Some(WhoSets::Device) => Some(RateSettings::Device),
            Some(WhoSets::Profile) => Some(RateSettings::Profile {
                data_rate: self.data_rate.unwrap_or(0),
                tx_power: self.tx_power.unwrap_or(0),
                nb_trans: self.nb_trans.unwrap_or(1),
            }),
            Some(WhoSets::Network) => Some(RateSettings::Network {
                min_data_rate: self.min_data_rate,
                max_data_rate: self.max_data_rate,
                max_tx_power: self.tx_power,
                max_nb_trans: self.nb_trans,
                margin_db: self.margin_db,
                mobile: self.mobile,
            }),
        }
    }

    /// Whether nothing is given.
    pub(crate) fn is_empty(&self) -> bool {
        self.over(RadioSettings::default()) == RadioSettings::default()
    }
}
