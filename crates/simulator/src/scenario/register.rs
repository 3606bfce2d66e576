//! What a scenario registers, and how its devices are built.

use api::coverage::site::{AntennaAbout, SiteChange, SiteRadio};
use api::device::place::Place;
use api::device::register::{NewDevice, PersonalSession};
use api::fleet::NewFleet;
use api::gateway::{GatewayAbout, NewGateway};
use api::model::PutModel;
use api::problem::Problem;
use api::radio::settings::{Class, RadioSettings, RateSettings};
use coverage::link::antenna::Antenna;
use lorawan::crypto::{SessionKeys, SessionKeys11};
use lorawan::{DevAddr, MacVersion};

use super::entries::{DeviceEntry, FleetEntry, GatewayEntry, ModelEntry};
use super::parsed;
use crate::device::{Build, Identity, Listens};

/// Ping slots of a stand-in of class B: every eight seconds.
const PING_PERIODICITY: u8 = 3;

impl FleetEntry {
    /// What is asked of the service.
    pub fn to_register(&self) -> NewFleet {
        NewFleet { slug: self.slug.clone(), name: Some(self.name.clone()), limits: self.limits }
    }
}

impl ModelEntry {
    /// What is asked of the service.
    pub fn to_register(&self) -> PutModel {
        PutModel {
            maker: self.maker.clone(),
            name: self.name.clone(),
            decoder: Some(self.decoder.clone()),
            decoder_kind: self.decoder_kind,
            readings: self.readings.clone(),
            ..PutModel::default()
        }
    }
}

impl GatewayEntry {
    /// What is asked of the service.
    pub fn to_register(&self) -> NewGateway {
        let about = GatewayAbout {
            name: self.name.clone(),
            latitude_deg: Some(self.latitude_deg),
            longitude_deg: Some(self.longitude_deg),
            altitude_m: Some(self.altitude_m),
            antenna_gain_dbi: Some(self.antenna_gain_dbi),
            region: Some(self.region),
            beacons: Some(self.beacons),
            protocol: Some(self.protocol),
            ..GatewayAbout::default()
        };
        NewGateway { eui: self.eui.clone(), about }
    }

    /// What forecasts are to know of it.
    pub fn to_site(&self) -> SiteChange {
        let about = match &self.antenna {
            Some(Antenna::Sector {
                azimuth_deg,
                tilt_deg,
                horizontal_beam_deg,
                vertical_beam_deg,
                front_to_back_db,
                ..
            }) => Some(AntennaAbout {
                azimuth_deg: Some(*azimuth_deg),
                tilt_deg: Some(*tilt_deg),
                horizontal_beam_deg: Some(*horizontal_beam_deg),
                vertical_beam_deg: Some(*vertical_beam_deg),
                front_to_back_db: Some(*front_to_back_db),
                ..AntennaAbout::default()
            }),
            Some(Antenna::Omni { .. } | Antenna::Table(_)) | None => None,
        };
        let radio = SiteRadio { antenna: about, height_m: Some(self.height_m), ..SiteRadio::default() };
        SiteChange { radio: Some(radio), ..SiteChange::default() }
    }
}

impl DeviceEntry {
    /// The device as it is built, which may differ from how it is registered.
    pub fn to_build(&self) -> Result<(Identity, Build), Problem> {
        let identity = Identity {
            dev_eui: parsed("dev_eui", self.dev_eui_in_device.as_ref().unwrap_or(&self.dev_eui))?,
            join_eui: parsed("join_eui", &self.join_eui)?,
            app_key: parsed("app_key", self.app_key_in_device.as_ref().unwrap_or(&self.app_key))?,
            nwk_key: self.nwk_key.as_deref().map(|key| parsed("nwk_key", key)).transpose()?,
            personal: self.personal.as_ref().map(session).transpose()?,
        };
        let listens = match self.radio.class {
            None | Some(Class::A) => Listens::AfterUplinks,
            Some(Class::B) => Listens::InPingSlots(
                self.radio.ping_period_s.and_then(u16::checked_ilog2).map_or(PING_PERIODICITY, |n| n as u8),
            ),
            Some(Class::C) => Listens::Always,
        };
        let version = self.radio.mac_version.unwrap_or(MacVersion::V1_0_3);
        let adr = !matches!(self.radio.rates, Some(RateSettings::Device));
        Ok((identity, Build { region: self.region, version, listens, data_rate: self.data_rate, adr }))
    }

    /// What is asked of the service.
    pub fn to_register(&self) -> NewDevice {
        // A scenario goes by faster than its models would.
        let interval_s = self.radio.uplink_interval_s.unwrap_or(self.interval_s.ceil() as u32);
        NewDevice {
            dev_eui: self.dev_eui.clone(),
            join_eui: self.join_eui.clone(),
            app_key: Some(self.app_key.as_str().into()).filter(|_| self.personal.is_none()),
            nwk_key: self.nwk_key.as_deref().map(Into::into),
            personal: self.personal.clone(),
            region: Some(self.region),
            radio: RadioSettings { uplink_interval_s: Some(interval_s), ..self.radio.clone() },
            name: self.name.clone(),
            fleet: self.fleet.clone(),
            model: self.model.clone(),
            // An animal moves: its collar is registered without a place.
            place: self.herd.is_none().then_some(Place {
                latitude_deg: self.latitude_deg,
                longitude_deg: self.longitude_deg,
                height_m: Some(self.height_m),
                indoor: Some(false),
                ..Place::default()
            }),
            ..NewDevice::default()
        }
    }
}

/// The session of a device that does not join.
fn session(personal: &PersonalSession) -> Result<(DevAddr, SessionKeys11), Problem> {
    let nwk_s_key = parsed("personal.nwk_s_key", &personal.nwk_s_key)?;
    let app_s_key = parsed("personal.app_s_key", &personal.app_s_key)?;
    let mut keys = SessionKeys11::from(SessionKeys { nwk_s_key, app_s_key });
    if let Some(key) = &personal.s_nwk_s_int_key {
        keys.s_nwk_s_int_key = parsed("personal.s_nwk_s_int_key", key)?;
    }
    if let Some(key) = &personal.nwk_s_enc_key {
        keys.nwk_s_enc_key = parsed("personal.nwk_s_enc_key", key)?;
    }
    Ok((parsed("personal.dev_addr", &personal.dev_addr)?, keys))
}
