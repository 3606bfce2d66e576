//! Running totals: what each had reached, so that it goes on when its device restarts its count.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

use chrono::{DateTime, Utc};
use domain::reading::rule::Counted;
use lorawan::Eui64;
use store::{Store, StoreError};

/// The last of each total, and of when it is.
type Known = HashMap<Eui64, HashMap<String, (DateTime<Utc>, Counted)>>;

/// The running totals of all devices.
#[derive(Default)]
pub struct Totals(Mutex<Known>);

impl Totals {
    pub async fn load(store: &Store) -> Result<Self, StoreError> {
        let mut known = Known::new();
        for (dev_eui, name, at, counter, carried) in store.totals().await? {
            known.entry(dev_eui).or_default().insert(name, (at, Counted { counter, carried }));
        }
        Ok(Self(Mutex::new(known)))
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Known> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The total that a value of this time is added to. A value older than the last one is taken as it is.
    pub fn before(&self, dev_eui: Eui64, name: &str, at: DateTime<Utc>) -> Option<Counted> {
        let known = self.lock();
        let (last, counted) = known.get(&dev_eui)?.get(name)?;
        match at >= *last {
            true => Some(*counted),
            false => Some(Counted { counter: f64::MIN, ..*counted }),
        }
    }

    pub fn put(&self, dev_eui: Eui64, name: &str, at: DateTime<Utc>, counted: Counted) {
        let mut known = self.lock();
        let of_device = known.entry(dev_eui).or_default();
        if of_device.get(name).is_none_or(|(last, _)| at >= *last) {
            of_device.insert(name.to_owned(), (at, counted));
        }
    }

    /// A copy of one device's totals, for a trial.
    pub fn copy_of(&self, dev_eui: Eui64) -> Self {
        let of_device = self.lock().get(&dev_eui).cloned();
        Self(Mutex::new(of_device.map(|known| (dev_eui, known)).into_iter().collect()))
    }

    /// Loads the totals from the records, after those were changed.
    pub async fn reload(&self, store: &Store, devices: &[Eui64]) -> Result<(), StoreError> {
        let loaded = Self::load(store).await?.0.into_inner().unwrap_or_else(PoisonError::into_inner);
        let mut known = self.lock();
        for device in devices {
            match loaded.get(device) {
                Some(of_device) => known.insert(*device, of_device.clone()),
                None => known.remove(device),
            };
        }
        Ok(())
    }

    pub fn forget(&self, dev_eui: Eui64) {
        self.lock().remove(&dev_eui);
    }
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;

    use super::*;

    #[test]
    fn an_older_value_does_not_look_like_a_restart() {
        let totals = Totals::default();
        let (dev_eui, now) = (Eui64(1), Utc::now());
        assert_eq!(totals.before(dev_eui, "n", now), None);
        totals.put(dev_eui, "n", now, Counted { counter: 7.0, carried: 100.0 });
        let earlier = now - TimeDelta::seconds(1);
        assert!(totals.before(dev_eui, "n", earlier).unwrap().counter < 0.0);
        totals.put(dev_eui, "n", earlier, Counted { counter: 6.0, carried: 100.0 });
        assert_eq!(totals.before(dev_eui, "n", now).unwrap().counter, 7.0);
        totals.forget(dev_eui);
        assert_eq!(totals.before(dev_eui, "n", now), None);
    }
}
