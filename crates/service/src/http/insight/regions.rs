//! What regions allow, and what a message costs in each.

use api::Page;
use api::calculator::airtime::{AirtimeQuestion, AirtimeTable};
use api::calculator::region::{RegionDetail, RegionSummary};
use api::gateway::channels::{LayoutInfo, LayoutQuestion};
use api::problem::Problem;
use lorawan::region::Region;

use crate::http::auth::context::RequestContext;
use crate::http::error::Refusal;
use crate::http::extract::{Paging, Params, PathName};
use crate::http::json::{Answer, Json};
use crate::http::listing::Choice;

fn region(name: &str) -> Result<Region, Refusal> {
    name.parse().map_err(|why: lorawan::region::UnknownRegion| {
        let why = why.to_string();
        Refusal(Problem::new(404, "not_found", "There is no such region").detail(why).field("region"))
    })
}

/// Every region.
#[utoipa::path(get, path = "/regions", tag = "regions",
    extensions(("x-right" = json!("anyone"))),
    params(Choice, Paging), responses((status = 200, body = Page<RegionSummary>)))]
pub(crate) async fn list_regions(
    _entry: RequestContext,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<RegionSummary>> {
    Ok(Json(choice.page_of(domain::calculator::region::summaries(), &paging, |one| one.name.to_string())?))
}

/// What one region allows: channels, data rates, payloads, power, dwell time and duty cycle.
#[utoipa::path(get, path = "/regions/{region}", tag = "regions",
    extensions(("x-right" = json!("anyone"))),
    params(("region" = String, Path, example = "EU868")),
    responses((status = 200, body = RegionDetail), (status = 404, body = Problem)))]
pub(crate) async fn show_region(_entry: RequestContext, PathName(name): PathName) -> Answer<RegionDetail> {
    Ok(Json(domain::calculator::region::detail(region(&name)?)))
}

/// The settings of a gateway's concentrator for channels of a region: two radios, and their chains.
#[utoipa::path(get, path = "/regions/{region}/layout", tag = "regions",
    extensions(("x-right" = json!("anyone"))),
    params(("region" = String, Path, example = "EU868"), LayoutQuestion),
    responses((status = 200, body = LayoutInfo), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn layout(
    _entry: RequestContext,
    PathName(name): PathName,
    Params(question): Params<LayoutQuestion>,
) -> Answer<LayoutInfo> {
    Ok(Json(domain::gateway::channels::layout(region(&name)?, &question)?))
}

/// The airtime of a message at every uplink data rate of a region.
#[utoipa::path(get, path = "/regions/{region}/airtime", tag = "regions",
    extensions(("x-right" = json!("anyone"))),
    params(("region" = String, Path, example = "EU868"), AirtimeQuestion),
    responses((status = 200, body = AirtimeTable), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn airtime(
    _entry: RequestContext,
    PathName(name): PathName,
    Params(question): Params<AirtimeQuestion>,
) -> Answer<AirtimeTable> {
    Ok(Json(domain::calculator::airtime::table(region(&name)?, &question)?))
}
