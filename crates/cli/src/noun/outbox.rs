use anyhow::Result;
use api::outbox::{NewOutboxItem, OutboxItem};

use crate::args::OutboxVerb;
use crate::client::Client;
use crate::show::{self, Out};

async fn path(client: &Client, device: &str) -> Result<String> {
    let eui = client.dev_eui(device).await?;
    client.in_estate(&format!("devices/{eui}/outbox")).await
}

pub(super) fn lines(i: &OutboxItem) -> Vec<(&'static str, String)> {
    vec![
        ("id", i.id.clone()),
        ("port", i.port.to_string()),
        ("payload", i.payload.clone()),
        ("confirmed", if i.confirmed { "yes" } else { "no" }.into()),
        ("state", i.state.words().into()),
        ("note", i.note.clone().unwrap_or_default()),
    ]
}

pub(super) async fn list(client: &Client, out: &Out, path: &str) -> Result<()> {
    let items: Vec<OutboxItem> = client.all(path, &[]).await?;
    let none = "Nothing was ever put into it. Next: `heron outbox add DEVICE --port PORT --payload HEX`.";
    out.list(&items, none, &["ID", "PORT", "PAYLOAD", "STATE", "TRIES", "ADDED", "NOTE"], |i| {
        vec![
            i.id.clone(),
            i.port.to_string(),
            i.payload.clone(),
            i.state.words().into(),
            i.attempts.to_string(),
            show::ago(Some(i.added_at)),
            i.note.clone().unwrap_or_default(),
        ]
    })
}

pub async fn run(client: &Client, out: &Out, verb: OutboxVerb) -> Result<()> {
    match verb {
        OutboxVerb::List { device } => list(client, out, &path(client, &device).await?).await,
        OutboxVerb::Add { device, port, payload, confirmed, attempts, expires_in } => {
            let new = NewOutboxItem { port, payload, confirmed, max_attempts: attempts, expires_in_s: expires_in };
            let item: OutboxItem = client.post(&path(client, &device).await?, &new).await?;
            out.one(&item, lines)
        }
        OutboxVerb::Cancel { device, id } => {
            let answer = client.delete(&format!("{}/{id}", path(client, &device).await?)).await?;
            out.one(&answer.json::<OutboxItem>().await?, lines)
        }
    }
}
