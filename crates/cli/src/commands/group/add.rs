//! `heron group add`.

use crate::commands::group::args::GroupAddArgs;
use anyhow::Result;
use api::device::group::{Group, NewGroup};

use super::{lines, members};
use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, args: Box<GroupAddArgs>) -> Result<()> {
    let new = NewGroup {
        name: args.name,
        fleet: args.fleet,
        class: args.class,
        region: args.region,
        address: args.address,
        nwk_s_key: args.nwk_s_key.map(Into::into),
        app_s_key: args.app_s_key.map(Into::into),
        frequency_hz: args.frequency_hz,
        data_rate: args.data_rate,
        ping_periodicity: args.ping_periodicity,
        members: members(client, &args.members).await?,
    };
    let group: Group = client.post(&client.in_estate("groups").await?, &new).await?;
    out.one(&group, lines)
}
