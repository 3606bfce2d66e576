//! Gateways that call and are registered by nobody, and who gets to see them.
//!
//! Where several estates share an installation, a stranger is somebody's: its EUI and where it calls from are shown to the keeper of
//! the installation, and to an estate that shows that the gateway is near to it or knows it already.

use std::collections::HashSet;
use std::net::{IpAddr, SocketAddr};

use api::Page;
use api::gateway::Stranger;
use axum::extract::State;
use domain::gateway::check;
use lorawan::Eui64;
use serde::Deserialize;

use crate::http::app::App;
use crate::http::auth::access::By;
use crate::http::extract::{Paging, Params, WholeEstate};
use crate::http::json::{Answer, Json};
use crate::http::listing::Choice;
use crate::net::source::one_source;

/// What a caller knows of a stranger.
#[derive(Debug, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Claim {
    /// Something that the caller knows of a gateway elsewhere, to see it: its EUI, the MAC address on its label, or the address that it calls from.
    #[param(max_length = 80, example = "02ff203040506070")]
    claim: Option<String>,
}

/// Unregistered gateways that call, since the service started. Their frames are not accepted. Where there are several estates, an
/// estate sees those that call from where one of its gateways or the caller is, and what is claimed.
#[utoipa::path(get, path = "/estates/{estate}/strangers", tag = "gateways",
    extensions(("x-right" = json!("view"))), params(Choice, Paging, Claim),
    responses((status = 200, body = Page<Stranger>)))]
pub(crate) async fn list_strangers(
    State(app): State<App>,
    estate: WholeEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
    Params(known): Params<Claim>,
) -> Answer<Page<Stranger>> {
    let shown = seen(&app, &estate, known.claim.as_deref());
    Ok(Json(choice.page_of(shown, &paging, |one| one.eui.to_string())?))
}

/// The strangers that a caller may see.
pub(in crate::http) fn seen(app: &App, estate: &WholeEstate, claim: Option<&str>) -> Vec<Stranger> {
    let all = app.presence.strangers();
    let who = &estate.context.who;
    let keeps = who.person.keeps_installation && matches!(who.by, By::SignIn(_));
    if keeps || app.directory.estates().len() < 2 {
        return all;
    }
    let mut near = app.presence.sources_of(estate.id);
    near.insert(one_source(estate.context.address));
    all.into_iter().filter(|one| is_near(one, &near) || claim.is_some_and(|claim| claims(claim, one))).collect()
}

/// Where a stranger calls from, if that is an address.
fn source(stranger: &Stranger) -> Option<IpAddr> {
    let address = stranger.address.as_str();
    let ip = address.parse::<SocketAddr>().map(|address| address.ip()).or_else(|_| address.parse()).ok();
    ip.map(one_source)
}

fn is_near(stranger: &Stranger, near: &HashSet<IpAddr>) -> bool {
    source(stranger).is_some_and(|source| near.contains(&source))
}

/// Whether a text is something that is known of a stranger: all of it, not a part.
fn claims(text: &str, stranger: &Stranger) -> bool {
    let text = text.trim();
    let by_mac = check::meant_by_mac(text).is_some_and(|meant| meant.contains(&stranger.eui));
    let by_eui = text.parse::<Eui64>().is_ok_and(|eui| eui == stranger.eui);
    let by_address = text.parse::<IpAddr>().ok().map(one_source);
    by_mac || by_eui || by_address.is_some() && by_address == source(stranger)
}

#[cfg(test)]
mod tests {
    use api::gateway::Protocol;
    use chrono::Utc;

    use super::*;

    #[test]
    fn a_stranger_is_claimed_by_all_that_is_known_of_it() {
        let stranger = Stranger {
            eui: Eui64(0x02a1_f0ff_fe12_3456),
            address: "192.0.2.7:40123".into(),
            first_heard: Utc::now(),
            last_heard: Utc::now(),
            frames_turned_away: 0,
            protocol: Protocol::Udp,
            told: None,
            frequencies_mhz: Vec::new(),
            region: None,
        };
        for known in ["02a1f0fffe123456", "02:A1:F0:12:34:56", "02a1f0123456", "192.0.2.7"] {
            assert!(claims(known, &stranger), "{known}");
        }
        for guessed in ["", "02a1f0", "02a1f0fffe123457", "192.0.2.8", "192.0.2", "02a1f0fffe1234567"] {
            assert!(!claims(guessed, &stranger), "{guessed}");
        }
        let near = |text: &str| is_near(&stranger, &HashSet::from([text.parse().unwrap()]));
        assert!(near("192.0.2.7") && !near("192.0.2.1"));
        let through_broker = Stranger { address: "the broker".into(), ..stranger.clone() };
        assert!(!is_near(&through_broker, &HashSet::new()) && claims("02a1f0fffe123456", &through_broker));
    }
}
