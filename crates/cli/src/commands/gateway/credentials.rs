//! How a gateway gets in: its kit, its credentials, and what happened when it tried.

use std::fs;
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;

use anyhow::{Context as _, Result};
use api::Page;
use api::gateway::credential::{
    CredentialKind, Endings, GatewayCredential, IssuedCredential, KitOrder, NewCredential, Purpose,
};
use api::gateway::event::GatewayEvent;
use api::gateway::{Gateway, Protocol};
use chrono::{DateTime, Utc};
use domain::gateway::credential;

use crate::client::{Client, segment};
use crate::commands::gateway::args::{CredentialVerb, KitArgs, SecretArgs};
use crate::show::{self, Out};

impl SecretArgs {
    fn kind(&self) -> CredentialKind {
        if self.certificate { CredentialKind::Certificate } else { CredentialKind::Token }
    }
}

fn day(at: DateTime<Utc>) -> String {
    show::day(at)
}

/// Makes a kit and writes it where only its owner can read it.
pub(crate) async fn save_kit(client: &Client, gateway: &str, order: &KitOrder, path: &Path) -> Result<()> {
    let kit = client.fetch(&format!("{}/kit", client.one("gateways", gateway).await?), order).await?;
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder).with_context(|| format!("making {}", folder.display()))?;
    }
    let file = fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(path);
    file.and_then(|mut file| file.write_all(&kit)).with_context(|| format!("writing {}", path.display()))
}

pub(crate) async fn kit(client: &Client, out: &Out, args: KitArgs, yes: bool) -> Result<()> {
    let gateway: Gateway = client.get(&client.one("gateways", &args.gateway).await?, &[]).await?;
    let order = KitOrder { kind: args.secret.kind(), updates: args.updates, days: args.secret.days };
    let path = args.into.unwrap_or_else(|| format!("connection-kit-{}.zip", gateway.eui).into());
    if path.exists() {
        let what = format!("{} is there already, and the secret in it cannot be shown again.", path.display());
        show::confirm(yes, &what)?;
    }
    save_kit(client, &args.gateway, &order, &path).await?;
    if out.json {
        return out.json(&serde_json::json!({ "gateway": gateway.eui, "kit": path }));
    }
    out.line(format!(
        "{} is the connection kit of {}, which connects by {}.",
        path.display(),
        gateway.name,
        gateway.protocol.label()
    ))?;
    let secret = if gateway.protocol == Protocol::Udp { "" } else { " The key in it cannot be shown again." };
    out.line(format!("Its sheet, read-me-first.txt, says what goes where.{secret}"))
}

pub(super) async fn run(client: &Client, out: &Out, verb: CredentialVerb, yes: bool) -> Result<()> {
    match verb {
        CredentialVerb::List { gateway: Some(gateway), .. } => list(client, out, &gateway).await,
        CredentialVerb::List { gateway: None, .. } => endings(client, out).await,
        CredentialVerb::Add { gateway, purpose, secret } => add(client, out, &gateway, &purpose, &secret).await,
        CredentialVerb::Replace { gateway } => {
            client.act(&format!("{}/credentials/replace", client.one("gateways", &gateway).await?)).await?;
            out.said(format!("{gateway} is given new credentials when it next asks for updates."))
        }
        CredentialVerb::Remove { gateway, credential } => {
            let path = credentials(client, &gateway).await?;
            show::confirm(yes, "A gateway that connects with this credential will be cut off.")?;
            client.delete(&format!("{path}/{}", segment(&credential))).await?;
            out.said(format!("{credential} was revoked."))
        }
    }
}

/// The path of a gateway's credentials.
async fn credentials(client: &Client, gateway: &str) -> Result<String> {
    Ok(format!("{}/credentials", client.one("gateways", gateway).await?))
}

async fn list(client: &Client, out: &Out, gateway: &str) -> Result<()> {
    let all: Vec<GatewayCredential> = client.all(&credentials(client, gateway).await?, &[]).await?;
    let now = Utc::now();
    let none = "This gateway has no credentials. Next: `heron gateway kit GATEWAY` makes it a connection kit.";
    out.list(&all, none, &["CREDENTIAL", "FOR", "KIND", "STATE", "MADE", "ENDS", "LAST USED", ""], |c| {
        let note = if c.replace_asked && c.revoked_at.is_none() { "to be replaced" } else { "" };
        vec![
            c.id.clone(),
            c.purpose.name().into(),
            c.kind.name().into(),
            credential::state(c, now).label().into(),
            day(c.added_at),
            day(c.expires_at),
            show::ago(c.last_used),
            note.into(),
        ]
    })
}

async fn add(client: &Client, out: &Out, gateway: &str, purpose: &str, secret: &SecretArgs) -> Result<()> {
    let purpose = if purpose == "updates" { Purpose::Updates } else { Purpose::Traffic };
    let new = NewCredential { purpose, kind: secret.kind(), days: secret.days };
    let issued: IssuedCredential = client.post(&credentials(client, gateway).await?, &new).await?;
    if out.json {
        return out.json(&issued);
    }
    let credential = &issued.credential;
    out.line(format!("Credential {}, good until {}.", credential.id, day(credential.expires_at)))?;
    if let Some(token) = &issued.token {
        out.line(format!("\nThe header the gateway is to send:\n\nAuthorization: Bearer {}", token.as_str()))?;
    }
    for (what, pem) in [("certificate", issued.certificate_pem.as_deref()), ("key", issued.key_pem.as_deref())] {
        if let Some(pem) = pem {
            out.line(format!("\nThe {what}:\n\n{}", pem.trim_end()))?;
        }
    }
    out.line(format!("\nWhat the gateway is to trust:\n\n{}", issued.trust_pem.trim_end()))?;
    out.line("\nThe secret is shown this once.")
}

async fn endings(client: &Client, out: &Out) -> Result<()> {
    let endings: Endings = client.get(&client.in_estate("endings").await?, &[]).await?;
    if out.json {
        return out.json(&endings);
    }
    let renewal = if endings.server_renews_itself { "the service renews it" } else { "it has to be given again" };
    out.line(format!("The service's certificate ends on {}; {renewal}.", day(endings.server_expires_at)))?;
    out.line(format!("The authority that gateways trust ends on {}.", day(endings.authority_expires_at)))?;
    let now = Utc::now();
    let none = "No gateway's credential ends within 30 days.";
    out.list(&endings.credentials, none, &["GATEWAY", "EUI", "FOR", "KIND", "STATE", "ENDS", "NEXT"], |e| {
        let next = if e.renews_itself { "it fetches another by itself" } else { "make it a new kit" };
        vec![
            e.name.clone(),
            e.gateway.to_string(),
            e.credential.purpose.name().into(),
            e.credential.kind.name().into(),
            credential::state(&e.credential, now).label().into(),
            day(e.credential.expires_at),
            next.into(),
        ]
    })
}

pub(crate) async fn events(client: &Client, out: &Out, gateway: &str, limit: u32) -> Result<()> {
    let path = format!("{}/events", client.one("gateways", gateway).await?);
    let page: Page<GatewayEvent> = client.get(&path, &[("limit", limit.to_string())]).await?;
    if out.json {
        return out.json(&page.items);
    }
    if page.items.is_empty() {
        return out.line("Nothing has happened to this gateway yet. Nothing it sends has reached the service: look at the address it calls, and at the firewall.");
    }
    for event in page.items {
        let from = event.address.map(|address| format!(" (from {address})")).unwrap_or_default();
        out.line(format!("{}  {:<12}  {}{from}", show::moment(event.time), event.kind.label(), event.text))?;
        if let Some(next) = event.next {
            out.line(format!("{:41}Next: {next}", ""))?;
        }
    }
    Ok(())
}
