//! `heron profile`.

pub(crate) mod args;

use anyhow::Result;
use api::device::change::ChangeEffect;
use api::radio::profile::{PutProfile, StoredProfile};
use api::radio::settings::RadioSettings;
use lorawan::region::Region;

use crate::client::Client;
use crate::commands::device::set;
use crate::commands::profile::args::{ProfileSetArgs, ProfileVerb};
use crate::show::{self, Out};

/// A value without quotes.
fn plain(value: &serde_json::Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}

/// Settings that are given, in words.
pub(crate) fn given(radio: &RadioSettings) -> Result<String> {
    let value = serde_json::to_value(radio)?;
    let given: Vec<String> =
        value.as_object().into_iter().flatten().map(|(name, value)| format!("{name} {}", plain(value))).collect();
    Ok(if given.is_empty() { "as the region has it".into() } else { given.join(", ") })
}

fn lines(p: &StoredProfile) -> Vec<(&'static str, String)> {
    vec![
        ("profile", p.slug.clone()),
        ("name", p.name.clone()),
        ("region", p.region.to_string()),
        ("radio", given(&p.radio).unwrap_or_default()),
        ("devices", p.devices.to_string()),
        ("changed", show::ago(Some(p.changed_at))),
    ]
}

async fn change(client: &Client, out: &Out, args: ProfileSetArgs) -> Result<()> {
    let ProfileSetArgs { slug, name, region, preview, radio } = args;
    let path = client.one("profiles", &slug).await?;
    let before: StoredProfile = client.get(&path, &[]).await?;
    let wanted = PutProfile {
        name: name.unwrap_or(before.name),
        region: region.unwrap_or(before.region),
        radio: radio.over(before.radio),
    };
    let effect: ChangeEffect = client.put(&format!("{path}?preview={preview}"), &wanted).await?;
    if !out.json && effect.done {
        out.line(format!("{slug}: {}, {}", wanted.region, given(&wanted.radio)?))?;
    }
    set::show(out, &effect)
}

pub(crate) async fn run(client: &Client, out: &Out, verb: ProfileVerb, yes: bool) -> Result<()> {
    match verb {
        ProfileVerb::List(which) => {
            let profiles: Vec<StoredProfile> = client.all(&client.in_estate("profiles").await?, &which.query()).await?;
            let none = "There is no radio profile. Next: `heron profile add PROFILE --region REGION`.";
            out.list(&profiles, none, &["PROFILE", "NAME", "REGION", "DEVICES", "RADIO"], |p| {
                let radio = given(&p.radio).unwrap_or_default();
                vec![p.slug.clone(), p.name.clone(), p.region.to_string(), p.devices.to_string(), radio]
            })
        }
        ProfileVerb::Show { slug } => {
            let profile: StoredProfile = client.get(&client.one("profiles", &slug).await?, &[]).await?;
            out.one(&profile, lines)
        }
        ProfileVerb::Add { slug, name, region, radio } => {
            let wanted = PutProfile {
                name: name.unwrap_or_else(|| slug.clone()),
                region: region.unwrap_or(Region::Eu868),
                radio: radio.over(RadioSettings::default()),
            };
            let path = client.one("profiles", &slug).await?;
            let _: ChangeEffect = client.put_new(&path, &wanted).await?;
            out.one(&client.get::<StoredProfile>(&path, &[]).await?, lines)
        }
        ProfileVerb::Set(args) => change(client, out, *args).await,
        ProfileVerb::Remove { slug } => {
            show::confirm(yes, &format!("The radio profile {slug} will be removed."))?;
            client.delete(&client.one("profiles", &slug).await?).await?;
            out.said(format!("{slug} was removed."))
        }
    }
}
