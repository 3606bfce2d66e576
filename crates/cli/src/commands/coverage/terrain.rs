//! `heron coverage terrain`.

use std::path::PathBuf;

use anyhow::{Context as _, Result};
use coverage::terrain::file;
use coverage::terrain::grid::{Grid, Projection};
use serde::Serialize;

use crate::commands::coverage::ground;
use crate::show::Out;

/// What a file holds.
#[derive(Serialize)]
struct Held {
    file: String,
    description: String,
    projection: String,
    columns: usize,
    rows: usize,
    cell_width_m: f64,
    cell_height_m: f64,
    south_deg: f64,
    west_deg: f64,
    north_deg: f64,
    east_deg: f64,
    least: f64,
    most: f64,
    holes: usize,
}

pub(super) fn run(out: &Out, files: &[PathBuf]) -> Result<()> {
    let mut all = Vec::with_capacity(files.len());
    for path in files {
        let (name, opened) = ground::open(path)?;
        let read = file::described(&name, opened);
        let (grid, description) = read.with_context(|| path.display().to_string())?;
        all.push(held(path.display().to_string(), description, &grid));
    }
    if out.json {
        return out.json(&all);
    }
    for (n, held) in all.iter().enumerate() {
        if n > 0 {
            out.line("")?;
        }
        tell(out, held)?;
    }
    Ok(())
}

fn held(file: String, description: String, grid: &Grid) -> Held {
    let (layout, extent) = (grid.layout(), grid.extent());
    let (cell_width_m, cell_height_m) = layout.cell_m(extent);
    let there = grid.values().iter().copied().filter(|value| !value.is_nan()).map(f64::from);
    let (least, most) =
        there.fold((f64::INFINITY, f64::NEG_INFINITY), |(least, most), value| (least.min(value), most.max(value)));
    let projection = match layout.projection {
        Projection::Geographic => "degrees of WGS 84".to_owned(),
        Projection::Utm { zone, south } => format!("UTM zone {zone} {}", if south { "south" } else { "north" }),
    };
    Held {
        file,
        description,
        projection,
        columns: layout.width,
        rows: layout.height,
        cell_width_m,
        cell_height_m,
        south_deg: extent.south_deg,
        west_deg: extent.west_deg,
        north_deg: extent.north_deg,
        east_deg: extent.east_deg,
        least,
        most,
        holes: grid.holes(),
    }
}

fn tell(out: &Out, held: &Held) -> Result<()> {
    let cells = held.columns * held.rows;
    let holes = match held.holes {
        0 => "none".to_owned(),
        holes => format!("{holes} of {cells} cells ({:.1} %)", 100.0 * holes as f64 / cells as f64),
    };
    let lines = [
        ("file", held.file.clone()),
        ("says of itself", if held.description.is_empty() { "–".into() } else { held.description.clone() }),
        ("coordinates", held.projection.clone()),
        (
            "cells",
            format!("{} × {}, each {:.1} × {:.1} m", held.columns, held.rows, held.cell_width_m, held.cell_height_m),
        ),
        ("from", format!("{:.5}, {:.5} (south-west)", held.south_deg, held.west_deg)),
        ("to", format!("{:.5}, {:.5} (north-east)", held.north_deg, held.east_deg)),
        ("values", format!("{} to {}", held.least, held.most)),
        ("holes", holes),
    ];
    lines.iter().try_for_each(|(name, value)| out.line(format!("{name:<16}{value}")))
}
