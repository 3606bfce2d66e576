//! Devices that send join-requests without being registered.
//!
//! Anybody on the band can make DevEUIs up, so only a limited number is kept, in memory only.

use std::collections::HashMap;
use std::sync::{Mutex, MutexGuard, PoisonError};

use api::device::join::{DeviceStranger, Resemblance};
use api::heard::{HeardBy, Radio};
use chrono::{DateTime, Utc};
use domain::device::read_back::near_misses;
use lorawan::Eui64;
use lorawan::region::Region;
use store::EstateId;

use crate::pipeline::directory::Directory;

/// Remembered in one estate; the one unheard for longest is dropped.
const MOST: usize = 500;

/// A join-request of an unknown device.
pub struct Request {
    pub estate_id: EstateId,
    pub dev_eui: Eui64,
    pub join_eui: Eui64,
    pub region: Region,
    pub at: DateTime<Utc>,
    pub radio: Radio,
    pub heard_by: Vec<HeardBy>,
}

/// The devices that ask to join.
#[derive(Default)]
pub struct Strangers(Mutex<HashMap<(EstateId, Eui64), DeviceStranger>>);

impl Strangers {
    fn lock(&self) -> MutexGuard<'_, HashMap<(EstateId, Eui64), DeviceStranger>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Notes a request.
    pub fn note(&self, request: Request) {
        let Request { estate_id, dev_eui, join_eui, region, at, radio, heard_by } = request;
        let mut all = self.lock();
        let key = (estate_id, dev_eui);
        let before = all.remove(&key);
        let of_estate = || all.iter().filter(|((estate, _), _)| *estate == estate_id);
        if before.is_none() && of_estate().count() >= MOST {
            let oldest = of_estate().min_by_key(|(_, stranger)| stranger.last_heard).map(|(key, _)| *key);
            oldest.and_then(|key| all.remove(&key));
        }
        let (first_heard, requests) = before.map_or((at, 0), |known| (known.first_heard, known.requests));
        let requests = requests + 1;
        let last_heard = at;
        let stranger = DeviceStranger {
            dev_eui,
            join_eui,
            region,
            first_heard,
            last_heard,
            requests,
            radio,
            heard_by,
            resembles: None,
        };
        all.insert(key, stranger);
    }

    /// Those of an estate, the one heard last first, without those registered since.
    pub fn of(&self, estate_id: EstateId, directory: &Directory) -> Vec<DeviceStranger> {
        let known = |eui: Eui64| directory.device(eui).filter(|device| device.estate_id == estate_id);
        let all = self.lock();
        let unknown = |(estate, eui): &(EstateId, Eui64)| *estate == estate_id && known(*eui).is_none();
        let mut found: Vec<DeviceStranger> =
            all.iter().filter(|(key, _)| unknown(key)).map(|(_, stranger)| stranger.clone()).collect();
        drop(all);
        for stranger in &mut found {
            let like = near_misses(stranger.dev_eui).find_map(known);
            stranger.resembles = like.map(|device| Resemblance { dev_eui: device.dev_eui, name: device.name });
        }
        found.sort_by_key(|stranger| std::cmp::Reverse(stranger.last_heard));
        found
    }

    /// The requests of a device that has been registered since.
    pub fn before_registration(&self, estate_id: EstateId, dev_eui: Eui64) -> Option<DeviceStranger> {
        self.lock().get(&(estate_id, dev_eui)).cloned()
    }
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;
    use store::DeviceContext;

    use super::*;

    fn request(estate_id: EstateId, eui: u64, after_s: i64) -> Request {
        let at = DateTime::UNIX_EPOCH + TimeDelta::seconds(after_s);
        let radio = Radio {
            region: "EU868".into(),
            data_rate: Some(0),
            spreading_factor: Some(12),
            bandwidth_khz: Some(125),
            frequency_mhz: 868.1,
            airtime_ms: 1482.8,
            power_dbm: None,
        };
        let (dev_eui, join_eui) = (Eui64(eui), Eui64(7));
        Request { estate_id, dev_eui, join_eui, region: Region::Eu868, at, radio, heard_by: vec![] }
    }

    fn registered(estate_id: EstateId, eui: u64) -> DeviceContext {
        DeviceContext {
            dev_eui: Eui64(eui),
            estate_id,
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
    fn a_stranger_is_counted_and_gone_once_registered() {
        let (strangers, directory) = (Strangers::default(), Directory::default());
        strangers.note(request(1, 0xa1, 0));
        strangers.note(request(1, 0xa1, 9));
        strangers.note(request(1, 0xb2, 5));
        strangers.note(request(2, 0xc3, 6));
        let euis = |all: &[DeviceStranger]| all.iter().map(|s| s.dev_eui.0).collect::<Vec<_>>();
        let all = strangers.of(1, &directory);
        assert_eq!((euis(&all), all[0].requests, all[0].first_heard.timestamp()), (vec![0xa1, 0xb2], 2, 0));
        directory.put_device(registered(2, 0xa1));
        assert_eq!(euis(&strangers.of(1, &directory)), [0xa1, 0xb2], "another estate's registration says nothing here");
        directory.put_device(registered(1, 0xa1));
        assert_eq!(euis(&strangers.of(1, &directory)), [0xb2]);
        assert_eq!(euis(&strangers.of(2, &directory)), [0xc3]);
    }

    #[test]
    fn a_slip_of_the_pen_is_recognized() {
        let (strangers, directory) = (Strangers::default(), Directory::default());
        directory.put_device(registered(1, 0x02bb_0000_0000_002a));
        strangers.note(request(1, 0x02bb_0010_0000_002a, 0));
        let found = strangers.of(1, &directory);
        assert_eq!(found[0].resembles.as_ref().map(|like| like.name.as_str()), Some("tide-01"));
    }

    #[test]
    fn a_flood_leaves_the_latest() {
        let (strangers, directory) = (Strangers::default(), Directory::default());
        strangers.note(request(2, 1, 0));
        for n in 0..MOST as u64 + 100 {
            strangers.note(request(1, n, n as i64));
        }
        let all = strangers.of(1, &directory);
        assert_eq!((all.len(), all[MOST - 1].dev_eui), (MOST, Eui64(100)));
        assert_eq!(strangers.of(2, &directory).len(), 1, "one estate's flood leaves another's alone");
    }
}
