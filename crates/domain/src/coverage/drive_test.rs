//! Drive tests: uplinks that somebody sent on the way, with what gateways measured of them, from CSV files as other tools write them.

use std::cell::RefCell;
use std::collections::BTreeMap;

use api::problem::{Problem, bad_field};
use chrono::{DateTime, NaiveDateTime, Utc};
use lorawan::Eui64;
use lorawan::modulation::{Modulation, SpreadingFactor};
use lorawan::region::Region;

use crate::csv::{Column, Row, Shape};

/// Rows of one file.
const MOST_ROWS: usize = 200_000;
/// Rows with mistakes that are told.
const MOST_TOLD: usize = 20;

/// The columns of a drive test.
pub const SHAPE: Shape = Shape {
    columns: &[
        Column { name: "time", also: &["timestamp", "datetime", "date_time", "utc"] },
        Column { name: "latitude_deg", also: &["latitude", "lat"] },
        Column { name: "longitude_deg", also: &["longitude", "lon", "lng", "long"] },
        Column { name: "gateway", also: &["gateway_eui", "gateway_id", "gateway_name"] },
        Column { name: "rssi_dbm", also: &["rssi"] },
        Column { name: "snr_db", also: &["snr"] },
        Column { name: "spreading_factor", also: &["sf"] },
        Column { name: "data_rate", also: &["dr"] },
        Column { name: "power_dbm", also: &["tx_power", "power"] },
        Column { name: "device", also: &["dev_eui", "device_name"] },
        Column { name: "counter", also: &["fcnt", "frame_counter"] },
    ],
    needed: &[&["time"], &["latitude_deg"], &["longitude_deg"], &["spreading_factor", "data_rate"]],
    most_rows: MOST_ROWS,
};

/// An uplink of a drive test.
#[derive(Debug, Clone, PartialEq)]
pub struct DriveUplink {
    /// When.
    pub at: DateTime<Utc>,
    /// Latitude and longitude.
    pub place: (f64, f64),
    /// What sent it, as the file names it.
    pub device: String,
    /// The frame counter, as the file has it.
    pub counter: String,
    /// The index of its data rate.
    pub data_rate: u8,
    /// The SNR that the data rate needs, in dB.
    pub needed_snr_db: f64,
    /// What was transmitted, in dBm.
    pub power_dbm: Option<f64>,
    /// Each gateway that heard it, with RSSI in dBm and SNR in dB.
    pub heard: Vec<(Eui64, f32, f32)>,
}

/// A drive test as it was read.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct DriveTest {
    /// The uplinks, in the order of the file.
    pub uplinks: Vec<DriveUplink>,
    /// The first mistakes: the line of each, and what is wrong with it.
    pub wrong: Vec<(u64, Problem)>,
    /// How many rows were left out.
    pub left_out: usize,
    /// Columns that were passed over.
    pub passed_over: Vec<String>,
}

/// Reads a drive test. `columns` says which of its columns is which of ours; others are known by their usual names, and what
/// is not known is passed over. Rows of one uplink follow one another: the same time, place, device and counter. A row
/// without RSSI was heard by nobody. `gateway` finds a gateway by name or EUI.
///
/// # Errors
/// The file is no table, a column is missing, or a named column is none of ours.
pub fn read(
    csv: &str,
    columns: &BTreeMap<String, String>,
    (region, gateway): (Region, impl Fn(&str) -> Option<Eui64>),
) -> Result<DriveTest, Problem> {
    let wanted: BTreeMap<&str, &'static str> = columns
        .iter()
        .map(|(theirs, ours)| {
            let found = SHAPE.columns.iter().find(|column| column.name == ours).map(|column| column.name);
            let names: Vec<&str> = SHAPE.columns.iter().map(|column| column.name).collect();
            let allowed = format!("the columns are {}", names.join(", "));
            Ok((theirs.as_str(), found.ok_or_else(|| bad_field("columns", ours, allowed))?))
        })
        .collect::<Result<_, Problem>>()?;
    let taken: Vec<&str> = wanted.values().copied().collect();
    let passed_over = RefCell::new(Vec::new());
    let named = |name: &str| {
        let known = wanted.get(name.trim()).copied();
        // A column that was named goes before one with the usual name.
        let found = known.or_else(|| SHAPE.find(name).ok().filter(|usual| !taken.contains(usual)));
        if found.is_none() {
            passed_over.borrow_mut().push(name.trim().to_owned());
        }
        Ok(found)
    };
    let rows = SHAPE.read_as(csv, named)?;
    let mut test = DriveTest { passed_over: passed_over.take(), ..DriveTest::default() };
    for row in rows {
        match uplink(&row, region, &gateway) {
            Ok(uplink) => match test.uplinks.last_mut().filter(|last| last.is_same(&uplink)) {
                Some(last) => last.heard.extend(uplink.heard),
                None => test.uplinks.push(uplink),
            },
            Err(problem) => {
                test.left_out += 1;
                if test.wrong.len() < MOST_TOLD {
                    test.wrong.push((row.line, problem));
                }
            }
        }
    }
    Ok(test)
}

impl DriveUplink {
    fn is_same(&self, other: &Self) -> bool {
        (self.at, self.place, self.data_rate) == (other.at, other.place, other.data_rate)
            && (&self.device, &self.counter) == (&other.device, &other.counter)
    }
}

fn number(row: &Row, column: &'static str) -> Result<Option<f64>, Problem> {
    let text = row.cell(column);
    if text.is_empty() {
        return Ok(None);
    }
    let read = text.replace(',', ".").parse::<f64>().ok().filter(|number| number.is_finite());
    read.map(Some).ok_or_else(|| bad_field(column, text, "a number is wanted"))
}

fn within(row: &Row, column: &'static str, range: std::ops::RangeInclusive<f64>) -> Result<Option<f64>, Problem> {
    let value = number(row, column)?;
    match value.filter(|value| !range.contains(value)) {
        Some(value) => {
            Err(bad_field(column, &value.to_string(), format!("{} to {} is allowed", range.start(), range.end())))
        }
        None => Ok(value),
    }
}

fn needed(row: &Row, column: &'static str, range: std::ops::RangeInclusive<f64>) -> Result<f64, Problem> {
    within(row, column, range)?.ok_or_else(|| bad_field(column, "nothing", "a number is wanted"))
}

/// A time: RFC 3339, the same without its zone (UTC), or seconds or milliseconds since 1970.
fn time(text: &str) -> Result<DateTime<Utc>, Problem> {
    let plain = ["%Y-%m-%dT%H:%M:%S%.f", "%Y-%m-%d %H:%M:%S%.f", "%Y-%m-%d %H:%M"];
    let as_number = || {
        let number = text.parse::<f64>().ok().filter(|number| number.is_finite())?;
        let ms = if number.abs() < 1e11 { number * 1000.0 } else { number };
        DateTime::from_timestamp_millis(ms as i64)
    };
    let zoned = DateTime::parse_from_rfc3339(text).ok().map(|at| at.to_utc());
    let unzoned =
        || plain.iter().find_map(|form| NaiveDateTime::parse_from_str(text, form).ok()).map(|at| at.and_utc());
    zoned.or_else(unzoned).or_else(as_number).ok_or_else(|| {
        bad_field(
            "time",
            text,
            "2026-05-04T09:12:33Z, 2026-05-04 09:12:33 (UTC), or seconds or milliseconds since 1970 are wanted",
        )
    })
}

/// The data rate of a row: its index, and the SNR that it needs.
fn rate(row: &Row, region: Region) -> Result<(u8, f64), Problem> {
    let plan = region.plan();
    let factor = row.cell("spreading_factor");
    if !factor.is_empty() {
        let digits =
            factor.trim_start_matches(|c: char| !c.is_ascii_digit()).split(|c: char| !c.is_ascii_digit()).next();
        let known = digits.and_then(|digits| digits.parse().ok()).and_then(SpreadingFactor::new);
        let known = known.ok_or_else(|| bad_field("spreading_factor", factor, "7 to 12, or SF7 to SF12, is wanted"))?;
        let index = Modulation::lora(known.value(), 125).and_then(|lora| plan.uplink_data_rate_of(lora));
        return Ok((index.unwrap_or_default(), known.required_snr_db()));
    }
    let text = row.cell("data_rate");
    let index: Option<u8> = text.trim_start_matches(['D', 'd', 'R', 'r']).parse().ok();
    let needed = index.and_then(|index| plan.data_rate(index)).and_then(|rate| rate.modulation.required_snr_db());
    let found = index.zip(needed);
    found.ok_or_else(|| bad_field("data_rate", text, format!("a LoRa data rate of {} is wanted", region.name())))
}

fn uplink(row: &Row, region: Region, gateway: impl Fn(&str) -> Option<Eui64>) -> Result<DriveUplink, Problem> {
    let place = (needed(row, "latitude_deg", -90.0..=90.0)?, needed(row, "longitude_deg", -180.0..=180.0)?);
    let (data_rate, needed_snr_db) = rate(row, region)?;
    let mut heard = Vec::new();
    if let Some(rssi_dbm) = within(row, "rssi_dbm", -200.0..=20.0)? {
        let name = row.cell("gateway");
        let found = gateway(name)
            .ok_or_else(|| bad_field("gateway", name, "no gateway of this estate has this name or EUI"))?;
        let snr_db = needed(row, "snr_db", -40.0..=40.0)?;
        heard.push((found, rssi_dbm as f32, snr_db as f32));
    }
    Ok(DriveUplink {
        at: time(row.cell("time"))?,
        place,
        device: row.cell("device").to_owned(),
        counter: row.cell("counter").to_owned(),
        data_rate,
        needed_snr_db,
        power_dbm: within(row, "power_dbm", -10.0..=40.0)?,
        heard,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn gateway(name: &str) -> Option<Eui64> {
        ["chapel-rise", "gull-tower"].iter().position(|one| *one == name).map(|n| Eui64(n as u64 + 1))
    }

    fn test(csv: &str, columns: &[(&str, &str)]) -> Result<DriveTest, Problem> {
        let columns = columns.iter().map(|(theirs, ours)| ((*theirs).to_owned(), (*ours).to_owned())).collect();
        read(csv, &columns, (Region::Eu868, gateway))
    }

    #[test]
    fn rows_of_one_uplink_are_one_and_silence_counts() {
        let csv = "time;lat;lon;gateway;rssi;snr;sf;battery\n\
            2026-05-04 09:12:00;54.70;3.90;chapel-rise;-101;4,5;SF9;80\n\
            2026-05-04 09:12:00;54.70;3.90;gull-tower;-118;-6;SF9;80\n\
            2026-05-04T09:13:00Z;54.71;3.91;;;;9;80\n";
        let read = test(csv, &[]).unwrap();
        assert_eq!((read.uplinks.len(), read.wrong.len()), (2, 0), "{read:?}");
        assert_eq!(read.uplinks[0].heard, [(Eui64(1), -101.0, 4.5), (Eui64(2), -118.0, -6.0)]);
        assert_eq!((read.uplinks[0].data_rate, read.uplinks[0].needed_snr_db), (3, -12.5));
        assert!(read.uplinks[1].heard.is_empty());
        assert_eq!(read.passed_over, ["battery"]);
    }

    #[test]
    fn columns_are_named_by_the_one_who_knows_them() {
        let csv = "when,breite,laenge,station,pegel,abstand,dr,lat\n1777885953,54.7,3.9,chapel-rise,-99,3,DR5,0\n";
        let names = [
            ("when", "time"),
            ("breite", "latitude_deg"),
            ("laenge", "longitude_deg"),
            ("station", "gateway"),
            ("pegel", "rssi_dbm"),
            ("abstand", "snr_db"),
        ];
        let read = test(csv, &names).unwrap();
        assert_eq!(read.uplinks[0].place, (54.7, 3.9), "the named column goes before the usual one");
        assert_eq!(read.uplinks[0].at.to_rfc3339(), "2026-05-04T09:12:33+00:00");
        let why = test(csv, &names[1..]).unwrap_err().to_string();
        assert!(why.contains("the column time is missing"), "{why}");
        let why = test(csv, &[("when", "clock")]).unwrap_err().to_string();
        assert!(why.contains("clock") && why.contains("spreading_factor"), "{why}");
    }

    #[test]
    fn times_are_read_as_people_write_them() {
        let read = |text: &str| time(text).map(|at| at.to_rfc3339()).map_err(|why| why.to_string());
        let noon = Ok("2026-05-04T12:00:00+00:00".to_owned());
        for text in [
            "2026-05-04T12:00:00Z",
            "2026-05-04T14:00:00+02:00",
            "2026-05-04 12:00:00",
            "2026-05-04 12:00",
            "1777896000",
            "1777896000000",
        ] {
            assert_eq!(read(text), noon, "{text}");
        }
        assert!(read("noon").unwrap_err().contains("milliseconds since 1970"));
        assert!(read("").is_err() && read("NaN").is_err());
    }

    proptest::proptest! {
        #[test]
        fn any_table_is_read_or_refused(text in "[ -~\n;,]{0,300}", theirs in "[a-z]{0,8}", ours in 0usize..13) {
            let ours = SHAPE.columns.get(ours).map_or("nothing", |column| column.name);
            let _ = test(&format!("time,lat,lon,sf,{theirs}\n{text}"), &[(&theirs, ours)]);
            let _ = test(&text, &[]);
        }
    }

    #[test]
    fn a_bad_row_costs_itself() {
        let csv = "time,latitude_deg,longitude_deg,gateway,rssi_dbm,snr_db,spreading_factor\n\
            yesterday,54.7,3.9,chapel-rise,-99,3,9\n\
            2026-05-04T09:12:33Z,95,3.9,chapel-rise,-99,3,9\n\
            2026-05-04T09:12:33Z,54.7,3.9,nowhere,-99,3,9\n\
            2026-05-04T09:12:33Z,54.7,3.9,chapel-rise,-99,,9\n\
            2026-05-04T09:12:33Z,54.7,3.9,chapel-rise,-99,3,13\n\
            2026-05-04T09:12:33Z,54.7,3.9,chapel-rise,-99,3,9\n";
        let read = test(csv, &[]).unwrap();
        let fields: Vec<_> =
            read.wrong.iter().map(|(line, why)| (*line, why.field.clone().unwrap_or_default())).collect();
        let wanted = [(2, "time"), (3, "latitude_deg"), (4, "gateway"), (5, "snr_db"), (6, "spreading_factor")];
        assert_eq!(fields, wanted.map(|(line, field)| (line, field.to_owned())));
        assert_eq!((read.uplinks.len(), read.left_out), (1, 5));
    }
}
