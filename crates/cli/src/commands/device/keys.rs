//! `heron device keys`.

use anyhow::Result;
use api::device::{DeviceDetail, ShownKeys};

use super::show_keys;
use crate::client::Client;
use crate::commands::device::args::{KeyForms, KeyOrder};
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, device: String, form: KeyForms, order: KeyOrder) -> Result<()> {
    let eui = client.dev_eui(&device).await?;
    let path = client.in_estate(&format!("devices/{eui}")).await?;
    let keys: ShownKeys = client.get(&format!("{path}/keys"), &[]).await?;
    let name = match form {
        KeyForms::C => client.get::<DeviceDetail>(&path, &[]).await?.device.name,
        _ => String::new(),
    };
    show_keys(out, &name, &keys, form, order)
}
