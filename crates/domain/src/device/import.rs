//! Reading devices from a CSV file, and writing them to one.

use std::collections::{BTreeMap, HashMap};
use std::str::FromStr;

use api::device::DeviceKeys;
use api::device::import::ImportOptions;
use api::device::place::Place;
use api::device::register::{NewDevice, PersonalSession, RunningCounters};
use api::gateway::import::{Fate, ImportedRow};
use api::problem::{Problem, bad_field};
use api::secret::Secret;
use lorawan::Eui64;

use crate::csv;
use crate::csv::{Column, Row, Shape, word, yes};
use crate::device::register::{CheckedDevice, RegistrationContext};
use crate::device::{place, register};

/// Devices of one file.
pub const MOST_ROWS: usize = 20_000;

/// A file's bytes at most.
pub const LARGEST: usize = 16 << 20;

/// The columns a file can have, in the order in which they are written.
const SHAPE: Shape = Shape {
    columns: &[
        Column::new("dev_eui"),
        Column { name: "join_eui", also: &["app_eui"] },
        Column::new("app_key"),
        Column::new("nwk_key"),
        Column::new("name"),
        Column::new("fleet"),
        Column::new("model"),
        Column::new("profile"),
        Column::new("region"),
        Column::new("class"),
        Column::new("mac_version"),
        Column::new("dev_addr"),
        Column::new("nwk_s_key"),
        Column::new("app_s_key"),
        Column::new("s_nwk_s_int_key"),
        Column::new("nwk_s_enc_key"),
        Column::new("counter_restart"),
        // Read, and not written: a session goes on in one place only.
        Column::new("last_counter_up"),
        Column::new("next_counter_down"),
        Column::new("next_app_counter_down"),
        Column::new("last_dev_nonce"),
        Column::new("next_join_nonce"),
        Column::new("hardware"),
        Column::new("firmware"),
        Column::new("latitude_deg"),
        Column::new("longitude_deg"),
        Column::new("height_m"),
        Column::new("indoor"),
        Column::new("antenna_gain_dbi"),
        Column::new("penetration_loss_db"),
        Column::new("attributes"),
        Column::new("tags"),
        Column::new("description"),
        // Read, and not written: it says nothing that the EUIs do not.
        Column::new("label"),
    ],
    needed: &[&["dev_eui", "label"]],
    most_rows: MOST_ROWS,
};

/// A row and its result.
pub struct CheckedRow {
    row: Row,
    /// The device, or what is wrong.
    pub device: Result<CheckedDevice, Problem>,
}

fn new_device(options: &ImportOptions, row: &Row) -> Result<NewDevice, Problem> {
    let or = |column: &str, given: &Option<String>| -> Option<String> {
        Some(row.cell(column)).filter(|cell| !cell.is_empty()).map(str::to_owned).or_else(|| given.clone())
    };
    let cell = |column: &str| or(column, &None);
    let secret = |column: &str| cell(column).map(Secret::from);
    let mut new = NewDevice {
        label: cell("label"),
        dev_eui: row.cell("dev_eui").into(),
        join_eui: or("join_eui", &options.join_eui).unwrap_or_default(),
        app_key: secret("app_key"),
        nwk_key: secret("nwk_key"),
        name: row.cell("name").into(),
        fleet: or("fleet", &options.fleet).unwrap_or_default(),
        model: or("model", &options.model),
        profile: or("profile", &options.profile),
        description: row.cell("description").into(),
        hardware: cell("hardware"),
        firmware: cell("firmware"),
        tags: row.cell("tags").split([' ', ',', ';']).filter(|t| !t.is_empty()).map(str::to_owned).collect(),
        ..NewDevice::default()
    };
    for (column, text) in &row.cells {
        match *column {
            "region" => new.region = Some(word(column, text, "a region's common name, such as EU868")?),
            "class" => new.radio.class = Some(word(column, text, "A, B or C")?),
            "mac_version" => {
                new.radio.mac_version = Some(word(column, text, "a version of LoRaWAN, 1.0.0 to 1.0.4 or 1.1")?);
            }
            "attributes" => new.attributes = place::of_line(text)?,
            "counter_restart" => new.radio.counter_restart = Some(yes(column, text)?),
            _ => {}
        }
    }
    new.place = place_of(row)?;
    if let Some(dev_addr) = cell("dev_addr") {
        let session = PersonalSession {
            dev_addr,
            app_s_key: row.cell("app_s_key").into(),
            nwk_s_key: row.cell("nwk_s_key").into(),
            s_nwk_s_int_key: secret("s_nwk_s_int_key"),
            nwk_s_enc_key: secret("nwk_s_enc_key"),
        };
        // Beside a root key it is the session of a join.
        match new.app_key.is_some() || new.nwk_key.is_some() {
            true => new.session = Some(session),
            false => new.personal = Some(session),
        }
    }
    new.counters = counters_of(row)?;
    Ok(new)
}

/// Columns that are read, and not written.
const READ_ONLY: [&str; 6] =
    ["label", "last_counter_up", "next_counter_down", "next_app_counter_down", "last_dev_nonce", "next_join_nonce"];

/// A row's number in a column, if there is one.
fn number<T: FromStr>(row: &Row, column: &str) -> Result<Option<T>, Problem> {
    let text = row.cell(column);
    if text.is_empty() { Ok(None) } else { csv::number(column, text).map(Some) }
}

/// A row's counters of a session that goes on here.
fn counters_of(row: &Row) -> Result<Option<RunningCounters>, Problem> {
    let next_counter_down = number(row, "next_counter_down")?;
    let counters = RunningCounters {
        last_counter_up: number(row, "last_counter_up")?,
        next_counter_down: next_counter_down.unwrap_or_default(),
        next_app_counter_down: number(row, "next_app_counter_down")?,
        last_dev_nonce: number(row, "last_dev_nonce")?,
        next_join_nonce: number(row, "next_join_nonce")?,
    };
    Ok(Some(counters).filter(|counters| next_counter_down.is_some() || *counters != RunningCounters::default()))
}

/// A row's place: latitude and longitude go together.
fn place_of(row: &Row) -> Result<Option<Place>, Problem> {
    let indoor =
        Some(row.cell("indoor")).filter(|text| !text.is_empty()).map(|text| yes("indoor", text)).transpose()?;
    let about = Place {
        height_m: number(row, "height_m")?,
        indoor,
        antenna_gain_dbi: number(row, "antenna_gain_dbi")?,
        penetration_loss_db: number(row, "penetration_loss_db")?,
        ..Place::default()
    };
    match (number(row, "latitude_deg")?, number(row, "longitude_deg")?) {
        (Some(latitude_deg), Some(longitude_deg)) => Ok(Some(Place { latitude_deg, longitude_deg, ..about })),
        (None, None) if about == Place::default() => Ok(None),
        (None, _) => Err(bad_field("latitude_deg", "", "it is needed for a place")),
        (_, None) => Err(bad_field("longitude_deg", "", "it is needed for a place")),
    }
}

/// Reads a file's text; a bad row does not affect the others. Of two rows with one DevEUI or name the
/// second is refused.
pub fn read(
    options: &ImportOptions,
    text: &str,
    estate: &mut RegistrationContext<'_>,
) -> Result<Vec<CheckedRow>, Problem> {
    let mut euis: HashMap<Eui64, u64> = HashMap::new();
    let mut names: HashMap<String, u64> = HashMap::new();
    let rows = SHAPE.read(text)?.into_iter();
    Ok(rows
        .map(|row| {
            let mut device = match row.excess.clone() {
                Some(problem) => Err(problem),
                None => new_device(options, &row).and_then(|new| register::check(&new, estate)),
            };
            if let Ok(good) = &device {
                let twin =
                    |field, value: &str, line: &u64| bad_field(field, value, format!("line {line} has it already"));
                let twin = match (euis.get(&good.dev_eui), names.get(&good.name)) {
                    (Some(line), _) => Some(twin("dev_eui", &good.dev_eui.to_string(), line)),
                    (_, Some(line)) => Some(twin("name", &good.name, line)),
                    (None, None) => None,
                };
                euis.entry(good.dev_eui).or_insert(row.line);
                names.entry(good.name.clone()).or_insert(row.line);
                if let Some(problem) = twin {
                    device = Err(problem);
                }
            }
            CheckedRow { row, device }
        })
        .collect())
}

impl CheckedRow {
    /// Its line in the file.
    pub fn line(&self) -> u64 {
        self.row.line
    }

    /// As it is shown.
    pub fn shown(self, good: Fate) -> ImportedRow {
        let (eui, name) = match &self.device {
            Ok(device) => (device.dev_eui.to_string(), device.name.clone()),
            Err(_) => (self.row.cell("dev_eui").to_owned(), self.row.cell("name").to_owned()),
        };
        let (fate, problem) = match self.device {
            Ok(_) => (good, None),
            Err(problem) => (Fate::Bad, Some(problem)),
        };
        ImportedRow { line: self.row.line, eui, name, fate, problem }
    }
}

/// A device as a row of the same columns; keys only if they are given.
#[derive(Debug, Clone, PartialEq)]
pub struct ExportRow {
    /// The device's DevEUI.
    pub dev_eui: Eui64,
    /// Its JoinEUI.
    pub join_eui: Option<Eui64>,
    /// Its name.
    pub name: String,
    /// The short name of its fleet.
    pub fleet: String,
    /// The short name of its model.
    pub model: Option<String>,
    /// The short name of its radio profile.
    pub profile: Option<String>,
    /// Its region.
    pub region: lorawan::region::Region,
    /// Its radio settings.
    pub radio: api::radio::settings::RadioSettings,
    /// Its hardware version.
    pub hardware: Option<String>,
    /// Its firmware version.
    pub firmware: Option<String>,
    /// Where it is.
    pub place: Option<Place>,
    /// What else is known of it.
    pub attributes: BTreeMap<String, String>,
    /// Its tags.
    pub tags: Vec<String>,
    /// Its description.
    pub description: String,
    /// Its keys.
    pub keys: Option<DeviceKeys>,
}

/// Devices as a file that can be imported again.
pub fn export(rows: impl IntoIterator<Item = ExportRow>) -> String {
    let head: Vec<&str> =
        SHAPE.columns.iter().map(|column| column.name).filter(|name| !READ_ONLY.contains(name)).collect();
    let rows: Vec<Vec<String>> = rows
        .into_iter()
        .map(|d| {
            let keys =
                d.keys.unwrap_or(DeviceKeys { dev_eui: d.dev_eui, app_key: None, nwk_key: None, personal: None });
            let session = |of: fn(&PersonalSession) -> Option<String>| keys.personal.as_ref().and_then(of);
            let cells = [
                Some(d.dev_eui.to_string()),
                d.join_eui.map(|eui| eui.to_string()),
                keys.app_key.as_deref().map(str::to_owned),
                keys.nwk_key.as_deref().map(str::to_owned),
                Some(d.name),
                Some(d.fleet),
                d.model,
                d.profile,
                Some(d.region.name().into()),
                d.radio.class.map(|class| class.name().into()),
                d.radio.mac_version.map(|version| version.name().into()),
                session(|p| Some(p.dev_addr.clone())),
                session(|p| Some(p.nwk_s_key.to_string())),
                session(|p| Some(p.app_s_key.to_string())),
                session(|p| p.s_nwk_s_int_key.as_deref().map(str::to_owned)),
                session(|p| p.nwk_s_enc_key.as_deref().map(str::to_owned)),
                d.radio.counter_restart.map(|yes| if yes { "yes" } else { "no" }.into()),
                d.hardware,
                d.firmware,
                d.place.map(|place| place.latitude_deg.to_string()),
                d.place.map(|place| place.longitude_deg.to_string()),
                d.place.and_then(|place| place.height_m).map(|m| m.to_string()),
                d.place.and_then(|place| place.indoor).map(|yes| if yes { "yes" } else { "no" }.into()),
                d.place.and_then(|place| place.antenna_gain_dbi).map(|dbi| dbi.to_string()),
                d.place.and_then(|place| place.penetration_loss_db).map(|db| db.to_string()),
                Some(place::line(&d.attributes)),
                Some(d.tags.join(" ")),
                Some(d.description),
            ];
            cells.into_iter().map(Option::unwrap_or_default).collect()
        })
        .collect();
    csv::write(&head, rows)
}

#[cfg(test)]
mod tests {
    use crate::device::state::device_keys;
    use lorawan::NetId;
    use lorawan::region::Region;

    use super::*;
    use crate::device::register::EstateDefaults;
    use api::radio::settings::Class;

    fn read(csv: &str, options: &ImportOptions) -> Result<Vec<CheckedRow>, Problem> {
        let defaults = EstateDefaults { fleets: [("tide".into(), None)].into(), ..EstateDefaults::default() };
        let mut random = || [9; 16];
        super::read(
            options,
            csv,
            &mut RegistrationContext {
                defaults: &defaults,
                net_id: NetId::new(0),
                taken: &|_| false,
                preview: false,
                random: &mut random,
            },
        )
    }

    const KEY: &str = "7d14b209e65a813cf0279b4ed8631ac5";

    #[test]
    fn rows_are_read_each_by_itself() {
        let csv = format!(
            "DevEUI;AppEUI;App Key;Name;class;tags\n\
             02-B0-01-00-00-00-00-01;02aa000000000001;{KEY};tide-01;c;pier north\n\
             02b0010000000002;02aa000000000001;generate;tide-02;;\n\
             02b0010000000003;02aa000000000001;short;tide-03;;\n\
             02b0010000000001;02aa000000000001;{KEY};tide-04;;\n\
             02b0010000000005;02aa000000000001;{KEY};tide-02;;\n\
             02b0010000000006;02aa000000000001;{KEY};tide-06;D;\n"
        );
        let options = ImportOptions { fleet: Some("tide".into()), ..ImportOptions::default() };
        let rows = read(&csv, &options).unwrap();
        let first = rows[0].device.as_ref().unwrap();
        assert_eq!((first.radio.class, first.tags.len(), first.fleet.as_str()), (Some(Class::C), 2, "tide"));
        assert!(rows[1].device.is_ok());
        let said = |n: usize| rows[n].device.as_ref().unwrap_err().to_string();
        assert!(said(2).starts_with("app_key") && !said(2).contains("short"), "{}", said(2));
        assert!(said(3).contains("line 2 has it already") && said(3).starts_with("dev_eui"), "{}", said(3));
        assert!(said(4).contains("line 3 has it already") && said(4).starts_with("name"), "{}", said(4));
        assert!(said(5).contains("A, B or C"), "{}", said(5));
        assert_eq!(
            read(&csv, &ImportOptions::default()).unwrap()[0].device.as_ref().unwrap_err().field.as_deref(),
            Some("fleet")
        );
    }

    #[test]
    fn a_session_beside_a_root_key_goes_on() {
        let csv = format!(
            "dev_eui,join_eui,app_key,fleet,dev_addr,nwk_s_key,app_s_key,last_counter_up,next_counter_down,last_dev_nonce\n\
             02b0010000000001,02aa000000000001,{KEY},tide,01ab23cd,{KEY},{KEY},412,57,9\n\
             02b0010000000002,,,tide,01ab23ce,{KEY},{KEY},7,,\n02b0010000000003,02aa000000000001,{KEY},tide,,,,7,,\n\
             02b0010000000004,02aa000000000001,{KEY},tide,01ab23cd,{KEY},{KEY},many,,\n"
        );
        let rows = read(&csv, &ImportOptions::default()).unwrap();
        let first = rows[0].device.as_ref().unwrap();
        assert!(matches!(first.activation, engine::Activation::OverTheAir(_)));
        let running = first.running.as_ref().unwrap();
        assert_eq!((running.session.counters.up, running.session.counters.next_down), (Some(412), 57));
        assert_eq!((running.dev_nonce, running.nonces.next_join_nonce), (Some(9), 1));
        let fixed = rows[1].device.as_ref().unwrap();
        assert_eq!(fixed.running.as_ref().unwrap().session.counters.up, Some(7));
        let field = |n: usize| rows[n].device.as_ref().unwrap_err().field.clone().unwrap();
        assert_eq!((field(2), field(3)), ("counters".to_owned(), "last_counter_up".to_owned()));
    }

    #[test]
    fn a_place_is_whole_or_not_there() {
        let csv = format!(
            "dev_eui,join_eui,app_key,fleet,latitude_deg,longitude_deg,height_m\n\
             02b0010000000001,02aa000000000001,{KEY},tide,54.7,,\n02b0010000000002,02aa000000000001,{KEY},tide,,,2\n\
             02b0010000000003,02aa000000000001,{KEY},tide,154.7,3,\n02b0010000000004,02aa000000000001,{KEY},tide,54.7,3,2\n"
        );
        let rows = read(&csv, &ImportOptions::default()).unwrap();
        let field = |n: usize| rows[n].device.as_ref().unwrap_err().field.clone().unwrap();
        assert_eq!(
            (field(0), field(1), field(2)),
            ("longitude_deg".to_owned(), "latitude_deg".to_owned(), "place.latitude_deg".to_owned())
        );
        assert_eq!(rows[3].device.as_ref().unwrap().place.unwrap().height_m, Some(2.0));
    }

    #[test]
    fn labels_stand_for_both_euis() {
        let csv = format!(
            "label,app_key,fleet\nLW:D0:02AA000000000001:02B0010000000001:FB010002,{KEY},tide\n\
             LW:D0:02AA000000000001:02B00100,{KEY},tide\n,{KEY},tide\n"
        );
        let rows = read(&csv, &ImportOptions::default()).unwrap();
        assert_eq!(rows[0].device.as_ref().unwrap().dev_eui, Eui64(0x02b0_0100_0000_0001));
        let field = |n: usize| rows[n].device.as_ref().unwrap_err().field.clone();
        assert_eq!((field(1).as_deref(), field(2).as_deref()), (Some("label"), Some("dev_eui")));
        let why = read("name,fleet\na,b\n", &ImportOptions::default()).err().unwrap().to_string();
        assert!(why.contains("the column dev_eui or label is missing"), "{why}");
    }

    #[test]
    fn what_is_exported_is_imported_again() {
        let csv = format!(
            "dev_eui,join_eui,name,fleet,dev_addr,nwk_s_key,app_s_key,counter_restart,latitude_deg,longitude_deg,indoor,\
             antenna_gain_dbi,attributes,description\n\
             02b0010000000001,02aa000000000001,=tide,tide,01ab23cd,{KEY},{KEY},yes,54.689,-3.942,no,-1.5,pole=12; owner=x,\
             \"two\nlines\"\n"
        );
        let rows = read(&csv, &ImportOptions::default()).unwrap();
        let device = rows[0].device.clone().unwrap();
        let row = ExportRow {
            dev_eui: device.dev_eui,
            join_eui: device.join_eui,
            name: device.name.clone(),
            fleet: device.fleet.clone(),
            model: None,
            profile: None,
            region: Region::Eu868,
            radio: device.radio.clone(),
            hardware: None,
            firmware: None,
            place: device.place,
            attributes: device.attributes.clone(),
            tags: device.tags.clone(),
            description: device.description.clone(),
            keys: Some(device_keys(device.dev_eui, &device.activation)),
        };
        let text = export([row]);
        assert!(text.contains("'=tide"), "{text}");
        assert_eq!(read(&text, &ImportOptions::default()).unwrap()[0].device, Ok(device));
    }
}
