//! `heron decoder failures`.

use anyhow::Result;
use api::diagnosis::watch::DecodeFailures;

use crate::client::Client;
use crate::show::{self, Out};

pub(super) async fn run(client: &Client, out: &Out) -> Result<()> {
    let failures: Vec<DecodeFailures> = client.all(&client.in_estate("decode-failures").await?, &[]).await?;
    out.list(&failures, "Every uplink could be decoded.", &["MODEL", "DEVICE", "FAILED", "LAST", "FIRST", "WHY"], |f| {
        let (name, last) = (f.device.name.clone(), show::ago(Some(f.last_at)));
        vec![f.model.clone(), name, f.failures.to_string(), last, f.first_message.clone(), f.why.clone()]
    })
}
