//! Calling the service.

use std::time::{Duration, Instant};

use anyhow::{Context as _, Result, anyhow, bail};
use api::Page;
use api::device::Device;
use api::metrics::Metrics;
use api::people::Me;
use api::problem::Problem;
use lorawan::Eui64;
use reqwest::{Method, RequestBuilder, Response, StatusCode};
use serde::Serialize;
use serde::de::DeserializeOwned;
use tokio::sync::OnceCell;

use crate::args::Global;
use crate::failure::{NotFound, Unreachable};
use crate::session;
use crate::terminal;

/// Entries asked for at once when a whole list is wanted.
const PAGE: &str = "500";

/// The service, and who we are there.
pub(crate) struct Client {
    http: reqwest::Client,
    url: String,
    token: String,
    /// The estate that is asked for, or the only one once it is known.
    estate: OnceCell<String>,
}

/// What speaks HTTP: with the certificate that was given, or that of the last sign-in, beside those of the machine.
fn http(global: &Global, stored: Option<&str>) -> Result<reqwest::Client> {
    let given = match &global.trust {
        Some(file) => Some(std::fs::read_to_string(file).with_context(|| format!("reading {}", file.display()))?),
        None => stored.map(str::to_owned),
    };
    // An error would say that there is one already.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let mut builder = reqwest::Client::builder().user_agent(concat!("heron/", env!("CARGO_PKG_VERSION")));
    if let Some(pem) = given {
        let certificate =
            reqwest::Certificate::from_pem(pem.as_bytes()).context("reading the certificate of --trust")?;
        builder = builder.tls_certs_merge([certificate]);
    }
    builder.build().context("preparing to call the service")
}

/// How long a request waits for its turn in all, when there were too many.
const PATIENCE: Duration = Duration::from_secs(30);

/// How long to wait, if the service says that there were too many requests.
fn too_many(response: &Response) -> Option<Duration> {
    let wait = response.headers().get("retry-after")?.to_str().ok()?.parse().ok()?;
    (response.status() == StatusCode::TOO_MANY_REQUESTS).then(|| Duration::from_secs(wait))
}

/// Sends a request, and tells it if that is wanted.
async fn told(request: RequestBuilder) -> reqwest::Result<Response> {
    let (http, request) = request.build_split();
    let request = request?;
    let (method, url, begun) = (request.method().clone(), request.url().clone(), Instant::now());
    let sent = http.execute(request).await;
    if terminal::is_verbose() {
        let answer = sent.as_ref().map_or_else(ToString::to_string, |response| response.status().to_string());
        eprintln!("{method} {url}: {answer}, {} ms", begun.elapsed().as_millis());
    }
    sent
}

/// What lies at the bottom of an error: the layers above it only say that something below them went wrong.
fn innermost(error: &reqwest::Error) -> String {
    let mut at: &dyn std::error::Error = error;
    while let Some(below) = at.source() {
        at = below;
    }
    at.to_string()
}

/// A part of a path, with any characters.
pub(crate) fn segment(text: &str) -> String {
    text.bytes()
        .map(|byte| match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => char::from(byte).to_string(),
            other => format!("%{other:02X}"),
        })
        .collect()
}

impl Client {
    /// From the options, or the last sign-in.
    pub(crate) fn signed_in(global: &Global) -> Result<Self> {
        let stored = session::load(global)?;
        let trusted = stored.as_ref().and_then(|stored| stored.trust.clone());
        let http = http(global, trusted.as_deref())?;
        let url = global.url.clone().or_else(|| stored.as_ref().map(|s| s.url.clone()));
        let token = global.token.clone().or_else(|| stored.map(|s| s.token));
        let (Some(url), Some(token)) = (url, token) else {
            let problem = Problem::new(401, "sign_in", "Not signed in");
            return Err(problem.detail("do `heron sign-in URL` first").into());
        };
        Ok(Self { http, url, token, estate: OnceCell::new_with(global.estate.clone()) })
    }

    /// Without a sign-in, for signing in.
    pub(crate) fn anonymous(global: &Global, url: &str) -> Result<Self> {
        let (http, url) = (http(global, None)?, url.trim_end_matches('/').into());
        Ok(Self { http, url, token: String::new(), estate: OnceCell::new() })
    }

    pub(crate) fn url(&self) -> &str {
        &self.url
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        let request = self.http.request(method, format!("{}{}{path}", self.url, api::BASE));
        if self.token.is_empty() { request } else { request.bearer_auth(&self.token) }
    }

    /// Sends a request. If the service says that there were too many, it waits as long as it is told, and tries again.
    async fn send(&self, request: RequestBuilder) -> Result<Response> {
        let mut waited = Duration::ZERO;
        loop {
            // A body that comes in parts can be sent only once.
            let Some(this) = request.try_clone() else { return self.answer(told(request).await).await };
            let sent = told(this).await;
            let wait = sent.as_ref().ok().and_then(too_many).filter(|wait| waited + *wait <= PATIENCE);
            let Some(wait) = wait else { return self.answer(sent).await };
            waited += wait;
            tokio::time::sleep(wait).await;
        }
    }

    async fn answer(&self, sent: reqwest::Result<Response>) -> Result<Response> {
        let response = sent.map_err(|error| Unreachable { url: self.url.clone(), why: innermost(&error) })?;
        let status = response.status();
        if status.is_success() {
            return Ok(response);
        }
        let body = response.text().await.unwrap_or_default();
        match serde_json::from_str::<Problem>(&body) {
            Ok(problem) => Err(problem.into()),
            Err(_) => Err(anyhow!("{} answered {status}: {body}", self.url)),
        }
    }

    /// The service's metrics.
    pub(crate) async fn metrics(&self) -> Result<Metrics> {
        self.get("/metrics", &[]).await
    }

    pub(crate) async fn get<T: DeserializeOwned>(&self, path: &str, query: &[(&str, String)]) -> Result<T> {
        let response = self.send(self.request(Method::GET, path).query(query)).await?;
        response.json().await.context("the service's answer cannot be read; is it of another version?")
    }

    pub(crate) async fn post<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T> {
        let response = self.send(self.request(Method::POST, path).json(body)).await?;
        Ok(response.json().await?)
    }

    /// A POST answered with a file.
    pub(crate) async fn fetch(&self, path: &str, body: &impl Serialize) -> Result<Vec<u8>> {
        let response = self.send(self.request(Method::POST, path).json(body)).await?;
        Ok(response.bytes().await?.to_vec())
    }

    /// A POST of a file, with options in the query.
    pub(crate) async fn upload<T: DeserializeOwned>(
        &self,
        path: &str,
        query: &impl Serialize,
        (kind, bytes): (&str, Vec<u8>),
    ) -> Result<T> {
        let request = self.request(Method::POST, path).query(query).header("content-type", kind).body(bytes);
        Ok(self.send(request).await?.json().await?)
    }

    /// The same, with what comes to pass while it goes on as an event stream.
    pub(crate) async fn upload_told(
        &self,
        path: &str,
        query: &impl Serialize,
        (kind, bytes): (&str, Vec<u8>),
    ) -> Result<Response> {
        let request = self.request(Method::POST, path).query(query).header("content-type", kind).body(bytes);
        self.send(request.header("accept", "text/event-stream")).await
    }

    /// Changes something in part.
    pub(crate) async fn patch<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T> {
        let response = self.send(self.request(Method::PATCH, path).json(body)).await?;
        Ok(response.json().await?)
    }

    pub(crate) async fn put<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T> {
        let response = self.send(self.request(Method::PUT, path).json(body)).await?;
        Ok(response.json().await?)
    }

    /// A PUT of something that must not be there yet.
    ///
    /// # Errors
    /// If it is there.
    pub(crate) async fn put_new<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T> {
        let request = self.request(Method::PUT, path).header("if-none-match", "*").json(body);
        Ok(self.send(request).await?.json().await?)
    }

    /// A PUT with a note of what it is for.
    pub(crate) async fn put_noted<T: DeserializeOwned>(
        &self,
        path: &str,
        note: &str,
        body: &impl Serialize,
    ) -> Result<T> {
        let request = self.request(Method::PUT, path).query(&[("note", note)]).json(body);
        Ok(self.send(request).await?.json().await?)
    }

    /// A PUT without an answer.
    pub(crate) async fn tell(&self, path: &str, body: &impl Serialize) -> Result<()> {
        self.send(self.request(Method::PUT, path).json(body)).await?;
        Ok(())
    }

    pub(crate) async fn delete(&self, path: &str) -> Result<Response> {
        self.send(self.request(Method::DELETE, path)).await
    }

    /// A POST without body or answer.
    pub(crate) async fn act(&self, path: &str) -> Result<()> {
        self.send(self.request(Method::POST, path)).await?;
        Ok(())
    }

    /// A POST with a body, without an answer.
    pub(crate) async fn act_with(&self, path: &str, body: &impl Serialize) -> Result<()> {
        self.send(self.request(Method::POST, path).json(body)).await?;
        Ok(())
    }

    /// An event stream, with what was missed since `last_id`.
    pub(crate) async fn stream(&self, path: &str, query: &[(&str, String)], last_id: Option<&str>) -> Result<Response> {
        let mut request = self.request(Method::GET, path).query(query);
        if let Some(id) = last_id {
            request = request.header("last-event-id", id);
        }
        self.send(request).await
    }

    /// A whole list, page by page.
    pub(crate) async fn all<T: DeserializeOwned>(&self, path: &str, query: &[(&str, String)]) -> Result<Vec<T>> {
        let mut items = Vec::new();
        let mut after = None;
        loop {
            let mut query = query.to_vec();
            query.push(("limit", PAGE.into()));
            query.extend(after.take().map(|cursor| ("after", cursor)));
            let page: Page<T> = self.get(path, &query).await?;
            items.extend(page.items);
            match page.next {
                Some(next) => after = Some(next),
                None => return Ok(items),
            }
        }
    }

    /// `/estates/…/` and what follows, for the estate asked for or the only one.
    pub(crate) async fn in_estate(&self, path: &str) -> Result<String> {
        let estate = self.estate.get_or_try_init(async || self.only_estate().await).await?;
        Ok(format!("/estates/{}/{path}", segment(estate)))
    }

    /// The path of one thing of a list in the estate, by its name or another sign of it.
    pub(crate) async fn one(&self, list: &str, name: &str) -> Result<String> {
        self.in_estate(&format!("{list}/{}", segment(name))).await
    }

    async fn only_estate(&self) -> Result<String> {
        let me: Me = self.get("/me", &[]).await?;
        match me.estates.as_slice() {
            [only] => Ok(only.slug.clone()),
            [] => bail!("this account belongs to no estate"),
            several => {
                let names: Vec<_> = several.iter().map(|e| e.slug.as_str()).collect();
                bail!("say which estate with --estate: {}", names.join(", "))
            }
        }
    }

    /// The DevEUI of a device given by DevEUI or name.
    pub(crate) async fn dev_eui(&self, device: &str) -> Result<Eui64> {
        if let Ok(eui) = device.parse() {
            return Ok(eui);
        }
        let like_it = [("find", device.to_owned())];
        let devices: Vec<Device> = self.all(&self.in_estate("devices").await?, &like_it).await?;
        match devices.iter().find(|d| d.name == device) {
            Some(found) => Ok(found.dev_eui),
            None => {
                let why = format!("no device has the name {device:?}, and it is no DevEUI (16 hex digits) either");
                Err(NotFound(why).into())
            }
        }
    }
}
