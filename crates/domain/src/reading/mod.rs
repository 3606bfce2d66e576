//! Readings: what a model says of them, and how they are drawn.

pub mod chart;
pub mod rule;
