//! Reading gateways from a CSV file.

use std::collections::{HashMap, HashSet};

use api::gateway::import::{Fate, GatewayImport, ImportedRow};
use api::gateway::{GatewayAbout, NewGateway};
use api::problem::{Problem, bad_field};
use lorawan::Eui64;

use crate::csv;
use crate::csv::{Column, Shape, number, yes};
use crate::gateway::check::CheckedGateway;

/// Rows of one file.
pub const MOST_ROWS: usize = 2000;

/// The columns a file can have. `eui` and `name` are needed.
const SHAPE: Shape = Shape {
    columns: &[
        Column::new("eui"),
        Column::new("name"),
        Column::new("description"),
        Column::new("region"),
        Column::new("channels"),
        Column::new("protocol"),
        Column::new("udp_source"),
        Column::new("latitude_deg"),
        Column::new("longitude_deg"),
        Column::new("altitude_m"),
        Column::new("antenna_gain_dbi"),
        Column::new("cable_loss_db"),
        Column::new("open_to_others"),
        Column::new("beacons"),
    ],
    needed: &[&["eui"], &["name"]],
    most_rows: MOST_ROWS,
};

/// A row as it is understood.
pub struct ReadRow {
    /// Its line in the file.
    pub line: u64,
    /// The EUI, as it is written.
    pub eui: String,
    /// The name.
    pub name: String,
    /// What it says, with every field read.
    pub new: Result<NewGateway, Problem>,
}

impl ReadRow {
    /// As it is shown.
    pub fn shown(&self, fate: Fate, problem: Option<Problem>) -> ImportedRow {
        let eui = self.eui.parse::<Eui64>().map_or_else(|_| self.eui.clone(), |eui| eui.to_string());
        ImportedRow { line: self.line, eui, name: self.name.clone(), fate, problem }
    }
}

/// One field of a row.
fn set(about: &mut GatewayAbout, column: &'static str, text: &str) -> Result<(), Problem> {
    match column {
        "name" => about.name = text.into(),
        "description" => about.description = Some(text.into()),
        "region" => {
            about.region = Some(csv::word(column, text, "a region's common name, such as EU868")?);
        }
        "channels" => about.channels = Some(text.into()),
        "protocol" => about.protocol = Some(text.parse().map_err(|why: String| bad_field(column, text, why))?),
        "udp_source" => about.udp_source = Some(text.into()),
        "latitude_deg" => about.latitude_deg = Some(number(column, text)?),
        "longitude_deg" => about.longitude_deg = Some(number(column, text)?),
        "altitude_m" => about.altitude_m = Some(number(column, text)?),
        "antenna_gain_dbi" => about.antenna_gain_dbi = Some(number(column, text)?),
        "cable_loss_db" => about.cable_loss_db = Some(number(column, text)?),
        "open_to_others" => about.open_to_others = Some(yes(column, text)?),
        "beacons" => about.beacons = Some(yes(column, text)?),
        _ => {}
    }
    Ok(())
}

/// Reads the file; a bad row does not affect the others.
pub fn read(import: &GatewayImport) -> Result<Vec<ReadRow>, Problem> {
    let rows = SHAPE.read(&import.csv)?.into_iter();
    Ok(rows
        .map(|row| {
            let (eui, name) = (row.cell("eui").to_owned(), row.cell("name").to_owned());
            let mut about = GatewayAbout::default();
            let new = match row.excess {
                Some(problem) => Err(problem),
                None => row
                    .cells
                    .iter()
                    .try_for_each(|(column, text)| set(&mut about, column, text))
                    .map(|()| NewGateway { eui: eui.clone(), about }),
            };
            ReadRow { line: row.line, eui, name, new }
        })
        .collect())
}

/// Marks rows that repeat an EUI or a name of an earlier row as not registrable.
pub fn refuse_twins(checked: &mut [(ReadRow, Result<CheckedGateway, Problem>)]) {
    let mut euis: HashMap<Eui64, u64> = HashMap::new();
    let mut names: HashSet<String> = HashSet::new();
    for (row, checked) in checked {
        let Ok(gateway) = checked else { continue };
        let twin = match euis.get(&gateway.eui) {
            Some(line) => Some(bad_field("eui", &row.eui, format!("line {line} has it already"))),
            None if names.contains(&gateway.name) => {
                Some(bad_field("name", &gateway.name, "a line before has it already"))
            }
            None => None,
        };
        euis.entry(gateway.eui).or_insert(row.line);
        names.insert(gateway.name.clone());
        if let Some(problem) = twin {
            *checked = Err(problem);
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::Check;
    use lorawan::region::Region;

    use super::*;

    fn read(csv: &str) -> Result<Vec<ReadRow>, Problem> {
        super::read(&GatewayImport { csv: csv.into(), ..GatewayImport::default() })
    }

    #[test]
    fn columns_may_come_in_any_order_case_and_separation() {
        for csv in [
            "eui,name,latitude_deg,region,beacons\n02a1f00000000001,chapel-rise,54.7,EU868,yes\n",
            "\u{feff}Name;EUI;Beacons;Latitude deg;REGION\r\nchapel-rise;02-A1-F0-00-00-00-00-01;TRUE;54,7;eu868\r\n\r\n",
            "NAME\tregion\teui\tlatitude-deg\tbeacons\nchapel-rise\tEU868\t02:a1:f0:00:00:00:00:01\t54.7\t1",
        ] {
            let rows = read(csv).unwrap();
            let new = rows[0].new.as_ref().unwrap();
            assert_eq!((rows.len(), rows[0].line, new.about.name.as_str()), (1, 2, "chapel-rise"), "{csv}");
            assert_eq!(new.check().unwrap().eui, Eui64(0x02a1_f000_0000_0001));
            assert_eq!((new.about.latitude_deg, new.about.region), (Some(54.7), Some(Region::Eu868)));
            assert_eq!(new.about.beacons, Some(true));
        }
    }

    #[test]
    fn what_is_wrong_names_line_field_and_value() {
        let said = |csv: &str| read(csv).map(|_| ()).unwrap_err().to_string();
        assert!(said("name\nx").contains("the column eui is missing"));
        assert!(said("eui,name,colour\n1,x,grey").contains("\"colour\" was given; the columns are eui, name"));
        let rows = read("eui,name,altitude_m,beacons\n1,a,high,\n2,b,,maybe\n3,c,1,no,more\n4,d\n").unwrap();
        let said: Vec<String> =
            rows.iter().map(|row| row.new.as_ref().err().map(ToString::to_string).unwrap_or_default()).collect();
        assert!(said[0].contains("altitude_m") && said[0].contains("\"high\""), "{}", said[0]);
        assert!(said[1].contains("yes or no"), "{}", said[1]);
        assert!(said[2].contains("5 values"), "{}", said[2]);
        assert_eq!((said[3].as_str(), rows[3].line), ("", 5), "cells that are left out are empty");
        let many = "eui,name\n".to_owned() + &"1,x\n".repeat(MOST_ROWS + 1);
        assert!(read(&many).map(|_| ()).unwrap_err().to_string().contains("at most 2000"));
    }

    #[test]
    fn a_second_row_of_one_gateway_is_refused() {
        let csv = "eui,name\n02a1f00000000001,a\n02a1f00000000001,b\n02a1f00000000002,a\n02a1f00000000003,c\n";
        let rows = read(csv).unwrap().into_iter();
        let mut checked: Vec<_> = rows
            .map(|row| {
                let gateway = row.new.as_ref().unwrap().check();
                (row, gateway)
            })
            .collect();
        refuse_twins(&mut checked);
        let fates: Vec<bool> = checked.iter().map(|(_, gateway)| gateway.is_ok()).collect();
        assert_eq!(fates, [true, false, false, true]);
        assert!(checked[1].1.as_ref().unwrap_err().to_string().contains("line 2 has it"));
    }
}
