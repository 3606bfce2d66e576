//! Checks of tables and of folders.

use std::collections::BTreeSet;

use api::outlet::{FileFolder, SqlColumn, SqlTable};
use api::problem::{FieldProblems, Problem, bad_field};

use super::{LONGEST_PATH, has_control, pem};
use crate::outlet::address::DatabaseAddress;

/// The longest name that both databases take.
const LONGEST_NAME: usize = 63;
/// Columns of one table.
const MOST_COLUMNS: usize = 100;

/// Whether a text can be the name of a table or of a column in both databases, once it is quoted.
fn is_name(text: &str) -> bool {
    let plain = |c: char| c.is_ascii_alphanumeric() || c == '_';
    (1..=LONGEST_NAME).contains(&text.len())
        && text.chars().all(plain)
        && !text.starts_with(|c: char| c.is_ascii_digit())
}

/// Checks a table.
pub(super) fn check(table: &SqlTable) -> Result<(), Problem> {
    let mut wrong = FieldProblems::default();
    if let Err(why) = DatabaseAddress::read(&table.url) {
        let shown = if table.url.contains('@') { "an address with @ in it" } else { table.url.as_str() };
        wrong.add(bad_field("url", shown, why));
    }
    if table.account.is_empty() || table.account.len() > 100 || has_control(&table.account) {
        wrong.add(bad_field("account", &table.account, "1 to 100 bytes are allowed"));
    }
    let parts: Vec<&str> = table.table.split('.').collect();
    if parts.len() > 2 || !parts.iter().all(|part| is_name(part)) {
        let allowed = "a name of letters, digits and _ is allowed, perhaps with its schema before it and a dot";
        wrong.add(bad_field("table", &table.table, allowed));
    }
    wrong.take(columns(table));
    if let Some(trust) = &table.trust {
        wrong.take(pem("trust", trust, "CERTIFICATE"));
        if table.without_tls {
            wrong.add(bad_field("trust", "a certificate", "without TLS there are none"));
        }
    }
    wrong.end()
}

fn columns(table: &SqlTable) -> Result<(), Problem> {
    if table.columns.is_empty() || table.columns.len() > MOST_COLUMNS {
        let given = table.columns.len().to_string();
        return Err(bad_field("columns", &given, format!("1 to {MOST_COLUMNS} are allowed")));
    }
    let mut known = BTreeSet::new();
    for SqlColumn { column, field, .. } in &table.columns {
        if !is_name(column) {
            let allowed = format!("a name of letters, digits and _ is allowed, of at most {LONGEST_NAME} bytes");
            return Err(bad_field("columns.column", column, allowed));
        }
        if !known.insert(column.to_ascii_lowercase()) {
            return Err(bad_field("columns.column", column, "each column is given once"));
        }
        if field.is_empty() || field.len() > LONGEST_PATH || has_control(field) {
            let allowed = format!("a path like readings.water_level.value, of at most {LONGEST_PATH} bytes");
            return Err(bad_field("columns.field", field, allowed));
        }
    }
    if table.create && !table.columns.iter().any(|column| column.field == "id") {
        let allowed = "a table that is created needs a column of the field id: it tells repetitions";
        return Err(bad_field("columns", "none with the field id", allowed));
    }
    Ok(())
}

/// Checks a folder.
pub(super) fn check_folder(folder: &FileFolder) -> Result<(), Problem> {
    let mut wrong = FieldProblems::default();
    if let Some(mb) = folder.file_mb
        && !(1..=1_024).contains(&mb)
    {
        wrong.add(bad_field("file_mb", &mb.to_string(), "1 to 1024 MB are allowed"));
    }
    if let Some(mb) = folder.folder_mb
        && !(2..=102_400).contains(&mb)
    {
        wrong.add(bad_field("folder_mb", &mb.to_string(), "2 to 102400 MB are allowed"));
    }
    let (file_mb, folder_mb) =
        (folder.file_mb.unwrap_or(crate::outlet::FILE_MB), folder.folder_mb.unwrap_or(crate::outlet::FOLDER_MB));
    if folder_mb < file_mb.saturating_mul(2) {
        let allowed = format!("at least two files of {file_mb} MB have to have room in it");
        wrong.add(bad_field("folder_mb", &folder_mb.to_string(), allowed));
    }
    wrong.end()
}

#[cfg(test)]
mod tests {
    use api::outlet::{ColumnKind, Destination, OutletSecrets};

    use super::*;
    use crate::outlet::check::tests::refused;

    fn column(column: &str, field: &str) -> SqlColumn {
        SqlColumn { column: column.into(), field: field.into(), kind: ColumnKind::Text }
    }

    fn fields(change: impl FnOnce(&mut SqlTable)) -> Vec<String> {
        let mut table = SqlTable {
            url: "mariadb://db.example/quay".into(),
            account: "heron".into(),
            table: "readings".into(),
            columns: vec![column("id", "id"), column("level", "readings.water_level.value")],
            ..SqlTable::default()
        };
        change(&mut table);
        refused(Destination::Sql(table), &OutletSecrets { password: Some("x".into()), ..OutletSecrets::default() })
    }

    #[test]
    fn each_field_of_a_table_is_checked() {
        assert!(fields(|_| ()).is_empty());
        assert!(fields(|t| t.table = "quay.readings".into()).is_empty());
        for bad in ["", "a b", "a`b", "a.b.c", "1a", &"a".repeat(64), "x;DROP TABLE y"] {
            assert_eq!(fields(|t| t.table = bad.into()), ["to.sql.table"], "{bad}");
        }
        assert_eq!(fields(|t| t.url = "sqlite://x".into()), ["to.sql.url"]);
        assert_eq!(fields(|t| t.account = String::new()), ["to.sql.account"]);
        assert_eq!(fields(|t| t.columns = Vec::new()), ["to.sql.columns"]);
        assert_eq!(fields(|t| t.columns.push(column("ID", "x"))), ["to.sql.columns.column"]);
        assert_eq!(fields(|t| t.columns.push(column("a\"b", "x"))), ["to.sql.columns.column"]);
        assert_eq!(fields(|t| t.columns.push(column("x", ""))), ["to.sql.columns.field"]);
        let without_id = |t: &mut SqlTable| (t.create, t.columns) = (true, vec![column("level", "x")]);
        assert_eq!(fields(without_id), ["to.sql.columns"]);
    }

    #[test]
    fn a_folder_has_room_for_two_files() {
        let of = |file_mb, folder_mb| {
            let folder = FileFolder { file_mb, folder_mb, ..FileFolder::default() };
            refused(Destination::Files(folder), &OutletSecrets::default())
        };
        assert!(of(None, None).is_empty() && of(Some(1), Some(2)).is_empty());
        assert_eq!(of(Some(0), None), ["to.files.file_mb"]);
        assert_eq!(of(Some(64), Some(100)), ["to.files.folder_mb"]);
        assert_eq!(of(Some(1_000), None), ["to.files.folder_mb"]);
    }
}
