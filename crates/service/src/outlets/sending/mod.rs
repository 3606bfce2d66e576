//! Sending messages to where an outlet delivers, in the shape that it sends.

mod broker;
mod files;
mod shaping;
mod table;
mod web;

use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use anyhow::Result;
use api::outlet::{Delivery, Destination, GivenAnswer, MadeRequest};
use chrono::Utc;
use store::{OutletRow, WrittenMessage};
use tokio_util::sync::CancellationToken;

use crate::downlinks::Downlinks;
use crate::net::outside::{Leads, inside};
use crate::outlets::news::SharedNews;
pub(crate) use shaping::{Shaper, check_script};

/// What is read of an answer, and kept of a request.
const MOST_SHOWN: usize = 4_096;

/// What came of a request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Outcome {
    /// The messages were taken.
    Taken,
    /// They were refused; others may be taken.
    Refused(String),
    /// The other side takes nothing now; it may have said for how long.
    Away(String, Option<Duration>),
    /// There was no answer: the messages were not tried.
    Unreached(String),
    /// The other side wants nothing any more.
    Gone(String),
}

impl Outcome {
    /// Why the messages were not taken.
    pub(super) fn why(&self) -> Option<&str> {
        match self {
            Self::Taken => None,
            Self::Refused(why) | Self::Away(why, _) | Self::Unreached(why) | Self::Gone(why) => Some(why),
        }
    }
}

/// What the operator allows outlets.
#[derive(Debug, Clone)]
pub(crate) struct Allowed {
    /// Hosts of the local network.
    pub hosts: Arc<[String]>,
    /// Where folders of outlets are.
    pub folders: PathBuf,
}

impl Allowed {
    /// The folder of an outlet that writes files.
    pub(super) fn folder_of(&self, estate: &str, outlet: &str) -> PathBuf {
        self.folders.join(estate).join(outlet)
    }
}

/// A message in the shape that is sent.
pub(super) struct Shaped<'a> {
    pub written: &'a WrittenMessage,
    pub json: String,
}

/// One request, and what came of it.
struct Tried {
    outcome: Outcome,
    request: MadeRequest,
    answer: Option<GivenAnswer>,
}

impl Tried {
    /// A request that there is no more to say of than what was sent.
    fn of(outcome: Outcome, line: String, sent: &[Shaped<'_>]) -> Self {
        let body = joined(sent.iter().map(|shaped| shaped.json.as_str()), "\n");
        let request = MadeRequest { line, body: beginning(&body).to_owned(), ..MadeRequest::default() };
        Self { outcome, request, answer: None }
    }
}

/// As much of some texts as is shown, one after another.
fn joined<'a>(texts: impl Iterator<Item = &'a str>, between: &str) -> String {
    let mut all = String::new();
    for text in texts {
        if all.len() > MOST_SHOWN {
            break;
        }
        if !all.is_empty() {
            all.push_str(between);
        }
        all.push_str(text);
    }
    all
}

/// The beginning of a text, as much as is shown.
fn beginning(text: &str) -> &str {
    &text[..text.char_indices().nth(MOST_SHOWN).map_or(text.len(), |(end, _)| end)]
}

/// Whether a host may be reached.
fn may_reach(host: &str, leads: &Leads) -> Result<()> {
    match leads {
        Leads::Inside => Err(inside(host)),
        Leads::Outside(_) | Leads::Allowed => Ok(()),
    }
}

/// What an outlet's sender needs besides its settings.
#[derive(Clone)]
pub(super) struct Parts {
    pub allowed: Allowed,
    /// What commands go through; `None` while the service starts, and for a sender that only tries.
    pub downlinks: Option<Downlinks>,
    pub news: SharedNews,
    pub stopping: CancellationToken,
}

/// Where an outlet delivers to, ready to be sent messages.
pub(super) struct Sender {
    shaper: Shaper,
    to: To,
}

enum To {
    Web(Box<web::WebServer>),
    Broker(Box<broker::Broker>),
    Files(files::Folder),
    Table(Box<table::Table>),
}

impl Sender {
    /// Makes a sender ready. Nothing is connected to before there is something to send, but for a broker that commands come
    /// from.
    ///
    /// # Errors
    /// What of the settings cannot be used: the field, as the error's text; and why, as its cause.
    pub(super) fn new(row: &OutletRow, estate: &str, parts: Parts) -> Result<Self> {
        let to = match &row.settings.to {
            Destination::Webhook(webhook) => {
                To::Web(Box::new(web::WebServer::new(webhook, &row.secrets, parts.allowed.hosts)?))
            }
            Destination::Mqtt(of) => To::Broker(Box::new(broker::Broker::new(row, of, estate, parts)?)),
            Destination::Files(of) => {
                let path = parts.allowed.folder_of(estate, &row.settings.slug);
                To::Files(files::Folder::new(path, of))
            }
            Destination::Sql(of) => To::Table(Box::new(table::Table::new(of, &row.secrets, parts.allowed.hosts)?)),
        };
        Ok(Self { shaper: Shaper::new(&row.settings.shape), to })
    }

    /// Messages that one request takes.
    pub(super) fn most(&self) -> usize {
        match &self.to {
            To::Web(server) => server.most(),
            To::Broker(_) => broker::MOST,
            To::Files(_) => files::MOST,
            To::Table(_) => table::MOST,
        }
    }

    /// How long a message waits for others.
    pub(super) fn gather(&self) -> Duration {
        match &self.to {
            To::Web(server) => server.gather(),
            To::Broker(_) | To::Files(_) | To::Table(_) => Duration::ZERO,
        }
    }

    /// Requests that may be under way at once.
    pub(super) fn at_once(&self) -> usize {
        match &self.to {
            To::Web(_) | To::Broker(_) => 8,
            // One file, one connection.
            To::Files(_) | To::Table(_) => 1,
        }
    }

    /// Sends messages in one request. Not to be dropped halfway, or nobody knows what came of it; it ends by itself within
    /// the time that an answer may take.
    pub(super) async fn send(&self, messages: &[&WrittenMessage]) -> (Outcome, Delivery) {
        let (at, begun) = (Utc::now(), Instant::now());
        let Tried { outcome, request, answer } = match self.shaper.shape(messages).await {
            Ok(shaped) if shaped.is_empty() => {
                Tried::of(Outcome::Taken, "nothing: the script leaves the message out".into(), &[])
            }
            Ok(shaped) => match &self.to {
                To::Web(server) => server.send(&shaped, at).await,
                To::Broker(broker) => broker.send(&shaped).await,
                To::Files(folder) => folder.send(&shaped).await,
                To::Table(table) => table.send(&shaped).await,
            },
            Err(outcome) => Tried::of(outcome, "nothing: it could not be brought into its shape".into(), &[]),
        };
        let delivery = Delivery {
            at,
            delivered: outcome == Outcome::Taken,
            why: outcome.why().map(str::to_owned),
            took_ms: begun.elapsed().as_secs_f64() * 1000.0,
            messages: messages.iter().map(|written| written.message.id.clone()).collect(),
            request,
            answer,
        };
        (outcome, delivery)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_more_of_a_request_is_kept_than_is_shown() {
        let long = "ä".repeat(MOST_SHOWN + 7);
        assert_eq!(beginning(&long).chars().count(), MOST_SHOWN);
        assert_eq!(beginning("short"), "short");
        let many = joined(std::iter::repeat_n("0123456789", 10_000), "\n");
        assert!(many.len() < 2 * MOST_SHOWN && many.starts_with("0123456789\n0123456789"));
    }
}
