//! Rules at work on made-up values.
#![allow(clippy::unwrap_used)]

use std::sync::Arc;

use chrono_tz::Tz;
use proptest::prelude::*;
use rules::{
    Active, Area, AtMs, Combine, Compared, Condition, Event, EventKind, Hours, Machine, Rule, State, Test, Value, trial,
};

const MINUTE: i64 = 60_000;
const HOUR: i64 = 60 * MINUTE;
const GAUGE: u64 = 7;

fn rule(tests: Vec<(u16, Test)>) -> Rule {
    let conditions = tests.into_iter().map(|(source, test)| Condition { source, test }).collect();
    Rule { conditions, combine: Combine::All, hold_ms: 0, at_least: 1, active: None, reopen_within_ms: 0 }
}

fn above(limit: f64, back_by: f64) -> Test {
    Test::Above { limit, back_by }
}

/// What happens: each with its minute.
struct Run {
    machine: Machine,
    events: Vec<Event>,
}

impl Run {
    fn of(rule: Rule) -> Self {
        assert_eq!(rule.faults(), []);
        Self { machine: Machine::new(rule), events: Vec::new() }
    }

    fn value(&mut self, minute: i64, value: impl Into<Sample>) -> Vec<(EventKind, i64, i64)> {
        self.message(minute, &[(0, value.into().0)])
    }

    fn message(&mut self, minute: i64, samples: &[(u16, Value)]) -> Vec<(EventKind, i64, i64)> {
        self.machine.apply(GAUGE, AtMs(minute * MINUTE), samples, &mut self.events);
        self.told()
    }

    fn until(&mut self, minute: i64) -> Vec<(EventKind, i64, i64)> {
        self.machine.advance(AtMs(minute * MINUTE), &mut self.events);
        self.told()
    }

    fn told(&mut self) -> Vec<(EventKind, i64, i64)> {
        self.events.drain(..).map(|event| (event.kind, event.crossing.0 / MINUTE, event.at.0 / MINUTE)).collect()
    }
}

struct Sample(Value);

impl From<f64> for Sample {
    fn from(number: f64) -> Self {
        Self(Value::Number(number))
    }
}

impl From<&str> for Sample {
    fn from(text: &str) -> Self {
        Self(Value::Text(Arc::from(text)))
    }
}

impl From<bool> for Sample {
    fn from(flag: bool) -> Self {
        Self(Value::Flag(flag))
    }
}

impl From<(f64, f64)> for Sample {
    fn from((latitude_deg, longitude_deg): (f64, f64)) -> Self {
        Self(Value::Place { latitude_deg, longitude_deg })
    }
}

use EventKind::{Cleared, Opened, Reopened};

#[test]
fn noise_at_the_limit_neither_opens_twice_nor_clears() {
    let mut run = Run::of(rule(vec![(0, above(3.0, 0.5))]));
    assert_eq!(run.value(0, 2.9), []);
    assert_eq!(run.value(1, 3.1), [(Opened, 1, 1)]);
    assert_eq!([run.value(2, 2.9), run.value(3, 3.2), run.value(4, 2.6)].concat(), []);
    assert_eq!(run.value(5, 2.5), [(Cleared, 1, 5)]);
    assert_eq!(run.value(6, 2.9), []);
}

#[test]
fn each_test_holds_where_it_says() {
    let zone = Tz::UTC;
    let square = Area { corners: vec![(0.0, 0.0), (0.0, 1.0), (1.0, 1.0), (1.0, 0.0)] };
    let text = |text: &str| Sample::from(text);
    let numbers = |all: &[f64]| all.iter().map(|one| Sample::from(*one)).collect::<Vec<_>>();
    let usual: Vec<f64> = [vec![10.0; 6], vec![12.0, 14.0, 10.5]].concat();
    let cases: Vec<(Test, Vec<Sample>, &str)> = vec![
        (Test::Below { limit: 1.0, back_by: 0.5 }, numbers(&[1.0, 0.9, 1.4, 1.5]), ".##."),
        (Test::Between { low: 1.0, high: 2.0, back_by: 0.1 }, numbers(&[0.9, 1.0, 2.1, 2.2, 2.05]), ".##.."),
        (Test::Outside { low: 1.0, high: 2.0, back_by: 0.1 }, numbers(&[1.0, 0.9, 1.05, 1.2, 2.1]), ".##.#"),
        (Test::Is(text("open").0), vec![text("shut"), text("open"), text("ajar")], ".#."),
        (Test::IsNot(Sample::from(true).0), vec![true.into(), false.into(), 1.0.into()], ".#."),
        (Test::Changes, vec![text("a"), text("b"), text("b"), text("a")], ".#.#"),
        (Test::Rises { by: 2.0, within_ms: 3 * MINUTE }, numbers(&[1.0, 2.0, 3.0, 3.0, 3.0, 3.0]), "..##.."),
        (Test::Falls { by: 2.0, within_ms: 9 * MINUTE }, numbers(&[5.0, 4.0, 3.0, 4.0]), "..#."),
        (Test::Inside(square.clone()), vec![(0.5, 0.5).into(), (2.0, 0.5).into()], "#."),
        (Test::Beyond(square), vec![(0.5, 0.5).into(), (2.0, 0.5).into(), 3.0.into()], ".#."),
        (Test::Differs { from: Compared::Usual(zone), by: 1.5, back_by: 0.0 }, numbers(&usual), "......##."),
    ];
    for (test, values, expected) in cases {
        let mut run = Run::of(rule(vec![(0, test.clone())]));
        let mut held = String::new();
        for (minute, value) in (1..).zip(values) {
            run.value(minute, value);
            let state = run.machine.state(GAUGE).unwrap();
            held.push(if state.open().is_some() { '#' } else { '.' });
        }
        assert_eq!(held, expected, "{test:?}");
    }
}

#[test]
fn conditions_on_several_sources_are_combined() {
    let mut all = rule(vec![(0, above(3.0, 0.0)), (1, Test::Is(Value::Flag(true)))]);
    let message = |level: f64, open: bool| [(0, Value::Number(level)), (1, Value::Flag(open))];
    let mut both = Run::of(all.clone());
    assert_eq!(both.message(1, &message(4.0, false)), []);
    assert_eq!(both.message(2, &[(1, Value::Flag(true))]), [(Opened, 2, 2)], "the level is still above");
    assert_eq!(both.message(3, &message(2.0, true)), [(Cleared, 2, 3)]);
    all.combine = Combine::Any;
    let mut any = Run::of(all);
    assert_eq!(any.message(1, &message(4.0, false)), [(Opened, 1, 1)]);
    assert_eq!(any.message(2, &message(2.0, true)), [], "one of them holds on");
    assert_eq!(any.message(3, &message(2.0, false)), [(Cleared, 1, 3)]);
}

#[test]
fn it_has_to_hold_for_a_time_and_for_some_messages() {
    let mut held = rule(vec![(0, above(3.0, 0.0))]);
    held.hold_ms = 10 * MINUTE;
    let mut run = Run::of(held.clone());
    assert_eq!([run.value(0, 4.0), run.value(5, 2.0), run.value(6, 4.0), run.until(15)].concat(), []);
    assert_eq!(run.until(20), [(Opened, 6, 16)], "no further value is needed, and its own time is told");
    let mut late = Run::of(held.clone());
    assert_eq!(late.value(0, 4.0), []);
    assert_eq!(late.value(30, 2.0), [(Opened, 0, 10), (Cleared, 0, 30)], "also without a call of advance in between");
    held.hold_ms = 0;
    held.at_least = 3;
    let mut run = Run::of(held);
    let values = [4.0, 4.0, 2.0, 4.0, 4.0, 4.0];
    let told: Vec<_> = (0..).zip(values).flat_map(|(minute, value)| run.value(minute, value)).collect();
    assert_eq!(told, [(Opened, 3, 5)]);
}

#[test]
fn silence_is_found_and_ended_by_any_value() {
    let mut run = Run::of(rule(vec![(0, Test::Silent { for_ms: 60 * MINUTE })]));
    run.machine.watch(GAUGE, AtMs(0));
    assert_eq!(run.machine.next(), Some(AtMs(HOUR)));
    assert_eq!(run.value(30, f64::NAN), [], "no number is no value");
    assert_eq!(run.until(61), [(Opened, 60, 60)], "nothing was ever heard");
    assert_eq!(run.value(70, 1.0), [(Cleared, 60, 70)]);
    for minute in (80..200).step_by(10) {
        assert_eq!(run.value(minute, 1.0), []);
    }
    assert_eq!(run.until(249), []);
    assert_eq!(run.until(400), [(Opened, 250, 250)]);
    assert_eq!(run.machine.next(), None, "nothing is due as long as it is silent");
}

#[test]
fn an_alert_opens_in_active_hours_only_and_is_cleared_at_any_time() {
    let mut office = rule(vec![(0, above(3.0, 0.0))]);
    let hours = Hours { from_min: 8 * 60, until_min: 17 * 60 };
    office.active = Some(Active { zone: Tz::UTC, weekdays: [true; 7], hours, quiet: Vec::new() });
    let mut run = Run::of(office);
    assert_eq!([run.value(6 * 60, 4.0), run.until(7 * 60 + 59)].concat(), []);
    assert_eq!(run.until(8 * 60), [(Opened, 6 * 60, 8 * 60)]);
    assert_eq!(run.value(18 * 60, 2.0), [(Cleared, 6 * 60, 18 * 60)]);
    assert_eq!([run.value(19 * 60, 4.0), run.value(20 * 60, 2.0), run.until(48 * 60)].concat(), []);
}

#[test]
fn soon_after_it_is_the_same_alert() {
    let mut again = rule(vec![(0, above(3.0, 0.0))]);
    again.reopen_within_ms = 10 * MINUTE;
    let mut run = Run::of(again);
    let values = [(0, 4.0), (1, 2.0), (5, 4.0), (6, 2.0), (16, 4.0)];
    let told: Vec<_> = values.into_iter().flat_map(|(minute, value)| run.value(minute, value)).collect();
    assert_eq!(told, [(Opened, 0, 0), (Cleared, 0, 1), (Reopened, 0, 5), (Cleared, 0, 6), (Opened, 16, 16)]);
}

#[test]
fn two_devices_are_compared_while_the_other_is_not_too_old() {
    const OTHER: u64 = 8;
    let with = Compared::With { subject: OTHER, within_ms: 30 * MINUTE };
    let mut run = Run::of(rule(vec![(0, Test::Differs { from: with, by: 1.0, back_by: 0.5 })]));
    assert_eq!(run.value(0, 9.0), [], "the other has said nothing");
    let other = |minute: i64, value: f64, machine: &mut Machine| {
        machine.apply(OTHER, AtMs(minute * MINUTE), &[(0, Value::Number(value))], &mut Vec::new());
    };
    other(1, 3.0, &mut run.machine);
    assert_eq!(run.value(2, 4.2), [(Opened, 2, 2)]);
    other(3, 3.5, &mut run.machine);
    assert_eq!(run.value(4, 4.2), []);
    other(2, 90.0, &mut run.machine);
    assert_eq!(run.value(5, 4.0), [(Cleared, 2, 5)], "an older value of the other does not count");
    assert_eq!(run.value(40, 9.0), [], "too old");
}

#[test]
fn what_comes_late_or_cannot_be_used_is_counted_and_changes_nothing() {
    let mut run = Run::of(rule(vec![(0, above(3.0, 0.0))]));
    assert_eq!(run.value(10, 4.0), [(Opened, 10, 10)]);
    assert_eq!([run.value(10, 1.0), run.value(9, 1.0), run.value(11, f64::INFINITY)].concat(), []);
    assert_eq!(run.value(12, "broken"), [(Cleared, 10, 12)], "a reading that is no number any more is not above");
    let left_out = run.machine.left_out();
    assert_eq!((left_out.late, left_out.not_finite, left_out.other_kind), (2, 1, 1));
}

#[test]
fn a_subject_that_is_gone_leaves_no_alert_open() {
    let mut run = Run::of(rule(vec![(0, above(3.0, 0.0))]));
    run.value(1, 4.0);
    run.machine.forget(GAUGE, AtMs(2 * MINUTE), &mut run.events);
    assert_eq!(run.told(), [(Cleared, 1, 2)]);
    assert!(run.machine.state(GAUGE).is_none());
}

#[test]
fn an_event_tells_the_values_that_caused_it() {
    let mut run = Run::of(rule(vec![(0, above(3.0, 0.0)), (1, Test::Changes)]));
    run.machine.apply(GAUGE, AtMs(5), &[(0, Value::Number(4.0)), (1, Value::Number(1.0))], &mut run.events);
    run.machine.apply(GAUGE, AtMs(9), &[(1, Value::Number(2.0))], &mut run.events);
    let causes = &run.events[0].causes;
    assert!(causes.iter().all(|cause| cause.holds));
    assert_eq!((causes[0].at, causes[1].at), (Some(AtMs(5)), Some(AtMs(9))));
    assert_eq!(causes[1].value, Some(Value::Number(2.0)));
}

/// A rule of many parts, for values between 0 and 10 and silence.
fn of_many_parts() -> Rule {
    let mut rule = rule(vec![
        (0, Test::Outside { low: 2.0, high: 8.0, back_by: 0.5 }),
        (0, Test::Rises { by: 4.0, within_ms: HOUR }),
        (0, Test::Silent { for_ms: 2 * HOUR }),
        (0, Test::Differs { from: Compared::Usual(Tz::UTC), by: 3.0, back_by: 1.0 }),
    ]);
    (rule.combine, rule.hold_ms, rule.reopen_within_ms) = (Combine::Any, 20 * MINUTE, HOUR);
    rule
}

proptest! {
    #[test]
    fn it_goes_on_after_a_restart_as_if_there_was_none(
        values in prop::collection::vec((1_i64..200, 0_u32..100, any::<bool>()), 1..80)
    ) {
        let (mut whole, mut parts) = (Machine::new(of_many_parts()), Machine::new(of_many_parts()));
        let (mut of_whole, mut of_parts, mut at) = (Vec::new(), Vec::new(), AtMs(0));
        for (minutes, value, restart) in values {
            at = at.plus(minutes * MINUTE);
            let samples = [(0, Value::Number(f64::from(value) / 10.0))];
            whole.apply(GAUGE, at, &samples, &mut of_whole);
            parts.apply(GAUGE, at, &samples, &mut of_parts);
            if restart {
                let stored = serde_json::to_string(parts.state(GAUGE).unwrap()).unwrap();
                let state: State = serde_json::from_str(&stored).unwrap();
                parts = Machine::new(of_many_parts());
                prop_assert!(parts.restore(GAUGE, state));
            }
        }
        for (machine, events) in [(&mut whole, &mut of_whole), (&mut parts, &mut of_parts)] {
            machine.advance(at.plus(24 * HOUR), events);
        }
        prop_assert_eq!(of_whole, of_parts);
    }

    #[test]
    fn how_often_time_is_told_makes_no_difference_and_alerts_open_and_clear_in_turn(
        values in prop::collection::vec((1_i64..200, 0_u32..100), 1..80)
    ) {
        let mut messages = Vec::new();
        let mut at = AtMs(0);
        for (minutes, value) in values {
            at = at.plus(minutes * MINUTE);
            messages.push((at, [(0_u16, Value::Number(f64::from(value) / 10.0))]));
        }
        let end = at.plus(24 * HOUR);
        let mut seldom = (Machine::new(of_many_parts()), Vec::new());
        for (at, samples) in &messages {
            seldom.0.apply(GAUGE, *at, samples, &mut seldom.1);
        }
        seldom.0.advance(end, &mut seldom.1);
        let mut often = (Machine::new(of_many_parts()), Vec::new());
        let mut next = messages.iter().peekable();
        for minute in 0..=end.0 / MINUTE {
            let now = AtMs(minute * MINUTE);
            while let Some((at, samples)) = next.next_if(|(at, _)| *at <= now) {
                often.0.apply(GAUGE, *at, samples, &mut often.1);
            }
            often.0.advance(now, &mut often.1);
        }
        prop_assert_eq!(&seldom.1, &often.1);
        for (place, event) in often.1.iter().enumerate() {
            prop_assert_eq!(event.kind == Cleared, place % 2 == 1);
            prop_assert!(event.at >= event.crossing);
        }
        let tried = trial::run(
            of_many_parts(),
            [],
            messages.iter().map(|(at, samples)| (GAUGE, *at, samples.as_slice())),
            (AtMs(0), end),
        );
        let opened: Vec<&Event> = often.1.iter().filter(|event| event.kind != Cleared).collect();
        prop_assert_eq!(tried.iter().map(|firing| &firing.opened).collect::<Vec<_>>(), opened);
    }
}

#[test]
fn a_state_of_another_rule_is_not_taken() {
    let mut one = Run::of(rule(vec![(0, above(3.0, 0.0))]));
    one.value(1, 4.0);
    let state = one.machine.state(GAUGE).unwrap().clone();
    assert!(!Machine::new(of_many_parts()).restore(GAUGE, state));
}

#[test]
fn what_has_changed_is_told_once() {
    let mut run = Run::of(of_many_parts());
    run.value(1, 4.0);
    run.value(2, 4.0);
    assert_eq!(run.machine.take_changed(), [GAUGE]);
    assert!(run.machine.take_changed().is_empty());
    run.until(10);
    assert!(run.machine.take_changed().is_empty(), "nothing happened");
    run.until(200);
    assert_eq!(run.machine.take_changed(), [GAUGE], "it is silent");
    let mut late = Run::of(of_many_parts());
    late.value(1, 4.0);
    late.machine.take_changed();
    assert_eq!(late.value(200, f64::NAN), [(Opened, 121, 141)]);
    assert_eq!(late.machine.take_changed(), [GAUGE], "its timer fired, although the value does not count");
}
