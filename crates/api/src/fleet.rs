//! Estates and fleets.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::{self, Problem};
use crate::rights::{Right, Role, Scope};

/// An owner's boundary: people, gateways, fleets.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Estate {
    /// Its short name, used in addresses.
    #[schema(example = "tarnsey")]
    pub slug: String,
    /// Its name.
    pub name: String,
    /// What the person signed in is there; nothing if only a part is shared with them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub role: Option<Role>,
    /// What they may do there, as far as it reaches.
    pub rights: Vec<Right>,
    /// The parts that their rights reach; empty if it is all of it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub only: Vec<Scope>,
}

impl Estate {
    /// What one is there, in words.
    pub fn standing(&self) -> String {
        let parts: Vec<String> = self.only.iter().map(ToString::to_string).collect();
        match self.role {
            Some(role) if parts.is_empty() => role.to_string(),
            _ => parts.join(", "),
        }
    }
}

/// Devices with one purpose.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Fleet {
    /// Changes with what is told of it; sent back as `If-Match` with a change, which is then refused if somebody else was
    /// faster.
    #[serde(default)]
    pub revision: String,
    /// Its short name, used in addresses.
    #[schema(example = "tide-and-sluice")]
    pub slug: String,
    /// Its name.
    pub name: String,
    /// Devices in it.
    pub devices: u64,
    /// What its devices may use in any 24 hours.
    #[serde(flatten)]
    pub limits: FleetLimits,
    /// How long its history is kept.
    #[serde(default)]
    pub keeping: FleetKeeping,
    /// Whether it holds an AppKey that its devices ship with.
    pub has_default_key: bool,
    /// When it was made.
    #[serde(with = "crate::millis")]
    pub added_at: DateTime<Utc>,
}

/// The key that a fleet's devices ship with.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FleetKey {
    /// AppKey, 32 hex digits; none takes it away, a blank one leaves it as it is. Devices that are registered keep what they
    /// have.
    pub app_key: Option<String>,
}

/// Limits of a fleet beyond the law, for each of its devices and any 24 hours.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FleetLimits {
    /// Airtime of uplinks.
    #[serde(default)]
    pub airtime_a_day_s: Option<f64>,
    /// Downlinks.
    #[serde(default)]
    pub downlinks_a_day: Option<u32>,
}

impl FleetLimits {
    /// The engine's form, checked.
    pub fn check(&self) -> Result<engine::Policy, Problem> {
        let airtime_us = match self.airtime_a_day_s {
            Some(s) => Some((problem::range("airtime_a_day_s", s, 0.001, 86_400.0, "s")? * 1e6) as u64),
            None => None,
        };
        Ok(engine::Policy { airtime_us, downlinks: self.downlinks_a_day })
    }

    /// From the engine's form.
    pub fn of(policy: engine::Policy) -> Self {
        Self { airtime_a_day_s: policy.airtime_us.map(|us| us as f64 / 1e6), downlinks_a_day: policy.downlinks }
    }
}

/// The longest time in days that something is kept, if not for ever.
const LONGEST_DAYS: u32 = 36_500;

/// How long a fleet's history is kept; what has no number is kept for ever.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FleetKeeping {
    /// Days for which every value of a reading is kept.
    #[serde(default)]
    #[schema(example = 400)]
    pub values_days: Option<u32>,
    /// Days for which summaries of hours and days are kept.
    #[serde(default)]
    pub summaries_days: Option<u32>,
    /// Days for which messages are kept: frames as they were heard and sent.
    #[serde(default)]
    pub messages_days: Option<u32>,
}

impl FleetKeeping {
    /// The same, checked.
    ///
    /// # Errors
    /// Names the field, the value and what is allowed.
    pub fn check(self) -> Result<Self, Problem> {
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
        Ok(self)
    }
}

/// A fleet to make.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NewFleet {
    /// Its short name: lower-case letters, digits and dashes.
    #[schema(example = "tide-and-sluice")]
    pub slug: String,
    /// Its name; the short name if not given.
    #[serde(default)]
    pub name: Option<String>,
    /// What its devices may use in any 24 hours.
    #[serde(flatten)]
    pub limits: FleetLimits,
}

impl NewFleet {
    /// Short name and name, checked.
    pub fn check(&self) -> Result<(String, String), Problem> {
        let slug = problem::slug("slug", &self.slug)?;
        let name = problem::name("name", self.name.as_deref().unwrap_or(&slug))?;
        Ok((slug, name))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn summaries_are_kept_at_least_as_long_as_values() {
        let keeping = |values_days, summaries_days| FleetKeeping { values_days, summaries_days, messages_days: None };
        let field = |keeping: FleetKeeping| keeping.check().unwrap_err().field.unwrap();
        assert!(keeping(Some(30), None).check().is_ok() && keeping(Some(30), Some(30)).check().is_ok());
        assert_eq!(field(keeping(Some(30), Some(29))), "summaries_days");
        assert_eq!(field(keeping(Some(0), None)), "values_days");
        assert_eq!(field(keeping(None, Some(36_501))), "summaries_days");
    }
}
