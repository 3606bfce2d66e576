//! The accounts of airtime.

use std::collections::HashMap;

use api::BandUse;
use api::ledger::{BandTotal, DayStrip, DeviceLedger, GatewayLedger, Ledger, STRIP, Spans, Spent, TowardsLedger};
use api::problem::Problem;
use axum::extract::State;
use chrono::Utc;
use engine::Used;
use lorawan::Eui64;
use lorawan::region::{Region, SubBand};
use store::{QuarterRow, Since, Sums};

use crate::clock;
use crate::http::app::App;
use crate::http::extract::WholeEstate;
use crate::http::gateways::gateway::{band_use, band_uses};
use crate::http::json::{Answer, Json};

/// Devices listed at most.
const MOST_DEVICES: u32 = 50;
/// Gateways looked at.
const MOST_GATEWAYS: u32 = 500;
const QUARTER: i64 = 15;

fn ms(us: u64) -> f64 {
    us as f64 / 1000.0
}

fn spans(sums: Sums) -> Spans {
    let spent = |used: Used| Spent { airtime_ms: ms(used.airtime_us), frames: used.frames };
    Spans { now: spent(sums.now), hour: spent(sums.hour), day: spent(sums.day) }
}

fn sub_band(region: Region, name: &str) -> Option<&'static SubBand> {
    region.plan().sub_bands.iter().find(|band| band.name == name)
}

/// Airtime used and left, by gateway, device and sub-band: in the last hour, which duty cycle counts, and in the last
/// day.
#[utoipa::path(get, path = "/estates/{estate}/airtime", tag = "airtime",
    extensions(("x-right" = json!("view"))), responses((status = 200, body = Ledger), (status = 404, body = Problem)))]
pub(crate) async fn ledger(State(app): State<App>, estate: WholeEstate) -> Answer<Ledger> {
    let minute = clock::now().minute();
    let since = Since { now: minute - 1, hour: minute - 60, day: minute - 24 * 60 };
    let store = &app.store;
    let rows = store.gateways(estate.id, "", MOST_GATEWAYS).await?;
    let quarters = store.gateway_quarters(estate.id, since.day).await?;
    let sent = store.gateway_airtime(estate.id, since).await?;
    let status = app.network.gateways(rows.iter().map(|row| row.gateway.eui).collect()).await;
    let mut gateways: Vec<GatewayLedger> = rows
        .into_iter()
        .zip(status)
        .map(|(row, status)| GatewayLedger {
            eui: row.gateway.eui,
            name: row.gateway.name,
            region: row.gateway.region,
            sent: sum(sent.iter().filter(|(eui, ..)| *eui == row.gateway.eui).map(|(.., sums)| spans(*sums))),
            hour: status.map(|status| band_uses(status.airtime)).unwrap_or_default(),
            day: strips(row.gateway.eui, row.gateway.region, &quarters, minute),
        })
        .collect();
    let fullest = |g: &GatewayLedger| g.hour.iter().map(|band| band.used_percent).fold(0.0, f64::max);
    gateways.sort_by(|a, b| fullest(b).total_cmp(&fullest(a)));
    let regions: HashMap<Eui64, Region> = gateways.iter().map(|gateway| (gateway.eui, gateway.region)).collect();

    let mut devices: Vec<DeviceLedger> = Vec::new();
    for row in store.device_airtime(estate.id, false, since, 4 * MOST_DEVICES).await? {
        let Some(band) = sub_band(row.region, &row.sub_band) else { continue };
        let (eui, hour, sent) = (row.dev_eui, band_use(band, row.sums.hour), spans(row.sums));
        match devices.iter_mut().find(|known| known.eui == eui) {
            Some(known) => {
                known.sent += sent;
                if known.hour.used_percent < hour.used_percent {
                    known.hour = hour;
                }
            }
            None => devices.push(DeviceLedger { eui, name: row.name, fleet: row.fleet, sent, hour }),
        }
    }
    devices.sort_by(|a, b| b.hour.used_percent.total_cmp(&a.hour.used_percent));
    devices.truncate(MOST_DEVICES as usize);

    let mut towards: Vec<TowardsLedger> = Vec::new();
    for row in store.device_airtime(estate.id, true, since, 4 * MOST_DEVICES).await? {
        let (eui, sent) = (row.dev_eui, spans(row.sums));
        match towards.iter_mut().find(|known| known.eui == eui) {
            Some(known) => known.sent += sent,
            None => towards.push(TowardsLedger { eui, name: row.name, fleet: row.fleet, sent }),
        }
    }
    towards.sort_by(|a, b| b.sent.day.airtime_ms.total_cmp(&a.sent.day.airtime_ms));
    towards.truncate(MOST_DEVICES as usize);

    let up =
        store.band_airtime(estate.id, since).await?.into_iter().map(|(region, name, sums)| (region, name, spans(sums)));
    let down = sent.into_iter().filter_map(|(eui, name, sums)| Some((*regions.get(&eui)?, name, spans(sums))));
    let sub_bands = totals(up, down);
    Ok(Json(Ledger { at: Utc::now(), gateways, devices, towards, sub_bands }))
}

fn sum(all: impl Iterator<Item = Spans>) -> Spans {
    all.fold(Spans::default(), |mut sum, spans| {
        sum += spans;
        sum
    })
}

/// A gateway's last day, one row for each sub-band it used.
fn strips(gateway: Eui64, region: Region, rows: &[QuarterRow], minute: i64) -> Vec<DayStrip> {
    let first = minute.div_euclid(QUARTER) - STRIP as i64 + 1;
    let mut strips: HashMap<&str, DayStrip> = HashMap::new();
    for row in rows.iter().filter(|row| row.gateway == gateway) {
        let Some(band) = sub_band(region, &row.sub_band) else { continue };
        let strip = strips.entry(band.name).or_insert_with(|| DayStrip {
            sub_band: band.name.into(),
            allowance_ms: ms(band.hourly_allowance_us()),
            airtime_ms: 0.0,
            frames: 0,
            quarters_ms: vec![0.0; STRIP],
        });
        let at = usize::try_from(row.quarter - first).ok();
        if let Some(quarter) = at.and_then(|at| strip.quarters_ms.get_mut(at)) {
            *quarter += ms(row.used.airtime_us);
            strip.airtime_ms += ms(row.used.airtime_us);
            strip.frames += row.used.frames;
        }
    }
    let mut strips: Vec<DayStrip> = strips.into_values().filter(|strip| strip.frames > 0).collect();
    strips.sort_by(|a, b| a.sub_band.cmp(&b.sub_band));
    strips
}

type BandSpans = (Region, String, Spans);

/// Every sub-band in use, with what went up and down in it.
fn totals(up: impl Iterator<Item = BandSpans>, down: impl Iterator<Item = BandSpans>) -> Vec<BandTotal> {
    let mut all: Vec<BandTotal> = Vec::new();
    let up = up.map(|spans| (true, spans));
    for (goes_up, (region, name, spans)) in up.chain(down.map(|spans| (false, spans))) {
        let Some(band) = sub_band(region, &name) else { continue };
        let at = all.iter().position(|t| t.region == region && t.sub_band == name).unwrap_or_else(|| {
            let BandUse { sub_band, from_mhz, to_mhz, .. } = band_use(band, Used::default());
            let (up, down) = (Spans::default(), Spans::default());
            all.push(BandTotal { region, sub_band, from_mhz, to_mhz, up, down });
            all.len() - 1
        });
        *(if goes_up { &mut all[at].up } else { &mut all[at].down }) += spans;
    }
    all.sort_by(|a, b| a.region.name().cmp(b.region.name()).then(a.from_mhz.total_cmp(&b.from_mhz)));
    all
}
