//! Comparing two editions of a model, line by line.

use api::model::PutModel;
use api::model::edition::{ComparedLine, ComparedPart, Comparison, LineChange};
use similar::{ChangeTag, TextDiff};

use crate::model::catalogue::differences;

/// Lines around a change that are shown with it.
const AROUND: usize = 3;

fn text_of(about: &PutModel, field: &str) -> String {
    let all = serde_json::to_value(about).unwrap_or_default();
    match all.get(field) {
        Some(serde_json::Value::String(text)) => text.clone(),
        Some(serde_json::Value::Null) | None => String::new(),
        Some(other) => serde_json::to_string_pretty(other).unwrap_or_default(),
    }
}

/// How two texts differ, line by line.
pub fn compared_lines(old: &str, new: &str) -> Vec<ComparedLine> {
    let diff = TextDiff::from_lines(old, new);
    let mut lines = Vec::new();
    for (n, group) in diff.grouped_ops(AROUND).iter().enumerate() {
        if n > 0 {
            lines.push(ComparedLine { change: LineChange::Skipped, old: None, new: None, text: String::new() });
        }
        for change in group.iter().flat_map(|op| diff.iter_changes(op)) {
            lines.push(ComparedLine {
                change: match change.tag() {
                    ChangeTag::Equal => LineChange::Stays,
                    ChangeTag::Delete => LineChange::Removed,
                    ChangeTag::Insert => LineChange::Added,
                },
                old: change.old_index().map(|at| at + 1),
                new: change.new_index().map(|at| at + 1),
                text: change.value().trim_end_matches(['\n', '\r']).to_owned(),
            });
        }
    }
    lines
}

/// Compares two editions.
pub fn compare((from, old): (u32, &PutModel), (to, new): (u32, &PutModel)) -> Comparison {
    let parts = differences(old, new).into_iter().map(|field| {
        let lines = compared_lines(&text_of(old, &field), &text_of(new, &field));
        ComparedPart { field, lines }
    });
    Comparison { from, to, parts: parts.collect() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_comparison_shows_changed_lines_with_their_numbers_and_what_is_around() {
        let script = |middle: &str| {
            let lines: Vec<String> =
                (1..=20).map(|n| if n == 10 { middle.to_owned() } else { format!("line {n}") }).collect();
            PutModel { decoder: Some(lines.join("\n")), name: "N".into(), ..PutModel::default() }
        };
        let (old, new) = (script("old"), script("new"));
        let comparison = compare((3, &old), (5, &new));
        assert_eq!((comparison.from, comparison.to, comparison.parts.len()), (3, 5, 1));
        let part = &comparison.parts[0];
        assert_eq!((part.field.as_str(), part.lines.len()), ("decoder", 8));
        let removed = ComparedLine { change: LineChange::Removed, old: Some(10), new: None, text: "old".into() };
        let added = ComparedLine { change: LineChange::Added, old: None, new: Some(10), text: "new".into() };
        assert_eq!(part.lines[3..5], [removed, added]);
        assert!(compare((1, &old), (2, &old)).parts.is_empty());
    }

    #[test]
    fn far_changes_are_parted() {
        let old: String = (0..40).map(|n| format!("{n}\n")).collect();
        let new = old.replace("\n5\n", "\nfive\n").replace("\n35\n", "\nthirty-five\n");
        let lines = compared_lines(&old, &new);
        assert_eq!(lines.iter().filter(|line| line.change == LineChange::Skipped).count(), 1);
        assert_eq!(lines.iter().filter(|line| line.change == LineChange::Added).count(), 2);
    }
}
