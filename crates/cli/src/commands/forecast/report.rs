//! A report of a forecast: sites, parameters, figures, and the links of devices, as XLSX or HTML.

use std::fmt::Write as _;
use std::path::Path;

use anyhow::{Result, bail};
use api::coverage::forecast::{Amount, Forecast};
use api::coverage::link::DeviceLink;

use super::lines;
use crate::client::Client;
use crate::save;
use crate::sheet::{Cell, Sheet, escaped, workbook};

/// Writes the report in the form that the file's name asks for.
pub(super) async fn write(client: &Client, id: &str, file: &Path) -> Result<()> {
    let ending = file.extension().and_then(|ending| ending.to_str()).unwrap_or_default();
    if !["xlsx", "html"].contains(&ending) {
        bail!("{}: a name that ends with .xlsx or .html is wanted", file.display());
    }
    let forecast: Forecast = client.get(&client.one("forecasts", id).await?, &[]).await?;
    let links: Vec<DeviceLink> = client.all(&client.in_estate("links").await?, &[]).await?;
    let tables = tables(&forecast, &links);
    let title = if forecast.wanted.name.is_empty() { "Forecast" } else { &forecast.wanted.name };
    let bytes = if ending == "xlsx" { workbook(&tables)? } else { html(title, &tables)?.into_bytes() };
    save::bytes(file, &bytes)
}

fn tables(forecast: &Forecast, links: &[DeviceLink]) -> Vec<Sheet> {
    let parameters = lines(forecast).into_iter().map(|(name, value)| vec![Cell::text(name), Cell::text(value)]);
    let mut tables = vec![
        Sheet { title: "Parameters", head: vec!["parameter", "value"], rows: parameters.collect() },
        sites(forecast),
    ];
    tables.extend(figures(forecast));
    tables.push(link_table(links));
    tables
}

fn sites(forecast: &Forecast) -> Sheet {
    let row = |site: &api::coverage::site::Site| {
        let radio = &site.radio;
        let gain = radio.antenna.as_ref().and_then(|antenna| antenna.gain_dbi);
        vec![
            Cell::text(&site.name),
            Cell::text(if site.gateway.is_some() { "gateway" } else { "planned" }),
            Cell::maybe(site.latitude_deg, 6),
            Cell::maybe(site.longitude_deg, 6),
            Cell::maybe(radio.height_m, 1),
            Cell::maybe(gain, 2),
            Cell::maybe(radio.cable_loss_db, 2),
            Cell::maybe(radio.power_dbm, 1),
            Cell::maybe(radio.noise_figure_db, 1),
        ]
    };
    let head = vec![
        "site",
        "kind",
        "latitude_deg",
        "longitude_deg",
        "height_m",
        "gain_dbi",
        "cable_loss_db",
        "power_dbm",
        "noise_figure_db",
    ];
    Sheet { title: "Sites", head, rows: forecast.sites.iter().map(row).collect() }
}

fn figures(forecast: &Forecast) -> Option<Sheet> {
    let figures = forecast.figures.as_ref()?;
    let row = |what: String, amount: Amount| {
        let share = 100.0 * amount.area_km2 / figures.computed.area_km2.max(1e-9);
        vec![
            Cell::Text(what),
            Cell::Number(amount.area_km2, 2),
            Cell::Number(share, 1),
            Cell::Number(f64::from(amount.devices), 0),
        ]
    };
    let mut rows = vec![row("computed".into(), figures.computed), row("covered".into(), figures.covered)];
    rows.extend(
        figures.by_data_rate.iter().rev().map(|one| row(format!("best data rate DR{}", one.data_rate), one.amount)),
    );
    rows.extend(figures.by_gateways.iter().map(|one| row(format!("heard by {} sites", one.gateways), one.amount)));
    rows.extend(figures.lost_with.iter().map(|one| row(format!("lost without {}", one.site), one.amount)));
    Some(Sheet { title: "Figures", head: vec!["what", "area_km2", "share_percent", "devices"], rows })
}

fn link_table(links: &[DeviceLink]) -> Sheet {
    let row = |link: &DeviceLink| {
        vec![
            Cell::text(&link.device),
            Cell::text(&link.fleet),
            Cell::text(&link.gateway),
            Cell::Number(link.distance_m, 0),
            Cell::Number(link.loss_db, 1),
            Cell::Number(link.forecast_dbm, 1),
            Cell::Number(link.margin_db, 1),
            Cell::maybe(link.data_rate.map(f64::from), 0),
            Cell::maybe(link.measured.map(|one| one.rssi_dbm), 0),
            Cell::maybe(link.measured.map(|one| one.snr_db), 1),
            Cell::maybe(link.residual_db, 1),
        ]
    };
    let head = vec![
        "device",
        "fleet",
        "gateway",
        "distance_m",
        "loss_db",
        "forecast_dbm",
        "margin_db",
        "data_rate",
        "rssi_dbm",
        "snr_db",
        "residual_db",
    ];
    Sheet { title: "Links", head, rows: links.iter().map(row).collect() }
}

const STYLE: &str = "body{font:16px/1.4 sans-serif;color:#282c2e;background:#fcfaf4;margin:2rem;max-width:76rem}\
h1{font-size:1.5rem}h2{font-size:1.15rem;margin-top:2rem}table{border-collapse:collapse;font-size:.9rem}\
th,td{padding:.25rem .7rem;border-bottom:1px solid #d8d4c8;text-align:left}td.n{text-align:right;font-variant-numeric:tabular-nums}";

fn html(title: &str, tables: &[Sheet]) -> Result<String> {
    let title = escaped(title);
    let mut page = format!(
        "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>{title}</title><style>{STYLE}</style></head><body>\n<h1>{title}</h1>\n"
    );
    for table in tables {
        let head: String = table.head.iter().map(|name| format!("<th>{}</th>", escaped(name))).collect();
        write!(page, "<h2>{}</h2>\n<table><thead><tr>{head}</tr></thead><tbody>\n", table.title)?;
        for row in &table.rows {
            let cell = |cell: &Cell| match cell {
                Cell::Text(text) => format!("<td>{}</td>", escaped(text)),
                Cell::Number(number, digits) => format!("<td class=\"n\">{number:.digits$}</td>"),
                Cell::Nothing => "<td></td>".into(),
            };
            writeln!(page, "<tr>{}</tr>", row.iter().map(cell).collect::<String>())?;
        }
        page.push_str("</tbody></table>\n");
    }
    page.push_str("</body></html>\n");
    Ok(page)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn one() -> Vec<Sheet> {
        let rows = vec![vec![Cell::text("a <b> & c"), Cell::Number(12.345, 1), Cell::maybe(None, 0)]];
        vec![Sheet { title: "Sites", head: vec!["site", "height_m", "gain_dbi"], rows }]
    }

    #[test]
    fn both_forms_hold_the_tables() {
        let page = html("four & more", &one()).unwrap();
        assert!(page.contains("<h1>four &amp; more</h1>") && page.contains("<td>a &lt;b&gt; &amp; c</td>"), "{page}");
        assert!(page.contains("<td class=\"n\">12.3</td><td></td>"), "{page}");
        assert!(workbook(&one()).unwrap().starts_with(b"PK"));
        assert_eq!(crate::sheet::rounded(-0.06, 1), -0.1);
    }
}
