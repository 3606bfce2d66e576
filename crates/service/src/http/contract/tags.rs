//! Entity tags (RFC 9110 §8.8.3): a caller learns whether what it saw is still so.
//!
//! A tag has two parts, `"REVISION.CONTENT"`. The revision stands for the settings that a change would touch, and is what
//! `If-Match` compares: that a device was heard in the meantime is no reason to refuse a change. The content stands for
//! every byte of the answer, and is what `If-None-Match` compares. What has no revision has a tag of its content alone.

use axum::body::{Body, Bytes, HttpBody as _, to_bytes};
use axum::http::response::Parts;
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::Response;
use serde::Deserialize;
use sha2::{Digest as _, Sha256};

use crate::http::json::media_type;

/// Answers above this size have no tag.
const LARGEST: usize = 8 << 20;

/// The revision in an answer's body, if it has one.
#[derive(Deserialize)]
struct Revised {
    revision: Option<String>,
}

fn revision_in(body: &[u8]) -> Option<String> {
    serde_json::from_slice::<Revised>(body).ok()?.revision.filter(|revision| !revision.is_empty())
}

/// The revision that the caller of a change saw (`If-Match`).
pub(crate) fn if_match(headers: &HeaderMap) -> Option<String> {
    let value = headers.get(header::IF_MATCH)?.to_str().ok()?.trim();
    let tag = value.trim_start_matches("W/").trim_matches('"');
    let revision = tag.split('.').next().unwrap_or_default();
    Some(revision.to_owned()).filter(|revision| !revision.is_empty() && revision != "*")
}

/// Whether nothing is to be there yet (`If-None-Match: *`).
pub(crate) fn is_only_new(headers: &HeaderMap) -> bool {
    headers.get(header::IF_NONE_MATCH).is_some_and(|value| value.as_bytes().trim_ascii() == b"*")
}

/// Whether an answer is JSON, and whole already.
fn is_json(answer: &Response) -> bool {
    let whole = answer.body().size_hint().exact().is_some_and(|bytes| bytes <= LARGEST as u64);
    whole && media_type(answer.headers()) == "application/json"
}

async fn read(answer: Response) -> Result<(Parts, Bytes), Response> {
    let (parts, body) = answer.into_parts();
    match to_bytes(body, LARGEST).await {
        Ok(bytes) => Ok((parts, bytes)),
        // A whole body of a known size is read without an error.
        Err(_) => Err(Response::from_parts(parts, Body::empty())),
    }
}

/// Gives the answer to a change the tag of the new revision.
pub(crate) async fn revised(answer: Response) -> Response {
    if !answer.status().is_success() || !is_json(&answer) {
        return answer;
    }
    let (mut parts, bytes) = match read(answer).await {
        Ok(read) => read,
        Err(answer) => return answer,
    };
    let tag = revision_in(&bytes).and_then(|revision| HeaderValue::from_str(&format!("\"{revision}\"")).ok());
    if let Some(tag) = tag {
        parts.headers.insert(header::ETAG, tag);
    }
    Response::from_parts(parts, Body::from(bytes))
}

/// Gives an answer its tag, and leaves its body out if the caller has it already.
pub(crate) async fn tagged(asked: &HeaderMap, answer: Response) -> Response {
    if answer.status() != StatusCode::OK || !is_json(&answer) {
        return answer;
    }
    let (mut parts, bytes) = match read(answer).await {
        Ok(read) => read,
        Err(answer) => return answer,
    };
    let content = hex::encode(&Sha256::digest(&bytes)[..8]);
    let tag = match revision_in(&bytes) {
        Some(revision) => format!("\"{revision}.{content}\""),
        None => format!("\"{content}\""),
    };
    let known = asked.get_all(header::IF_NONE_MATCH).iter().filter_map(|value| value.to_str().ok());
    let unchanged = known.flat_map(|list| list.split(',')).any(|known| {
        let known = known.trim();
        known == "*" || known.trim_start_matches("W/") == tag
    });
    if let Ok(value) = HeaderValue::from_str(&tag) {
        parts.headers.insert(header::ETAG, value);
    }
    if unchanged {
        parts.status = StatusCode::NOT_MODIFIED;
        parts.headers.remove(header::CONTENT_TYPE);
        parts.headers.remove(header::CONTENT_LENGTH);
        return Response::from_parts(parts, Body::empty());
    }
    Response::from_parts(parts, Body::from(bytes))
}

#[cfg(test)]
mod tests {
    use axum::response::IntoResponse as _;

    use super::*;

    fn asking(name: header::HeaderName, value: &str) -> HeaderMap {
        HeaderMap::from_iter([(name, value.parse().unwrap())])
    }

    fn answer(text: &str) -> Response {
        ([(header::CONTENT_TYPE, "application/json")], text.to_owned()).into_response()
    }

    async fn tag(asked: &HeaderMap, text: &str) -> (StatusCode, String, usize) {
        let answer = tagged(asked, answer(text)).await;
        let tag = answer.headers()[header::ETAG].to_str().unwrap().to_owned();
        (answer.status(), tag, to_bytes(answer.into_body(), 1000).await.unwrap().len())
    }

    #[tokio::test]
    async fn an_answer_that_is_known_is_not_sent_again() {
        let (status, first, _) = tag(&HeaderMap::new(), r#"{"revision":"ab"}"#).await;
        assert!(status == StatusCode::OK && first.starts_with("\"ab."), "{first}");
        let known = asking(header::IF_NONE_MATCH, &format!("\"x\", {first}"));
        assert_eq!(tag(&known, r#"{"revision":"ab"}"#).await, (StatusCode::NOT_MODIFIED, first.clone(), 0));
        let changed = tag(&known, r#"{"revision":"ab","heard":1}"#).await;
        assert_eq!((changed.0, changed.2), (StatusCode::OK, 27), "the same revision, with other content");
        let (_, list, _) = tag(&HeaderMap::new(), "[]").await;
        assert!(!list.contains('.'), "a list has no revision: {list}");
        let made = revised(answer(r#"{"revision":"cd"}"#)).await;
        assert_eq!(made.headers()[header::ETAG], "\"cd\"");
    }

    #[test]
    fn a_change_compares_the_revision_alone() {
        assert_eq!(if_match(&asking(header::IF_MATCH, "\"ab.12\"")).as_deref(), Some("ab"));
        assert_eq!(if_match(&asking(header::IF_MATCH, "\"ab\"")).as_deref(), Some("ab"));
        assert_eq!(if_match(&asking(header::IF_MATCH, "ab")).as_deref(), Some("ab"));
        assert_eq!(if_match(&asking(header::IF_MATCH, "*")), None);
        assert_eq!(if_match(&HeaderMap::new()), None);
        assert!(is_only_new(&asking(header::IF_NONE_MATCH, "*")));
        assert!(!is_only_new(&asking(header::IF_NONE_MATCH, "\"ab\"")) && !is_only_new(&HeaderMap::new()));
    }
}
