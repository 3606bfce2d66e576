//! A layer of a forecast as a file: GeoTIFF, CSV, GeoJSON contours, a picture with its legend, KMZ, or a page.

use std::io::Cursor;
use std::path::Path;
use std::str::FromStr;

use anyhow::{Result, bail};
use contour::ContourBuilder;
use coverage::area::forecast::Layer;
use coverage::area::legend::Legend;
use coverage::terrain::geotiff::{Samples, write};
use coverage::terrain::grid::{Grid, Layout};
use serde_json::{Value, json};

use crate::commands::coverage::args::LayerWord;
use crate::commands::coverage::overlay;
use crate::commands::coverage::picture::{Beside, Colour, Picture, Shape};

/// The formats that a layer can be written in.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Form {
    GeoTiff,
    Csv,
    GeoJson,
    Png,
    Kmz,
    Page,
}

/// A layer to be drawn.
pub(crate) struct Drawn<'a> {
    pub legend: Legend,
    pub grid: &'a Grid,
    /// Sites, each with its latitude and longitude.
    pub sites: &'a [(String, f64, f64)],
    /// What was asked for.
    pub about: &'a [(String, String)],
    /// The ground under it, where a service draws it.
    pub ground: &'a [GroundPicture],
}

/// A part of the ground, drawn.
pub(crate) struct GroundPicture {
    /// South, west, north, east.
    pub edges: [f64; 4],
    pub png: Vec<u8>,
}

impl Drawn<'_> {
    pub(super) fn names(&self) -> Vec<&str> {
        self.sites.iter().map(|(name, ..)| name.as_str()).collect()
    }
}

impl Form {
    /// The format that a file's name asks for.
    pub(crate) fn of(path: &Path) -> Result<Self> {
        match path.extension().and_then(|ending| ending.to_str()) {
            Some("tif" | "tiff") => Ok(Self::GeoTiff),
            Some("csv") => Ok(Self::Csv),
            Some("geojson" | "json") => Ok(Self::GeoJson),
            Some("png") => Ok(Self::Png),
            Some("kmz") => Ok(Self::Kmz),
            Some("html") => Ok(Self::Page),
            _ => bail!("{}: a name that ends with .tif, .csv, .geojson, .png, .kmz or .html is wanted", path.display()),
        }
    }
}

/// The layer that a word stands for.
pub(crate) const fn layer(word: LayerWord) -> Layer {
    match word {
        LayerWord::Uplink => Layer::Uplink,
        LayerWord::Downlink => Layer::Downlink,
        LayerWord::Margin => Layer::Margin,
        LayerWord::BestSite => Layer::BestSite,
        LayerWord::Snr => Layer::Snr,
        LayerWord::Snir => Layer::Snir,
        LayerWord::DataRate => Layer::DataRate,
        LayerWord::InReach => Layer::InReach,
        LayerWord::Airtime => Layer::Airtime,
        LayerWord::Reliability => Layer::Reliability,
    }
}

/// A part of a layer.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Frame {
    pub south_deg: f64,
    pub west_deg: f64,
    pub north_deg: f64,
    pub east_deg: f64,
}

impl FromStr for Frame {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let all: Vec<f64> = text.split(',').filter_map(|part| part.trim().parse().ok()).collect();
        match all.as_slice() {
            [south_deg, west_deg, north_deg, east_deg] if south_deg < north_deg && west_deg < east_deg => {
                let [south_deg, west_deg, north_deg, east_deg] =
                    [south_deg, west_deg, north_deg, east_deg].map(|deg| *deg);
                Ok(Self { south_deg, west_deg, north_deg, east_deg })
            }
            _ => Err("south, west, north and east in degrees are wanted, such as 54.66,3.80,54.74,4.00".into()),
        }
    }
}

/// The cells that a frame touches.
///
/// # Errors
/// It lies outside.
pub(crate) fn framed(grid: &Grid, frame: Frame) -> Result<Grid> {
    let Layout { width, height, west, north, dx, dy, .. } = *grid.layout();
    let column = |deg: f64| ((deg - west) / dx).clamp(0.0, width as f64);
    let row = |deg: f64| ((north - deg) / dy).clamp(0.0, height as f64);
    // A frame along the edge of a cell does not touch the next one, however the numbers are rounded.
    let (left, right) =
        ((column(frame.west_deg) + 1e-6).floor() as usize, (column(frame.east_deg) - 1e-6).ceil() as usize);
    let (top, bottom) = ((row(frame.north_deg) + 1e-6).floor() as usize, (row(frame.south_deg) - 1e-6).ceil() as usize);
    if left >= right || top >= bottom {
        bail!("the frame lies outside of the forecast");
    }
    let values = (top..bottom).flat_map(|row| grid.values()[row * width + left..row * width + right].iter().copied());
    let layout = Layout {
        width: right - left,
        height: bottom - top,
        west: west + left as f64 * dx,
        north: north - top as f64 * dy,
        ..*grid.layout()
    };
    Ok(Grid::new(layout, values.collect())?)
}

/// The layer as a file.
pub(crate) fn bytes(form: Form, drawn: &Drawn<'_>, scale: u32) -> Result<Vec<u8>> {
    let Drawn { legend, grid, sites, .. } = drawn;
    match form {
        Form::GeoTiff => {
            let mut bytes = Cursor::new(Vec::new());
            write(grid, Samples::Float, "A forecast of Keen Heron", &mut bytes)?;
            Ok(bytes.into_inner())
        }
        Form::Csv => text(grid),
        Form::GeoJson => Ok(serde_json::to_vec(&contours(legend, grid)?)?),
        Form::Png => picture(legend, grid, sites).enlarged(scale),
        Form::Kmz => overlay::kmz(drawn),
        Form::Page => overlay::page(drawn),
    }
}

/// Each cell that has a value, by its centre.
fn text(grid: &Grid) -> Result<Vec<u8>> {
    let mut writer = csv::Writer::from_writer(Vec::new());
    writer.write_record(["latitude_deg", "longitude_deg", "value"])?;
    let width = grid.layout().width;
    for (at, value) in grid.values().iter().enumerate().filter(|(_, value)| !value.is_nan()) {
        let Some(place) = grid.centre(at % width, at / width) else { continue };
        let (latitude, longitude) = (format!("{:.6}", place.latitude_deg), format!("{:.6}", place.longitude_deg));
        writer.write_record([latitude, longitude, format!("{value:.2}")])?;
    }
    Ok(writer.into_inner().map_err(|why| why.into_error())?)
}

/// For each class the area where the layer has at least its value (RFC 7946; degrees of WGS 84).
fn contours(legend: &Legend, grid: &Grid) -> Result<Value> {
    let Layout { width, height, west, north, dx, dy, .. } = *grid.layout();
    let values: Vec<f64> = grid
        .values()
        .iter()
        .map(|value| if value.is_nan() { f64::from(f32::MIN) } else { f64::from(*value) })
        .collect();
    // Cells that have no value are cut off at their edges: nothing is interpolated towards them.
    let all = ContourBuilder::new(width, height, false).contours(&values, legend.bounds)?;
    // From cells to degrees here: the builder takes a ring for a hole where rows run southwards.
    let degrees = |x: f64, y: f64| [west + (x - 0.5) * dx, north - (y - 0.5) * dy];
    let feature = |contour: &contour::Contour| {
        let polygons: Vec<Vec<Vec<[f64; 2]>>> = contour
            .geometry()
            .iter()
            .map(|polygon| {
                let outer = turned(polygon.exterior().coords().map(|at| degrees(at.x, at.y)).collect(), true);
                let holes =
                    polygon.interiors().iter().map(|ring| ring.coords().map(|at| degrees(at.x, at.y)).collect());
                std::iter::once(outer).chain(holes.map(|ring| turned(ring, false))).collect()
            })
            .collect();
        json!({
            "type": "Feature",
            "properties": { "layer": legend.title, "at_least": contour.threshold(), "unit": legend.unit.trim() },
            "geometry": { "type": "MultiPolygon", "coordinates": polygons },
        })
    };
    Ok(json!({ "type": "FeatureCollection", "features": all.iter().map(feature).collect::<Vec<_>>() }))
}

/// A ring that runs against the clock, or with it (RFC 7946 §3.1.6).
fn turned(mut ring: Vec<[f64; 2]>, against: bool) -> Vec<[f64; 2]> {
    let twice: f64 = ring.windows(2).map(|pair| pair[0][0] * pair[1][1] - pair[1][0] * pair[0][1]).sum();
    if (twice > 0.0) != against {
        ring.reverse();
    }
    ring
}

const PAPER: Colour = [252, 250, 244];
const INK: Colour = [40, 44, 46];
/// How wide the cells of a picture are at most, in points.
const WIDEST: usize = 1000;
/// How wide a letter is, in points.
const LETTER: f64 = 9.0;
const LEGEND: u32 = 330;

/// The layer in colours, the sites, and what the colours stand for.
fn picture(legend: &Legend, grid: &Grid, sites: &[(String, f64, f64)]) -> Picture {
    let Layout { width, height, west, north, dx, dy, .. } = *grid.layout();
    let (tall, size) = (dy / dx * aspect(north), (WIDEST / width).clamp(1, 12) as f64);
    let mut shapes = Vec::new();
    for row in 0..height {
        let (top, bottom) = (row as f64 * size * tall, (row + 1) as f64 * size * tall);
        let mut begin = 0;
        let of = |column: usize| {
            Some(grid.values()[row * width + column]).filter(|v| !v.is_nan()).map(|v| legend.class(f64::from(v)))
        };
        for column in 1..=width {
            if column == width || of(column) != of(begin) {
                if let Some(class) = of(begin) {
                    let (from, to) = (begin as f64 * size, column as f64 * size - 1.0);
                    shapes.push(Shape::Band(vec![(from, top, bottom), (to, top, bottom)], legend.colour(class)));
                }
                begin = column;
            }
        }
    }
    for (name, latitude_deg, longitude_deg) in sites {
        let (x, y) = ((longitude_deg - west) / dx * size, (north - latitude_deg) / dy * size * tall);
        shapes.push(Shape::Line(vec![(x - 5.0, y), (x + 5.0, y)], INK, 3));
        shapes.push(Shape::Line(vec![(x, y - 5.0), (x, y + 5.0)], INK, 3));
        let ends = [x + 7.0, x + 11.0 + LETTER * name.chars().count() as f64];
        shapes.push(Shape::Band(ends.map(|x| (x, y - 9.0, y + 9.0)).to_vec(), PAPER));
        shapes.push(Shape::Text((x + 9.0, y + 5.0), Beside::Right, name.clone(), INK, true));
    }
    let names: Vec<&str> = sites.iter().map(|(name, ..)| name.as_str()).collect();
    shapes.extend(legend_shapes(legend, &names, width as f64 * size + 20.0));
    let height = ((height as f64 * size * tall).ceil() as u32).max(legend_height(legend));
    Picture { width: (width as f64 * size) as u32 + LEGEND, height, ground: PAPER, shapes }
}

fn legend_height(legend: &Legend) -> u32 {
    90 + 26 * (legend.bounds.len() as u32 + 1)
}

/// The legend from this many points on.
fn legend_shapes(legend: &Legend, names: &[&str], left: f64) -> Vec<Shape> {
    let mut shapes = vec![Shape::Text((left, 30.0), Beside::Right, legend.title.into(), INK, true)];
    for (n, (class, words)) in legend.classes(names).into_iter().enumerate() {
        let y = 50.0 + 26.0 * n as f64;
        shapes.push(Shape::Band(vec![(left, y, y + 18.0), (left + 28.0, y, y + 18.0)], legend.colour(class)));
        shapes.push(Shape::Text((left + 38.0, y + 14.0), Beside::Right, words, INK, false));
    }
    shapes
}

/// The legend alone.
pub(super) fn legend_picture(legend: &Legend, names: &[&str]) -> Picture {
    Picture { width: LEGEND, height: legend_height(legend), ground: PAPER, shapes: legend_shapes(legend, names, 16.0) }
}

/// How much longer a degree of latitude is than one of longitude.
fn aspect(latitude_deg: f64) -> f64 {
    1.0 / latitude_deg.to_radians().cos().max(0.05)
}

#[cfg(test)]
mod tests {
    use coverage::terrain::grid::Projection;

    use super::*;

    /// Ten by ten cells; the values rise towards the middle, one corner has none.
    fn hill() -> Grid {
        let layout = Layout {
            projection: Projection::Geographic,
            width: 10,
            height: 10,
            west: 3.0,
            north: 54.0,
            dx: 0.01,
            dy: 0.01,
        };
        let value = |at: usize| {
            let (x, y) = ((at % 10) as f32 - 4.5, (at / 10) as f32 - 4.5);
            if at == 0 { f32::NAN } else { 45.0 - 10.0 * x.hypot(y) }
        };
        Grid::new(layout, (0..100).map(value).collect()).unwrap()
    }

    #[test]
    fn contours_enclose_what_is_as_much_and_run_against_the_clock() {
        let all = contours(&Layer::Margin.legend(), &hill()).unwrap();
        let features = all["features"].as_array().unwrap();
        assert_eq!(features.len(), 6);
        let area = |feature: &Value| {
            let rings = feature["geometry"]["coordinates"].as_array().unwrap().iter().map(|polygon| &polygon[0]);
            let signed = |ring: &Value| {
                let at = |point: &Value| (point[0].as_f64().unwrap(), point[1].as_f64().unwrap());
                let points: Vec<_> = ring.as_array().unwrap().iter().map(at).collect();
                points.windows(2).map(|pair| pair[0].0 * pair[1].1 - pair[1].0 * pair[0].1).sum::<f64>() / 2.0
            };
            rings.map(signed).sum::<f64>()
        };
        let areas: Vec<f64> = features.iter().map(area).collect();
        assert!(areas.windows(2).all(|pair| pair[0] >= pair[1] && pair[1] >= 0.0), "{areas:?}");
        // At least 20 dB have 16 cells around the middle, whose corners are cut.
        assert!((areas[3] / 0.0001 - 15.5).abs() < 0.1, "{areas:?}");
    }

    #[test]
    fn a_picture_has_a_legend_and_the_sites() {
        let sites = [("chapel-rise".to_owned(), 53.95, 3.05)];
        let drawn = picture(&Layer::Margin.legend(), &hill(), &sites);
        let words: Vec<&str> = drawn
            .shapes
            .iter()
            .filter_map(|shape| if let Shape::Text(_, _, text, ..) = shape { Some(text.as_str()) } else { None })
            .collect();
        assert_eq!(&words[..3], ["chapel-rise", "margin at the slowest data rate", "40 dB or more"]);
        assert_eq!(words.last(), Some(&"less than 0 dB"));
        let hill = hill();
        let of = |form: Form, scale: u32| {
            let drawn = Drawn { legend: Layer::Margin.legend(), grid: &hill, sites: &sites, about: &[], ground: &[] };
            bytes(form, &drawn, scale).unwrap()
        };
        let size = |scale: u32| image::load_from_memory(&of(Form::Png, scale)).unwrap().into_rgb8().dimensions();
        let (width, height) = size(1);
        assert_eq!(size(4), (4 * width, 4 * height));
        assert_eq!(String::from_utf8(of(Form::Csv, 1)).unwrap().lines().count(), 100);
    }

    #[test]
    fn a_frame_takes_what_lies_in_it() {
        let frame = Frame { south_deg: 53.945, west_deg: 3.025, north_deg: 53.975, east_deg: 3.055 };
        let part = framed(&hill(), frame).unwrap();
        assert_eq!((part.layout().width, part.layout().height), (4, 4), "cells that it touches");
        assert!((part.layout().west - 3.02).abs() < 1e-9 && (part.layout().north - 53.98).abs() < 1e-9);
        assert_eq!(part.values()[0], hill().values()[22]);
        let elsewhere = Frame { south_deg: 10.0, west_deg: 3.0, north_deg: 11.0, east_deg: 4.0 };
        assert!(framed(&hill(), elsewhere).unwrap_err().to_string().contains("outside"));
        assert_eq!("53,3,54.5,4".parse::<Frame>().map(|frame| frame.east_deg), Ok(4.0));
        assert!("54,3,53,4".parse::<Frame>().is_err() && "1,2,3".parse::<Frame>().is_err());
    }
}
