//! A broker of somebody else's, set up as a test wants it, and clients that the broker's makers ship.

use std::io::{BufRead as _, BufReader};
use std::net::SocketAddr;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex, PoisonError};

use serde_json::Value;
use tempfile::TempDir;

use crate::mariadb::free_port;
use crate::wait::until_or_tell;

/// What a listener separates the parts of a message with.
const BETWEEN: char = '\u{1f}';

/// The account that a broker runs as: the one of this test.
pub(crate) fn user() -> String {
    let user = Command::new("id").arg("-un").output().expect("id runs");
    String::from_utf8_lossy(&user.stdout).trim().to_owned()
}

/// Starts a broker with this configuration, and waits until it listens. It ends with the test.
pub(crate) async fn started(config: &Path, port: u16) -> Child {
    // Debian keeps it where only root looks.
    let usual = Path::new("/usr/sbin/mosquitto");
    let process = Command::new("setpriv")
        .args(["--pdeathsig", "KILL"])
        .arg(if usual.exists() { usual } else { Path::new("mosquitto") })
        .arg("-c")
        .arg(config)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .expect("mosquitto starts; scripts/test installs it");
    let address = SocketAddr::from(([127, 0, 0, 1], port));
    crate::wait::until("the broker", async || tokio::net::TcpStream::connect(address).await.ok()).await;
    process
}

/// A broker on loopback.
pub struct Mosquitto {
    process: Option<Child>,
    folder: TempDir,
    /// Where it listens.
    pub port: u16,
    config: String,
}

impl Mosquitto {
    /// Starts one that lets everybody in.
    ///
    /// # Panics
    /// If it does not come up.
    pub async fn open() -> Self {
        Self::with(&[], "allow_anonymous true\n").await
    }

    /// Starts one with files in its folder, and with these settings; `FOLDER` in them stands for the folder.
    ///
    /// # Panics
    /// If it does not come up.
    pub async fn with(files: &[(&str, &str)], settings: &str) -> Self {
        let folder = tempfile::Builder::new().prefix("keen-heron-mosquitto-").tempdir().expect("a temporary folder");
        for (name, text) in files {
            std::fs::write(folder.path().join(name), text).expect("written");
        }
        let settings = settings.replace("FOLDER", folder.path().to_str().expect("a plain path"));
        let mut broker = Self { process: None, folder, port: free_port(), config: settings };
        broker.go_on().await;
        broker
    }

    /// Starts it again, and waits until it listens.
    ///
    /// # Panics
    /// If it does not come up.
    pub async fn go_on(&mut self) {
        let (folder, user) = (self.folder.path().display(), user());
        let kept = format!("persistence true\npersistence_location {folder}/\nautosave_interval 1\n");
        let limits = "max_queued_messages 0\nuser ";
        let text = format!("listener {} 127.0.0.1\n{kept}{limits}{user}\n{}", self.port, self.config);
        let config = self.folder.path().join("mosquitto.conf");
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

    /// Stops it by SIGTERM, so that it saves the messages that it has acknowledged. SIGKILL would lose them.
    pub fn stop(&mut self) {
        if let Some(process) = &self.process {
            let _ = Command::new("kill").args(["-TERM", &process.id().to_string()]).status();
        }
        if let Some(mut process) = self.process.take() {
            let _ = process.wait();
        }
    }

    /// Its address without TLS.
    pub fn url(&self) -> String {
        format!("mqtt://127.0.0.1:{}", self.port)
    }

    /// Listens to a filter with the broker's own client; comes back once it has subscribed.
    ///
    /// # Panics
    /// If the client does not start.
    pub async fn listen(&self, filter: &str, options: &[&str]) -> Heard {
        let mut client = Command::new("setpriv")
            .args([
                "--pdeathsig",
                "KILL",
                "stdbuf",
                "-oL",
                "mosquitto_sub",
                "-h",
                "127.0.0.1",
                "-p",
                &self.port.to_string(),
            ])
            .args(["-t", filter, "-d", "-F"])
            .arg(["MESSAGE", "%t", "%q", "%r", "%P", "%p"].join(&BETWEEN.to_string()))
            .args(options)
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("mosquitto_sub starts; scripts/test installs it");
        let (heard, subscribed) = (Arc::new(Mutex::new(Vec::new())), Arc::new(Mutex::new(false)));
        let lines = BufReader::new(client.stdout.take().expect("piped")).lines();
        let (into, told) = (Arc::clone(&heard), Arc::clone(&subscribed));
        std::thread::spawn(move || {
            for line in lines.map_while(Result::ok) {
                if line.contains("received SUBACK") {
                    *told.lock().unwrap_or_else(PoisonError::into_inner) = true;
                }
                if let Some(message) = Published::read(&line) {
                    into.lock().unwrap_or_else(PoisonError::into_inner).push(message);
                }
            }
        });
        let is_subscribed = || *subscribed.lock().unwrap_or_else(PoisonError::into_inner);
        crate::wait::until("the subscription", async || is_subscribed().then_some(())).await;
        Heard { client, heard }
    }

    /// Publishes a text with the broker's own client.
    ///
    /// # Panics
    /// If that fails.
    pub fn publish(&self, topic: &str, text: &str, options: &[&str]) {
        let done = Command::new("mosquitto_pub")
            .args(["-h", "127.0.0.1", "-p", &self.port.to_string(), "-q", "1", "-t", topic, "-m", text])
            .args(options)
            .output()
            .expect("mosquitto_pub runs; scripts/test installs it");
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    }
}

impl Drop for Mosquitto {
    fn drop(&mut self) {
        self.kill();
    }
}

/// A message as a listener got it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Published {
    /// Its topic.
    pub topic: String,
    /// Its quality of service.
    pub qos: u8,
    /// Whether the broker had kept it.
    pub retained: bool,
    /// Its user properties: names and values with colons between them.
    pub properties: String,
    /// Its payload.
    pub payload: String,
}

impl Published {
    fn read(line: &str) -> Option<Self> {
        let (_, rest) = line.split_once(&format!("MESSAGE{BETWEEN}"))?;
        let mut parts = rest.splitn(5, BETWEEN);
        let mut part = || parts.next().map(str::to_owned);
        Some(Self {
            topic: part()?,
            qos: part()?.parse().ok()?,
            retained: part()? == "1",
            properties: part()?,
            payload: part()?,
        })
    }

    /// The payload as JSON.
    ///
    /// # Panics
    /// If it is none.
    pub fn json(&self) -> Value {
        serde_json::from_str(&self.payload).expect("JSON")
    }
}

/// What a listener has heard.
pub struct Heard {
    client: Child,
    heard: Arc<Mutex<Vec<Published>>>,
}

impl Heard {
    /// All of it, in order.
    pub fn all(&self) -> Vec<Published> {
        self.heard.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Waits until it has heard so many.
    pub async fn wait_for(&self, count: usize) -> Vec<Published> {
        until_or_tell(
            || format!("{count} messages; there are {:?}", self.all()),
            async || Some(self.all()).filter(|all| all.len() >= count),
        )
        .await
    }
}

impl Drop for Heard {
    fn drop(&mut self) {
        let _ = self.client.kill();
        let _ = self.client.wait();
        if !std::thread::panicking() {
            for message in self.all().iter().filter_map(|one| serde_json::from_str(&one.payload).ok()) {
                assert_eq!(crate::schemas::wrong_with(&message), None);
            }
        }
    }
}
