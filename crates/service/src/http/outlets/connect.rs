//! How another system is connected.

use api::outlet::{Connecting, Destination};
use api::problem::{Problem, bad_field};
use axum::extract::State;
use domain::outlet::connect::{delivered, fetched};
use domain::outlet::shape::shaped;
use serde::Deserialize;
use store::MessageQuery;

use super::outlet::row;
use crate::http::app::App;
use crate::http::error::Refusal;
use crate::http::extract::{Params, PathOutlet, VisibleEstate, WholeEstate};
use crate::http::json::{Answer, Json};

/// The longest address of the service.
const LONGEST: usize = 300;

/// What messages somebody wants to fetch, and by what address the service is reached.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Wanted {
    /// The address of the service, as the caller reaches it: `https://HOST`.
    #[param(example = "https://heron.example")]
    address: String,
    /// Only those of this fleet.
    fleet: Option<String>,
    /// Only those of devices of this model.
    model: Option<String>,
    /// Only those of these types, separated by commas.
    #[serde(rename = "type")]
    kind: Option<String>,
}

fn address(text: &str) -> Result<&str, Problem> {
    let rest = text.strip_prefix("https://").or_else(|| text.strip_prefix("http://"));
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '.' | ':' | '[' | ']' | '/' | '_');
    match rest {
        Some(rest) if !rest.is_empty() && text.len() <= LONGEST && rest.chars().all(plain) => {
            Ok(text.trim_end_matches('/'))
        }
        _ => Err(bad_field("address", text, "an address like https://HOST or http://HOST:PORT is allowed")),
    }
}

/// A word of the query as it stands in a snippet: what could end a text there is left out of names by their own rules.
fn word<'a>(field: &str, text: &'a str) -> Result<&'a str, Problem> {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | ',' | '.');
    match text.chars().all(plain) {
        true => Ok(text),
        false => Err(bad_field(field, text, "letters, digits, dashes, dots and commas are allowed")),
    }
}

/// How a program fetches messages: addresses, and lines that work once `HERON_TOKEN` holds a token.
#[utoipa::path(get, path = "/estates/{estate}/messages/connect", tag = "outlets",
    extensions(("x-right" = json!("view"))), params(Wanted),
    responses((status = 200, body = Connecting), (status = 422, body = Problem)))]
pub(crate) async fn connect_to_messages(
    State(app): State<App>,
    VisibleEstate { estate, within }: VisibleEstate,
    Params(wanted): Params<Wanted>,
) -> Answer<Connecting> {
    let named = [("fleet", &wanted.fleet), ("model", &wanted.model), ("type", &wanted.kind)];
    let mut filter = Vec::new();
    for (field, text) in named {
        if let Some(text) = text.as_deref().filter(|text| !text.is_empty()) {
            filter.push(format!("{field}={}", word(field, text)?));
        }
    }
    let url = format!("{}{}{}", address(&wanted.address)?, api::BASE, estate.path("messages"));
    let (settings, snippets) = fetched(&url, &filter.join("&"));
    let kinds = wanted.kind.iter().flat_map(|list| list.split(',')).map(str::to_owned).collect();
    let which = MessageQuery { fleet: wanted.fleet, model: wanted.model, kinds, within, ..MessageQuery::default() };
    let sample = latest(&app, &estate, which).await?;
    Ok(Json(Connecting { settings, snippets, needs_token: true, sample }))
}

async fn latest(app: &App, estate: &WholeEstate, which: MessageQuery) -> Result<Option<String>, Refusal> {
    let last = app.store.messages(estate.id, &which, 1).await?.pop();
    Ok(last.and_then(|message| serde_json::to_string(&message).ok()))
}

/// How the other side of an outlet is set up: what it has to be told, and lines and programs that work.
#[utoipa::path(get, path = "/estates/{estate}/outlets/{outlet}/connect", tag = "outlets",
    extensions(("x-right" = json!("view"))), params(("outlet" = String, Path)),
    responses((status = 200, body = Connecting), (status = 404, body = Problem)))]
pub(crate) async fn connect_to_outlet(
    State(app): State<App>,
    estate: WholeEstate,
    PathOutlet(slug): PathOutlet,
) -> Answer<Connecting> {
    let row = row(&app, &estate, &slug).await?;
    let settings = &row.settings;
    let folder = match &settings.to {
        Destination::Files(_) => app.outlets.folder_of(&row).display().to_string(),
        _ => String::new(),
    };
    let (told, snippets) = delivered(&settings.to, &estate.access.slug, row.secrets.signing.is_some(), &folder);
    let which = MessageQuery {
        fleet: settings.fleet.clone(),
        model: settings.model.clone(),
        tag: settings.tag.clone(),
        kinds: settings.types.iter().map(|kind| kind.name().to_owned()).collect(),
        ..MessageQuery::default()
    };
    let last = latest(&app, &estate, which).await?;
    // What a script makes of it is shown where the script is tried.
    let sample = last.and_then(|json| shaped(&settings.shape, &json).ok().flatten());
    Ok(Json(Connecting { settings: told, snippets, needs_token: false, sample }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_in_an_address_or_a_word_can_leave_the_line_it_stands_in() {
        assert_eq!(address("http://127.0.0.1:8680/").unwrap(), "http://127.0.0.1:8680");
        for bad in ["", "heron.example", "https://", "https://a b", "https://a'; rm -rf /", "https://a$(x)", "ftp://a"]
        {
            assert!(address(bad).is_err(), "{bad}");
        }
        assert!(word("fleet", "tide-and-sluice").is_ok() && word("fleet", "tide'&").is_err());
    }
}
