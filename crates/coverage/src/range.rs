//! Values outside what a model or a computation is valid for.

use std::ops::RangeInclusive;

use thiserror::Error;

/// A parameter is outside its range.
#[derive(Debug, Clone, PartialEq, Error)]
#[error("{parameter} is {}{}; allowed are {from} to {to}{1}", rounded(*.value), spaced(.unit))]
pub struct RangeError {
    /// Its name.
    pub parameter: &'static str,
    /// What was given.
    pub value: f64,
    /// The least that is allowed.
    pub from: f64,
    /// The most that is allowed.
    pub to: f64,
    /// The unit of all three.
    pub unit: &'static str,
}

/// Not more digits than anybody reads.
fn rounded(value: f64) -> f64 {
    if value.abs() < 1e9 { (value * 1e4).round() / 1e4 } else { value }
}

/// A unit behind a number.
fn spaced(unit: &str) -> String {
    if unit.is_empty() { String::new() } else { format!(" {unit}") }
}

/// Checks that a parameter is within its range; not a number is never.
///
/// # Errors
/// It is outside.
pub fn within(
    parameter: &'static str,
    value: f64,
    range: RangeInclusive<f64>,
    unit: &'static str,
) -> Result<(), RangeError> {
    if range.contains(&value) {
        return Ok(());
    }
    Err(RangeError { parameter, value, from: *range.start(), to: *range.end(), unit })
}
