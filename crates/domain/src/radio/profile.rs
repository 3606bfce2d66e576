//! The engine's radio profile that a device's settings make in a region, and the conflicts between settings.

use api::problem;
use api::problem::Problem;
use api::radio::settings::{ActivationMode, DownlinkChannelSettings, RadioSettings, RateSettings};
use engine::{AdrAck, AdrLimits, DownlinkChannel, PingChannel, RadioProfile, Rates, RejoinTimes};
use lorawan::region::{ChannelSet, PayloadLimits, Plan, Region, RegionalRevision, Use};
use lorawan::{MacVersion, Modulation};

use crate::radio::settings::engine_class;

fn bad<T: ToString + ?Sized>(field: &str, value: &T, allowed: impl std::fmt::Display) -> Problem {
    problem::bad_field(&format!("radio.{field}"), &value.to_string(), allowed)
}

fn within<T: PartialOrd + ToString + Copy>(field: &str, value: T, from: T, to: T) -> Result<T, Problem> {
    if (from..=to).contains(&value) {
        Ok(value)
    } else {
        Err(bad(field, &value, format!("{} to {} are allowed", from.to_string(), to.to_string())))
    }
}

/// The data rates of one direction, for an error to name.
fn data_rates(plan: &Plan, not: Use) -> String {
    let all: Vec<String> =
        plan.data_rates().filter(|(_, rate)| rate.direction != not).map(|(index, _)| index.to_string()).collect();
    format!("{} has the data rates {} in this direction", plan.name, all.join(", "))
}

fn rate(plan: &Plan, field: &str, index: u8, not: Use) -> Result<u8, Problem> {
    let known = plan.data_rate(index).is_some_and(|rate| rate.direction != not);
    if known { Ok(index) } else { Err(bad(field, &index, data_rates(plan, not))) }
}

fn frequency(plan: &Plan, field: &str, hz: u32) -> Result<u32, Problem> {
    match plan.sub_band(hz) {
        Some(_) => Ok(hz),
        None => {
            let bands: Vec<String> = plan
                .sub_bands
                .iter()
                .map(|b| format!("{:.3} to {:.3} MHz", f64::from(b.from_hz) / 1e6, f64::from(b.to_hz) / 1e6))
                .collect();
            Err(bad(field, &hz, format!("{} has {}", plan.name, bands.join(", "))))
        }
    }
}

/// The exponent above `least` of a power of two; `usual` if there is none. Four bits are sent.
fn exponent(field: &str, value: Option<u32>, least: u32, usual: u8) -> Result<u8, Problem> {
    let Some(value) = value else { return Ok(usual) };
    let exponent = value.is_power_of_two().then(|| value.ilog2().checked_sub(least)).flatten().filter(|n| *n <= 15);
    let allowed = || format!("powers of two from {} to {} are allowed", 1u32 << least, 1u32 << (least + 15));
    exponent.map(|n| n as u8).ok_or_else(|| bad(field, &value, allowed()))
}

fn check_downlink_channels(
    profile: &RadioProfile,
    channels: &[DownlinkChannelSettings],
) -> Result<Vec<DownlinkChannel>, Problem> {
    let plan = profile.plan();
    let all =
        || channels.iter().map(|c| format!("{}: {} Hz", c.channel, c.frequency_hz)).collect::<Vec<_>>().join(", ");
    if !plan.dynamic() {
        let allowed = format!("in {} RX1 follows from the uplink's channel and cannot be moved", plan.name);
        return Err(bad("downlink_channels", &all(), allowed));
    }
    if profile.version < MacVersion::V1_0_2 {
        let allowed = format!("it came with 1.0.2, and the device has {}", profile.version);
        return Err(bad("downlink_channels", &all(), allowed));
    }
    let mut found: Vec<DownlinkChannel> = Vec::new();
    for DownlinkChannelSettings { channel, frequency_hz } in channels {
        if !profile.channels.contains(*channel) || found.iter().any(|known| known.index == *channel) {
            let allowed = format!("each of the device's channels {} may be named once", profile.channels);
            return Err(bad("downlink_channels.channel", channel, allowed));
        }
        let frequency_hz = frequency(plan, "downlink_channels.frequency_hz", *frequency_hz)?;
        found.push(DownlinkChannel { index: *channel, frequency_hz });
    }
    Ok(found)
}

/// How often a class B device listens, and where.
fn set_ping_slots(settings: &RadioSettings, plan: &Plan, profile: &mut RadioProfile) -> Result<(), Problem> {
    if let Some(seconds) = settings.ping_period_s {
        if !seconds.is_power_of_two() || seconds > 128 {
            return Err(bad("ping_period_s", &seconds, "1, 2, 4, 8, 16, 32, 64 and 128 s are allowed"));
        }
        profile.ping_periodicity = Some(seconds.ilog2() as u8);
    }
    if let Some(ping) = settings.ping_slot {
        profile.ping_channel = Some(PingChannel {
            frequency_hz: frequency(plan, "ping_slot.frequency_hz", ping.frequency_hz)?,
            data_rate: rate(plan, "ping_slot.data_rate", ping.data_rate, Use::Up)?,
        });
    }
    Ok(())
}

/// The profile these settings make in a region.
///
/// # Errors
/// Names the field, the value and what the region allows.
pub fn profile_of(settings: &RadioSettings, region: Region) -> Result<RadioProfile, Problem> {
    let plan = region.plan();
    let base = RadioProfile::of(region);
    let mut profile = RadioProfile {
        version: settings.mac_version.unwrap_or(base.version),
        class: settings.class.map_or(base.class, engine_class),
        rx_delay_s: within("rx_delay_s", settings.rx_delay_s.unwrap_or(base.rx_delay_s), 1, 15)?,
        rx1_data_rate_offset: within(
            "rx1_data_rate_offset",
            settings.rx1_data_rate_offset.unwrap_or(base.rx1_data_rate_offset),
            0,
            plan.max_rx1_offset(),
        )?,
        rx2_data_rate: rate(plan, "rx2_data_rate", settings.rx2_data_rate.unwrap_or(base.rx2_data_rate), Use::Up)?,
        rx2_frequency_hz: settings.rx2_frequency_hz.map(|hz| frequency(plan, "rx2_frequency_hz", hz)).transpose()?,
        max_duty_cycle: within("max_duty_cycle", settings.max_duty_cycle.unwrap_or(0), 0, 15)?,
        status_every_s: settings.status_interval_s.unwrap_or(base.status_every_s),
        ack_timeout_s: within("ack_timeout_s", settings.ack_timeout_s.unwrap_or(base.ack_timeout_s), 1, 3600)?,
        attempts: within("attempts", settings.attempts.unwrap_or(base.attempts), 1, 50)?,
        counter_restart: settings.counter_restart.unwrap_or(base.counter_restart),
        ..base
    };
    if let Some(dwell_time) = settings.dwell_time {
        if !plan.dwell.by_command && dwell_time != profile.dwell_time {
            let allowed = format!("in {} the dwell time is not the network's choice", plan.name);
            return Err(bad("dwell_time", &dwell_time, allowed));
        }
        profile.dwell_time = dwell_time;
    }
    if let Some(channels) = &settings.channels {
        profile.channels = check_channels(plan, channels)?;
    }
    if let Some(extra) = &settings.extra_frequencies_hz {
        check_extra(plan, extra)?;
        profile = profile.with_extra(extra);
    }
    if let Some(dbm) = settings.max_eirp_dbm {
        let (lowest, most) = (plan.tx_power.dbm(plan.tx_power.highest).unwrap_or(0.0), plan.tx_power.max_dbm);
        profile.max_eirp_dbm = Some(within("max_eirp_dbm", dbm, lowest, most)?);
    }
    set_ping_slots(settings, plan, &mut profile)?;
    set_rarely_used(settings, &mut profile)?;
    profile.rates = check_rates(settings, plan)?;
    check_power(&profile)?;
    let limits = PayloadLimits { repeater: false, dwell_time: profile.dwell_time };
    if plan.max_payload(profile.rx2_data_rate, limits).is_none() {
        let allowed = "within the dwell time it is too slow: choose a faster one, or switch the dwell time off";
        return Err(bad("rx2_data_rate", &profile.rx2_data_rate, allowed));
    }
    Ok(profile)
}

/// The same, with checks of values that must go together, and of the regional parameters of the device's firmware. For
/// new settings only: stored ones were checked when they came in.
///
/// # Errors
/// Names the field, the value and what is allowed.
pub fn checked_profile(settings: &RadioSettings, region: Region) -> Result<RadioProfile, Problem> {
    let profile = profile_of(settings, region)?;
    if let Some(revision) = settings.regional_revision {
        check_revision(revision, &profile)?;
    }
    Ok(profile)
}

/// Whether a device that joins, or one that is personalized, can have these settings.
///
/// # Errors
/// If they are for the other kind.
pub fn suits(settings: &RadioSettings, personalized: bool) -> Result<(), Problem> {
    match settings.activation {
        Some(ActivationMode::Otaa) if personalized => {
            Err(bad("activation", "OTAA", "this device is activated by personalization (ABP): it has a fixed session"))
        }
        Some(ActivationMode::Abp) if !personalized => {
            Err(bad("activation", "ABP", "this device joins (OTAA): it has root keys, not a fixed session"))
        }
        _ => Ok(()),
    }
}

/// Settings that few devices need.
fn set_rarely_used(settings: &RadioSettings, profile: &mut RadioProfile) -> Result<(), Problem> {
    let (plan, version) = (profile.plan(), profile.version);
    profile.max_counter_gap = settings.max_counter_gap;
    profile.beacon_hz =
        settings.beacon_frequency_hz.map(|hz| frequency(plan, "beacon_frequency_hz", hz)).transpose()?;
    if let Some(channels) = settings.downlink_channels.as_deref().filter(|all| !all.is_empty()) {
        profile.downlink_channels = check_downlink_channels(profile, channels)?;
    }
    let only_1_1 = [
        ("adr_ack_limit", settings.adr_ack_limit.map(u32::from)),
        ("adr_ack_delay", settings.adr_ack_delay.map(u32::from)),
        ("rejoin_interval_s", settings.rejoin_interval_s),
        ("rejoin_interval_uplinks", settings.rejoin_interval_uplinks),
        ("renew_session_days", settings.renew_session_days.map(u32::from)),
    ];
    if version != MacVersion::V1_1
        && let Some((field, value)) = only_1_1.iter().find_map(|(field, value)| Some((field, (*value)?)))
    {
        return Err(bad(field, &value, format!("only LoRaWAN 1.1 knows it, and the device has {version}")));
    }
    if settings.adr_ack_limit.is_some() || settings.adr_ack_delay.is_some() {
        let AdrAck { limit_exp, delay_exp } = AdrAck::DEFAULT;
        profile.adr_ack = Some(AdrAck {
            limit_exp: exponent("adr_ack_limit", settings.adr_ack_limit.map(u32::from), 0, limit_exp)?,
            delay_exp: exponent("adr_ack_delay", settings.adr_ack_delay.map(u32::from), 0, delay_exp)?,
        });
    }
    if settings.rejoin_interval_s.is_some() || settings.rejoin_interval_uplinks.is_some() {
        profile.rejoin = Some(RejoinTimes {
            max_time_n: exponent("rejoin_interval_s", settings.rejoin_interval_s, 10, 15)?,
            max_count_n: exponent("rejoin_interval_uplinks", settings.rejoin_interval_uplinks, 4, 15)?,
        });
    }
    profile.renew_after_days =
        settings.renew_session_days.map(|days| within("renew_session_days", days, 1, 3650)).transpose()?;
    Ok(())
}

fn check_revision(revision: RegionalRevision, profile: &RadioProfile) -> Result<(), Problem> {
    let (version, region, plan) = (profile.version, profile.region, profile.plan());
    if !revision.goes_with(version) {
        let fitting: Vec<&str> =
            RegionalRevision::ALL.into_iter().filter(|r| r.goes_with(version)).map(RegionalRevision::name).collect();
        return Err(bad(
            "regional_revision",
            revision.name(),
            format!("LoRaWAN {version} goes with {}", fitting.join(", ")),
        ));
    }
    let since = RegionalRevision::first_with(region);
    if revision.before(since) {
        let allowed = format!("{region} came with {}: later firmware is needed for it", since.name());
        return Err(bad("regional_revision", revision.name(), allowed));
    }
    let fastest = match profile.rates {
        Rates::Device => return Ok(()),
        Rates::Fixed { data_rate, .. } => ("rates.data_rate", data_rate),
        Rates::Adaptive(limits) => ("rates.max_data_rate", limits.max_data_rate),
    };
    let lr_fhss =
        |index| plan.data_rate(index).is_some_and(|rate| matches!(rate.modulation, Modulation::LrFhss { .. }));
    if lr_fhss(fastest.1) && revision.before(RegionalRevision::LR_FHSS) {
        let allowed = format!(
            "LR-FHSS came with {}, and the device keeps to {}",
            RegionalRevision::LR_FHSS.name(),
            revision.name()
        );
        return Err(bad(fastest.0, &fastest.1, allowed));
    }
    Ok(())
}

/// A limit on power leaves the weaker part of the region's table.
fn check_power(profile: &RadioProfile) -> Result<(), Problem> {
    let (Some(limit), lowest) = (profile.max_eirp_dbm, profile.lowest_tx_power()) else { return Ok(()) };
    let (field, index) = match profile.rates {
        Rates::Device => return Ok(()),
        Rates::Fixed { tx_power, .. } => ("rates.tx_power", tx_power),
        Rates::Adaptive(limits) => ("rates.max_tx_power", limits.max_tx_power),
    };
    if index >= lowest {
        return Ok(());
    }
    Err(bad(field, &index, format!("{limit} dBm at most allow the indices from {lowest} on")))
}

fn check_channels(plan: &Plan, text: &str) -> Result<ChannelSet, Problem> {
    let set: ChannelSet = text.parse().map_err(|why| bad("channels", text, format!("{why}")))?;
    let all: ChannelSet = plan.network_uplinks().map(|c| c.index).collect();
    if set.is_empty() || !set.difference(all).is_empty() {
        return Err(bad("channels", text, format!("{} has the channels {all}; at least one is needed", plan.name)));
    }
    Ok(set)
}

fn check_rates(settings: &RadioSettings, plan: &Plan) -> Result<Rates, Problem> {
    let power = |field: &str, index: u8| within(field, index, 0, plan.tx_power.highest);
    Ok(match settings.rates {
        None => Rates::Adaptive(AdrLimits::of(plan)),
        Some(RateSettings::Device) => Rates::Device,
        Some(RateSettings::Profile { data_rate, tx_power, nb_trans }) => Rates::Fixed {
            data_rate: rate(plan, "rates.data_rate", data_rate, Use::Down)?,
            tx_power: power("rates.tx_power", tx_power)?,
            nb_trans: within("rates.nb_trans", nb_trans, 1, 15)?,
        },
        Some(RateSettings::Network { min_data_rate, max_data_rate, max_tx_power, max_nb_trans, margin_db, mobile }) => {
            let base = AdrLimits::of(plan);
            let min = rate(plan, "rates.min_data_rate", min_data_rate.unwrap_or(base.min_data_rate), Use::Down)?;
            let max = rate(plan, "rates.max_data_rate", max_data_rate.unwrap_or(base.max_data_rate), Use::Down)?;
            if min > max {
                return Err(bad("rates.min_data_rate", &min, format!("it must not be above max_data_rate, {max}")));
            }
            Rates::Adaptive(AdrLimits {
                min_data_rate: min,
                max_data_rate: max,
                max_tx_power: power("rates.max_tx_power", max_tx_power.unwrap_or(base.max_tx_power))?,
                max_nb_trans: within("rates.max_nb_trans", max_nb_trans.unwrap_or(base.max_nb_trans), 1, 15)?,
                margin_db: within("rates.margin_db", margin_db.unwrap_or(base.margin_db), 0.0, 40.0)?,
                mobile,
            })
        }
    })
}

fn check_extra(plan: &Plan, extra: &[u32]) -> Result<(), Problem> {
    const FIELD: &str = "extra_frequencies_hz";
    let network: Vec<u32> = plan.network_uplinks().map(|channel| channel.frequency_hz).collect();
    if !plan.dynamic() {
        let allowed = format!("{} has a fixed table of channels: choose among them with radio.channels", plan.name);
        return Err(bad(FIELD, &extra.len(), allowed));
    }
    let room = RadioProfile::most_extra(plan);
    if extra.len() > room {
        return Err(bad(
            FIELD,
            &format!("{} of them", extra.len()),
            format!("at most {room} are allowed in {}", plan.name),
        ));
    }
    for (n, hz) in extra.iter().enumerate() {
        frequency(plan, FIELD, *hz)?;
        if hz % 100 != 0 {
            return Err(bad(FIELD, hz, "channels lie at multiples of 100 Hz"));
        }
        if network.contains(hz) {
            return Err(bad(FIELD, hz, "the network has this channel anyway"));
        }
        if extra[..n].contains(hz) {
            return Err(bad(FIELD, hz, "it is there twice"));
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use lorawan::MacVersion;

    use super::*;

    fn read(json: &str) -> RadioSettings {
        serde_json::from_str(json).unwrap()
    }

    #[test]
    fn a_region_alone_suffices() {
        for region in Region::ALL {
            assert_eq!(profile_of(&RadioSettings::default(), region).unwrap(), RadioProfile::of(region), "{region}");
        }
    }

    #[test]
    fn conflicts_name_field_value_and_what_is_allowed() {
        for (json, region, field, said) in [
            (r#"{"rx2_data_rate": 14}"#, Region::Eu868, "radio.rx2_data_rate", "0, 1, 2, 3, 4, 5, 6, 7"),
            (r#"{"rx2_data_rate": 3}"#, Region::Us915, "radio.rx2_data_rate", "8, 9, 10, 11, 12, 13"),
            (r#"{"rx2_data_rate": 0}"#, Region::As923_1, "radio.rx2_data_rate", "dwell time"),
            (r#"{"rx2_frequency_hz": 915000000}"#, Region::Eu868, "radio.rx2_frequency_hz", "869.400 to 869.650 MHz"),
            (r#"{"rx_delay_s": 16}"#, Region::Eu868, "radio.rx_delay_s", "1 to 15"),
            (r#"{"channels": "0-2, 9"}"#, Region::Eu868, "radio.channels", "0-7"),
            (r#"{"channels": "x"}"#, Region::Eu868, "radio.channels", "runs of numbers"),
            (r#"{"dwell_time": true}"#, Region::Eu868, "radio.dwell_time", "not the network's choice"),
            (
                r#"{"rates": {"by": "profile", "data_rate": 9}}"#,
                Region::Us915,
                "radio.rates.data_rate",
                "0, 1, 2, 3, 4, 5, 6",
            ),
            (
                r#"{"rates": {"by": "network", "min_data_rate": 4, "max_data_rate": 2}}"#,
                Region::Eu868,
                "radio.rates.min_data_rate",
                "above max_data_rate",
            ),
            (r#"{"rates": {"by": "network", "margin_db": -1}}"#, Region::Eu868, "radio.rates.margin_db", "0 to 40"),
            (r#"{"adr_ack_limit": 64}"#, Region::Eu868, "radio.adr_ack_limit", "only LoRaWAN 1.1"),
            (r#"{"renew_session_days": 9}"#, Region::Eu868, "radio.renew_session_days", "only LoRaWAN 1.1"),
            (
                r#"{"mac_version": "1.1", "rejoin_interval_s": 1000}"#,
                Region::Eu868,
                "radio.rejoin_interval_s",
                "from 1024 to 33554432",
            ),
            (
                r#"{"downlink_channels": [{"channel": 9, "frequency_hz": 869525000}]}"#,
                Region::Eu868,
                "radio.downlink_channels.channel",
                "0-7",
            ),
            (
                r#"{"mac_version": "1.0.1", "downlink_channels": [{"channel": 1, "frequency_hz": 869525000}]}"#,
                Region::Eu868,
                "radio.downlink_channels",
                "came with 1.0.2",
            ),
            (
                r#"{"downlink_channels": [{"channel": 1, "frequency_hz": 923300000}]}"#,
                Region::Us915,
                "radio.downlink_channels",
                "cannot be moved",
            ),
            (r#"{"ping_period_s": 3}"#, Region::Eu868, "radio.ping_period_s", "1, 2, 4, 8"),
            (r#"{"ping_period_s": 256}"#, Region::Eu868, "radio.ping_period_s", "128 s are allowed"),
            (
                r#"{"extra_frequencies_hz": [869525000, 869525000]}"#,
                Region::Eu868,
                "radio.extra_frequencies_hz",
                "twice",
            ),
            (r#"{"extra_frequencies_hz": [868100000]}"#, Region::Eu868, "radio.extra_frequencies_hz", "anyway"),
            (r#"{"extra_frequencies_hz": [868100050]}"#, Region::Eu868, "radio.extra_frequencies_hz", "100 Hz"),
            (r#"{"extra_frequencies_hz": [915000000]}"#, Region::Eu868, "radio.extra_frequencies_hz", "EU868 has 863"),
            (r#"{"extra_frequencies_hz": [903000000]}"#, Region::Us915, "radio.extra_frequencies_hz", "fixed table"),
            (
                r#"{"extra_frequencies_hz": [1,2,3,4,5,6,7,8,9]}"#,
                Region::Eu868,
                "radio.extra_frequencies_hz",
                "at most 8",
            ),
            (r#"{"max_eirp_dbm": 17}"#, Region::Eu868, "radio.max_eirp_dbm", "2 to 16"),
            (
                r#"{"max_eirp_dbm": 10, "rates": {"by": "profile", "data_rate": 3, "tx_power": 1}}"#,
                Region::Eu868,
                "radio.rates.tx_power",
                "from 3 on",
            ),
            (
                r#"{"regional_revision": "RP001-1.1-A"}"#,
                Region::Eu868,
                "radio.regional_revision",
                "RP001-1.0.3-A, RP002",
            ),
            (
                r#"{"regional_revision": "RP001-1.0.3-A"}"#,
                Region::As923_2,
                "radio.regional_revision",
                "came with RP002-1.0.1",
            ),
            (
                r#"{"regional_revision": "RP002-1.0.1", "rates": {"by": "profile", "data_rate": 8}}"#,
                Region::Eu868,
                "radio.rates.data_rate",
                "LR-FHSS came with RP002-1.0.2",
            ),
        ] {
            let problem = checked_profile(&read(json), region).unwrap_err();
            assert_eq!(problem.field.as_deref(), Some(field), "{json}");
            assert!(problem.to_string().contains(said), "{problem}");
        }
        assert!(serde_json::from_str::<RadioSettings>(r#"{"colour": 1}"#).is_err());
    }

    #[test]
    fn class_b_needs_no_ping_period_the_device_tells_it() {
        let plain = read(r#"{"class": "B"}"#);
        assert_eq!(checked_profile(&plain, Region::Eu868).unwrap().ping_periodicity, None);
    }

    #[test]
    fn settings_of_1_1_are_powers_of_two() {
        let settings = read(
            r#"{"mac_version": "1.1", "adr_ack_limit": 16, "rejoin_interval_uplinks": 1024, "renew_session_days": 30,
            "downlink_channels": [{"channel": 2, "frequency_hz": 869525000}], "max_counter_gap": 0}"#,
        );
        let profile = checked_profile(&settings, Region::Eu868).unwrap();
        assert_eq!(profile.adr_ack, Some(AdrAck { limit_exp: 4, delay_exp: 5 }));
        assert_eq!(profile.rejoin, Some(RejoinTimes { max_time_n: 15, max_count_n: 6 }));
        assert_eq!((profile.renew_after_days, profile.counter_gap_limit()), (Some(30), None));
        assert_eq!(profile.downlink_channels, [DownlinkChannel { index: 2, frequency_hz: 869_525_000 }]);
    }

    #[test]
    fn a_way_of_activation_is_kept_to() {
        assert!(suits(&read("{}"), true).is_ok() && suits(&read("{}"), false).is_ok());
        let joins = read(r#"{"activation": "OTAA"}"#);
        assert!(suits(&joins, false).is_ok());
        assert_eq!(suits(&joins, true).unwrap_err().field.as_deref(), Some("radio.activation"));
        assert!(suits(&read(r#"{"activation": "ABP"}"#), false).unwrap_err().to_string().contains("root keys"));
    }

    #[test]
    fn extra_channels_come_behind_the_networks() {
        let settings =
            read(r#"{"channels": "0-2", "extra_frequencies_hz": [867500100, 869525000], "max_eirp_dbm": 12}"#);
        let profile = profile_of(&settings, Region::Eu868).unwrap();
        assert_eq!(profile.channels.to_string(), "0-2, 8-9");
        assert_eq!((profile.extra_hz.clone(), profile.lowest_tx_power()), (vec![867_500_100, 869_525_000], 2));
    }

    #[test]
    fn what_is_given_is_taken() {
        let settings = read(
            r#"{"mac_version": "1.1", "class": "C", "rx_delay_s": 5, "channels": "8-15, 65",
            "rates": {"by": "network", "max_data_rate": 3, "mobile": true}, "counter_restart": true}"#,
        );
        let profile = profile_of(&settings, Region::Us915).unwrap();
        assert_eq!((profile.version, profile.class, profile.rx_delay_s), (MacVersion::V1_1, engine::Class::C, 5));
        assert_eq!((profile.channels.len(), profile.counter_restart), (9, true));
        let Rates::Adaptive(limits) = profile.rates else { panic!("{profile:?}") };
        assert_eq!((limits.max_data_rate, limits.mobile), (3, true));
        let again: RadioSettings = serde_json::from_str(&serde_json::to_string(&settings).unwrap()).unwrap();
        assert_eq!(again, settings);
    }
}
