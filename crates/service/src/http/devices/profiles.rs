//! Radio profiles.

use api::Page;
use api::device::change::{ChangeEffect, DeviceEffect};
use api::problem::{Problem, bad_field};
use api::radio::profile::{PutProfile, StoredProfile};
use axum::extract::State;
use axum::http::StatusCode;
use domain::device::register::{EstateDefaults, ProfileBase};
use domain::radio::diff;
use domain::radio::diff::changes;
use domain::radio::profile::{checked_profile, profile_of, suits};
use lorawan::{Eui64, MacVersion};
use serde::Deserialize;
use store::{DeviceQuery, DeviceRow};

use crate::http::app::App;
use crate::http::devices::change::{of_device, retell};
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathName, WholeEstate, page, revision};
use crate::http::json::{Answer, Json};
use crate::http::listing::{ALL, Choice, whole};

/// An estate's radio profiles, by short name.
#[utoipa::path(get, path = "/estates/{estate}/profiles", tag = "profiles",
    extensions(("x-right" = json!("view"))),
    params(Choice, Paging), responses((status = 200, body = Page<StoredProfile>), (status = 422, body = Problem)))]
pub(crate) async fn list_profiles(
    State(app): State<App>,
    estate: WholeEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<StoredProfile>> {
    if !choice.is_plain() {
        let all = whole(app.store.radio_profiles(estate.id, "", ALL).await?)?.into_iter().map(with_revision).collect();
        return Ok(Json(choice.page_of(all, &paging, |profile: &StoredProfile| profile.slug.clone())?));
    }
    let limit = paging.limit()?;
    let rows = app.store.radio_profiles(estate.id, paging.after(), limit + 1).await?;
    Ok(Json(page(rows, limit, |profile| profile.slug.clone(), with_revision)))
}

/// One radio profile.
#[utoipa::path(get, path = "/estates/{estate}/profiles/{profile}", tag = "profiles",
    extensions(("x-right" = json!("view"))),
    params(("profile" = String, Path)),
    responses((status = 200, body = StoredProfile), (status = 404, body = Problem)))]
pub(crate) async fn show_profile(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(slug): PathName,
) -> Answer<StoredProfile> {
    let found = app.store.radio_profile(estate.id, &slug).await?;
    found.map(with_revision).map(Json).ok_or_else(|| not_found("profile", slug))
}

fn with_revision(profile: StoredProfile) -> StoredProfile {
    StoredProfile { revision: revision(&PutProfile::from(&profile)), ..profile }
}

/// Whether a change is a preview.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Preview {
    /// Only report which devices would change, and what they would be sent.
    #[serde(default)]
    preview: bool,
}

/// Adds or replaces a radio profile. Reports which devices change, and what they are sent.
#[utoipa::path(put, path = "/estates/{estate}/profiles/{profile}", tag = "profiles",
    extensions(("x-right" = json!("devices"))),
    params(("profile" = String, Path), Preview), request_body = PutProfile,
    responses((status = 200, body = ChangeEffect), (status = 422, body = Problem)))]
pub(crate) async fn put_profile(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(slug): PathName,
    Params(Preview { preview }): Params<Preview>,
    Json(profile): Json<PutProfile>,
) -> Answer<ChangeEffect> {
    let slug = domain::input::slug("profile", &slug)?;
    let profile = diff::check(profile)?;
    let which = DeviceQuery { profile: Some(slug.clone()), ..DeviceQuery::default() };
    let rows = app.store.devices(estate.id, &which, u32::MAX).await?;
    let before = app.store.defaults(estate.id).await?;
    let mut after = before.clone();
    after.profiles.insert(slug.clone(), ProfileBase { region: profile.region, radio: profile.radio.clone() });
    let effect = compare(&rows, &before, &after)?;
    if !preview {
        let old = app.store.radio_profile(estate.id, &slug).await?;
        match &old {
            Some(old) => {
                let old = PutProfile::from(old);
                estate.still(&old)?;
                estate.audit().object(format!("profile {slug}")).changed(&old, &profile)
            }
            None => estate.audit().object(format!("profile {slug}")).made(&profile),
        };
        app.store.put_radio_profile(estate.id, &slug, &profile).await?;
        for device in &rows {
            app.directory.set_region(device.dev_eui, profile.region);
        }
        let euis: Vec<Eui64> = effect.devices.iter().map(|device| device.dev_eui).collect();
        retell(&app, &euis).await?;
    }
    Ok(Json(ChangeEffect { done: !preview, ..effect }))
}

/// The changes of devices when their profile or model changes.
pub(crate) fn compare(
    rows: &[DeviceRow],
    before: &EstateDefaults,
    after: &EstateDefaults,
) -> Result<ChangeEffect, Problem> {
    let mut effect = ChangeEffect { devices: Vec::new(), untouched: 0, done: false };
    for row in rows {
        let standing = |defaults: &EstateDefaults| {
            // A device without a profile has its region of its own.
            let region = Some(row.region).filter(|_| row.profile.is_none());
            defaults.effective_settings(row.model.as_deref(), row.profile.as_deref(), region, &row.radio)
        };
        let both = || {
            let (then, now) = (standing(before)?, standing(after)?);
            suits(&now.radio, row.personalized)?;
            Ok((profile_of(&then.radio, then.region)?, checked_profile(&now.radio, now.region)?))
        };
        let (then, now) = both().map_err(|p| of_device(p, &row.name))?;
        if (then.version == MacVersion::V1_1) != (now.version == MacVersion::V1_1) && !row.personalized {
            let allowed = "1.1 has other root keys than the versions before it, and devices are registered with those";
            return Err(of_device(bad_field("radio.mac_version", now.version.name(), allowed), &row.name));
        }
        let changes = changes(&then, &now);
        if changes.is_empty() {
            effect.untouched += 1;
        } else {
            effect.devices.push(DeviceEffect { dev_eui: row.dev_eui, name: row.name.clone(), changes });
        }
    }
    Ok(effect)
}

/// Removes a radio profile that no device uses.
#[utoipa::path(delete, path = "/estates/{estate}/profiles/{profile}", tag = "profiles",
    extensions(("x-right" = json!("devices"))),
    params(("profile" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn remove_profile(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(slug): PathName,
) -> Result<StatusCode, Refusal> {
    let before = app.store.radio_profile(estate.id, &slug).await?.ok_or_else(|| not_found("profile", &slug))?;
    estate.still(&PutProfile::from(&before))?;
    match app.store.remove_radio_profile(estate.id, &slug).await? {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(not_found("profile", slug)),
    }
}
