//! `heron outlet`: its verbs and options.

use std::path::PathBuf;

use clap::{Args, Subcommand};

use crate::args::moment::Moment;
use crate::args::{ListArgs, seconds};
use crate::complete;

#[derive(Subcommand)]
pub(crate) enum OutletVerb {
    /// List outlets, each with how it stands.
    List(ListArgs),
    /// Show one.
    Show {
        /// Its short name.
        #[arg(add = complete::outlets())]
        outlet: String,
    },
    /// Add one: messages are delivered to a web server, an MQTT broker, files or a table of a database.
    Add(Box<OutletAddArgs>),
    /// Change one; what is not given stays. Messages that wait are delivered with the new settings.
    Set(Box<OutletSetArgs>),
    /// Remove one with its dead letters; what waits is not delivered any more.
    Remove {
        /// Its short name.
        #[arg(add = complete::outlets())]
        outlet: String,
    },
    /// Send a rehearsal now, and show the request and the answer. Ends with 1 if it was not taken.
    Test {
        /// Its short name.
        #[arg(add = complete::outlets())]
        outlet: String,
    },
    /// Deliver again from a moment on; messages come once more, with the same ids.
    Send {
        /// Its short name.
        #[arg(add = complete::outlets())]
        outlet: String,
        /// From when on: RFC 3339, a date, or so long ago, like 2h.
        #[arg(long, value_name = "WHEN")]
        since: Moment,
    },
    /// Try what would be sent on the latest messages; nothing is sent. Ends with 1 if a script fails.
    Preview(PreviewArgs),
    /// Commands that came back from a broker.
    Command {
        #[command(subcommand)]
        verb: CommandVerb,
    },
    /// What was delivered lately.
    Delivery {
        #[command(subcommand)]
        verb: DeliveryVerb,
    },
    /// Dead letters: messages that were given up.
    Letter {
        #[command(subcommand)]
        verb: LetterVerb,
    },
}

#[derive(Subcommand)]
pub(crate) enum DeliveryVerb {
    /// List the last deliveries since the service was started, newest first.
    List {
        /// The outlet's short name.
        #[arg(add = complete::outlets())]
        outlet: String,
        /// Show requests and answers as well.
        #[arg(long)]
        bodies: bool,
    },
}

#[derive(Subcommand)]
pub(crate) enum CommandVerb {
    /// List the last commands since the service was started, newest first, with their answers.
    List {
        /// The outlet's short name.
        #[arg(add = complete::outlets())]
        outlet: String,
    },
}

#[derive(Args)]
pub(crate) struct PreviewArgs {
    #[command(flatten)]
    pub which: MessagesArgs,
    /// How many messages, 1 to 20.
    #[arg(long, default_value_t = 5)]
    pub latest: u32,
}

#[derive(Subcommand)]
pub(crate) enum LetterVerb {
    /// List them, oldest first.
    List {
        /// The outlet's short name.
        #[arg(add = complete::outlets())]
        outlet: String,
    },
    /// Show one, with the last request and the answer to it.
    Show {
        /// The outlet's short name.
        #[arg(add = complete::outlets())]
        outlet: String,
        /// Its id.
        letter: String,
    },
    /// Try one once more, or all of them.
    Send {
        /// The outlet's short name.
        #[arg(add = complete::outlets())]
        outlet: String,
        /// Its id.
        #[arg(required_unless_present = "all")]
        letter: Option<String>,
        /// All of them, oldest first.
        #[arg(long, conflicts_with = "letter")]
        all: bool,
    },
    /// Remove one: its message is not delivered.
    Remove {
        /// The outlet's short name.
        #[arg(add = complete::outlets())]
        outlet: String,
        /// Its id.
        letter: String,
    },
}

#[derive(Args)]
pub(crate) struct OutletAddArgs {
    /// Its short name: lower-case letters, digits and dashes.
    #[arg(value_name = "OUTLET")]
    pub slug: String,
    /// Where to: https://HOST/PATH, mqtts://HOST, postgres://HOST/DATABASE, mariadb://HOST/DATABASE, or `files`.
    /// There is no name and no password in it.
    #[arg(long, value_name = "ADDRESS")]
    pub to: String,
    #[command(flatten)]
    pub which: MessagesArgs,
    #[command(flatten)]
    pub request: RequestArgs,
    #[command(flatten)]
    pub broker: BrokerArgs,
    #[command(flatten)]
    pub kept: KeptArgs,
    #[command(flatten)]
    pub secrets: OutletSecretArgs,
    /// Deliver from when on: RFC 3339, a date, or so long ago, like 2h; from now on if not given.
    #[arg(long, value_name = "WHEN")]
    pub since: Option<Moment>,
}

#[derive(Args)]
pub(crate) struct OutletSetArgs {
    /// Its short name.
    #[arg(value_name = "OUTLET", add = complete::outlets())]
    pub outlet: String,
    /// Another short name.
    #[arg(long, value_name = "SLUG")]
    pub slug: Option<String>,
    /// Pause it: messages wait.
    #[arg(long)]
    pub pause: bool,
    /// Resume it, or try at once what waits for its next try.
    #[arg(long, conflicts_with = "pause")]
    pub resume: bool,
    /// Where to.
    #[arg(long, value_name = "ADDRESS")]
    pub to: Option<String>,
    #[command(flatten)]
    pub which: MessagesArgs,
    #[command(flatten)]
    pub request: RequestArgs,
    #[command(flatten)]
    pub broker: BrokerArgs,
    #[command(flatten)]
    pub kept: KeptArgs,
    #[command(flatten)]
    pub secrets: OutletSecretArgs,
    /// Take a setting away: fleet, tag, model, types, account, together, authority, certificate, signing-secret, bearer,
    /// password, headers, retain, expires-after, properties, client-id, commands, create or without-tls.
    #[arg(long, value_name = "SETTING", value_delimiter = ',')]
    pub without: Vec<String>,
}

#[derive(Args)]
pub(crate) struct MessagesArgs {
    /// Only messages of this fleet; of all fleets if not given.
    #[arg(long, add = complete::fleets())]
    pub fleet: Option<String>,
    /// Only these types, separated by commas: uplink, join, refused, downlink, notice.
    #[arg(long = "type", value_name = "TYPES", value_delimiter = ',')]
    pub types: Vec<String>,
    /// Only those of devices with this tag.
    #[arg(long)]
    pub tag: Option<String>,
    /// Only those of devices of this model.
    #[arg(long, add = complete::models())]
    pub model: Option<String>,
    /// What is sent of each: `message` as it is documented, or `flat`, one object without objects in it.
    #[arg(long, value_parser = ["message", "flat"], conflicts_with = "field")]
    pub shape: Option<String>,
    /// Send only this field, like readings.water_level.value; may be given several times.
    #[arg(long, value_name = "PATH")]
    pub field: Vec<String>,
    /// Send what a script makes of each: a file of JavaScript with `transform(message)`.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["shape", "field"])]
    pub script: Option<PathBuf>,
}

/// Of an MQTT broker.
#[derive(Args)]
pub(crate) struct BrokerArgs {
    /// To a broker: the topic of each message, like harbour/{fleet}/{device}/{type}; {estate}, {eui} and {model} are allowed
    /// too.
    #[arg(long, value_name = "TOPIC")]
    pub topic: Option<String>,
    /// To a broker: the version of the protocol, 3.1.1 or 5.
    #[arg(long, value_name = "VERSION", value_parser = ["3.1.1", "5"])]
    pub mqtt: Option<String>,
    /// To a broker: the quality of service, 0 to 2; 1 if not given.
    #[arg(long)]
    pub qos: Option<u8>,
    /// To a broker: it keeps the latest message of each topic.
    #[arg(long)]
    pub retain: bool,
    /// To a broker: it drops a message that nobody has taken for so long (MQTT 5): seconds, or with a unit.
    #[arg(long, value_name = "TIME", value_parser = seconds)]
    pub expires_after: Option<f64>,
    /// To a broker: a property of each message (MQTT 5), perhaps with placeholders; may be given several times.
    #[arg(long, value_name = "NAME=VALUE")]
    pub property: Vec<String>,
    /// To a broker: the name to connect under.
    #[arg(long, value_name = "NAME")]
    pub client_id: Option<String>,
    /// To a broker: take commands that come on this topic, like harbour/{device}/command.
    #[arg(long, value_name = "TOPIC", requires = "answers")]
    pub commands: Option<String>,
    /// To a broker: answer each command on this topic, like harbour/{device}/answer.
    #[arg(long, value_name = "TOPIC")]
    pub answers: Option<String>,
}

/// Of files and of a table.
#[derive(Args)]
pub(crate) struct KeptArgs {
    /// To files: begin a new one each hour or day.
    #[arg(long, value_parser = ["hour", "day"])]
    pub rotate: Option<String>,
    /// To files: begin a new one when one has so many megabytes; 64 if not given.
    #[arg(long, value_name = "MB")]
    pub file_mb: Option<u32>,
    /// To files: remove the oldest when all have so many megabytes; 1024 if not given.
    #[arg(long, value_name = "MB")]
    pub folder_mb: Option<u32>,
    /// To a database: the table.
    #[arg(long)]
    pub table: Option<String>,
    /// To a database: a column, and the field that it holds, like level=readings.water_level.value:number. Kinds: text,
    /// number, integer, boolean, time. May be given several times.
    #[arg(long, value_name = "COLUMN=FIELD:KIND")]
    pub column: Vec<String>,
    /// To a database: create the table if there is none.
    #[arg(long)]
    pub create: bool,
    /// To a database: connect without TLS.
    #[arg(long)]
    pub without_tls: bool,
}

#[derive(Args)]
pub(crate) struct RequestArgs {
    /// How: POST, PUT or PATCH.
    #[arg(long, value_parser = ["POST", "PUT", "PATCH"], ignore_case = true)]
    pub method: Option<String>,
    /// A header that anybody may see; may be given several times.
    #[arg(long, value_name = "NAME=VALUE")]
    pub header: Vec<String>,
    /// Messages in one request at most, 2 to 1000; one if not given.
    #[arg(long, value_name = "N")]
    pub together: Option<u32>,
    /// How long a message waits for others: seconds, or with a unit.
    #[arg(long, value_name = "TIME", value_parser = seconds)]
    pub together_within: Option<f64>,
    /// How long an answer may take: seconds, or with a unit.
    #[arg(long, value_name = "TIME", value_parser = seconds)]
    pub answer_within: Option<f64>,
    /// How long a message is tried again that is not taken: seconds, or with a unit.
    #[arg(long, value_name = "TIME", value_parser = seconds)]
    pub retry_for: Option<f64>,
    /// A file with certificates (PEM) that the server's has to come from.
    #[arg(long, value_name = "FILE")]
    pub authority: Option<PathBuf>,
    /// A file with the certificate (PEM) that is shown to the server.
    #[arg(long, value_name = "FILE")]
    pub certificate: Option<PathBuf>,
    /// Another host that the server may redirect to; may be given several times.
    #[arg(long, value_name = "HOST")]
    pub redirects_to: Vec<String>,
}

#[derive(Args)]
pub(crate) struct OutletSecretArgs {
    /// Sign requests with this, 16 to 200 characters (HMAC-SHA-256).
    #[arg(long, value_name = "SECRET")]
    pub signing_secret: Option<String>,
    /// Read that secret from standard input.
    #[arg(long, conflicts_with = "signing_secret")]
    pub signing_secret_stdin: bool,
    /// A bearer token for the server.
    #[arg(long, value_name = "TOKEN")]
    pub bearer: Option<String>,
    /// Read that token from standard input.
    #[arg(long, conflicts_with_all = ["bearer", "signing_secret_stdin"])]
    pub bearer_stdin: bool,
    /// The name for basic credentials.
    #[arg(long, value_name = "NAME")]
    pub account: Option<String>,
    /// Read the password for it from standard input.
    #[arg(long, conflicts_with_all = ["bearer_stdin", "signing_secret_stdin"])]
    pub password_stdin: bool,
    /// A header with a secret in it; may be given several times.
    #[arg(long, value_name = "NAME=VALUE")]
    pub secret_header: Vec<String>,
    /// The file with the key (PEM) of the certificate that is shown.
    #[arg(long, value_name = "FILE")]
    pub key: Option<PathBuf>,
}
