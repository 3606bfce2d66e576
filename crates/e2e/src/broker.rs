//! An MQTT broker for tests, as `herond broker-files` sets it up.

use std::path::Path;
use std::process::{Child, Command};

use tempfile::TempDir;

use crate::mariadb::free_port;
use crate::mosquitto::{started, user};
use crate::programs::program;

/// A broker on loopback, with files of the service's authority.
pub struct Broker {
    process: Option<Child>,
    folder: TempDir,
    /// Where it listens.
    pub port: u16,
}

impl Broker {
    /// Starts one for a service with this data folder.
    ///
    /// # Panics
    /// If it does not come up.
    pub async fn start(service_data: &Path) -> Self {
        let folder = tempfile::Builder::new().prefix("keen-heron-mqtt-").tempdir().expect("a temporary folder");
        let port = free_port();
        let made = Command::new(program("herond"))
            .args(["broker-files", "--port", &port.to_string(), "--data"])
            .arg(service_data)
            .arg("--into")
            .arg(folder.path())
            .output()
            .expect("herond runs");
        assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
        let mut broker = Self { process: None, folder, port };
        broker.go_on().await;
        broker
    }

    /// Gives it a second door, open to everybody, and no limits: as another make of broker might be set up.
    ///
    /// # Panics
    /// If it does not come up again.
    pub async fn open_wide(&mut self) -> u16 {
        self.kill();
        let (config, door) = (self.folder.path().join("mosquitto.conf"), free_port());
        let text = std::fs::read_to_string(&config).expect("written by herond");
        let not_kept = ["message_size_limit", "max_packet_size", "user "];
        let kept = text.lines().filter(|line| !not_kept.iter().any(|word| line.starts_with(word)));
        let kept: Vec<&str> = kept.collect();
        let text = format!(
            "per_listener_settings true\n{}\nlistener {door} 127.0.0.1\nallow_anonymous true\n",
            kept.join("\n")
        );
        std::fs::write(&config, text).expect("written");
        self.go_on().await;
        door
    }

    /// Has it accept revoked certificates, as one that was set up by hand.
    ///
    /// # Panics
    /// If it does not come up again.
    pub async fn keep_to_no_list(&mut self) {
        self.kill();
        let config = self.folder.path().join("mosquitto.conf");
        let text = std::fs::read_to_string(&config).expect("written by herond");
        let kept: Vec<&str> = text.lines().filter(|line| !line.starts_with("crlfile")).collect();
        std::fs::write(&config, kept.join("\n") + "\n").expect("written");
        self.go_on().await;
    }

    /// Starts it again, and waits until it listens.
    ///
    /// # Panics
    /// If it does not come up.
    pub async fn go_on(&mut self) {
        let user = user();
        let config = self.folder.path().join("mosquitto.conf");
        let text = std::fs::read_to_string(&config).expect("written by herond");
        let text = format!("{}user {user}\n", text.split_once("user ").map_or(text.as_str(), |(before, _)| before));
        std::fs::write(&config, text).expect("written");
        self.process = Some(started(&config, self.port).await);
    }

    /// Ends it as a power cut would.
    pub fn kill(&mut self) {
        if let Some(mut process) = self.process.take() {
            let _ = process.kill();
            let _ = process.wait();
        }
    }

    /// Where it is, as the service is told.
    pub fn url(&self) -> String {
        format!("mqtts://localhost:{}", self.port)
    }
}

impl Drop for Broker {
    fn drop(&mut self) {
        self.kill();
    }
}
