//! Sites: gateways, and those that are planned.

use api::Page;
use api::coverage::site::{NewSite, Site, SiteChange, SiteEffect, SiteRadio, SitesChange, SitesEffect};
use api::problem::{FieldProblems, Problem, bad_field};
use axum::extract::State;
use axum::http::StatusCode;
use domain::coverage::site;
use lorawan::Eui64;
use store::PlanKind;

use crate::http::app::App;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathName, WholeEstate, revision};
use crate::http::json::{Answer, Created, Json, Made};
use crate::http::listing::Choice;
use crate::planning::sites::{all, of_plan};

/// Planned sites of an estate, at most.
const MOST: usize = 1_000;

/// An estate's sites by name: its gateways, and those that are planned.
#[utoipa::path(get, path = "/estates/{estate}/sites", tag = "coverage",
    extensions(("x-right" = json!("view"))),
    params(Choice, Paging), responses((status = 200, body = Page<Site>), (status = 422, body = Problem)))]
pub(crate) async fn list_sites(
    State(app): State<App>,
    estate: WholeEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<Site>> {
    let all = all(&app.store, estate.id).await?.into_iter().map(with_revision).collect();
    Ok(Json(choice.page_of(all, &paging, |site: &Site| site.name.clone())?))
}

fn with_revision(site: Site) -> Site {
    Site { revision: revision(&site), ..site }
}

async fn found(app: &App, estate: &WholeEstate, name: &str) -> Result<Site, Refusal> {
    let mut all = all(&app.store, estate.id).await?.into_iter();
    all.find(|site| site.name == name).ok_or_else(|| not_found("site", name))
}

/// One site.
#[utoipa::path(get, path = "/estates/{estate}/sites/{site}", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(("site" = String, Path)),
    responses((status = 200, body = Site), (status = 404, body = Problem)))]
pub(crate) async fn show_site(State(app): State<App>, estate: WholeEstate, PathName(name): PathName) -> Answer<Site> {
    found(&app, &estate, &name).await.map(with_revision).map(Json)
}

/// Checks a planned site, whose name no other site may have.
fn checked(plan: NewSite, others: &[Site]) -> Result<NewSite, Problem> {
    let mut wrong = FieldProblems::default();
    let name = wrong.take(domain::input::name("name", &plan.name)).unwrap_or_default();
    wrong.take(domain::input::range("latitude_deg", plan.latitude_deg, -85.0, 85.0, "degrees"));
    wrong.take(domain::input::range("longitude_deg", plan.longitude_deg, -180.0, 180.0, "degrees"));
    wrong.take_inside("radio", site::station(&plan.radio));
    if let Some(other) = others.iter().find(|site| site.name == name) {
        let what = if other.gateway.is_some() { "a gateway" } else { "a planned site" };
        wrong.add(bad_field("name", &name, format!("{what} has this name")));
    }
    wrong.end()?;
    Ok(NewSite { name, ..plan })
}

/// Plans a site.
#[utoipa::path(post, path = "/estates/{estate}/sites", tag = "coverage",
    extensions(("x-right" = json!("gateways"))), request_body = NewSite,
    responses((status = 201, body = Site), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn add_site(State(app): State<App>, estate: WholeEstate, Json(new): Json<NewSite>) -> Made<Site> {
    let others = all(&app.store, estate.id).await?;
    if others.iter().filter(|site| site.gateway.is_none()).count() >= MOST {
        return Err(bad_field("name", &new.name, format!("at most {MOST} sites are planned: remove some first")).into());
    }
    let plan = checked(new, &others)?;
    app.store.add_plan(estate.id, PlanKind::Site, (&plan.name, &plan)).await?;
    estate.audit().object(format!("site {}", plan.name)).made(&plan);
    Ok(Created { at: estate.path_of("sites", &plan.name), made: with_revision(of_plan(plan)) })
}

/// A site after a change, as it is stored.
enum Changed {
    /// What forecasts need of a gateway.
    Gateway(Eui64, SiteRadio),
    Planned(NewSite),
}

/// Makes a change; `others` are the sites whose names are taken. A gateway's own settings are changed on the gateway.
fn changed(before: &Site, change: &SiteChange, others: &[Site]) -> Result<Changed, Problem> {
    let given = change.radio.clone().unwrap_or_default();
    let radio = site::changed(&before.radio, &given);
    let Some(eui) = before.gateway else {
        let plan = NewSite {
            name: change.name.clone().unwrap_or_else(|| before.name.clone()),
            latitude_deg: change.latitude_deg.or(before.latitude_deg).unwrap_or_default(),
            longitude_deg: change.longitude_deg.or(before.longitude_deg).unwrap_or_default(),
            radio,
        };
        return checked(plan, others).map(Changed::Planned);
    };
    let own = [
        ("name", change.name.is_some()),
        ("latitude_deg", change.latitude_deg.is_some()),
        ("longitude_deg", change.longitude_deg.is_some()),
        ("radio.antenna.gain_dbi", given.antenna.is_some_and(|antenna| antenna.gain_dbi.is_some())),
        ("radio.cable_loss_db", given.cable_loss_db.is_some()),
    ];
    if let Some((field, _)) = own.iter().find(|(_, given)| *given) {
        let allowed = "it is a setting of the gateway itself: change it there (`heron gateway set`)";
        return Err(bad_field(field, &before.name, allowed));
    }
    site::station(&radio).map_err(|problem| problem.inside("radio"))?;
    Ok(Changed::Gateway(eui, radio))
}

/// Changes a site in part. Of a gateway the height, the beam, the power and the noise figure are changed here.
#[utoipa::path(patch, path = "/estates/{estate}/sites/{site}", tag = "coverage",
    extensions(("x-right" = json!("gateways"))), params(("site" = String, Path)), request_body = SiteChange,
    responses((status = 200, body = Site), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(crate) async fn change_site(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(name): PathName,
    Json(change): Json<SiteChange>,
) -> Answer<Site> {
    let mut others = all(&app.store, estate.id).await?;
    let at = others.iter().position(|site| site.name == name).ok_or_else(|| not_found("site", &name))?;
    let before = others.remove(at);
    estate.still(&before)?;
    let after = match changed(&before, &change, &others)? {
        Changed::Gateway(eui, radio) => {
            app.store.change_sites(estate.id, &[(eui, radio)], &[]).await?;
            name
        }
        Changed::Planned(plan) => {
            let after = plan.name.clone();
            app.store.change_sites(estate.id, &[], &[(name, plan)]).await?;
            after
        }
    };
    let after = found(&app, &estate, &after).await?;
    estate.audit().object(format!("site {}", after.name)).changed(&before, &after);
    Ok(Json(with_revision(after)))
}

/// Changes the radios of many sites in the same way, or shows what would change.
#[utoipa::path(post, path = "/estates/{estate}/sites/change", tag = "coverage",
    extensions(("x-right" = json!("gateways"))), request_body = SitesChange,
    responses((status = 200, body = SitesEffect), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn change_sites(
    State(app): State<App>,
    estate: WholeEstate,
    Json(wanted): Json<SitesChange>,
) -> Answer<SitesEffect> {
    let all = all(&app.store, estate.id).await?;
    let change = SiteChange { radio: Some(wanted.radio.clone()), ..SiteChange::default() };
    let (mut gateways, mut planned, mut effects) = (Vec::new(), Vec::new(), Vec::new());
    let mut names = wanted.sites.clone();
    names.sort();
    names.dedup();
    for name in &names {
        let before = all.iter().find(|site| site.name == *name).ok_or_else(|| not_found("site", name))?;
        let after = match changed(before, &change, &[])? {
            Changed::Gateway(eui, radio) => {
                gateways.push((eui, radio.clone()));
                radio
            }
            Changed::Planned(plan) => {
                let radio = plan.radio.clone();
                planned.push((name.clone(), plan));
                radio
            }
        };
        if after != before.radio {
            effects.push(SiteEffect { name: name.clone(), before: before.radio.clone(), after });
        }
    }
    let untouched = names.len() - effects.len();
    if !wanted.preview {
        app.store.change_sites(estate.id, &gateways, &planned).await?;
        estate.audit().object(format!("{} sites", effects.len())).made(&wanted);
    }
    Ok(Json(SitesEffect { sites: effects, untouched, done: !wanted.preview }))
}

/// Removes a planned site. Forecasts that were made with it stay as they are.
#[utoipa::path(delete, path = "/estates/{estate}/sites/{site}", tag = "coverage",
    extensions(("x-right" = json!("gateways"))), params(("site" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn remove_site(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(name): PathName,
) -> Result<StatusCode, Refusal> {
    let before = found(&app, &estate, &name).await?;
    estate.still(&before)?;
    if before.gateway.is_some() {
        let problem = Problem::new(409, "in_use", "This site is a registered gateway");
        return Err(problem.detail("remove the gateway itself, if it is to go").into());
    }
    app.store.remove_plan(estate.id, PlanKind::Site, &name).await?;
    estate.audit().object(format!("site {name}")).removed(&before);
    Ok(StatusCode::NO_CONTENT)
}
