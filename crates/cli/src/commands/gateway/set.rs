//! `heron gateway set`.

use crate::commands::gateway::args::GatewaySetArgs;
use anyhow::{Result, bail};
use api::gateway::{Gateway, GatewayAbout, GatewayReport};

use super::lines;
use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, args: GatewaySetArgs) -> Result<()> {
    let GatewaySetArgs { eui, name, place_by_gps, forget_refused, about } = args;
    let path = client.in_estate(&format!("gateways/{eui}")).await?;
    if forget_refused {
        client.delete(&format!("{path}/refused-frequencies")).await?;
    }
    let registered: Gateway = client.get(&path, &[]).await?;
    let mut before = GatewayAbout::from(&registered);
    if place_by_gps {
        let report = registered.report.as_ref();
        let Some((latitude, longitude)) = report.and_then(GatewayReport::position_deg) else {
            bail!("{} has not reported where it stands; give --latitude-deg and --longitude-deg", before.name)
        };
        (before.latitude_deg, before.longitude_deg) = (Some(latitude), Some(longitude));
        before.altitude_m = report.and_then(|report| report.altitude_m).or(before.altitude_m);
    }
    before.name = name.unwrap_or(before.name);
    let gateway: Gateway = client.patch(&path, &about.over(before)).await?;
    out.one(&gateway, lines)
}
