//! Radio settings in layers: device over profile over model.

use api::radio::settings::{Class, RadioSettings};

/// The class as the engine has it.
pub fn engine_class(class: Class) -> engine::Class {
    match class {
        Class::A => engine::Class::A,
        Class::B => engine::Class::B,
        Class::C => engine::Class::C,
    }
}

/// The class as it is shown.
pub fn wire_class(class: engine::Class) -> Class {
    match class {
        engine::Class::A => Class::A,
        engine::Class::B => Class::B,
        engine::Class::C => Class::C,
    }
}

/// These settings, completed from `base`.
#[must_use]
pub fn over(own: &RadioSettings, base: &RadioSettings) -> RadioSettings {
    RadioSettings {
        mac_version: own.mac_version.or(base.mac_version),
        regional_revision: own.regional_revision.or(base.regional_revision),
        activation: own.activation.or(base.activation),
        class: own.class.or(base.class),
        rx_delay_s: own.rx_delay_s.or(base.rx_delay_s),
        rx1_data_rate_offset: own.rx1_data_rate_offset.or(base.rx1_data_rate_offset),
        rx2_data_rate: own.rx2_data_rate.or(base.rx2_data_rate),
        rx2_frequency_hz: own.rx2_frequency_hz.or(base.rx2_frequency_hz),
        channels: own.channels.clone().or_else(|| base.channels.clone()),
        extra_frequencies_hz: own.extra_frequencies_hz.clone().or_else(|| base.extra_frequencies_hz.clone()),
        max_eirp_dbm: own.max_eirp_dbm.or(base.max_eirp_dbm),
        dwell_time: own.dwell_time.or(base.dwell_time),
        max_duty_cycle: own.max_duty_cycle.or(base.max_duty_cycle),
        rates: own.rates.or(base.rates),
        status_interval_s: own.status_interval_s.or(base.status_interval_s),
        ping_slot: own.ping_slot.or(base.ping_slot),
        ping_period_s: own.ping_period_s.or(base.ping_period_s),
        ack_timeout_s: own.ack_timeout_s.or(base.ack_timeout_s),
        attempts: own.attempts.or(base.attempts),
        max_counter_gap: own.max_counter_gap.or(base.max_counter_gap),
        downlink_channels: own.downlink_channels.clone().or_else(|| base.downlink_channels.clone()),
        beacon_frequency_hz: own.beacon_frequency_hz.or(base.beacon_frequency_hz),
        adr_ack_limit: own.adr_ack_limit.or(base.adr_ack_limit),
        adr_ack_delay: own.adr_ack_delay.or(base.adr_ack_delay),
        rejoin_interval_s: own.rejoin_interval_s.or(base.rejoin_interval_s),
        rejoin_interval_uplinks: own.rejoin_interval_uplinks.or(base.rejoin_interval_uplinks),
        renew_session_days: own.renew_session_days.or(base.renew_session_days),
        counter_restart: own.counter_restart.or(base.counter_restart),
        uplink_interval_s: own.uplink_interval_s.or(base.uplink_interval_s),
    }
}
