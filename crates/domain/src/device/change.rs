//! Changing registered devices: the result of a change, setting by setting.

use std::collections::BTreeMap;

use api::device::change::DeviceChange;
use api::device::place::Place;
use api::problem::{Problem, bad_field};
use api::radio::profile::SettingChange;
use api::radio::settings::RadioSettings;
use lorawan::region::Region;
use lorawan::{Eui64, MacVersion};
use serde::Serialize;

use crate::device::register::EstateDefaults;
use crate::device::{place, register};
use crate::input;
use crate::radio::diff::changes;
use crate::radio::profile::{checked_profile, profile_of, suits};

/// Devices in one change, at most.
pub const MOST_DEVICES: usize = 10_000;

/// A device before a change.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct DeviceSnapshot {
    /// The device's DevEUI.
    pub dev_eui: Eui64,
    /// Its name.
    pub name: String,
    /// The short name of its fleet.
    pub fleet: String,
    /// The short name of its model.
    pub model: Option<String>,
    /// The short name of its radio profile.
    pub profile: Option<String>,
    /// Its region.
    pub region: Region,
    /// Its radio settings.
    pub radio: RadioSettings,
    /// Whether it is activated by personalization (ABP).
    pub personalized: bool,
    /// Its tags.
    pub tags: Vec<String>,
    /// Whether it is disabled.
    pub disabled: bool,
    /// Its description.
    pub description: String,
    /// Its hardware version.
    pub hardware: Option<String>,
    /// Its firmware version.
    pub firmware: Option<String>,
    /// Where it is.
    pub place: Option<Place>,
    /// What else is known of it.
    pub attributes: BTreeMap<String, String>,
}

/// The stored part of a change. `None` keeps a field; with a second `Option`, an inner `None` clears it.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct DevicePatch {
    /// Another name.
    pub name: Option<String>,
    /// Another fleet.
    pub fleet: Option<String>,
    /// Another model, or none.
    pub model: Option<Option<String>>,
    /// Another radio profile, or none.
    pub profile: Option<Option<String>>,
    /// Another region.
    pub region: Option<Region>,
    /// Another description.
    pub description: Option<String>,
    /// Another hardware version, or none.
    pub hardware: Option<Option<String>>,
    /// Another firmware version, or none.
    pub firmware: Option<Option<String>>,
    /// Another place, or none.
    pub place: Option<Option<Place>>,
    /// Its attributes, all of them.
    pub attributes: Option<BTreeMap<String, String>>,
    /// Whether it is disabled from now on.
    pub disabled: Option<bool>,
    /// Its own radio settings, all of them.
    pub radio: Option<RadioSettings>,
    /// Its tags, all of them.
    pub tags: Option<Vec<String>>,
}

/// An empty text for nothing.
fn or_none(text: &str) -> Option<&str> {
    Some(text.trim()).filter(|text| !text.is_empty())
}

/// The result of a change for a device, and the differences.
///
/// # Errors
/// Names the field, the value and what is allowed.
pub fn settle(
    change: &DeviceChange,
    now: &DeviceSnapshot,
    defaults: &EstateDefaults,
) -> Result<(DevicePatch, Vec<SettingChange>), Problem> {
    let slug = |field, text: &Option<String>| -> Result<Option<Option<String>>, Problem> {
        text.as_deref().map(|text| or_none(text).map(|slug| input::slug(field, slug)).transpose()).transpose()
    };
    let mut edit = DevicePatch {
        name: change.name.as_deref().map(|name| input::name("name", name)).transpose()?,
        fleet: change.fleet.as_deref().map(|fleet| input::slug("fleet", fleet)).transpose()?,
        model: slug("model", &change.model)?,
        profile: slug("profile", &change.profile)?,
        region: None,
        description: change.description.as_deref().map(register::description).transpose()?,
        hardware: change.hardware.as_deref().map(|v| register::version("hardware", Some(v))).transpose()?,
        firmware: change.firmware.as_deref().map(|v| register::version("firmware", Some(v))).transpose()?,
        place: change.place.map(|given| given.map(place::place).transpose()).transpose()?,
        attributes: None,
        disabled: change.disabled,
        radio: change.radio.clone(),
        tags: None,
    };
    if let Some(fleet) = &edit.fleet {
        defaults.fleet(fleet)?;
    }
    let mut tags = change.tags.clone().unwrap_or_else(|| now.tags.clone());
    tags.extend(change.add_tags.iter().cloned());
    let removed: Vec<String> = change.remove_tags.iter().map(|tag| input::stored_tag(tag)).collect();
    tags.retain(|tag| !removed.contains(&input::stored_tag(tag)));
    let tags = register::tags(&tags)?;
    if tags != now.tags {
        edit.tags = Some(tags);
    }
    let attributes = place::changed(&now.attributes, &change.attributes)?;
    edit.attributes = Some(attributes).filter(|attributes| *attributes != now.attributes);
    let model = edit.model.clone().unwrap_or_else(|| now.model.clone());
    let profile = edit.profile.clone().unwrap_or_else(|| now.profile.clone());
    let radio = edit.radio.as_ref().unwrap_or(&now.radio);
    let before =
        defaults.effective_settings(now.model.as_deref(), now.profile.as_deref(), Some(now.region), &now.radio)?;
    // A profile brings its region; without one it stays.
    let region = Some(now.region).filter(|_| edit.profile.as_ref().is_none_or(Option::is_none));
    let after = defaults.effective_settings(model.as_deref(), profile.as_deref(), region, radio)?;
    edit.region = (after.region != now.region).then_some(after.region);
    suits(&after.radio, now.personalized)?;
    let (before, after) = (profile_of(&before.radio, before.region)?, checked_profile(&after.radio, after.region)?);
    if (before.version == MacVersion::V1_1) != (after.version == MacVersion::V1_1) && !now.personalized {
        let allowed = "1.1 has other root keys than the versions before it: remove the device and register it again";
        return Err(bad_field("radio.mac_version", after.version.name(), allowed));
    }
    let mut found = compare(now, &edit, (&model, &profile));
    found.extend(changes(&before, &after));
    Ok((edit, found))
}

/// The differences besides the radio settings.
fn compare(
    now: &DeviceSnapshot,
    edit: &DevicePatch,
    (model, profile): (&Option<String>, &Option<String>),
) -> Vec<SettingChange> {
    fn named(text: &Option<String>) -> &str {
        text.as_deref().unwrap_or("none")
    }
    let served = |disabled: bool| if disabled { "disabled" } else { "served" };
    let (tags_before, tags_after) = (now.tags.join(", "), edit.tags.as_ref().unwrap_or(&now.tags).join(", "));
    let place = |place: Option<Place>| place.map_or_else(|| "none".to_owned(), |place| place.to_string());
    let (place_before, place_after) = (place(now.place), place(edit.place.unwrap_or(now.place)));
    let (known_before, known_after) =
        (place::line(&now.attributes), place::line(edit.attributes.as_ref().unwrap_or(&now.attributes)));
    let pairs = [
        ("name", now.name.as_str(), edit.name.as_deref().unwrap_or(&now.name)),
        ("fleet", &now.fleet, edit.fleet.as_deref().unwrap_or(&now.fleet)),
        ("model", named(&now.model), named(model)),
        ("profile", named(&now.profile), named(profile)),
        ("service", served(now.disabled), served(edit.disabled.unwrap_or(now.disabled))),
        ("tags", &tags_before, &tags_after),
        ("description", &now.description, edit.description.as_deref().unwrap_or(&now.description)),
        ("hardware", named(&now.hardware), named(edit.hardware.as_ref().unwrap_or(&now.hardware))),
        ("place", &place_before, &place_after),
        ("attributes", &known_before, &known_after),
        ("firmware", named(&now.firmware), named(edit.firmware.as_ref().unwrap_or(&now.firmware))),
    ];
    pairs
        .into_iter()
        .filter(|(_, before, after)| before != after)
        .map(|(setting, before, after)| SettingChange {
            setting: setting.into(),
            before: before.into(),
            after: after.into(),
            sent: None,
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device::register::ProfileBase;
    use api::radio::settings::Class;

    fn defaults() -> EstateDefaults {
        let class_c = RadioSettings { class: Some(Class::C), ..RadioSettings::default() };
        let newest = RadioSettings { mac_version: Some(MacVersion::V1_1), ..RadioSettings::default() };
        EstateDefaults {
            fleets: [("tide".into(), None), ("scales".into(), None)].into(),
            models: [("sluice".to_owned(), class_c.into())].into(),
            profiles: [
                ("island".to_owned(), ProfileBase { region: Region::In865, radio: RadioSettings::default() }),
                ("newest".to_owned(), ProfileBase { region: Region::Eu868, radio: newest }),
            ]
            .into(),
        }
    }

    fn now() -> DeviceSnapshot {
        DeviceSnapshot {
            dev_eui: Eui64(1),
            name: "tide-01".into(),
            fleet: "tide".into(),
            model: None,
            profile: None,
            region: Region::Eu868,
            radio: RadioSettings::default(),
            personalized: false,
            tags: vec!["old".into()],
            disabled: false,
            description: String::new(),
            hardware: None,
            firmware: None,
            place: None,
            attributes: BTreeMap::new(),
        }
    }

    #[test]
    fn a_change_is_settled_and_told() {
        let change = DeviceChange {
            fleet: Some("scales".into()),
            model: Some("sluice".into()),
            disabled: Some(true),
            add_tags: vec!["pier".into()],
            remove_tags: vec!["old".into()],
            ..DeviceChange::default()
        };
        let (edit, found) = settle(&change, &now(), &defaults()).unwrap();
        assert_eq!((edit.fleet.as_deref(), edit.tags), (Some("scales"), Some(vec!["pier".to_owned()])));
        let said: Vec<String> = found.iter().map(|c| format!("{}: {} to {}", c.setting, c.before, c.after)).collect();
        assert_eq!(
            said,
            [
                "fleet: tide to scales",
                "model: none to sluice",
                "service: served to disabled",
                "tags: old to pier",
                "class: A to C"
            ]
        );
        let (edit, found) = settle(&DeviceChange::default(), &now(), &defaults()).unwrap();
        assert_eq!((edit, found), (DevicePatch::default(), Vec::new()));
    }

    #[test]
    fn a_profile_brings_its_region_and_may_be_taken_away() {
        let profile = |slug: &str| DeviceChange { profile: Some(slug.into()), ..DeviceChange::default() };
        let (edit, found) = settle(&profile("island"), &now(), &defaults()).unwrap();
        assert_eq!(edit.region, Some(Region::In865));
        assert!(found.iter().any(|change| change.setting == "region" && change.after == "IN865"));
        let on_island = DeviceSnapshot { profile: Some("island".into()), region: Region::In865, ..now() };
        let (edit, _) = settle(&profile(""), &on_island, &defaults()).unwrap();
        assert_eq!((edit.profile, edit.region), (Some(None), None));
        let why = settle(&profile("newest"), &now(), &defaults()).unwrap_err();
        assert!(why.to_string().contains("other root keys"), "{why}");
        assert_eq!(settle(&profile("none"), &now(), &defaults()).unwrap_err().field.as_deref(), Some("profile"));
    }
}
