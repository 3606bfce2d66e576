//! `heron coverage area`.

use std::collections::BTreeMap;
use std::io::IsTerminal as _;

use anyhow::{Context as _, Result};
use coverage::area::forecast::{Forecast, Question, Site};
use coverage::area::loss::{Source, Task};
use coverage::area::statistics::{Share, of_area};
use coverage::area::{Area, layout_over};
use coverage::geo::{Extent, Place};
use coverage::link::path::Calibrated;
use coverage::model::{Model, Polarization};
use coverage::terrain::grid::Grid;
use coverage::terrain::mosaic::Terrain;
use indicatif::{ProgressBar, ProgressStyle};
use serde::Serialize;

use crate::commands::coverage::args::AreaArgs;
use crate::commands::coverage::layer_file::Form;
use crate::commands::coverage::sites::Planned;
use crate::commands::coverage::{ground, layer_file, sites};
use crate::save;
use crate::show::{self, Out};

/// What was computed, for programs.
#[derive(Serialize)]
struct Answer {
    computed_km2: f64,
    covered_km2: f64,
    by_data_rate_km2: BTreeMap<u8, f64>,
    by_gateways_km2: BTreeMap<u16, f64>,
    lost_with_km2: BTreeMap<String, f64>,
}

pub(super) fn run(out: &Out, args: &AreaArgs) -> Result<()> {
    let form = args.output.as_deref().map(Form::of).transpose()?;
    let sites = sites::read(&args.sites, &args.radio)?;
    let around = sites.iter().map(|site| Area { centre: site.place, radius_m: args.radius_m, cell_m: args.cell_m });
    let areas: Vec<Area> = around.collect();
    // An area that is too large is refused before files are read.
    areas.iter().try_for_each(|area| area.layout().map(drop))?;
    let boxes = areas.iter().filter_map(|area| Extent::of(area.centre, area.radius_m));
    let corners = boxes.flat_map(|extent| {
        [(extent.south_deg, extent.west_deg), (extent.north_deg, extent.east_deg)]
            .map(|(latitude_deg, longitude_deg)| Place { latitude_deg, longitude_deg })
    });
    let extent = Extent::around(corners).context("the file has no sites")?;
    let layout = layout_over(&extent, args.cell_m)?;
    let terrain = ground::terrain(&args.ground, &extent)?;
    let model = args.model.model();
    let mut losses = Vec::with_capacity(sites.len());
    for (site, area) in sites.iter().zip(areas) {
        losses.push(around_site(args, (&terrain, &model), (site, area)).with_context(|| site.name.clone())?);
    }
    let (terminal, judgement, rates) = (args.radio.terminal()?, args.radio.judgement()?, args.radio.rates());
    let views = sites.iter().zip(&losses).map(|(site, losses)| Site {
        place: site.place,
        antenna_m: terrain.sample(site.place).map_or(0.0, |sample| sample.ground_m) + site.station.height_m,
        station: &site.station,
        losses,
        calibrated: Calibrated::default(),
    });
    let views: Vec<Site<'_>> = views.collect();
    let question =
        Question { terminal: &terminal, rates: &rates, judgement: &judgement, loads: &args.load, terrain: &terrain };
    let forecast = Forecast::of(layout, &views, &question)?;
    if let (Some(path), Some(form)) = (&args.output, form) {
        let named = sites.iter().map(|site| (site.name.clone(), site.place.latitude_deg, site.place.longitude_deg));
        let grid = forecast.layer(layer_file::layer(args.layer))?;
        let (sites, legend) = (named.collect::<Vec<_>>(), layer_file::layer(args.layer).legend());
        let drawn = layer_file::Drawn { legend, grid: &grid, sites: &sites, about: &[], ground: &[] };
        save::bytes(path, &layer_file::bytes(form, &drawn, 1)?)?;
    }
    tell(out, &of_area(&forecast), &sites)
}

/// The losses around one site.
fn around_site(args: &AreaArgs, (terrain, model): (&Terrain, &Model), (site, area): (&Planned, Area)) -> Result<Grid> {
    let source = Source {
        place: site.place,
        height_m: site.station.height_m,
        receiver_height_m: args.radio.device_height_m,
        frequency_mhz: args.radio.frequency_mhz(),
        polarization: Polarization::Vertical,
    };
    let task = Task { terrain, model, source, area, step_m: args.ground.step_m };
    let bar = if std::io::stderr().is_terminal() { ProgressBar::new(1) } else { ProgressBar::hidden() };
    bar.set_style(ProgressStyle::with_template(&format!("{} {{bar:40}} {{percent}} %", site.name))?);
    let done = task.losses(&|done, of| {
        bar.set_length(of as u64);
        bar.set_position(done as u64);
        true
    });
    bar.finish_and_clear();
    Ok(done?)
}

fn tell(out: &Out, share: &Share, sites: &[Planned]) -> Result<()> {
    let name = |site: u16| sites.get(usize::from(site)).map_or_else(String::new, |site| site.name.clone());
    if out.json {
        return out.json(&Answer {
            computed_km2: share.total,
            covered_km2: share.covered(),
            by_data_rate_km2: share.by_data_rate.clone(),
            by_gateways_km2: share.by_gateways.clone(),
            lost_with_km2: share.lost_with.iter().map(|(site, km2)| (name(*site), *km2)).collect(),
        });
    }
    let of = |km2: f64| [format!("{km2:.1} km²"), format!("{:.1} %", 100.0 * km2 / share.total.max(1e-9))];
    let table = |head: &[&str], rows: Vec<(String, f64)>| {
        show::table(head, rows.into_iter().map(|(first, km2)| std::iter::once(first).chain(of(km2)).collect()))
    };
    let [covered, percent] = of(share.covered());
    out.line(format!("{covered} of {:.1} km² are covered ({percent}).", share.total))?;
    out.line("")?;
    let rates = share.by_data_rate.iter().rev().map(|(rate, km2)| (format!("DR{rate}"), *km2)).collect();
    out.line(table(&["BEST DATA RATE", "AREA", "SHARE"], rates))?;
    out.line("")?;
    let count = |n: u16| match n {
        0 => "none".to_owned(),
        1 => "1 gateway".to_owned(),
        n => format!("{n} gateways"),
    };
    let heard = share.by_gateways.iter().map(|(n, km2)| (count(*n), *km2)).collect();
    out.line(table(&["HEARD BY", "AREA", "SHARE"], heard))?;
    out.line("")?;
    let lost = share.lost_with.iter().map(|(site, km2)| (name(*site), *km2)).collect();
    out.line(table(&["LOST WITHOUT", "AREA", "SHARE"], lost))
}
