//! A layer of a forecast as a file: GeoTIFF, CSV, GeoJSON contours, or a picture with its legend.

use std::io::Cursor;
use std::path::Path;

use anyhow::{Result, bail};
use contour::ContourBuilder;
use coverage::area::forecast::Layer;
use coverage::area::legend::Legend;
use coverage::terrain::geotiff::{Samples, write};
use coverage::terrain::grid::{Grid, Layout};
use serde_json::{Value, json};

use crate::commands::coverage::args::LayerWord;
use crate::commands::coverage::picture::{Beside, Colour, Picture, PictureForm, Shape};

/// The formats that a layer can be written in.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Form {
    GeoTiff,
    Csv,
    GeoJson,
    Png,
}

impl Form {
    /// The format that a file's name asks for.
    pub(crate) fn of(path: &Path) -> Result<Self> {
        match path.extension().and_then(|ending| ending.to_str()) {
            Some("tif" | "tiff") => Ok(Self::GeoTiff),
            Some("csv") => Ok(Self::Csv),
            Some("geojson" | "json") => Ok(Self::GeoJson),
            Some("png") => Ok(Self::Png),
            _ => bail!("{}: a name that ends with .tif, .csv, .geojson or .png is wanted", path.display()),
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

/// The layer as a file.
pub(crate) fn bytes(form: Form, word: LayerWord, grid: &Grid, sites: &[(String, f64, f64)]) -> Result<Vec<u8>> {
    match form {
        Form::GeoTiff => {
            let mut bytes = Cursor::new(Vec::new());
            write(grid, Samples::Float, "A forecast of Keen Heron", &mut bytes)?;
            Ok(bytes.into_inner())
        }
        Form::Csv => text(grid),
        Form::GeoJson => Ok(serde_json::to_vec(&contours(&layer(word).legend(), grid)?)?),
        Form::Png => picture(&layer(word).legend(), grid, sites).bytes(PictureForm::Png),
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
    let left = width as f64 * size + 20.0;
    shapes.push(Shape::Text((left, 30.0), Beside::Right, legend.title.into(), INK, true));
    let names: Vec<&str> = sites.iter().map(|(name, ..)| name.as_str()).collect();
    for (n, (class, words)) in legend.classes(&names).into_iter().enumerate() {
        let y = 50.0 + 26.0 * n as f64;
        shapes.push(Shape::Band(vec![(left, y, y + 18.0), (left + 28.0, y, y + 18.0)], legend.colour(class)));
        shapes.push(Shape::Text((left + 38.0, y + 14.0), Beside::Right, words, INK, false));
    }
    let least = 90 + 26 * (legend.bounds.len() as u32 + 1);
    let height = ((height as f64 * size * tall).ceil() as u32).max(least);
    Picture { width: (width as f64 * size) as u32 + LEGEND, height, ground: PAPER, shapes }
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
        assert!(bytes(Form::Png, LayerWord::Margin, &hill(), &sites).unwrap().starts_with(b"\x89PNG"));
        assert!(
            String::from_utf8(bytes(Form::Csv, LayerWord::Margin, &hill(), &[]).unwrap()).unwrap().lines().count()
                == 100
        );
    }
}
