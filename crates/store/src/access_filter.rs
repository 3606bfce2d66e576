//! A part of an estate: what somebody sees who does not see all of it.

use lorawan::Eui64;
use sqlx::{MySql, QueryBuilder};

use crate::EstateId;
use crate::rows::eui_bytes;

/// Some fleets, by short name, and some devices; nothing if both are empty.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct AccessFilter {
    /// Its fleets.
    pub fleets: Vec<String>,
    /// Its devices.
    pub devices: Vec<Eui64>,
}

impl AccessFilter {
    /// Whether it lets nothing through.
    pub fn is_empty(&self) -> bool {
        self.fleets.is_empty() && self.devices.is_empty()
    }

    /// Whether a device of this fleet is in it.
    pub fn covers(&self, dev_eui: Eui64, fleet: &str) -> bool {
        self.devices.contains(&dev_eui) || self.fleets.iter().any(|slug| slug == fleet)
    }

    /// Limits a statement to rows whose device is in the part.
    pub(crate) fn limit(&self, query: &mut QueryBuilder<MySql>, column: &str, estate_id: EstateId) {
        query.push(" AND (FALSE");
        if !self.devices.is_empty() {
            query.push(" OR ").push(column).push(" IN (");
            let mut list = query.separated(", ");
            for eui in &self.devices {
                list.push_bind(eui_bytes(*eui));
            }
            query.push(")");
        }
        if !self.fleets.is_empty() {
            query.push(" OR ").push(column);
            query.push(
                " IN (SELECT pd.dev_eui FROM devices pd JOIN fleets pf ON pf.id = pd.fleet_id WHERE pf.estate_id = ",
            );
            query.push_bind(estate_id).push(" AND pf.slug IN (");
            let mut list = query.separated(", ");
            for slug in &self.fleets {
                list.push_bind(slug.clone());
            }
            query.push("))");
        }
        query.push(")");
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn statement(part: &AccessFilter) -> String {
        let mut query = QueryBuilder::<MySql>::new("SELECT 1 FROM messages WHERE estate_id = 1");
        part.limit(&mut query, "dev_eui", 1);
        query.sql().as_str().to_owned()
    }

    #[test]
    fn an_empty_part_lets_no_row_through() {
        assert!(statement(&AccessFilter::default()).ends_with(" AND (FALSE)"));
    }

    #[test]
    fn devices_and_fleets_are_bound_not_written() {
        let part = AccessFilter { fleets: vec!["a'b".into(), "c".into()], devices: vec![Eui64(1)] };
        let sql = statement(&part);
        assert!(sql.contains("OR dev_eui IN (?) OR dev_eui IN (SELECT") && sql.contains("pf.slug IN (?, ?)"), "{sql}");
        assert!(!sql.contains("a'b"));
        assert!(part.covers(Eui64(1), "x") && part.covers(Eui64(2), "c") && !part.covers(Eui64(2), "x"));
    }
}
