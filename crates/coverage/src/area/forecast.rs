//! What the losses of several sites make of a region: for each cell the best gateway, what it receives, and how surely.

use lorawan::limits::noise_dbm;
use lorawan::modulation::{Modulation, SpreadingFactor};

use super::loss::each;
use super::{AreaError, at, centre, grid};
use crate::geo::Place;
use crate::link::budget::{Budget, DataRate, Judgement, Station, Terminal, budget};
use crate::link::interference::{Load, reception};
use crate::link::path::Calibrated;
use crate::link::shadowing::reliability;
use crate::range::within;
use crate::terrain::grid::{Grid, Layout};
use crate::terrain::mosaic::Terrain;

/// A gateway with the losses around it.
#[derive(Debug, Clone, Copy)]
pub struct Site<'a> {
    /// Where it is.
    pub place: Place,
    /// Its antenna above the sea, in metres.
    pub antenna_m: f64,
    /// Its radio.
    pub station: &'a Station,
    /// The losses around it, in dB.
    pub losses: &'a Grid,
    /// What measurements have shown, if the losses were calibrated.
    pub calibrated: Calibrated<'a>,
}

/// What is asked of a forecast.
#[derive(Debug, Clone, Copy)]
pub struct Question<'a> {
    /// The receivers that are meant.
    pub terminal: &'a Terminal,
    /// The data rates that they use.
    pub rates: &'a [DataRate],
    /// How a link is judged.
    pub judgement: &'a Judgement,
    /// What else is sent, by spreading factor, in Erlang for each channel: devices all over the region.
    pub loads: &'a [(SpreadingFactor, f64)],
    /// The ground that receivers stand on: an antenna's beam may point over them.
    pub terrain: &'a Terrain,
}

/// A cell that at least one site's losses reach.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Cell {
    /// The gateway that hears best.
    pub best_site: u16,
    /// What it receives, in dBm.
    pub uplink_dbm: f32,
    /// What the device receives from it, in dBm.
    pub downlink_dbm: f32,
    /// Signal over noise at that gateway, in dB, in 125 kHz.
    pub snr_db: f32,
    /// Signal over noise and interference there, in dB, at the best data rate or else the slowest.
    pub snir_db: f32,
    /// Above the sensitivity of the slowest data rate, the fade margin taken off, in dB.
    pub margin_db: f32,
    /// The fastest data rate that works; none if none does.
    pub data_rate: Option<u8>,
    /// Airtime of a message at it, in ms.
    pub airtime_ms: Option<f32>,
    /// Gateways that hear it at the slowest data rate with the margin kept.
    pub in_reach: u16,
    /// Which of them: a bit for each of the first 64 sites, by its number.
    pub heard_by: u64,
    /// The share of such places where at least one gateway hears it.
    pub reliability: f32,
}

/// A layer that can be drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Layer {
    /// Received by the best gateway, in dBm.
    Uplink,
    /// Received by the device, in dBm.
    Downlink,
    /// Margin at the slowest data rate, in dB.
    Margin,
    /// The best gateway's number.
    BestSite,
    /// Signal over noise, in dB.
    Snr,
    /// Signal over noise and interference, in dB.
    Snir,
    /// The best data rate.
    DataRate,
    /// Gateways in reach.
    InReach,
    /// Airtime of a message, in ms.
    Airtime,
    /// The share of places that are heard, 0 to 1.
    Reliability,
}

/// A region's cells.
#[derive(Debug)]
pub struct Forecast {
    layout: Layout,
    cells: Vec<Option<Cell>>,
}

/// Where the antenna of a receiver stands, as seen from a site: bearing and elevation, in degrees.
fn direction(site: &Site<'_>, place: Place, receiver_m: f64) -> (f64, f64) {
    let distance_m = site.place.distance_m(place).max(1.0);
    (site.place.bearing_deg(place), ((receiver_m - site.antenna_m) / distance_m).atan().to_degrees())
}

/// One cell from the budgets of the sites that reach it.
fn cell(budgets: &[(u16, Budget)], sites: &[Site<'_>], question: &Question<'_>) -> Option<Cell> {
    let strongest = |a: &&(u16, Budget), b: &&(u16, Budget)| a.1.uplink_dbm.total_cmp(&b.1.uplink_dbm);
    let (best_site, best) = budgets.iter().max_by(strongest)?;
    let slowest = |budget: &Budget| budget.rates.iter().map(|rate| rate.margin_db).fold(f64::NEG_INFINITY, f64::max);
    let chosen = best.rates.iter().find(|rate| Some(rate.data_rate) == best.best_data_rate);
    let used = chosen.or_else(|| best.rates.iter().max_by(|a, b| a.airtime_ms.total_cmp(&b.airtime_ms)))?;
    let station = sites.get(usize::from(*best_site))?.station;
    // Devices are everywhere, those that the network has told to be no louder than they need to be: at the gateway their
    // frames arrive about as loud as each spreading factor's sensitivity and a margin.
    let loads = question.loads.iter().map(|&(spreading_factor, erlang)| Load {
        spreading_factor,
        erlang,
        power_dbm: noise_dbm(125_000, station.noise_figure_db)
            + spreading_factor.required_snr_db()
            + best.fade_margin_db,
        deviation_db: question.judgement.shadowing_db,
    });
    let loads: Vec<Load> = loads.collect();
    let noise = noise_dbm(used.bandwidth_khz * 1000, station.noise_figure_db);
    let received = reception(used.spreading_factor, (best.uplink_dbm, noise), &loads);
    let missed = budgets
        .iter()
        .map(|(_, budget)| 1.0 - reliability(slowest(budget) + budget.fade_margin_db, question.judgement.shadowing_db));
    Some(Cell {
        best_site: *best_site,
        uplink_dbm: best.uplink_dbm as f32,
        downlink_dbm: best.downlink_dbm as f32,
        snr_db: best.uplink_snr_db as f32,
        snir_db: received.snir_db as f32,
        margin_db: slowest(best) as f32,
        data_rate: best.best_data_rate,
        airtime_ms: chosen.map(|rate| rate.airtime_ms as f32),
        in_reach: budgets.iter().filter(|(_, budget)| budget.best_data_rate.is_some()).count() as u16,
        heard_by: heard_by(budgets),
        reliability: ((1.0 - missed.product::<f64>()) * received.undisturbed) as f32,
    })
}

/// The sites for which a data rate works with the margin kept: a bit for each of the first 64, by its number.
pub(super) fn heard_by(budgets: &[(u16, Budget)]) -> u64 {
    let works = budgets.iter().filter(|(site, budget)| *site < 64 && budget.best_data_rate.is_some());
    works.fold(0, |all, (site, _)| all | 1 << site)
}

/// What a receiver at a place gets from sites whose losses reach it: the number of each site, and its budget.
pub fn budgets_at(sites: &[Site<'_>], question: &Question<'_>, place: Place) -> Vec<(u16, Budget)> {
    let receiver_m = question.terrain.sample(place).map_or(0.0, |sample| sample.ground_m) + question.terminal.height_m;
    let reach = |(n, site): (usize, &Site<'_>)| {
        let loss_db = site.losses.between(place)? - site.calibrated.at_db(question.terrain, place);
        let towards = direction(site, place, receiver_m);
        let link = (site.station, question.terminal);
        Some((n as u16, budget(link, loss_db, towards, question.rates, question.judgement)))
    };
    sites.iter().enumerate().filter_map(reach).collect()
}

impl Forecast {
    /// The forecast for these cells.
    ///
    /// # Errors
    /// There are no sites or more than 1,000, or a number is outside its range.
    pub fn of(layout: Layout, sites: &[Site<'_>], question: &Question<'_>) -> Result<Self, AreaError> {
        within("sites", sites.len() as f64, 1.0..=1_000.0, "")?;
        question.terminal.check()?;
        question.judgement.check()?;
        for (_, erlang) in question.loads {
            within("load", *erlang, 0.0..=10.0, "Erlang")?;
        }
        layout.check()?;
        let row = |row: usize| -> Result<Vec<Option<Cell>>, AreaError> {
            let places = (row * layout.width..(row + 1) * layout.width).map(|at| centre(&layout, at));
            Ok(places.map(|place| cell(&budgets_at(sites, question, place), sites, question)).collect())
        };
        Ok(Self { layout, cells: each(layout.height, row)?.concat() })
    }

    /// The cells, row by row from the north-western corner; none where no site's losses reach.
    pub fn cells(&self) -> &[Option<Cell>] {
        &self.cells
    }

    /// Where they are.
    pub fn layout(&self) -> &Layout {
        &self.layout
    }

    /// The cell of a place; none off the region, and where no site's losses reach.
    pub fn cell(&self, place: Place) -> Option<&Cell> {
        self.cells[at(&self.layout, place)?].as_ref()
    }

    /// A layer as a grid.
    ///
    /// # Errors
    /// None: the cells were checked.
    pub fn layer(&self, layer: Layer) -> Result<Grid, AreaError> {
        let value = |cell: &Option<Cell>| cell.as_ref().and_then(|cell| cell.value(layer)).unwrap_or(f32::NAN);
        grid(self.layout, self.cells.iter().map(value).collect())
    }
}

impl Cell {
    /// What it has in a layer; none where there is nothing to tell.
    pub fn value(&self, layer: Layer) -> Option<f32> {
        match layer {
            Layer::Uplink => Some(self.uplink_dbm),
            Layer::Downlink => Some(self.downlink_dbm),
            Layer::Margin => Some(self.margin_db),
            Layer::BestSite => Some(f32::from(self.best_site)),
            Layer::Snr => Some(self.snr_db),
            Layer::Snir => Some(self.snir_db),
            Layer::DataRate => self.data_rate.map(f32::from),
            Layer::InReach => Some(f32::from(self.in_reach)),
            Layer::Airtime => self.airtime_ms,
            Layer::Reliability => Some(self.reliability),
        }
    }
}

/// The data rates DR0 to DR5 of the regions whose uplinks are SF12 to SF7 in 125 kHz (RP002-1.0.4 §2.4.3, EU868).
pub fn usual_rates() -> Vec<DataRate> {
    (0..=5).filter_map(|n| Some((n, Modulation::lora(12 - n, 125)?))).collect()
}
