//! The table of links as a file.

use std::path::Path;

use anyhow::{Result, bail};
use api::coverage::link::DeviceLink;

use crate::save;
use crate::sheet::{Cell, Sheet, rounded, workbook};

/// The formats of a table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Form {
    Csv,
    Xlsx,
}

impl Form {
    /// The format that a file's name asks for.
    pub(super) fn of(path: &Path) -> Result<Self> {
        match path.extension().and_then(|ending| ending.to_str()) {
            Some("csv") => Ok(Self::Csv),
            Some("xlsx") => Ok(Self::Xlsx),
            _ => bail!("{}: a name that ends with .csv or .xlsx is wanted", path.display()),
        }
    }
}

const COLUMNS: [&str; 18] = [
    "device",
    "dev_eui",
    "fleet",
    "gateway",
    "gateway_eui",
    "assigned",
    "distance_m",
    "loss_db",
    "forecast_dbm",
    "margin_db",
    "data_rate",
    "blocked",
    "rssi_dbm",
    "snr_db",
    "heard",
    "of",
    "residual_db",
    "signal",
];

fn cells(link: &DeviceLink) -> [Cell; 18] {
    let text = |text: &str| Cell::text(text);
    let word = |yes: bool| Cell::text(if yes { "yes" } else { "no" });
    let measured = link.measured;
    let signal = match link.residual_db {
        Some(db) if db <= -12.0 => "weaker than forecast",
        Some(db) if db >= 12.0 => "stronger than forecast",
        Some(_) => "as forecast",
        None => "not heard",
    };
    [
        text(&link.device),
        text(&link.dev_eui.to_string()),
        text(&link.fleet),
        text(&link.gateway),
        text(&link.gateway_eui.to_string()),
        word(link.assigned),
        Cell::Number(link.distance_m, 0),
        Cell::Number(link.loss_db, 1),
        Cell::Number(link.forecast_dbm, 1),
        Cell::Number(link.margin_db, 1),
        Cell::maybe(link.data_rate.map(f64::from), 0),
        word(link.blocked),
        Cell::maybe(measured.map(|one| one.rssi_dbm), 2),
        Cell::maybe(measured.map(|one| one.snr_db), 2),
        Cell::maybe(measured.map(|one| f64::from(one.heard)), 0),
        Cell::maybe(measured.map(|one| f64::from(one.of)), 0),
        Cell::maybe(link.residual_db, 1),
        text(signal),
    ]
}

/// Writes the table.
pub(super) fn write(path: &Path, form: Form, links: &[DeviceLink]) -> Result<()> {
    let bytes = match form {
        Form::Csv => csv_bytes(links)?,
        Form::Xlsx => xlsx_bytes(links)?,
    };
    save::bytes(path, &bytes)
}

fn csv_bytes(links: &[DeviceLink]) -> Result<Vec<u8>> {
    let mut writer = csv::Writer::from_writer(Vec::new());
    writer.write_record(COLUMNS)?;
    for link in links {
        writer.write_record(cells(link).map(|cell| match cell {
            Cell::Text(text) => text,
            Cell::Number(number, digits) => rounded(number, digits).to_string(),
            Cell::Nothing => String::new(),
        }))?;
    }
    Ok(writer.into_inner().map_err(|why| why.into_error())?)
}

fn xlsx_bytes(links: &[DeviceLink]) -> Result<Vec<u8>> {
    let rows = links.iter().map(|link| cells(link).into()).collect();
    workbook(&[Sheet { title: "Links", head: COLUMNS.into(), rows }])
}

#[cfg(test)]
mod tests {
    use api::coverage::link::Measured;
    use lorawan::Eui64;

    use super::*;

    fn link(measured: Option<Measured>, residual_db: Option<f64>) -> DeviceLink {
        DeviceLink {
            dev_eui: Eui64(0x02b0_0900_0000_0001),
            device: "tide-05, north".into(),
            fleet: "tide".into(),
            gateway_eui: Eui64(0x02a1_f000_0000_0001),
            gateway: "chapel-rise".into(),
            distance_m: 4_180.4,
            loss_db: 143.72,
            forecast_dbm: -123.72,
            margin_db: 5.61,
            data_rate: Some(2),
            blocked: true,
            measured,
            residual_db,
            assigned: true,
        }
    }

    #[test]
    fn both_forms_hold_the_same_table() {
        let heard = Measured { rssi_dbm: -116.0, snr_db: -6.8, heard: 37, of: 48 };
        let links = [link(Some(heard), Some(0.14)), link(Some(heard), Some(-19.0)), link(None, None)];
        let text = String::from_utf8(csv_bytes(&links).unwrap()).unwrap();
        let lines: Vec<&str> = text.lines().collect();
        assert_eq!(lines.len(), 4);
        assert!(lines[0].starts_with("device,dev_eui,fleet,gateway,"));
        assert!(lines[1].starts_with("\"tide-05, north\",02b0090000000001,tide,chapel-rise,"), "{}", lines[1]);
        assert!(lines[1].ends_with("4180,143.7,-123.7,5.6,2,yes,-116,-6.8,37,48,0.1,as forecast"), "{}", lines[1]);
        assert!(lines[2].ends_with("weaker than forecast") && lines[3].ends_with(",,,,,not heard"), "{text}");
        let book = xlsx_bytes(&links).unwrap();
        assert!(book.starts_with(b"PK"), "a zip of parts");
    }

    #[test]
    fn the_name_says_the_form() {
        assert_eq!(Form::of(Path::new("a.csv")).unwrap(), Form::Csv);
        assert_eq!(Form::of(Path::new("a.xlsx")).unwrap(), Form::Xlsx);
        assert!(Form::of(Path::new("a.ods")).unwrap_err().to_string().contains(".csv or .xlsx"));
    }
}
