//! A PostgreSQL of a test's own.

use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use tempfile::TempDir;

use crate::mariadb::free_port;

/// The account that tests use, and its password.
pub const ACCOUNT: (&str, &str) = ("quay", "quay and tide");

/// A server on loopback.
pub struct Postgres {
    process: Option<Child>,
    folder: TempDir,
    /// Where it listens.
    pub port: u16,
}

/// Where Debian keeps the newest one.
fn programs() -> PathBuf {
    let all = std::fs::read_dir("/usr/lib/postgresql").expect("PostgreSQL is there; scripts/test installs it");
    let newest = all.filter_map(Result::ok).map(|entry| entry.path()).max();
    newest.expect("a version of PostgreSQL").join("bin")
}

/// A command of the server's. It does not run as root.
fn as_somebody(program: &Path) -> Command {
    let is_root = Command::new("id").arg("-u").output().is_ok_and(|id| id.stdout.starts_with(b"0\n"));
    let mut command = Command::new("setpriv");
    command.args(["--pdeathsig", "KILL"]);
    if is_root {
        command.args(["--reuid", "nobody", "--regid", "nogroup", "--clear-groups"]);
    }
    command.arg(program);
    command
}

impl Postgres {
    /// Starts one with a database `quay`.
    ///
    /// # Panics
    /// If it does not come up.
    pub async fn start() -> Self {
        let folder = tempfile::Builder::new().prefix("keen-heron-postgres-").tempdir().expect("a temporary folder");
        let open = Command::new("chmod").args(["0777"]).arg(folder.path()).status().expect("chmod runs");
        assert!(open.success());
        let (data, password) = (folder.path().join("data"), folder.path().join("password"));
        std::fs::write(&password, ACCOUNT.1).expect("written");
        let made = as_somebody(&programs().join("initdb"))
            .args(["--auth", "scram-sha-256", "--encoding", "UTF8", "--no-sync", "--username", ACCOUNT.0, "-D"])
            .arg(&data)
            .arg("--pwfile")
            .arg(&password)
            .output()
            .expect("initdb runs");
        assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
        let mut server = Self { process: None, folder, port: free_port() };
        server.go_on().await;
        server.as_owner("postgres", "CREATE DATABASE quay");
        server
    }

    /// Starts it again, and waits until it answers.
    ///
    /// # Panics
    /// If it does not come up.
    pub async fn go_on(&mut self) {
        let process = as_somebody(&programs().join("postgres"))
            .arg("-D")
            .arg(self.folder.path().join("data"))
            .args(["-p", &self.port.to_string(), "-c", "listen_addresses=127.0.0.1", "-c", "fsync=off", "-k", ""])
            // One that is killed would leave its memory behind otherwise.
            .args(["-c", "dynamic_shared_memory_type=mmap"])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("postgres starts");
        self.process = Some(process);
        crate::wait::until("PostgreSQL", async || self.ask("postgres", "SELECT 1").ok()).await;
    }

    /// Ends it as a power cut would.
    pub fn kill(&mut self) {
        if let Some(mut process) = self.process.take() {
            let _ = process.kill();
            let _ = process.wait();
        }
    }

    /// Its address, as an outlet takes it.
    pub fn url(&self) -> String {
        format!("postgres://127.0.0.1:{}/quay", self.port)
    }

    fn ask(&self, database: &str, statement: &str) -> Result<String, String> {
        let said = Command::new("psql")
            .args([
                "-h",
                "127.0.0.1",
                "-p",
                &self.port.to_string(),
                "-U",
                ACCOUNT.0,
                "-d",
                database,
                "-AtX",
                "-c",
                statement,
            ])
            .env("PGPASSWORD", ACCOUNT.1)
            .output()
            .expect("psql runs; scripts/test installs it");
        match said.status.success() {
            true => Ok(String::from_utf8_lossy(&said.stdout).into_owned()),
            false => Err(String::from_utf8_lossy(&said.stderr).into_owned()),
        }
    }

    fn as_owner(&self, database: &str, statement: &str) {
        self.ask(database, statement).expect("the statement is taken");
    }

    /// What the database's own client says to a statement.
    ///
    /// # Panics
    /// If the statement is refused.
    pub fn query(&self, statement: &str) -> String {
        self.ask("quay", statement).expect("the statement is taken")
    }
}

impl Drop for Postgres {
    fn drop(&mut self) {
        self.kill();
    }
}
