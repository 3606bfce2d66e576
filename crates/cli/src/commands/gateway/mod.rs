//! `heron gateway`.

mod adopt;
pub(crate) mod args;
pub(crate) mod credentials;
mod firmware;
mod import;
mod layout;
mod list;
mod reception;
mod remove;
mod set;
mod strangers;

use anyhow::{Context as _, Result, bail};
use api::gateway::{
    Gateway, GatewayAbout, GatewayReport, GatewaySoftware, LinkDelay, NewGateway, Protocol, RefusedFrequency, Stranger,
};
use domain::gateway::check;
use domain::input;
use serde_json::{Map, Value};

use crate::client::Client;
use crate::commands::Context;
use crate::commands::gateway::args::{GatewayAboutArgs, GatewayArgs, GatewayVerb, LocalGatewayVerb, RemoteGatewayVerb};
use crate::show::{self, Out};

const NONE: &str = "No gateway is registered. Next: `heron gateway strangers` shows who calls, `heron gateway add EUI --name NAME` registers one.";

fn lines(g: &Gateway) -> Vec<(&'static str, String)> {
    let place = match (g.latitude_deg, g.longitude_deg) {
        (Some(lat), Some(lon)) => {
            format!("{lat:.5}, {lon:.5}{}", g.altitude_m.map(|m| format!(", {m} m")).unwrap_or_default())
        }
        _ => "not set".into(),
    };
    let topics = g.mqtt_topic.clone().map(|topic| ("topics", format!("{topic}/…")));
    let lines = [
        ("eui", g.eui.to_string()),
        ("name", g.name.clone()),
        ("state", g.state.label().into()),
        ("last heard", show::ago(g.last_heard)),
        ("address", address(g)),
        ("connection", g.protocol.label().into()),
    ];
    let rest = [
        ("UDP source", g.udp_source.clone().unwrap_or_else(|| "anywhere".into())),
        ("round-trip time", g.delay.map_or("not measured yet".into(), delay)),
        ("software", g.software.as_ref().map_or("not known".into(), software)),
        ("region", format!("{}, channels {}", g.region, g.channels)),
        ("off-plan frequencies", off_plan(g)),
        ("position", place),
        ("antenna", format!("{} dBi, less {} dB of cable", g.antenna_gain_dbi, g.cable_loss_db)),
        ("other estates", if g.open_to_others { "may use it" } else { "may not use it" }.into()),
        ("GPS time", if g.has_gps { "yes" } else { "not seen" }.into()),
        ("refused frequencies", refused(g)),
        ("beacons", if g.beacons { "every 128 s, as long as it has GPS time" } else { "none" }.into()),
        ("frames", format!("{} since the service started", g.frames)),
        ("airtime", show::airtime(&g.airtime)),
        ("gateway status", g.report.as_ref().map_or("no report since the service started".into(), reported)),
        ("description", if g.description.is_empty() { "none".into() } else { g.description.clone() }),
    ];
    lines.into_iter().chain(topics).chain(rest).collect()
}

fn refused(g: &Gateway) -> String {
    let one = |r: &RefusedFrequency| {
        format!("{} MHz since {}, asked again at {}", r.frequency_mhz, show::moment(r.since), show::moment(r.until))
    };
    match g.refused_frequencies.iter().map(one).collect::<Vec<_>>() {
        all if all.is_empty() => "no frequency".into(),
        all => all.join("; "),
    }
}

fn address(g: &Gateway) -> String {
    match (&g.address, g.protocol) {
        (Some(address), _) => address.clone(),
        (None, Protocol::Mqtt) => "behind the broker".into(),
        (None, _) => "not known yet".into(),
    }
}

/// What is left of the fullest sub-band's allowance.
fn headroom(g: &Gateway) -> String {
    let fullest = g.airtime.iter().max_by(|a, b| a.used_percent.total_cmp(&b.used_percent));
    fullest.map_or("all".into(), |band| format!("{:.2} % of {}", 100.0 - band.used_percent, band.sub_band))
}

fn delay(delay: LinkDelay) -> String {
    let LinkDelay { round_trip_ms, jitter_ms, samples } = delay;
    format!("{round_trip_ms:.1} ms there and back, ± {jitter_ms:.1} ms, by {samples} measurements")
}

fn software(software: &GatewaySoftware) -> String {
    let GatewaySoftware { program, firmware, package, model } = software;
    let named = [("", program), ("on ", model), ("firmware ", firmware), ("package ", package)];
    let told = named.iter().filter(|(_, text)| !text.is_empty()).map(|(what, text)| format!("{what}{text}"));
    told.collect::<Vec<_>>().join(", ")
}

fn off_plan(g: &Gateway) -> String {
    if g.off_plan_mhz.is_empty() {
        return "nothing".into();
    }
    let mhz: Vec<String> = g.off_plan_mhz.iter().map(f64::to_string).collect();
    format!("{} MHz, no channels of {}: compare the plan set in the gateway", mhz.join(", "), g.region)
}

/// A gateway's own words, in one sentence.
fn reported(report: &GatewayReport) -> String {
    let mut said = format!(
        "{}, {} reports: {} frames received, {} with a wrong CRC, {} forwarded, {} sent",
        show::ago(Some(report.at)),
        report.reports,
        report.received,
        report.crc_bad,
        report.forwarded,
        report.sent
    );
    if report.exceeds_arrived {
        said += &format!(
            "; only {} of its frames arrived: its counters may be running totals, or frames are lost on the way",
            report.arrived
        );
    }
    if let Some(percent) = report.acknowledged_percent {
        said += &format!("; {percent} % of its datagrams acknowledged");
    }
    if let Some((latitude, longitude)) = report.position_deg() {
        said += &format!("; by its GPS it stands at {latitude:.5}, {longitude:.5}");
    }
    said
}

impl GatewayArgs {
    /// The gateway to register.
    fn of(self, eui: String) -> NewGateway {
        NewGateway { eui, about: self.about.of(self.name) }
    }
}

/// The word that lifts the limit of `--udp-source`.
const ANYWHERE: &str = "anywhere";

impl GatewayAboutArgs {
    /// A gateway's settings, as far as they are given.
    fn of(self, name: String) -> GatewayAbout {
        GatewayAbout {
            name,
            description: self.description,
            latitude_deg: self.latitude_deg,
            longitude_deg: self.longitude_deg,
            altitude_m: self.altitude_m,
            antenna_gain_dbi: self.antenna_gain_dbi,
            cable_loss_db: self.cable_loss_db,
            region: self.region,
            channels: self.channels,
            protocol: self.protocol,
            udp_source: self.udp_source.filter(|source| source != ANYWHERE),
            open_to_others: self.open_to_others,
            beacons: self.beacons,
        }
    }

    /// What is given, as a change in part: `null` for what is taken away.
    fn changes(self, name: Option<String>) -> Result<Map<String, Value>> {
        let lifts = self.udp_source.as_deref() == Some(ANYWHERE);
        let Value::Object(mut changes) = serde_json::to_value(self.of(String::new()))? else { return Ok(Map::new()) };
        changes.retain(|field, value| field != "name" && !value.is_null());
        changes.extend(name.map(|name| ("name".to_owned(), name.into())));
        changes.extend(lifts.then(|| ("udp_source".to_owned(), Value::Null)));
        Ok(changes)
    }
}

/// The stranger that is meant; a MAC address will do.
fn which<'a>(strangers: &'a [Stranger], asked: Option<&str>) -> Result<&'a Stranger> {
    let Some(asked) = asked else {
        return match strangers {
            [only] => Ok(only),
            [] => bail!("no stranger has called since the service started"),
            _ => bail!(
                "{} unregistered gateways connect; say which: `heron gateway strangers` lists them",
                strangers.len()
            ),
        };
    };
    let meant = match check::meant_by_mac(asked) {
        Some(meant) => meant.to_vec(),
        None => vec![input::eui("EUI", asked)?],
    };
    let found = strangers.iter().find(|stranger| meant.contains(&stranger.eui));
    found.with_context(|| format!("no stranger with {asked} has called since the service started"))
}

/// Carries a verb out. Some need no service.
pub(crate) async fn run(context: &Context, verb: GatewayVerb) -> Result<()> {
    match verb {
        GatewayVerb::Local(verb) => local(context, verb),
        GatewayVerb::Remote(verb) => remote(&context.client()?, &context.out, verb, context.global.yes).await,
    }
}

fn local(context: &Context, verb: LocalGatewayVerb) -> Result<()> {
    let out = &context.out;
    match verb {
        LocalGatewayVerb::Layout(args) => layout::run(out, args),
    }
}

async fn remote(client: &Client, out: &Out, verb: RemoteGatewayVerb, yes: bool) -> Result<()> {
    match verb {
        RemoteGatewayVerb::List(which) => list::run(client, out, which).await,
        RemoteGatewayVerb::Show { gateway } => {
            let gateway: Gateway = client.get(&client.one("gateways", &gateway).await?, &[]).await?;
            out.one(&gateway, lines)
        }
        RemoteGatewayVerb::Add(args) => {
            let gateway: Gateway = client.post(&client.in_estate("gateways").await?, &args.about.of(args.eui)).await?;
            out.one(&gateway, lines)
        }
        RemoteGatewayVerb::Adopt(args) => adopt::run(client, out, args).await,
        RemoteGatewayVerb::Import(args) => import::run(client, out, args, yes).await,
        RemoteGatewayVerb::Set(args) => set::run(client, out, *args).await,
        RemoteGatewayVerb::Remove { gateway } => remove::run(client, out, gateway, yes).await,
        RemoteGatewayVerb::Kit(args) => credentials::kit(client, out, args, yes).await,
        RemoteGatewayVerb::Credential { verb } => credentials::run(client, out, verb, yes).await,
        RemoteGatewayVerb::Firmware { verb } => firmware::run(client, out, verb, yes).await,
        RemoteGatewayVerb::Events { gateway, limit } => credentials::events(client, out, &gateway, limit).await,
        RemoteGatewayVerb::Reception { gateway } => reception::reception(client, out, &gateway).await,
        RemoteGatewayVerb::Uptime { gateway } => reception::uptime(client, out, &gateway).await,
        RemoteGatewayVerb::Strangers { claim } => strangers::run(client, out, claim).await,
    }
}
