//! Where reality is much worse than a forecast, and why that may be.

use std::collections::BTreeMap;

use super::{median, spread};
use crate::geo::Place;

/// What was measured in a hexagon by one gateway, less what is forecast there.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Residual {
    /// The hexagon's H3 index.
    pub index: u64,
    /// Where it was measured.
    pub place: Place,
    /// By which gateway.
    pub gateway: u64,
    /// On which class of cover, where that is known.
    pub class: Option<u16>,
    /// Measured less forecast, in dB.
    pub residual_db: f64,
    /// What was measured, in dBm; the most that it can have been if nothing was heard.
    pub measured_dbm: f64,
    /// Nothing was heard: the residual is this or less.
    pub at_most: bool,
    /// Uplinks that say so.
    pub uplinks: usize,
}

/// Why reality is worse than a forecast.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Cause {
    /// All that this gateway hears is weaker by so many dB: its antenna or cable.
    Gateway(f64),
    /// All that comes from this class of cover is weaker by so many dB: it shields more than was assumed.
    Cover(f64),
    /// Only here: something that the terrain does not have, or a device's antenna.
    Here,
}

/// A place that is worse.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Worse {
    /// What was found.
    pub residual: Residual,
    /// Why it may be.
    pub cause: Cause,
}

/// Residuals that are told, in dB.
const WORSE_DB: f64 = -12.0;
/// A gateway or a class counts as the cause if its middle is off by this much, in dB.
const SHIFTED_DB: f64 = -4.0;
/// Of fewer hexagons nothing is said in common.
const LEAST: usize = 8;
/// Fewer uplinks than these may be weak by chance.
const LEAST_UPLINKS: usize = 8;
/// Places that are told at most.
const MOST: usize = 100;

/// The middle of residuals and their spread around it, in dB. Those that agree with nothing being heard do not count.
pub fn middle_and_spread(residuals: &[Residual]) -> Option<(f64, f64)> {
    let mut all: Vec<f64> = counted(residuals).map(|one| one.residual_db).collect();
    let middle = median(&mut all)?;
    Some((middle, spread(&all, middle)))
}

fn counted(residuals: &[Residual]) -> impl Iterator<Item = &Residual> {
    residuals.iter().filter(|one| !one.at_most || one.residual_db < 0.0)
}

fn middles<K: Ord>(residuals: &[Residual], key: impl Fn(&Residual) -> Option<K>) -> BTreeMap<K, f64> {
    let mut groups: BTreeMap<K, Vec<f64>> = BTreeMap::new();
    for one in counted(residuals) {
        if let Some(key) = key(one) {
            groups.entry(key).or_default().push(one.residual_db);
        }
    }
    let of = |(key, mut all): (K, Vec<f64>)| (all.len() >= LEAST).then(|| Some((key, median(&mut all)?)))?;
    groups.into_iter().filter_map(of).collect()
}

/// The middle of each gateway's residuals, in dB, where there are enough.
pub fn by_gateway(residuals: &[Residual]) -> BTreeMap<u64, f64> {
    middles(residuals, |one| Some(one.gateway))
}

/// The places that are much worse than forecast, the worst first.
pub fn worse(residuals: &[Residual]) -> Vec<Worse> {
    let (gateways, classes) = (by_gateway(residuals), middles(residuals, |one| one.class));
    let cause = |one: &Residual| {
        let gateway = gateways.get(&one.gateway).copied().filter(|db| *db <= SHIFTED_DB);
        let class = one.class.and_then(|class| classes.get(&class).copied()).filter(|db| *db <= SHIFTED_DB);
        match (gateway, class) {
            (Some(gateway), Some(class)) if class < gateway => Cause::Cover(class),
            (Some(gateway), _) => Cause::Gateway(gateway),
            (None, Some(class)) => Cause::Cover(class),
            (None, None) => Cause::Here,
        }
    };
    let bad = residuals.iter().filter(|one| one.residual_db <= WORSE_DB && one.uplinks >= LEAST_UPLINKS);
    let mut found: Vec<Worse> = bad.map(|one| Worse { residual: *one, cause: cause(one) }).collect();
    found.sort_by(|a, b| a.residual.residual_db.total_cmp(&b.residual.residual_db));
    found.truncate(MOST);
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    fn residual(n: u64, gateway: u64, class: u16, residual_db: f64) -> Residual {
        let place = Place { latitude_deg: 54.7, longitude_deg: 3.9 };
        let class = Some(class);
        Residual { index: n, place, gateway, class, residual_db, measured_dbm: -110.0, at_most: false, uplinks: 9 }
    }

    #[test]
    fn a_cause_is_what_many_have_in_common() {
        let mut all: Vec<Residual> = (0..30).map(|n| residual(n, 1, 4, (n % 5) as f64 - 2.0)).collect();
        all.extend((30..45).map(|n| residual(n, 2, 4, -7.0 - (n % 8) as f64)));
        all.extend((45..60).map(|n| residual(n, 1, 8, -9.0 - (n % 6) as f64)));
        all.push(residual(99, 1, 4, -25.0));
        all.push(Residual { uplinks: 2, ..residual(98, 1, 4, -40.0) });
        all.push(Residual { at_most: true, ..residual(100, 1, 4, -13.0) });
        all.push(Residual { at_most: true, ..residual(101, 1, 4, 30.0) });
        let found = worse(&all);
        assert_eq!((found[0].residual.index, found[0].cause), (99, Cause::Here));
        let cause = |gateway: u64, class: u16| {
            found.iter().find(|one| one.residual.gateway == gateway && one.residual.class == Some(class)).unwrap().cause
        };
        assert!(matches!(cause(2, 4), Cause::Gateway(db) if db < -9.0), "{found:#?}");
        assert!(matches!(cause(1, 8), Cause::Cover(db) if db < -10.0), "{found:#?}");
        assert!(found.iter().any(|one| one.residual.index == 100), "silence where a signal is forecast");
        let (middle, around) = middle_and_spread(&all[..30]).unwrap();
        assert!(middle.abs() < 0.1 && around > 1.0, "{middle} {around}");
        assert_eq!((worse(&[]).len(), middle_and_spread(&[])), (0, None));
    }
}
