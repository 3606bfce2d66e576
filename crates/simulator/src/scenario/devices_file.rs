//! The table of devices that are alike but for some numbers.

use api::radio::settings::{Class, RadioSettings};
use serde::Deserialize;

use super::entries::{DeviceEntry, eu868};
use crate::sensor::SensorKind;

/// A line of the table of devices. What it does not say is as usual.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct DeviceLine {
    name: String,
    dev_eui: String,
    join_eui: String,
    app_key: String,
    fleet: String,
    model: String,
    sensor: SensorKind,
    latitude_deg: f64,
    longitude_deg: f64,
    height_m: f64,
    herd: Option<String>,
    class: Option<Class>,
    interval_s: f64,
    data_rate: u8,
    battery_days: f64,
    battery_lasts_days: f64,
}

impl From<DeviceLine> for DeviceEntry {
    fn from(line: DeviceLine) -> Self {
        Self {
            name: line.name,
            dev_eui: line.dev_eui,
            dev_eui_in_device: None,
            join_eui: line.join_eui,
            app_key: line.app_key,
            app_key_in_device: None,
            nwk_key: None,
            personal: None,
            region: eu868(),
            radio: RadioSettings { class: line.class, ..RadioSettings::default() },
            restarts_every: None,
            rejoins_every: None,
            fleet: line.fleet,
            model: Some(line.model),
            sensor: line.sensor,
            latitude_deg: line.latitude_deg,
            longitude_deg: line.longitude_deg,
            height_m: line.height_m,
            herd: line.herd,
            interval_s: line.interval_s,
            data_rate: line.data_rate,
            confirmed: false,
            since_days_ago: None,
            battery_days: line.battery_days,
            battery_lasts_days: line.battery_lasts_days,
            before: Vec::new(),
            stranger: false,
        }
    }
}
