//! Bodies that come too slowly: each has so long to come as a whole.

use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use axum::body::{Body, Bytes, HttpBody};
use axum::extract::Request;
use axum::http::{HeaderMap, header};
use axum::middleware::Next;
use axum::response::Response;
use hyper::body::{Frame, SizeHint};
use tokio::time::Sleep;

/// What any body may take.
const AT_LEAST: Duration = Duration::from_secs(30);
/// What a body of unknown length may take.
const UNKNOWN: Duration = Duration::from_secs(120);
/// Bytes a second that a body comes with at least: 128 kbit/s.
const SLOWEST: u64 = 16_000;

/// A body that ends with an error when it has not come in time.
struct InTime {
    body: Body,
    ends: Pin<Box<Sleep>>,
}

/// How long a body may take to come.
fn allowed(headers: &HeaderMap) -> Duration {
    let length = headers.get(header::CONTENT_LENGTH).and_then(|length| length.to_str().ok());
    match length.and_then(|length| length.parse::<u64>().ok()) {
        Some(bytes) => AT_LEAST + Duration::from_secs(bytes / SLOWEST),
        None => UNKNOWN,
    }
}

impl HttpBody for InTime {
    type Data = Bytes;
    type Error = axum::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Self::Data>, Self::Error>>> {
        if let Poll::Ready(frame) = Pin::new(&mut self.body).poll_frame(cx) {
            return Poll::Ready(frame);
        }
        match self.ends.as_mut().poll(cx) {
            Poll::Ready(()) => Poll::Ready(Some(Err(axum::Error::new("it did not come in time")))),
            Poll::Pending => Poll::Pending,
        }
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}

/// Gives each body the time that it may take.
pub(crate) async fn in_time(request: Request, next: Next) -> Response {
    if request.body().is_end_stream() {
        return next.run(request).await;
    }
    let (parts, body) = request.into_parts();
    let ends = Box::pin(tokio::time::sleep(allowed(&parts.headers)));
    next.run(Request::from_parts(parts, Body::new(InTime { body, ends }))).await
}

#[cfg(test)]
mod tests {
    use axum::body::to_bytes;

    use super::*;

    #[test]
    fn a_large_body_has_more_time_and_one_of_unknown_length_has_an_end() {
        let of = |length: &str| allowed(&HeaderMap::from_iter([(header::CONTENT_LENGTH, length.parse().unwrap())]));
        assert_eq!((of("0"), of("160000")), (AT_LEAST, AT_LEAST + Duration::from_secs(10)));
        assert_eq!((allowed(&HeaderMap::new()), of("many")), (UNKNOWN, UNKNOWN));
    }

    #[tokio::test]
    async fn a_body_that_does_not_come_in_time_is_ended() {
        let within = async |time: Duration, body: Body| {
            let in_time = InTime { body, ends: Box::pin(tokio::time::sleep(time)) };
            to_bytes(Body::new(in_time), 1_000).await.map_err(|why| why.to_string())
        };
        let never = Body::from_stream(futures::stream::pending::<Result<Bytes, std::convert::Infallible>>());
        assert!(within(Duration::ZERO, never).await.unwrap_err().contains("did not come in time"));
        // What is there already is taken, however late it is.
        assert_eq!(within(Duration::ZERO, Body::from("all of it")).await.unwrap(), "all of it");
    }
}
