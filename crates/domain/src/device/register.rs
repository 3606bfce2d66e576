//! Registering devices: reading what was entered, and applying the estate's defaults.

use std::collections::{BTreeMap, HashMap};

use api::device::label::Label;
use api::device::place::Place;
use api::device::register::{NewDevice, PersonalSession};
use api::problem::{FieldProblems, Problem, bad_field};
use api::radio::settings::RadioSettings;
use engine::{
    Activation, Counters, DeviceConfig, DeviceRecord, Nonces, RadioProfile, RootKeys, Session, Settings, Timestamp,
};
use lorawan::crypto::{SessionKeys, SessionKeys11};
use lorawan::region::Region;
use lorawan::{AesKey, DevAddr, Eui64, MacVersion, NetId};

use crate::device::{label, place};
use crate::radio::profile::{checked_profile, profile_of, suits};
use crate::radio::settings::over;
use crate::{Check, input};

/// Asks the service to make up a value.
pub const GENERATE: &str = "generate";

/// Asks for the key that the fleet holds for all its devices.
pub const OF_FLEET: &str = "fleet";

/// Tags of one device at most.
pub const MOST_TAGS: usize = 20;

/// A radio profile of an estate, as devices use it.
#[derive(Debug, Clone, PartialEq)]
pub struct ProfileBase {
    /// Its region.
    pub region: Region,
    /// Its radio settings.
    pub radio: RadioSettings,
}

/// A model of an estate, as devices use it.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct ModelBase {
    /// Its radio settings.
    pub radio: RadioSettings,
    /// Its ProfileID on labels.
    pub profile_id: Option<String>,
    /// Why its decoder is not used.
    pub flaw: Option<String>,
}

impl From<RadioSettings> for ModelBase {
    fn from(radio: RadioSettings) -> Self {
        Self { radio, ..Self::default() }
    }
}

/// An estate's fleets, models and profiles that devices refer to.
#[derive(Debug, Clone, Default)]
pub struct EstateDefaults {
    /// Default keys by the fleets' short names.
    pub fleets: HashMap<String, Option<AesKey>>,
    /// Models by their short names.
    pub models: HashMap<String, ModelBase>,
    /// Radio profiles by their short names.
    pub profiles: HashMap<String, ProfileBase>,
}

/// A device's effective settings and region.
#[derive(Debug, Clone, PartialEq)]
pub struct EffectiveSettings {
    /// Its region.
    pub region: Region,
    /// Its radio settings.
    pub radio: RadioSettings,
}

impl EstateDefaults {
    fn of<T: Clone>(all: &HashMap<String, T>, what: &str, slug: &str) -> Result<T, Problem> {
        let known = all.get(slug).cloned();
        known.ok_or_else(|| bad_field(what, slug, format!("there is no such {what} in this estate")))
    }

    /// The model whose labels have this ProfileID, if exactly one has.
    pub fn model_of_label(&self, label: &Label) -> Option<String> {
        let id = label::profile_id(label);
        let mut of_it = self.models.iter().filter(|(_, model)| model.profile_id.as_ref() == Some(&id));
        let (slug, _) = of_it.next()?;
        of_it.next().is_none().then(|| slug.clone())
    }

    /// The default key of a fleet, which must exist.
    pub fn fleet(&self, slug: &str) -> Result<Option<AesKey>, Problem> {
        Self::of(&self.fleets, "fleet", slug)
    }

    /// A device's settings over its profile's, over its model's; all must go together.
    ///
    /// # Errors
    /// If model or profile are not there, if the profile is for another region, or if the settings cannot be.
    pub fn effective_settings(
        &self,
        model: Option<&str>,
        profile: Option<&str>,
        region: Option<Region>,
        own: &RadioSettings,
    ) -> Result<EffectiveSettings, Problem> {
        let make = model.map(|model| Self::of(&self.models, "model", model)).transpose()?.unwrap_or_default().radio;
        let base = profile.map(|profile| Self::of(&self.profiles, "profile", profile)).transpose()?;
        let region = match (region, base.as_ref().map(|base| base.region)) {
            (Some(given), Some(of_profile)) if given != of_profile => {
                let allowed = format!("the profile {} is for {of_profile}", profile.unwrap_or(""));
                return Err(bad_field("region", given.name(), allowed));
            }
            (given, of_profile) => given.or(of_profile).unwrap_or(Region::Eu868),
        };
        let radio = over(own, &over(&base.map(|base| base.radio).unwrap_or_default(), &make));
        profile_of(&radio, region)?;
        Ok(EffectiveSettings { region, radio })
    }
}

/// The context of a registration, with what is needed to make values up.
pub struct RegistrationContext<'a> {
    /// What the estate has.
    pub defaults: &'a EstateDefaults,
    /// The network, whose addresses are given out.
    pub net_id: NetId,
    /// Whether an address is in use.
    pub taken: &'a (dyn Fn(DevAddr) -> bool + Sync),
    /// Whether this is a preview: keys that are not given yet are no mistake.
    pub preview: bool,
    /// Random numbers, for keys.
    pub random: &'a mut (dyn FnMut() -> [u8; 16] + Send),
}

impl RegistrationContext<'_> {
    fn key(&mut self, field: &str, text: &str) -> Result<AesKey, Problem> {
        match text.trim() {
            GENERATE => Ok(AesKey((self.random)())),
            other => input::key(field, other),
        }
    }

    fn dev_addr(&mut self, text: &str) -> Result<DevAddr, Problem> {
        let text = text.trim();
        if text != GENERATE {
            let wanted = "8 hex digits are wanted, most significant first, or the word generate";
            return text.parse().map_err(|_| bad_field("personal.dev_addr", text, wanted));
        }
        let mut addr = DevAddr(0);
        // Addresses are few, so a shared one is not an error, only avoided while that is easy.
        for _ in 0..32 {
            let [a, b, c, d, ..] = (self.random)();
            addr = self.net_id.dev_addr(u32::from_le_bytes([a, b, c, d]));
            if !(self.taken)(addr) {
                break;
            }
        }
        Ok(addr)
    }
}

impl Check for PersonalSession {
    type Checked = (DevAddr, SessionKeys11);

    /// Address and keys, checked; nothing is made up.
    fn check(&self) -> Result<Self::Checked, Problem> {
        let mut none = || [0; 16];
        check_session(
            self,
            "personal",
            &mut RegistrationContext {
                defaults: &EstateDefaults::default(),
                net_id: NetId::new(0),
                taken: &|_| false,
                preview: false,
                random: &mut none,
            },
        )
    }
}

fn check_session(
    session: &PersonalSession,
    field: &str,
    estate: &mut RegistrationContext<'_>,
) -> Result<(DevAddr, SessionKeys11), Problem> {
    let nwk_s_key = estate.key(&format!("{field}.nwk_s_key"), &session.nwk_s_key)?;
    let app_s_key = estate.key(&format!("{field}.app_s_key"), &session.app_s_key)?;
    let mut keys = SessionKeys11::from(SessionKeys { nwk_s_key, app_s_key });
    if let Some(key) = &session.s_nwk_s_int_key {
        keys.s_nwk_s_int_key = estate.key(&format!("{field}.s_nwk_s_int_key"), key)?;
    }
    if let Some(key) = &session.nwk_s_enc_key {
        keys.nwk_s_enc_key = estate.key(&format!("{field}.nwk_s_enc_key"), key)?;
    }
    Ok((estate.dev_addr(&session.dev_addr)?, keys))
}

/// A session that a device has already, and what its joins have spent.
#[derive(Debug, Clone, PartialEq)]
pub struct RunningSession {
    /// The session. When it begins here is the caller's to say.
    pub session: Session,
    /// JoinNonce for the next join.
    pub nonces: Nonces,
    /// DevNonce of the last join.
    pub dev_nonce: Option<u16>,
}

impl RunningSession {
    /// The device as the engine takes it, with its session begun here at this time.
    pub fn record(&self, config: DeviceConfig, now: Timestamp) -> DeviceRecord {
        let session = Session { joined_at: now, ..self.session.clone() };
        let used_dev_nonces = self.dev_nonce.into_iter().collect();
        let nonces = Nonces { used_dev_nonces, ..self.nonces.clone() };
        DeviceRecord { session: Some(session), nonces, ..DeviceRecord::new(config) }
    }
}

/// The session with which a device goes on, if it has one: that of an earlier join, or its fixed one with counters.
fn running_session(
    new: &NewDevice,
    activation: &Activation,
    profile: &RadioProfile,
    estate: &mut RegistrationContext<'_>,
) -> Result<Option<RunningSession>, Problem> {
    let (dev_addr, keys) = match (&new.session, activation) {
        (Some(_), Activation::Personalized { .. }) => {
            return Err(bad_field("session", "given", "a device that does not join has its fixed session only"));
        }
        (Some(session), Activation::OverTheAir(_)) => check_session(session, "session", estate)?,
        (None, Activation::Personalized { dev_addr, keys }) if new.counters.is_some() => (*dev_addr, **keys),
        (None, _) if new.counters.is_some() => {
            return Err(bad_field("counters", "given", "the session that they are of is needed beside them"));
        }
        (None, _) => return Ok(None),
    };
    let given = new.counters.unwrap_or_default();
    let next_join_nonce = given.next_join_nonce.unwrap_or(1);
    if next_join_nonce > 0x00ff_ffff {
        let allowed = "0 to 16777215 are allowed: it has 24 bits";
        return Err(bad_field("counters.next_join_nonce", &next_join_nonce.to_string(), allowed));
    }
    let counters = Counters {
        up: given.last_counter_up,
        next_down: given.next_counter_down,
        next_app_down: given.next_app_counter_down.unwrap_or(0),
        ..Counters::default()
    };
    let speaks_1_1 = profile.version == MacVersion::V1_1;
    let settings = Settings::assumed(profile);
    let session = Session { dev_addr, keys, speaks_1_1, counters, settings, joined_at: Timestamp(0) };
    let nonces = Nonces { next_join_nonce, ..Nonces::default() };
    Ok(Some(RunningSession { session, nonces, dev_nonce: given.last_dev_nonce }))
}

/// A device whose values have been checked.
#[derive(Debug, Clone, PartialEq)]
pub struct CheckedDevice {
    /// Its DevEUI.
    pub dev_eui: Eui64,
    /// Its JoinEUI; a personalized device needs none.
    pub join_eui: Option<Eui64>,
    /// How it joins, with its keys.
    pub activation: Activation,
    /// The session it has already.
    pub running: Option<RunningSession>,
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
    /// Its own settings alone.
    pub radio: RadioSettings,
    /// Its effective settings, with profile and model.
    pub whole: RadioSettings,
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
    /// Its tags.
    pub tags: Vec<String>,
    /// Warnings.
    pub notes: Vec<String>,
}

/// Tags as they are kept: each once, in order.
pub fn tags(given: &[String]) -> Result<Vec<String>, Problem> {
    let mut tags: Vec<String> = given.iter().map(|tag| input::tag("tags", tag)).collect::<Result<_, _>>()?;
    tags.sort();
    tags.dedup();
    if tags.len() > MOST_TAGS {
        return Err(bad_field("tags", &format!("{} tags", tags.len()), format!("at most {MOST_TAGS} are allowed")));
    }
    Ok(tags)
}

pub(crate) fn version(field: &str, given: Option<&str>) -> Result<Option<String>, Problem> {
    match given.map(str::trim) {
        None | Some("") => Ok(None),
        Some(text) if text.chars().count() <= 40 => input::name(field, text).map(Some),
        Some(text) => Err(bad_field(field, text, "at most 40 characters are allowed")),
    }
}

/// A description as it is kept.
pub fn description(given: &str) -> Result<String, Problem> {
    let text = given.trim();
    if text.chars().count() > 500 || text.chars().any(|c| c.is_control() && c != '\n') {
        return Err(bad_field("description", text, "at most 500 characters are allowed, no control characters"));
    }
    Ok(text.to_owned())
}

/// An EUI that is entered, or stands on the label; where both are given they must agree.
fn stated(field: &str, entered: &str, on_label: Option<Eui64>) -> Result<Eui64, Problem> {
    match on_label {
        Some(eui) if entered.trim().is_empty() => Ok(eui),
        Some(eui) if input::eui(field, entered)? != eui => {
            Err(bad_field(field, entered, format!("the label says {eui}: leave one of them out")))
        }
        _ => input::eui(field, entered),
    }
}

/// Reads and checks every field, in an estate.
///
/// # Errors
/// Names the field, the value and what is allowed; keys are not repeated.
pub fn check(new: &NewDevice, estate: &mut RegistrationContext<'_>) -> Result<CheckedDevice, Problem> {
    let mut wrong = FieldProblems::default();
    let label = new.label.as_deref().filter(|text| !text.trim().is_empty()).map(label::read).transpose()?;
    let dev_eui = wrong.take(stated("dev_eui", &new.dev_eui, label.as_ref().map(|label| label.dev_eui)));
    let join_eui = match (&new.personal, new.join_eui.trim(), &label) {
        (Some(_), "", None) => None,
        _ => wrong.take(stated("join_eui", &new.join_eui, label.as_ref().map(|label| label.join_eui))),
    };
    let of_label = label.as_ref().and_then(|label| estate.defaults.model_of_label(label));
    let serial = label.and_then(|label| label.serial_number).map(|serial| format!("serial number {serial}"));
    let about = if new.description.trim().is_empty() { serial } else { None };
    let fleet = wrong.take(input::slug("fleet", &new.fleet)).unwrap_or_default();
    let fleet_key = if fleet.is_empty() { None } else { wrong.take(estate.defaults.fleet(&fleet)).flatten() };
    let mut slug = |field, slug: &Option<String>| {
        wrong.take(slug.as_deref().map(|slug| input::slug(field, slug)).transpose()).flatten()
    };
    let (model, profile) = (slug("model", &new.model).or(of_label), slug("profile", &new.profile));
    let flaw = model.as_ref().and_then(|slug| estate.defaults.models.get(slug)?.flaw.as_ref());
    let flaw = flaw.map(|flaw| format!("The decoder of its model is not used until it is fixed: {flaw}."));
    let effective = estate.defaults.effective_settings(model.as_deref(), profile.as_deref(), new.region, &new.radio);
    let effective = wrong.take(effective.and_then(|effective| {
        suits(&effective.radio, new.personal.is_some())?;
        Ok((checked_profile(&effective.radio, effective.region)?, effective))
    }));
    let activation = effective
        .as_ref()
        .and_then(|(profile, _)| wrong.take(check_activation(new, profile.version, fleet_key, estate)));
    let running = effective.as_ref().zip(activation.as_ref());
    let running = running
        .and_then(|((profile, _), activation)| wrong.take(running_session(new, activation, profile, estate)))
        .flatten();
    let name = match new.name.trim() {
        "" => dev_eui.map(|eui| eui.to_string()),
        _ => wrong.take(input::name("name", &new.name)),
    };
    let description = wrong.take(description(about.as_ref().unwrap_or(&new.description)));
    let hardware = wrong.take(version("hardware", new.hardware.as_deref())).flatten();
    let firmware = wrong.take(version("firmware", new.firmware.as_deref())).flatten();
    let place = new.place.and_then(|given| wrong.take(place::place(given)));
    let attributes = wrong.take(place::attributes(new.attributes.clone())).unwrap_or_default();
    let tags = wrong.take(tags(&new.tags)).unwrap_or_default();
    wrong.end()?;
    let (Some(dev_eui), Some((_, effective)), Some(activation), Some(name)) = (dev_eui, effective, activation, name)
    else {
        // What is missing has been told above.
        return Err(Problem::new(422, "bad_field", "This device cannot be registered"));
    };
    Ok(CheckedDevice {
        dev_eui,
        join_eui,
        activation,
        running,
        name,
        fleet,
        model,
        profile,
        region: effective.region,
        radio: new.radio.clone(),
        whole: effective.radio,
        description: description.unwrap_or_default(),
        hardware,
        firmware,
        place,
        attributes,
        tags,
        notes: Vec::from_iter(flaw),
    })
}

fn check_activation(
    new: &NewDevice,
    version: MacVersion,
    fleet_key: Option<AesKey>,
    estate: &mut RegistrationContext<'_>,
) -> Result<Activation, Problem> {
    let missing = |field, why: &str| bad_field(field, "", why.to_owned());
    if let Some(personal) = &new.personal {
        if new.app_key.is_some() || new.nwk_key.is_some() {
            let why = "a personalized device has session keys only: leave the root keys out, or the session";
            return Err(bad_field("personal", "given together with a root key", why));
        }
        let (dev_addr, keys) = check_session(personal, "personal", estate)?;
        return Ok(Activation::Personalized { dev_addr, keys: Box::new(keys) });
    }
    let app_key = match new.app_key.as_deref().map(str::trim) {
        None | Some("") if estate.preview => AesKey((estate.random)()),
        None | Some("") => {
            let why = "32 hex digits are wanted, or one of the words generate and fleet, or `personal` for a device that does not join";
            return Err(missing("app_key", why));
        }
        Some(OF_FLEET) => fleet_key.ok_or_else(|| {
            let allowed = format!("the fleet {} has no default key: give it one, or enter the device's own", new.fleet);
            bad_field("app_key", OF_FLEET, allowed)
        })?,
        Some(text) => estate.key("app_key", text)?,
    };
    let nwk_key = new.nwk_key.as_deref().map(|key| estate.key("nwk_key", key)).transpose()?;
    match (version, nwk_key) {
        (MacVersion::V1_1, None) if estate.preview => {
            Ok(Activation::OverTheAir(RootKeys { app_key, nwk_key: Some(AesKey((estate.random)())) }))
        }
        (MacVersion::V1_1, None) => {
            Err(missing("nwk_key", "LoRaWAN 1.1 has two root keys; 32 hex digits are wanted, or the word generate"))
        }
        (MacVersion::V1_1, nwk_key) => Ok(Activation::OverTheAir(RootKeys { app_key, nwk_key })),
        (_, None) => Ok(Activation::OverTheAir(RootKeys { app_key, nwk_key: None })),
        (version, Some(_)) => {
            let why =
                format!("LoRaWAN {version} has one root key: enter it as app_key, or set radio.mac_version to 1.1");
            Err(bad_field("nwk_key", "given", why))
        }
    }
}

#[cfg(test)]
#[path = "register_tests.rs"]
mod tests;
