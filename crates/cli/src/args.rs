//! Every command and option, once, with its help.

use std::net::SocketAddr;
use std::path::PathBuf;

mod bench;
mod catalogue;
mod decoder;
mod device;
mod gateway;
mod group;
mod model;
mod outbox;
mod people;
mod profile;
pub mod radio;
mod readings;

pub use bench::{ApiArgs, BenchVerb, ChartsArgs, GatewaysArgs, IngestArgs};
pub use catalogue::{CatalogueImportArgs, CatalogueVerb};
pub use decoder::{DecodeAnewArgs, DecoderReadArgs, DecoderTryArgs, DecoderVerb, DecoderWriteArgs, KeepTestArgs};
pub use device::{
    DeviceAddArgs, DeviceAdoptArgs, DeviceImportArgs, DeviceSetArgs, DeviceVerb, KeyForms, KeyOrder, LabelsArgs,
};
pub use gateway::{
    FirmwareVerb, GatewayAboutArgs, GatewayArgs, GatewayVerb, ImportArgs, KitArgs, LayoutArgs, SecretArgs,
};
pub use group::GroupVerb;
pub use model::ModelVerb;
pub use outbox::{CargoArgs, MoveTo, OutboxAddArgs, OutboxVerb};
pub use people::{AccountVerb, AuditArgs, Kind, PeopleVerb, ShareArgs, TakeArgs, TokenVerb};
pub use profile::ProfileVerb;
pub use readings::{ChartArgs, ExportArgs, ExportForm, ReadingsVerb, RehearseArgs};

use clap::{Args, Parser, Subcommand};
use lorawan::region::Region;

/// Keen Heron's client: gateways, devices, downlinks and live traffic of a LoRaWAN network.
#[derive(Parser)]
#[command(name = "heron", version)]
pub struct Cli {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub noun: Noun,
}

#[derive(Args, Clone)]
pub struct Global {
    /// Print JSON for programs instead of tables for people.
    #[arg(long, global = true)]
    pub json: bool,
    /// Do destructive steps without asking.
    #[arg(long, global = true)]
    pub yes: bool,
    /// The service's address; that of the last sign-in if not given.
    #[arg(long, global = true, env = "HERON_URL", value_name = "URL")]
    pub url: Option<String>,
    /// A token to use instead of the last sign-in.
    #[arg(long, global = true, env = "HERON_TOKEN", hide_env_values = true)]
    pub token: Option<String>,
    /// The estate; the only one if there is only one.
    #[arg(long, global = true, env = "HERON_ESTATE")]
    pub estate: Option<String>,
    /// A certificate to check the service's own one against, PEM; that of the last sign-in if not given.
    #[arg(long, global = true, env = "HERON_TRUST", value_name = "FILE")]
    pub trust: Option<PathBuf>,
    /// Folder for the sign-in.
    #[arg(long, global = true, env = "HERON_CONFIG", value_name = "FOLDER")]
    pub config: Option<PathBuf>,
}

#[derive(Subcommand)]
pub enum Noun {
    /// Sign in to a service; the password is asked for.
    #[command(visible_alias = "login")]
    SignIn(SignInArgs),
    /// End the sign-in.
    #[command(visible_alias = "logout")]
    SignOut,
    /// One's own account: sign-ins, password, two-step sign-in.
    Account {
        #[command(subcommand)]
        verb: AccountVerb,
    },
    /// Members of the estate, invitations, and what is shared with others.
    People {
        #[command(subcommand)]
        verb: PeopleVerb,
    },
    /// Access tokens for programs.
    Token {
        #[command(subcommand)]
        verb: TokenVerb,
    },
    /// Who did what, from where, and what it changed.
    Audit(AuditArgs),
    /// Estates one belongs to.
    Estate {
        #[command(subcommand)]
        verb: EstateVerb,
    },
    /// What needs attention, worst first.
    Watch,
    /// Find devices, gateways and strangers by a part of a name, an EUI, an address or a tag.
    Find {
        /// What to look for.
        #[arg(required = true)]
        text: Vec<String>,
    },
    /// Gateways, and strangers that call without being registered.
    Gateway {
        #[command(subcommand)]
        verb: GatewayVerb,
    },
    /// Fleets: devices with one purpose.
    Fleet {
        #[command(subcommand)]
        verb: FleetVerb,
    },
    /// Models: makes of device, with their decoder.
    Model {
        #[command(subcommand)]
        verb: ModelVerb,
    },
    /// Decoders: what turns payloads into readings, and values into payloads.
    Decoder {
        #[command(subcommand)]
        verb: DecoderVerb,
    },
    /// Readings: what they are now, and how they were.
    Readings {
        #[command(subcommand)]
        verb: ReadingsVerb,
    },
    /// Put bytes through decoding and all that follows as if they had been received. They are marked as rehearsed, and touch
    /// no counter, ledger or reading.
    Rehearse(Box<RehearseArgs>),
    /// The catalogue: models as folders of text files.
    Catalogue {
        #[command(subcommand)]
        verb: CatalogueVerb,
    },
    /// Radio profiles that devices stand on.
    Profile {
        #[command(subcommand)]
        verb: ProfileVerb,
    },
    /// Devices.
    Device {
        #[command(subcommand)]
        verb: DeviceVerb,
    },
    /// Multicast groups: one downlink for many devices of class B or C.
    Group {
        #[command(subcommand)]
        verb: GroupVerb,
    },
    /// Downlinks waiting for a device.
    Outbox {
        #[command(subcommand)]
        verb: OutboxVerb,
    },
    /// What was heard and sent.
    Traffic(TrafficArgs),
    /// Take a frame apart: fields, MAC commands, MIC and payload.
    ///
    /// Without keys, the service is asked, which tries those of the registered device. With keys, or
    /// without a sign-in, everything is done here and nothing leaves the machine.
    Frame(Box<FrameArgs>),
    /// What a region allows; without a name, all regions.
    Region {
        /// The region's common name, such as EU868.
        #[arg(value_name = "NAME")]
        region: Option<Region>,
    },
    /// What messages cost in airtime.
    Airtime {
        #[command(subcommand)]
        verb: AirtimeVerb,
    },
    /// What came in on the gateways' port, and what was dropped, with the reason.
    Intake,
    /// What a service can take, measured.
    Bench {
        #[command(subcommand)]
        verb: BenchVerb,
    },
    /// Carry a gateway that speaks UDP over MQTT, beside it and for it, keeping frames while the link is down.
    Relay(RelayArgs),
    /// Stand-in devices and gateways from a folder of text files.
    Scenario {
        #[command(subcommand)]
        verb: ScenarioVerb,
    },
    /// Print a completion script for a shell.
    Completions { shell: clap_complete::Shell },
}

#[derive(Args)]
pub struct RelayArgs {
    /// The gateway's connection kit.
    #[arg(long, value_name = "FILE")]
    pub kit: PathBuf,
    /// Where the gateway's packet forwarder calls.
    #[arg(long, default_value = "127.0.0.1:1700", value_name = "ADDRESS")]
    pub listen: SocketAddr,
    /// Messages kept while the link is down; the oldest gives way.
    #[arg(long, default_value_t = 10_000, value_parser = clap::value_parser!(u32).range(1..=1_000_000))]
    pub keep: u32,
}

#[derive(Args)]
pub struct SignInArgs {
    /// The service's address.
    #[arg(value_name = "URL", default_value = "http://127.0.0.1:8680")]
    pub service: String,
    /// The account's name.
    #[arg(long, default_value = "owner")]
    pub name: String,
    /// Read the password from standard input instead of asking.
    #[arg(long)]
    pub password_stdin: bool,
    /// The six digits of two-step sign-in, or a recovery code; asked for if they are wanted.
    #[arg(long, value_name = "CODE")]
    pub code: Option<String>,
}

#[derive(Subcommand)]
pub enum EstateVerb {
    /// List those one belongs to, or where something is shared with one.
    List,
    /// List all of the installation, for whoever looks after it.
    All,
    /// Found an estate, for whoever looks after the installation; its owner's invitation is printed once.
    Found {
        /// Its short name: lower-case letters, digits and dashes.
        slug: String,
        /// Its name; the short name if not given.
        #[arg(long)]
        name: Option<String>,
        /// Whom the owner's invitation is for, in your own words.
        #[arg(long, value_name = "WHOM")]
        owner: String,
    },
}

#[derive(Subcommand)]
pub enum FleetVerb {
    /// List fleets.
    List,
    /// Show one.
    Show { slug: String },
    /// Make one.
    Add {
        /// Its short name: lower-case letters, digits and dashes.
        slug: String,
        /// Its name; the short name if not given.
        #[arg(long)]
        name: Option<String>,
        #[command(flatten)]
        limits: FleetLimitArgs,
    },
    /// Set what each of its devices may use in any 24 hours; a limit that is not given is lifted.
    Limit {
        slug: String,
        #[command(flatten)]
        limits: FleetLimitArgs,
    },
    /// Set for how many days its history is kept; what is not given is kept for ever.
    Keep {
        slug: String,
        /// Every value of a reading.
        #[arg(long, value_name = "DAYS")]
        values: Option<u32>,
        /// Summaries of hours and days.
        #[arg(long, value_name = "DAYS")]
        summaries: Option<u32>,
        /// Messages: frames as they were heard and sent.
        #[arg(long, value_name = "DAYS")]
        messages: Option<u32>,
    },
    /// Give it the AppKey that its devices ship with, which is asked for; devices are registered with --app-key fleet.
    Key {
        slug: String,
        /// The key; asked for if not given, so that it stays out of the shell's history.
        #[arg(long, env = "HERON_APP_KEY", hide_env_values = true)]
        app_key: Option<String>,
        /// Take it away instead.
        #[arg(long, conflicts_with = "app_key")]
        remove: bool,
    },
    /// Remove one that has no devices.
    Remove { slug: String },
}

#[derive(Args)]
pub struct FleetLimitArgs {
    /// Airtime of a device's uplinks a day: seconds, or with a unit.
    #[arg(long, value_name = "AIRTIME", value_parser = seconds)]
    pub airtime_a_day: Option<f64>,
    /// Downlinks to a device a day.
    #[arg(long, value_name = "N")]
    pub downlinks_a_day: Option<u32>,
}

#[derive(Args)]
pub struct TrafficArgs {
    /// Go on with what happens from now on.
    #[arg(long)]
    pub follow: bool,
    /// Only this device: its DevEUI or name.
    #[arg(long)]
    pub device: Option<String>,
    /// Only these types, separated by commas: uplink, join, refused, downlink, notice.
    #[arg(long = "type", value_name = "TYPES")]
    pub kind: Option<String>,
    /// Show each frame's bytes as well, for `heron frame`.
    #[arg(long)]
    pub bytes: bool,
    /// How many past messages to show, at most 500.
    #[arg(long, default_value_t = 20)]
    pub limit: u32,
}

#[derive(Args)]
pub struct FrameArgs {
    /// The PHYPayload in hex, in any pasted form, or in base64; `-` reads it from standard input.
    #[arg(value_name = "HEX|BASE64")]
    pub frame: String,
    /// Try the keys of this registered device: its DevEUI or name.
    #[arg(long)]
    pub device: Option<String>,
    /// Say what data rates and channels mean in this region.
    #[arg(long)]
    pub region: Option<Region>,
    /// The frame's full 32-bit counter; if it is not given, likely ones and then all are tried.
    #[arg(long)]
    pub counter: Option<u32>,
    /// The last counter accepted in this direction.
    #[arg(long)]
    pub last_counter: Option<u32>,
    /// AppKey, for frames of a join.
    #[arg(long, value_name = "KEY", help_heading = "Root keys")]
    pub app_key: Option<String>,
    /// NwkKey (1.1), for frames of a join.
    #[arg(long, value_name = "KEY", help_heading = "Root keys")]
    pub nwk_key: Option<String>,
    /// DevEUI, for a join-accept of 1.1.
    #[arg(long, value_name = "EUI", help_heading = "Root keys")]
    pub dev_eui: Option<String>,
    /// JoinEUI, for a join-accept of 1.1.
    #[arg(long, value_name = "EUI", help_heading = "Root keys")]
    pub join_eui: Option<String>,
    /// DevNonce or RJcount that a join-accept of 1.1 answers; all are tried if it is not given.
    #[arg(long, value_name = "N", help_heading = "Root keys")]
    pub dev_nonce: Option<u16>,
    /// NwkSKey of a session of 1.0.x.
    #[arg(long, value_name = "KEY", help_heading = "Session keys")]
    pub nwk_s_key: Option<String>,
    /// AppSKey.
    #[arg(long, value_name = "KEY", help_heading = "Session keys")]
    pub app_s_key: Option<String>,
    /// FNwkSIntKey of a session of 1.1.
    #[arg(long, value_name = "KEY", help_heading = "Session keys")]
    pub f_nwk_s_int_key: Option<String>,
    /// SNwkSIntKey of a session of 1.1.
    #[arg(long, value_name = "KEY", help_heading = "Session keys")]
    pub s_nwk_s_int_key: Option<String>,
    /// NwkSEncKey of a session of 1.1.
    #[arg(long, value_name = "KEY", help_heading = "Session keys")]
    pub nwk_s_enc_key: Option<String>,
    /// Low half of the counter that the frame acknowledges.
    #[arg(long, value_name = "N", help_heading = "What a MIC of 1.1 covers beside the frame")]
    pub conf_f_cnt: Option<u16>,
    /// Data rate index of the uplink; searched if not given.
    #[arg(long, value_name = "N", help_heading = "What a MIC of 1.1 covers beside the frame")]
    pub data_rate: Option<u8>,
    /// Channel index of the uplink; searched if not given.
    #[arg(long, value_name = "N", help_heading = "What a MIC of 1.1 covers beside the frame")]
    pub channel: Option<u8>,
}

#[derive(Subcommand)]
pub enum AirtimeVerb {
    /// Who has used how much: by gateway, device and sub-band; in the last hour and the last day.
    Ledger {
        /// Only one of the accounts.
        #[arg(long, value_enum)]
        by: Option<LedgerBy>,
    },
    /// Airtime, duty cycle and lawful interval of a message, for all data rates of a region.
    Calc(AirtimeCalcArgs),
}

#[derive(Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum LedgerBy {
    /// What each gateway sent, with a day drawn as a strip.
    Gateway,
    /// Devices that are on air most, and those that cost gateways most.
    Device,
    /// All of them together.
    SubBand,
}

#[derive(Args)]
pub struct AirtimeCalcArgs {
    /// Length of the payload in bytes, 0 to 242.
    #[arg(long, value_name = "BYTES")]
    pub payload: u32,
    /// The region.
    #[arg(long, default_value = "EU868")]
    pub region: Region,
    /// Time from one message to the next: seconds, or with a unit as in 90s, 15min, 2h, 1d.
    #[arg(long, value_parser = seconds)]
    pub interval: Option<f64>,
    /// A limit of airtime a day that you set yourself: seconds, or with a unit.
    #[arg(long, value_name = "AIRTIME", value_parser = seconds)]
    pub daily_airtime: Option<f64>,
    /// MAC commands in the header, in bytes, 0 to 15.
    #[arg(long, value_name = "BYTES", default_value_t = 0)]
    pub fopts: u32,
    /// How often each message is sent (NbTrans), 1 to 15.
    #[arg(long, default_value_t = 1)]
    pub times: u32,
    /// Count with a repeater between device and gateway.
    #[arg(long)]
    pub repeater: bool,
    /// The network has switched the dwell-time limit off, where the region lets it.
    #[arg(long)]
    pub dwell_off: bool,
}

/// A duration in seconds, or with a unit.
fn seconds(text: &str) -> Result<f64, String> {
    let units = [("ms", 0.001), ("min", 60.0), ("s", 1.0), ("h", 3600.0), ("d", 86_400.0)];
    let text = text.trim();
    let unit = units.iter().find_map(|(unit, s)| text.strip_suffix(unit).map(|number| (number, *s)));
    let (number, unit) = unit.unwrap_or((text, 1.0));
    match number.trim().parse::<f64>() {
        Ok(value) if value.is_finite() && value > 0.0 => Ok(value * unit),
        _ => Err("a time above 0 is needed: seconds, or with one of the units ms, s, min, h, d".into()),
    }
}

#[derive(Subcommand)]
pub enum ScenarioVerb {
    /// Register what the scenario names and is not registered yet.
    Register {
        folder: PathBuf,
        /// Where to put connection kits of gateways that need one, and have none there yet.
        #[arg(long, value_name = "FOLDER")]
        kits: Option<PathBuf>,
    },
    /// Run its stand-in gateways and devices until interrupted.
    Run {
        folder: PathBuf,
        /// Where its gateways call: the service's UDP port.
        #[arg(long, default_value = "127.0.0.1:1700", value_name = "ADDRESS")]
        gateways_call: SocketAddr,
        /// Where the connection kits of its gateways are, each named EUI.zip.
        #[arg(long, value_name = "FOLDER")]
        kits: Option<PathBuf>,
    },
}
