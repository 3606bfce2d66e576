//! Gateways on the command line.

use std::path::PathBuf;

use api::gateway::Protocol;
use clap::{Args, Subcommand};
use lorawan::region::Region;

/// The verbs of `heron gateway`.
#[derive(Subcommand)]
pub(crate) enum GatewayVerb {
    #[command(flatten)]
    Remote(RemoteGatewayVerb),
    #[command(flatten)]
    Local(LocalGatewayVerb),
}

/// Those that need no service.
#[derive(Subcommand)]
pub(crate) enum LocalGatewayVerb {
    /// How a concentrator is set to listen on channels of a region: two radios, and chains behind them.
    Layout(LayoutArgs),
}

/// Those that ask the service.
#[derive(Subcommand)]
pub(crate) enum RemoteGatewayVerb {
    /// List gateways with their state.
    List,
    /// Show one.
    Show { eui: String },
    /// Register one.
    Add(GatewayAddArgs),
    /// Register many from a CSV file; what becomes of each row is shown first.
    Import(ImportArgs),
    /// Change one; what is not given stays.
    Set(Box<GatewaySetArgs>),
    /// Register a stranger that calls, in the region whose channels it hears.
    Adopt(GatewayAdoptArgs),
    /// Make one's connection kit: all it needs to connect, with new credentials, and a sheet in plain words.
    Kit(KitArgs),
    /// List one's credentials: tokens and certificates, without their secrets.
    Credentials { eui: String },
    /// Make one a credential; its secret is printed here, and can never be shown again.
    Issue {
        eui: String,
        /// What it is for: traffic, or updates over CUPS.
        #[arg(long = "for", value_name = "PURPOSE", default_value = "traffic", value_parser = ["traffic", "updates"])]
        purpose: String,
        #[command(flatten)]
        secret: SecretArgs,
    },
    /// Revoke a credential; a gateway connected with it is cut off.
    Revoke {
        eui: String,
        /// The credential, as `heron gateway credentials` names it.
        credential: String,
    },
    /// Replace one's credentials over CUPS: it fetches new ones when it next asks, and the old ones end when it first uses them.
    Replace { eui: String },
    /// Credentials that expire within 30 days or have expired, and the service's own certificate.
    Endings,
    /// Firmware that gateways fetch over CUPS.
    Firmware {
        #[command(subcommand)]
        verb: FirmwareVerb,
    },
    /// Events of one: connections, refusals with their reason, restarts, changes.
    Events {
        eui: String,
        /// How many at most, the latest first.
        #[arg(long, default_value_t = 30, value_parser = clap::value_parser!(u32).range(1..=500))]
        limit: u32,
    },
    /// What one hears, of the estate's last uplinks: by channel and data rate, and what it alone hears.
    Reception { eui: String },
    /// How much of each of the last 30 days one was listening.
    Uptime { eui: String },
    /// Remove one; its EUI can be used again.
    Remove { eui: String },
    /// List gateways that call but are not registered. Their frames are not accepted.
    Strangers,
}

#[derive(Args)]
pub(crate) struct LayoutArgs {
    /// The region.
    pub region: Region,
    /// Uplink channels, as runs: `8-15, 65`; as many as one concentrator reaches if not given.
    #[arg(long)]
    pub channels: Option<String>,
}

#[derive(Args)]
pub(crate) struct ImportArgs {
    /// The file: a line of column names, then a gateway a line; `-` for standard input.
    pub file: PathBuf,
    /// Only show what would become of each row.
    #[arg(long = "dry-run")]
    pub preview: bool,
    /// Register the good rows even if others are not.
    #[arg(long)]
    pub skip_bad: bool,
}

#[derive(Args)]
pub(crate) struct SecretArgs {
    /// A certificate with its key, instead of a token.
    #[arg(long)]
    pub certificate: bool,
    /// For how many days it is good; 730 if not given.
    #[arg(long)]
    pub days: Option<u16>,
}

#[derive(Args)]
pub(crate) struct KitArgs {
    pub eui: String,
    /// Let the gateway fetch its credentials for traffic, and all later changes, over CUPS.
    #[arg(long)]
    pub updates: bool,
    #[command(flatten)]
    pub secret: SecretArgs,
    /// The archive to write; connection-kit-EUI.zip if not given.
    #[arg(long = "output", short = 'o', value_name = "FILE")]
    pub into: Option<PathBuf>,
}

#[derive(Args)]
pub(crate) struct GatewayAddArgs {
    /// Its EUI, in any pasted form.
    pub eui: String,
    #[command(flatten)]
    pub about: GatewayArgs,
}

#[derive(Args)]
pub(crate) struct GatewayAdoptArgs {
    /// Its EUI; the only stranger if not given.
    pub eui: Option<String>,
    #[command(flatten)]
    pub about: GatewayArgs,
}

#[derive(Args)]
pub(crate) struct GatewayArgs {
    /// Its name.
    #[arg(long)]
    pub name: String,
    #[command(flatten)]
    pub about: GatewayAboutArgs,
}

#[derive(Args)]
pub(crate) struct GatewayAboutArgs {
    /// Description, in free text: where the key hangs, whom to call.
    #[arg(long)]
    pub description: Option<String>,
    /// Latitude in degrees, north positive.
    #[arg(long, allow_negative_numbers = true)]
    pub latitude_deg: Option<f64>,
    /// Longitude in degrees, east positive.
    #[arg(long, allow_negative_numbers = true)]
    pub longitude_deg: Option<f64>,
    /// Altitude above the sea in metres.
    #[arg(long, allow_negative_numbers = true)]
    pub altitude_m: Option<f64>,
    /// Antenna gain in dBi; 2.15 if not given.
    #[arg(long, allow_negative_numbers = true)]
    pub antenna_gain_dbi: Option<f32>,
    /// Loss of the cable to the antenna in dB; none if not given.
    #[arg(long)]
    pub cable_loss_db: Option<f32>,
    /// The region whose limits it keeps; if not given, that of the channels it hears, or else EU868.
    #[arg(long)]
    pub region: Option<Region>,
    /// Uplink channels it is to listen on, as runs: `8-15, 65`; as many as it reaches if not given.
    #[arg(long)]
    pub channels: Option<String>,
    /// How it connects: udp or lns; if not given, as it connects already, or else udp.
    #[arg(long)]
    pub protocol: Option<Protocol>,
    /// Take its UDP datagrams from this address or network only, such as 192.0.2.7 or 192.0.2.0/24; `anywhere` lifts it.
    #[arg(long)]
    pub udp_source: Option<String>,
    /// Let other estates' devices be heard through it: `--open-to-others`, or `--open-to-others=false`.
    #[arg(long, num_args = 0..=1, require_equals = true, default_missing_value = "true")]
    pub open_to_others: Option<bool>,
    /// Let it send class B beacons, as long as it has GPS time: `--beacons`, or `--beacons=false`.
    #[arg(long, num_args = 0..=1, require_equals = true, default_missing_value = "true")]
    pub beacons: Option<bool>,
}

#[derive(Subcommand)]
pub(crate) enum FirmwareVerb {
    /// List what is kept.
    List,
    /// Store one, after its signature is checked.
    Add {
        /// The firmware's file.
        file: PathBuf,
        /// Its name; the file's if not given.
        #[arg(long)]
        name: Option<String>,
        /// The maker's signature: ECDSA over P-256 and the SHA-512 of the file, DER.
        #[arg(long, value_name = "FILE")]
        signature: PathBuf,
        /// The maker's public key, PEM.
        #[arg(long, value_name = "FILE")]
        key: PathBuf,
        /// CRC-32 by which gateways name that key; that of its DER if not given.
        #[arg(long)]
        key_crc: Option<u32>,
    },
    /// Remove one; it is no longer offered to gateways.
    Remove { firmware: String },
    /// Offer one to a gateway, once, when it next asks; without one, none.
    Hand { eui: String, firmware: Option<String> },
}

#[derive(Args)]
pub(crate) struct GatewaySetArgs {
    /// Its EUI.
    pub eui: String,
    /// Its name.
    #[arg(long)]
    pub name: Option<String>,
    /// Put it where its own GPS says it stands.
    #[arg(long, conflicts_with_all = ["latitude_deg", "longitude_deg"])]
    pub place_by_gps: bool,
    /// Ask it again to send on the frequencies that it has refused: its own settings were put right.
    #[arg(long)]
    pub forget_refused: bool,
    #[command(flatten)]
    pub about: GatewayAboutArgs,
}
