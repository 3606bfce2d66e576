//! An open survey: the observations of an estate in memory, and hexagons that grow with them.

use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, PoisonError, RwLock, RwLockReadGuard};

use coverage::geo::Place;
use coverage::survey::hexagons::{Hexagons, Quantity};
use coverage::survey::observation::{Heard, Observation};
use coverage::survey::record::{Filter, Record};
use domain::coverage::survey::{full_power_dbm, reserve_db};
use lorawan::region::Region;
use store::{EstateId, ObservationRow, Store, StoreError, SurveyedDevice};
use ulid::Ulid;

/// Observations of one estate in memory, at most: the latest.
const MOST: u32 = 1_000_000;
/// Sets of hexagons that are kept.
const KEPT: usize = 12;

type Key = (u8, Quantity, Filter);

/// An estate's survey in memory.
pub(crate) struct OpenSurvey {
    pub devices: Vec<SurveyedDevice>,
    by_eui: HashMap<u64, usize>,
    /// The name and the region of each import.
    pub imports: HashMap<u32, (String, Region)>,
    /// Older observations are not in memory.
    pub cut: bool,
    /// The last one that was read when it was opened.
    read_until: Ulid,
    record: RwLock<Record>,
    hexagons: Mutex<VecDeque<(Key, Arc<RwLock<Hexagons>>)>>,
}

impl OpenSurvey {
    /// Reads it.
    pub(crate) async fn read(
        store: &Store,
        estate: EstateId,
        devices: Vec<SurveyedDevice>,
    ) -> Result<Self, StoreError> {
        let by_eui = devices.iter().enumerate().map(|(n, device)| (device.dev_eui.0, n)).collect();
        let imports = store.survey_imports(estate).await?;
        let imports = imports.into_iter().map(|(id, about)| (id, (about.name, about.region))).collect();
        let mut opened = Self {
            devices,
            by_eui,
            imports,
            cut: false,
            read_until: Ulid::nil(),
            record: RwLock::default(),
            hexagons: Mutex::default(),
        };
        let mut record = Record::default();
        let mut read_until = Ulid::nil();
        opened.cut = store
            .observations(estate, MOST, |row| {
                read_until = row.id;
                if let Some(observed) = opened.observation(&row) {
                    // What cannot be is counted in the record.
                    let _ = record.add(&observed);
                }
            })
            .await?;
        (opened.record, opened.read_until) = (RwLock::new(record), read_until);
        Ok(opened)
    }

    /// A row with what is known of its device; `None` if that is not there any more.
    fn observation(&self, row: &ObservationRow) -> Option<Observation> {
        let device = self.device(row.dev_eui.0);
        let region = match row.import_id {
            Some(import) => self.imports.get(&import)?.1,
            None => device?.region,
        };
        let told = row.told_place;
        let place = told.or(device.and_then(|device| device.place));
        let (needed_snr_db, full_dbm) = (f64::from(row.needed_snr_db), full_power_dbm(region));
        let power_dbm = row.power_dbm.map_or(full_dbm, f64::from);
        let heard =
            row.heard.iter().map(|one| Heard { gateway: one.gateway.0, rssi_dbm: one.rssi_dbm, snr_db: one.snr_db });
        Some(Observation {
            at_s: i64::try_from(row.id.timestamp_ms() / 1000).ok()?,
            device: row.dev_eui.0,
            place: place.map(|(latitude_deg, longitude_deg)| Place { latitude_deg, longitude_deg }),
            moves: told.is_some(),
            data_rate: row.data_rate,
            needed_snr_db,
            power_dbm,
            reserve_db: reserve_db(region, needed_snr_db, power_dbm),
            uplinks: row.uplinks,
            lost: row.lost,
            heard: heard.collect(),
        })
    }

    /// A device of the estate.
    pub(crate) fn device(&self, eui: u64) -> Option<&SurveyedDevice> {
        self.devices.get(*self.by_eui.get(&eui)?)
    }

    /// Takes in what was observed since.
    pub(crate) fn extend<'a>(&self, rows: impl Iterator<Item = &'a ObservationRow>) {
        let mut record = self.record.write().unwrap_or_else(PoisonError::into_inner);
        rows.filter(|row| row.id > self.read_until).filter_map(|row| self.observation(row)).for_each(|observed| {
            // What cannot be is counted in the record.
            let _ = record.add(&observed);
        });
    }

    /// Its observations. Not to be held while anything is waited for.
    pub(crate) fn record(&self) -> RwLockReadGuard<'_, Record> {
        self.record.read().unwrap_or_else(PoisonError::into_inner)
    }

    /// Hexagons with all that is known until now. Blocks. `None` if there is no such resolution.
    pub(crate) fn hexagons(
        &self,
        resolution: u8,
        quantity: Quantity,
        filter: &Filter,
    ) -> Option<Arc<RwLock<Hexagons>>> {
        let key = (resolution, quantity, filter.clone());
        let kept = {
            let mut all = self.hexagons.lock().unwrap_or_else(PoisonError::into_inner);
            let known = all.iter().position(|(other, _)| *other == key).and_then(|at| all.remove(at));
            let one = match known {
                Some((_, one)) => one,
                None => Arc::new(RwLock::new(Hexagons::new(resolution, quantity, filter.clone())?)),
            };
            all.push_front((key, Arc::clone(&one)));
            all.truncate(KEPT);
            one
        };
        // In the same order as everywhere: the record, then what is made of it.
        let record = self.record();
        kept.write().unwrap_or_else(PoisonError::into_inner).catch_up(&record);
        drop(record);
        Some(kept)
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;

    pub(crate) const NOON_MS: u64 = 1_777_896_000_000;
    pub(crate) const DEVICE: u64 = 0x02b0_0900_0000_0001;

    /// A survey of one registered device at 54.7, 3.9, without observations.
    pub(crate) fn empty() -> OpenSurvey {
        let device = SurveyedDevice {
            dev_eui: lorawan::Eui64(DEVICE),
            name: "tide-05".into(),
            fleet: "tide".into(),
            region: Region::Eu868,
            place: Some((54.7, 3.9)),
        };
        OpenSurvey {
            devices: vec![device],
            by_eui: HashMap::from([(DEVICE, 0)]),
            imports: HashMap::new(),
            cut: false,
            read_until: Ulid::from_parts(NOON_MS, 0),
            record: RwLock::default(),
            hexagons: Mutex::default(),
        }
    }

    /// An uplink so many minutes after noon that these gateways heard.
    pub(crate) fn row(minute: u64, heard: &[(u64, f32)]) -> ObservationRow {
        let one = |(gateway, rssi_dbm): &(u64, f32)| store::HeardRow {
            gateway: lorawan::Eui64(*gateway),
            rssi_dbm: *rssi_dbm,
            snr_db: 9.0,
        };
        ObservationRow {
            estate_id: 1,
            id: Ulid::from_parts(NOON_MS + minute * 60_000, 7),
            dev_eui: lorawan::Eui64(DEVICE),
            import_id: None,
            told_place: None,
            data_rate: 5,
            needed_snr_db: -7.5,
            power_dbm: Some(10.0),
            uplinks: 1,
            lost: 0,
            heard: heard.iter().map(one).collect(),
        }
    }

    #[test]
    fn it_grows_by_what_is_new_and_knows_its_devices() {
        let survey = empty();
        let stranger = ObservationRow { dev_eui: lorawan::Eui64(77), ..row(3, &[(1, -90.0)]) };
        let before = ObservationRow { id: Ulid::from_parts(NOON_MS - 1, 0), ..row(0, &[(1, -90.0)]) };
        survey.extend([row(1, &[(1, -90.0)]), row(2, &[(1, -92.0)]), stranger, before].iter());
        assert_eq!(survey.record().len(), 2, "a device that is not registered and what was read before are left out");
        let hexagons = survey.hexagons(9, Quantity::Rssi, &Filter::default()).unwrap();
        let here = Place { latitude_deg: 54.7, longitude_deg: 3.9 };
        let uplinks = || hexagons.read().unwrap().at(here).map(|hexagon| hexagon.uplinks);
        assert_eq!(uplinks(), Some(2), "it stands where it is registered");
        survey.extend([row(4, &[(1, -94.0)])].iter());
        assert!(survey.hexagons(9, Quantity::Rssi, &Filter::default()).is_some());
        assert_eq!(uplinks(), Some(3), "the same hexagons have grown");
        assert!(survey.hexagons(16, Quantity::Rssi, &Filter::default()).is_none());
    }
}
