//! `heron gateway firmware`.

use std::fs;
use std::path::Path;

use anyhow::{Context as _, Result};
use api::gateway::firmware::{Firmware, HandFirmware, NewFirmware};
use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;

use crate::client::Client;
use crate::commands::gateway::args::FirmwareVerb;
use crate::show::{self, Out};

fn lines(firmware: &Firmware) -> Vec<(&'static str, String)> {
    vec![
        ("firmware", firmware.id.clone()),
        ("name", firmware.name.clone()),
        ("size", format!("{} bytes", firmware.size_bytes)),
        ("SHA-256", firmware.sha256.clone()),
        ("signed by key", firmware.key_crc.to_string()),
    ]
}

fn read(path: &Path) -> Result<Vec<u8>> {
    fs::read(path).with_context(|| format!("reading {}", path.display()))
}

pub(super) async fn run(client: &Client, out: &Out, verb: FirmwareVerb, yes: bool) -> Result<()> {
    match verb {
        FirmwareVerb::List => {
            let all: Vec<Firmware> = client.all(&client.in_estate("gateway-firmware").await?, &[]).await?;
            let none = "No firmware is kept. Next: `heron gateway firmware add FILE --signature FILE --key FILE`.";
            out.list(&all, none, &["FIRMWARE", "NAME", "BYTES", "SIGNED BY KEY", "ADDED"], |firmware| {
                vec![
                    firmware.id.clone(),
                    firmware.name.clone(),
                    firmware.size_bytes.to_string(),
                    firmware.key_crc.to_string(),
                    show::ago(Some(firmware.added_at)),
                ]
            })
        }
        FirmwareVerb::Add { file, name, signature, key, key_crc } => {
            let named = file.file_name().map(|name| name.to_string_lossy().into_owned());
            let new = NewFirmware {
                name: name.or(named).unwrap_or_default(),
                bytes: BASE64_STANDARD.encode(read(&file)?),
                signature: BASE64_STANDARD.encode(read(&signature)?),
                key_pem: String::from_utf8(read(&key)?).with_context(|| format!("{} is no text", key.display()))?,
                key_crc,
            };
            let kept: Firmware = client.post(&client.in_estate("gateway-firmware").await?, &new).await?;
            out.one(&kept, lines)
        }
        FirmwareVerb::Remove { firmware } => {
            show::confirm(yes, "This firmware will no longer be offered to gateways.")?;
            client.delete(&client.one("gateway-firmware", &firmware).await?).await?;
            out.said(format!("{firmware} was removed."))
        }
        FirmwareVerb::Offer { gateway, firmware } => {
            let path = format!("{}/firmware", client.one("gateways", &gateway).await?);
            let firmware = Some(firmware).filter(|firmware| firmware != "none");
            let said = match &firmware {
                Some(_) => format!("{gateway} is offered this firmware, once, when it next asks for updates."),
                None => format!("{gateway} is offered no firmware."),
            };
            client.tell(&path, &HandFirmware { firmware }).await?;
            out.said(said)
        }
    }
}
