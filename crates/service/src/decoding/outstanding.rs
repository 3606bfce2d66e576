//! Devices with uplinks that are stored and not decoded yet. Later messages of such a device are published after those, so that
//! the messages of a device are published in order.

use std::collections::HashMap;
use std::sync::{Mutex, MutexGuard, PoisonError};

use lorawan::Eui64;

/// How many messages of each device are still to be published.
#[derive(Debug, Default)]
pub(crate) struct Outstanding(Mutex<HashMap<Eui64, u32>>);

impl Outstanding {
    fn locked(&self) -> MutexGuard<'_, HashMap<Eui64, u32>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether a device has any.
    pub(crate) fn has(&self, dev_eui: Eui64) -> bool {
        self.locked().contains_key(&dev_eui)
    }

    /// One more of a device.
    pub(crate) fn add(&self, dev_eui: Eui64) {
        *self.locked().entry(dev_eui).or_default() += 1;
    }

    /// One less.
    pub(crate) fn done(&self, dev_eui: Eui64) {
        let mut all = self.locked();
        if let Some(count) = all.get_mut(&dev_eui) {
            *count -= 1;
            if *count == 0 {
                all.remove(&dev_eui);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_device_has_some_until_the_last_is_done() {
        let (all, device) = (Outstanding::default(), Eui64(7));
        all.add(device);
        all.add(device);
        all.done(device);
        assert!(all.has(device) && !all.has(Eui64(8)));
        all.done(device);
        all.done(device);
        assert!(!all.has(device));
    }
}
