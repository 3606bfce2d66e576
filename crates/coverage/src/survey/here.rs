//! What was measured around a place: its hexagon by every quantity, and each gateway that was listening.

use std::collections::{BTreeMap, BTreeSet};

use super::hexagons::{CellFinder, Hexagon, Quantity, Tally, index_at};
use super::record::{Filter, Record};
use crate::geo::Place;

/// The hexagon of a place.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Here {
    /// By each quantity that has a value.
    pub values: Vec<(Quantity, Hexagon)>,
    /// By gateway, the best first.
    pub gateways: Vec<HeardHere>,
    /// The devices that were there.
    pub devices: BTreeSet<u64>,
}

/// A gateway and what it heard from a hexagon.
#[derive(Debug, Clone, PartialEq)]
pub struct HeardHere {
    /// Its EUI.
    pub gateway: u64,
    /// The median signal strength, in dBm.
    pub rssi_dbm: Option<f64>,
    /// The median SNR, in dB.
    pub snr_db: Option<f64>,
    /// Uplinks that it heard.
    pub heard: u32,
    /// Uplinks that it did not hear although it was listening.
    pub unheard: u32,
}

/// The hexagon of a place; with nothing in it if nothing was measured there, or there is no such resolution of H3.
pub fn here(record: &Record, filter: &Filter, (place, resolution): (Place, u8)) -> Here {
    let (Some(index), Some(mut finder)) = (index_at(place, resolution), CellFinder::new(resolution)) else {
        return Here::default();
    };
    let numbers = record.numbers();
    let gateways: Vec<u64> = filter.gateway.map_or_else(|| record.gateways().to_vec(), |gateway| vec![gateway]);
    let mut by_quantity: Vec<(Quantity, Tally)> = Quantity::ALL.map(|quantity| (quantity, Tally::default())).into();
    let mut by_gateway: BTreeMap<u64, [Tally; 2]> = gateways.into_iter().map(|eui| (eui, Default::default())).collect();
    let mut devices = BTreeSet::new();
    for seen in record.seen(filter, 0).filter(|seen| finder.index(*seen) == Some(index)) {
        devices.insert(seen.device());
        for (quantity, tally) in &mut by_quantity {
            tally.add(seen, *quantity, (filter.gateway, numbers));
        }
        for (gateway, [rssi, snr]) in
            by_gateway.iter_mut().filter(|(gateway, _)| record.listened(**gateway, seen.at_s()))
        {
            rssi.add(seen, Quantity::Rssi, (Some(*gateway), numbers));
            snr.add(seen, Quantity::Snr, (Some(*gateway), numbers));
        }
    }
    let values = by_quantity.iter().filter_map(|(quantity, tally)| Some((*quantity, tally.told(*quantity, index)?)));
    let value = |tally: &Tally, quantity| tally.told(quantity, index).map(|hexagon| hexagon.value);
    let told = |(gateway, [rssi, snr]): (u64, [Tally; 2])| {
        let (heard, unheard) = rssi.counts();
        let (rssi_dbm, snr_db) = (value(&rssi, Quantity::Rssi), value(&snr, Quantity::Snr));
        (heard + unheard > 0).then_some(HeardHere { gateway, rssi_dbm, snr_db, heard, unheard })
    };
    let mut gateways: Vec<HeardHere> = by_gateway.into_iter().filter_map(told).collect();
    let strength = |one: &HeardHere| one.rssi_dbm.unwrap_or(f64::MIN);
    gateways.sort_by(|a, b| strength(b).total_cmp(&strength(a)));
    Here { values: values.collect(), gateways, devices }
}

#[cfg(test)]
mod tests {
    use super::super::observation::tests::{MIDDLE, observed};
    use super::super::observation::{Heard, Observation};
    use super::*;

    #[test]
    fn a_place_has_its_gateways_with_what_they_missed() {
        let mut record = Record::default();
        for n in 0..10i64 {
            let mut one = observed(MIDDLE, n * 300, -90.0);
            if n < 3 {
                one.heard.push(Heard { gateway: 9, rssi_dbm: -112.0, snr_db: -6.0 });
            }
            record.add(&one).unwrap();
        }
        record.add(&Observation { device: 2, ..observed(MIDDLE.towards(0.0, 5_000.0), 0, -70.0) }).unwrap();
        let found = here(&record, &Filter::default(), (MIDDLE, 9));
        assert_eq!((found.values.len(), found.devices), (Quantity::ALL.len(), BTreeSet::from([1])));
        let told: Vec<_> =
            found.gateways.iter().map(|one| (one.gateway, one.rssi_dbm, one.heard, one.unheard)).collect();
        assert_eq!(told, [(7, Some(-90.0), 10, 0), (9, Some(-112.0), 3, 1)], "gateway 9 listened in one hour");
        let only = here(&record, &Filter { gateway: Some(9), ..Filter::default() }, (MIDDLE, 9));
        assert_eq!((only.gateways.len(), only.gateways[0].snr_db), (1, Some(-6.0)));
        assert_eq!(here(&record, &Filter::default(), (MIDDLE.towards(90.0, 9_000.0), 9)), Here::default());
        assert_eq!(here(&record, &Filter::default(), (MIDDLE, 99)), Here::default());
    }
}
