//! A layer of a forecast as a file: the service gives its values, and the other forms are made of them here.

use std::io::Cursor;
use std::path::Path;

use anyhow::Result;
use api::coverage::forecast::Forecast;
use api::coverage::site::Site;
use coverage::geo::Place;
use coverage::terrain::grid::Grid;
use coverage::terrain::relief::{TILE_SIDE, Tile};
use domain::coverage::forecast::layer_word;

use super::lines;
use crate::client::Client;
use crate::commands::coverage::args::LayerWord;
use crate::commands::coverage::layer_file::{self, Drawn, Form, Frame, GroundPicture};
use crate::save;

/// What is wanted of a forecast.
pub(super) struct Wanted {
    pub layer: LayerWord,
    pub frame: Option<Frame>,
    pub scale: u32,
}

/// Tiles of the ground under a page, at most.
const MOST_TILES: u32 = 24;

/// The sites that have a place.
fn placed(forecast: &Forecast) -> Vec<(String, f64, f64)> {
    let placed = |site: &Site| Some((site.name.clone(), site.latitude_deg?, site.longitude_deg?));
    forecast.sites.iter().filter_map(placed).collect()
}

pub(super) async fn layer(client: &Client, (id, wanted): (&str, &Wanted), file: &Path) -> Result<()> {
    let form = Form::of(file)?;
    let path = client.one("forecasts", id).await?;
    let forecast: Forecast = client.get(&path, &[]).await?;
    let layer = layer_file::layer(wanted.layer);
    let word = serde_json::to_value(layer_word(layer))?;
    let query = [("layer", word.as_str().unwrap_or_default().to_owned())];
    let values = client.stream(&format!("{path}/values"), &query, None).await?.bytes().await?;
    if form == Form::GeoTiff && wanted.frame.is_none() {
        return save::bytes(file, &values);
    }
    let mut grid = coverage::terrain::file::read("values.tif", Cursor::new(values))?;
    if let Some(frame) = wanted.frame {
        grid = layer_file::framed(&grid, frame)?;
    }
    let ground = if form == Form::Page { ground(client, &grid).await? } else { Vec::new() };
    let about: Vec<_> = lines(&forecast).into_iter().map(|(name, value)| (name.to_owned(), value)).collect();
    let sites = placed(&forecast);
    let drawn = Drawn { legend: layer.legend(), grid: &grid, sites: &sites, about: &about, ground: &ground };
    save::bytes(file, &layer_file::bytes(form, &drawn, wanted.scale)?)
}

/// The ground under a layer, as the service draws it: the finest tiles of which there are few.
async fn ground(client: &Client, grid: &Grid) -> Result<Vec<GroundPicture>> {
    let extent = grid.extent();
    let corner = |latitude_deg, longitude_deg| Place { latitude_deg, longitude_deg };
    let (upper, lower) = (corner(extent.north_deg, extent.west_deg), corner(extent.south_deg, extent.east_deg));
    let of = |level: u8| Some((Tile::at(level, upper)?, Tile::at(level, lower)?));
    let count = |(upper, lower): &(Tile, Tile)| {
        let ((left, top), (right, bottom)) = (upper.numbers(), lower.numbers());
        (right - left + 1) * (bottom - top + 1)
    };
    let levels = (5..=13u8).rev().filter_map(|level| Some((level, of(level)?)));
    let Some((level, (upper, lower))) = levels.into_iter().find(|(_, tiles)| count(tiles) <= MOST_TILES) else {
        return Ok(Vec::new());
    };
    let ((left, top), (right, bottom)) = (upper.numbers(), lower.numbers());
    let mut pictures = Vec::new();
    for (column, row) in (top..=bottom).flat_map(|row| (left..=right).map(move |column| (column, row))) {
        let Some(tile) = Tile::new(level, column, row) else { continue };
        let answer = client.stream(&format!("/ground/tiles/{level}/{column}/{row}"), &[], None).await?;
        let (from, to) = (tile.place(0.0, 0.0), tile.place(TILE_SIDE as f64, TILE_SIDE as f64));
        let edges = [to.latitude_deg, from.longitude_deg, from.latitude_deg, to.longitude_deg];
        pictures.push(GroundPicture { edges, png: answer.bytes().await?.to_vec() });
    }
    Ok(pictures)
}
