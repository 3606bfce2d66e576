//! How a gateway does: what it hears, and how much of the time.

use anyhow::Result;
use api::gateway::reception::{Reception, UptimeDay};

use crate::client::Client;
use crate::show::{self, Out};

fn db(value: Option<f32>, unit: &str) -> String {
    value.map_or("–".into(), |value| format!("{value:.1} {unit}"))
}

pub(super) async fn reception(client: &Client, out: &Out, gateway: &str) -> Result<()> {
    let path = format!("{}/reception", client.one("gateways", gateway).await?);
    let reception: Reception = client.get(&path, &[]).await?;
    if out.json {
        return out.json(&reception);
    }
    let Reception { looked_at, uplinks, since, .. } = reception;
    out.line(format!("It heard {uplinks} of the last {looked_at} uplinks, the first of them {}.", show::ago(since)))?;
    if uplinks == 0 {
        return Ok(());
    }
    let channels = reception.channels.iter().map(|channel| {
        let mean = format!("{:.1} dBm", channel.rssi_dbm);
        vec![format!("{} MHz", channel.frequency_mhz), channel.uplinks.to_string(), mean, db(channel.noise_dbm, "dBm")]
    });
    out.line("")?;
    out.line(show::table(&["CHANNEL", "UPLINKS", "MEAN RSSI", "NOISE"], channels))?;
    let rates = reception.data_rates.iter().map(|rate| {
        let factor = rate.spreading_factor.map_or("–".into(), |sf| format!("SF{sf}"));
        vec![format!("DR{}", rate.data_rate), factor, rate.uplinks.to_string()]
    });
    out.line("")?;
    out.line(show::table(&["DATA RATE", "", "UPLINKS"], rates))?;
    if reception.only_here.is_empty() {
        return out.line("\nEvery device it hears is heard by another gateway as well.");
    }
    out.line("\nDevices that it alone hears, and that fall silent with it:")?;
    let alone = reception.only_here.iter().map(|device| {
        vec![device.name.clone(), device.dev_eui.to_string(), device.uplinks.to_string(), db(device.best_snr_db, "dB")]
    });
    out.line(show::table(&["DEVICE", "DEVEUI", "UPLINKS", "BEST SNR"], alone))
}

pub(super) async fn uptime(client: &Client, out: &Out, gateway: &str) -> Result<()> {
    let path = format!("{}/uptime", client.one("gateways", gateway).await?);
    let days: Vec<UptimeDay> = client.all(&path, &[]).await?;
    if out.json {
        return out.json(&days);
    }
    let known: Vec<&UptimeDay> = days.iter().filter(|day| day.listening_percent.is_some()).collect();
    out.list(&known, "Nothing is known of its uptime yet.", &["DAY", "LISTENING", "CAME BACK"], |day| {
        let share = day.listening_percent.map_or(String::new(), |percent| format!("{percent:.2} %"));
        vec![day.day.clone(), share, format!("{} times", day.returns)]
    })
}
