//! `heron profile`.

pub(crate) mod args;

use anyhow::Result;
use api::device::change::ChangeEffect;
use api::problem::Problem;
use api::radio::profile::{PutProfile, StoredProfile};
use lorawan::region::Region;

use crate::client::Client;
use crate::commands::device::set;
use crate::commands::profile::args::ProfileVerb;
use crate::show::{self, Out};

/// A value without quotes.
fn plain(value: &serde_json::Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}

/// Settings that are given, in words.
pub(crate) fn given(radio: &api::radio::settings::RadioSettings) -> Result<String> {
    let value = serde_json::to_value(radio)?;
    let given: Vec<String> =
        value.as_object().into_iter().flatten().map(|(name, value)| format!("{name} {}", plain(value))).collect();
    Ok(if given.is_empty() { "as the region has it".into() } else { given.join(", ") })
}

pub(crate) async fn run(client: &Client, out: &Out, verb: ProfileVerb, yes: bool) -> Result<()> {
    let path = async |slug: &str| client.in_estate(&format!("profiles/{slug}")).await;
    match verb {
        ProfileVerb::List => {
            let profiles: Vec<StoredProfile> = client.all(&client.in_estate("profiles").await?, &[]).await?;
            let none = "There is no radio profile. Next: `heron profile put SLUG --region REGION`.";
            out.list(&profiles, none, &["PROFILE", "NAME", "REGION", "DEVICES", "RADIO"], |p| {
                let radio = given(&p.radio).unwrap_or_default();
                vec![p.slug.clone(), p.name.clone(), p.region.to_string(), p.devices.to_string(), radio]
            })
        }
        ProfileVerb::Show { slug } => {
            let profile: StoredProfile = client.get(&path(&slug).await?, &[]).await?;
            out.one(&profile, |p| {
                vec![
                    ("profile", p.slug.clone()),
                    ("name", p.name.clone()),
                    ("region", p.region.to_string()),
                    ("radio", given(&p.radio).unwrap_or_default()),
                    ("devices", p.devices.to_string()),
                    ("changed", show::ago(Some(p.changed_at))),
                ]
            })
        }
        ProfileVerb::Put { slug, name, region, preview, radio } => {
            let path = path(&slug).await?;
            let before = match client.get::<StoredProfile>(&path, &[]).await {
                Ok(profile) => Some(profile),
                Err(why) if why.downcast_ref::<Problem>().is_some_and(|problem| problem.status == 404) => None,
                Err(why) => return Err(why),
            };
            let wanted = PutProfile {
                name: name.or_else(|| before.as_ref().map(|b| b.name.clone())).unwrap_or_else(|| slug.clone()),
                region: region.or(before.as_ref().map(|b| b.region)).unwrap_or(Region::Eu868),
                radio: radio.over(before.map(|b| b.radio).unwrap_or_default()),
            };
            let effect: ChangeEffect = client.put(&format!("{path}?preview={preview}"), &wanted).await?;
            if !out.json && effect.done {
                out.line(format!("{slug}: {}, {}", wanted.region, given(&wanted.radio)?))?;
            }
            set::show(out, &effect)
        }
        ProfileVerb::Remove { slug } => {
            show::confirm(yes, &format!("The radio profile {slug} will be removed."))?;
            client.delete(&path(&slug).await?).await?;
            out.line(format!("{slug} was removed."))
        }
    }
}
