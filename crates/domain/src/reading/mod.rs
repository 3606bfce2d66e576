//! Readings: a model's rules for them, and charts.

pub mod chart;
pub mod rule;
pub mod timing;
