//! Devices.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use lorawan::region::Region;

use crate::args::radio;
use crate::complete;

#[derive(Subcommand)]
pub(crate) enum DeviceVerb {
    /// List devices with their state.
    List(DeviceListArgs),
    /// Show one with session, readings and airtime.
    Show {
        /// Its DevEUI or name.
        #[arg(add = complete::devices())]
        device: String,
    },
    /// Say why one does what it does: what stands out, the cause, the next step, and what happened to it.
    Why {
        /// Its DevEUI or name.
        #[arg(add = complete::devices())]
        device: String,
        /// How many past events to show, at most 500.
        #[arg(long, value_name = "N", default_value_t = 15)]
        limit: u32,
    },
    /// Register one.
    Add(Box<DeviceAddArgs>),
    /// Register one of the strangers: its JoinEUI and region are those that were heard.
    Adopt(Box<DeviceAdoptArgs>),
    /// Register many from a CSV file, all or none.
    Import(DeviceImportArgs),
    /// Write devices into a CSV file that can be imported.
    Export {
        #[command(flatten)]
        which: DeviceListArgs,
        /// Their keys as well. This is written to the audit log.
        #[arg(long)]
        keys: bool,
        /// Where to write it: a file that ends with .csv; standard output if not given.
        #[arg(long, short, value_name = "FILE")]
        output: Option<PathBuf>,
    },
    /// Change devices: one, or many alike; what is not given stays.
    Set(Box<DeviceSetArgs>),
    /// Move one to a fleet of another estate. Keys, session and counters go along; messages stay where they were heard.
    Move {
        /// Its DevEUI or name.
        #[arg(add = complete::devices())]
        device: String,
        /// The other estate's short name.
        #[arg(long, value_name = "ESTATE", add = complete::estates())]
        to: String,
        /// A fleet there.
        #[arg(long)]
        fleet: String,
    },
    /// Remove one with its session and outbox.
    Remove {
        /// Its DevEUI or name.
        #[arg(add = complete::devices())]
        device: String,
    },
    /// Its radio and MAC settings.
    Radio {
        #[command(subcommand)]
        verb: RadioVerb,
    },
    /// Its session: address and counters.
    Session {
        #[command(subcommand)]
        verb: SessionVerb,
    },
    /// Show its keys, or all that its firmware needs as C. Each look is written to the audit log.
    Keys {
        /// Its DevEUI or name.
        #[arg(add = complete::devices())]
        device: String,
        /// The form.
        #[arg(long, value_enum, default_value = "text")]
        form: KeyForms,
        /// With --form c: the byte order of EUIs and address. Keys have none.
        #[arg(long, value_enum, default_value = "lsb")]
        order: KeyOrder,
    },
    /// Write a sheet of labels with each device's code to print, 21 on a page of A4.
    Labels(LabelsArgs),
    /// List devices that ask to join without being registered.
    Strangers,
}

#[derive(Subcommand)]
pub(crate) enum RadioVerb {
    /// Show what is set, what the network wants of it, and what it answered.
    Show {
        /// Its DevEUI or name.
        #[arg(add = complete::devices())]
        device: String,
    },
    /// Change what is given; the rest stays.
    Set {
        /// Its DevEUI or name.
        #[arg(add = complete::devices())]
        device: String,
        #[command(flatten)]
        radio: Box<radio::RadioArgs>,
    },
}

#[derive(Subcommand)]
pub(crate) enum SessionVerb {
    /// Show its address and counters.
    Show {
        /// Its DevEUI or name.
        #[arg(add = complete::devices())]
        device: String,
    },
    /// Set its counters.
    Set {
        /// Its DevEUI or name.
        #[arg(add = complete::devices())]
        device: String,
        /// The last counter accepted from it.
        #[arg(long, value_name = "N", required_unless_present = "next_down")]
        last_up: Option<u32>,
        /// The next counter towards it.
        #[arg(long, value_name = "N")]
        next_down: Option<u32>,
    },
    /// End it, so that the device has to join again; an ABP device starts a new one, with its counters at zero.
    Remove {
        /// Its DevEUI or name.
        #[arg(add = complete::devices())]
        device: String,
        /// Accept used DevNonces again. Recorded join-requests can then be replayed.
        #[arg(long)]
        nonces: bool,
    },
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum KeyForms {
    /// A line each.
    Text,
    /// JSON with every credential in every form.
    Json,
    /// Arrays for a C source, ready to be compiled.
    C,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum KeyOrder {
    /// Least significant byte first, as on air.
    Lsb,
    /// Most significant byte first, as on labels.
    Msb,
}

#[derive(Args)]
pub(crate) struct DeviceListArgs {
    /// Only those of this fleet.
    #[arg(long, add = complete::fleets())]
    pub fleet: Option<String>,
    /// Only those of this model.
    #[arg(long, add = complete::models())]
    pub model: Option<String>,
    /// Only those with this radio profile.
    #[arg(long, add = complete::profiles())]
    pub profile: Option<String>,
    /// Only those with this tag.
    #[arg(long)]
    pub tag: Option<String>,
    /// Only those that this gateway hears, one of the eight that heard the device best in its last day.
    #[arg(long, add = complete::gateways())]
    pub gateway: Option<String>,
    /// Only those in this state: never_joined, never_heard, refused, active, silent or disabled.
    #[arg(long)]
    pub state: Option<String>,
    /// Only those with this in their name, an EUI, their address or a tag.
    #[arg(long, value_name = "TEXT")]
    pub find: Option<String>,
    /// What to sort by: name, last_heard or added_at; with a dash in front the other way round.
    #[arg(long, allow_hyphen_values = true)]
    pub sort: Option<String>,
}

impl DeviceListArgs {
    /// As the service wants it.
    pub(crate) fn query(self) -> Vec<(&'static str, String)> {
        let Self { fleet, model, profile, tag, gateway, state, find, sort } = self;
        let all = [
            ("fleet", fleet),
            ("model", model),
            ("profile", profile),
            ("tag", tag),
            ("gateway", gateway),
            ("state", state),
            ("find", find),
            ("sort", sort),
        ];
        all.into_iter().filter_map(|(name, value)| Some((name, value?))).collect()
    }
}

#[derive(Args)]
pub(crate) struct DeviceImportArgs {
    /// The file: a line of column names, then a device a line; `-` for standard input.
    pub file: PathBuf,
    /// Only show what would become of each row.
    #[arg(long = "dry-run")]
    pub preview: bool,
    /// Register the good rows even if others are not.
    #[arg(long)]
    pub skip_bad: bool,
    /// The fleet of rows that name none.
    #[arg(long, add = complete::fleets())]
    pub fleet: Option<String>,
    /// The model of rows that name none.
    #[arg(long, add = complete::models())]
    pub model: Option<String>,
    /// The radio profile of rows that name none.
    #[arg(long, add = complete::profiles())]
    pub profile: Option<String>,
    /// The JoinEUI of rows that name none.
    #[arg(long)]
    pub join_eui: Option<String>,
}

#[derive(Args)]
pub(crate) struct DeviceSetArgs {
    /// DevEUIs or names.
    #[arg(value_name = "DEVICE", add = complete::devices(), required_unless_present_any = ["of_fleet", "with_tag"])]
    pub devices: Vec<String>,
    /// All devices of this fleet instead.
    #[arg(long, value_name = "FLEET", conflicts_with = "devices", add = complete::fleets())]
    pub of_fleet: Option<String>,
    /// All devices with this tag instead.
    #[arg(long, value_name = "TAG", conflicts_with = "devices")]
    pub with_tag: Option<String>,
    /// Only show what would change, and what devices would be sent.
    #[arg(long = "dry-run")]
    pub preview: bool,
    /// Its name; of one device only.
    #[arg(long)]
    pub name: Option<String>,
    /// Move to this fleet.
    #[arg(long, add = complete::fleets())]
    pub fleet: Option<String>,
    /// The model; empty for none.
    #[arg(long, add = complete::models())]
    pub model: Option<String>,
    /// The radio profile; empty for none.
    #[arg(long, add = complete::profiles())]
    pub profile: Option<String>,
    /// Description, in free text.
    #[arg(long)]
    pub description: Option<String>,
    /// Version of its hardware; empty for none.
    #[arg(long)]
    pub hardware: Option<String>,
    /// Version of its firmware; empty for none.
    #[arg(long)]
    pub firmware: Option<String>,
    #[command(flatten)]
    pub place: PlaceArgs,
    /// Where it is is not known any more.
    #[arg(long, conflicts_with_all = ["latitude_deg", "longitude_deg", "height_m", "indoor", "antenna_gain_dbi", "penetration_loss_db"])]
    pub no_place: bool,
    /// What else is to be known, as NAME=TEXT; without a text it is removed. May be given several times.
    #[arg(long = "attribute", value_name = "NAME=TEXT")]
    pub attributes: Vec<String>,
    /// A tag to add; may be given several times.
    #[arg(long = "tag", value_name = "TAG")]
    pub tags: Vec<String>,
    /// A tag to take away; may be given several times.
    #[arg(long = "untag", value_name = "TAG")]
    pub untags: Vec<String>,
    /// Disable: frames are refused, and nothing is sent.
    #[arg(long)]
    pub disable: bool,
    /// Enable again.
    #[arg(long, conflicts_with = "disable")]
    pub enable: bool,
}

#[derive(Args)]
pub(crate) struct DeviceAddArgs {
    /// Its DevEUI, in any pasted form, most significant byte first.
    #[arg(required_unless_present_any = ["label", "photo"])]
    pub dev_eui: Option<String>,
    /// The code on its label (LW:D0:…), pasted or typed by a scanner, instead of DevEUI and JoinEUI.
    #[arg(long, value_name = "CODE")]
    pub label: Option<String>,
    /// A photo of its label (JPEG, PNG or WebP), instead of DevEUI and JoinEUI: the service reads its QR code or Data
    /// Matrix.
    #[arg(long, value_name = "FILE", conflicts_with = "label")]
    pub photo: Option<PathBuf>,
    /// Its JoinEUI (AppEUI), in any pasted form. A personalized device needs none.
    #[arg(long, required_unless_present_any = ["label", "photo", "dev_addr"])]
    pub join_eui: Option<String>,
    #[command(flatten)]
    pub about: NewDeviceArgs,
}

#[derive(Args)]
pub(crate) struct LabelsArgs {
    /// Where to write it: a file that ends with .pdf or .svg.
    #[arg(long, short, value_name = "FILE")]
    pub output: PathBuf,
    #[command(flatten)]
    pub which: DeviceListArgs,
}

#[derive(Args)]
pub(crate) struct DeviceAdoptArgs {
    /// The DevEUI it asks to join with.
    pub dev_eui: String,
    #[command(flatten)]
    pub about: NewDeviceArgs,
}

/// What is told of a new device, beside who it is.
#[derive(Args)]
pub(crate) struct NewDeviceArgs {
    /// Its name; the DevEUI if not given.
    #[arg(long, default_value = "", hide_default_value = true)]
    pub name: String,
    /// The short name of its fleet.
    #[arg(long, add = complete::fleets())]
    pub fleet: String,
    /// The short name of its model.
    #[arg(long, add = complete::models())]
    pub model: Option<String>,
    /// The short name of its radio profile.
    #[arg(long, add = complete::profiles())]
    pub profile: Option<String>,
    /// Where it is used; EU868 if not given.
    #[arg(long)]
    pub region: Option<Region>,
    /// Its AppKey, or one of the words generate and fleet (the fleet's default key). If not given, it is that of
    /// HERON_APP_KEY, or asked for, so that it stays out of the shell's history.
    #[arg(long, value_name = "KEY")]
    pub app_key: Option<String>,
    /// Read its AppKey from standard input, a line of its own.
    #[arg(long, conflicts_with = "app_key")]
    pub app_key_stdin: bool,
    /// Its NwkKey, if it speaks 1.1. If not given, it is that of HERON_NWK_KEY, or asked for.
    #[arg(long, value_name = "KEY")]
    pub nwk_key: Option<String>,
    /// Read its NwkKey from standard input, a line of its own, after the AppKey.
    #[arg(long, conflicts_with = "nwk_key")]
    pub nwk_key_stdin: bool,
    /// Description, in free text.
    #[arg(long, value_name = "TEXT", default_value = "", hide_default_value = true)]
    pub description: String,
    /// Version of its hardware.
    #[arg(long)]
    pub hardware: Option<String>,
    /// Version of its firmware.
    #[arg(long)]
    pub firmware: Option<String>,
    #[command(flatten)]
    pub place: PlaceArgs,
    /// What else is to be known of it, as NAME=TEXT; may be given several times.
    #[arg(long = "attribute", value_name = "NAME=TEXT")]
    pub attributes: Vec<String>,
    /// A word to find it by; may be given several times.
    #[arg(long = "tag", value_name = "TAG")]
    pub tags: Vec<String>,
    /// Only show how it would be read, and what looks wrong.
    #[arg(long = "dry-run")]
    pub check: bool,
    /// Its address, if it is activated by personalization (ABP): it has session keys and no root key.
    #[arg(long, value_name = "ADDRESS", help_heading = "Personalization")]
    pub dev_addr: Option<String>,
    /// NwkSKey of 1.0.x, FNwkSIntKey of 1.1.
    #[arg(long, value_name = "KEY", requires = "dev_addr", help_heading = "Personalization")]
    pub nwk_s_key: Option<String>,
    /// AppSKey.
    #[arg(long, value_name = "KEY", requires = "dev_addr", help_heading = "Personalization")]
    pub app_s_key: Option<String>,
    /// Read NwkSKey and AppSKey from standard input, a line each.
    #[arg(long, requires = "dev_addr", conflicts_with_all = ["nwk_s_key", "app_s_key"], help_heading = "Personalization")]
    pub session_keys_stdin: bool,
    /// SNwkSIntKey of 1.1.
    #[arg(long, value_name = "KEY", requires = "dev_addr", help_heading = "Personalization")]
    pub s_nwk_s_int_key: Option<String>,
    /// NwkSEncKey of 1.1.
    #[arg(long, value_name = "KEY", requires = "dev_addr", help_heading = "Personalization")]
    pub nwk_s_enc_key: Option<String>,
    #[command(flatten)]
    pub radio: radio::RadioArgs,
}

/// Where a device is.
#[derive(Args)]
pub(crate) struct PlaceArgs {
    /// Latitude in degrees, north positive.
    #[arg(long, value_name = "DEG", allow_negative_numbers = true, requires = "longitude_deg")]
    pub latitude_deg: Option<f64>,
    /// Longitude in degrees, east positive.
    #[arg(long, value_name = "DEG", allow_negative_numbers = true, requires = "latitude_deg")]
    pub longitude_deg: Option<f64>,
    /// Height of its antenna above the ground in metres.
    #[arg(long, value_name = "M", allow_negative_numbers = true)]
    pub height_m: Option<f64>,
    /// Whether it is in a building: `--indoor`, or `--indoor=false`.
    #[arg(long, value_name = "BOOL", num_args = 0..=1, require_equals = true, default_missing_value = "true")]
    pub indoor: Option<bool>,
    /// Gain of its antenna as it stands there, in dBi, -20 to 20; forecasts take 0 if it is not known.
    #[arg(long, value_name = "DBI", allow_negative_numbers = true)]
    pub antenna_gain_dbi: Option<f64>,
    /// Lost in walls, soil, a lid or a body around it, in dB, 0 to 60; forecasts take 15 indoors and 0 outdoors if it is not known.
    #[arg(long, value_name = "DB")]
    pub penetration_loss_db: Option<f64>,
}
