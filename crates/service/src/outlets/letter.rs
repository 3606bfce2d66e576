//! What is known of a dead letter.

use api::outlet::{DeadLetter, Delivery, GivenAnswer, MadeRequest};
use serde::{Deserialize, Serialize};
use store::LetterRow;

/// What is known of the tries of a dead letter.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct LetterAbout {
    pub tries: u32,
    why: String,
    request: MadeRequest,
    answer: Option<GivenAnswer>,
}

impl LetterAbout {
    pub(super) fn of(tries: u32, last: &Delivery) -> Self {
        let why = last.why.clone().unwrap_or_default();
        Self { tries, why, request: last.request.clone(), answer: last.answer.clone() }
    }
}

/// As it is shown; nothing if its message cannot be read.
pub(crate) fn shown(row: LetterRow<LetterAbout>) -> Option<DeadLetter> {
    let LetterAbout { tries, why, request, answer } = row.about;
    Some(DeadLetter {
        id: row.id.to_string(),
        message: serde_json::from_str(&row.body).ok()?,
        given_up_at: row.given_up_at,
        tries,
        why,
        request,
        answer,
    })
}
