//! `heron bench api`: registering many devices from a file, and paging through their list.

use std::time::Instant;

use anyhow::{Result, bail};
use api::Page;
use api::device::Device;
use api::device::import::{DeviceImportOutcome, ImportOptions};
use api::fleet::{Fleet, NewFleet};
use serde::Serialize;

use crate::client::Client;
use crate::commands::bench::args::ApiArgs;
use crate::show::{self, Out};

const FLEET: &str = "load";
/// What the console shows at once.
const PAGE: &str = "100";

/// What was measured.
#[derive(Debug, Serialize)]
struct Measured {
    devices: u32,
    file_bytes: usize,
    preview_s: f64,
    register_s: f64,
    pages: Vec<Pages>,
}

/// Pages of one kind.
#[derive(Debug, Serialize)]
struct Pages {
    what: &'static str,
    p50_ms: f64,
    p95_ms: f64,
    worst_ms: f64,
}

fn file(devices: u32) -> String {
    let eui = |n: u32| 0x02b0_0bed_0000_0000 + u64::from(n);
    let rows = (0..devices).map(|n| format!("{:016x},02aa0bec00000001,generate,load-{n:05}\n", eui(n)));
    std::iter::once("dev_eui,join_eui,app_key,name\n".to_owned()).chain(rows).collect()
}

pub(super) async fn run(client: &Client, out: &Out, args: &ApiArgs, yes: bool) -> Result<()> {
    let what = format!(
        "This registers {} devices in a fleet named {FLEET}. They cannot be removed together: use a service made for this.",
        args.devices
    );
    show::confirm(yes, &what)?;
    let new = NewFleet { slug: FLEET.into(), name: None, limits: Default::default() };
    let _: Fleet = client.post(&client.in_estate("fleets").await?, &new).await?;
    let csv = file(args.devices);
    let import = client.in_estate("devices/import").await?;
    let mut took = [0.0; 2];
    for (preview, took) in [true, false].into_iter().zip(&mut took) {
        let options = ImportOptions { preview, fleet: Some(FLEET.into()), ..ImportOptions::default() };
        let start = Instant::now();
        let outcome: DeviceImportOutcome =
            client.upload(&import, &options, ("text/csv", csv.clone().into_bytes())).await?;
        *took = start.elapsed().as_secs_f64();
        if outcome.outcome.bad > 0 {
            bail!("{} rows cannot be registered; is the service one made for this?", outcome.outcome.bad);
        }
    }
    let list = client.in_estate("devices").await?;
    // Each request begins somewhere else in the list.
    let after = |n: u32| format!("load-{:05}", u64::from(n) * 7919 % u64::from(args.devices));
    type Query<'a> = &'a dyn Fn(u32) -> Vec<(&'static str, String)>;
    let kinds: [(&'static str, Query<'_>); 4] = [
        ("by name", &|n| vec![("after", after(n))]),
        ("of a fleet, newest first", &|_| vec![("fleet", FLEET.into()), ("sort", "-added_at".into())]),
        ("never joined", &|n| vec![("state", "never_joined".into()), ("after", after(n))]),
        ("found by part of an EUI", &|n| vec![("find", format!("{:04x}", n * 7919 % 0x2710))]),
    ];
    let mut pages = Vec::new();
    for (what, query) in kinds {
        let mut ms = Vec::new();
        for n in 0..args.pages {
            let query = [query(n), vec![("limit", PAGE.into())]].concat();
            let start = Instant::now();
            let _: Page<Device> = client.get(&list, &query).await?;
            ms.push(start.elapsed().as_secs_f64() * 1000.0);
        }
        ms.sort_by(f64::total_cmp);
        let at = |share: f64| ms[((ms.len() - 1) as f64 * share) as usize];
        pages.push(Pages { what, p50_ms: at(0.5), p95_ms: at(0.95), worst_ms: at(1.0) });
    }
    let [preview_s, register_s] = took;
    let measured = Measured { devices: args.devices, file_bytes: csv.len(), preview_s, register_s, pages };
    if out.json {
        return out.json(&measured);
    }
    out.line(format!(
        "{} devices from a file of {} kB: looked at in {preview_s:.2} s, registered in {register_s:.2} s.\n",
        measured.devices,
        measured.file_bytes / 1000
    ))?;
    let rows = measured.pages.iter().map(|page| {
        let ms = |ms: f64| format!("{ms:.1} ms");
        vec![page.what.into(), ms(page.p50_ms), ms(page.p95_ms), ms(page.worst_ms)]
    });
    out.line(show::table(&[&format!("A PAGE OF {PAGE}"), "P50", "P95", "WORST"], rows))
}
