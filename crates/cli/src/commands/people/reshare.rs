//! `heron people reshare`.

use anyhow::Result;
use api::people::Share;
use api::people::rights::ShareLevel;
use chrono::{DateTime, Utc};

use super::ends;
use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(
    client: &Client,
    out: &Out,
    id: u32,
    may: ShareLevel,
    until: Option<DateTime<Utc>>,
) -> Result<()> {
    let path = client.in_estate(&format!("shares/{id}")).await?;
    let share: Share = client.patch(&path, &serde_json::json!({ "may": may, "until": until })).await?;
    out.one(&share, |s| {
        let may = format!("{}{}", s.may.name(), ends(s.until));
        vec![("with", s.person.clone()), ("what", s.scope.to_string()), ("they may", may)]
    })
}
