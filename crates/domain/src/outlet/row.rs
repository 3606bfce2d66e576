//! Messages as rows of a table: the values of a row, and the statements.

use api::outlet::{ColumnKind, SqlColumn, SqlTable};
use chrono::{DateTime, Utc};
use serde_json::Value;

use super::address::Dialect;
use super::shape::field;

/// Characters of a created key: an id has 26, and what a script makes of it may have more.
const KEY_LENGTH: usize = 64;

/// A value of a column.
#[derive(Debug, Clone, PartialEq)]
pub enum Cell {
    /// Text, or nothing.
    Text(Option<String>),
    /// A number.
    Number(Option<f64>),
    /// A whole number.
    Integer(Option<i64>),
    /// True or false.
    Boolean(Option<bool>),
    /// A moment.
    Time(Option<DateTime<Utc>>),
}

/// The row for a message as it is sent.
///
/// # Errors
/// Names the column whose kind does not fit the field, in words.
pub fn row(columns: &[SqlColumn], message: &Value) -> Result<Vec<Cell>, String> {
    columns.iter().map(|column| cell(column, field(message, &column.field))).collect()
}

fn cell(column: &SqlColumn, value: Option<&Value>) -> Result<Cell, String> {
    let value = value.filter(|value| !value.is_null());
    let found = match column.kind {
        ColumnKind::Text => Some(Cell::Text(value.map(|value| match value {
            Value::String(text) => text.clone(),
            other => other.to_string(),
        }))),
        ColumnKind::Number => fitting(value, Value::as_f64).map(Cell::Number),
        ColumnKind::Integer => fitting(value, whole).map(Cell::Integer),
        ColumnKind::Boolean => fitting(value, Value::as_bool).map(Cell::Boolean),
        ColumnKind::Time => fitting(value, |value| value.as_str()?.parse().ok()).map(Cell::Time),
    };
    found.ok_or_else(|| {
        let given = value.map(Value::to_string).unwrap_or_default();
        let given: String = given.chars().take(60).collect();
        format!("{} is {given}, which does not fit the column {}: {}", column.field, column.column, column.kind.name())
    })
}

/// What is not there is NULL; what is there has to fit.
fn fitting<T>(value: Option<&Value>, read: impl Fn(&Value) -> Option<T>) -> Option<Option<T>> {
    match value {
        None => Some(None),
        Some(value) => read(value).map(Some),
    }
}

/// A whole number, also one that is written with a fraction of zero.
fn whole(value: &Value) -> Option<i64> {
    let as_float = || value.as_f64().filter(|n| n.fract() == 0.0 && n.abs() < 9e15).map(|n| n as i64);
    value.as_i64().or_else(as_float)
}

fn quoted(dialect: Dialect, name: &str) -> String {
    let quote = if dialect == Dialect::MariaDb { '`' } else { '"' };
    // Checked settings have no quotes in names; doubling them costs nothing.
    let doubled = name.replace(quote, &format!("{quote}{quote}"));
    format!("{quote}{doubled}{quote}")
}

fn table_name(dialect: Dialect, table: &str) -> String {
    table.split('.').map(|part| quoted(dialect, part)).collect::<Vec<_>>().join(".")
}

/// The statement that inserts so many rows. A row whose key is there already is left as it is: deliveries may come twice.
pub fn insert(dialect: Dialect, table: &SqlTable, rows: usize) -> String {
    let names: Vec<String> = table.columns.iter().map(|column| quoted(dialect, &column.column)).collect();
    let width = names.len();
    let place = |at: usize| if dialect == Dialect::MariaDb { "?".to_owned() } else { format!("${}", at + 1) };
    let row = |row: usize| {
        let places: Vec<String> = (0..width).map(|column| place(row * width + column)).collect();
        format!("({})", places.join(", "))
    };
    let values = (0..rows).map(row).collect::<Vec<_>>().join(", ");
    let again = match (dialect, names.first()) {
        (Dialect::MariaDb, Some(first)) => format!("ON DUPLICATE KEY UPDATE {first} = {first}"),
        _ => "ON CONFLICT DO NOTHING".to_owned(),
    };
    format!("INSERT INTO {} ({}) VALUES {values} {again}", table_name(dialect, &table.table), names.join(", "))
}

/// The statement that creates the table, if there is none. The column of the field `id` is its key.
pub fn create(dialect: Dialect, table: &SqlTable) -> String {
    let key = table.columns.iter().position(|column| column.field == "id");
    let column = |(at, column): (usize, &SqlColumn)| {
        let key = key == Some(at);
        let kind = match (dialect, column.kind) {
            _ if key => format!("VARCHAR({KEY_LENGTH}) NOT NULL PRIMARY KEY"),
            (_, ColumnKind::Text) => "TEXT NULL".to_owned(),
            (Dialect::MariaDb, ColumnKind::Number) => "DOUBLE NULL".to_owned(),
            (Dialect::PostgreSql, ColumnKind::Number) => "DOUBLE PRECISION NULL".to_owned(),
            (_, ColumnKind::Integer) => "BIGINT NULL".to_owned(),
            (_, ColumnKind::Boolean) => "BOOLEAN NULL".to_owned(),
            (Dialect::MariaDb, ColumnKind::Time) => "DATETIME(3) NULL".to_owned(),
            (Dialect::PostgreSql, ColumnKind::Time) => "TIMESTAMPTZ NULL".to_owned(),
        };
        format!("{} {kind}", quoted(dialect, &column.column))
    };
    let columns = table.columns.iter().enumerate().map(column).collect::<Vec<_>>().join(", ");
    format!("CREATE TABLE IF NOT EXISTS {} ({columns})", table_name(dialect, &table.table))
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn column(column: &str, field: &str, kind: ColumnKind) -> SqlColumn {
        SqlColumn { column: column.into(), field: field.into(), kind }
    }

    fn table() -> SqlTable {
        SqlTable {
            table: "quay.readings".into(),
            columns: vec![
                column("message", "id", ColumnKind::Text),
                column("at", "time", ColumnKind::Time),
                column("level", "readings.water_level.value", ColumnKind::Number),
                column("counter", "frame.counter", ColumnKind::Integer),
                column("open", "readings.gate.value", ColumnKind::Boolean),
            ],
            ..SqlTable::default()
        }
    }

    #[test]
    fn fields_become_values_of_their_columns() {
        let message = json!({ "id": "01K", "time": "2026-05-04T09:12:33.481Z", "frame": { "counter": 7.0 },
            "readings": { "water_level": { "value": 2 } } });
        let cells = row(&table().columns, &message).unwrap();
        assert_eq!(cells[0], Cell::Text(Some("01K".into())));
        assert_eq!(cells[1], Cell::Time(Some("2026-05-04T09:12:33.481Z".parse().unwrap())));
        assert_eq!(cells[2..], [Cell::Number(Some(2.0)), Cell::Integer(Some(7)), Cell::Boolean(None)]);
        let flat = json!({ "id": "01K", "readings.water_level.value": null });
        assert_eq!(row(&table().columns, &flat).unwrap()[2], Cell::Number(None));
    }

    #[test]
    fn what_does_not_fit_is_refused_by_name() {
        for (field, value) in [("counter", json!(1.5)), ("counter", json!("x")), ("counter", json!(1e300))] {
            let why = row(&table().columns, &json!({ "frame": { field: value } })).unwrap_err();
            assert!(why.contains("frame.counter") && why.contains("counter: integer"), "{why}");
        }
        assert!(row(&table().columns, &json!({ "time": "noon" })).is_err());
        let any = row(&[column("all", "device", ColumnKind::Text)], &json!({ "device": { "eui": "02" } })).unwrap();
        assert_eq!(any, [Cell::Text(Some(r#"{"eui":"02"}"#.into()))]);
    }

    #[test]
    fn statements_are_those_of_their_database() {
        let mut small = table();
        small.columns.truncate(2);
        assert_eq!(
            insert(Dialect::MariaDb, &small, 2),
            "INSERT INTO `quay`.`readings` (`message`, `at`) VALUES (?, ?), (?, ?) \
             ON DUPLICATE KEY UPDATE `message` = `message`"
        );
        assert_eq!(
            insert(Dialect::PostgreSql, &small, 2),
            "INSERT INTO \"quay\".\"readings\" (\"message\", \"at\") VALUES ($1, $2), ($3, $4) ON CONFLICT DO NOTHING"
        );
        assert_eq!(
            create(Dialect::PostgreSql, &small),
            "CREATE TABLE IF NOT EXISTS \"quay\".\"readings\" (\"message\" VARCHAR(64) NOT NULL PRIMARY KEY, \
             \"at\" TIMESTAMPTZ NULL)"
        );
        assert!(create(Dialect::MariaDb, &table()).contains("`level` DOUBLE NULL, `counter` BIGINT NULL"));
    }
}
