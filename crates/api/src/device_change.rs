//! Changing devices that are registered: one, or many alike.

use lorawan::region::Region;
use lorawan::{Eui64, MacVersion};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::{self, Problem, bad_field};
use crate::profile::{SettingChange, changes};
use crate::radio::RadioSettings;
use crate::registration::{self, Premises};

/// Devices changed alike at most.
pub const MOST_DEVICES: usize = 10_000;

/// What is to be changed about a device; what is left out stays. An empty text takes away what need not be there.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DeviceChange {
    /// Its name; of one device only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The short name of its fleet.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fleet: Option<String>,
    /// The short name of its model; empty for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub model: Option<String>,
    /// The short name of its radio profile; empty for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub profile: Option<String>,
    /// What else is to be known of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// Version of its hardware; empty for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hardware: Option<String>,
    /// Version of its firmware; empty for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub firmware: Option<String>,
    /// Whether it is kept from being served.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub disabled: Option<bool>,
    /// Its own radio and MAC, as a whole.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub radio: Option<RadioSettings>,
    /// Its tags, as a whole.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tags: Option<Vec<String>>,
    /// Tags to add.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub add_tags: Vec<String>,
    /// Tags to take away.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub remove_tags: Vec<String>,
}

/// A change of many devices alike.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BulkChange {
    /// Their DevEUIs.
    pub devices: Vec<String>,
    /// What is to be changed.
    pub change: DeviceChange,
    /// Only say what would become different.
    #[serde(default)]
    pub preview: bool,
}

/// A device as it stands before a change.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct DeviceAsIs {
    pub dev_eui: Eui64,
    pub name: String,
    pub fleet: String,
    pub model: Option<String>,
    pub profile: Option<String>,
    pub region: Region,
    pub radio: RadioSettings,
    pub personalized: bool,
    pub tags: Vec<String>,
    pub disabled: bool,
    pub description: String,
    pub hardware: Option<String>,
    pub firmware: Option<String>,
}

/// What is written down of a change. What is `None` stays; of those with a second `Option`, `None` within takes away.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct DeviceEdit {
    pub name: Option<String>,
    pub fleet: Option<String>,
    pub model: Option<Option<String>>,
    pub profile: Option<Option<String>>,
    pub region: Option<Region>,
    pub description: Option<String>,
    pub hardware: Option<Option<String>>,
    pub firmware: Option<Option<String>>,
    pub disabled: Option<bool>,
    pub radio: Option<RadioSettings>,
    pub tags: Option<Vec<String>>,
}

/// What a change does to devices.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ChangeEffect {
    /// Those that become different.
    pub devices: Vec<DeviceEffect>,
    /// How many it concerns that stay as they are.
    pub untouched: usize,
    /// Whether it has been done, rather than only looked at.
    pub done: bool,
}

/// What a change does to one device.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeviceEffect {
    /// Its DevEUI.
    #[schema(value_type = String)]
    pub dev_eui: Eui64,
    /// Its name.
    pub name: String,
    /// What becomes different, and what it is sent of that.
    pub changes: Vec<SettingChange>,
}

/// An empty text for nothing.
fn or_none(text: &str) -> Option<&str> {
    Some(text.trim()).filter(|text| !text.is_empty())
}

impl DeviceChange {
    /// What the change comes to for a device, and what becomes different.
    ///
    /// # Errors
    /// Names the field, the value and what is allowed.
    pub fn settle(&self, now: &DeviceAsIs, premises: &Premises) -> Result<(DeviceEdit, Vec<SettingChange>), Problem> {
        let slug = |field, text: &Option<String>| -> Result<Option<Option<String>>, Problem> {
            text.as_deref().map(|text| or_none(text).map(|slug| problem::slug(field, slug)).transpose()).transpose()
        };
        let mut edit = DeviceEdit {
            name: self.name.as_deref().map(|name| problem::name("name", name)).transpose()?,
            fleet: self.fleet.as_deref().map(|fleet| problem::slug("fleet", fleet)).transpose()?,
            model: slug("model", &self.model)?,
            profile: slug("profile", &self.profile)?,
            region: None,
            description: self.description.as_deref().map(registration::description).transpose()?,
            hardware: self.hardware.as_deref().map(|v| registration::version("hardware", Some(v))).transpose()?,
            firmware: self.firmware.as_deref().map(|v| registration::version("firmware", Some(v))).transpose()?,
            disabled: self.disabled,
            radio: self.radio.clone(),
            tags: None,
        };
        if let Some(fleet) = &edit.fleet {
            premises.fleet(fleet)?;
        }
        let mut tags = self.tags.clone().unwrap_or_else(|| now.tags.clone());
        tags.extend(self.add_tags.iter().cloned());
        tags.retain(|tag| !self.remove_tags.iter().any(|gone| gone.trim() == tag.trim()));
        let tags = registration::tags(&tags)?;
        if tags != now.tags {
            edit.tags = Some(tags.clone());
        }
        let model = edit.model.clone().unwrap_or_else(|| now.model.clone());
        let profile = edit.profile.clone().unwrap_or_else(|| now.profile.clone());
        let radio = edit.radio.as_ref().unwrap_or(&now.radio);
        let before = premises.standing(now.model.as_deref(), now.profile.as_deref(), Some(now.region), &now.radio)?;
        // A profile brings its region; without one it stays.
        let region = Some(now.region).filter(|_| edit.profile.as_ref().is_none_or(Option::is_none));
        let after = premises.standing(model.as_deref(), profile.as_deref(), region, radio)?;
        edit.region = (after.region != now.region).then_some(after.region);
        after.radio.suits(now.personalized)?;
        let (before, after) = (before.radio.profile(before.region)?, after.radio.checked(after.region)?);
        if (before.version == MacVersion::V1_1) != (after.version == MacVersion::V1_1) && !now.personalized {
            let allowed = "1.1 has other root keys than the versions before it: remove the device and register it anew";
            return Err(bad_field("radio.mac_version", after.version.name(), allowed));
        }
        let mut found = Vec::new();
        let mut compare = |setting: &str, before: &str, after: &str| {
            if before != after {
                let (before, after) = (before.to_owned(), after.to_owned());
                found.push(SettingChange { setting: setting.into(), before, after, sent: None });
            }
        };
        let none = |text: &Option<String>| text.clone().unwrap_or_else(|| "none".into());
        compare("name", &now.name, edit.name.as_deref().unwrap_or(&now.name));
        compare("fleet", &now.fleet, edit.fleet.as_deref().unwrap_or(&now.fleet));
        compare("model", &none(&now.model), &none(&model));
        compare("profile", &none(&now.profile), &none(&profile));
        let served = |disabled: bool| if disabled { "disabled" } else { "served" };
        compare("service", served(now.disabled), served(edit.disabled.unwrap_or(now.disabled)));
        compare("tags", &now.tags.join(", "), &tags.join(", "));
        compare("description", &now.description, edit.description.as_deref().unwrap_or(&now.description));
        compare("hardware", &none(&now.hardware), &none(edit.hardware.as_ref().unwrap_or(&now.hardware)));
        compare("firmware", &none(&now.firmware), &none(edit.firmware.as_ref().unwrap_or(&now.firmware)));
        found.extend(changes(&before, &after));
        Ok((edit, found))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::radio::Class;
    use crate::registration::ProfileBase;

    fn premises() -> Premises {
        let class_c = RadioSettings { class: Some(Class::C), ..RadioSettings::default() };
        let newest = RadioSettings { mac_version: Some(MacVersion::V1_1), ..RadioSettings::default() };
        Premises {
            fleets: [("tide".into(), None), ("scales".into(), None)].into(),
            models: [("sluice".to_owned(), class_c.into())].into(),
            profiles: [
                ("island".to_owned(), ProfileBase { region: Region::In865, radio: RadioSettings::default() }),
                ("newest".to_owned(), ProfileBase { region: Region::Eu868, radio: newest }),
            ]
            .into(),
        }
    }

    fn now() -> DeviceAsIs {
        DeviceAsIs {
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
        let (edit, found) = change.settle(&now(), &premises()).unwrap();
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
        let (edit, found) = DeviceChange::default().settle(&now(), &premises()).unwrap();
        assert_eq!((edit, found), (DeviceEdit::default(), Vec::new()));
    }

    #[test]
    fn a_profile_brings_its_region_and_may_be_taken_away() {
        let profile = |slug: &str| DeviceChange { profile: Some(slug.into()), ..DeviceChange::default() };
        let (edit, found) = profile("island").settle(&now(), &premises()).unwrap();
        assert_eq!(edit.region, Some(Region::In865));
        assert!(found.iter().any(|change| change.setting == "region" && change.after == "IN865"));
        let on_island = DeviceAsIs { profile: Some("island".into()), region: Region::In865, ..now() };
        let (edit, _) = profile("").settle(&on_island, &premises()).unwrap();
        assert_eq!((edit.profile, edit.region), (Some(None), None));
        let why = profile("newest").settle(&now(), &premises()).unwrap_err();
        assert!(why.to_string().contains("other root keys"), "{why}");
        assert_eq!(profile("none").settle(&now(), &premises()).unwrap_err().field.as_deref(), Some("profile"));
    }
}
