//! Tables: as wide as the terminal at most. Columns that do not fit are cut, the least telling ones left out; what identifies
//! something is never broken.

use console::{Style, measure_text_width, truncate_str};

use crate::terminal;

/// Blanks between two columns.
const GAP: usize = 2;
/// A column of text is cut to this width before one is left out.
const NARROW: usize = 12;

/// Columns that say how something is doing: of those that do not identify anything, they are left out last.
const TELLING: [&str; 2] = ["STATE", "LAST HEARD"];

/// Whether a cell identifies something, such as an EUI, an address or a message: half of it is of no use.
fn identifies(cell: &str) -> bool {
    let hex = cell.len() >= 8 && cell.chars().all(|c| c.is_ascii_hexdigit());
    let name = cell.len() == 26 && cell.chars().all(|c| c.is_ascii_uppercase() || c.is_ascii_digit());
    hex || name
}

/// A column, with how wide it would like to be and how narrow it can be.
struct Column<'a> {
    head: &'a str,
    widest: usize,
    narrowest: usize,
    identifies: bool,
}

impl<'a> Column<'a> {
    fn of(head: &'a str, cells: impl Iterator<Item = &'a str> + Clone) -> Self {
        let widest = cells.clone().map(measure_text_width).chain([measure_text_width(head)]).max().unwrap_or(0);
        let identifier = cells.filter(|cell| identifies(cell)).map(measure_text_width).max().unwrap_or(0);
        let narrowest = identifier.max(NARROW.max(measure_text_width(head))).min(widest);
        Self { head, widest, narrowest, identifies: identifier > 0 }
    }
}

/// The columns that are shown, by their places, and the width of each; the others do not fit. The first one always is.
fn widths(columns: &[Column<'_>], width: usize) -> Vec<(usize, usize)> {
    let needed = |shown: &[usize]| -> usize {
        shown.iter().map(|at| columns[*at].narrowest).sum::<usize>() + GAP * shown.len().saturating_sub(1)
    };
    let mut shown: Vec<usize> = (0..columns.len()).collect();
    while shown.len() > 1 && needed(&shown) > width {
        let worth = |at: &usize| (columns[*at].identifies, TELLING.contains(&columns[*at].head), usize::MAX - at);
        // Of equal worth, the last one goes.
        let (place, _) =
            shown.iter().enumerate().skip(1).min_by_key(|(_, at)| worth(at)).unwrap_or((shown.len() - 1, &0));
        shown.remove(place);
    }
    let mut left = width.saturating_sub(needed(&shown));
    let fitted = shown.into_iter().map(|at| {
        let column = &columns[at];
        let more = left.min(column.widest - column.narrowest);
        left -= more;
        (at, column.narrowest + more)
    });
    fitted.collect()
}

/// A table without frames. With a width it is no wider, and says which columns are left out.
pub(crate) fn table(head: &[&str], rows: &[Vec<String>], width: Option<usize>) -> String {
    let cell = |row: &'_ Vec<String>, at: usize| row.get(at).cloned().unwrap_or_default();
    let cells: Vec<Vec<String>> =
        (0..head.len()).map(|at| rows.iter().map(|row| cell(row, at)).collect::<Vec<_>>()).collect();
    let columns: Vec<Column<'_>> =
        head.iter().zip(&cells).map(|(head, cells)| Column::of(head, cells.iter().map(String::as_str))).collect();
    let widths = widths(&columns, width.unwrap_or(usize::MAX));
    let line = |cell: &dyn Fn(usize) -> String, style: &dyn Fn(usize, &str) -> Style| -> String {
        let mut line = String::new();
        let mut gap = 0;
        for (at, width) in &widths {
            let text = cell(*at);
            let text = truncate_str(&text, *width, "…");
            if !text.is_empty() {
                line.push_str(&" ".repeat(gap));
                line.push_str(&style(*at, &text).apply_to(&text).to_string());
                gap = 0;
            }
            gap += width + GAP - measure_text_width(&text).min(*width);
        }
        line
    };
    let mut lines = vec![line(&|at| head[at].to_owned(), &|_, _| terminal::head())];
    let of_cell = |at: usize, text: &str| if head[at] == "STATE" { terminal::of_state(text) } else { Style::new() };
    lines.extend((0..rows.len()).map(|row| line(&|at| cells[at][row].clone(), &of_cell)));
    let shown = |at: &usize| widths.iter().any(|(shown, _)| shown == at);
    let left_out = (0..columns.len()).filter(|at| !shown(at)).map(|at| head[at]);
    let left_out: Vec<&str> = left_out.filter(|head| !head.is_empty()).collect();
    if widths.len() < columns.len() {
        let names = if left_out.is_empty() { "some notes".to_owned() } else { left_out.join(", ") };
        lines.push(format!("Not shown: {names}. --wide shows all."));
    }
    lines.join("\n")
}

#[cfg(test)]
mod tests {
    use super::*;

    const HEAD: [&str; 4] = ["NAME", "DEVEUI", "STATE", "LAST HEARD"];

    fn rows() -> Vec<Vec<String>> {
        let rows = [
            ["chapel-rise-with-a-long-name", "02b0000000000001", "listening", "5 s ago"],
            ["süd", "02b0000000000002", "", "never"],
        ];
        rows.iter().map(|row| row.iter().map(ToString::to_string).collect()).collect()
    }

    #[test]
    fn without_a_width_every_row_is_one_whole_line() {
        assert_eq!(
            table(&HEAD, &rows(), None),
            "NAME                          DEVEUI            STATE      LAST HEARD\n\
             chapel-rise-with-a-long-name  02b0000000000001  listening  5 s ago\n\
             süd                           02b0000000000002             never"
        );
    }

    #[test]
    fn text_is_cut_before_a_column_is_left_out() {
        let text = table(&HEAD, &rows(), Some(60));
        assert!(text.lines().all(|line| measure_text_width(line) <= 60), "{text}");
        assert!(
            text.contains("chapel-rise-with-a…") && text.contains("5 s ago") && !text.contains("Not shown"),
            "{text}"
        );
    }

    #[test]
    fn identifiers_are_whole_or_not_there() {
        for width in 1..=80 {
            let text = table(&HEAD, &rows(), Some(width));
            let whole = text.matches("02b000000000000").count();
            assert!(whole == 2 || whole == 0, "{width}: {text}");
        }
        let narrow = table(&HEAD, &rows(), Some(32));
        assert!(
            narrow.contains("02b0000000000001") && narrow.ends_with("Not shown: STATE, LAST HEARD. --wide shows all.")
        );
    }

    #[test]
    fn a_short_row_and_an_empty_table_are_no_failure() {
        assert_eq!(table(&["A", "B"], &[vec!["1".into()]], Some(10)), "A  B\n1");
        assert_eq!(table(&["A"], &[], Some(10)), "A");
    }

    #[test]
    fn how_it_is_doing_is_left_out_after_where_it_belongs() {
        let head = ["NAME", "DEVEUI", "FLEET", "MODEL", "STATE", "LAST HEARD"];
        let row = ["tide-01", "02b0010000000001", "tide-and-sluice", "brinemark-tg2", "active", "3 s ago"];
        let rows = [row.iter().map(ToString::to_string).collect()];
        let narrow = table(&head, &rows, Some(60));
        assert!(narrow.contains("active") && narrow.contains("3 s ago") && !narrow.contains("brinemark"), "{narrow}");
        let narrower = table(&head, &rows, Some(34));
        assert!(narrower.contains("02b0010000000001  active"), "{narrower}");
        assert!(table(&head, &rows, Some(3)).starts_with("NAME"), "what it is called is always there");
    }
}
