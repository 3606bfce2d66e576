//! Sites as CSV.

use std::path::Path;

use anyhow::{Context as _, Result};
use api::coverage::site::{NewSite, Site};
use serde::Serialize;

use crate::client::Client;
use crate::commands::coverage::sites;
use crate::save;
use crate::show::{self, Out};

/// What planning the sites of a file does.
#[derive(Serialize)]
struct Imported {
    planned: usize,
    refused: Vec<Refused>,
    done: bool,
}

#[derive(Serialize)]
struct Refused {
    site: String,
    why: String,
}

/// Plans the sites of a file; one that is refused does not keep the others from being planned.
pub(super) async fn import(client: &Client, out: &Out, file: &Path, check: bool) -> Result<()> {
    let rows = sites::rows(file)?;
    let path = client.in_estate("sites").await?;
    let known: Vec<Site> = client.all(&path, &[]).await?;
    let mut imported = Imported { planned: 0, refused: Vec::new(), done: !check };
    for new in rows {
        let why = if check { would_be_refused(&new, &known) } else { refusal(client, &path, &new).await };
        match why {
            None => imported.planned += 1,
            Some(why) => imported.refused.push(Refused { site: new.name, why }),
        }
    }
    if out.json {
        out.json(&imported)?;
    } else {
        let verb = if check { "would be planned" } else { "were planned" };
        out.line(format!("{} sites {verb}, {} are refused.", imported.planned, imported.refused.len()))?;
        if !imported.refused.is_empty() {
            let rows = imported.refused.iter().map(|one| vec![one.site.clone(), one.why.clone()]);
            out.line(show::table(&["SITE", "WHY"], rows))?;
        }
    }
    anyhow::ensure!(imported.refused.is_empty(), "{} sites are refused", imported.refused.len());
    Ok(())
}

fn would_be_refused(new: &NewSite, known: &[Site]) -> Option<String> {
    let taken = known.iter().any(|site| site.name == new.name).then(|| "there is a site of this name".to_owned());
    taken.or_else(|| domain::coverage::site::station(&new.radio).err().map(|problem| problem.to_string()))
}

async fn refusal(client: &Client, path: &str, new: &NewSite) -> Option<String> {
    client.post::<Site>(path, new).await.err().map(|why| format!("{why:#}"))
}

/// Writes all sites that have a place.
pub(super) async fn export(client: &Client, file: Option<&Path>) -> Result<()> {
    let all: Vec<Site> = client.all(&client.in_estate("sites").await?, &[]).await?;
    let mut writer = csv::Writer::from_writer(Vec::new());
    for site in all {
        let (Some(latitude_deg), Some(longitude_deg)) = (site.latitude_deg, site.longitude_deg) else { continue };
        let new = NewSite { name: site.name, latitude_deg, longitude_deg, radio: site.radio };
        writer.serialize(sites::Row::of(&new))?;
    }
    let bytes = writer.into_inner().map_err(|why| why.into_error())?;
    match file {
        Some(file) => save::bytes(file, &bytes),
        None => {
            use std::io::Write as _;
            std::io::stdout().lock().write_all(&bytes).context("writing to standard output")
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_site_that_is_written_is_read_again() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("sites.csv");
        let text = "name,latitude_deg,longitude_deg,height_m,gain_dbi,azimuth_deg,horizontal_beam_deg\n\
                    wether-down,54.6985,3.852,12,9,110,65\nplain,54.7,3.9,,,,\n";
        std::fs::write(&file, text).unwrap();
        let sites = sites::rows(&file).unwrap();
        let antenna = sites[0].radio.antenna.as_ref().unwrap();
        assert_eq!((sites[0].radio.height_m, antenna.azimuth_deg, antenna.tilt_deg), (Some(12.0), Some(110.0), None));
        assert_eq!(sites[1].radio, api::coverage::site::SiteRadio::default());
        let mut writer = csv::Writer::from_path(&file).unwrap();
        sites.iter().for_each(|site| writer.serialize(sites::Row::of(site)).unwrap());
        drop(writer);
        assert_eq!(sites::rows(&file).unwrap(), sites);
    }

    #[test]
    fn a_line_that_cannot_be_is_named() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("sites.csv");
        let why = |text: &str| {
            std::fs::write(&file, text).unwrap();
            format!("{:#}", sites::rows(&file).unwrap_err())
        };
        assert!(why("name,latitude_deg\na,54.7\n").contains("names no column longitude_deg"));
        assert!(why("name,latitude_deg,longitude_deg,colour\na,54.7,3.9,red\n").contains("colour"));
        let third = why("name,latitude_deg,longitude_deg\na,54.7,3.9\nb,north,3.9\n");
        assert!(third.contains("line 3"), "{third}");
        assert!(why("name,latitude_deg,longitude_deg\n").contains("no sites in it"));
        let gone = why("name,latitude_deg,longitude_deg,antenna\na,54.7,3.9,none.json\n");
        assert!(gone.contains("line 2") && gone.contains("none.json"), "{gone}");
    }

    #[test]
    fn a_preview_says_what_the_service_would_refuse() {
        let mut new = NewSite { name: "a".into(), latitude_deg: 54.7, longitude_deg: 3.9, ..NewSite::default() };
        assert_eq!(would_be_refused(&new, &[]), None);
        new.radio.height_m = Some(0.0);
        assert!(would_be_refused(&new, &[]).unwrap().contains("height_m"));
        let known = Site {
            revision: String::new(),
            name: "a".into(),
            gateway: None,
            latitude_deg: None,
            longitude_deg: None,
            radio: api::coverage::site::SiteRadio::default(),
        };
        assert!(would_be_refused(&new, &[known]).unwrap().contains("of this name"));
    }
}
