//! What stands on the ground: classes of cover, each with a height and a loss.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::range::{RangeError, within};

/// How cover around an antenna shields it (ITU-R P.1812-4, Table 6).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Shield {
    /// The sea.
    Sea,
    /// A lake or a river.
    Water,
    /// Open country: grass, heath, sand, rock.
    Open,
    /// Low houses with gardens.
    Suburban,
    /// Trees, or a town.
    TreesOrTown,
    /// High buildings without gaps.
    DenseTown,
}

impl Shield {
    /// Whether radio waves travel over water there.
    pub const fn is_water(self) -> bool {
        matches!(self, Self::Sea | Self::Water)
    }
}

/// A class of cover.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CoverClass {
    /// Its name.
    pub name: String,
    /// How high it stands above the ground, in metres.
    pub height_m: f64,
    /// Lost by an antenna that stands within it, in models that do not compute this themselves, in dB.
    pub loss_db: f64,
    /// How it shields an antenna.
    pub shield: Shield,
}

/// The classes by the number that a raster gives them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct CoverTable(BTreeMap<u16, CoverClass>);

/// Cover of a number that a table does not have, and of places without any.
static BARE: CoverClass = CoverClass { name: String::new(), height_m: 0.0, loss_db: 0.0, shield: Shield::Open };

/// Number, name, height in metres, loss in dB, shield. Heights are those of P.1812-4 Table 2 where it has the class.
const USUAL: [(u16, &str, f64, f64, Shield); 11] = [
    (1, "sea", 0.0, 0.0, Shield::Sea),
    (2, "lake or river", 0.0, 0.0, Shield::Water),
    (3, "tidal flat", 0.0, 0.0, Shield::Open),
    (4, "grass and heath", 0.0, 0.0, Shield::Open),
    (5, "sand and dunes", 0.0, 0.0, Shield::Open),
    (6, "rock", 0.0, 0.0, Shield::Open),
    (7, "scrub", 3.0, 2.0, Shield::Open),
    (8, "wood", 15.0, 8.0, Shield::TreesOrTown),
    (9, "village", 7.0, 5.0, Shield::Suburban),
    (10, "town", 15.0, 10.0, Shield::TreesOrTown),
    (11, "dense town", 20.0, 14.0, Shield::DenseTown),
];

impl Default for CoverTable {
    fn default() -> Self {
        Self(
            USUAL
                .into_iter()
                .map(|(number, name, height_m, loss_db, shield)| {
                    (number, CoverClass { name: name.into(), height_m, loss_db, shield })
                })
                .collect(),
        )
    }
}

impl CoverTable {
    /// A table of these classes.
    ///
    /// # Errors
    /// A height or a loss is outside its range.
    pub fn new(classes: impl IntoIterator<Item = (u16, CoverClass)>) -> Result<Self, RangeError> {
        let classes: BTreeMap<_, _> = classes.into_iter().collect();
        for class in classes.values() {
            within("height_m", class.height_m, 0.0..=200.0, "m")?;
            within("loss_db", class.loss_db, 0.0..=60.0, "dB")?;
        }
        Ok(Self(classes))
    }

    /// The class of a raster's number; bare ground if the table has none.
    pub fn class(&self, number: u16) -> &CoverClass {
        self.0.get(&number).unwrap_or(&BARE)
    }

    /// All of them by number.
    pub fn iter(&self) -> impl Iterator<Item = (u16, &CoverClass)> {
        self.0.iter().map(|(number, class)| (*number, class))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_can_be_edited_and_is_checked() {
        let mut table = CoverTable::default();
        assert_eq!((table.class(8).name.as_str(), table.class(8).height_m), ("wood", 15.0));
        assert_eq!(table.class(999), &BARE);
        let json = serde_json::to_string(&table).unwrap();
        assert_eq!(serde_json::from_str::<CoverTable>(&json).unwrap(), table);
        let mut wood = table.class(8).clone();
        wood.height_m = 22.0;
        table = CoverTable::new(table.iter().map(|(n, class)| (n, class.clone())).chain([(8, wood.clone())])).unwrap();
        assert_eq!(table.class(8), &wood);
        wood.height_m = -1.0;
        let refused = CoverTable::new([(8, wood)]).unwrap_err().to_string();
        assert!(refused.contains("height_m is -1 m") && refused.contains("0 to 200 m"), "{refused}");
    }
}
