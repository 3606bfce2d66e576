//! Why something does not work, what needs attention, and what to do next.

pub mod device;
pub mod health;
pub mod join;
pub mod plausibility;
pub mod watch;

use api::diagnosis::device::{Finding, Weight};

pub(crate) fn finding(weight: Weight, about: &str, what: String, next_step: &str) -> Finding {
    let next_step = Some(next_step.to_owned()).filter(|step| !step.is_empty());
    Finding { weight, about: about.into(), what, next_step }
}
