//! A web server that takes what an outlet delivers, and answers as a test wants it to.

use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use axum::Router;
use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::{HeaderMap, Method, StatusCode, Uri};
use axum::response::Response;
use serde_json::Value;
use tokio::net::TcpListener;
use tokio::task::JoinHandle;

use crate::wait::until_or_tell;

/// A request as it came.
#[derive(Debug, Clone)]
pub struct Received {
    /// Its method.
    pub method: Method,
    /// Its path and query.
    pub path: String,
    /// Its headers.
    pub headers: HeaderMap,
    /// Its body.
    pub body: Bytes,
    /// The status it was answered with.
    pub answered: u16,
}

impl Received {
    /// The body as JSON.
    ///
    /// # Panics
    /// If it is none.
    pub fn json(&self) -> Value {
        serde_json::from_slice(&self.body).expect("JSON")
    }

    /// The messages in it, whether one or several.
    pub fn messages(&self) -> Vec<Value> {
        match self.json() {
            Value::Array(all) => all,
            one => vec![one],
        }
    }
}

/// An answer.
#[derive(Debug, Clone)]
pub struct Reply {
    status: u16,
    headers: Vec<(&'static str, String)>,
    after: Duration,
    endless: bool,
}

impl Reply {
    /// An answer with a status.
    pub fn status(status: u16) -> Self {
        Self { status, headers: Vec::new(), after: Duration::ZERO, endless: false }
    }

    /// With a header.
    #[must_use]
    pub fn header(mut self, name: &'static str, value: impl Into<String>) -> Self {
        self.headers.push((name, value.into()));
        self
    }

    /// That comes late.
    #[must_use]
    pub fn after(self, after: Duration) -> Self {
        Self { after, ..self }
    }

    /// With a body that has no end.
    #[must_use]
    pub fn endless(self) -> Self {
        Self { endless: true, ..self }
    }
}

type Answers = Box<dyn FnMut(&Received) -> Reply + Send>;

struct Shared {
    received: Mutex<Vec<Received>>,
    answers: Mutex<Answers>,
}

/// A web server on loopback.
pub struct Sink {
    shared: Arc<Shared>,
    address: SocketAddr,
    server: Option<JoinHandle<()>>,
}

async fn take(
    State(shared): State<Arc<Shared>>,
    method: Method,
    uri: Uri,
    headers: HeaderMap,
    body: Bytes,
) -> Response {
    let mut received = Received { method, path: uri.to_string(), headers, body, answered: 0 };
    let reply = {
        let mut answers = shared.answers.lock().unwrap_or_else(PoisonError::into_inner);
        (*answers)(&received)
    };
    received.answered = reply.status;
    shared.received.lock().unwrap_or_else(PoisonError::into_inner).push(received);
    tokio::time::sleep(reply.after).await;
    let body = match reply.endless {
        true => Body::from_stream(futures::stream::repeat_with(|| Ok::<_, std::io::Error>(vec![b'x'; 65_536]))),
        false => Body::from(format!("answered {}", reply.status)),
    };
    let mut response = Response::builder().status(StatusCode::from_u16(reply.status).expect("a status"));
    for (name, value) in reply.headers {
        response = response.header(name, value);
    }
    response.body(body).expect("a response")
}

impl Sink {
    /// One that takes everything.
    pub async fn start() -> Self {
        Self::answering(|_| Reply::status(200)).await
    }

    /// One that answers like that.
    ///
    /// # Panics
    /// If there is no port.
    pub async fn answering(answers: impl FnMut(&Received) -> Reply + Send + 'static) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let address = listener.local_addr().expect("an address");
        let shared = Arc::new(Shared { received: Mutex::default(), answers: Mutex::new(Box::new(answers)) });
        let mut sink = Self { shared, address, server: None };
        sink.serve(listener);
        sink
    }

    fn serve(&mut self, listener: TcpListener) {
        let router = Router::new().fallback(take).with_state(Arc::clone(&self.shared));
        self.server = Some(tokio::spawn(async move {
            let _ = axum::serve(listener, router).await;
        }));
    }

    /// Where it is.
    pub fn url(&self) -> String {
        format!("http://{}/in", self.address)
    }

    /// Answers like that from now on.
    pub fn answer(&self, answers: impl FnMut(&Received) -> Reply + Send + 'static) {
        *self.shared.answers.lock().unwrap_or_else(PoisonError::into_inner) = Box::new(answers);
    }

    /// Goes away with all its connections; what it has received stays.
    pub async fn stop(&mut self) {
        if let Some(server) = self.server.take() {
            server.abort();
            let _ = server.await;
        }
    }

    /// Comes back where it was.
    ///
    /// # Panics
    /// If its port is taken.
    pub async fn come_back(&mut self) {
        let listener = TcpListener::bind(self.address).await.expect("its port");
        self.serve(listener);
    }

    /// Everything that came so far.
    pub fn received(&self) -> Vec<Received> {
        self.shared.received.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// The messages that it took, by their ids, in order.
    pub fn taken(&self) -> Vec<String> {
        let taken = self.received().into_iter().filter(|one| (200..300).contains(&one.answered));
        let ids = taken.flat_map(|one| one.messages()).map(|message| message["id"].as_str().expect("an id").to_owned());
        ids.collect()
    }

    /// Waits until so many requests have come.
    pub async fn wait_for(&self, count: usize) -> Vec<Received> {
        let told = || format!("{count} requests; {} came", self.received().len());
        until_or_tell(told, async || Some(self.received()).filter(|all| all.len() >= count)).await
    }
}

impl Drop for Sink {
    fn drop(&mut self) {
        if let Some(server) = &self.server {
            server.abort();
        }
        if !std::thread::panicking() {
            let bodies = self.received().into_iter().filter_map(|one| serde_json::from_slice::<Value>(&one.body).ok());
            for body in bodies {
                let messages = if let Value::Array(all) = body { all } else { vec![body] };
                messages.iter().for_each(|message| assert_eq!(crate::schemas::wrong_with(message), None));
            }
        }
    }
}
