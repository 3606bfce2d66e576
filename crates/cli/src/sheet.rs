//! Tables for spreadsheets and pages.

use anyhow::Result;
use rust_xlsxwriter::{Format, Workbook};

/// A cell of a table.
pub(crate) enum Cell {
    Text(String),
    /// A number, with so many digits after the point.
    Number(f64, usize),
    Nothing,
}

impl Cell {
    pub(crate) fn text(text: impl Into<String>) -> Self {
        Self::Text(text.into())
    }

    pub(crate) fn maybe(value: Option<f64>, digits: usize) -> Self {
        value.map_or(Self::Nothing, |value| Self::Number(value, digits))
    }
}

/// A table with a title.
pub(crate) struct Sheet {
    pub title: &'static str,
    pub head: Vec<&'static str>,
    pub rows: Vec<Vec<Cell>>,
}

/// A number with so many digits after the point.
pub(crate) fn rounded(number: f64, digits: usize) -> f64 {
    let times = 10f64.powi(i32::try_from(digits).unwrap_or(0));
    (number * times).round() / times
}

/// A workbook (XLSX) with a sheet for each table.
pub(crate) fn workbook(sheets: &[Sheet]) -> Result<Vec<u8>> {
    let mut book = Workbook::new();
    let bold = Format::new().set_bold();
    for Sheet { title, head, rows } in sheets {
        let sheet = book.add_worksheet().set_name(*title)?;
        for (column, name) in (0u16..).zip(head) {
            sheet.write_string_with_format(0, column, *name, &bold)?;
        }
        for (row, cells) in (1u32..).zip(rows) {
            for (column, cell) in (0u16..).zip(cells) {
                match cell {
                    Cell::Text(text) => sheet.write_string(row, column, text)?,
                    Cell::Number(number, digits) => sheet.write_number(row, column, rounded(*number, *digits))?,
                    Cell::Nothing => continue,
                };
            }
        }
        sheet.set_freeze_panes(1, 1)?;
        sheet.autofit();
    }
    Ok(book.save_to_buffer()?)
}

/// Text inside of XML and HTML.
pub(crate) fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}
