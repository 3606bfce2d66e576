//! `heron coverage terrain`.

use std::path::PathBuf;

use anyhow::{Context as _, Result};
use api::ground::GroundRaster;
use coverage::terrain::file;
use coverage::terrain::grid::MOST_CELLS;
use domain::coverage::ground::raster;
use serde::Serialize;

use crate::commands::coverage::ground;
use crate::show::Out;

/// What a file holds.
#[derive(Serialize)]
struct Held {
    file: String,
    #[serde(flatten)]
    raster: GroundRaster,
}

pub(super) fn run(out: &Out, files: &[PathBuf]) -> Result<()> {
    let mut all = Vec::with_capacity(files.len());
    for path in files {
        let (name, opened) = ground::open(path)?;
        let read = file::described(&name, opened, MOST_CELLS as usize);
        let (grid, description) = read.with_context(|| path.display().to_string())?;
        all.push(Held { file: path.display().to_string(), raster: raster(&grid, &description) });
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

fn tell(out: &Out, Held { file, raster }: &Held) -> Result<()> {
    let mut all = [("file", file.clone())].into_iter().chain(raster_lines(raster));
    all.try_for_each(|(name, value)| out.line(format!("{name:<16}{value}")))
}

/// What is told of a file of heights or of cover.
pub(crate) fn raster_lines(raster: &GroundRaster) -> Vec<(&'static str, String)> {
    let cells = raster.cells();
    let holes = match raster.holes {
        0 => "none".to_owned(),
        holes => format!("{holes} of {cells} cells ({:.1} %)", raster.holes_percent()),
    };
    let (columns, rows, extent) = (raster.columns, raster.rows, &raster.extent);
    let value = |value: Option<f64>| value.map_or_else(|| "–".into(), |value| value.to_string());
    vec![
        ("says of itself", if raster.description.is_empty() { "–".into() } else { raster.description.clone() }),
        ("coordinates", raster.projection.clone()),
        ("cells", format!("{columns} × {rows}, each {:.1} × {:.1} m", raster.cell_width_m, raster.cell_height_m)),
        ("from", format!("{:.5}, {:.5} (south-west)", extent.south_deg, extent.west_deg)),
        ("to", format!("{:.5}, {:.5} (north-east)", extent.north_deg, extent.east_deg)),
        ("values", format!("{} to {}", value(raster.least), value(raster.most))),
        ("holes", holes),
    ]
}
