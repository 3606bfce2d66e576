//! A device as the engine wants it, from its row.

use std::collections::HashMap;
use std::sync::Arc;

use api::radio::settings::RadioSettings;
use domain::radio::profile::profile_of;
use domain::radio::settings::over;
use engine::{Activation, DeviceConfig, Policy, RadioProfile, RootKeys};
use lorawan::crypto::SessionKeys11;
use lorawan::{AesKey, DevAddr, Eui64};
use sqlx::Row as _;
use sqlx::mysql::MySqlRow;

use crate::rows::{eui, json, optional_eui, region};
use crate::vault::Purpose;
use crate::{Store, StoreError};

/// A device with its profile, model and fleet.
pub(crate) const CONFIG: &str =
    "SELECT d.*, f.airtime_a_day_us, f.downlinks_a_day, p.radio AS profile_radio, m.radio AS model_radio
    FROM devices d JOIN fleets f ON f.id = d.fleet_id LEFT JOIN radio_profiles p ON p.id = d.profile_id
    LEFT JOIN models m ON m.id = d.model_id";

impl Store {
    /// A device as the engine wants it, from a row of devices with its fleet's limits.
    pub(crate) fn device_config(&self, row: &MySqlRow, profiles: &mut Profiles) -> Result<DeviceConfig, StoreError> {
        let dev_eui = eui(row, "dev_eui")?;
        Ok(DeviceConfig {
            dev_eui,
            join_eui: optional_eui(row, "join_eui")?.unwrap_or(Eui64(0)),
            activation: self.activation(dev_eui, row)?,
            profile: profiles.of(row)?,
            policy: policy(row)?,
            estate: row.try_get("estate_id")?,
            fleet: row.try_get("fleet_id")?,
            disabled: row.try_get("disabled")?,
        })
    }

    pub(crate) fn activation(&self, dev_eui: Eui64, row: &MySqlRow) -> Result<Activation, StoreError> {
        let key = |column, purpose| -> Result<Option<AesKey>, StoreError> {
            let sealed: Option<Vec<u8>> = row.try_get(column)?;
            Ok(sealed.map(|sealed| self.vault.open(purpose, dev_eui, &sealed)).transpose()?.map(AesKey))
        };
        if let Some(dev_addr) = row.try_get::<Option<u32>, _>("personal_addr")? {
            let sealed: Vec<u8> = row.try_get("personal_keys_sealed")?;
            let keys = Box::new(four_keys(self.vault.open(Purpose::PersonalKeys, dev_eui, &sealed)?));
            return Ok(Activation::Personalized { dev_addr: DevAddr(dev_addr), keys });
        }
        let app_key = key("app_key_sealed", Purpose::AppKey)?;
        let app_key = app_key.ok_or(StoreError::unreadable("device", "neither a root key nor a session"))?;
        Ok(Activation::OverTheAir(RootKeys { app_key, nwk_key: key("nwk_key_sealed", Purpose::NwkKey)? }))
    }
}

/// A device's settings over those of its profile, over those of its model.
pub(crate) fn whole_radio(row: &MySqlRow) -> Result<RadioSettings, StoreError> {
    let layer = |column: &str| -> Result<RadioSettings, StoreError> {
        let text: Option<String> = row.try_get(column)?;
        text.map_or_else(|| Ok(RadioSettings::default()), |text| json("radio settings", &text))
    };
    Ok(over(&over(&layer("radio")?, &layer("profile_radio")?), &layer("model_radio")?))
}

/// Radio profiles by their sources, so that devices with the same sources share one.
#[derive(Default)]
pub(crate) struct Profiles(HashMap<[Option<String>; 4], Arc<RadioProfile>>);

impl Profiles {
    fn of(&mut self, row: &MySqlRow) -> Result<Arc<RadioProfile>, StoreError> {
        let column = |name: &str| row.try_get::<Option<String>, _>(name);
        let key = [column("region")?, column("radio")?, column("profile_radio")?, column("model_radio")?];
        if let Some(known) = self.0.get(&key) {
            return Ok(Arc::clone(known));
        }
        let settings = whole_radio(row)?;
        let profile =
            profile_of(&settings, region(row)?).map_err(|why| StoreError::unreadable("radio settings", why))?;
        Ok(Arc::clone(self.0.entry(key).or_insert(Arc::new(profile))))
    }
}

/// A fleet's limits, from its columns.
pub(crate) fn policy(row: &MySqlRow) -> Result<Policy, StoreError> {
    Ok(Policy { airtime_us: row.try_get("airtime_a_day_us")?, downlinks: row.try_get("downlinks_a_day")? })
}

pub(crate) fn quarter(keys: &[u8], n: usize) -> AesKey {
    AesKey(std::array::from_fn(|i| keys[16 * n + i]))
}

pub(crate) fn four_keys(keys: [u8; 64]) -> SessionKeys11 {
    SessionKeys11 {
        f_nwk_s_int_key: quarter(&keys, 0),
        s_nwk_s_int_key: quarter(&keys, 1),
        nwk_s_enc_key: quarter(&keys, 2),
        app_s_key: quarter(&keys, 3),
    }
}
