//! Checks of a new or changed gateway, and its state by when it was last heard.

use core::net::IpAddr;

use api::gateway::{GatewayAbout, GatewayState, NewGateway, Protocol};
use api::problem::{Problem, bad_field};
use chrono::{DateTime, Utc};
use ipnet::IpNet;
use lorawan::Eui64;
use lorawan::region::{ChannelSet, Region};

use crate::gateway::channels;
use crate::{Check, input};

/// Characters of a description.
const LONGEST_DESCRIPTION: usize = 500;

/// Seconds of silence after which a gateway is quiet. Forwarders call every 5 to 30 s.
pub const QUIET_AFTER_S: i64 = 60;

/// Seconds of silence after which it is lost.
pub const LOST_AFTER_S: i64 = 600;

/// From the time it was last heard.
pub fn gateway_state(now: DateTime<Utc>, last_heard: Option<DateTime<Utc>>) -> GatewayState {
    match last_heard.map(|at| (now - at).num_seconds()) {
        None => GatewayState::NeverHeard,
        Some(s) if s < QUIET_AFTER_S => GatewayState::Listening,
        Some(s) if s < LOST_AFTER_S => GatewayState::Quiet,
        Some(_) => GatewayState::Lost,
    }
}

/// A gateway whose values have been checked.
#[derive(Debug, Clone, PartialEq)]
pub struct CheckedGateway {
    /// Its EUI.
    pub eui: Eui64,
    /// Its name.
    pub name: String,
    /// Its description.
    pub description: String,
    /// Its region.
    pub region: Region,
    /// The channels it listens to.
    pub channels: ChannelSet,
    /// How it connects.
    pub protocol: Protocol,
    /// The addresses its datagrams may come from.
    pub udp_source: Option<IpNet>,
    /// Latitude, in degrees north.
    pub latitude_deg: Option<f64>,
    /// Longitude, in degrees east.
    pub longitude_deg: Option<f64>,
    /// Altitude, in metres above sea level.
    pub altitude_m: Option<f64>,
    /// Gain of its antenna, in dBi.
    pub antenna_gain_dbi: f32,
    /// Loss of its cable, in dB.
    pub cable_loss_db: f32,
    /// Whether it serves devices of other estates.
    pub open_to_others: bool,
    /// Whether it sends class B beacons.
    pub beacons: bool,
}

/// Reads an allowed source of datagrams: an address, or a network.
pub fn source(text: &str) -> Result<IpNet, Problem> {
    let text = text.trim();
    let net = text.parse::<IpNet>().or_else(|_| text.parse::<IpAddr>().map(IpNet::from));
    net.map(|net| net.trunc()).map_err(|_| {
        bad_field("udp_source", text, "it has to be an address such as 192.0.2.7 or a network such as 192.0.2.0/24")
    })
}

/// A source as people write it: a network of one address is that address.
pub fn source_text(net: &IpNet) -> String {
    if net.prefix_len() == net.max_prefix_len() { net.addr().to_string() } else { net.to_string() }
}

/// The EUIs that could be meant by the 12 digits of a MAC address; `None` if it is anything else.
pub fn meant_by_mac(text: &str) -> Option<[Eui64; 2]> {
    let mac: [u8; 6] = lorawan::text::bytes(text).ok()?.try_into().ok()?;
    Some(Eui64::from_mac(mac))
}

impl Check for NewGateway {
    type Checked = CheckedGateway;

    /// Reads and checks every field.
    fn check(&self) -> Result<Self::Checked, Problem> {
        about(&self.about, input::eui("eui", &self.eui)?)
    }
}

/// Text that says something.
fn given(text: Option<&str>) -> Option<&str> {
    text.filter(|text| !text.trim().is_empty())
}

/// Checks every field, for the gateway with this EUI.
pub fn about(about: &GatewayAbout, eui: Eui64) -> Result<CheckedGateway, Problem> {
    let within = |field, value: Option<f64>, from, to, unit| match value {
        Some(value) => input::range(field, value, from, to, unit).map(Some),
        None => Ok(None),
    };
    let gain = f64::from(about.antenna_gain_dbi.unwrap_or(2.15));
    let loss = f64::from(about.cable_loss_db.unwrap_or(0.0));
    let region = about.region.unwrap_or(Region::Eu868);
    let description = about.description.as_deref().unwrap_or("").trim();
    if description.chars().count() > LONGEST_DESCRIPTION {
        let why = format!("it may have {LONGEST_DESCRIPTION} characters");
        return Err(bad_field("description", &format!("{} characters long", description.chars().count()), why));
    }
    Ok(CheckedGateway {
        eui,
        name: input::name("name", &about.name)?,
        description: description.into(),
        region,
        channels: channels::channels(region.plan(), given(about.channels.as_deref()))?.0,
        protocol: about.protocol.unwrap_or_default(),
        udp_source: given(about.udp_source.as_deref()).map(source).transpose()?,
        cable_loss_db: input::range("cable_loss_db", loss, 0.0, 30.0, "dB")? as f32,
        open_to_others: about.open_to_others.unwrap_or(false),
        beacons: about.beacons.unwrap_or(false),
        latitude_deg: within("latitude_deg", about.latitude_deg, -90.0, 90.0, "degrees")?,
        longitude_deg: within("longitude_deg", about.longitude_deg, -180.0, 180.0, "degrees")?,
        altitude_m: within("altitude_m", about.altitude_m, -500.0, 9000.0, "m")?,
        antenna_gain_dbi: input::range("antenna_gain_dbi", gain, -20.0, 30.0, "dBi")? as f32,
    })
}

/// The settings of a gateway, to be changed in part.
pub fn about_of(gateway: &CheckedGateway) -> GatewayAbout {
    GatewayAbout {
        name: gateway.name.clone(),
        description: Some(gateway.description.clone()),
        latitude_deg: gateway.latitude_deg,
        longitude_deg: gateway.longitude_deg,
        altitude_m: gateway.altitude_m,
        antenna_gain_dbi: Some(gateway.antenna_gain_dbi),
        cable_loss_db: Some(gateway.cable_loss_db),
        region: Some(gateway.region),
        channels: Some(gateway.channels.to_string()),
        protocol: Some(gateway.protocol),
        udp_source: gateway.udp_source.as_ref().map(source_text),
        open_to_others: Some(gateway.open_to_others),
        beacons: Some(gateway.beacons),
    }
}

/// The region on whose uplink channels most of these frequencies lie. Of equal ones, the one with the fewest other
/// channels.
pub fn region_of(frequencies_hz: &[u32]) -> Option<Region> {
    let fit = |region: Region| {
        let channels: Vec<u32> = region.plan().network_uplinks().map(|channel| channel.frequency_hz).collect();
        let on = frequencies_hz.iter().filter(|hz| channels.contains(hz)).count();
        (on, std::cmp::Reverse(channels.len()))
    };
    let best = Region::ALL.into_iter().rev().max_by_key(|region| fit(*region))?;
    (fit(best).0 > 0).then_some(best)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mac_address_is_told_from_an_eui_in_any_form() {
        for mac in ["02:A1:F0:00:99:01", "02a1f0009901", "02a1.f000.9901", "0x02a1f0009901"] {
            let meant = meant_by_mac(mac).unwrap().map(|eui| eui.to_string());
            assert_eq!(meant, ["02a1f0fffe009901", "02a1f0ffff009901"], "{mac}");
        }
        for other in ["02a1f00000000001", "02a1f00099", "02a1f00099zz", ""] {
            assert_eq!(meant_by_mac(other), None, "{other:?}");
        }
    }

    #[test]
    fn what_a_gateway_hears_tells_its_region() {
        let heard = |mhz: &[f64]| region_of(&mhz.iter().map(|mhz| (mhz * 1e6).round() as u32).collect::<Vec<_>>());
        assert_eq!(heard(&[868.1, 868.3, 867.5]), Some(Region::Eu868));
        assert_eq!(heard(&[903.9, 904.1, 904.6]), Some(Region::Us915));
        assert_eq!(heard(&[865.0625]), Some(Region::In865));
        assert_eq!(heard(&[923.2, 923.4]), Some(Region::As923_1));
        assert_eq!(heard(&[868.1, 868.3, 922.1]), Some(Region::Eu868), "most of them");
        assert_eq!(heard(&[868.15, 700.0]), None);
        assert_eq!(heard(&[]), None);
        for region in Region::ALL {
            let own: Vec<u32> = region.plan().network_uplinks().map(|channel| channel.frequency_hz).collect();
            let found = region_of(&own).unwrap().plan();
            let both = own.iter().all(|hz| found.network_uplinks().any(|channel| channel.frequency_hz == *hz));
            assert!(both, "{region} has the channels of {}", found.name);
        }
    }
}
