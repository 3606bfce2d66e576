//! `heron group keys`.

use anyhow::Result;
use api::device::group::GroupKeys;

use super::find;
use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, group: String) -> Result<()> {
    let eui = find(client, &group).await?.eui;
    let keys: GroupKeys = client.get(&client.in_estate(&format!("groups/{eui}/keys")).await?, &[]).await?;
    out.one(&keys, |k| {
        vec![
            ("address", k.address.to_string()),
            ("nwk s key", k.nwk_s_key.to_string()),
            ("app s key", k.app_s_key.to_string()),
        ]
    })
}
