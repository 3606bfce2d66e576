//! Admission of gateways over TLS: which may connect, and the reason if one may not.

use std::sync::Arc;

use api::gateway::Protocol;
use api::gateway::credential::Purpose;
use api::gateway::event::GatewayEventKind::Refused;
use axum::http::{HeaderMap, StatusCode, header};
use chrono::{DateTime, Utc};
use lorawan::Eui64;

use crate::gateways::credentials::{Credentials, Peer, Proof, unknown};
use crate::gateways::event_log::{GatewayEventDraft, GatewayLog};
use crate::gateways::registry::{GatewayRegistry, Known};

/// What is said to who proves nothing. It is the same whether there is such a gateway or not; people see more.
const NOT_LET_IN: &str =
    "It is not let in. The gateway's page says why, or, if it is not registered, the list of unknown gateways.";

/// What admission needs.
#[derive(Clone)]
pub struct Admission {
    pub presence: Arc<GatewayRegistry>,
    pub credentials: Arc<Credentials>,
    pub gateway_log: Arc<GatewayLog>,
}

/// A gateway's proof of identity: the certificate of its handshake, or the token of its request. Some write
/// nothing in front of the token.
fn proof<'a>(peer: &'a Peer, headers: &'a HeaderMap) -> Option<Proof<'a>> {
    if let Some(certificate) = &peer.certificate {
        return Some(Proof::Certificate(certificate));
    }
    let text = headers.get(header::AUTHORIZATION)?.to_str().ok()?.trim();
    Some(Proof::Token(text.strip_prefix("Bearer ").map_or(text, str::trim)))
}

impl Admission {
    /// When what the caller has proved itself with expires.
    pub fn good_until(&self, peer: &Peer, headers: &HeaderMap) -> Option<DateTime<Utc>> {
        self.credentials.good_until(proof(peer, headers)?)
    }

    /// Whether a gateway may connect for this purpose; if not, why, with the HTTP status.
    pub fn admit(
        &self,
        eui: Eui64,
        purpose: Purpose,
        peer: &Peer,
        headers: &HeaderMap,
    ) -> Result<Known, (StatusCode, String)> {
        let Some(known) = self.presence.known(eui) else {
            let told = "This gateway is not registered.";
            self.presence.stranger_calls(eui, peer.address, Protocol::Websocket, told);
            return Err((StatusCode::UNAUTHORIZED, NOT_LET_IN.into()));
        };
        let proof = proof(peer, headers);
        if let Err(why) = self.credentials.check(proof, eui, purpose, Utc::now()) {
            // Nothing is told about another estate's gateways, not even that they exist.
            let own = |other| self.presence.known(other).is_some_and(|other| other.estate_id == known.estate_id);
            let (holds_own, why) = match (why.of, proof) {
                (Some(other), Some(proof)) if !own(other) => (false, unknown(proof)),
                (of, _) => (of.is_some() || why.holds_one, why),
            };
            let told = if holds_own { why.text.clone() } else { NOT_LET_IN.into() };
            self.gateway_log.tell(eui, GatewayEventDraft::new(Refused, why.text).next(why.next).from(peer.address));
            return Err((StatusCode::UNAUTHORIZED, told));
        }
        let Some(why) = known.turns_away(Protocol::Websocket, Some(peer.address.ip())) else {
            peer.seat.is_known();
            return Ok(known);
        };
        let text = why.text().to_owned();
        self.gateway_log.tell(eui, why.from(peer.address));
        Err((StatusCode::FORBIDDEN, text))
    }
}

#[cfg(test)]
mod tests {
    use std::net::SocketAddr;
    use std::time::Instant;

    use super::*;
    use crate::net::room::{Limits, Room};

    #[test]
    fn tokens_are_read_with_and_without_a_word_before_them() {
        let address = SocketAddr::from(([127, 0, 0, 1], 1));
        let seat = Room::new(Limits::gateways(8)).enter(address.ip(), Instant::now()).unwrap();
        let peer = Peer { address, certificate: None, seat: Arc::new(seat) };
        let read = |text: &'static str| {
            let headers = HeaderMap::from_iter([(header::AUTHORIZATION, text.parse().unwrap())]);
            match proof(&peer, &headers) {
                Some(Proof::Token(token)) => token.to_owned(),
                other => panic!("{other:?}"),
            }
        };
        assert_eq!((read("Bearer abc").as_str(), read(" abc ").as_str()), ("abc", "abc"));
        assert!(proof(&peer, &HeaderMap::new()).is_none());
        let shown = Peer { certificate: Some(vec![1]), ..peer };
        assert!(matches!(proof(&shown, &HeaderMap::new()), Some(Proof::Certificate([1]))));
    }
}
