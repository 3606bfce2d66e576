//! Names for identities, and decoders for models: what messages need at hand for every frame.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};

use api::device_change::DeviceEdit;
use api::model::Model;
use chrono::{DateTime, Utc};
use lorawan::Eui64;
use lorawan::region::Region;
use payload::{Limits, Script};
use store::{DeviceContext, EstateId, Store, StoreError};

use crate::decode::Pace;

/// A model's decoder, ready to run, and its units.
pub struct Decoder {
    /// The script, or why it cannot be loaded.
    pub script: Result<Script, String>,
    pub units: BTreeMap<String, String>,
    pub pace: Pace,
}

#[derive(Default)]
struct Inner {
    devices: HashMap<Eui64, DeviceContext>,
    decoders: HashMap<(EstateId, String), Arc<Decoder>>,
    estates: HashMap<EstateId, String>,
}

/// The directory; it follows what is registered.
#[derive(Default)]
pub struct Directory(RwLock<Inner>);

impl Directory {
    pub async fn load(store: &Store) -> Result<Self, StoreError> {
        let directory = Self::default();
        for estate in store.estates().await? {
            directory.write().estates.insert(estate.0, estate.1.clone());
            let mut after = String::new();
            loop {
                let page = store.models(estate.0, &after, 200).await?;
                let Some(last) = page.last() else { break };
                after.clone_from(&last.slug);
                for model in &page {
                    directory.put_model(estate.0, model, model.decoder.as_deref().map(load_script));
                }
            }
        }
        for device in store.device_contexts().await?.into_iter().chain(store.group_contexts().await?) {
            directory.put_device(device);
        }
        Ok(directory)
    }

    fn read(&self) -> RwLockReadGuard<'_, Inner> {
        self.0.read().unwrap_or_else(PoisonError::into_inner)
    }

    fn write(&self) -> RwLockWriteGuard<'_, Inner> {
        self.0.write().unwrap_or_else(PoisonError::into_inner)
    }

    pub fn put_device(&self, device: DeviceContext) {
        self.write().devices.insert(device.dev_eui, device);
    }

    /// Takes what was changed about a device.
    pub fn edit_device(&self, dev_eui: Eui64, edit: &DeviceEdit) {
        let mut inner = self.write();
        let Some(device) = inner.devices.get_mut(&dev_eui) else { return };
        device.name = edit.name.clone().unwrap_or_else(|| device.name.clone());
        device.fleet = edit.fleet.clone().unwrap_or_else(|| device.fleet.clone());
        device.model = edit.model.clone().unwrap_or_else(|| device.model.clone());
        device.region = edit.region.unwrap_or(device.region);
    }

    /// Takes where a device is used now.
    pub fn set_region(&self, dev_eui: Eui64, region: Region) {
        if let Some(device) = self.write().devices.get_mut(&dev_eui) {
            device.region = region;
        }
    }

    pub fn remove_device(&self, dev_eui: Eui64) {
        self.write().devices.remove(&dev_eui);
    }

    pub fn device(&self, dev_eui: Eui64) -> Option<DeviceContext> {
        self.read().devices.get(&dev_eui).cloned()
    }

    /// Notes a sign of life and gives the device's rhythm: its usual interval in seconds, following
    /// changes within a few uplinks.
    pub fn heard(&self, dev_eui: Eui64, at: DateTime<Utc>) -> Option<f64> {
        let mut inner = self.write();
        let device = inner.devices.get_mut(&dev_eui)?;
        if let Some(last) = device.last_heard {
            let interval_s = (at - last).num_milliseconds() as f64 / 1000.0;
            if interval_s > 0.0 {
                device.rhythm_s = Some(device.rhythm_s.map_or(interval_s, |usual| usual + (interval_s - usual) / 4.0));
            }
        }
        device.last_heard = Some(at);
        device.rhythm_s
    }

    /// A join says that the device lives, not how often it sends.
    pub fn joined(&self, dev_eui: Eui64) -> Option<f64> {
        let mut inner = self.write();
        let device = inner.devices.get_mut(&dev_eui)?;
        device.last_heard = None;
        device.rhythm_s
    }

    /// Takes a model with its script, which the caller has loaded: that runs it once.
    pub fn put_model(&self, estate: EstateId, model: &Model, script: Option<Result<Script, String>>) {
        let key = (estate, model.slug.clone());
        let mut inner = self.write();
        match script {
            Some(script) => inner
                .decoders
                .insert(key, Arc::new(Decoder { script, units: model.units.clone(), pace: Pace::default() })),
            None => inner.decoders.remove(&key),
        };
    }

    pub fn decoder(&self, estate: EstateId, model: &str) -> Option<Arc<Decoder>> {
        self.read().decoders.get(&(estate, model.to_owned())).cloned()
    }

    pub fn estates(&self) -> Vec<EstateId> {
        self.read().estates.keys().copied().collect()
    }

    pub fn estate_slug(&self, estate: EstateId) -> String {
        self.read().estates.get(&estate).cloned().unwrap_or_default()
    }
}

fn load_script(source: &str) -> Result<Script, String> {
    Script::new(source, Limits::default()).map_err(|why| why.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::TimeDelta;

    fn device() -> DeviceContext {
        DeviceContext {
            dev_eui: Eui64(1),
            estate_id: 1,
            fleet: "tide".into(),
            name: "tide-01".into(),
            model: None,
            region: Region::Eu868,
            last_heard: None,
            rhythm_s: None,
        }
    }

    #[test]
    fn a_rhythm_shows_after_two_uplinks_and_follows_changes() {
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
        let model = |decoder: Option<&str>| Model {
            slug: "probe".into(),
            maker: "M".into(),
            name: "N".into(),
            decoder: decoder.map(Into::into),
            units: BTreeMap::new(),
            radio: Default::default(),
            changed_at: Utc::now(),
        };
        let put = |decoder: Option<&str>| directory.put_model(1, &model(decoder), decoder.map(load_script));
        put(Some("function decodeUplink() { return {data: {}} }"));
        assert!(directory.decoder(1, "probe").unwrap().script.is_ok());
        assert!(directory.decoder(2, "probe").is_none(), "another estate's models are its own");
        put(Some("nonsense("));
        assert!(directory.decoder(1, "probe").unwrap().script.is_err());
        put(None);
        assert!(directory.decoder(1, "probe").is_none());
    }
}
