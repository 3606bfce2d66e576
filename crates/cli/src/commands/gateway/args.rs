//! Gateways on the command line.

use std::path::PathBuf;

use api::gateway::Protocol;
use clap::{Args, Subcommand};

use crate::args::ListArgs;
use lorawan::region::Region;

use crate::complete;

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
    List(ListArgs),
    /// Show one.
    Show {
        /// Its name or EUI.
        #[arg(add = complete::gateways())]
        gateway: String,
    },
    /// Register one.
    Add(GatewayAddArgs),
    /// Register a stranger that calls, in the region whose channels it hears.
    Adopt(GatewayAdoptArgs),
    /// Register many from a CSV file; what becomes of each row is shown first.
    Import(ImportArgs),
    /// Change one; what is not given stays.
    Set(Box<GatewaySetArgs>),
    /// Remove one; its EUI can be used again.
    Remove {
        /// Its name or EUI.
        #[arg(add = complete::gateways())]
        gateway: String,
    },
    /// Make one's connection kit: all it needs to connect, with new credentials, and a sheet in plain words.
    Kit(KitArgs),
    /// Credentials by which gateways get in: tokens and certificates.
    Credential {
        #[command(subcommand)]
        verb: CredentialVerb,
    },
    /// Firmware that gateways fetch by themselves.
    Firmware {
        #[command(subcommand)]
        verb: FirmwareVerb,
    },
    /// List events of one: connections, refusals with their reason, restarts, changes.
    Events {
        /// Its name or EUI.
        #[arg(add = complete::gateways())]
        gateway: String,
        /// How many at most, the latest first: 1 to 500.
        #[arg(long, value_name = "N", default_value_t = 30, value_parser = clap::value_parser!(u32).range(1..=500))]
        limit: u32,
    },
    /// Show what one hears of the estate's last uplinks: by channel and data rate, and what it alone hears.
    Reception {
        /// Its name or EUI.
        #[arg(add = complete::gateways())]
        gateway: String,
    },
    /// Show how much of each of the last 30 days one was listening.
    Uptime {
        /// Its name or EUI.
        #[arg(add = complete::gateways())]
        gateway: String,
    },
    /// List gateways that call but are not registered. Their frames are not accepted.
    Strangers {
        /// What you know of a gateway that is elsewhere: its EUI, the MAC address on its label, or the address that it calls from.
        #[arg(long, value_name = "WHAT")]
        claim: Option<String>,
    },
}

#[derive(Subcommand)]
pub(crate) enum CredentialVerb {
    /// List a gateway's credentials, without their secrets; or all that end soon.
    List {
        /// The gateway's name or EUI.
        #[arg(required_unless_present = "ending", add = complete::gateways())]
        gateway: Option<String>,
        /// Of all gateways, those that expire within 30 days or have expired, and the service's own certificate.
        #[arg(long, conflicts_with = "gateway")]
        ending: bool,
    },
    /// Make a gateway a credential; its secret is printed here, and can never be shown again.
    Add {
        /// The gateway's name or EUI.
        #[arg(add = complete::gateways())]
        gateway: String,
        /// What it is for: traffic, or updates.
        #[arg(long = "for", value_name = "PURPOSE", default_value = "traffic", value_parser = ["traffic", "updates"])]
        purpose: String,
        #[command(flatten)]
        secret: SecretArgs,
    },
    /// Replace a gateway's credentials: it fetches new ones when it next asks, and the old ones end when it
    /// first uses them.
    Replace {
        /// The gateway's name or EUI.
        #[arg(add = complete::gateways())]
        gateway: String,
    },
    /// Revoke a credential; a gateway connected with it is cut off.
    Remove {
        /// The gateway's name or EUI.
        #[arg(add = complete::gateways())]
        gateway: String,
        /// The credential, as `heron gateway credential list` names it.
        credential: String,
    },
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
    #[arg(long, value_name = "DAYS")]
    pub days: Option<u16>,
}

#[derive(Args)]
pub(crate) struct KitArgs {
    /// Its name or EUI.
    #[arg(add = complete::gateways())]
    pub gateway: String,
    /// Let the gateway fetch its credentials for traffic, and all later changes, by itself.
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
    #[arg(long, value_name = "TEXT")]
    pub description: Option<String>,
    /// Latitude in degrees, north positive.
    #[arg(long, value_name = "DEG", allow_negative_numbers = true)]
    pub latitude_deg: Option<f64>,
    /// Longitude in degrees, east positive.
    #[arg(long, value_name = "DEG", allow_negative_numbers = true)]
    pub longitude_deg: Option<f64>,
    /// Altitude above the sea in metres.
    #[arg(long, value_name = "M", allow_negative_numbers = true)]
    pub altitude_m: Option<f64>,
    /// Antenna gain in dBi; 2.15 if not given.
    #[arg(long, value_name = "DBI", allow_negative_numbers = true)]
    pub antenna_gain_dbi: Option<f32>,
    /// Loss of the cable to the antenna in dB; none if not given.
    #[arg(long, value_name = "DB")]
    pub cable_loss_db: Option<f32>,
    /// The region whose limits it keeps; if not given, that of the channels it hears, or else EU868.
    #[arg(long)]
    pub region: Option<Region>,
    /// Uplink channels it is to listen on, as runs: `8-15, 65`; as many as it reaches if not given.
    #[arg(long)]
    pub channels: Option<String>,
    /// How it connects: udp or websocket; if not given, as it connects already, or else udp.
    #[arg(long)]
    pub protocol: Option<Protocol>,
    /// Take its UDP datagrams from this address or network only, such as 192.0.2.7 or 192.0.2.0/24; `anywhere` lifts it.
    #[arg(long, value_name = "ADDRESS")]
    pub udp_source: Option<String>,
    /// Let other estates' devices be heard through it: `--open-to-others`, or `--open-to-others=false`.
    #[arg(long, value_name = "BOOL", num_args = 0..=1, require_equals = true, default_missing_value = "true")]
    pub open_to_others: Option<bool>,
    /// Let it send class B beacons, as long as it has GPS time: `--beacons`, or `--beacons=false`.
    #[arg(long, value_name = "BOOL", num_args = 0..=1, require_equals = true, default_missing_value = "true")]
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
    /// Offer one to a gateway, once, when it next asks for updates.
    Offer {
        /// The gateway's name or EUI.
        #[arg(add = complete::gateways())]
        gateway: String,
        /// The firmware, as `heron gateway firmware list` names it; `none` takes an offer back.
        firmware: String,
    },
    /// Remove one; it is no longer offered to gateways.
    Remove {
        /// The firmware, as `heron gateway firmware list` names it.
        firmware: String,
    },
}

#[derive(Args)]
pub(crate) struct GatewaySetArgs {
    /// Its name or EUI.
    #[arg(add = complete::gateways())]
    pub gateway: String,
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
