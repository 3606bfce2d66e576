//! `heron site`: gateways and planned sites, as forecasts see them.

pub(crate) mod args;
mod file;

use anyhow::{Result, bail};
use api::coverage::site::{AntennaAbout, NewSite, Site, SiteChange, SiteRadio, SitesChange, SitesEffect};

use crate::client::Client;
use crate::commands::site::args::SiteVerb;
use crate::show::{self, Out};

/// A site's antenna in words.
fn antenna(about: &AntennaAbout) -> String {
    let number = |value: Option<f64>| value.unwrap_or_default();
    let gain = format!("{} dBi", number(about.gain_dbi));
    match (about.azimuth_deg, about.horizontal_cut.is_empty()) {
        (_, false) => format!("{gain}, as its data sheet has it, towards {}°", number(about.azimuth_deg)),
        (Some(azimuth), true) => {
            let (width, tilt) = (number(about.horizontal_beam_deg), number(about.tilt_deg));
            format!("{gain}, {width}° wide towards {azimuth}°, {tilt}° down")
        }
        (None, true) => format!("{gain}, all around"),
    }
}

fn place(site: &Site) -> String {
    let place = site.latitude_deg.zip(site.longitude_deg);
    place.map_or_else(|| "not known".into(), |(north, east)| format!("{north:.5}, {east:.5}"))
}

fn kind(site: &Site) -> &'static str {
    if site.gateway.is_some() { "gateway" } else { "planned" }
}

fn number(value: Option<f64>, unit: &str) -> String {
    format!("{} {unit}", value.unwrap_or_default())
}

fn radio_lines(radio: &SiteRadio) -> Vec<(&'static str, String)> {
    vec![
        ("antenna", antenna(&radio.antenna.clone().unwrap_or_default())),
        ("height", number(radio.height_m, "m above the ground")),
        ("power", number(radio.power_dbm, "dBm")),
        ("cable loss", number(radio.cable_loss_db, "dB")),
        ("noise figure", number(radio.noise_figure_db, "dB")),
    ]
}

fn lines(site: &Site) -> Vec<(&'static str, String)> {
    let mut lines = vec![("site", site.name.clone()), ("kind", kind(site).into()), ("place", place(site))];
    lines.extend(site.gateway.map(|eui| ("gateway", eui.to_string())));
    lines.extend(radio_lines(&site.radio));
    lines
}

/// What a change makes of radios: the lines that differ.
fn told(out: &Out, effect: &SitesEffect) -> Result<()> {
    if out.json {
        return out.json(effect);
    }
    let verb = if effect.done { "were changed" } else { "would be changed" };
    out.line(format!("{} sites {verb}, {} stay as they are.", effect.sites.len(), effect.untouched))?;
    for site in &effect.sites {
        for ((what, before), (_, after)) in radio_lines(&site.before).into_iter().zip(radio_lines(&site.after)) {
            if before != after {
                out.line(format!("  {}: {what} {before} → {after}", site.name))?;
            }
        }
    }
    Ok(())
}

async fn set(client: &Client, out: &Out, verb: SiteVerb) -> Result<()> {
    let SiteVerb::Set { sites, name, at, radio, check } = verb else { return Ok(()) };
    let radio = radio.radio();
    if name.is_none() && at.is_none() {
        if radio == SiteRadio::default() {
            bail!("nothing to change was given: see `heron site set --help`");
        }
        let wanted = SitesChange { sites, radio, preview: check };
        let effect: SitesEffect = client.post(&client.in_estate("sites/change").await?, &wanted).await?;
        return told(out, &effect);
    }
    let [site] = sites.as_slice() else { bail!("a name or a place can be given to one site only") };
    let change = SiteChange {
        name,
        latitude_deg: at.map(|at| at.latitude_deg),
        longitude_deg: at.map(|at| at.longitude_deg),
        radio: Some(radio).filter(|radio| *radio != SiteRadio::default()),
    };
    let site: Site = client.patch(&client.one("sites", site).await?, &change).await?;
    out.one(&site, lines)
}

pub(crate) async fn run(client: &Client, out: &Out, verb: SiteVerb, yes: bool) -> Result<()> {
    match verb {
        SiteVerb::List(which) => {
            let sites: Vec<Site> = client.all(&client.in_estate("sites").await?, &which.query()).await?;
            let none = "There is no gateway and no planned site. Next: `heron site add NAME --at 54.712,3.884`.";
            out.list(&sites, none, &["SITE", "KIND", "PLACE", "HEIGHT", "ANTENNA"], |site| {
                let about = site.radio.antenna.clone().unwrap_or_default();
                let height = number(site.radio.height_m, "m");
                vec![site.name.clone(), kind(site).into(), place(site), height, antenna(&about)]
            })
        }
        SiteVerb::Show { site } => {
            let site: Site = client.get(&client.one("sites", &site).await?, &[]).await?;
            out.one(&site, lines)
        }
        SiteVerb::Add { name, at, radio } => {
            let (latitude_deg, longitude_deg) = (at.latitude_deg, at.longitude_deg);
            let new = NewSite { name, latitude_deg, longitude_deg, radio: radio.radio() };
            let site: Site = client.post(&client.in_estate("sites").await?, &new).await?;
            out.one(&site, lines)
        }
        set @ SiteVerb::Set { .. } => self::set(client, out, set).await,
        SiteVerb::Import { file, check } => file::import(client, out, &file, check).await,
        SiteVerb::Export { output } => file::export(client, output.as_deref()).await,
        SiteVerb::Remove { site } => {
            show::confirm(yes, &format!("The planned site {site} will be removed."))?;
            client.delete(&client.one("sites", &site).await?).await?;
            out.said(format!("{site} was removed."))
        }
    }
}
