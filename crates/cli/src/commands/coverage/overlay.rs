//! A layer that lies over other maps: KMZ for globes (OGC KML 2.3), and a page that works from a file.

use std::io::{Cursor, Write as _};

use anyhow::{Context as _, Result};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use coverage::area::legend::{Legend, Scale};
use coverage::terrain::grid::{Grid, Layout};
use image::{ImageFormat, Rgba, RgbaImage};
use serde_json::json;
use zip::ZipWriter;
use zip::write::SimpleFileOptions;

use super::layer_file::{Drawn, legend_picture};
use super::picture::PictureForm;
use crate::sheet::escaped;

const PAGE: &str = include_str!("page.html");

/// The cells in colours, one pixel each, clear where there is no value.
fn cells(legend: &Legend, grid: &Grid) -> Result<Vec<u8>> {
    let Layout { width, height, .. } = *grid.layout();
    let colour = |x: u32, y: u32| {
        let value = grid.values().get(y as usize * width + x as usize).copied().unwrap_or(f32::NAN);
        if value.is_nan() {
            return Rgba([0; 4]);
        }
        let [red, green, blue] = legend.colour(legend.class(f64::from(value)));
        Rgba([red, green, blue, 255])
    };
    let size = (u32::try_from(width)?, u32::try_from(height)?);
    let image = RgbaImage::from_fn(size.0, size.1, colour);
    let mut bytes = Cursor::new(Vec::new());
    image.write_to(&mut bytes, ImageFormat::Png)?;
    Ok(bytes.into_inner())
}

/// The edges of the cells: south, west, north, east.
fn edges(grid: &Grid) -> [f64; 4] {
    let Layout { width, height, west, north, dx, dy, .. } = *grid.layout();
    [north - dy * height as f64, west, north, west + dx * width as f64]
}

/// The layer as an overlay with its sites and its legend, zipped.
pub(super) fn kmz(drawn: &Drawn<'_>) -> Result<Vec<u8>> {
    let [south, west, north, east] = edges(drawn.grid);
    let title = escaped(drawn.legend.title);
    let site = |(name, latitude, longitude): &(String, f64, f64)| {
        let name = escaped(name);
        format!(
            "<Placemark><name>{name}</name><Point><coordinates>{longitude:.6},{latitude:.6}</coordinates></Point></Placemark>"
        )
    };
    let sites: String = drawn.sites.iter().map(site).collect();
    let document = format!(
        r#"<?xml version="1.0" encoding="UTF-8"?>
<kml xmlns="http://www.opengis.net/kml/2.2"><Document><name>{title}</name>
<GroundOverlay><name>{title}</name><color>b4ffffff</color><Icon><href>layer.png</href></Icon>
<LatLonBox><north>{north:.7}</north><south>{south:.7}</south><east>{east:.7}</east><west>{west:.7}</west></LatLonBox></GroundOverlay>
<ScreenOverlay><name>Legend</name><Icon><href>legend.png</href></Icon>
<overlayXY x="0" y="1" xunits="fraction" yunits="fraction"/><screenXY x="0.01" y="0.98" xunits="fraction" yunits="fraction"/></ScreenOverlay>
<Folder><name>Sites</name>{sites}</Folder></Document></kml>
"#
    );
    let mut archive = ZipWriter::new(Cursor::new(Vec::new()));
    let files = [
        // The document comes first: that is how a reader finds it.
        ("doc.kml", document.into_bytes()),
        ("layer.png", cells(&drawn.legend, drawn.grid)?),
        ("legend.png", legend_picture(&drawn.legend, &drawn.names()).bytes(PictureForm::Png)?),
    ];
    for (name, bytes) in files {
        archive.start_file(name, SimpleFileOptions::default())?;
        archive.write_all(&bytes)?;
    }
    Ok(archive.finish()?.into_inner())
}

/// The layer as one page that needs nothing else: it can be moved and enlarged, and tells the value under the pointer.
pub(super) fn page(drawn: &Drawn<'_>) -> Result<Vec<u8>> {
    let Layout { width, height, .. } = *drawn.grid.layout();
    let values: Vec<u8> = drawn.grid.values().iter().flat_map(|value| value.to_le_bytes()).collect();
    let data_url = |bytes: &[u8]| format!("data:image/png;base64,{}", STANDARD.encode(bytes));
    let hex = |class: usize| drawn.legend.colour(class).iter().map(|part| format!("{part:02x}")).collect::<String>();
    let classes = drawn.legend.classes(&drawn.names());
    let classes: Vec<_> =
        classes.iter().map(|(class, words)| json!({ "colour": format!("#{}", hex(*class)), "words": words })).collect();
    let ground: Vec<_> =
        drawn.ground.iter().map(|tile| json!({ "edges": tile.edges, "image": data_url(&tile.png) })).collect();
    let data = json!({
        "title": drawn.legend.title,
        "unit": drawn.legend.unit.trim(),
        "edges": edges(drawn.grid),
        "size": [width, height],
        "image": data_url(&cells(&drawn.legend, drawn.grid)?),
        "values": STANDARD.encode(values),
        "names": if drawn.legend.scale == Scale::Names { drawn.names() } else { Vec::new() },
        "sites": drawn.sites,
        "classes": classes,
        "ground": ground,
        "about": drawn.about,
    });
    // Nothing in it may end the element that it stands in.
    let data = serde_json::to_string(&data)?.replace('<', "\\u003c");
    let (before, after) = PAGE.split_once("{{data}}").context("the page has a place for its data")?;
    let before = before.replace("{{title}}", &escaped(drawn.legend.title));
    Ok([before.as_bytes(), data.as_bytes(), after.as_bytes()].concat())
}

#[cfg(test)]
mod tests {
    use std::io::Read as _;

    use coverage::area::forecast::Layer;
    use coverage::terrain::grid::Projection;
    use zip::ZipArchive;

    use super::*;

    fn with_drawn<T>(what: impl FnOnce(&Drawn<'_>) -> T) -> T {
        let layout = Layout {
            projection: Projection::Geographic,
            width: 3,
            height: 2,
            west: 3.9,
            north: 54.7,
            dx: 0.01,
            dy: 0.01,
        };
        let grid = Grid::new(layout, vec![1.0, 12.0, f32::NAN, 25.0, 41.0, -3.0]).unwrap();
        let sites = [("a & b".to_owned(), 54.69, 3.91)];
        let about = [("path model".to_owned(), "<P.1812>".to_owned())];
        what(&Drawn { legend: Layer::Margin.legend(), grid: &grid, sites: &sites, about: &about, ground: &[] })
    }

    #[test]
    fn a_kmz_has_its_document_first_and_its_pictures() {
        let bytes = with_drawn(|drawn| kmz(drawn).unwrap());
        let mut archive = ZipArchive::new(Cursor::new(bytes)).unwrap();
        let names: Vec<String> =
            (0..archive.len()).map(|n| archive.by_index(n).unwrap().name().unwrap().into_owned()).collect();
        assert_eq!(names, ["doc.kml", "layer.png", "legend.png"]);
        let mut text = String::new();
        archive.by_index(0).unwrap().read_to_string(&mut text).unwrap();
        assert!(text.contains("<south>54.6800000</south><east>3.9300000</east>"), "{text}");
        assert!(text.contains("<name>a &amp; b</name><Point><coordinates>3.910000,54.690000"), "{text}");
        let mut layer = Vec::new();
        archive.by_index(1).unwrap().read_to_end(&mut layer).unwrap();
        let layer = image::load_from_memory(&layer).unwrap().into_rgba8();
        assert_eq!((layer.dimensions(), layer.get_pixel(2, 0).0[3], layer.get_pixel(1, 1).0[3]), ((3, 2), 0, 255));
    }

    #[test]
    fn a_page_holds_everything_and_nothing_of_it_ends_early() {
        let text = String::from_utf8(with_drawn(|drawn| page(drawn).unwrap())).unwrap();
        assert!(!text.contains("{{") && !text.contains("http://") && !text.contains("https://"));
        assert!(text.contains("\\u003cP.1812>") && text.contains("40 dB or more"));
        assert_eq!(text.matches("</script>").count(), 2);
    }
}
