//! The accounts of airtime.

use std::collections::HashMap;

use api::ledger::{BandTotal, DayStrip, DeviceLedger, GatewayLedger, Ledger, STRIP, TowardsLedger};
use api::{BandUse, problem::Problem};
use axum::extract::State;
use chrono::Utc;
use engine::Used;
use lorawan::Eui64;
use lorawan::region::{Region, SubBand};
use store::QuarterRow;

use super::App;
use super::error::Answer;
use super::extract::{InEstate, Json};
use super::gateways::{band_use, band_uses};
use crate::clock;

/// Devices listed at most.
const MOST_DEVICES: u32 = 50;
/// Gateways looked at.
const MOST_GATEWAYS: u32 = 500;
const QUARTER: i64 = 15;

fn ms(us: u64) -> f64 {
    us as f64 / 1000.0
}

fn sub_band(region: Region, name: &str) -> Option<&'static SubBand> {
    region.plan().sub_bands.iter().find(|band| band.name == name)
}

/// Who has used how much airtime, and what is left: by gateway, device and sub-band; in the last hour, as the
/// law counts it, and in the last day.
#[utoipa::path(get, path = "/estates/{estate}/airtime", tag = "airtime", security(("token" = [])),
    params(("estate" = String, Path)), responses((status = 200, body = Ledger), (status = 404, body = Problem)))]
pub async fn ledger(State(app): State<App>, estate: InEstate) -> Answer<Ledger> {
    let minute = clock::now().minute();
    let (hour_ago, day_ago) = (minute - 60, minute - 24 * 60);
    let store = &app.store;
    let rows = store.gateways(estate.id, "", MOST_GATEWAYS).await?;
    let quarters = store.gateway_quarters(estate.id, day_ago).await?;
    let status = app.network.gateways(rows.iter().map(|row| row.gateway.eui).collect()).await;
    let mut gateways: Vec<GatewayLedger> = rows
        .into_iter()
        .zip(status)
        .map(|(row, status)| GatewayLedger {
            eui: row.gateway.eui,
            name: row.gateway.name,
            region: row.gateway.region,
            hour: status.map(|status| band_uses(status.airtime)).unwrap_or_default(),
            day: strips(row.gateway.eui, row.gateway.region, &quarters, minute),
        })
        .collect();
    let fullest = |g: &GatewayLedger| g.hour.iter().map(|band| band.used_percent).fold(0.0, f64::max);
    gateways.sort_by(|a, b| fullest(b).total_cmp(&fullest(a)));

    let mut devices: Vec<DeviceLedger> = Vec::new();
    for row in store.device_airtime(estate.id, false, hour_ago, 4 * MOST_DEVICES).await? {
        let engine::Transmitter::Device(eui) = row.transmitter else { continue };
        let Some(band) = sub_band(row.region, &row.sub_band) else { continue };
        let hour = band_use(band, row.used);
        match devices.iter_mut().find(|known| known.eui == eui) {
            Some(known) if known.hour.used_percent < hour.used_percent => known.hour = hour,
            Some(_) => {}
            None => devices.push(DeviceLedger { eui, name: row.name, fleet: row.fleet.unwrap_or_default(), hour }),
        }
    }
    devices.sort_by(|a, b| b.hour.used_percent.total_cmp(&a.hour.used_percent));
    devices.truncate(MOST_DEVICES as usize);

    let mut towards: Vec<TowardsLedger> = Vec::new();
    for row in store.device_airtime(estate.id, true, day_ago, 4 * MOST_DEVICES).await? {
        let engine::Transmitter::Towards(eui) = row.transmitter else { continue };
        match towards.iter_mut().find(|known| known.eui == eui) {
            Some(known) => {
                known.airtime_ms += ms(row.used.airtime_us);
                known.frames += row.used.frames;
            }
            None => towards.push(TowardsLedger {
                eui,
                name: row.name,
                fleet: row.fleet.unwrap_or_default(),
                airtime_ms: ms(row.used.airtime_us),
                frames: row.used.frames,
            }),
        }
    }
    towards.sort_by(|a, b| b.airtime_ms.total_cmp(&a.airtime_ms));
    towards.truncate(MOST_DEVICES as usize);

    let up_hour = store.band_airtime(estate.id, hour_ago).await?;
    let up_day = store.band_airtime(estate.id, day_ago).await?;
    let sub_bands = totals(&gateways, &up_hour, &up_day);
    Ok(Json(Ledger { at: Utc::now(), gateways, devices, towards, sub_bands }))
}

/// A gateway's last day, a strip for each sub-band it used.
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

type BandSum = (Region, String, Used);

/// Every sub-band in use, with what went up and down in it.
fn totals(gateways: &[GatewayLedger], up_hour: &[BandSum], up_day: &[BandSum]) -> Vec<BandTotal> {
    let mut all: Vec<BandTotal> = Vec::new();
    let mut total = |region: Region, name: &str, add: &dyn Fn(&mut BandTotal)| {
        let Some(band) = sub_band(region, name) else { return };
        let at = all.iter().position(|t| t.region == region && t.sub_band == name).unwrap_or_else(|| {
            let BandUse { sub_band, from_mhz, to_mhz, .. } = band_use(band, Used::default());
            all.push(BandTotal {
                region,
                sub_band,
                from_mhz,
                to_mhz,
                up_hour_ms: 0.0,
                down_hour_ms: 0.0,
                up_day_ms: 0.0,
                down_day_ms: 0.0,
            });
            all.len() - 1
        });
        add(&mut all[at]);
    };
    for (region, name, used) in up_hour {
        total(*region, name, &|t| t.up_hour_ms += ms(used.airtime_us));
    }
    for (region, name, used) in up_day {
        total(*region, name, &|t| t.up_day_ms += ms(used.airtime_us));
    }
    for gateway in gateways {
        for band in &gateway.hour {
            total(gateway.region, &band.sub_band, &|t| t.down_hour_ms += band.airtime_ms);
        }
        for strip in &gateway.day {
            total(gateway.region, &strip.sub_band, &|t| t.down_day_ms += strip.airtime_ms);
        }
    }
    all.sort_by(|a, b| a.region.name().cmp(b.region.name()).then(a.from_mhz.total_cmp(&b.from_mhz)));
    all
}
