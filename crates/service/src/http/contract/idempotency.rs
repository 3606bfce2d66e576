//! Requests that may come twice: a caller that has lost the answer sends the same request again with the same
//! `Idempotency-Key`, and gets the same answer. What it asked for is done once.

use api::problem::{Problem, bad_field};
use axum::body::{Body, Bytes, to_bytes};
use axum::extract::Request;
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderName, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse as _, Response};
use chrono::Utc;
use sha2::{Digest as _, Sha256};
use store::{KeptAnswer, KeyState, KeyedRequest, PersonId, Store};

use crate::http::contract::body::MAX_BODY;
use crate::http::error::{Refusal, too_large};

pub(crate) const KEY: HeaderName = HeaderName::from_static("idempotency-key");
/// Says that an answer is an earlier one.
const REPLAYED: HeaderName = HeaderName::from_static("idempotency-replayed");
/// Characters of a key at most.
const LONGEST: usize = 100;
/// Headers that belong to an answer.
const KEPT: [HeaderName; 3] = [header::CONTENT_TYPE, header::LOCATION, header::ETAG];

/// The key that came with a request.
fn key_of(headers: &HeaderMap) -> Result<Option<String>, Problem> {
    let Some(value) = headers.get(KEY) else { return Ok(None) };
    let text = value.to_str().unwrap_or_default().trim();
    if text.is_empty() || text.len() > LONGEST {
        let shown = String::from_utf8_lossy(value.as_bytes());
        return Err(bad_field("Idempotency-Key", &shown, format!("1 to {LONGEST} ASCII characters are allowed")));
    }
    Ok(Some(text.to_owned()))
}

fn keyed(person: PersonId, key: &str, parts: &Parts, body: &[u8]) -> KeyedRequest {
    let mut request = Sha256::new();
    for part in [parts.method.as_str().as_bytes(), b" ", parts.uri.to_string().as_bytes(), b"\n", body] {
        request.update(part);
    }
    KeyedRequest { person, key_hash: Sha256::digest(key.as_bytes()).into(), request_hash: request.finalize().into() }
}

/// Carries a request out unless that was done already.
pub(crate) async fn once(
    store: &Store,
    person: PersonId,
    most: usize,
    request: Request,
    carry_out: impl AsyncFnOnce(Request) -> Response,
) -> Response {
    match key_of(request.headers()) {
        Ok(None) => carry_out(request).await,
        Ok(Some(key)) => {
            let (parts, body) = request.into_parts();
            let Ok(body) = to_bytes(body, most).await else { return too_large().into_response() };
            let answer = with_key(store, keyed(person, &key, &parts, &body), (parts, body), carry_out).await;
            answer.unwrap_or_else(Refusal::into_response)
        }
        Err(problem) => Refusal(problem).into_response(),
    }
}

async fn with_key(
    store: &Store,
    keyed: KeyedRequest,
    (parts, body): (Parts, Bytes),
    carry_out: impl AsyncFnOnce(Request) -> Response,
) -> Result<Response, Refusal> {
    match store.begin_keyed(&keyed, Utc::now()).await? {
        KeyState::New => {}
        KeyState::Done(answer) => return Ok(replayed(&answer)),
        KeyState::Begun(at) => {
            let problem = Problem::new(409, "request_begun", "This request was begun, and its outcome is not known");
            let at = at.format("%Y-%m-%d %H:%M:%S UTC");
            return Err(problem
                .detail(format!("it came at {at}: wait a moment and ask again; if that does not help, look whether it was done, and use a new Idempotency-Key"))
                .into());
        }
        KeyState::OfAnother => {
            let allowed = "it came with another request already: a new request needs a new key";
            let key = parts.headers.get(KEY).and_then(|key| key.to_str().ok()).unwrap_or_default();
            return Err(bad_field("Idempotency-Key", key, allowed).into());
        }
        KeyState::TooMany => {
            let problem = Problem::new(429, "too_many_keys", "There are too many requests with an Idempotency-Key");
            return Err(problem.detail(format!("{} a day are kept for an account", store::MOST_KEYS)).into());
        }
    }
    let answer = carry_out(Request::from_parts(parts, Body::from(body))).await;
    keep(store, &keyed, answer).await
}

/// Keeps an answer, if it says that something was done. After a refusal the same key may be used again.
async fn keep(store: &Store, keyed: &KeyedRequest, answer: Response) -> Result<Response, Refusal> {
    if !answer.status().is_success() {
        store.forget_keyed(keyed).await?;
        return Ok(answer);
    }
    let (parts, body) = answer.into_parts();
    let bytes = to_bytes(body, MAX_BODY).await.map_err(|_| Refusal::internal())?;
    let headers = KEPT.iter().filter_map(|name| {
        let value = parts.headers.get(name)?.to_str().ok()?;
        Some((name.as_str().to_owned(), value.to_owned()))
    });
    let kept = KeptAnswer {
        status: parts.status.as_u16(),
        headers: headers.collect(),
        body: String::from_utf8_lossy(&bytes).into_owned(),
    };
    // It was done: a caller who asks again is told that it was begun, and not that it failed.
    if let Err(why) = store.end_keyed(keyed, &kept).await {
        tracing::error!("an answer could not be kept for its Idempotency-Key: {why}");
    }
    Ok(Response::from_parts(parts, Body::from(bytes)))
}

fn replayed(kept: &KeptAnswer) -> Response {
    let mut answer = Response::new(Body::from(kept.body.clone()));
    *answer.status_mut() = StatusCode::from_u16(kept.status).unwrap_or(StatusCode::OK);
    for (name, value) in &kept.headers {
        if let (Ok(name), Ok(value)) = (name.parse::<HeaderName>(), value.parse::<HeaderValue>()) {
            answer.headers_mut().insert(name, value);
        }
    }
    answer.headers_mut().insert(REPLAYED, HeaderValue::from_static("true"));
    answer
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_request_is_the_same_only_if_all_of_it_is() {
        let of = |uri: &str, body: &str| {
            let (parts, ()) = axum::http::Request::post(uri).body(()).unwrap().into_parts();
            keyed(1, "k", &parts, body.as_bytes()).request_hash
        };
        let first = of("/api/v1/estates/a/fleets", "{}");
        assert_eq!(first, of("/api/v1/estates/a/fleets", "{}"));
        assert_ne!(first, of("/api/v1/estates/a/fleets", "{ }"));
        assert_ne!(first, of("/api/v1/estates/b/fleets", "{}"));
    }

    #[test]
    fn a_key_is_short_and_plain() {
        let with = |text: &[u8]| key_of(&HeaderMap::from_iter([(KEY, HeaderValue::from_bytes(text).unwrap())]));
        assert_eq!(with(b" a-1 ").unwrap().as_deref(), Some("a-1"));
        assert!(with(b"").is_err() && with("ü".as_bytes()).is_err() && with(&[b'a'; 101]).is_err());
        assert_eq!(key_of(&HeaderMap::new()).unwrap(), None);
    }
}
