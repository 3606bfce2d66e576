//! What an MQTT broker needs so that each gateway reads and writes its own topics only: a certificate of the service's
//! authority, and rules that use the name in the client's certificate.

use std::fs;
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;

use anyhow::{Context as _, Result};
use gateway_link::mqtt::{MAX_PAYLOAD, ROOT, SERVICE, Topic};

use crate::gateways::authority::Authority;
use crate::gateways::revocations::RevocationFiles;
use crate::startup::config::BrokerFiles;

/// The list of certificates that it accepts no more.
pub(crate) const REVOKED_FILE: &str = "revoked.pem";
/// Where it writes the number of its process, by which it is told to read that list again.
pub(crate) const PID_FILE: &str = "broker.pid";
/// Its program and its account: Debian's broker.
pub(crate) const PROGRAM: &str = "mosquitto";
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
    let revocations = RevocationFiles::new(&options.data);
    // The words are those of mosquitto, Debian's broker. A client's identifier is the name in its certificate, so that
    // nobody ends the connection of another one by calling itself like that.
    let config = format!(
        "pid_file {}\nlistener {}\nallow_anonymous false\nrequire_certificate true\nuse_identity_as_username true\n\
         use_username_as_clientid true\ncafile {}\ncrlfile {}\ncertfile {}\nkeyfile {}\nacl_file {}\n\
         message_size_limit {MAX_PAYLOAD}\nmax_packet_size {}\nset_tcp_nodelay true\n",
        path(PID_FILE),
        options.port,
        path("authority.pem"),
        path(REVOKED_FILE),
        path("broker.pem"),
        path("broker.key"),
        path("rules.acl"),
        MAX_PAYLOAD + ROOM_FOR_TOPIC
    );
    let files = [
        ("authority.pem", authority.certificate_pem.clone(), 0o644),
        (REVOKED_FILE, revocations.current(&authority)?, 0o644),
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
        give_to_broker(&target)?;
    }
    give_to_broker(&folder)?;
    revocations.remember_folder(&folder)?;
    println!(
        "{} holds what the broker needs; its certificate is good until {}.",
        folder.display(),
        broker.expires_at.format("%Y-%m-%d")
    );
    Ok(())
}

/// Gives a file to the broker's account, if there is one and we may: started by root, the broker takes that account, and reads
/// its files again when it is told to.
fn give_to_broker(path: &Path) -> Result<()> {
    if !rustix::process::geteuid().is_root() {
        return Ok(());
    }
    let accounts = fs::read_to_string("/etc/passwd").unwrap_or_default();
    let Some((user, group)) = account(&accounts, PROGRAM) else { return Ok(()) };
    std::os::unix::fs::chown(path, Some(user), Some(group))
        .with_context(|| format!("giving {} to {PROGRAM}", path.display()))
}

/// The numbers of an account and of its group (passwd(5)).
fn account(accounts: &str, name: &str) -> Option<(u32, u32)> {
    let mut fields = accounts.lines().map(|line| line.split(':')).find(|fields| fields.clone().next() == Some(name))?;
    Some((fields.nth(2)?.parse().ok()?, fields.next()?.parse().ok()?))
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
        assert!(config.contains("\nlistener 8884\nallow_anonymous false\nrequire_certificate true\n"), "{config}");
        assert!(config.contains("\nuse_username_as_clientid true\n"), "{config}");
        assert!(config.contains("/revoked.pem\n") && read(REVOKED_FILE).contains("BEGIN X509 CRL"), "{config}");
        let mode = std::os::unix::fs::MetadataExt::mode(&fs::metadata(options.into.join("broker.key")).unwrap());
        assert_eq!(mode & 0o777, 0o600);
        let accounts = "root:x:0:0:root:/root:/bin/sh\nmosquitto:x:103:106::/var/lib/mosquitto:/usr/sbin/nologin\n";
        assert_eq!(account(accounts, PROGRAM), Some((103, 106)));
        assert_eq!(account("mosquitto2:x:1:2::/:/", PROGRAM), None);
        // Made again, it is of the same authority.
        let authority = read("authority.pem");
        write(&options).unwrap();
        assert_eq!(read("authority.pem"), authority);
    }
}
