//! Checks of fleets: names, limits, retention.

use api::fleet::{FleetLimits, FleetRetention, FleetSettings, NewFleet};
use api::problem;
use api::problem::{FieldProblems, Problem};

use crate::{Check, input};

impl Check for FleetLimits {
    type Checked = engine::Policy;

    /// The engine's form, checked.
    fn check(&self) -> Result<Self::Checked, Problem> {
        let airtime_us = match self.airtime_a_day_s {
            Some(s) => Some((input::range("airtime_a_day_s", s, 0.001, 86_400.0, "s")? * 1e6) as u64),
            None => None,
        };
        Ok(engine::Policy { airtime_us, downlinks: self.downlinks_a_day })
    }
}

/// From the engine's form.
pub fn limits(policy: engine::Policy) -> FleetLimits {
    FleetLimits { airtime_a_day_s: policy.airtime_us.map(|us| us as f64 / 1e6), downlinks_a_day: policy.downlinks }
}

/// The longest time in days that something is kept, if not for ever.
const LONGEST_DAYS: u32 = 36_500;

impl Check for FleetRetention {
    type Checked = Self;

    /// The same, checked.
    ///
    /// # Errors
    /// Names the field, the value and what is allowed.
    fn check(&self) -> Result<Self::Checked, Problem> {
        let all = [
            ("values_days", self.values_days),
            ("summaries_days", self.summaries_days),
            ("messages_days", self.messages_days),
        ];
        for (field, days) in all {
            if let Some(days) = days.filter(|days| !(1..=LONGEST_DAYS).contains(days)) {
                return Err(problem::bad_field(
                    field,
                    &days.to_string(),
                    format!("1 to {LONGEST_DAYS} days are allowed"),
                ));
            }
        }
        if let (Some(values), Some(summaries)) = (self.values_days, self.summaries_days)
            && summaries < values
        {
            let allowed = format!("at least as long as values, {values} days, is allowed");
            return Err(problem::bad_field("summaries_days", &summaries.to_string(), allowed));
        }
        Ok(*self)
    }
}

impl Check for FleetSettings {
    type Checked = engine::Policy;

    /// Everything checked; the limits in the engine's form.
    fn check(&self) -> Result<Self::Checked, Problem> {
        let mut wrong = FieldProblems::default();
        wrong.take(input::slug("slug", &self.slug));
        wrong.take(input::name("name", &self.name));
        let policy = wrong.take(self.limits.check());
        wrong.take_inside("retention", self.retention.check());
        wrong.end()?;
        Ok(policy.unwrap_or_default())
    }
}

impl Check for NewFleet {
    type Checked = (String, String);

    /// Short name and name, checked.
    fn check(&self) -> Result<Self::Checked, Problem> {
        let slug = input::slug("slug", &self.slug)?;
        let name = input::name("name", self.name.as_deref().unwrap_or(&slug))?;
        Ok((slug, name))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn summaries_are_kept_at_least_as_long_as_values() {
        let retention =
            |values_days, summaries_days| FleetRetention { values_days, summaries_days, messages_days: None };
        let field = |retention: FleetRetention| retention.check().unwrap_err().field.unwrap();
        assert!(retention(Some(30), None).check().is_ok() && retention(Some(30), Some(30)).check().is_ok());
        assert_eq!(field(retention(Some(30), Some(29))), "summaries_days");
        assert_eq!(field(retention(Some(0), None)), "values_days");
        assert_eq!(field(retention(None, Some(36_501))), "summaries_days");
    }
}
