//! What is wrong with a rule: values that cannot be, and conditions that can never hold or always do.

use crate::rule::{Combine, Condition, MOST_CONDITIONS, Rule, Test, Value};

/// The longest time that a rule may look back or wait: a year.
const LONGEST_MS: i64 = 366 * 24 * 3_600_000;

/// What is wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FaultKind {
    /// There are no conditions, or more than [`MOST_CONDITIONS`].
    ConditionCount,
    /// A limit or a difference is no number.
    NotFinite,
    /// A difference, or a way back, is negative; or a difference is nothing.
    NotPositive,
    /// The lower limit is not below the upper one.
    EmptyRange,
    /// The way back is longer than the range, so that it never ends.
    NeverBack,
    /// A time is negative, is nothing where there has to be one, or is longer than a year.
    Time,
    /// An area has less than three corners or too many, or they are not on the earth.
    Area,
    /// Silence is not counted in messages.
    SilentMessages,
    /// It can never hold together with another condition.
    NeverTogether,
    /// This one or another always holds.
    Always,
    /// There is no time at which it is active.
    NeverActive,
}

/// A fault of a rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Fault {
    /// Which condition; `None` if it is the rule as a whole.
    pub condition: Option<usize>,
    /// The other condition that is meant, if there is one.
    pub other: Option<usize>,
    /// What it is.
    pub kind: FaultKind,
}

/// Numbers for which a condition holds.
#[derive(Debug, Clone, Copy)]
struct Range {
    low: f64,
    high: f64,
    /// Whether both ends belong to it.
    with_ends: bool,
}

impl Range {
    fn has(self, number: f64) -> bool {
        let inside = self.low < number && number < self.high;
        inside || (self.with_ends && (self.low == number || number == self.high))
    }

    fn meets(self, other: Self) -> bool {
        let (low, high) = (self.low.max(other.low), self.high.min(other.high));
        low < high || (self.has(low) && other.has(low))
    }
}

/// Where a condition on a number begins to hold; with `once_held`, where it holds on as well.
fn ranges(test: &Test, once_held: bool) -> Option<Vec<Range>> {
    let open = |low, high| Range { low, high, with_ends: false };
    let closed = |low, high| Range { low, high, with_ends: true };
    let more = |back_by: &f64| if once_held { *back_by } else { 0.0 };
    Some(match test {
        Test::Above { limit, back_by } => vec![open(limit - more(back_by), f64::INFINITY)],
        Test::Below { limit, back_by } => vec![open(f64::NEG_INFINITY, limit + more(back_by))],
        Test::Between { low, high, back_by } => vec![closed(low - more(back_by), high + more(back_by))],
        Test::Outside { low, high, back_by } => {
            vec![open(f64::NEG_INFINITY, low + more(back_by)), open(high - more(back_by), f64::INFINITY)]
        }
        Test::Is(Value::Number(number)) => vec![closed(*number, *number)],
        _ => return None,
    })
}

/// Whether two conditions on one source can never hold for one value.
fn never_together(a: &Test, b: &Test) -> bool {
    match (a, b) {
        (Test::Is(a), Test::Is(b)) => a != b,
        (Test::Is(value), Test::IsNot(other)) | (Test::IsNot(other), Test::Is(value)) => value == other,
        _ => {
            let (Some(a), Some(b)) = (ranges(a, true), ranges(b, true)) else { return false };
            !a.iter().any(|one| b.iter().any(|other| one.meets(*other)))
        }
    }
}

/// Whether one of two conditions on one source holds for each number.
fn always(a: &Test, b: &Test) -> bool {
    let (Some(a), Some(b)) = (ranges(a, false), ranges(b, false)) else { return false };
    let mut all: Vec<Range> = a.into_iter().chain(b).collect();
    all.sort_by(|a, b| a.low.total_cmp(&b.low));
    let reached = all.iter().fold(f64::NEG_INFINITY, |reached, range| {
        let goes_on = range.low < reached || range.low == f64::NEG_INFINITY;
        if goes_on { reached.max(range.high) } else { reached }
    });
    reached == f64::INFINITY
}

impl Rule {
    /// What is wrong with it, in the order of its conditions. A rule without faults can open an alert and clear it again.
    pub fn faults(&self) -> Vec<Fault> {
        let mut faults = Vec::new();
        let whole = |kind| Fault { condition: None, other: None, kind };
        if !(1..=MOST_CONDITIONS).contains(&self.conditions.len()) {
            faults.push(whole(FaultKind::ConditionCount));
        }
        for (place, condition) in self.conditions.iter().enumerate() {
            let of = |kind| Fault { condition: Some(place), other: None, kind };
            faults.extend(fault(&condition.test).map(of));
            if matches!(condition.test, Test::Silent { .. }) && self.conditions.len() == 1 && self.at_least > 1 {
                faults.push(of(FaultKind::SilentMessages));
            }
            let after = self.conditions.iter().enumerate().skip(place + 1);
            let other = after.filter(|(_, other)| other.source == condition.source);
            faults.extend(other.filter_map(|(n, other)| {
                let kind = self.both(condition, other)?;
                Some(Fault { condition: Some(place), other: Some(n), kind })
            }));
        }
        if !(0..=LONGEST_MS).contains(&self.hold_ms) || !(0..=LONGEST_MS).contains(&self.reopen_within_ms) {
            faults.push(whole(FaultKind::Time));
        }
        let never = |active: &crate::Active| active.weekdays.iter().all(|day| !day);
        if self.active.as_ref().is_some_and(never) {
            faults.push(whole(FaultKind::NeverActive));
        }
        faults
    }

    fn both(&self, one: &Condition, other: &Condition) -> Option<FaultKind> {
        match self.combine {
            Combine::All if never_together(&one.test, &other.test) => Some(FaultKind::NeverTogether),
            Combine::Any if always(&one.test, &other.test) => Some(FaultKind::Always),
            Combine::All | Combine::Any => None,
        }
    }
}

/// What is wrong with a condition by itself.
fn fault(test: &Test) -> Option<FaultKind> {
    let finite = |numbers: &[f64]| (!numbers.iter().all(|number| number.is_finite())).then_some(FaultKind::NotFinite);
    let back = |back_by: f64| (back_by < 0.0).then_some(FaultKind::NotPositive);
    let more = |by: f64| (by <= 0.0).then_some(FaultKind::NotPositive);
    let time = |ms: i64| (!(1..=LONGEST_MS).contains(&ms)).then_some(FaultKind::Time);
    match test {
        Test::Above { limit, back_by } | Test::Below { limit, back_by } => {
            finite(&[*limit, *back_by]).or_else(|| back(*back_by))
        }
        Test::Between { low, high, back_by } => {
            let range = (low > high).then_some(FaultKind::EmptyRange);
            finite(&[*low, *high, *back_by]).or_else(|| back(*back_by)).or(range)
        }
        Test::Outside { low, high, back_by } => {
            let range = (low >= high).then_some(FaultKind::EmptyRange);
            let way = (low + back_by > high - back_by).then_some(FaultKind::NeverBack);
            finite(&[*low, *high, *back_by]).or_else(|| back(*back_by)).or(range).or(way)
        }
        Test::Is(value) | Test::IsNot(value) => (!value.is_finite()).then_some(FaultKind::NotFinite),
        Test::Changes => None,
        Test::Rises { by, within_ms } | Test::Falls { by, within_ms } => {
            finite(&[*by]).or_else(|| more(*by)).or_else(|| time(*within_ms))
        }
        Test::Differs { from, by, back_by } => {
            let within = match from {
                crate::Compared::With { within_ms, .. } => time(*within_ms),
                crate::Compared::Usual(_) => None,
            };
            let way = (back_by > by).then_some(FaultKind::NeverBack);
            finite(&[*by, *back_by]).or_else(|| more(*by)).or_else(|| back(*back_by)).or(within).or(way)
        }
        Test::Silent { for_ms } => time(*for_ms),
        Test::Inside(area) | Test::Beyond(area) => (!area.is_usable()).then_some(FaultKind::Area),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rule::Condition;

    fn above(limit: f64) -> Test {
        Test::Above { limit, back_by: 0.0 }
    }

    fn below(limit: f64) -> Test {
        Test::Below { limit, back_by: 0.0 }
    }

    fn rule(combine: Combine, tests: &[Test]) -> Rule {
        let conditions = tests.iter().map(|test| Condition { source: 0, test: test.clone() });
        Rule { conditions: conditions.collect(), combine, hold_ms: 0, at_least: 1, active: None, reopen_within_ms: 0 }
    }

    fn kinds(combine: Combine, tests: &[Test]) -> Vec<FaultKind> {
        rule(combine, tests).faults().into_iter().map(|fault| fault.kind).collect()
    }

    #[test]
    fn conditions_that_contradict_each_other_are_told() {
        use Combine::{All, Any};
        let between = |low, high| Test::Between { low, high, back_by: 0.0 };
        let outside = |low, high| Test::Outside { low, high, back_by: 0.0 };
        let is = |number| Test::Is(Value::Number(number));
        let never = [FaultKind::NeverTogether];
        assert_eq!(kinds(All, &[above(5.0), below(3.0)]), never);
        assert_eq!(kinds(All, &[above(5.0), below(5.0)]), never);
        assert_eq!(kinds(All, &[above(5.0), is(5.0)]), never);
        assert_eq!(kinds(All, &[outside(2.0, 8.0), between(2.0, 8.0)]), never);
        assert_eq!(kinds(All, &[is(1.0), is(2.0)]), never);
        assert_eq!(kinds(All, &[is(1.0), Test::IsNot(Value::Number(1.0))]), never);
        for good in [
            [above(3.0), below(5.0)],
            [between(1.0, 5.0), is(5.0)],
            [outside(2.0, 8.0), above(7.0)],
            [Test::Above { limit: 5.0, back_by: 2.0 }, below(4.0)],
            [above(5.0), Test::Changes],
        ] {
            assert!(kinds(All, &good).is_empty(), "{good:?}");
        }
        assert_eq!(kinds(Any, &[above(3.0), below(5.0)]), [FaultKind::Always]);
        assert_eq!(kinds(Any, &[outside(2.0, 8.0), between(1.0, 9.0)]), [FaultKind::Always]);
        assert!(kinds(Any, &[above(5.0), below(3.0)]).is_empty());
        let mut apart = rule(All, &[above(5.0), below(3.0)]);
        apart.conditions[1].source = 1;
        assert!(apart.faults().is_empty(), "they are on two sources");
    }

    #[test]
    fn values_that_cannot_be_are_told_with_their_condition() {
        let one = |test: Test| kinds(Combine::All, &[test]);
        assert_eq!(one(above(f64::NAN)), [FaultKind::NotFinite]);
        assert_eq!(one(Test::Below { limit: 1.0, back_by: -0.1 }), [FaultKind::NotPositive]);
        assert_eq!(one(Test::Outside { low: 8.0, high: 2.0, back_by: 0.0 }), [FaultKind::EmptyRange]);
        assert_eq!(one(Test::Outside { low: 2.0, high: 8.0, back_by: 4.0 }), [FaultKind::NeverBack]);
        assert_eq!(one(Test::Rises { by: 0.0, within_ms: 1 }), [FaultKind::NotPositive]);
        assert_eq!(one(Test::Falls { by: 1.0, within_ms: 0 }), [FaultKind::Time]);
        assert_eq!(one(Test::Silent { for_ms: LONGEST_MS + 1 }), [FaultKind::Time]);
        assert_eq!(one(Test::Inside(crate::Area { corners: Vec::new() })), [FaultKind::Area]);
        assert_eq!(kinds(Combine::All, &[]), [FaultKind::ConditionCount]);
        let nine: Vec<Test> = (0..9).map(|_| Test::Changes).collect();
        assert_eq!(kinds(Combine::Any, &nine), [FaultKind::ConditionCount]);
        let mut waits = rule(Combine::All, &[Test::Silent { for_ms: 1 }]);
        (waits.at_least, waits.hold_ms) = (2, -1);
        let fault = |condition, kind| Fault { condition, other: None, kind };
        assert_eq!(waits.faults(), [fault(Some(0), FaultKind::SilentMessages), fault(None, FaultKind::Time)]);
    }
}
