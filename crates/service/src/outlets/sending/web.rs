//! Delivers messages to a web server: one request for one message, or for several.
//!
//! Where an address leads is looked at on each connection, so that nobody reaches this machine or its network through an
//! outlet unless the operator allows that host.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use anyhow::{Context as _, Result, bail};
use api::outlet::{GivenAnswer, MadeRequest, OutletSecrets, Webhook};
use chrono::{DateTime, Utc};
use domain::outlet::signature::{SIGNATURE_HEADER, TIME_HEADER, signature};
use reqwest::dns::{Addrs, Name, Resolve, Resolving};
use reqwest::header::{HeaderMap, HeaderName, HeaderValue, LOCATION, RETRY_AFTER};
use reqwest::{Certificate, Client, Identity, Response, StatusCode, Url, redirect};

use super::{MOST_SHOWN, Outcome, Shaped, Tried, beginning, may_reach};
use crate::net::outside::{Leads, inside, look_up};

/// How long a connection may take.
const CONNECT: Duration = Duration::from_secs(5);
/// Redirects that are followed one after another.
const MOST_REDIRECTS: usize = 3;
/// The longest pause that the other side can ask for.
const LONGEST_PAUSE: Duration = Duration::from_secs(24 * 3600);

/// Looks up names, and gives no address inside unless the host is allowed.
struct OutsideOnly(Arc<[String]>);

impl Resolve for OutsideOnly {
    fn resolve(&self, name: Name) -> Resolving {
        let allowed = Arc::clone(&self.0);
        Box::pin(async move {
            let addresses: Vec<SocketAddr> = match look_up(name.as_str(), 0, &allowed).await? {
                Leads::Outside(found) => found.into_iter().map(|ip| SocketAddr::new(ip, 0)).collect(),
                Leads::Allowed => tokio::net::lookup_host((name.as_str(), 0)).await?.collect(),
                Leads::Inside => return Err(inside(name.as_str()).into()),
            };
            Ok(Box::new(addresses.into_iter()) as Addrs)
        })
    }
}

/// A web server, ready to be sent messages.
pub(super) struct WebServer {
    client: Client,
    url: Url,
    webhook: Webhook,
    secrets: OutletSecrets,
    allowed: Arc<[String]>,
}

impl WebServer {
    /// # Errors
    /// If the certificates or the key cannot be read, or the address is none.
    pub(super) fn new(webhook: &Webhook, secrets: &OutletSecrets, allowed: Arc<[String]>) -> Result<Self> {
        let within = Duration::from_secs_f64(webhook.answer_within_s.unwrap_or(domain::outlet::ANSWER_WITHIN_S));
        let mut builder = Client::builder()
            .user_agent(concat!("keen-heron/", env!("CARGO_PKG_VERSION")))
            .redirect(redirect::Policy::none())
            .no_proxy()
            .referer(false)
            .connect_timeout(CONNECT)
            .timeout(within)
            .pool_idle_timeout(Duration::from_secs(60))
            .dns_resolver(Arc::new(OutsideOnly(Arc::clone(&allowed))));
        if let Some(trust) = &webhook.trust {
            let certificates = Certificate::from_pem_bundle(trust.as_bytes()).context("to.webhook.trust")?;
            builder = builder.tls_certs_only(certificates);
        }
        if let (Some(certificate), Some(key)) = (&webhook.certificate, &secrets.key) {
            let both = zeroize::Zeroizing::new(format!("{certificate}\n{}", key.as_str()));
            builder = builder.identity(Identity::from_pem(both.as_bytes()).context("to.webhook.certificate")?);
        }
        let client = builder.build().context("to.webhook.trust")?;
        let url = Url::parse(&webhook.url).context("to.webhook.url")?;
        if url.host_str().is_none() {
            bail!("to.webhook.url: it has no host");
        }
        Ok(Self { client, url, webhook: webhook.clone(), secrets: secrets.clone(), allowed })
    }

    /// Messages that one request takes.
    pub(super) fn most(&self) -> usize {
        self.webhook.together.map_or(1, |together| together.most as usize)
    }

    /// How long a message waits for others.
    pub(super) fn gather(&self) -> Duration {
        self.webhook.together.map_or(Duration::ZERO, |together| Duration::from_secs_f64(together.within_s))
    }

    /// Sends messages in one request.
    pub(super) async fn send(&self, messages: &[Shaped<'_>], at: DateTime<Utc>) -> Tried {
        let body = match (&self.webhook.together, messages) {
            (None, [one]) => one.json.clone(),
            _ => format!("[{}]", messages.iter().map(|one| one.json.as_str()).collect::<Vec<_>>().join(",")),
        };
        let (outcome, answer, headers) = self.request(body.as_bytes(), at, messages).await;
        let line = format!("{} {}", self.webhook.method.name(), self.url);
        let request = MadeRequest { line, headers: self.shown(&headers), body: beginning(&body).to_owned() };
        Tried { outcome, request, answer }
    }

    /// The headers of a request to the address itself; another host gets none with secrets.
    fn headers(&self, own: bool, (at, body): (DateTime<Utc>, &[u8]), messages: &[Shaped<'_>]) -> HeaderMap {
        let mut headers = HeaderMap::new();
        let mut put = |name: &str, value: &str, secret: bool| {
            if let (Ok(name), Ok(mut value)) = (name.parse::<HeaderName>(), HeaderValue::from_str(value)) {
                value.set_sensitive(secret);
                headers.insert(name, value);
            }
        };
        put("content-type", "application/json", false);
        self.webhook.headers.iter().for_each(|(name, value)| put(name, value, false));
        put(TIME_HEADER, &at.timestamp().to_string(), false);
        if let [one] = messages {
            put("Keen-Heron-Message", &one.written.message.id, false);
        }
        if let Some(secret) = &self.secrets.signing {
            put(SIGNATURE_HEADER, &signature(secret, at.timestamp(), body), false);
        }
        if own {
            self.secrets.headers.iter().for_each(|(name, value)| put(name, value, true));
            if let Some(token) = &self.secrets.bearer {
                put("authorization", &zeroize::Zeroizing::new(format!("Bearer {}", token.as_str())), true);
            }
        }
        headers
    }

    /// Headers as people see them.
    fn shown(&self, headers: &HeaderMap) -> BTreeMap<String, String> {
        let value = |value: &HeaderValue| match value.is_sensitive() {
            true => "(hidden)".to_owned(),
            false => String::from_utf8_lossy(value.as_bytes()).into_owned(),
        };
        let mut shown: BTreeMap<String, String> =
            headers.iter().map(|(name, of)| (name.to_string(), value(of))).collect();
        if self.webhook.account.is_some() {
            shown.insert("authorization".into(), "(hidden)".into());
        }
        shown
    }

    async fn request(
        &self,
        body: &[u8],
        at: DateTime<Utc>,
        messages: &[Shaped<'_>],
    ) -> (Outcome, Option<GivenAnswer>, HeaderMap) {
        let mut url = self.url.clone();
        let first = self.headers(true, (at, body), messages);
        for _ in 0..=MOST_REDIRECTS {
            if let Err(why) = self.may_reach_number(&url).await {
                return (Outcome::Unreached(format!("{why:#}")), None, first);
            }
            let own = url.origin() == self.url.origin();
            let headers = if own { first.clone() } else { self.headers(false, (at, body), messages) };
            let method = match self.webhook.method {
                api::outlet::Method::Post => reqwest::Method::POST,
                api::outlet::Method::Put => reqwest::Method::PUT,
                api::outlet::Method::Patch => reqwest::Method::PATCH,
            };
            let mut request = self.client.request(method, url.clone()).headers(headers).body(body.to_vec());
            if let (Some(account), Some(password), true) = (&self.webhook.account, &self.secrets.password, own) {
                request = request.basic_auth(account, Some(password.as_str()));
            }
            let response = match request.send().await {
                Ok(response) => response,
                Err(why) => return (Outcome::Unreached(told(&why)), None, first),
            };
            match self.redirected(&url, &response) {
                Ok(Some(to)) => url = to,
                Ok(None) => {
                    let (outcome, answer) = judge(response).await;
                    return (outcome, Some(answer), first);
                }
                Err(why) => {
                    let answer = GivenAnswer { status: response.status().as_u16(), body: String::new() };
                    return (Outcome::Away(why, None), Some(answer), first);
                }
            }
        }
        (Outcome::Away(format!("it redirects more than {MOST_REDIRECTS} times"), None), None, first)
    }

    /// An address that is written as a number is not looked up by the client.
    async fn may_reach_number(&self, url: &Url) -> Result<()> {
        let host = url.host_str().unwrap_or_default();
        if host.trim_matches(['[', ']']).parse::<std::net::IpAddr>().is_err() {
            return Ok(());
        }
        may_reach(host, &look_up(host, url.port_or_known_default().unwrap_or(443), &self.allowed).await?)
    }

    /// Where an answer sends the request to, if it does.
    fn redirected(&self, from: &Url, response: &Response) -> Result<Option<Url>, String> {
        if !response.status().is_redirection() {
            return Ok(None);
        }
        let to = response.headers().get(LOCATION).and_then(|to| to.to_str().ok());
        let Some(to) = to.and_then(|to| from.join(to).ok()) else {
            return Err(format!("it answers {} and does not say where to", response.status().as_u16()));
        };
        let same =
            |status: StatusCode| matches!(status, StatusCode::TEMPORARY_REDIRECT | StatusCode::PERMANENT_REDIRECT);
        if !same(response.status()) {
            let told = "another request than the one that was sent is asked for";
            return Err(format!("it answers {} and redirects to {to}: {told}", response.status().as_u16()));
        }
        let host = to.host_str().unwrap_or_default();
        let named =
            |allowed: &String| *allowed == host || to.port().is_some_and(|port| *allowed == format!("{host}:{port}"));
        if to.origin() == self.url.origin() || self.webhook.redirects_to.iter().any(named) {
            return Ok(Some(to));
        }
        Err(format!("it redirects to {to}, which is another host; `redirects_to` can allow it"))
    }
}

/// What an answer means for the messages.
async fn judge(response: Response) -> (Outcome, GivenAnswer) {
    let status = response.status();
    let pause = response.headers().get(RETRY_AFTER).and_then(|value| retry_after(value.to_str().ok()?, Utc::now()));
    let answer = GivenAnswer { status: status.as_u16(), body: body_of(response).await };
    if status.is_success() {
        return (Outcome::Taken, answer);
    }
    let why = format!("it answers {status}");
    let outcome = match status.as_u16() {
        410 => Outcome::Gone(why),
        // Of the address, the credentials or the load, not of the message.
        401 | 403 | 404 | 405 | 407 | 408 | 421 | 425 | 426 | 429 | 502 | 503 | 504 => Outcome::Away(why, pause),
        _ => Outcome::Refused(why),
    };
    (outcome, answer)
}

/// The beginning of an answer's body. What comes after it is not waited for.
async fn body_of(mut response: Response) -> String {
    let mut bytes = Vec::new();
    while bytes.len() < MOST_SHOWN
        && let Ok(Some(more)) = response.chunk().await
    {
        bytes.extend_from_slice(&more[..more.len().min(MOST_SHOWN - bytes.len())]);
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

/// How long the other side wants to be left alone (RFC 9110 §10.2.3): in seconds, or until a date.
fn retry_after(value: &str, now: DateTime<Utc>) -> Option<Duration> {
    let pause = match value.trim().parse::<u64>() {
        Ok(seconds) => Duration::from_secs(seconds),
        Err(_) => (DateTime::parse_from_rfc2822(value.trim()).ok()?.to_utc() - now).to_std().unwrap_or_default(),
    };
    Some(pause.min(LONGEST_PAUSE))
}

/// Why there was no answer, down to the cause.
fn told(error: &reqwest::Error) -> String {
    if error.is_timeout() && !error.is_connect() {
        return "no answer in time".into();
    }
    let mut source: Option<&(dyn std::error::Error + 'static)> = std::error::Error::source(error);
    let mut cause = None;
    while let Some(deeper) = source {
        cause = Some(deeper.to_string());
        source = deeper.source();
    }
    let what = if error.is_connect() { "no connection" } else { "no answer" };
    cause.map_or_else(|| what.to_owned(), |cause| format!("{what}: {cause}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pause_is_read_in_both_forms_and_has_an_end() {
        let now = "2026-05-04T09:12:33Z".parse().unwrap();
        assert_eq!(retry_after("120", now), Some(Duration::from_secs(120)));
        assert_eq!(retry_after("Mon, 04 May 2026 09:13:03 GMT", now), Some(Duration::from_secs(30)));
        assert_eq!(retry_after("Mon, 04 May 2026 09:00:00 GMT", now), Some(Duration::ZERO));
        assert_eq!(retry_after("99999999999", now), Some(LONGEST_PAUSE));
        assert_eq!(retry_after("soon", now), None);
    }
}
