//! Names for the shell's completion: those of the sign-ins here, and those that the service has.
//!
//! A completion has to be quick and silent: a service that does not answer in time has no names to offer.

use std::time::Duration;

use anyhow::Result;
use api::Page;
use clap::Parser as _;
use clap_complete::engine::{ArgValueCandidates, CompletionCandidate};
use serde_json::Value;

use crate::args::Global;
use crate::client::Client;
use crate::session;

/// How long the shell waits for names at most.
const PATIENCE: Duration = Duration::from_secs(2);
/// Names offered at most.
const MOST: &str = "500";

/// The options of all commands as the environment has them: the line to be completed is not read for them.
#[derive(clap::Parser)]
struct Environment {
    #[command(flatten)]
    global: Global,
}

fn global() -> Result<Global> {
    Ok(Environment::try_parse_from(["heron"])?.global)
}

/// Values of `field` in a list of the service.
async fn listed(list: &str, field: &str) -> Result<Vec<String>> {
    let client = Client::signed_in(&global()?)?;
    let path = if list == "estates" { "/estates".to_owned() } else { client.in_estate(list).await? };
    let page: Page<Value> = client.get(&path, &[("limit", MOST.to_owned())]).await?;
    Ok(page.items.iter().filter_map(|item| item.pointer(&format!("/{field}"))?.as_str().map(str::to_owned)).collect())
}

/// The same for the shell; nothing if it cannot be had.
fn candidates(list: &'static str, field: &'static str) -> ArgValueCandidates {
    ArgValueCandidates::new(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
        let Ok(runtime) = runtime else { return Vec::new() };
        let names = runtime.block_on(async { tokio::time::timeout(PATIENCE, listed(list, field)).await });
        names.ok().and_then(Result::ok).unwrap_or_default().into_iter().map(CompletionCandidate::new).collect()
    })
}

/// Names of the sign-ins on this machine.
pub(crate) fn services() -> ArgValueCandidates {
    ArgValueCandidates::new(|| {
        let names = global().and_then(|global| session::all(&global)).map(|all| all.services.into_keys());
        names.map(|names| names.map(CompletionCandidate::new).collect()).unwrap_or_default()
    })
}

/// Short names of estates.
pub(crate) fn estates() -> ArgValueCandidates {
    candidates("estates", "slug")
}

/// Names of devices.
pub(crate) fn devices() -> ArgValueCandidates {
    candidates("devices", "name")
}

/// Names of gateways.
pub(crate) fn gateways() -> ArgValueCandidates {
    candidates("gateways", "name")
}

/// Names of sites.
pub(crate) fn sites() -> ArgValueCandidates {
    candidates("sites", "name")
}

/// Names of an estate's own files of the ground.
pub(crate) fn ground_files() -> ArgValueCandidates {
    candidates("ground/files", "name")
}

/// Names of calibrations.
pub(crate) fn calibrations() -> ArgValueCandidates {
    candidates("calibrations", "wanted/name")
}

/// Names of drive tests.
pub(crate) fn drive_tests() -> ArgValueCandidates {
    candidates("survey/imports", "name")
}

/// Names of kinds of receiver.
pub(crate) fn receivers() -> ArgValueCandidates {
    candidates("receivers", "name")
}

/// Short names of fleets.
pub(crate) fn fleets() -> ArgValueCandidates {
    candidates("fleets", "slug")
}

/// Short names of outlets.
pub(crate) fn outlets() -> ArgValueCandidates {
    candidates("outlets", "slug")
}

/// Short names of models.
pub(crate) fn models() -> ArgValueCandidates {
    candidates("models", "slug")
}

/// Short names of radio profiles.
pub(crate) fn profiles() -> ArgValueCandidates {
    candidates("profiles", "slug")
}

/// Names of multicast groups.
pub(crate) fn groups() -> ArgValueCandidates {
    candidates("groups", "name")
}

/// Names of members of the estate.
pub(crate) fn people() -> ArgValueCandidates {
    candidates("people", "name")
}
