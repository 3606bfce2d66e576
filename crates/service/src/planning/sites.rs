//! An estate's sites: its gateways, and those that are planned.

use std::collections::HashMap;

use api::coverage::site::{AntennaAbout, NewReceiver, NewSite, Site, SiteRadio};
use api::problem::{Problem, bad_field};
use coverage::geo::Place;
use coverage::link::budget::Station;
use domain::coverage::site;
use domain::gateway::check::CheckedGateway;
use lorawan::Eui64;
use store::{EstateId, PlanKind, Store, StoreError};

/// A site that can be computed.
#[derive(Debug, Clone)]
pub(crate) struct Placed {
    pub name: String,
    /// The gateway; none of a planned one.
    pub gateway: Option<Eui64>,
    pub place: Place,
    pub station: Station,
    /// By how much signals there are stronger than models say, if a calibration says so, in dB.
    pub calibrated_db: f64,
}

/// A number as it was typed: 2.15 and not the nearest that a shorter form can hold.
fn decimal(value: f32) -> f64 {
    (f64::from(value) * 1e4).round() / 1e4
}

/// A gateway as a site. Gain and cable loss are the gateway's own settings.
fn of_gateway(gateway: &CheckedGateway, said: Option<&SiteRadio>) -> Site {
    let radio = site::changed(&site::whole(&SiteRadio::default()), said.unwrap_or(&SiteRadio::default()));
    let own = SiteRadio {
        antenna: Some(AntennaAbout { gain_dbi: Some(decimal(gateway.antenna_gain_dbi)), ..AntennaAbout::default() }),
        cable_loss_db: Some(decimal(gateway.cable_loss_db)),
        ..SiteRadio::default()
    };
    Site {
        revision: String::new(),
        name: gateway.name.clone(),
        gateway: Some(gateway.eui),
        latitude_deg: gateway.latitude_deg,
        longitude_deg: gateway.longitude_deg,
        radio: site::changed(&radio, &own),
    }
}

/// A planned site.
pub(crate) fn of_plan(plan: NewSite) -> Site {
    Site {
        revision: String::new(),
        name: plan.name,
        gateway: None,
        latitude_deg: Some(plan.latitude_deg),
        longitude_deg: Some(plan.longitude_deg),
        radio: site::whole(&plan.radio),
    }
}

/// All sites of an estate by name, without revisions.
///
/// # Errors
/// The database cannot be read.
pub(crate) async fn all(store: &Store, estate: EstateId) -> Result<Vec<Site>, StoreError> {
    let said: HashMap<_, _> = store.gateway_radios(estate).await?.into_iter().collect();
    let gateways = store.gateways(estate, "", u32::MAX).await?;
    let planned: Vec<NewSite> = store.plans(estate, PlanKind::Site).await?;
    let of = |row: &store::GatewayRow| of_gateway(&row.gateway, said.get(&row.gateway.eui));
    let mut sites: Vec<Site> = gateways.iter().map(of).chain(planned.into_iter().map(of_plan)).collect();
    sites.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(sites)
}

/// All kinds of receiver of an estate by name: the first ones, as they are or as they were changed, and its own.
///
/// # Errors
/// The database cannot be read.
pub(crate) async fn receivers(store: &Store, estate: EstateId) -> Result<Vec<NewReceiver>, StoreError> {
    let own: Vec<NewReceiver> = store.plans(estate, PlanKind::Receiver).await?;
    let first = site::first_receivers().into_iter();
    let first = first.filter(|(name, _)| own.iter().all(|one| one.name != *name));
    let first = first.map(|(name, radio)| NewReceiver { name: name.to_owned(), radio });
    let mut all: Vec<NewReceiver> = first.chain(own.iter().cloned()).collect();
    all.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(all)
}

/// A site with all that a computation needs.
///
/// # Errors
/// It has no place, or its radio cannot be.
pub(crate) fn placed(site: &Site) -> Result<Placed, Problem> {
    let place = site.latitude_deg.zip(site.longitude_deg).and_then(|(north, east)| Place::new(north, east));
    let place = place.ok_or_else(|| bad_field("sites", &site.name, "its place is not known: give it one first"))?;
    Ok(Placed {
        name: site.name.clone(),
        gateway: site.gateway,
        place,
        station: site::station(&site.radio)?,
        calibrated_db: 0.0,
    })
}
