//! CUPS: gateways ask whether their addresses or credentials are to change, and fetch what is new.

use std::sync::Arc;
use std::time::Duration;

use anyhow::Context as _;
use api::gateway::credential::{CredentialKind, CredentialState, GatewayCredential, Purpose};
use api::gateway::event::GatewayEventKind::{Changed, Odd};
use axum::body::{Body, to_bytes};
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::post;
use axum::{Extension, Router};
use chrono::{TimeDelta, Utc};
use domain::gateway::credential;
use gateway_link::cups::{Firmware, MAX_QUESTION, PATH, Question, Update};
use lorawan::Eui64;
use store::{CredentialRow, Store, StoreError};

use crate::gateways::authority::Authority;
use crate::gateways::credentials::{Fresh, Peer};
use crate::gateways::event_log::GatewayEventDraft;
use crate::gateways::firmware::Firmwares;
use crate::gateways::transport::PublicEndpoints;
use crate::gateways::transport::admission::Admission;
use crate::ingest::stats::IngestStats;
use crate::net::tls::Identity;

/// The longest time for a request to arrive.
const QUESTION_WITHIN: Duration = Duration::from_secs(10);
/// How long credentials are valid that a gateway fetches: it fetches new ones in time.
const LASTS: TimeDelta = TimeDelta::days(365);

/// What the endpoint needs.
pub(crate) struct Cups {
    pub admission: Admission,
    pub ingest: Arc<IngestStats>,
    pub authority: Arc<Authority>,
    pub identity: Arc<Identity>,
    pub endpoints: Arc<PublicEndpoints>,
    pub store: Store,
    pub firmware: Arc<Firmwares>,
}

pub(crate) fn routes(cups: Arc<Cups>) -> Router {
    Router::new().route(PATH, post(update)).with_state(cups)
}

async fn update(
    State(cups): State<Arc<Cups>>,
    Extension(peer): Extension<Peer>,
    headers: HeaderMap,
    body: Body,
) -> Response {
    let Ok(Ok(body)) = tokio::time::timeout(QUESTION_WITHIN, to_bytes(body, MAX_QUESTION)).await else {
        cups.ingest.dropped(
            "unreadable_json",
            "a question for updates that is too long or too slow".into(),
            peer.address,
        );
        return (StatusCode::BAD_REQUEST, "the question is too long, or takes too long").into_response();
    };
    let question = match Question::parse(&body) {
        Ok(question) => question,
        Err(why) => {
            cups.ingest.dropped("unreadable_json", why.to_string(), peer.address);
            return (StatusCode::BAD_REQUEST, why.to_string()).into_response();
        }
    };
    let eui = question.gateway;
    if let Err(refused) = cups.admission.admit(eui, Purpose::Updates, &peer, &headers) {
        return refused.into_response();
    }
    match cups.answer(&question).await {
        Ok((update, fresh)) => {
            // First it opens the door, then it is handed out.
            let bytes = match cups.let_in(eui, &fresh).await {
                Ok(()) => update.emit().map_err(|why| why.to_string()),
                Err(error) => Err(error.to_string()),
            };
            match bytes {
                Ok(bytes) => {
                    cups.tell(&question, &update, &peer);
                    ([(header::CONTENT_TYPE, "application/octet-stream")], bytes).into_response()
                }
                Err(why) => {
                    tracing::error!(%eui, "an update could not be handed out: {why}");
                    StatusCode::SERVICE_UNAVAILABLE.into_response()
                }
            }
        }
        Err(why) => {
            tracing::error!(%eui, "an update could not be made: {why:#}");
            StatusCode::INTERNAL_SERVER_ERROR.into_response()
        }
    }
}

impl Cups {
    /// What is new for a gateway.
    async fn answer(&self, question: &Question) -> anyhow::Result<(Update, Vec<Fresh>)> {
        let eui = question.gateway;
        self.admission.credentials.retire_older(eui, Purpose::Updates).await?;
        let own = self.admission.credentials.of(eui);
        let now = Utc::now();
        let lasts = |credential: &GatewayCredential| {
            credential::state(credential, now) == CredentialState::Good && !credential.replace_asked
        };
        let has = |purpose, crc| {
            let is = |row: &&CredentialRow| row.credential.purpose == purpose && row.segment_crc == crc;
            own.iter().find(is).is_some_and(|row| lasts(&row.credential))
        };
        // New ones are of the kind it asks with.
        let asks_with = own.iter().find(|row| row.credential.purpose == Purpose::Updates);
        let kind = asks_with.map_or(CredentialKind::Token, |row| row.credential.kind);
        let name = self.admission.presence.broker_name(eui).context("the gateway was removed")?;
        let mut fresh = Vec::new();
        let mut make = |purpose| -> anyhow::Result<_> {
            let new = Fresh::make(&self.authority, &self.identity.trust, name, (purpose, kind), LASTS)?;
            let segments = new.segments().clone();
            fresh.push(new);
            Ok(Some(segments))
        };
        let differs = |has: &str, wanted: String| (has.trim_end_matches('/') != wanted).then_some(wanted);
        let update = Update {
            cups_uri: differs(&question.cups_uri, self.endpoints.cups()),
            tc_uri: differs(&question.tc_uri, self.endpoints.lns()),
            cups: if has(Purpose::Updates, question.cups_crc) { None } else { make(Purpose::Updates)? },
            tc: if has(Purpose::Traffic, question.tc_crc) { None } else { make(Purpose::Traffic)? },
            firmware: self.firmware_for(question).await?,
        };
        Ok((update, fresh))
    }

    /// The firmware it is to be handed, if it accepts the signature's key. It is handed out once: who cannot use it
    /// would fetch it again and again.
    async fn firmware_for(&self, question: &Question) -> anyhow::Result<Option<Firmware>> {
        let eui = question.gateway;
        let Some(row) = self.store.firmware_for(eui).await? else { return Ok(None) };
        let (name, key_crc) = (&row.firmware.name, row.firmware.key_crc);
        if !question.keys.contains(&key_crc) {
            let text = format!(
                "It is to be handed firmware {name:?}, signed by the key {key_crc}, and accepts {}.",
                match question.keys.as_slice() {
                    [] => "no key".to_owned(),
                    keys => format!("the keys {}", keys.iter().map(u32::to_string).collect::<Vec<_>>().join(", ")),
                }
            );
            let next = "Have the firmware signed by a key that is on the gateway.";
            self.admission.gateway_log.tell(eui, GatewayEventDraft::new(Odd, text).next(next));
            return Ok(None);
        }
        let bytes = self.firmware.read(&row.firmware.id).await.context("reading a firmware")?;
        self.store.hand_firmware(eui, None).await?;
        Ok(Some(Firmware { key_crc, signature: row.signature, bytes }))
    }

    async fn let_in(&self, eui: Eui64, fresh: &[Fresh]) -> Result<(), StoreError> {
        for new in fresh {
            self.admission.credentials.drop_unused(eui, new.row.credential.purpose).await?;
        }
        self.admission.credentials.add(&fresh.iter().collect::<Vec<_>>()).await
    }

    fn tell(&self, question: &Question, update: &Update, peer: &Peer) {
        let parts = [
            (update.cups_uri.is_some(), "the address for updates"),
            (update.tc_uri.is_some(), "the address for traffic"),
            (update.cups.is_some(), "credentials for updates"),
            (update.tc.is_some(), "credentials for traffic"),
            (update.firmware.is_some(), "a firmware"),
        ];
        let handed: Vec<_> = parts.into_iter().filter(|(new, _)| *new).map(|(_, what)| what).collect();
        if !handed.is_empty() {
            let text = format!("It fetched what is new: {}.", handed.join(", "));
            self.admission.gateway_log.tell(question.gateway, GatewayEventDraft::new(Changed, text).from(peer.address));
        }
    }
}
