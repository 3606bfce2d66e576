//! The hexagons of a survey as a file.

use std::path::Path;

use anyhow::{Context as _, Result, bail};
use api::coverage::survey::{SurveyHexagon, SurveyHexagons};
use coverage::survey::hexagons::corners;
use serde_json::{Value, json};

use crate::save;

/// Writes them in the form that the file's name asks for.
pub(super) fn write(path: &Path, all: &SurveyHexagons) -> Result<()> {
    let bytes = match path.extension().and_then(|ending| ending.to_str()) {
        Some("csv") => csv_bytes(all)?,
        Some("geojson") => serde_json::to_vec(&geojson(all)?)?,
        _ => bail!("{}: a name that ends with .csv or .geojson is wanted", path.display()),
    };
    save::bytes(path, &bytes)
}

/// Whether a file's name asks for a form that there is.
pub(super) fn is_known(path: &Path) -> Result<()> {
    match path.extension().and_then(|ending| ending.to_str()) {
        Some("csv" | "geojson") => Ok(()),
        _ => bail!("{}: a name that ends with .csv or .geojson is wanted", path.display()),
    }
}

fn csv_bytes(all: &SurveyHexagons) -> Result<Vec<u8>> {
    let word = serde_json::to_value(all.quantity)?;
    let mut writer = csv::Writer::from_writer(Vec::new());
    let value = word.as_str().unwrap_or("value");
    writer.write_record(["hexagon", "latitude_deg", "longitude_deg", value, "spread", "uplinks", "unheard"])?;
    for one in &all.hexagons {
        // A gateway is told by its name.
        let value = if value == "best_gateway" { one.words.clone() } else { one.value.to_string() };
        writer.write_record([
            one.index.clone(),
            format!("{:.6}", one.latitude_deg),
            format!("{:.6}", one.longitude_deg),
            value,
            one.spread.map_or_else(String::new, |spread| spread.to_string()),
            one.uplinks.to_string(),
            one.unheard.to_string(),
        ])?;
    }
    Ok(writer.into_inner().map_err(|why| why.into_error())?)
}

/// Each hexagon as a polygon (RFC 7946), its corners against the clock.
fn geojson(all: &SurveyHexagons) -> Result<Value> {
    let feature = |one: &SurveyHexagon| {
        let index = u64::from_str_radix(&one.index, 16).context("the index of a hexagon")?;
        let corners = corners(index).context("the index of a hexagon is not valid")?;
        let ring: Vec<[f64; 2]> =
            corners.iter().chain(corners.first()).map(|at| [at.longitude_deg, at.latitude_deg]).collect();
        Ok(json!({
            "type": "Feature",
            "properties": { "hexagon": one.index, "quantity": all.quantity, "value": one.value, "words": one.words,
                "spread": one.spread, "uplinks": one.uplinks, "unheard": one.unheard },
            "geometry": { "type": "Polygon", "coordinates": [ring] },
        }))
    };
    let features: Vec<Value> = all.hexagons.iter().map(feature).collect::<Result<_>>()?;
    Ok(json!({ "type": "FeatureCollection", "features": features }))
}

#[cfg(test)]
mod tests {
    use api::coverage::survey::SurveyQuantity;

    use super::*;

    fn one() -> SurveyHexagons {
        let hexagon = SurveyHexagon {
            index: "891969d4217ffff".into(),
            latitude_deg: 54.7,
            longitude_deg: 3.9,
            value: 12.0,
            words: "12 dB".into(),
            spread: Some(3.0),
            uplinks: 40,
            unheard: 2,
        };
        SurveyHexagons { quantity: SurveyQuantity::Margin, resolution: 9, hexagons: vec![hexagon] }
    }

    #[test]
    fn both_forms_hold_the_same_hexagon() {
        let text = String::from_utf8(csv_bytes(&one()).unwrap()).unwrap();
        assert_eq!(
            text,
            "hexagon,latitude_deg,longitude_deg,margin,spread,uplinks,unheard\n891969d4217ffff,54.700000,3.900000,12,3,40,2\n"
        );
        let json = geojson(&one()).unwrap();
        let ring = json["features"][0]["geometry"]["coordinates"][0].as_array().unwrap();
        assert!(ring.len() == 7 && ring[0] == ring[6], "{ring:?}");
        assert!(is_known(Path::new("a.tif")).is_err() && is_known(Path::new("a.csv")).is_ok());
    }
}
