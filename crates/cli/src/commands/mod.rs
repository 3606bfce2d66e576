//! The commands: a folder for each noun, with its options in `args.rs`.

pub(crate) mod account;
pub(crate) mod agent;
pub(crate) mod airtime;
pub(crate) mod audit;
pub(crate) mod bench;
pub(crate) mod calibration;
pub(crate) mod catalogue;
pub(crate) mod connect;
pub(crate) mod coverage;
pub(crate) mod decoder;
pub(crate) mod device;
pub(crate) mod estate;
pub(crate) mod find;
pub(crate) mod fleet;
pub(crate) mod forecast;
pub(crate) mod frame;
pub(crate) mod gateway;
pub(crate) mod ground;
pub(crate) mod group;
pub(crate) mod ingest;
pub(crate) mod invitation;
pub(crate) mod link;
pub(crate) mod manual;
pub(crate) mod model;
pub(crate) mod outbox;
pub(crate) mod outlet;
pub(crate) mod people;
pub(crate) mod profile;
pub(crate) mod readings;
pub(crate) mod receiver;
pub(crate) mod region;
pub(crate) mod rehearse;
pub(crate) mod round;
pub(crate) mod scenario;
pub(crate) mod service;
pub(crate) mod share;
pub(crate) mod sign_in;
pub(crate) mod site;
pub(crate) mod survey;
pub(crate) mod tail;
pub(crate) mod token;
pub(crate) mod traffic;
pub(crate) mod watch;

use anyhow::Result;
use clap::{Parser, Subcommand};

use crate::args::Global;
use crate::client::Client;
use crate::commands::account::args::AccountVerb;
use crate::commands::agent::args::AgentArgs;
use crate::commands::airtime::args::AirtimeVerb;
use crate::commands::audit::args::AuditVerb;
use crate::commands::bench::args::BenchVerb;
use crate::commands::calibration::CalibrationVerb;
use crate::commands::catalogue::args::CatalogueVerb;
use crate::commands::connect::ConnectArgs;
use crate::commands::coverage::args::CoverageVerb;
use crate::commands::decoder::args::DecoderVerb;
use crate::commands::device::args::DeviceVerb;
use crate::commands::estate::args::EstateVerb;
use crate::commands::fleet::args::FleetVerb;
use crate::commands::forecast::args::ForecastVerb;
use crate::commands::frame::args::FrameVerb;
use crate::commands::gateway::args::GatewayVerb;
use crate::commands::ground::GroundVerb;
use crate::commands::group::args::GroupVerb;
use crate::commands::ingest::args::IngestVerb;
use crate::commands::invitation::args::InvitationVerb;
use crate::commands::link::LinkVerb;
use crate::commands::manual::args::ManualArgs;
use crate::commands::model::args::ModelVerb;
use crate::commands::outbox::args::OutboxVerb;
use crate::commands::outlet::args::OutletVerb;
use crate::commands::people::args::PeopleVerb;
use crate::commands::profile::args::ProfileVerb;
use crate::commands::readings::args::ReadingsVerb;
use crate::commands::receiver::ReceiverVerb;
use crate::commands::region::args::RegionVerb;
use crate::commands::rehearse::args::RehearseArgs;
use crate::commands::round::args::RoundVerb;
use crate::commands::scenario::args::ScenarioVerb;
use crate::commands::service::args::ServiceVerb;
use crate::commands::share::args::ShareVerb;
use crate::commands::sign_in::args::SignInArgs;
use crate::commands::site::args::SiteVerb;
use crate::commands::survey::args::SurveyVerb;
use crate::commands::tail::args::TailArgs;
use crate::commands::token::args::TokenVerb;
use crate::commands::traffic::args::TrafficVerb;
use crate::show::Out;
use crate::terminal;

/// Keen Heron's client: gateways, devices, downlinks and live traffic of a LoRaWAN network.
///
/// A command is a noun and a verb: `list`, `show`, `add`, `set` and `remove` for every noun that can be listed, shown,
/// added, changed and removed (`ls` and `rm` for short), and a few more. Things are named by their name or their EUI.
#[derive(Parser)]
#[command(name = "heron", version)]
pub(crate) struct Cli {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub noun: Noun,
}

#[derive(Subcommand)]
pub(crate) enum Noun {
    /// Sign in to a service; the password is asked for.
    #[command(visible_alias = "login")]
    SignIn(SignInArgs),
    /// End the sign-in.
    #[command(visible_alias = "logout")]
    SignOut,
    /// Services signed in to on this machine.
    Service {
        #[command(subcommand)]
        verb: ServiceVerb,
    },
    /// Your own account: sign-ins, password, two-step sign-in.
    Account {
        #[command(subcommand)]
        verb: AccountVerb,
    },
    /// Members of the estate.
    People {
        #[command(subcommand)]
        verb: PeopleVerb,
    },
    /// Invitations to be a member, or to have a fleet or a device shared.
    Invitation {
        #[command(subcommand)]
        verb: InvitationVerb,
    },
    /// Fleets and devices that are shared with people of other estates.
    Share {
        #[command(subcommand)]
        verb: ShareVerb,
    },
    /// Access tokens for programs.
    Token {
        #[command(subcommand)]
        verb: TokenVerb,
    },
    /// The audit log: who did what, from where, and what it changed.
    Audit {
        #[command(subcommand)]
        verb: AuditVerb,
    },
    /// Estates: each with its own people, gateways and fleets.
    Estate {
        #[command(subcommand)]
        verb: EstateVerb,
    },
    /// What needs attention, worst first. Ends with 1 if something does.
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
    /// Models: types of device, with their decoder.
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
    /// Decode bytes and do all that follows, as if they had been received. The result is marked as rehearsed, and
    /// changes no counter, ledger or reading.
    Rehearse(Box<RehearseArgs>),
    /// The catalogue: models as folders of text files.
    Catalogue {
        #[command(subcommand)]
        verb: CatalogueVerb,
    },
    /// Radio profiles: settings that several devices share.
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
    /// Downlinks waiting for a device or a group.
    Outbox {
        #[command(subcommand)]
        verb: OutboxVerb,
    },
    /// Rounds: a downlink for each device of a fleet, of a model or with a tag, one after another.
    Round {
        #[command(subcommand)]
        verb: RoundVerb,
    },
    /// Outlets: messages are delivered to other systems as they come.
    Outlet {
        #[command(subcommand)]
        verb: OutletVerb,
    },
    /// How another system gets messages: what it has to be told, and lines and programs that work.
    Connect(ConnectArgs),
    /// Messages as an outlet would send them, one JSON object a line, as they come.
    Tail(TailArgs),
    /// What was heard and sent.
    Traffic {
        #[command(subcommand)]
        verb: TrafficVerb,
    },
    /// Frames as bytes.
    Frame {
        #[command(subcommand)]
        verb: FrameVerb,
    },
    /// Sites: places with an antenna, which are gateways or planned.
    Site {
        #[command(subcommand)]
        verb: SiteVerb,
    },
    /// Kinds of receiver: devices as forecasts see them.
    Receiver {
        #[command(subcommand)]
        verb: ReceiverVerb,
    },
    /// The ground under maps and forecasts: files of heights and of cover.
    Ground {
        #[command(subcommand)]
        verb: GroundVerb,
    },
    /// Forecasts: where devices will be heard, computed and kept by the service.
    Forecast {
        #[command(subcommand)]
        verb: ForecastVerb,
    },
    /// Links of devices to gateways: forecast, measured, and what they come to.
    Link {
        #[command(subcommand)]
        verb: LinkVerb,
    },
    /// The survey: coverage as the network's own uplinks tell it, and changes of signal.
    Survey {
        #[command(subcommand)]
        verb: SurveyVerb,
    },
    /// Calibrations: what the survey shows of a path model, for forecasts to take into account.
    Calibration {
        #[command(subcommand)]
        verb: CalibrationVerb,
    },
    /// Radio paths and areas over terrain, computed here from files: nothing is asked of a service.
    Coverage {
        #[command(subcommand)]
        verb: CoverageVerb,
    },
    /// What each region allows.
    Region {
        #[command(subcommand)]
        verb: RegionVerb,
    },
    /// What messages cost in airtime.
    Airtime {
        #[command(subcommand)]
        verb: AirtimeVerb,
    },
    /// What came in from gateways, and what was dropped.
    Ingest {
        #[command(subcommand)]
        verb: IngestVerb,
    },
    /// What a service can take, measured.
    Bench {
        #[command(subcommand)]
        verb: BenchVerb,
    },
    /// Run beside a UDP gateway: carry its frames over MQTT, and keep them while the link is down.
    Agent(AgentArgs),
    /// Stand-in devices and gateways from a folder of text files.
    Scenario {
        #[command(subcommand)]
        verb: ScenarioVerb,
    },
    /// Print the script with which a shell completes commands, options and the names of devices, gateways and fleets.
    Completions {
        /// The shell.
        shell: Shell,
    },
    /// Write the manual pages.
    Manual(ManualArgs),
}

/// A shell that can complete.
#[derive(Clone, Copy, clap::ValueEnum)]
pub(crate) enum Shell {
    Bash,
    Elvish,
    Fish,
    Powershell,
    Zsh,
}

impl Noun {
    /// Whether it goes on until it is stopped, so that what it prints is wanted at once.
    fn is_endless(&self) -> bool {
        match self {
            Self::Traffic { verb } => matches!(verb, TrafficVerb::Follow(_)),
            Self::Scenario { verb } => matches!(verb, ScenarioVerb::Run { .. }),
            Self::Agent(_) | Self::Bench { .. } => true,
            _ => false,
        }
    }
}

/// What every command is given: the options for all, where results go, and the service when it is asked.
pub(crate) struct Context {
    /// The options for all commands.
    pub global: Global,
    /// Where results go.
    pub out: Out,
}

impl Context {
    /// The service, as the one who signed in.
    ///
    /// # Errors
    /// If nobody has signed in.
    pub(crate) fn client(&self) -> Result<Client> {
        Client::signed_in(&self.global)
    }
}

/// Carries a command out, and prints what it found: by a pager if it is longer than the terminal.
pub(crate) async fn run(context: &Context, noun: Noun) -> Result<()> {
    if !noun.is_endless() {
        terminal::hold(&context.global);
    }
    let done = carry_out(context, noun).await;
    let zone = context.out.name_zone();
    terminal::end()?;
    done.and(zone)
}

async fn carry_out(context: &Context, noun: Noun) -> Result<()> {
    let (out, yes) = (&context.out, context.global.yes);
    match noun {
        Noun::SignIn(args) => sign_in::sign_in(context, args).await,
        Noun::SignOut => sign_in::sign_out(context).await,
        Noun::Service { verb } => service::run(context, verb),
        Noun::Account { verb } => account::run(&context.client()?, out, verb, yes).await,
        Noun::People { verb } => people::run(&context.client()?, out, verb, yes).await,
        Noun::Invitation { verb } => invitation::run(context, verb).await,
        Noun::Share { verb } => share::run(&context.client()?, out, verb, yes).await,
        Noun::Token { verb } => token::run(&context.client()?, out, verb, yes).await,
        Noun::Audit { verb } => audit::run(&context.client()?, out, verb).await,
        Noun::Estate { verb } => estate::run(&context.client()?, out, verb, yes).await,
        Noun::Watch => watch::run(&context.client()?, out).await,
        Noun::Find { text } => find::run(&context.client()?, out, text.join(" ")).await,
        Noun::Gateway { verb } => gateway::run(context, verb).await,
        Noun::Fleet { verb } => fleet::run(&context.client()?, out, verb, yes).await,
        Noun::Model { verb } => model::run(&context.client()?, out, verb, yes).await,
        Noun::Decoder { verb } => decoder::run(context, verb).await,
        Noun::Readings { verb } => readings::run(&context.client()?, out, verb).await,
        Noun::Rehearse(args) => rehearse::run(&context.client()?, out, *args).await,
        Noun::Catalogue { verb } => catalogue::run(context, verb).await,
        Noun::Profile { verb } => profile::run(&context.client()?, out, verb, yes).await,
        Noun::Device { verb } => device::run(&context.client()?, out, verb, yes).await,
        Noun::Group { verb } => group::run(&context.client()?, out, verb, yes).await,
        Noun::Connect(args) => connect::run(&context.client()?, out, args).await,
        Noun::Tail(args) => tail::run(&context.client()?, out, args).await,
        Noun::Outlet { verb } => outlet::run(&context.client()?, out, verb, yes).await,
        Noun::Outbox { verb } => outbox::run(&context.client()?, out, verb).await,
        Noun::Round { verb } => round::run(&context.client()?, out, verb, yes).await,
        Noun::Traffic { verb } => traffic::run(&context.client()?, out, verb).await,
        Noun::Frame { verb: FrameVerb::Show(args) } => frame::run(&context.global, out, *args).await,
        Noun::Site { verb } => site::run(&context.client()?, out, verb, yes).await,
        Noun::Receiver { verb } => receiver::run(&context.client()?, out, verb, yes).await,
        Noun::Ground { verb } => ground::run(&context.client()?, out, verb, yes).await,
        Noun::Forecast { verb } => forecast::run(&context.client()?, out, verb, yes).await,
        Noun::Link { verb } => link::run(&context.client()?, out, verb).await,
        Noun::Calibration { verb } => calibration::run(&context.client()?, out, verb, yes).await,
        Noun::Survey { verb } => survey::run(&context.client()?, out, verb, yes).await,
        Noun::Coverage { verb } => coverage::run(out, verb),
        Noun::Region { verb } => region::run(out, verb),
        Noun::Airtime { verb } => airtime::run(context, verb).await,
        Noun::Ingest { verb: IngestVerb::Show } => ingest::run(&context.client()?, out).await,
        Noun::Bench { verb } => bench::run(&context.client()?, out, verb, yes).await,
        Noun::Agent(args) => agent::run(args).await,
        Noun::Scenario { verb } => scenario::run(&context.client()?, out, verb).await,
        Noun::Completions { shell } => manual::completions(out, shell),
        Noun::Manual(args) => manual::run(out, &args),
    }
}
