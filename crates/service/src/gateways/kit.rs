//! The connection kit: an archive of all that one gateway needs to connect, with instructions.

use std::fmt::Write as _;
use std::io::{Cursor, Write as _};

use anyhow::{Context as _, Result};
use api::gateway::Protocol;
use api::gateway::credential::Purpose;
use chrono::{DateTime, Utc};
use domain::gateway::check::CheckedGateway;
use gateway_link::layout::Layout;
use gateway_link::lns::RouterConfig;
use gateway_link::mqtt::ROOT;
use lorawan::region::Region;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipWriter};

use crate::gateways::credentials::Fresh;
use crate::gateways::registry::broker_name;
use crate::gateways::transport::PublicEndpoints;
use crate::net::tls::Trust;

/// The sheet's file, first in every archive.
const SHEET: &str = "read-me-first.txt";

/// Packs a kit.
pub(crate) fn zip(
    (gateway, added_at): (&CheckedGateway, DateTime<Utc>),
    fresh: &[Fresh],
    endpoints: &PublicEndpoints,
    trust: &Trust,
) -> Result<Vec<u8>> {
    let mut files = Vec::new();
    let layout = Layout::new(gateway.region.plan(), gateway.channels).context("its channels")?;
    // Such a gateway's packet forwarder is set up by hand.
    if gateway.protocol != Protocol::Websocket {
        files.push(("channels.csv".to_owned(), channel_table(gateway.region, &layout)));
        let config = RouterConfig::new(gateway.region.plan(), &layout, gateway.beacons);
        let board = config.sx1301_conf.first().context("a concentrator")?;
        files.push(("concentrator.json".into(), serde_json::to_string_pretty(board)? + "\n"));
    }
    for new in fresh {
        let (stem, uri) = match (gateway.protocol, new.row.credential.purpose) {
            (Protocol::Mqtt, _) => ("mqtt", endpoints.mqtt.clone().context("the service has no MQTT broker")?),
            (_, Purpose::Traffic) => ("tc", endpoints.lns()),
            (_, Purpose::Updates) => ("cups", endpoints.cups()),
        };
        let (certificate, key) = new.files();
        files.push((format!("{stem}.uri"), uri));
        files.push((format!("{stem}.trust"), trust.pem.clone()));
        files.extend(certificate.map(|pem| (format!("{stem}.crt"), pem)));
        files.push((format!("{stem}.key"), key));
        if stem == "mqtt" {
            files.push(("mqtt.topic".into(), format!("{ROOT}/{}", broker_name(gateway.eui, added_at))));
        }
    }
    let sheet = sheet(gateway, fresh, endpoints, &files);
    let mut archive = ZipWriter::new(Cursor::new(Vec::new()));
    for (name, text) in std::iter::once(&(SHEET.to_owned(), sheet)).chain(&files) {
        // Keys are for the program on the gateway alone.
        let mode = if name.ends_with(".key") { 0o600 } else { 0o644 };
        let options = SimpleFileOptions::default().compression_method(CompressionMethod::Stored).unix_permissions(mode);
        archive.start_file(name.as_str(), options)?;
        archive.write_all(text.as_bytes())?;
    }
    Ok(archive.finish()?.into_inner())
}

/// The settings of the concentrator's chains, one a line.
fn channel_table(region: Region, layout: &Layout) -> String {
    let mut out = String::from("chain,radio,radio_centre_hz,frequency_hz,offset_hz,bandwidth_hz,spreading_factor\n");
    let mut line = |name: String, chain: &gateway_link::layout::Chain, bandwidth_hz: u32, factor: &str| {
        let centre = layout.radios_hz.get(usize::from(chain.radio)).copied().flatten().unwrap_or_default();
        let _ = writeln!(
            out,
            "{name},{},{centre},{},{},{bandwidth_hz},{factor}",
            chain.radio, chain.frequency_hz, chain.offset_hz
        );
    };
    for (n, chain) in layout.multi_rate.iter().enumerate() {
        line(format!("multi-rate {n}"), chain, 125_000, "all");
    }
    if let Some(standard) = &layout.standard {
        line("standard".into(), &standard.chain, standard.bandwidth.hz(), &standard.spreading_factor.to_string());
    }
    if let Some(fsk) = &layout.fsk {
        line("FSK".into(), fsk, 125_000, "");
    }
    let _ = writeln!(out, "# {}: two radios, and chains behind them", region.name());
    out
}

/// The instructions, one page.
fn sheet(gateway: &CheckedGateway, fresh: &[Fresh], endpoints: &PublicEndpoints, files: &[(String, String)]) -> String {
    let steps = match gateway.protocol {
        Protocol::Udp => udp_steps(gateway, endpoints),
        Protocol::Mqtt => format!("{MQTT_STEPS}{KEY_FILE}"),
        Protocol::Websocket => lns_steps(fresh, files),
    };
    format!(
        "Connecting {} ({}) to Keen Heron\n\nRegion {}, channels {}. It connects by {}.\n\n{steps}\n{}\n{}{LAST}",
        gateway.name,
        gateway.eui,
        gateway.region.name(),
        gateway.channels,
        gateway.protocol.label(),
        firewall(gateway.protocol, endpoints),
        local_only(gateway.protocol, endpoints),
    )
}

const MQTT_STEPS: &str = "\
1. Copy this archive as it is to the gateway, or to a machine beside it, and run there
     heron agent --kit connection-kit.zip --listen 127.0.0.1:1700
2. In the gateway's packet forwarder, set the agent's address as the server, with port 1700 both
   up and down, and its concentrator as concentrator.json says; channels.csv is the same as a
   table.
3. On the gateway's page it turns to \"listening\" within half a minute.

";

const KEY_FILE: &str = "\
The key file is a secret. It was made for this kit, and cannot be shown again; anyone who has it
can pretend to be this gateway. If it gets lost, revoke it on the gateway's page.
";

const LAST: &str = "\
If it does not connect, its page says why: it lists each attempt, and what to do about it.
If nothing is listed there, nothing has reached the service: check the address and the firewall.
";

fn udp_steps(gateway: &CheckedGateway, endpoints: &PublicEndpoints) -> String {
    let (name, port) = (&endpoints.name, endpoints.udp_port);
    format!(
        "\
1. In the gateway's packet forwarder, set
     server address   {name}
     port up          {port}
     port down        {port}   (the same)
     gateway EUI      {}
2. Set its concentrator as concentrator.json says; channels.csv is the same as a table.
3. Restart the packet forwarder. On the gateway's page it turns to \"listening\" within half a minute.

This protocol has no passwords. If the gateway has an address of its own, enter it on the
gateway's page as the only place its datagrams are taken from.
",
        gateway.eui
    )
}

fn lns_steps(fresh: &[Fresh], files: &[(String, String)]) -> String {
    let names: Vec<&str> = files.iter().map(|(name, _)| name.as_str()).collect();
    let restart = if fresh.iter().any(|new| new.row.credential.purpose == Purpose::Updates) {
        "2. Restart it. It asks for updates, fetches its credentials for traffic, and connects. It fetches\n   \
         later credentials itself as well.\n"
    } else {
        "2. Restart it. On the gateway's page it turns to \"listening\" within half a minute.\n"
    };
    let expiry: String = fresh
        .iter()
        .map(|new| {
            let credential = &new.row.credential;
            let ends = credential.expires_at.format("%Y-%m-%d");
            format!("The {} for {} is valid until {ends}.\n", credential.kind.name(), credential.purpose.name())
        })
        .collect();
    format!(
        "\
1. Copy {} to the folder where the gateway's program
   looks for its settings. Remove files of the same names that were there before, and those
   that this kit does not have: a key without its certificate keeps it from connecting.
{restart}3. Channels need not be set: the gateway is told them when it connects.

{KEY_FILE}{expiry}",
        names.join(", ")
    )
}

fn firewall(protocol: Protocol, endpoints: &PublicEndpoints) -> String {
    let name = &endpoints.name;
    let open = match protocol {
        Protocol::Udp => format!("UDP to {name}, port {}, and the answers to it", endpoints.udp_port),
        Protocol::Websocket => format!("TCP to {name}, port {}", endpoints.tls_port),
        Protocol::Mqtt => format!("TCP to the broker, {}", endpoints.mqtt.as_deref().unwrap_or("which is not set")),
    };
    format!(
        "\
What to open in the firewall between gateway and service, from the gateway outwards:
     {open}
     DNS, if the address is a name, and NTP, so that the gateway knows the date
"
    )
}

/// A warning if the address in the kit is reached from the service's own machine only; empty otherwise.
fn local_only(protocol: Protocol, endpoints: &PublicEndpoints) -> String {
    if protocol == Protocol::Mqtt {
        let local = |url: &str| url.contains("//localhost") || url.contains("//127.");
        if !endpoints.mqtt.as_deref().is_some_and(local) {
            return String::new();
        }
        return "MIND: this broker is reached from the service's own machine only. The operator of the service\n\
                names the broker's address with --mqtt, and then makes this kit again.\n\n"
            .into();
    }
    if !endpoints.only_here() {
        return String::new();
    }
    format!(
        "MIND: {} is reached from the service's own machine only. The operator of the service\n\
         names the address for gateways with --gateway-names, and then makes this kit again.\n\n",
        endpoints.name
    )
}

#[cfg(test)]
mod tests {
    use domain::gateway::check;
    use std::io::Read as _;

    use api::gateway::GatewayAbout;
    use api::gateway::credential::CredentialKind;
    use chrono::TimeDelta;
    use lorawan::Eui64;

    use super::*;
    use crate::gateways::authority::Authority;

    fn gateway(protocol: Protocol, region: Region) -> CheckedGateway {
        let about = GatewayAbout {
            name: "chapel-rise".into(),
            protocol: Some(protocol),
            region: Some(region),
            ..GatewayAbout::default()
        };
        check::about(&about, Eui64(0x02a1_f000_0000_0001)).unwrap()
    }

    fn endpoints(name: &str) -> PublicEndpoints {
        PublicEndpoints {
            name: name.into(),
            tls_port: 8681,
            udp_port: 1700,
            mqtt: Some("mqtts://broker.example:8883".into()),
        }
    }

    fn unpacked(bytes: Vec<u8>) -> Vec<(String, String)> {
        let mut archive = zip::ZipArchive::new(Cursor::new(bytes)).unwrap();
        (0..archive.len())
            .map(|n| {
                let mut file = archive.by_index(n).unwrap();
                let mut text = String::new();
                file.read_to_string(&mut text).unwrap();
                (file.name().unwrap().into_owned(), text)
            })
            .collect()
    }

    #[test]
    fn a_kit_holds_what_its_protocol_needs() {
        let folder = tempfile::tempdir().unwrap();
        let authority = Authority::open_or_create(folder.path()).unwrap();
        let trust = Trust { pem: authority.certificate_pem.clone(), der: authority.certificate.clone() };
        let names = |files: &[(String, String)]| files.iter().map(|(name, _)| name.clone()).collect::<Vec<_>>();

        let udp = gateway(Protocol::Udp, Region::Us915);
        let files = unpacked(zip((&udp, Utc::now()), &[], &endpoints("gate.example"), &trust).unwrap());
        assert_eq!(names(&files), [SHEET, "channels.csv", "concentrator.json"]);
        assert!(
            files[0].1.contains("server address   gate.example")
                && files[0].1.contains("UDP to gate.example, port 1700")
        );
        assert!(files[1].1.contains("standard,0,904300000,904600000,300000,500000,8"), "{}", files[1].1);
        assert!(files[2].1.contains("\"spread_factor\": 8"));

        let lns = gateway(Protocol::Websocket, Region::Eu868);
        let (added_at, lasts) = (DateTime::from_timestamp_micros(0xabc).unwrap(), TimeDelta::days(9));
        let name = broker_name(lns.eui, added_at);
        let make = |purpose, kind| Fresh::make(&authority, &trust, name, (purpose, kind), lasts).unwrap();
        let token = [make(Purpose::Traffic, CredentialKind::Token)];
        let files = unpacked(zip((&lns, Utc::now()), &token, &endpoints("::1"), &trust).unwrap());
        assert_eq!(names(&files), [SHEET, "tc.uri", "tc.trust", "tc.key"]);
        assert_eq!(files[1].1, "wss://[::1]:8681");
        assert!(files[3].1.starts_with("Authorization: Bearer ") && files[3].1.ends_with("\r\n"));
        assert!(!files[0].1.contains(files[3].1.trim()), "the sheet may lie about; the secret is not on it");
        assert!(files[0].1.contains("MIND: ::1"));

        let mqtt = gateway(Protocol::Mqtt, Region::Eu868);
        let certificate = [make(Purpose::Traffic, CredentialKind::Certificate)];
        let files = unpacked(zip((&mqtt, added_at), &certificate, &endpoints("::1"), &trust).unwrap());
        assert_eq!(
            names(&files),
            [
                SHEET,
                "channels.csv",
                "concentrator.json",
                "mqtt.uri",
                "mqtt.trust",
                "mqtt.crt",
                "mqtt.key",
                "mqtt.topic"
            ]
        );
        assert_eq!(files[7].1, "keen-heron/v1/gateways/02a1f00000000001-abc");
        assert!(files[0].1.contains("heron agent") && files[3].1 == "mqtts://broker.example:8883");

        let certificate = [make(Purpose::Updates, CredentialKind::Certificate)];
        let files = unpacked(zip((&lns, added_at), &certificate, &endpoints("gate.example"), &trust).unwrap());
        assert_eq!(names(&files), [SHEET, "cups.uri", "cups.trust", "cups.crt", "cups.key"]);
        assert!(files[4].1.contains("PRIVATE KEY") && files[3].1.contains("BEGIN CERTIFICATE"));
        assert!(!files[0].1.contains("MIND"));
    }
}
