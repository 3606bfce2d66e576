//! What an MQTT broker needs so that each gateway reads and writes its own topics only: a certificate of the service's
//! authority, and rules that use the name in the client's certificate.

use std::fs;
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;

use anyhow::{Context as _, Result};
use gateway_link::mqtt::{MAX_PAYLOAD, ROOT, SERVICE, Topic};

use crate::gateways::authority::Authority;
use crate::startup::config::BrokerFiles;

/// The name in the service's own certificate.
pub(crate) const NAME: &str = "keen-heron";

/// What a packet has beside its payload.
const ROOM_FOR_TOPIC: usize = 1024;

/// Writes the files.
pub(crate) fn write(options: &BrokerFiles) -> Result<()> {
    fs::create_dir_all(&options.data).with_context(|| format!("making {}", options.data.display()))?;
    fs::create_dir_all(&options.into).with_context(|| format!("making {}", options.into.display()))?;
    let authority = Authority::open_or_create(&options.data)?;
    let broker = authority.for_server(&options.names)?;
    let folder = options.into.canonicalize()?;
    let path = |name: &str| folder.join(name).display().to_string();
    let rules = rules();
    // The words are those of mosquitto, Debian's broker.
    let config = format!(
        "listener {}\nallow_anonymous false\nrequire_certificate true\nuse_identity_as_username true\n\
         cafile {}\ncertfile {}\nkeyfile {}\nacl_file {}\nmessage_size_limit {MAX_PAYLOAD}\nmax_packet_size {}\nset_tcp_nodelay true\n",
        options.port,
        path("authority.pem"),
        path("broker.pem"),
        path("broker.key"),
        path("rules.acl"),
        MAX_PAYLOAD + ROOM_FOR_TOPIC
    );
    let files = [
        ("authority.pem", authority.certificate_pem.clone(), 0o644),
        ("broker.pem", broker.certificate_pem.clone(), 0o644),
        ("broker.key", broker.key.serialize_pem(), 0o600),
        ("rules.acl", rules, 0o600),
        ("mosquitto.conf", config, 0o644),
    ];
    for (name, text, mode) in files {
        let target = folder.join(name);
        let file = fs::OpenOptions::new().write(true).create(true).truncate(true).mode(mode).open(&target);
        file.and_then(|mut file| file.write_all(text.as_bytes()))
            .with_context(|| format!("writing {}", target.display()))?;
    }
    println!(
        "{} holds what the broker needs; its certificate is good until {}.",
        folder.display(),
        broker.expires_at.format("%Y-%m-%d")
    );
    Ok(())
}

/// Who may read and write what: `%u` is the name in the certificate.
fn rules() -> String {
    let mut out = format!(
        "# The service.\nuser {NAME}\ntopic readwrite {ROOT}/#\ntopic readwrite {SERVICE}\n\n# Each gateway, in topics of its own EUI.\n"
    );
    let own = |topic: Topic| topic.of_all().replace('+', "%u");
    for topic in Topic::OF_GATEWAYS {
        out += &format!("pattern write {}\n", own(topic));
    }
    for topic in Topic::OF_SERVICE {
        out += &format!("pattern read {}\n", own(topic));
    }
    out += &format!("pattern read {SERVICE}\n");
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_gateway_has_its_own_topics_and_the_service_all() {
        let folder = tempfile::tempdir().unwrap();
        let into = folder.path().join("broker");
        let options =
            BrokerFiles { data: folder.path().join("data"), names: vec!["broker.example".into()], port: 8884, into };
        write(&options).unwrap();
        let read = |name: &str| fs::read_to_string(options.into.join(name)).unwrap();
        let rules = read("rules.acl");
        assert!(rules.contains("user keen-heron\ntopic readwrite keen-heron/v1/gateways/#"), "{rules}");
        assert!(rules.contains("pattern write keen-heron/v1/gateways/%u/up\n"), "{rules}");
        assert!(rules.contains("pattern read keen-heron/v1/gateways/%u/down\n"), "{rules}");
        assert!(!rules.contains("pattern write keen-heron/v1/gateways/%u/down"), "{rules}");
        let config = read("mosquitto.conf");
        assert!(config.starts_with("listener 8884\nallow_anonymous false\nrequire_certificate true"), "{config}");
        let mode = std::os::unix::fs::MetadataExt::mode(&fs::metadata(options.into.join("broker.key")).unwrap());
        assert_eq!(mode & 0o777, 0o600);
        // Made again, it is of the same authority.
        let authority = read("authority.pem");
        write(&options).unwrap();
        assert_eq!(read("authority.pem"), authority);
    }
}
