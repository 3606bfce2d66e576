//! The effects of a change of settings for a device, and the MAC commands that carry it.

use api::problem::Problem;
use api::radio::profile::{PutProfile, SettingChange};
use engine::RadioProfile;

use crate::input;
use crate::radio::profile::checked_profile;

/// The same, checked.
///
/// # Errors
/// If the settings do not go together, or not with the region.
pub fn check(profile: PutProfile) -> Result<PutProfile, Problem> {
    checked_profile(&profile.radio, profile.region)?;
    Ok(PutProfile { name: input::name("name", &profile.name)?, ..profile })
}

/// The differences between two profiles, with the MAC commands that carry them (TS001-1.0.4 §5).
pub fn changes(before: &RadioProfile, after: &RadioProfile) -> Vec<SettingChange> {
    let mut found = Vec::new();
    let mut compare = |setting: &str, sent: Option<&str>, of: &dyn Fn(&RadioProfile) -> String| {
        let (before, after) = (of(before), of(after));
        if before != after {
            found.push(SettingChange { setting: setting.into(), before, after, sent: sent.map(Into::into) });
        }
    };
    compare("region", None, &|p| p.region.to_string());
    compare("LoRaWAN version", None, &|p| p.version.name().into());
    compare("class", None, &|p| p.class.name().into());
    compare("RX1 delay", Some("RXTimingSetupReq"), &|p| format!("{} s", p.rx_delay_s));
    compare("RX1 data rate offset", Some("RXParamSetupReq"), &|p| p.rx1_data_rate_offset.to_string());
    compare("RX2 data rate", Some("RXParamSetupReq"), &|p| format!("DR{}", p.rx2_data_rate));
    let hz = |hz: u32| format!("{} MHz", f64::from(hz) / 1e6);
    compare("RX2 frequency", Some("RXParamSetupReq"), &|p| hz(p.rx2_frequency_hz.unwrap_or(p.plan().rx2_frequency_hz)));
    compare("uplink channels", Some("LinkADRReq"), &|p| p.channels.to_string());
    compare(
        "extra channels",
        Some("NewChannelReq"),
        &|p| match p.extra_hz.iter().map(|f| hz(*f)).collect::<Vec<_>>() {
            all if all.is_empty() => "none".into(),
            all => all.join(", "),
        },
    );
    compare("power at most", Some("LinkADRReq"), &|p| match p.max_eirp_dbm {
        Some(dbm) => format!("{dbm} dBm"),
        None => "as the region has it".into(),
    });
    compare("dwell time limit", Some("TxParamSetupReq"), &|p| if p.dwell_time { "400 ms" } else { "none" }.into());
    compare("duty cycle", Some("DutyCycleReq"), &|p| match p.max_duty_cycle {
        0 => "as the region has it".into(),
        n => format!("1/{}", 1u32 << n),
    });
    compare("data rate", Some("LinkADRReq, as far as the decision differs"), &|p| rates(&p.rates));
    compare("ping slots", Some("PingSlotChannelReq"), &|p| match p.ping_channel {
        None => "as the region has them".into(),
        Some(ping) => format!("{}, DR{}", hz(ping.frequency_hz), ping.data_rate),
    });
    compare("time between ping slots", None, &|p| match p.ping_periodicity {
        Some(n) => format!("{} s, until the device says otherwise", 1u32 << n),
        None => "as the device says".into(),
    });
    compare("questions for battery and margin", None, &|p| match p.status_every_s {
        0 => "never".into(),
        s => format!("every {s} s"),
    });
    compare("wait for an acknowledgement", None, &|p| format!("{} s", p.ack_timeout_s));
    compare("transmissions of a downlink", None, &|p| format!("up to {}", p.attempts));
    compare("largest counter gap", None, &|p| match p.counter_gap_limit() {
        None => "no limit".into(),
        Some(limit) => limit.to_string(),
    });
    compare("RX1 on other frequencies", Some("DlChannelReq"), &|p| {
        let all = p.downlink_channels.iter().map(|c| format!("channel {}: {}", c.index, hz(c.frequency_hz)));
        match all.collect::<Vec<_>>() {
            all if all.is_empty() => "none".into(),
            all => all.join(", "),
        }
    });
    compare("beacon frequency", Some("BeaconFreqReq"), &|p| p.beacon_hz.map_or("as the region has it".into(), hz));
    compare("ADR_ACK_LIMIT and ADR_ACK_DELAY", Some("ADRParamSetupReq"), &|p| {
        let adr_ack = p.adr_ack.unwrap_or(engine::AdrAck::DEFAULT);
        format!("{} and {} uplinks", 1u32 << adr_ack.limit_exp, 1u32 << adr_ack.delay_exp)
    });
    compare("rejoin-requests by itself", Some("RejoinParamSetupReq"), &|p| match p.rejoin {
        None => "as its firmware has it".into(),
        Some(times) => format!(
            "at least every {} s or {} uplinks",
            1u64 << (times.max_time_n + 10),
            1u64 << (times.max_count_n + 4)
        ),
    });
    compare("session renewed", Some("ForceRejoinReq"), &|p| match p.renew_after_days {
        None => "never".into(),
        Some(days) => format!("after {days} days"),
    });
    compare("a counter that starts over", None, &|p| {
        if p.counter_restart { "is accepted" } else { "is refused" }.into()
    });
    found
}

fn rates(rates: &engine::Rates) -> String {
    match rates {
        engine::Rates::Device => "the device decides".into(),
        engine::Rates::Fixed { data_rate, tx_power, nb_trans } => {
            format!("DR{data_rate}, TXPower {tx_power}, each uplink {nb_trans} times, fixed")
        }
        engine::Rates::Adaptive(l) => format!(
            "the network decides: DR{} to DR{}, TXPower up to {}, each uplink up to {} times, {} dB in reserve{}",
            l.min_data_rate,
            l.max_data_rate,
            l.max_tx_power,
            l.max_nb_trans,
            l.margin_db,
            if l.mobile { ", moving about" } else { "" }
        ),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::radio::profile::profile_of;
    use api::radio::settings::Class;
    use api::radio::settings::RadioSettings;
    use lorawan::region::Region;

    #[test]
    fn a_change_says_what_is_sent() {
        let before = profile_of(&RadioSettings::default(), Region::Eu868).unwrap();
        assert_eq!(changes(&before, &before), []);
        let after = RadioSettings {
            class: Some(Class::C),
            rx_delay_s: Some(5),
            rx2_data_rate: Some(3),
            max_duty_cycle: Some(4),
            attempts: Some(9),
            ..RadioSettings::default()
        };
        let found = changes(&before, &profile_of(&after, Region::Eu868).unwrap());
        let said: Vec<(&str, &str, &str, Option<&str>)> = found
            .iter()
            .map(|c| (c.setting.as_str(), c.before.as_str(), c.after.as_str(), c.sent.as_deref()))
            .collect();
        assert_eq!(
            said,
            [
                ("class", "A", "C", None),
                ("RX1 delay", "1 s", "5 s", Some("RXTimingSetupReq")),
                ("RX2 data rate", "DR0", "DR3", Some("RXParamSetupReq")),
                ("duty cycle", "as the region has it", "1/16", Some("DutyCycleReq")),
                ("transmissions of a downlink", "up to 3", "up to 9", None),
            ]
        );
    }

    #[test]
    fn a_profile_that_cannot_be_is_refused() {
        let radio = RadioSettings { rx2_data_rate: Some(14), ..RadioSettings::default() };
        let profile = PutProfile { name: "x".into(), region: Region::Eu868, radio };
        assert_eq!(check(profile.clone()).unwrap_err().field.as_deref(), Some("radio.rx2_data_rate"));
        let nameless = PutProfile { name: " ".into(), radio: RadioSettings::default(), ..profile };
        assert_eq!(check(nameless).unwrap_err().field.as_deref(), Some("name"));
    }
}
