//! A running `herond`, and `heron` signed in to it.

use std::io::{BufRead as _, BufReader, Write as _};
use std::net::SocketAddr;
use std::process::{Child, Command, Output, Stdio};
use std::sync::OnceLock;

use reqwest::{Method, StatusCode};
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use simulator::scenario::Scenario;
use store::{Store, Vault};
use tempfile::TempDir;

use crate::broker::Broker;
use crate::mariadb::{MariaDb, free_port};
use crate::programs::program;

/// Name of the estate made at the first start.
pub const ESTATE: &str = "tarnsey";

/// A service with a database and a data folder of its own.
pub struct Service {
    process: Child,
    mariadb: &'static MariaDb,
    database: String,
    data: TempDir,
    mqtt: Option<String>,
    /// Further options, the same at each start.
    options: Vec<String>,
    surroundings: StartContext,
    /// Ends what was mounted for its journal.
    mounted: Option<Mounted>,
    /// The address of its HTTP interface.
    pub http: String,
    /// Its address for UDP gateways.
    pub udp: SocketAddr,
    /// Where gateways call over TLS.
    pub tls: SocketAddr,
    /// The owner's password, as printed at the first start.
    pub password: String,
    token: String,
    client: reqwest::Client,
}

struct Started {
    process: Child,
    http: String,
    udp: SocketAddr,
    tls: SocketAddr,
    password: Option<String>,
}

/// What a service is started in, beside its options.
#[derive(Default, Clone)]
struct StartContext {
    /// Goes before the program.
    before: Vec<String>,
    environment: Vec<(String, String)>,
    /// Another place than that of the server, for its database.
    database_at: Option<SocketAddr>,
}

impl StartContext {
    fn program(&self) -> Command {
        let herond = program("herond");
        let mut command = match self.before.split_first() {
            Some((first, rest)) => {
                let mut command = Command::new(first);
                command.args(rest).arg(herond);
                command
            }
            None => Command::new(herond),
        };
        command.envs(self.environment.iter().map(|(name, value)| (name, value)));
        command
    }
}

fn start(
    (database, data): (&str, &TempDir),
    (udp, tls): (&str, &str),
    mqtt: Option<&str>,
    options: &[String],
    surroundings: &StartContext,
) -> Started {
    let mut process = surroundings
        .program()
        .args(["serve", "--http", "127.0.0.1:0", "--udp", udp, "--gateways", tls, "--estate", ESTATE])
        .args(["--catalogue-hosts", "127.0.0.1,localhost"])
        .arg("--data")
        .arg(data.path().join("service"))
        .args(mqtt.iter().flat_map(|url| ["--mqtt", url]))
        .args(options)
        .env("HEROND_DATABASE", database)
        .env("HEROND_LOG", std::env::var("HEROND_LOG").unwrap_or_else(|_| "warn".into()))
        .stdout(Stdio::piped())
        .spawn()
        .expect("herond starts");
    let mut password = None;
    let out = process.stdout.take().expect("piped");
    for line in BufReader::new(out).lines() {
        let line = line.expect("text");
        if let Some(given) = line.strip_prefix("  password: ") {
            password = Some(given.to_owned());
        }
        if let Some(rest) = line.strip_prefix("Keen Heron is up: ") {
            let (http, rest) = rest.split_once(" (console and API), ").expect("two addresses");
            let (udp, rest) = rest.split_once(" (gateways, UDP), ").expect("two more");
            let tls = rest.split(' ').next().and_then(|a| a.parse().ok()).expect("an address");
            let udp = udp.parse().expect("an address");
            return Started { process, http: http.to_owned(), udp, tls, password };
        }
    }
    panic!("herond ended before it was up: {:?}", process.wait());
}

/// The tables of a service that was never started, on the shared server.
fn template() -> &'static str {
    static TEMPLATE: OnceLock<String> = OnceLock::new();
    TEMPLATE.get_or_init(|| {
        let (server, name) = (MariaDb::shared(), "heron_template");
        server.make(name, "");
        let mut migrate = Command::new(program("herond"));
        let made = migrate.arg("migrate").env("HEROND_DATABASE", server.url(name)).output().expect("herond runs");
        assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
        server.dump(name)
    })
}

fn folder() -> TempDir {
    tempfile::Builder::new().prefix("keen-heron-").tempdir().expect("a temporary folder")
}

/// A database's address, where the service is to look for it.
fn address(url: &str, surroundings: &StartContext) -> String {
    let Some(place) = surroundings.database_at else { return url.to_owned() };
    let (account, rest) = url.rsplit_once('@').expect("an account");
    let (_, name) = rest.split_once('/').expect("a name");
    format!("{account}@{place}/{name}")
}

/// A small file system in memory, until it is dropped.
struct Mounted(std::path::PathBuf);

impl Mounted {
    fn on(folder: &std::path::Path) -> Option<Self> {
        let mount = Command::new("mount").args(["-t", "tmpfs", "-o", "size=8m", "tmpfs"]).arg(folder).status();
        if !mount.is_ok_and(|status| status.success()) {
            eprintln!("no file system can be mounted here: run as root to test a full disk");
            return None;
        }
        Some(Self(folder.into()))
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.0).status();
    }
}

/// A first start that was killed.
pub struct Unfinished {
    mariadb: &'static MariaDb,
    data: TempDir,
    database: String,
}

impl Unfinished {
    /// Starts it again and waits until it is up. No one is signed in.
    pub fn start(self) -> Service {
        let Self { mariadb, data, database } = self;
        let surroundings = StartContext::default();
        let ports = ("127.0.0.1:0", "127.0.0.1:0");
        let started = start((&mariadb.url(&database), &data), ports, None, &[], &surroundings);
        Service {
            process: started.process,
            mariadb,
            database,
            data,
            mqtt: None,
            options: Vec::new(),
            surroundings,
            mounted: None,
            http: started.http,
            udp: started.udp,
            tls: started.tls,
            password: started.password.unwrap_or_default(),
            token: String::new(),
            client: http_client().build().expect("an HTTP client"),
        }
    }
}

/// What calls the service by HTTP, over TLS too.
fn http_client() -> reqwest::ClientBuilder {
    // An error would say that there is one already.
    let _ = rustls::crypto::ring::default_provider().install_default();
    reqwest::Client::builder()
}

impl Service {
    /// The first start of a service, on the shared server.
    pub async fn first_start() -> Self {
        Self::on(MariaDb::shared()).await
    }

    /// The first start of a service, on a given server.
    pub async fn on(mariadb: &'static MariaDb) -> Self {
        let data = tempfile::Builder::new().prefix("keen-heron-").tempdir().expect("a temporary folder");
        Self::with(mariadb, data, None, Vec::new()).await
    }

    /// The first start of a service with further options.
    pub async fn started_with(options: &[&str]) -> Self {
        let data = tempfile::Builder::new().prefix("keen-heron-").tempdir().expect("a temporary folder");
        let options = options.iter().map(ToString::to_string).collect();
        Self::with(MariaDb::shared(), data, None, options).await
    }

    /// The first start of a service with a broker of its own.
    pub async fn behind_broker() -> (Self, Broker) {
        let data = tempfile::Builder::new().prefix("keen-heron-").tempdir().expect("a temporary folder");
        let broker = Broker::start(&data.path().join("service")).await;
        (Self::with(MariaDb::shared(), data, Some(broker.url()), Vec::new()).await, broker)
    }

    async fn with(mariadb: &'static MariaDb, data: TempDir, mqtt: Option<String>, options: Vec<String>) -> Self {
        Self::within(mariadb, data, (mqtt, options), StartContext::default()).await
    }

    async fn within(
        mariadb: &'static MariaDb,
        data: TempDir,
        (mqtt, options): (Option<String>, Vec<String>),
        surroundings: StartContext,
    ) -> Self {
        let database = format!("heron_{:016x}", rand::random::<u64>());
        // Below the kernel's own range: no other socket takes them while the service is stopped.
        let ports = [free_port(), free_port()].map(|port| format!("127.0.0.1:{port}"));
        if std::ptr::eq(mariadb, MariaDb::shared()) {
            mariadb.make(&database, template());
        }
        let url = address(&mariadb.url(&database), &surroundings);
        let started = start((&url, &data), (&ports[0], &ports[1]), mqtt.as_deref(), &options, &surroundings);
        // A connection for each request: one that the service closes early, as after a body that is too
        // large, must not be met again by the next.
        let mut client = http_client().pool_max_idle_per_host(0);
        if started.http.starts_with("https") {
            let authority = std::fs::read(data.path().join("service/authority.pem")).expect("made at the start");
            client = client.tls_certs_only([reqwest::Certificate::from_pem(&authority).expect("a certificate")]);
        }
        let mut service = Self {
            process: started.process,
            mariadb,
            database,
            data,
            mqtt,
            options,
            surroundings,
            mounted: None,
            http: started.http,
            udp: started.udp,
            tls: started.tls,
            password: started.password.expect("the first start prints a password"),
            token: String::new(),
            client: client.build().expect("a client"),
        };
        let name_and_password = json!({ "name": "owner", "password": service.password });
        let signed_in: api::people::SignedIn = service.done(Method::POST, "/sign-in", Some(name_and_password)).await;
        service.token = signed_in.token.to_string();
        service
    }

    /// The first start of a service that reaches its database through a proxy.
    pub async fn through(mariadb: &'static MariaDb, proxy: SocketAddr) -> Self {
        let surroundings = StartContext { database_at: Some(proxy), ..StartContext::default() };
        Self::within(mariadb, folder(), (None, Vec::new()), surroundings).await
    }

    /// The first start of a service that may have only this many files open.
    pub async fn with_files(files: u32) -> Self {
        let before = vec!["prlimit".to_owned(), format!("--nofile={files}:{files}")];
        let surroundings = StartContext { before, ..StartContext::default() };
        Self::within(MariaDb::shared(), folder(), (None, Vec::new()), surroundings).await
    }

    /// The first start of a service for which it is another time, as faketime(1) writes it: "+2h".
    ///
    /// # Panics
    /// If libfaketime is not installed.
    pub async fn at_time(offset: &str) -> Self {
        let data = folder();
        let file = data.path().join("time");
        std::fs::write(&file, offset).expect("written");
        let library =
            ["x86_64", "aarch64"].map(|arch| format!("/usr/lib/{arch}-linux-gnu/faketime/libfaketimeMT.so.1"));
        let library = library.into_iter().find(|path| std::path::Path::new(path).exists());
        let environment = [
            ("LD_PRELOAD", library.expect("libfaketime; scripts/test installs it")),
            ("FAKETIME_TIMESTAMP_FILE", file.display().to_string()),
            ("FAKETIME_NO_CACHE", "1".to_owned()),
            // Only what people set: the clock that counts from the start of the machine goes on.
            ("FAKETIME_DONT_FAKE_MONOTONIC", "1".to_owned()),
        ];
        let environment = environment.map(|(name, value)| (name.to_owned(), value)).to_vec();
        let surroundings = StartContext { environment, ..StartContext::default() };
        Self::within(MariaDb::shared(), data, (None, Vec::new()), surroundings).await
    }

    /// Sets the clock of a service that was started by [`Service::at_time`].
    ///
    /// # Panics
    /// If the file cannot be written.
    pub fn set_time(&self, offset: &str) {
        // Never half written: it is read at any moment.
        let (file, new) = (self.data.path().join("time"), self.data.path().join("time.new"));
        std::fs::write(&new, offset).expect("written");
        std::fs::rename(new, file).expect("renamed");
    }

    /// The first start of a service whose journal has a small disk of its own; none where none can be mounted.
    pub async fn with_small_journal() -> Option<Self> {
        Self::with_small_journal_on(MariaDb::shared()).await
    }

    /// Whether its journal has a small disk of its own.
    pub fn has_small_journal(&self) -> bool {
        self.mounted.is_some()
    }

    /// The same on a given server.
    pub async fn with_small_journal_on(mariadb: &'static MariaDb) -> Option<Self> {
        let data = folder();
        let journal = data.path().join("service/journal");
        std::fs::create_dir_all(&journal).expect("made");
        let mounted = Mounted::on(&journal)?;
        let mut service = Self::with(mariadb, data, None, Vec::new()).await;
        service.mounted = Some(mounted);
        Some(service)
    }

    /// Fills the journal's disk, or makes room on it again.
    pub fn fill_journal(&self, full: bool) {
        let ballast = self.data().join("journal/ballast");
        let filled = if full { std::fs::write(ballast, vec![0; 64 << 20]) } else { std::fs::remove_file(ballast) };
        assert_eq!(filled.is_err(), full, "{filled:?}");
    }

    /// First starts that are killed, each after another time.
    pub fn killed_first_starts(
        mariadb: &'static MariaDb,
        times: usize,
        mut after: impl FnMut() -> std::time::Duration,
    ) -> Unfinished {
        let (data, database) = (folder(), format!("heron_{:016x}", rand::random::<u64>()));
        for _ in 0..times {
            let mut process = Command::new(program("herond"))
                .args(["serve", "--http", "127.0.0.1:0", "--udp", "127.0.0.1:0", "--gateways", "127.0.0.1:0"])
                .args(["--estate", ESTATE, "--data"])
                .arg(data.path().join("service"))
                .env("HEROND_DATABASE", mariadb.url(&database))
                .env("HEROND_LOG", "off")
                .stdout(Stdio::null())
                .spawn()
                .expect("herond starts");
            std::thread::sleep(after());
            process.kill().expect("a child");
            process.wait().expect("a child");
        }
        Unfinished { mariadb, data, database }
    }

    /// Signs the owner in again.
    pub async fn sign_in_again(&mut self) {
        let name_and_password = json!({ "name": "owner", "password": self.password });
        let signed_in: api::people::SignedIn = self.done(Method::POST, "/sign-in", Some(name_and_password)).await;
        self.token = signed_in.token.to_string();
    }

    /// Its process number.
    pub fn process_id(&self) -> u32 {
        self.process.id()
    }

    /// Waits for it to end by itself; says whether it ended well.
    pub fn ends(&mut self) -> bool {
        self.process.wait().is_ok_and(|status| status.success())
    }

    /// Puts a copy in the place of its database, while it is stopped.
    pub fn put_back(&self, dump: &str) {
        self.mariadb.put_back(&self.database, dump);
    }

    /// Ends the service as a power cut would.
    pub fn kill(&mut self) {
        self.process.kill().expect("a running service");
        self.process.wait().expect("a child");
    }

    /// Stops the service in its tracks, as a machine without a free processor would, or lets it go on.
    pub fn freeze(&self, frozen: bool) {
        let signal = if frozen { "-STOP" } else { "-CONT" };
        let asked = Command::new("kill").arg(signal).arg(self.process.id().to_string()).status();
        assert!(asked.is_ok_and(|status| status.success()));
    }

    /// Ends the service as an operator would; says whether it ended well.
    pub fn stop(&mut self) -> bool {
        let asked = Command::new("kill").arg(self.process.id().to_string()).status();
        assert!(asked.is_ok_and(|status| status.success()));
        self.process.wait().is_ok_and(|status| status.success())
    }

    /// Starts it again on what it left behind, with the same ports for gateways.
    pub fn start_again(&mut self) {
        self.start_again_on(&self.mariadb.url(&self.database));
    }

    /// The same with another account of the database.
    pub fn start_again_on(&mut self, database: &str) {
        let ports = (&*self.udp.to_string(), &*self.tls.to_string());
        let url = address(database, &self.surroundings);
        let started = start((&url, &self.data), ports, self.mqtt.as_deref(), &self.options, &self.surroundings);
        assert_eq!(started.password, None, "only the first start prints a password");
        (self.process, self.http) = (started.process, started.http);
    }

    /// All that the database holds.
    pub fn dump(&self) -> String {
        self.mariadb.dump(&self.database)
    }

    /// All that some tables hold.
    pub fn dump_of(&self, tables: &[&str]) -> String {
        let rows = |table: &&str| format!("{table}:\n{}", self.query(&format!("SELECT * FROM {table} ORDER BY 1, 2")));
        tables.iter().map(rows).collect()
    }

    /// The service's data folder.
    pub fn data(&self) -> std::path::PathBuf {
        self.data.path().join("service")
    }

    /// Its database, with an account that may do everything there.
    pub fn database(&self) -> String {
        self.mariadb.url(&self.database)
    }

    /// The server that it is on.
    pub fn mariadb(&self) -> &'static MariaDb {
        self.mariadb
    }

    /// What it says on standard error when it is started with another address for the console, until it is up.
    pub fn says_at_start_on(&self, http: &str) -> String {
        let mut process = Command::new(program("herond"))
            .args(["serve", "--http", http, "--udp", "127.0.0.1:0", "--gateways", "127.0.0.1:0"])
            .arg("--data")
            .arg(self.data())
            .env("HEROND_DATABASE", self.database())
            .env("HEROND_LOG", "off")
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .expect("herond starts");
        let mut out = BufReader::new(process.stdout.take().expect("piped"));
        let mut line = String::new();
        out.read_line(&mut line).expect("text");
        process.kill().expect("a running service");
        let out = process.wait_with_output().expect("a child");
        String::from_utf8_lossy(&out.stderr).into_owned()
    }

    /// What one of `herond`'s other verbs prints, on its database.
    pub fn herond_says(&self, args: &[&str]) -> String {
        let mut command = Command::new(program("herond"));
        let out = command.args(args).env("HEROND_DATABASE", self.mariadb.url(&self.database)).output();
        let out = out.expect("herond runs");
        assert!(out.status.success(), "herond {args:?}: {}", String::from_utf8_lossy(&out.stderr));
        String::from_utf8(out.stdout).expect("text")
    }

    /// What one of `herond`'s other verbs says when it does not do it.
    pub fn herond_refuses(&self, args: &[&str]) -> String {
        let mut command = Command::new(program("herond"));
        let out = command.args(args).env("HEROND_DATABASE", self.mariadb.url(&self.database)).output();
        let out = out.expect("herond runs");
        assert!(!out.status.success(), "herond {args:?} was done");
        String::from_utf8_lossy(&out.stderr).into_owned()
    }

    /// The name of its database.
    pub fn database_name(&self) -> String {
        self.database.clone()
    }

    /// Where `heron` keeps its sign-in.
    pub fn client_folder(&self) -> std::path::PathBuf {
        self.data.path().join("client")
    }

    /// Its records, beside it.
    pub async fn store(&self) -> Store {
        let vault = Vault::open_or_create(&self.data.path().join("service/master.key")).expect("the service's own");
        Store::open(&self.mariadb.url(&self.database), vault).await.expect("a database")
    }

    /// What a statement gives, a line a row.
    pub fn query(&self, statement: &str) -> String {
        self.mariadb.query(&self.database, statement)
    }

    /// A request as the owner, with any answer.
    pub fn request(&self, method: Method, path: &str) -> reqwest::RequestBuilder {
        let request = self.client.request(method, format!("{}{}{path}", self.http, api::BASE));
        if self.token.is_empty() { request } else { request.bearer_auth(&self.token) }
    }

    /// Status and JSON of an answer.
    pub async fn call(&self, method: Method, path: &str, body: Option<Value>) -> (StatusCode, Value) {
        let mut request = self.request(method, path);
        if let Some(body) = body {
            request = request.json(&body);
        }
        let answer = request.send().await.expect("an answer");
        let status = answer.status();
        let text = answer.text().await.expect("a body");
        (status, serde_json::from_str(&text).unwrap_or(Value::String(text)))
    }

    /// The owner's token.
    pub fn token(&self) -> &str {
        &self.token
    }

    /// Status and JSON of an answer to somebody else.
    pub async fn by(&self, token: &str, method: Method, path: &str, body: Option<Value>) -> (StatusCode, Value) {
        let mut request = self.client.request(method, format!("{}{}{path}", self.http, api::BASE));
        if !token.is_empty() {
            request = request.bearer_auth(token);
        }
        if let Some(body) = body {
            request = request.json(&body);
        }
        let answer = request.send().await.expect("an answer");
        let status = answer.status();
        let stream = answer.headers().get("content-type").is_some_and(|kind| kind == "text/event-stream");
        if stream {
            return (status, Value::Null);
        }
        let bytes = answer.bytes().await.expect("a body");
        let text = String::from_utf8_lossy(&bytes);
        (status, serde_json::from_str(&text).unwrap_or(Value::String(text.into_owned())))
    }

    /// Takes an invitation with a new account; gives its token.
    pub async fn take(&self, code: &Value, name: &str) -> String {
        let password = format!("{} reed lantern ocean", name);
        let body = json!({ "code": code, "account": { "name": name, "password": password } });
        let (status, signed_in) = self.by("", Method::POST, "/invitations/take", Some(body)).await;
        assert_eq!(status, 200, "{signed_in}");
        signed_in["token"].as_str().expect("a token").to_owned()
    }

    /// Somebody new who is offered something in the estate; gives their token.
    pub async fn invited(&self, offer: Value, name: &str) -> String {
        let written: Value = self.post("invitations", json!({ "for_whom": name, "offer": offer })).await;
        self.take(&written["code"], name).await
    }

    /// An access token of somebody's in the estate: its secret and its number.
    pub async fn token_of(&self, by: &str, new: Value) -> (String, u64) {
        self.token_in(ESTATE, by, new).await
    }

    /// The same in any estate.
    pub async fn token_in(&self, estate: &str, by: &str, new: Value) -> (String, u64) {
        let (status, made) = self.by(by, Method::POST, &format!("/estates/{estate}/tokens"), Some(new)).await;
        assert_eq!(status, 201, "{made}");
        (made["secret"].as_str().expect("a secret").to_owned(), made["token"]["id"].as_u64().expect("a number"))
    }

    /// A request that has to succeed.
    pub async fn done<T: DeserializeOwned>(&self, method: Method, path: &str, body: Option<Value>) -> T {
        let (status, value) = self.call(method.clone(), path, body).await;
        assert!(status.is_success(), "{method} {path}: {status} {value}");
        serde_json::from_value(value).expect("the type asked for")
    }

    /// The entries of a list below the estate: its first page.
    pub async fn list<T: DeserializeOwned>(&self, path: &str) -> Vec<T> {
        self.get::<api::Page<T>>(path).await.items
    }

    /// The same below the estate.
    pub async fn get<T: DeserializeOwned>(&self, path: &str) -> T {
        self.done(Method::GET, &format!("/estates/{ESTATE}/{path}"), None).await
    }

    /// The same below the estate.
    pub async fn post<T: DeserializeOwned>(&self, path: &str, body: Value) -> T {
        self.done(Method::POST, &format!("/estates/{ESTATE}/{path}"), Some(body)).await
    }

    /// The problem an estate's endpoint answers with.
    pub async fn refused(&self, method: Method, path: &str, body: Value) -> (u16, api::problem::Problem) {
        let (status, value) = self.call(method, &format!("/estates/{ESTATE}/{path}"), Some(body)).await;
        (status.as_u16(), serde_json::from_value(value).expect("a problem"))
    }

    /// Registers what a scenario names.
    pub async fn register(&self, scenario: &Scenario) {
        for fleet in &scenario.fleets {
            let _: Value = self.post("fleets", value(&fleet.to_register())).await;
        }
        for model in &scenario.models {
            let path = format!("/estates/{ESTATE}/models/{}", model.slug);
            let _: Value = self.done(Method::PUT, &path, Some(value(&model.to_register()))).await;
        }
        for gateway in scenario.gateways.iter().filter(|g| !g.stranger) {
            let _: Value = self.post("gateways", value(&gateway.to_register())).await;
        }
        for device in scenario.devices.iter().filter(|d| !d.stranger) {
            let _: Value = self.post("devices", value(&device.to_register())).await;
        }
    }

    /// Signs `heron` in, by the way a person takes.
    pub fn sign_heron_in(&self) {
        self.sign_heron_in_with(&[]);
    }

    /// The same with further options.
    pub fn sign_heron_in_with(&self, options: &[&str]) {
        let mut heron = self
            .heron_command(&[&["sign-in", &self.http, "--name", "owner", "--password-stdin"], options].concat())
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .spawn()
            .expect("heron runs");
        writeln!(heron.stdin.take().expect("piped"), "{}", self.password).expect("heron reads");
        assert!(heron.wait().expect("heron ends").success());
    }

    /// Runs `heron` with a sign-in of its own.
    pub fn heron(&self, args: &[&str]) -> Output {
        self.heron_command(args).output().expect("heron runs")
    }

    /// The same, not started yet.
    pub fn heron_command(&self, args: &[&str]) -> Command {
        let mut command = Command::new(program("heron"));
        command.args(args).env("HERON_CONFIG", self.data.path().join("client")).env_remove("HERON_TOKEN");
        command.stdin(Stdio::null());
        command
    }

    /// What `heron` prints when it has to succeed.
    pub fn heron_says(&self, args: &[&str]) -> String {
        let out = self.heron(args);
        assert!(out.status.success(), "heron {args:?}: {}", String::from_utf8_lossy(&out.stderr));
        String::from_utf8(out.stdout).expect("text")
    }

    /// The same, with a line on its standard input.
    pub fn heron_fed(&self, args: &[&str], line: &str) -> String {
        let mut heron = self.heron_command(args);
        let mut heron =
            heron.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("heron runs");
        writeln!(heron.stdin.take().expect("piped"), "{line}").expect("heron reads");
        let out = heron.wait_with_output().expect("heron ends");
        assert!(out.status.success(), "heron {args:?}: {}", String::from_utf8_lossy(&out.stderr));
        String::from_utf8(out.stdout).expect("text")
    }

    /// What `heron --json` prints.
    pub fn heron_json<T: DeserializeOwned>(&self, args: &[&str]) -> T {
        let text = self.heron_says(&[args, &["--json"]].concat());
        serde_json::from_str(&text).unwrap_or_else(|e| panic!("heron {args:?}: {e} in {text}"))
    }
}

fn value(body: &impl serde::Serialize) -> Value {
    serde_json::to_value(body).expect("plain values")
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.process.kill();
        let _ = self.process.wait();
        drop(self.mounted.take());
        if !std::thread::panicking() {
            self.check_messages();
        }
    }
}

impl Service {
    /// The last messages of each test are as their schemas say, whatever the test was about.
    fn check_messages(&self) {
        let last = "SELECT body FROM messages ORDER BY id DESC LIMIT 200";
        let bodies = self.mariadb.ask(&self.database, last).unwrap_or_default();
        // A body that a test has spoilt is no JSON.
        for body in bodies.lines().filter_map(|line| serde_json::from_str(line).ok()) {
            assert_eq!(crate::schemas::wrong_with(&body), None);
        }
    }
}
