//! The list of revoked certificates for the MQTT broker. It is written again whenever a certificate is revoked.

use std::collections::{BTreeMap, HashSet};
use std::fs;
use std::io::Write as _;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use anyhow::{Context as _, Result, anyhow, bail};
use chrono::{DateTime, TimeDelta, Utc};
use gateway_link::mqtt::Name;
use rustix::process::{Pid, Signal, kill_process};
use store::{EndedCertificate, Store};
use tokio_util::sync::CancellationToken;
use x509_parser::pem::parse_x509_pem;
use x509_parser::prelude::{CertificateRevocationList, FromDer as _};

use crate::data_files::DataFiles;
use crate::gateways::authority::Authority;
use crate::gateways::broker_files::{PID_FILE, PROGRAM, REVOKED_FILE};
use crate::gateways::credentials::Credentials;
use crate::gateways::transport::mqtt::BrokerAccess;
use crate::pipeline::condition::Condition;

/// How often the list is checked, and whether the broker keeps to it.
const LOOK_EVERY: Duration = Duration::from_secs(3600);
/// The pause before another attempt to have the broker keep to it.
const AGAIN: Duration = Duration::from_secs(30);
/// How long the broker may take to read the list, and how often it is asked meanwhile.
const READ_WITHIN: Duration = Duration::from_secs(5);
const ASK_EVERY: Duration = Duration::from_millis(250);
/// Attempts to disconnect a client.
const ATTEMPTS: u32 = 10;
/// A list is valid from this time before now: the broker's clock may be behind.
const BACKDATED: TimeDelta = TimeDelta::days(1);
/// Files of the data folder's `broker`, beside the list: where the broker's files are, and the list that it was known to
/// keep to last.
const FOLDER_FILE: &str = "folder";
const KEPT_FILE: &str = "kept.pem";

/// A list of revoked certificates.
#[derive(Debug, Clone, PartialEq, Eq)]
struct List {
    pem: String,
    serials: HashSet<Vec<u8>>,
    since: DateTime<Utc>,
}

impl List {
    fn make(authority: &Authority, revoked: &[EndedCertificate], since: DateTime<Utc>) -> Result<Self> {
        let mut serials: Vec<Vec<u8>> = revoked.iter().map(|certificate| certificate.serial.clone()).collect();
        serials.push(test_serial(since));
        let pem = authority.revocation_list(&serials, since)?;
        Ok(Self { pem, serials: HashSet::from_iter(serials), since })
    }

    fn read(pem: String) -> Result<Self> {
        let (_, block) = parse_x509_pem(pem.as_bytes()).map_err(|why| anyhow!("{why}"))?;
        let (_, list) = CertificateRevocationList::from_der(&block.contents).map_err(|why| anyhow!("{why}"))?;
        let serials = list.iter_revoked_certificates().map(|revoked| revoked.raw_serial().to_vec()).collect();
        let since =
            DateTime::from_timestamp(list.last_update().timestamp(), 0).context("a list of no time there is")?;
        Ok(Self { pem, serials, since })
    }

    /// Whether these certificates are on it, and no others.
    fn is_of(&self, revoked: &[EndedCertificate]) -> bool {
        self.serials.len() == revoked.len() + 1 && revoked.iter().all(|one| self.serials.contains(&one.serial))
    }
}

/// The serial number of the service's own test certificate. It is on the list of this time and on no other: a broker that
/// accepts it does not keep to the list.
fn test_serial(since: DateTime<Utc>) -> Vec<u8> {
    [b"Trial".as_slice(), &since.timestamp().to_be_bytes()].concat()
}

/// When a new list begins to be valid. A broker that has two keeps to the one that began later, and counts whole seconds.
fn this_update(before: Option<DateTime<Utc>>, now: DateTime<Utc>) -> DateTime<Utc> {
    let usual = now - BACKDATED;
    before.map_or(usual, |before| usual.max(before + TimeDelta::seconds(1)))
}

/// The files of the data folder that have to do with the broker.
pub(crate) struct RevocationFiles(DataFiles);

impl RevocationFiles {
    pub(crate) fn new(data: &Path) -> Self {
        Self(DataFiles::new(data, "broker"))
    }

    /// Remembers where the broker's own files are.
    pub(crate) fn remember_folder(&self, folder: &Path) -> Result<()> {
        self.0.write(FOLDER_FILE, |file| file.write_all(folder.as_os_str().as_encoded_bytes()))
    }

    /// Where they are, if the service has written them on this machine.
    fn folder(&self) -> Option<PathBuf> {
        fs::read_to_string(self.0.path(FOLDER_FILE)).ok().map(PathBuf::from)
    }

    /// The list, PEM; without certificates of gateways if there was none yet.
    pub(crate) fn current(&self, authority: &Authority) -> Result<String> {
        match self.list(REVOKED_FILE) {
            Some(list) => Ok(list.pem),
            None => Ok(List::make(authority, &[], this_update(None, Utc::now()))?.pem),
        }
    }

    fn list(&self, name: &str) -> Option<List> {
        List::read(fs::read_to_string(self.0.path(name)).ok()?).ok()
    }

    fn write(&self, name: &str, list: &List) -> Result<()> {
        self.0.write(name, |file| file.write_all(list.pem.as_bytes()))
    }
}

/// Keeps the list, and has the broker keep to it.
pub(crate) struct Revocations {
    pub store: Store,
    pub authority: Arc<Authority>,
    pub credentials: Arc<Credentials>,
    pub condition: Arc<Condition>,
    pub files: RevocationFiles,
    /// The access to the broker, if clients show certificates there.
    pub access: Option<BrokerAccess>,
    pub stopping: CancellationToken,
}

impl Revocations {
    /// Works until the service stops.
    pub(crate) async fn run(self) {
        let mut attempts = 0;
        loop {
            let done = tokio::select! {
                done = self.round(&mut attempts) => done,
                () = self.stopping.cancelled() => return,
            };
            if let Err(why) = &done {
                tracing::warn!("whether the broker refuses revoked certificates is not known: {why:#}");
            }
            let pause = if let Ok(true) = done { LOOK_EVERY } else { AGAIN };
            tokio::select! {
                () = self.credentials.ended() => {}
                () = tokio::time::sleep(pause) => {}
                () = self.stopping.cancelled() => return,
            }
        }
    }

    /// Updates the list, tests whether the broker keeps to it, and disconnects the clients that are new on it. Returns whether
    /// all of that is done.
    async fn round(&self, attempts: &mut u32) -> Result<bool> {
        let ended = self.store.ended_certificates(Utc::now()).await?;
        let (expired, revoked): (Vec<_>, Vec<_>) = ended.into_iter().partition(|one| one.expired);
        let kept = self.files.list(KEPT_FILE);
        let list = self.list(&revoked)?;
        if kept.as_ref() != Some(&list)
            && let Some(folder) = self.files.folder()
            && let Err(why) = tell_broker(&folder, &list.pem)
        {
            // Somebody else may do that: the test below shows it.
            tracing::warn!("the broker was not told which certificates are revoked: {why:#}");
        }
        let Some(access) = &self.access else { return Ok(true) };
        if !self.is_kept(access, &list).await? {
            self.condition.broker_keeps_to_list(false);
            return Ok(false);
        }
        self.condition.broker_keeps_to_list(true);
        let mut to_disconnect = new_on_it(&revoked, kept.as_ref());
        // The broker looks at a certificate when somebody connects, and not again.
        to_disconnect.extend(names(expired.iter()));
        let all_done = self.disconnect(access, &to_disconnect).await;
        *attempts = if all_done { 0 } else { *attempts + 1 };
        if !all_done && *attempts < ATTEMPTS {
            return Ok(false);
        }
        *attempts = 0;
        self.store.forget_certificates(&expired.into_iter().map(|one| one.serial).collect::<Vec<_>>()).await?;
        if kept.as_ref() != Some(&list) {
            tracing::info!("the MQTT broker keeps to the list of {} revoked certificates", revoked.len());
            self.files.write(KEPT_FILE, &list)?;
        }
        Ok(true)
    }

    /// The list of these certificates; it is written to its file if it has changed.
    fn list(&self, revoked: &[EndedCertificate]) -> Result<List> {
        let before = self.files.list(REVOKED_FILE);
        let since = this_update(before.as_ref().map(|list| list.since), Utc::now());
        match before.filter(|list| list.is_of(revoked)) {
            Some(list) => Ok(list),
            None => {
                let list = List::make(&self.authority, revoked, since)?;
                self.files.write(REVOKED_FILE, &list)?;
                Ok(list)
            }
        }
    }

    /// Whether the broker refuses what is on the list. It may still be reading it.
    async fn is_kept(&self, access: &BrokerAccess, list: &List) -> Result<bool> {
        let until = Instant::now() + READ_WITHIN;
        while access.accepts(&self.authority, test_serial(list.since)).await? {
            if Instant::now() >= until {
                return Ok(false);
            }
            tokio::time::sleep(ASK_EVERY).await;
        }
        Ok(true)
    }

    /// Disconnects clients; returns whether all are disconnected.
    async fn disconnect(&self, access: &BrokerAccess, names: &BTreeMap<Name, bool>) -> bool {
        let mut all_done = true;
        for (name, in_use) in names {
            tracing::info!("{name} is disconnected from the MQTT broker: a certificate of it has ended");
            if let Err(why) = access.disconnect(&self.authority, *name, *in_use).await {
                tracing::warn!("{name}, whose certificate has ended, may still be connected to the broker: {why:#}");
                all_done = false;
            }
        }
        all_done
    }
}

/// The names of certificates that were not on the list before, and whether they have good certificates as well.
fn new_on_it(revoked: &[EndedCertificate], before: Option<&List>) -> BTreeMap<Name, bool> {
    let new = |one: &&EndedCertificate| before.is_none_or(|before| !before.serials.contains(&one.serial));
    names(revoked.iter().filter(new)).collect()
}

/// The names of certificates, and whether they have good ones as well.
fn names<'a>(certificates: impl Iterator<Item = &'a EndedCertificate>) -> impl Iterator<Item = (Name, bool)> {
    certificates.filter_map(|one| Some((one.name.parse().ok()?, one.name_in_use)))
}

/// Writes the list to the broker's folder, and has the broker read it. Connected clients stay; new connections are checked.
fn tell_broker(folder: &Path, pem: &str) -> Result<()> {
    let target = folder.join(REVOKED_FILE);
    let write = || -> Result<()> {
        let mut file = tempfile::NamedTempFile::new_in(folder)?;
        file.write_all(pem.as_bytes())?;
        file.as_file().sync_all()?;
        // There is nothing secret in it, and the broker may run under another account.
        fs::set_permissions(file.path(), fs::Permissions::from_mode(0o644))?;
        file.persist(&target)?;
        Ok(())
    };
    write().with_context(|| format!("writing {}", target.display()))?;
    let file = folder.join(PID_FILE);
    // A broker that does not run reads it when it starts.
    let Ok(text) = fs::read_to_string(&file) else { return Ok(()) };
    let Some(pid) = text.trim().parse().ok().and_then(Pid::from_raw) else {
        bail!("{} does not hold the number of a process", file.display());
    };
    let program = fs::read_to_string(format!("/proc/{}/comm", pid.as_raw_nonzero())).unwrap_or_default();
    if program.trim() == PROGRAM {
        kill_process(pid, Signal::HUP).with_context(|| format!("telling process {} to read the list", text.trim()))?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn revoked(serial: u8, name: &str, name_in_use: bool) -> EndedCertificate {
        EndedCertificate { serial: vec![serial], name: name.into(), name_in_use, expired: false }
    }

    #[test]
    fn a_list_is_read_as_it_was_written_and_is_newer_each_time() {
        let folder = tempfile::tempdir().unwrap();
        let authority = Authority::open_or_create(folder.path()).unwrap();
        let files = RevocationFiles::new(folder.path());
        assert_eq!(files.list(REVOKED_FILE), None);
        let empty = List::read(files.current(&authority).unwrap()).unwrap();
        assert!(empty.is_of(&[]), "{:?}", empty.serials);
        let now = Utc::now();
        let revoked = [revoked(0x40, "a", false), revoked(0x7f, "b", false)];
        let list = List::make(&authority, &revoked, this_update(None, now)).unwrap();
        files.write(REVOKED_FILE, &list).unwrap();
        let read = files.list(REVOKED_FILE).unwrap();
        assert_eq!(read.serials, list.serials);
        assert!(read.is_of(&revoked) && !read.is_of(&revoked[..1]) && !read.is_of(&[]));
        assert!(read.serials.contains(&test_serial(read.since)), "{:?}", read.serials);
        assert_eq!(read.since.timestamp(), (now - BACKDATED).timestamp());
        let second = this_update(Some(read.since), now);
        assert_eq!(second.timestamp(), read.since.timestamp() + 1, "within one second, and after the clock went back");
        assert!(!read.serials.contains(&test_serial(second)));
        assert_eq!(files.current(&authority).unwrap(), list.pem);
        assert!(List::read("nonsense".into()).is_err());
    }

    #[test]
    fn who_is_new_on_the_list_is_disconnected() {
        let folder = tempfile::tempdir().unwrap();
        let authority = Authority::open_or_create(folder.path()).unwrap();
        let names = ["02a1f00000000001-abc", "02a1f00000000002-abc"];
        let all = [revoked(1, names[0], false), revoked(2, names[1], true), revoked(3, "no gateway", true)];
        let before = List::make(&authority, &all[..1], Utc::now()).unwrap();
        let [first, second] = names.map(|name| name.parse().unwrap());
        assert_eq!(new_on_it(&all, Some(&before)), BTreeMap::from([(second, true)]));
        assert_eq!(new_on_it(&all, None), BTreeMap::from([(first, false), (second, true)]));
    }

    #[test]
    fn a_process_that_is_no_broker_is_left_alone() {
        let folder = tempfile::tempdir().unwrap();
        tell_broker(folder.path(), "a list").unwrap();
        assert_eq!(fs::read_to_string(folder.path().join(REVOKED_FILE)).unwrap(), "a list");
        // The signal would end this very test.
        fs::write(folder.path().join(PID_FILE), std::process::id().to_string()).unwrap();
        tell_broker(folder.path(), "another").unwrap();
        fs::write(folder.path().join(PID_FILE), "0").unwrap();
        let why = tell_broker(folder.path(), "a third").unwrap_err().to_string();
        assert!(why.contains(PID_FILE), "{why}");
        let why = tell_broker(&folder.path().join("gone"), "a fourth").unwrap_err().to_string();
        assert!(why.contains("gone/revoked.pem"), "{why}");
    }
}
