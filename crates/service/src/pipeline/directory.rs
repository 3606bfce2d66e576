//! Names and decoders that messages need, in memory.

use std::collections::HashMap;
use std::sync::{Arc, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};

use api::message::DeviceRef;
use api::reading::ReadingRule;
use chrono::{DateTime, Utc};
use domain::device::change::DevicePatch;
use lorawan::Eui64;
use lorawan::region::Region;
use store::{DeviceContext, EstateId, Store, StoreError};

use crate::decoding::catalogue;
use crate::decoding::outstanding::Outstanding;
use crate::decoding::ready::{Decoder, Decoders};
use crate::decoding::totals::Totals;

#[derive(Default)]
struct Inner {
    devices: HashMap<Eui64, DeviceContext>,
    decoders: HashMap<(EstateId, String), Decoders>,
    estates: HashMap<EstateId, String>,
}

/// The directory; it follows all registrations.
#[derive(Default)]
pub struct Directory {
    inner: RwLock<Inner>,
    /// The running totals.
    pub totals: Totals,
    /// Devices with uplinks that are still to be decoded.
    pub(crate) outstanding: Arc<Outstanding>,
}

impl Directory {
    pub async fn load(store: &Store) -> Result<Self, StoreError> {
        let directory = Self { totals: Totals::load(store).await?, ..Self::default() };
        for estate in store.estates().await? {
            directory.write().estates.insert(estate.0, estate.1.clone());
            let mut after = String::new();
            loop {
                let page = store.models(estate.0, &after, 200).await?;
                let Some(last) = page.last() else { break };
                after.clone_from(&last.model.slug);
                for row in &page {
                    let decoders = catalogue::loaded(&row.model.about, row.model.flaw.as_deref());
                    directory.put_model(estate.0, &row.model.slug, decoders);
                }
            }
        }
        for device in store.device_contexts().await?.into_iter().chain(store.group_contexts().await?) {
            directory.put_device(device);
        }
        Ok(directory)
    }

    fn read(&self) -> RwLockReadGuard<'_, Inner> {
        self.inner.read().unwrap_or_else(PoisonError::into_inner)
    }

    fn write(&self) -> RwLockWriteGuard<'_, Inner> {
        self.inner.write().unwrap_or_else(PoisonError::into_inner)
    }

    pub fn put_device(&self, device: DeviceContext) {
        self.write().devices.insert(device.dev_eui, device);
    }

    /// Takes a device's changed registration.
    pub fn edit_device(&self, dev_eui: Eui64, edit: &DevicePatch) {
        let mut inner = self.write();
        let Some(device) = inner.devices.get_mut(&dev_eui) else { return };
        device.name = edit.name.clone().unwrap_or_else(|| device.name.clone());
        device.fleet = edit.fleet.clone().unwrap_or_else(|| device.fleet.clone());
        device.hardware = edit.hardware.clone().unwrap_or_else(|| device.hardware.clone());
        device.firmware = edit.firmware.clone().unwrap_or_else(|| device.firmware.clone());
        device.model = edit.model.clone().unwrap_or_else(|| device.model.clone());
        device.region = edit.region.unwrap_or(device.region);
    }

    /// Takes a fleet's other short name.
    pub fn rename_fleet(&self, estate: EstateId, before: &str, after: &str) {
        let mut inner = self.write();
        let devices = inner.devices.values_mut().filter(|device| device.estate_id == estate && device.fleet == before);
        devices.for_each(|device| after.clone_into(&mut device.fleet));
    }

    /// Takes a group's other name.
    pub fn rename(&self, eui: Eui64, name: &str) {
        if let Some(device) = self.write().devices.get_mut(&eui) {
            name.clone_into(&mut device.name);
        }
    }

    /// Takes a device's place of use.
    pub fn set_region(&self, dev_eui: Eui64, region: Region) {
        if let Some(device) = self.write().devices.get_mut(&dev_eui) {
            device.region = region;
        }
    }

    pub fn remove_device(&self, dev_eui: Eui64) {
        self.write().devices.remove(&dev_eui);
        self.totals.forget(dev_eui);
    }

    pub fn device(&self, dev_eui: Eui64) -> Option<DeviceContext> {
        self.read().devices.get(&dev_eui).cloned()
    }

    /// The short name of a device's fleet.
    pub(crate) fn fleet_of(&self, dev_eui: Eui64) -> Option<String> {
        Some(self.read().devices.get(&dev_eui)?.fleet.clone())
    }

    /// A device and its decoder.
    pub fn device_with_decoder(&self, dev_eui: Eui64) -> Option<(DeviceContext, Option<Arc<Decoder>>)> {
        let inner = self.read();
        let device = inner.devices.get(&dev_eui)?;
        let decoders = device.model.as_ref().and_then(|model| inner.decoders.get(&(device.estate_id, model.clone())));
        let decoder = decoders.and_then(|all| all.of(device.hardware.as_deref(), device.firmware.as_deref()));
        Some((device.clone(), decoder))
    }

    /// Notes an uplink and returns the device's usual interval in seconds, which follows changes within a few uplinks.
    pub fn heard(&self, dev_eui: Eui64, at: DateTime<Utc>) -> Option<f64> {
        let mut inner = self.write();
        let device = inner.devices.get_mut(&dev_eui)?;
        if let Some(last) = device.last_heard {
            let interval_s = (at - last).num_milliseconds() as f64 / 1000.0;
            if interval_s > 0.0 {
                device.usual_interval_s =
                    Some(device.usual_interval_s.map_or(interval_s, |usual| usual + (interval_s - usual) / 4.0));
            }
        }
        device.last_heard = Some(at);
        device.usual_interval_s
    }

    /// Notes a join: the device works, but it tells nothing about its interval.
    pub fn joined(&self, dev_eui: Eui64) -> Option<f64> {
        let mut inner = self.write();
        let device = inner.devices.get_mut(&dev_eui)?;
        device.last_heard = None;
        device.usual_interval_s
    }

    /// Takes a model with its loaded scripts.
    pub fn put_model(&self, estate: EstateId, slug: &str, decoders: Decoders) {
        let key = (estate, slug.to_owned());
        let mut inner = self.write();
        match decoders.is_empty() {
            false => drop(inner.decoders.insert(key, decoders)),
            true => drop(inner.decoders.remove(&key)),
        }
    }

    pub fn remove_model(&self, estate: EstateId, slug: &str) {
        self.write().decoders.remove(&(estate, slug.to_owned()));
    }

    /// A device's decoder, by its model and its versions.
    pub fn decoder(&self, estate: EstateId, model: &str, dev_eui: Eui64) -> Option<Arc<Decoder>> {
        let inner = self.read();
        let device = inner.devices.get(&dev_eui);
        let hardware = device.and_then(|device| device.hardware.as_deref());
        let firmware = device.and_then(|device| device.firmware.as_deref());
        inner.decoders.get(&(estate, model.to_owned()))?.of(hardware, firmware)
    }

    /// A model's decoder by the text of its versions; without a text, the one for all other versions.
    pub fn decoder_for(&self, estate: EstateId, model: &str, version: &str) -> Option<Arc<Decoder>> {
        let inner = self.read();
        let decoders = inner.decoders.get(&(estate, model.to_owned()))?;
        let mut all = decoders.versions.iter().map(|(_, decoder)| decoder).chain(&decoders.others);
        all.find(|decoder| decoder.version == version).cloned()
    }

    /// The devices of a model with this decoder, those heard last first; all devices without one.
    pub fn devices_of(&self, estate: EstateId, model: &str, version: Option<&str>) -> Vec<Eui64> {
        let inner = self.read();
        let decoders = inner.decoders.get(&(estate, model.to_owned()));
        let is_of = |device: &DeviceContext| {
            let of = decoders.and_then(|all| all.of(device.hardware.as_deref(), device.firmware.as_deref()));
            of.as_ref().map_or("", |decoder| decoder.version.as_str()).to_owned()
        };
        let mut found: Vec<(Option<DateTime<Utc>>, Eui64)> = inner
            .devices
            .values()
            .filter(|device| device.estate_id == estate && device.model.as_deref() == Some(model))
            .filter(|device| version.is_none_or(|version| is_of(device) == version))
            .map(|device| (device.last_heard, device.dev_eui))
            .collect();
        found.sort_by(|a, b| b.cmp(a));
        found.into_iter().map(|(_, dev_eui)| dev_eui).collect()
    }

    /// The model's rule for a device's reading.
    pub fn rule(&self, estate: EstateId, device: &DeviceRef, reading: &str) -> Option<ReadingRule> {
        self.decoder(estate, device.model.as_deref()?, device.eui)?.rules.get(reading).cloned()
    }

    /// How many devices and groups an estate has.
    pub fn count(&self, estate: EstateId) -> usize {
        self.read().devices.values().filter(|device| device.estate_id == estate).count()
    }

    pub fn estates(&self) -> Vec<EstateId> {
        self.read().estates.keys().copied().collect()
    }

    pub fn put_estate(&self, estate: EstateId, slug: &str) {
        self.write().estates.insert(estate, slug.to_owned());
    }

    pub fn remove_estate(&self, estate: EstateId) {
        self.write().estates.remove(&estate);
    }

    pub fn estate_named(&self, slug: &str) -> Option<EstateId> {
        self.read().estates.iter().find(|(_, known)| *known == slug).map(|(id, _)| *id)
    }

    pub fn estate_slug(&self, estate: EstateId) -> String {
        self.read().estates.get(&estate).cloned().unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use api::model::{DecoderKind, ModelVersion, PutModel};
    use chrono::TimeDelta;

    use super::*;

    fn device() -> DeviceContext {
        DeviceContext {
            dev_eui: Eui64(1),
            estate_id: 1,
            fleet: "tide".into(),
            name: "tide-01".into(),
            model: None,
            hardware: None,
            firmware: None,
            region: Region::Eu868,
            last_heard: None,
            usual_interval_s: None,
        }
    }

    #[test]
    fn a_usual_interval_shows_after_two_uplinks_and_follows_changes() {
        let directory = Directory::default();
        directory.put_device(device());
        let start = Utc::now();
        let heard = |s| directory.heard(Eui64(1), start + TimeDelta::seconds(s));
        assert_eq!(heard(0), None);
        assert_eq!(heard(60), Some(60.0));
        assert_eq!(heard(160), Some(70.0), "a quarter of the way to the new interval");
        assert_eq!(heard(160), Some(70.0), "a second frame at the same moment says nothing");
        assert_eq!(directory.joined(Eui64(1)), Some(70.0));
        assert_eq!(heard(1000), Some(70.0), "the time of a join is no interval");
        assert_eq!(directory.heard(Eui64(2), start), None);
    }

    #[test]
    fn a_model_that_loses_its_decoder_decodes_no_more() {
        let directory = Directory::default();
        directory.put_device(device());
        let about = |decoder: Option<&str>| PutModel { decoder: decoder.map(Into::into), ..PutModel::default() };
        let put = |decoder: Option<&str>| {
            let about = about(decoder);
            let (decoders, _) = catalogue::load(&about);
            directory.put_model(1, "probe", decoders);
        };
        put(Some("function decodeUplink() { return {data: {}} }"));
        assert!(directory.decoder(1, "probe", Eui64(1)).unwrap().ready.is_ok());
        assert!(directory.decoder(2, "probe", Eui64(1)).is_none(), "another estate's models are its own");
        put(Some("nonsense("));
        assert!(directory.decoder(1, "probe", Eui64(1)).unwrap().ready.is_err());
        put(None);
        assert!(directory.decoder(1, "probe", Eui64(1)).is_none());
    }

    #[test]
    fn a_devices_firmware_decides_which_script_reads_it() {
        let directory = Directory::default();
        let old = ModelVersion {
            hardware: vec![],
            firmware: vec!["1.0".into()],
            decoder: "function decodeUplink() { return {data: {old: 1}} }".into(),
            decoder_kind: DecoderKind::Script,
            tests: vec![],
            commands: vec![],
        };
        let decoder = Some("function decodeUplink() { return {data: {new: 1}} }".into());
        let about = PutModel { decoder, versions: vec![old], ..PutModel::default() };
        directory.put_model(1, "probe", catalogue::load(&about).0);
        let source = |firmware: Option<&str>| {
            directory.put_device(DeviceContext { firmware: firmware.map(Into::into), ..device() });
            let decoder = directory.decoder(1, "probe", Eui64(1)).unwrap();
            decoder.version.clone()
        };
        assert_eq!(source(Some("1.0")), "firmware 1.0");
        assert_eq!((source(Some("2.0")), source(None)), (String::new(), String::new()));
    }
}
