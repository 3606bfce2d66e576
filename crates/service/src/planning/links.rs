//! Links one by one: of a place to sites, and of devices to gateways, beside what was measured.

use std::collections::HashMap;

use api::coverage::link::{DeviceCoverage, DeviceLink, Link as Told, LossPart, Measured, PathProfile};
use api::message::{Body, Message};
use coverage::geo::Place;
use coverage::link::budget::Terminal;
use coverage::link::path::{Calibrated, Link, LinkError, Method};
use coverage::model::obstacle::{bulge_m, fresnel_m};
use coverage::survey::{median, signal_dbm};
use domain::coverage::verdict::{Finding, judge};
use lorawan::Eui64;
use lorawan::limits::noise_dbm;
use lorawan::modulation::SpreadingFactor;
use store::DeviceRow;

use crate::planning::opened::slowest_margin_db;
use crate::planning::sites::Placed;

/// Points of a profile that is sent, at most.
const MOST_POINTS: usize = 400;
/// Parts of a loss that are less are not told.
const LEAST_DB: f64 = 0.05;
/// Gateways farther away than this are left out of the links of devices: LoRaWAN links on the ground are not longer.
pub(crate) const FARTHEST_M: f64 = 60_000.0;

/// The link of a place to a site.
///
/// # Errors
/// The path leaves the ground, or is outside what the model is valid for.
pub(crate) fn between(
    method: &Method<'_>,
    site: &Placed,
    (place, terminal): (Place, &Terminal),
) -> Result<Told, LinkError> {
    let method = method.over(site.place.distance_m(place));
    let calibrated = Calibrated { gateway_db: site.calibrated_db, ..method.calibrated };
    let method = Method { calibrated, ..method };
    let link = Link::between(&method, (site.place, &site.station), (place, terminal))?;
    let part =
        |part: &coverage::model::LossPart| LossPart { what: part.mechanism.label().into(), loss_db: part.loss_db };
    Ok(Told {
        site: site.name.clone(),
        distance_m: link.profile.length_m(),
        bearing_deg: link.bearing_deg,
        uplink_dbm: link.budget.uplink_dbm,
        uplink_snr_db: link.budget.uplink_snr_db,
        downlink_dbm: link.budget.downlink_dbm,
        margin_db: slowest_margin_db(&link.budget),
        data_rate: link.budget.best_data_rate,
        loss_db: link.loss.total_db,
        parts: link.loss.parts.iter().filter(|part| part.loss_db.abs() >= LEAST_DB).map(part).collect(),
        obstacle: link.obstacle.to_string(),
        blocked: link.obstacle.blocks(),
        profile: profile(&link),
    })
}

/// The profile of a link, thinned to what can be drawn; of points that are left out the highest counts.
fn profile(link: &Link) -> PathProfile {
    let path = link.path();
    let samples = path.profile.samples();
    let every = samples.len().div_ceil(MOST_POINTS);
    let (length_m, (from_m, to_m)) = (link.profile.length_m(), path.antennas_m());
    let highest = |part: &[coverage::terrain::profile::Sample]| {
        let top = |one: &coverage::terrain::profile::Sample| one.ground_m + one.cover_m;
        part.iter().copied().max_by(|a, b| top(a).total_cmp(&top(b))).unwrap_or(part[0])
    };
    let parts: Vec<_> = samples.chunks(every).map(highest).collect();
    let step_m = link.profile.step_m() * every as f64;
    let along = |what: &dyn Fn(f64) -> f64| -> Vec<f32> {
        (0..parts.len()).map(|at| what((step_m * at as f64).min(length_m)) as f32).collect()
    };
    PathProfile {
        step_m,
        ground_m: parts.iter().map(|one| one.ground_m as f32).collect(),
        cover_m: parts.iter().map(|one| one.cover_m as f32).collect(),
        bulge_m: along(&|at_m| bulge_m(at_m, length_m)),
        line_m: along(&|at_m| from_m + (to_m - from_m) * at_m / length_m),
        fresnel_m: along(&|at_m| fresnel_m(link.frequency_mhz, at_m, length_m)),
    }
}

/// What gateways measured of one device, in its latest uplinks.
#[derive(Debug, Default)]
pub(crate) struct Heard {
    uplinks: u32,
    by_gateway: HashMap<Eui64, (Vec<f64>, Vec<f64>)>,
    /// What the device's latest uplink needs, in dB of SNR.
    needed_db: Option<f64>,
}

impl Heard {
    /// Of these messages, newest first.
    pub(crate) fn of(messages: &[Message]) -> Self {
        let mut heard = Self::default();
        for message in messages {
            let Body::Uplink(frame) = &message.body else { continue };
            heard.uplinks += 1;
            if heard.needed_db.is_none() {
                let factor = frame.radio.spreading_factor.and_then(SpreadingFactor::new);
                heard.needed_db = factor.map(SpreadingFactor::required_snr_db);
            }
            for one in &frame.heard_by {
                let (rssi, snr) = heard.by_gateway.entry(one.gateway).or_default();
                rssi.push(f64::from(one.rssi_dbm));
                snr.extend(one.snr_db.map(f64::from));
            }
        }
        heard
    }

    fn measured(&mut self, gateway: Eui64) -> Option<Measured> {
        let of = self.uplinks;
        let (rssi, snr) = self.by_gateway.get_mut(&gateway)?;
        let heard = rssi.len() as u32;
        Some(Measured { rssi_dbm: median(rssi)?, snr_db: median(snr)?, heard, of })
    }
}

/// What a device transmits.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Power {
    /// Now, as the network has set it.
    pub present_dbm: f64,
    /// How much less than it may.
    pub lowered_db: f64,
}

/// A gateway of the links of devices.
pub(crate) struct GatewaySite {
    pub eui: Eui64,
    pub site: Placed,
}

/// Which gateways a verdict names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Named {
    All,
    /// For who sees the device and not its estate: others are none of their business.
    OnlyThoseThatHear,
}

/// Another gateway than those.
const UNNAMED: &str = "a gateway that has not heard it";

/// The links of one device to gateways, and what they come to. Without a terminal that can be computed there is no forecast.
pub(crate) fn of_device(
    method: &Method<'_>,
    (gateways, named): (&[GatewaySite], Named),
    (device, terminal, power): (&DeviceRow, Option<&Terminal>, Power),
    mut heard: Heard,
) -> (Vec<DeviceLink>, DeviceCoverage) {
    let place = device.place.and_then(|place| Place::new(place.latitude_deg, place.longitude_deg));
    let (mut links, mut findings) = (Vec::new(), Vec::new());
    for gateway in gateways {
        let measured = heard.measured(gateway.eui);
        let near = place.filter(|place| place.distance_m(gateway.site.place) <= FARTHEST_M);
        let link = near.zip(terminal).and_then(|(place, terminal)| {
            let method = method.over(place.distance_m(gateway.site.place));
            let link = Link::between(&method, (gateway.site.place, &gateway.site.station), (place, terminal));
            link.ok()
        });
        let mut found = finding(gateway, link.as_ref(), (measured, power.lowered_db));
        if named == Named::OnlyThoseThatHear && measured.is_none() {
            (found.gateway, found.blocked_by) = (UNNAMED.into(), None);
        }
        findings.push(found);
        let Some(link) = link else { continue };
        links.push(DeviceLink {
            dev_eui: device.dev_eui,
            device: device.name.clone(),
            fleet: device.fleet.clone(),
            gateway_eui: gateway.eui,
            gateway: gateway.site.name.clone(),
            distance_m: link.profile.length_m(),
            loss_db: link.loss.total_db,
            forecast_dbm: link.budget.uplink_dbm,
            margin_db: slowest_margin_db(&link.budget),
            data_rate: link.budget.best_data_rate,
            blocked: link.obstacle.blocks(),
            measured,
            residual_db: measured.map(|one| signal_dbm(one.rssi_dbm, one.snr_db) - link.budget.uplink_dbm),
            assigned: false,
        });
    }
    let judged = judge(&findings);
    let snr_db = gateways.iter().filter_map(|gateway| Some(heard.measured(gateway.eui)?.snr_db));
    let best_snr_db = snr_db.max_by(f64::total_cmp);
    let coverage = DeviceCoverage {
        dev_eui: device.dev_eui,
        device: device.name.clone(),
        fleet: device.fleet.clone(),
        verdict: judged.verdict,
        words: judged.words,
        margin_db: best_snr_db.zip(heard.needed_db).map(|(snr_db, needed_db)| snr_db - needed_db),
        best: judged.best,
        second: judged.second,
        margin_without_best_db: judged.without_best_db,
    };
    (links, coverage)
}

/// A link as the verdict sees it: at full power, for what the network has taken off it can give back.
fn finding(gateway: &GatewaySite, link: Option<&Link>, (measured, lowered_db): (Option<Measured>, f64)) -> Finding {
    let noise = noise_dbm(125_000, gateway.site.station.noise_figure_db);
    // Of regions whose slowest data rate is faster, the margin is less by as much, and so is the forecast's.
    let slowest = noise + SpreadingFactor::new(12).map_or(-20.0, SpreadingFactor::required_snr_db);
    Finding {
        gateway: gateway.site.name.clone(),
        forecast_db: link.map(|link| link.budget.uplink_dbm + lowered_db - slowest),
        measured_db: measured.map(|one| signal_dbm(one.rssi_dbm, one.snr_db) + lowered_db - slowest),
        heard: measured.map_or(0.0, |one| f64::from(one.heard) / f64::from(one.of.max(1))),
        blocked_by: link.filter(|link| link.obstacle.blocks()).map(|link| link.obstacle.to_string()),
    }
}

#[cfg(test)]
mod tests {
    use api::coverage::link::CoverageVerdict;
    use coverage::link::budget::{Judgement, Station};
    use coverage::model::Model;
    use coverage::terrain::mosaic::{NoData, Terrain};
    use domain::coverage::forecast::rates;
    use lorawan::region::Region;
    use serde_json::json;

    use super::*;

    const HERE: Place = Place { latitude_deg: 54.7, longitude_deg: 3.9 };

    fn with_method<T>(what: impl FnOnce(&Method<'_>) -> T) -> T {
        let terrain = Terrain { no_data: NoData::Sea, ..Terrain::default() };
        let (rates, judgement) = (rates(Region::Eu868), Judgement::default());
        what(&Method {
            terrain: &terrain,
            model: &Model::FreeSpace,
            frequency_mhz: 868.1,
            step_m: 30.0,
            rates: &rates,
            judgement: &judgement,
            calibrated: Calibrated::default(),
        })
    }

    fn site(name: &str, east_m: f64) -> Placed {
        Placed {
            name: name.into(),
            gateway: None,
            place: HERE.towards(90.0, east_m),
            station: Station::default(),
            calibrated_db: 0.0,
        }
    }

    #[test]
    fn a_long_profile_is_thinned_and_its_parts_are_the_loss() {
        let link = with_method(|method| between(method, &site("far", 20_000.0), (HERE, &Terminal::default())).unwrap());
        let PathProfile { step_m, ground_m, cover_m, bulge_m, line_m, fresnel_m } = &link.profile;
        let points = ground_m.len();
        assert!(points <= MOST_POINTS && points > MOST_POINTS / 2, "{points}");
        assert!([cover_m, bulge_m, line_m, fresnel_m].iter().all(|all| all.len() == points));
        assert!((step_m * (points - 1) as f64 - link.distance_m).abs() < 2.0 * step_m);
        assert!((f64::from(line_m[0]) - 10.0).abs() < 0.01, "it begins at the mast");
        let middle = f64::from(bulge_m[points / 2]);
        // 10 km each way over an earth of 4/3: d1 d2 / 2 a_e.
        assert!((middle - 5.9).abs() < 0.2, "{middle}");
        let sum: f64 = link.parts.iter().map(|part| part.loss_db).sum();
        assert!((sum - link.loss_db).abs() < 0.1 && link.parts[0].what == "free space");
        assert!(link.obstacle.contains("line of sight"), "{}", link.obstacle);
    }

    #[test]
    fn what_was_heard_is_told_by_gateway_as_a_median() {
        let uplink = |rssi: f32, gateways: &[&str]| {
            let heard: Vec<_> = gateways
                .iter()
                .map(|eui| json!({ "gateway": eui, "name": "g", "rssi_dbm": rssi, "snr_db": rssi + 100.0 }))
                .collect();
            serde_json::from_value::<Message>(json!({
                "type": "uplink", "id": "01KBA7Q2V9ZB3W4X5Y6Z7A8B9C", "time": "2026-05-04T09:12:33.481Z", "estate": "tarnsey",
                "fleet": "tide", "device": { "eui": "02b0090000000001", "name": "tide" },
                "frame": { "counter": 1, "port": 2, "confirmed": false, "payload": "01" },
                "radio": { "region": "EU868", "data_rate": 3, "spreading_factor": 9, "bandwidth_khz": 125,
                    "frequency_mhz": 868.1, "airtime_ms": 100.0 },
                "readings": {}, "heard_by": heard, "warnings": [], "airtime_ms": 100.0
            }))
            .unwrap()
        };
        let (a, b) = ("02a1f00000000001", "02a1f00000000002");
        let mut heard = Heard::of(&[uplink(-101.0, &[a]), uplink(-95.0, &[a, b]), uplink(-99.0, &[a])]);
        let near = heard.measured(Eui64(0x02a1_f000_0000_0001)).unwrap();
        assert_eq!((near.rssi_dbm, near.snr_db, near.heard, near.of), (-99.0, 1.0, 3, 3));
        assert_eq!(heard.measured(Eui64(0x02a1_f000_0000_0002)).unwrap().heard, 1);
        assert!(heard.measured(Eui64(9)).is_none());
        // SF9 needs -12.5 dB.
        assert_eq!(heard.needed_db, Some(-12.5));
        assert!(Heard::of(&[]).measured(Eui64(1)).is_none());
    }

    #[test]
    fn power_that_the_network_took_off_is_given_back_before_it_is_judged() {
        let gateway = GatewaySite { eui: Eui64(1), site: site("near", 2_000.0) };
        let measured = Measured { rssi_dbm: -118.0, snr_db: -6.0, heard: 4, of: 4 };
        let judged = |lowered_db| {
            domain::coverage::verdict::judge(&[finding(&gateway, None, (Some(measured), lowered_db))]).verdict
        };
        assert_eq!(judged(0.0), CoverageVerdict::OneGateway);
        let weak = Measured { rssi_dbm: -118.0, snr_db: -15.0, ..measured };
        let verdict =
            |lowered_db| domain::coverage::verdict::judge(&[finding(&gateway, None, (Some(weak), lowered_db))]).verdict;
        assert_eq!((verdict(0.0), verdict(14.0)), (CoverageVerdict::WeakByNature, CoverageVerdict::OneGateway));
    }
}
