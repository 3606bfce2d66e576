//! What types of the wire say and hide. They are tested from outside: built a second time for tests within, this crate of
//! derived code would take half a minute more.

#![allow(clippy::unwrap_used)] // a test program: a failed unwrap is a failed test

use api::device::place::Place;
use api::problem::kinds::{KINDS, markdown};
use api::problem::{FieldProblems, Problem, bad_field};
use api::secret::Secret;

#[test]
fn it_is_a_string_on_the_wire_and_nothing_in_a_log() {
    let secret: Secret = serde_json::from_str("\"tide and mud\"").unwrap();
    assert_eq!(&*secret, "tide and mud");
    assert_eq!(serde_json::to_string(&secret).unwrap(), "\"tide and mud\"");
    assert_eq!(format!("{:?}", Some(secret)), "Some(Secret(hidden))");
}

#[test]
fn kinds_stand_in_order_and_once() {
    assert!(KINDS.windows(2).all(|pair| pair[0].code < pair[1].code));
}

#[test]
fn the_page_in_docs_is_current() {
    let committed = include_str!("../../../docs/problems.md");
    assert_eq!(committed, markdown(), "run: cargo run -p service -- problems > docs/problems.md");
}

#[test]
fn all_that_is_wrong_is_told_at_once() {
    let mut problems = FieldProblems::default();
    assert_eq!(problems.take(Ok(3)), Some(3));
    let bad = |field: &str| -> Result<u8, Problem> { Err(bad_field(field, "x", "a number is wanted")) };
    assert_eq!((problems.take(bad("a")), problems.take(bad("b"))), (None, None));
    let problem = problems.end().unwrap_err();
    let fields: Vec<&str> = problem.fields.iter().map(|field| field.field.as_str()).collect();
    assert_eq!((fields, problem.field.as_deref()), (vec!["a", "b"], Some("a")));
    assert_eq!(problem.fields[1].detail, "\"x\" was given; a number is wanted");
    assert!(FieldProblems::default().end().is_ok());
}

#[test]
fn what_is_wrong_with_no_field_comes_first() {
    let mut problems = FieldProblems::default();
    problems.add(bad_field("a", "x", "y"));
    problems.add(Problem::new(409, "exists", "It exists already"));
    assert_eq!(problems.end().unwrap_err().code, "exists");
}

#[test]
fn a_place_is_told_in_words() {
    let mut place = Place { latitude_deg: 54.689, longitude_deg: 3.942, ..Place::default() };
    assert_eq!(place.to_string(), "54.68900, 3.94200");
    (place.height_m, place.indoor) = (Some(2.5), Some(false));
    assert_eq!(place.to_string(), "54.68900, 3.94200, 2.5 m above the ground, outdoors");
    (place.antenna_gain_dbi, place.penetration_loss_db) = (Some(-1.5), Some(8.0));
    assert!(place.to_string().ends_with("outdoors, antenna of -1.5 dBi, 8 dB lost around it"));
}
