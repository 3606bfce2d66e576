//! `heron gateway set`.

use crate::commands::gateway::args::GatewaySetArgs;
use anyhow::{Result, bail};
use api::gateway::{Gateway, GatewayReport};

use super::lines;
use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, args: GatewaySetArgs) -> Result<()> {
    let GatewaySetArgs { gateway, name, place_by_gps, forget_refused, mut about } = args;
    let path = client.one("gateways", &gateway).await?;
    if forget_refused {
        client.delete(&format!("{path}/refused-frequencies")).await?;
    }
    if place_by_gps {
        let registered: Gateway = client.get(&path, &[]).await?;
        let report = registered.report.as_ref();
        let Some((latitude, longitude)) = report.and_then(GatewayReport::position_deg) else {
            bail!("{} has not reported where it stands; give --latitude-deg and --longitude-deg", registered.name)
        };
        (about.latitude_deg, about.longitude_deg) = (Some(latitude), Some(longitude));
        about.altitude_m = about.altitude_m.or(report.and_then(|report| report.altitude_m));
    }
    let gateway: Gateway = client.patch(&path, &about.changes(name)?).await?;
    out.one(&gateway, lines)
}
