//! Errors as RFC 9457 problem details.

pub mod kinds;

use std::fmt;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What went wrong, for people and for programs (RFC 9457).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// Where the kind is described: a page of the service, with the code as the anchor.
    #[schema(example = "/api/problems#bad_field")]
    #[serde(rename = "type")]
    pub kind: String,
    /// A short sentence.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// A stable code for programs.
    pub code: String,
    /// The particulars, with the value and what is allowed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
    /// The field it is about; the first, if there are several.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// All fields that cannot be what was given.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub fields: Vec<FieldProblem>,
    /// What could be meant instead, the likeliest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub offers: Vec<String>,
    /// Seconds until another try may work, if that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retry_after_s: Option<u32>,
}

/// One field that cannot be what was given.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FieldProblem {
    /// The field; one inside another is written with a dot between them.
    #[schema(example = "radio.rx_delay_s")]
    pub field: String,
    /// The value, and what is allowed.
    pub detail: String,
}

impl Problem {
    /// A problem without detail.
    pub fn new(status: u16, code: &str, title: impl Into<String>) -> Self {
        debug_assert!(kinds::KINDS.iter().any(|kind| kind.code == code), "{code} is not among the kinds of problem");
        let (kind, title, code) = (format!("{}#{code}", kinds::PAGE), title.into(), code.to_owned());
        Self {
            kind,
            title,
            status,
            code,
            detail: None,
            field: None,
            fields: Vec::new(),
            offers: Vec::new(),
            retry_after_s: None,
        }
    }

    /// Adds the particulars.
    #[must_use]
    pub fn detail(mut self, detail: impl Into<String>) -> Self {
        self.detail = Some(detail.into());
        self
    }

    /// The same about fields inside another.
    #[must_use]
    pub fn inside(mut self, outer: &str) -> Self {
        self.fields.iter_mut().for_each(|inner| inner.field = format!("{outer}.{}", inner.field));
        self.field = self.field.map(|field| format!("{outer}.{field}"));
        self
    }

    /// Adds the field it is about.
    #[must_use]
    pub fn field(mut self, field: &str) -> Self {
        self.field = Some(field.into());
        self
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.fields.len() > 1 {
            f.write_str(&self.title)?;
            return self.fields.iter().try_for_each(|field| write!(f, "\n  {}: {}", field.field, field.detail));
        }
        if let Some(field) = &self.field {
            write!(f, "{field}: ")?;
        }
        f.write_str(&self.title)?;
        match &self.detail {
            Some(detail) => write!(f, ": {detail}"),
            None => Ok(()),
        }
    }
}

impl std::error::Error for Problem {}

/// A field that cannot be what was entered.
pub fn bad_field(field: &str, value: &str, allowed: impl fmt::Display) -> Problem {
    let shown: String = value.chars().take(80).collect();
    bad_fields(vec![FieldProblem { field: field.into(), detail: format!("{shown:?} was given; {allowed}") }])
}

/// Fields that cannot be what was entered, the first of which stands for all where only one is shown.
pub fn bad_fields(fields: Vec<FieldProblem>) -> Problem {
    let title = if fields.len() > 1 { "Some values cannot be used" } else { "This value cannot be used" };
    let problem = Problem::new(422, "bad_field", title);
    let Some(first) = fields.first().cloned() else { return problem };
    Problem { fields, ..problem.field(&first.field).detail(first.detail) }
}

/// Collects the problems of several fields, to tell all of them in one answer.
#[derive(Debug, Default)]
pub struct FieldProblems {
    found: Vec<FieldProblem>,
    other: Option<Problem>,
}

impl FieldProblems {
    /// Takes a field's value, or keeps what is wrong with it.
    pub fn take<T>(&mut self, value: Result<T, Problem>) -> Option<T> {
        value.map_err(|problem| self.add(problem)).ok()
    }

    /// Takes the value of a field that has fields of its own, or keeps what is wrong with these.
    pub fn take_inside<T>(&mut self, outer: &str, value: Result<T, Problem>) -> Option<T> {
        self.take(value.map_err(|problem| problem.inside(outer)))
    }

    /// Keeps what is wrong with a field.
    pub fn add(&mut self, problem: Problem) {
        match problem.fields.is_empty() || problem.code != "bad_field" {
            true => self.other = self.other.take().or(Some(problem)),
            false => self.found.extend(problem.fields),
        }
    }

    /// Everything that is wrong.
    ///
    /// # Errors
    /// If anything is.
    pub fn end(self) -> Result<(), Problem> {
        match (self.found.is_empty(), self.other) {
            (_, Some(problem)) => Err(problem),
            (false, None) => Err(bad_fields(self.found)),
            (true, None) => Ok(()),
        }
    }
}
