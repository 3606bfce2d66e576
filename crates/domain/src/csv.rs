//! CSV files as people keep them: any order, case and separator of the columns, any line ending, UTF-8, UTF-16 or
//! Windows-1252.

use std::str::FromStr;

use api::problem::{Problem, bad_field};

/// A column a table can have.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Column {
    /// Its name.
    pub name: &'static str,
    /// What else it is called.
    pub also: &'static [&'static str],
}

impl Column {
    /// A column with one name.
    pub const fn new(name: &'static str) -> Self {
        Self { name, also: &[] }
    }
}

/// What a table can have.
#[derive(Debug, Clone, Copy)]
pub struct Shape {
    /// The columns it can have.
    pub columns: &'static [Column],
    /// Those it must have: one of each group.
    pub needed: &'static [&'static [&'static str]],
    /// Rows at most.
    pub most_rows: usize,
}

/// A row as it is written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    /// Its line, the column names being in line 1.
    pub line: u64,
    /// What is written, by column; nothing of empty cells.
    pub cells: Vec<(&'static str, String)>,
    /// It has more cells than there are columns.
    pub excess: Option<Problem>,
}

impl Row {
    /// A column's text; empty if there is none.
    pub fn cell(&self, column: &str) -> &str {
        self.cells.iter().find(|(name, _)| *name == column).map_or("", |(_, text)| text)
    }
}

/// A file's text, and assumptions made to read it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Decoded {
    /// The text.
    pub text: String,
    /// The assumption about its encoding.
    pub assumed: Option<String>,
}

/// The text of a file: UTF-8, UTF-16 if it begins with a byte order mark, or else Windows-1252, as many spreadsheets
/// write it.
///
/// # Errors
/// If the file holds more than one encoding, or is no text.
pub fn text_of(bytes: &[u8]) -> Result<Decoded, Problem> {
    let unreadable = |why: String| Problem::new(422, "bad_file", "The file cannot be read").field("csv").detail(why);
    let utf16 = |bytes: &[u8], unit: fn([u8; 2]) -> u16, name: &str| {
        let units = bytes.chunks(2).map(|pair| if let [a, b] = pair { unit([*a, *b]) } else { 0xd800 });
        let text: Result<String, _> = char::decode_utf16(units).collect();
        let text = text.map_err(|_| unreadable(format!("it begins like {name}, and is not")))?;
        Ok(Decoded { text, assumed: Some(format!("The file was read as {name}.")) })
    };
    match bytes {
        [0xff, 0xfe, rest @ ..] => return utf16(rest, u16::from_le_bytes, "UTF-16, least significant byte first"),
        [0xfe, 0xff, rest @ ..] => return utf16(rest, u16::from_be_bytes, "UTF-16, most significant byte first"),
        _ => {}
    }
    if let Some(at) = bytes.iter().position(|byte| *byte == 0) {
        return Err(unreadable(format!("it is not text: byte {at} is zero")));
    }
    if let Ok(text) = std::str::from_utf8(bytes) {
        return Ok(Decoded { text: text.trim_start_matches('\u{feff}').to_owned(), assumed: None });
    }
    let lines: Vec<&[u8]> = bytes.split(|byte| *byte == b'\n').collect();
    let told = |wanted: fn(&[u8]) -> bool| lines.iter().position(|line| wanted(line)).map(|n| n + 1);
    let utf8 = told(|line| !line.is_ascii() && std::str::from_utf8(line).is_ok());
    let other = told(|line| std::str::from_utf8(line).is_err());
    if let (Some(utf8), Some(other)) = (utf8, other) {
        let why =
            format!("line {utf8} is UTF-8 and line {other} is not: save the whole file in one encoding, best UTF-8");
        return Err(unreadable(why));
    }
    let text: Option<String> = bytes.iter().map(|byte| windows_1252(*byte)).collect();
    let line = other.unwrap_or(1);
    let text =
        text.ok_or_else(|| unreadable(format!("line {line} is neither UTF-8 nor Windows-1252: save it as UTF-8")))?;
    let assumed =
        format!("Line {line} is not UTF-8, so the file was read as Windows-1252. See that its names are right.");
    Ok(Decoded { text, assumed: Some(assumed) })
}

/// A character of Windows-1252; five of its bytes stand for none.
fn windows_1252(byte: u8) -> Option<char> {
    const FROM_80: [&str; 2] = ["€\0‚ƒ„…†‡ˆ‰Š‹Œ\0Ž\0", "\0‘’“”•–—˜™š›œ\0žŸ"];
    match byte {
        0x80..=0x9f => {
            let c = FROM_80[usize::from(byte >> 4) - 8].chars().nth(usize::from(byte & 0xf))?;
            (c != '\0').then_some(c)
        }
        other => Some(char::from(other)),
    }
}

/// A column's name as it is compared: letters and digits only.
fn plain(name: &str) -> String {
    name.chars().filter(char::is_ascii_alphanumeric).map(|c| c.to_ascii_lowercase()).collect()
}

/// The character between columns: the one the first line has most of.
fn separator(first_line: &str) -> u8 {
    let count = |c: &u8| first_line.bytes().filter(|byte| byte == c).count();
    [b'\t', b';', b','].into_iter().max_by_key(count).unwrap_or(b',')
}

impl Shape {
    fn named(&self) -> String {
        let names: Vec<&str> = self.columns.iter().map(|column| column.name).collect();
        names.join(", ")
    }

    /// The column of a name.
    ///
    /// # Errors
    /// There is none.
    pub fn find(&self, name: &str) -> Result<&'static str, Problem> {
        let is = |other: &str| plain(other) == plain(name);
        let column = self.columns.iter().find(|column| is(column.name) || column.also.iter().any(|also| is(also)));
        let allowed = || format!("the columns are {}", self.named());
        column.map(|column| column.name).ok_or_else(|| bad_field("csv", name, allowed()))
    }

    /// Reads a table: a line of column names, then a row a line. Empty lines count, and are nothing else.
    ///
    /// # Errors
    /// If a column is unknown, missing or there twice, or there are too many rows. A row's own mistakes are left to it.
    pub fn read(&self, text: &str) -> Result<Vec<Row>, Problem> {
        self.read_as(text, |name| self.find(name).map(Some))
    }

    /// The same, for a table whose columns have other names; those without one are passed over.
    ///
    /// # Errors
    /// As [`Self::read`], and those of `named`.
    pub fn read_as(
        &self,
        text: &str,
        named: impl Fn(&str) -> Result<Option<&'static str>, Problem>,
    ) -> Result<Vec<Row>, Problem> {
        // There are three kinds of line ending.
        let text = text.trim_start_matches('\u{feff}').replace("\r\n", "\n").replace('\r', "\n");
        let first_line = text.lines().next().unwrap_or("");
        let mut reader = csv::ReaderBuilder::new()
            .delimiter(separator(first_line))
            .trim(csv::Trim::All)
            .flexible(true)
            .from_reader(text.as_bytes());
        let unreadable =
            |why: csv::Error| Problem::new(422, "bad_file", "The file cannot be read").detail(why.to_string());
        let head = reader.headers().map_err(unreadable)?.clone();
        let mut columns: Vec<Option<&'static str>> = Vec::new();
        for name in &head {
            let column = named(name)?;
            if let Some(column) = column.filter(|column| columns.contains(&Some(*column))) {
                return Err(bad_field("csv", name, format!("the column {column} is there twice")));
            }
            columns.push(column);
        }
        let is_there = |needed: &&'static str| columns.contains(&Some(*needed));
        if let Some(missing) = self.needed.iter().find(|any| !any.iter().any(is_there)) {
            return Err(bad_field("csv", first_line, format!("the column {} is missing", missing.join(" or "))));
        }
        let mut rows = Vec::new();
        for record in reader.records() {
            let record = record.map_err(unreadable)?;
            if record.iter().all(str::is_empty) {
                continue;
            }
            if rows.len() == self.most_rows {
                return Err(bad_field("csv", "more rows", format!("at most {} rows are allowed", self.most_rows)));
            }
            let filled = columns.iter().zip(&record).filter(|(_, text)| !text.is_empty());
            let cells = filled.filter_map(|(column, text)| Some(((*column)?, unguarded(text).to_owned()))).collect();
            let excess = (record.len() > columns.len()).then(|| {
                let why = format!("the first line names {} columns", columns.len());
                bad_field("csv", &format!("{} values", record.len()), why)
            });
            rows.push(Row { line: record.position().map_or(0, |at| line_of(&text, at)), cells, excess });
        }
        Ok(rows)
    }
}

/// The line a record is in: its position is that of the empty lines before it.
fn line_of(text: &str, at: &csv::Position) -> u64 {
    let from = usize::try_from(at.byte()).unwrap_or(usize::MAX);
    let empty = text.as_bytes().get(from..).map_or(0, |rest| rest.iter().take_while(|byte| **byte == b'\n').count());
    at.line() + empty as u64
}

/// Characters that begin a formula in a spreadsheet.
const FORMULA: [char; 6] = ['=', '+', '-', '@', '\t', '\r'];

/// A cell as it is written: one that a spreadsheet would calculate has an apostrophe in front.
pub fn guarded(text: &str) -> String {
    let number = text.parse::<f64>().is_ok();
    if text.starts_with(FORMULA) && !number || text.starts_with('\'') { format!("'{text}") } else { text.to_owned() }
}

/// The same, read.
fn unguarded(text: &str) -> &str {
    match text.strip_prefix('\'') {
        Some(rest) if rest.starts_with(FORMULA) || rest.starts_with('\'') => rest,
        _ => text,
    }
}

/// Writes a table, with commas between the columns.
pub fn write<'a>(head: &[&str], rows: impl IntoIterator<Item = Vec<String>> + 'a) -> String {
    let mut out = csv::WriterBuilder::new().terminator(csv::Terminator::Any(b'\n')).from_writer(Vec::new());
    let all = std::iter::once(head.iter().map(|name| (*name).to_owned()).collect()).chain(rows);
    for row in all {
        // Writing to memory does not fail, and all rows are as long as the head.
        let _ = out.write_record(row.iter().map(|cell| guarded(cell)));
    }
    out.into_inner().ok().and_then(|bytes| String::from_utf8(bytes).ok()).unwrap_or_default()
}

/// A number in a cell. Spreadsheets of half the world write a comma.
pub fn number<T: FromStr>(column: &str, text: &str) -> Result<T, Problem> {
    text.replace(',', ".").parse().map_err(|_| bad_field(column, text, "a number is needed"))
}

/// A yes or a no in a cell.
pub fn yes(column: &str, text: &str) -> Result<bool, Problem> {
    match text.to_ascii_lowercase().as_str() {
        "yes" | "true" | "1" | "y" => Ok(true),
        "no" | "false" | "0" | "n" => Ok(false),
        _ => Err(bad_field(column, text, "yes or no")),
    }
}

/// A value that has a serde name, such as a region or a class, in any case.
pub fn word<T: serde::de::DeserializeOwned>(column: &str, text: &str, allowed: &str) -> Result<T, Problem> {
    let forms = [text.to_owned(), text.to_ascii_uppercase(), text.to_ascii_lowercase()];
    let read = forms.into_iter().find_map(|form| serde_json::from_value(form.into()).ok());
    read.ok_or_else(|| bad_field(column, text, allowed))
}

#[cfg(test)]
mod tests {
    use super::*;

    const SHAPE: Shape = Shape {
        columns: &[Column { name: "dev_eui", also: &["deveui of it"] }, Column::new("name"), Column::new("note")],
        needed: &[&["dev_eui"]],
        most_rows: 3,
    };

    #[test]
    fn columns_may_come_in_any_order_case_and_separation() {
        for text in [
            "dev_eui,name,note\n01,a,\n",
            "\u{feff}Note;DevEUI;NAME\r\n;01;a\r\n\r\n",
            "NAME\tDEVEUI OF IT\ra\t01\r",
            "\"dev-eui\",\"name\"\n\"01\", a \n",
        ] {
            let rows = SHAPE.read(text).unwrap();
            assert_eq!((rows.len(), rows[0].line, rows[0].cell("dev_eui"), rows[0].cell("name")), (1, 2, "01", "a"));
            assert_eq!(rows[0].cell("note"), "");
        }
    }

    #[test]
    fn what_is_wrong_is_named() {
        let said = |text: &str| SHAPE.read(text).unwrap_err().to_string();
        assert!(said("name\nx").contains("the column dev_eui is missing"));
        assert!(said("").contains("the column dev_eui is missing"));
        assert!(said("dev_eui,colour\n").contains("\"colour\" was given; the columns are dev_eui, name, note"));
        assert!(said("dev_eui,DevEUI\n").contains("the column dev_eui is there twice"));
        assert!(said("dev_eui\n1\n2\n3\n4\n").contains("at most 3"));
        let rows = SHAPE.read("dev_eui,name\n1,a,b\n\n2\n").unwrap();
        assert!(rows[0].excess.as_ref().unwrap().to_string().contains("3 values"));
        assert_eq!((rows[1].line, rows[1].cell("name"), rows[1].excess.is_none()), (4, "", true));
    }

    #[test]
    fn a_file_is_in_one_of_three_encodings() {
        let read = |bytes: &[u8]| text_of(bytes).map(|decoded| (decoded.text, decoded.assumed.is_some()));
        assert_eq!(read("\u{feff}Höhe".as_bytes()), Ok(("Höhe".into(), false)));
        assert_eq!(read(b"H\xf6he \x80 \x9f"), Ok(("Höhe € Ÿ".into(), true)));
        assert_eq!(read(b"\xff\xfeH\0\xf6\0"), Ok(("Hö".into(), true)));
        assert_eq!(read(b"\xfe\xff\0H\0\xf6"), Ok(("Hö".into(), true)));
        let said = |bytes: &[u8]| text_of(bytes).unwrap_err().to_string();
        assert!(said(b"name\nH\xf6he\nH\xc3\xb6he\n").contains("line 3 is UTF-8 and line 2 is not"));
        assert!(said(b"a\x81").contains("neither UTF-8 nor Windows-1252"));
        assert!(said(b"PK\x03\x04\0\0").contains("byte 4 is zero"));
        assert!(said(b"\xff\xfe\0\xd8a").contains("begins like UTF-16"));
    }

    #[test]
    fn no_cell_is_taken_for_a_formula_and_all_are_read_back() {
        let cells = ["=1+1", "@x", "-cmd", "'quoted", "-5.2", "plain", "a,b\n\"c\""];
        let text = write(
            &["dev_eui", "name", "note"],
            cells.iter().map(|cell| vec!["1".into(), (*cell).into(), String::new()]),
        );
        assert!(text.contains("'=1+1") && text.contains("'-cmd") && text.contains("1,-5.2,"), "{text}");
        let shape = Shape { most_rows: 10, ..SHAPE };
        let rows = shape.read(&text).unwrap();
        let again: Vec<&str> = rows.iter().map(|row| row.cell("name")).collect();
        assert_eq!(again, cells);
    }
}
