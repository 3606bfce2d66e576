//! The options of `heron bench`.

use std::net::SocketAddr;

use clap::{Args, Subcommand};

#[derive(Subcommand)]
pub(crate) enum BenchVerb {
    /// Uplinks a second that the service stores, how long that takes, and how soon it answers.
    ///
    /// Devices and gateways of this command's own making send over UDP: first as fast as the service stores
    /// what they send, then at a steady rate with confirmed uplinks among them. The service must be one made
    /// for this; `scripts/bench` starts one.
    Ingest(IngestArgs),
    /// What connected gateways cost, and how long until all are back that were dropped at once.
    ///
    /// Gateways of this command's own making connect over UDP and over TLS, keep alive and report, and hear nothing.
    /// The service must be one made for this; `scripts/bench gateways` starts one.
    Gateways(GatewaysArgs),
    /// How long it takes to register many devices from a file, and until a page of their list is there.
    ///
    /// The service must be one made for this; `scripts/bench api` starts one.
    Api(ApiArgs),
    /// How long charts of what is stored take. `scripts/bench history` makes a year of it first.
    Charts(ChartsArgs),
}

#[derive(Args)]
pub(crate) struct ChartsArgs {
    /// The reading's name.
    #[arg(long, default_value = "water_level")]
    pub reading: String,
    /// Charts of each kind.
    #[arg(long, default_value_t = 100, value_parser = clap::value_parser!(u32).range(1..=10_000))]
    pub charts: u32,
}

#[derive(Args)]
pub(crate) struct ApiArgs {
    /// Devices in the file.
    #[arg(long, default_value_t = 10_000, value_parser = clap::value_parser!(u32).range(1..=20_000))]
    pub devices: u32,
    /// Pages asked for of each kind.
    #[arg(long, default_value_t = 200, value_parser = clap::value_parser!(u32).range(1..=10_000))]
    pub pages: u32,
}

#[derive(Args)]
pub(crate) struct GatewaysArgs {
    /// Where the service takes the UDP packet-forwarder protocol.
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:1700")]
    pub gateways_call: SocketAddr,
    /// Gateways connected by UDP.
    #[arg(long, default_value_t = 1000, value_parser = up_to_2000)]
    pub by_udp: usize,
    /// Gateways connected by WebSocket meanwhile.
    #[arg(long, default_value_t = 1000, value_parser = up_to_2000)]
    pub by_websocket: usize,
    /// Gateways that are dropped at once and come back, by WebSocket.
    #[arg(long, default_value_t = 2000, value_parser = up_to_2000)]
    pub storm: usize,
    /// How long they are only there.
    #[arg(long, default_value_t = 60, value_parser = clap::value_parser!(u64).range(1..=3600))]
    pub seconds: u64,
}

fn up_to_2000(text: &str) -> Result<usize, String> {
    text.parse().ok().filter(|n| (1..=2000).contains(n)).ok_or_else(|| "1 to 2000".into())
}

#[derive(Args)]
pub(crate) struct IngestArgs {
    /// Where the service takes the UDP packet-forwarder protocol.
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:1700")]
    pub gateways_call: SocketAddr,
    /// Devices that take turns.
    #[arg(long, default_value_t = 10_000, value_parser = clap::value_parser!(u32).range(1..=1_000_000))]
    pub devices: u32,
    /// Gateways that hear each uplink.
    #[arg(long, default_value_t = 3, value_parser = clap::value_parser!(u8).range(1..=32))]
    pub gateways: u8,
    /// How long each part takes.
    #[arg(long, default_value_t = 30, value_parser = clap::value_parser!(u64).range(1..=3600))]
    pub seconds: u64,
    /// Uplinks a second in the steady part.
    #[arg(long, value_name = "UPLINKS", default_value_t = 1000.0, value_parser = positive)]
    pub rate: f64,
    /// Devices in a fleet of their own whose decoder never ends. They send 50 uplinks a second in a third part, which
    /// is like the steady one otherwise.
    #[arg(long, value_name = "DEVICES", default_value_t = 0, value_parser = clap::value_parser!(u32).range(0..=1000))]
    pub endless_decoders: u32,
    /// Outlets that deliver meanwhile to sinks of this command's own; then one more catches up with all that was stored. The
    /// service needs `--outlet-hosts 127.0.0.1`.
    #[arg(long, default_value_t = 0, value_parser = clap::value_parser!(u32).range(0..=100))]
    pub outlets: u32,
    /// A broker on this machine that every second outlet publishes at, like mqtt://127.0.0.1:1883; if there is none, all deliver
    /// to a web server.
    #[arg(long, value_name = "ADDRESS", requires = "outlets")]
    pub broker: Option<String>,
    /// Rows a second that the database takes by itself, as `herond insert-rate` tells; for comparison.
    #[arg(long, value_name = "ROWS", value_parser = positive)]
    pub raw_rows_per_s: Option<f64>,
}

fn positive(text: &str) -> Result<f64, String> {
    match text.parse::<f64>() {
        Ok(number) if number > 0.0 && number.is_finite() => Ok(number),
        _ => Err("a number above 0".into()),
    }
}
