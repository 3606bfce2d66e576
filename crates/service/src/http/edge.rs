//! What applies to every request: host names, headers, order of changes in an estate.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use api::ground::MapTiles;
use api::problem::Problem;
use api::secret::Secret;
use axum::extract::{Request, State};
use axum::http::{HeaderMap, HeaderName, HeaderValue, header};
use axum::middleware::Next;
use axum::response::{IntoResponse as _, Response};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use sha2::{Digest as _, Sha256};
use store::EstateId;
use tokio::sync::{Mutex as AsyncMutex, Semaphore, SemaphorePermit, watch};

use crate::http::auth::limits::Limits;
use crate::http::auth::recent::Recent;
use crate::http::auth::refusals::Refusals;
use crate::http::auth::secret;
use crate::http::error::Refusal;

/// The policy for JSON answers: nothing in them may be shown or run.
const NOTHING: &str = "default-src 'none'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'";
/// The browsable description of the interface comes with scripts and styles of its own, in files.
const BROWSE: &str = "default-src 'self'; img-src 'self' data:; style-src 'self' 'unsafe-inline'; object-src 'none'; \
     base-uri 'none'; form-action 'none'; frame-ancestors 'none'";

/// Password checks that wait for a turn, at most.
const MOST_WAITING: usize = 64;
/// When one who was sent away may come again.
const FULL_FOR: Duration = Duration::from_secs(10);

/// The placeholder for the nonce of the page's styles, in the page and in its policy.
const NONCE: &str = "{style-nonce}";

/// What stands between the service and its HTTP callers.
pub struct Edge {
    /// Whether it is reached over TLS.
    pub secure: bool,
    /// Names and addresses that it answers to.
    names: Vec<String>,
    pub limits: Limits,
    /// Refusals in audit logs.
    pub refusals: Refusals,
    /// Password checks for accounts from where they have been signed in to before: strangers do not hold them up.
    known: Lane,
    /// Password checks for all others.
    strangers: Lane,
    /// Hosts of the own network that catalogues may be fetched from.
    pub catalogue_hosts: Vec<String>,
    /// Days for which the audit log is kept.
    pub audit_days: u32,
    pub audit_append_only: bool,
    /// Map tiles from elsewhere.
    pub map_tiles: Option<MapTiles>,
    changes: watch::Sender<u64>,
    pub recent: Recent,
    turns: Mutex<HashMap<EstateId, Arc<AsyncMutex<()>>>>,
    page_policy: String,
}

/// Password checks that are not to be too many at once: each takes 19 MiB and a good part of a second of one core.
struct Lane {
    turns: Semaphore,
    /// Those who have a turn or wait for one.
    room: Semaphore,
}

impl Lane {
    fn new(at_once: usize) -> Self {
        Self { turns: Semaphore::new(at_once), room: Semaphore::new(at_once + MOST_WAITING) }
    }

    /// A turn. Safe to cancel.
    ///
    /// # Errors
    /// Too many wait.
    async fn turn(&self) -> Result<[SemaphorePermit<'_>; 2], Refusal> {
        let full = |_| Refusal::too_often(FULL_FOR);
        let room = self.room.try_acquire().map_err(full)?;
        let turn = self.turns.acquire().await.map_err(|_| Refusal::internal())?;
        Ok([room, turn])
    }
}

/// How the edge is set up.
pub struct Setup {
    pub secure: bool,
    pub names: Vec<String>,
    pub requests_per_s: u32,
    pub catalogue_hosts: Vec<String>,
    pub audit_days: u32,
    pub audit_append_only: bool,
    /// Map tiles from elsewhere, and what a browser has to be allowed to load from.
    pub map_tiles: Option<(MapTiles, String)>,
}

impl Edge {
    pub fn new(setup: &Setup, page: Option<&str>) -> Self {
        Self {
            secure: setup.secure,
            names: setup.names.iter().map(|name| bare(name)).collect(),
            limits: Limits::new(setup.requests_per_s),
            refusals: Refusals::default(),
            known: Lane::new(2),
            strangers: Lane::new(1),
            catalogue_hosts: setup.catalogue_hosts.clone(),
            audit_days: setup.audit_days,
            audit_append_only: setup.audit_append_only,
            map_tiles: setup.map_tiles.as_ref().map(|(tiles, _)| tiles.clone()),
            changes: watch::Sender::new(0),
            recent: Recent::default(),
            turns: Mutex::default(),
            page_policy: page_policy(
                page.unwrap_or_default(),
                setup.map_tiles.as_ref().map_or("", |(_, origin)| origin),
            ),
        }
    }

    /// The console's page, and what it may do.
    pub fn page(&self, page: &str) -> (String, String) {
        let nonce = hex::encode(rand::random::<[u8; 16]>());
        (page.replace(NONCE, &nonce), self.page_policy.replace(NONCE, &nonce))
    }

    /// To be called when the rights of a person change: the rights of everyone who listens are checked again.
    pub fn rights_changed(&self) {
        self.recent.forget();
        self.changes.send_modify(|count| *count += 1);
    }

    /// A password's hash, of which few are made at a time.
    ///
    /// # Errors
    /// Too many wait, or it cannot be made.
    pub async fn hash(&self, password: Secret) -> Result<String, Refusal> {
        let _one_of_few = self.known.turn().await?;
        secret::hash(password).await.map_err(|why| {
            tracing::error!("a password could not be hashed: {why:#}");
            Refusal::internal()
        })
    }

    /// Whether a password is the one behind a hash; without one it is not, and takes as long. `knows` is whether the account
    /// has been signed in to from there.
    ///
    /// # Errors
    /// Too many wait.
    pub async fn verify(&self, password: Secret, stored: Option<String>, knows: bool) -> Result<bool, Refusal> {
        let lane = if knows { &self.known } else { &self.strangers };
        let _one_of_few = lane.turn().await?;
        Ok(secret::verify(password, stored).await.unwrap_or(false))
    }

    /// The lock for changes in an estate.
    pub fn turn(&self, estate: EstateId) -> Arc<AsyncMutex<()>> {
        let mut turns = self.turns.lock().unwrap_or_else(PoisonError::into_inner);
        Arc::clone(turns.entry(estate).or_default())
    }

    /// Tells of each such change.
    pub fn watch_rights(&self) -> watch::Receiver<u64> {
        self.changes.subscribe()
    }

    fn answers_to(&self, host: &str) -> bool {
        let host = bare(host);
        self.names.contains(&host)
    }
}

/// A host without its port and brackets, in lower case.
fn bare(host: &str) -> String {
    let host = host.trim();
    let name = match host.strip_prefix('[') {
        Some(v6) => v6.split(']').next().unwrap_or_default(),
        None if host.matches(':').count() > 1 => host,
        None => host.split(':').next().unwrap_or_default(),
    };
    name.trim_end_matches('.').to_ascii_lowercase()
}

/// The policy of the console's page. It may run its own files, and the scripts in it by their hashes. Styles that its
/// scripts add carry a nonce, which is new with each delivery. Pictures come from here and from where map tiles are.
fn page_policy(page: &str, tiles_from: &str) -> String {
    let mut scripts = String::from("'self'");
    let mut rest = page;
    while let Some((_, after)) = rest.split_once("<script") {
        let Some((attributes, body)) = after.split_once('>') else { break };
        let Some((script, after)) = body.split_once("</script>") else { break };
        if !attributes.contains("src=") {
            scripts.push_str(&format!(" 'sha256-{}'", STANDARD.encode(Sha256::digest(script.as_bytes()))));
        }
        rest = after;
    }
    let pictures = format!("'self' data: blob: {tiles_from}");
    let pictures = pictures.trim_end();
    format!(
        "default-src 'self'; script-src {scripts}; style-src 'self' 'nonce-{NONCE}'; img-src {pictures}; \
         connect-src 'self'; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
    )
}

/// Answers only to the service's own names: another name that points here is refused.
pub(crate) async fn own_name(State(edge): State<Arc<Edge>>, request: Request, next: Next) -> Response {
    let host = request.headers().get(header::HOST).and_then(|host| host.to_str().ok()).unwrap_or_default();
    if edge.answers_to(host) {
        return next.run(request).await;
    }
    let shown: String = host.chars().take(80).collect();
    let problem = Problem::new(421, "other_host", "This service does not answer to that name");
    let detail = format!("{shown:?} was asked for; the names it answers to are set with --http-names");
    Refusal(problem.detail(detail)).into_response()
}

/// Adds the security headers to every answer.
pub(crate) async fn headers(State(edge): State<Arc<Edge>>, request: Request, next: Next) -> Response {
    let path = request.uri().path();
    let (api, browse) = (path.starts_with("/api/"), path.starts_with("/api/browse"));
    let mut answer = next.run(request).await;
    let headers = answer.headers_mut();
    let policy = if browse { BROWSE } else { NOTHING };
    let fixed = |headers: &mut HeaderMap, name: HeaderName, value: &'static str| {
        headers.entry(name).or_insert(HeaderValue::from_static(value));
    };
    // The page has one of its own.
    fixed(headers, header::CONTENT_SECURITY_POLICY, policy);
    fixed(headers, header::X_CONTENT_TYPE_OPTIONS, "nosniff");
    fixed(headers, header::X_FRAME_OPTIONS, "DENY");
    fixed(headers, header::REFERRER_POLICY, "no-referrer");
    fixed(headers, HeaderName::from_static("cross-origin-opener-policy"), "same-origin");
    fixed(headers, HeaderName::from_static("cross-origin-resource-policy"), "same-origin");
    fixed(
        headers,
        HeaderName::from_static("permissions-policy"),
        "camera=(self), geolocation=(), microphone=(), payment=()",
    );
    if api && !browse {
        fixed(headers, header::CACHE_CONTROL, "no-store");
    }
    if edge.secure {
        fixed(headers, header::STRICT_TRANSPORT_SECURITY, "max-age=31536000");
    }
    answer
}

#[cfg(test)]
mod tests {
    use super::*;

    fn edge(names: &[&str]) -> Edge {
        let names = names.iter().map(ToString::to_string).collect();
        let (catalogue_hosts, audit_days) = (Vec::new(), 1);
        let setup = Setup {
            secure: true,
            names,
            requests_per_s: 10,
            catalogue_hosts,
            audit_days,
            audit_append_only: true,
            map_tiles: None,
        };
        Edge::new(&setup, None)
    }

    #[test]
    fn it_answers_to_its_own_names_on_any_port() {
        let edge = edge(&["localhost", "127.0.0.1", "[::1]", "Heron.Example"]);
        for own in ["localhost:8680", "127.0.0.1", "[::1]:8680", "::1", "heron.example", "HERON.example.:443"] {
            assert!(edge.answers_to(own), "{own}");
        }
        for other in
            ["", "evil.example", "localhost.evil.example", "127.0.0.1.evil.example:8680", "localhost@evil", "[::2]:1"]
        {
            assert!(!edge.answers_to(other), "{other}");
        }
    }

    #[tokio::test]
    async fn strangers_wait_for_one_another_and_are_sent_away_when_too_many_do() {
        let lane = Lane::new(1);
        let first = lane.turn().await.unwrap();
        let mut waiting: Vec<_> = (0..MOST_WAITING).map(|_| Box::pin(lane.turn())).collect();
        for one in &mut waiting {
            assert!(futures::poll!(one).is_pending());
        }
        assert_eq!(lane.turn().await.err().map(|refusal| refusal.0.code), Some("too_often".into()));
        drop(first);
        assert!(waiting.remove(0).await.is_ok());
    }

    #[test]
    fn the_page_runs_its_own_scripts_and_no_other() {
        let page = "<script src=\"/a.js\"></script><script>boot()</script><p></p>";
        let policy = page_policy(page, "");
        let hash = STANDARD.encode(Sha256::digest(b"boot()"));
        assert!(policy.contains(&format!("script-src 'self' 'sha256-{hash}';")), "{policy}");
        assert!(policy.contains("img-src 'self' data: blob:;"), "{policy}");
        let with_tiles = page_policy(page, "https://tiles.example");
        assert!(with_tiles.contains("img-src 'self' data: blob: https://tiles.example;"), "{with_tiles}");
        assert!(!policy.contains("unsafe") && policy.contains("style-src 'self' 'nonce-"));
        // The nonce is new with each delivery, and the same in the page and in its policy.
        let edge = edge(&["localhost"]);
        let given = || edge.page("<meta content=\"{style-nonce}\">");
        let ((page, policy), (again, _)) = (given(), given());
        let nonce = page.split('"').nth(1).unwrap();
        assert!(nonce.len() == 32 && policy.contains(&format!("'nonce-{nonce}'")), "{policy}");
        assert_ne!(page, again);
    }

    #[test]
    fn a_page_that_breaks_off_gets_no_script() {
        assert!(page_policy("<script>boot(", "").contains("script-src 'self';"));
    }
}
