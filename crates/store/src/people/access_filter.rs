//! Limits statements to the part of an estate that a person may see.

use domain::grants::AccessFilter;
use sqlx::{MySql, QueryBuilder};

use crate::EstateId;
use crate::rows::eui_bytes;

/// Limits a statement to rows whose device is in the part.
pub(crate) fn limit_to(query: &mut QueryBuilder<MySql>, part: &AccessFilter, column: &str, estate_id: EstateId) {
    query.push(" AND (FALSE");
    if !part.devices.is_empty() {
        query.push(" OR ").push(column).push(" IN (");
        let mut list = query.separated(", ");
        for eui in &part.devices {
            list.push_bind(eui_bytes(*eui));
        }
        query.push(")");
    }
    if !part.fleets.is_empty() {
        query.push(" OR ").push(column);
        query
            .push(" IN (SELECT pd.dev_eui FROM devices pd JOIN fleets pf ON pf.id = pd.fleet_id WHERE pf.estate_id = ");
        query.push_bind(estate_id).push(" AND pf.slug IN (");
        let mut list = query.separated(", ");
        for slug in &part.fleets {
            list.push_bind(slug.clone());
        }
        query.push("))");
    }
    query.push(")");
}

#[cfg(test)]
mod tests {
    use lorawan::Eui64;

    use super::*;

    fn statement(part: &AccessFilter) -> String {
        let mut query = QueryBuilder::<MySql>::new("SELECT 1 FROM messages WHERE estate_id = 1");
        limit_to(&mut query, part, "dev_eui", 1);
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
    }
}
