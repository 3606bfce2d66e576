//! `heron connect`: what another system has to be told, and lines that work.

use anyhow::{Result, bail};
use api::outlet::{Connecting, SnippetLanguage};
use clap::Args;

use crate::client::{Client, segment};
use crate::complete;
use crate::show::Out;

#[derive(Args)]
pub(crate) struct ConnectArgs {
    /// The outlet whose other side is to be set up; without one, how a program fetches messages.
    #[arg(add = complete::outlets())]
    pub outlet: Option<String>,
    /// Fetch messages of this fleet only.
    #[arg(long, add = complete::fleets(), conflicts_with = "outlet")]
    pub fleet: Option<String>,
    /// Fetch those of devices of this model only.
    #[arg(long, add = complete::models(), conflicts_with = "outlet")]
    pub model: Option<String>,
    /// Fetch these types only, separated by commas: uplink, join, refused, downlink, notice.
    #[arg(long = "type", value_name = "TYPES", conflicts_with = "outlet")]
    pub types: Option<String>,
    /// Print only the program in this language: python, javascript, or shell for the lines.
    #[arg(long, value_parser = ["shell", "python", "javascript"])]
    pub only: Option<String>,
}

pub(crate) async fn run(client: &Client, out: &Out, args: ConnectArgs) -> Result<()> {
    let connecting: Connecting = match &args.outlet {
        Some(outlet) => {
            client.get(&client.in_estate(&format!("outlets/{}/connect", segment(outlet))).await?, &[]).await?
        }
        None => {
            let named = [("fleet", args.fleet.clone()), ("model", args.model.clone()), ("type", args.types.clone())];
            let mut query: Vec<(&str, String)> = vec![("address", client.url().trim_end_matches('/').to_owned())];
            query.extend(named.into_iter().filter_map(|(name, value)| Some((name, value?))));
            client.get(&client.in_estate("messages/connect").await?, &query).await?
        }
    };
    if out.json {
        return out.json(&connecting);
    }
    if let Some(only) = &args.only {
        let language = match only.as_str() {
            "python" => SnippetLanguage::Python,
            "javascript" => SnippetLanguage::Javascript,
            _ => SnippetLanguage::Shell,
        };
        let mut found = connecting.snippets.iter().filter(|snippet| snippet.language == language).peekable();
        if found.peek().is_none() {
            bail!("there is none in this language");
        }
        return found.try_for_each(|snippet| out.line(snippet.text.trim_end()));
    }
    print(out, &connecting, args.fleet.as_deref())
}

fn print(out: &Out, connecting: &Connecting, fleet: Option<&str>) -> Result<()> {
    for setting in &connecting.settings {
        out.line(format!("{:28} {}", setting.name, setting.value))?;
    }
    if connecting.needs_token {
        let of = fleet.map_or_else(String::new, |fleet| format!(" --fleet {fleet}"));
        out.line(format!("\nA token with the right to view is enough: heron token add NAME --rights view{of}"))?;
    }
    for snippet in &connecting.snippets {
        out.line(format!("\n# {}\n{}", snippet.title, snippet.text.trim_end()))?;
    }
    match &connecting.sample {
        Some(sample) => out.line(format!("\n# The latest message\n{sample}")),
        None => Ok(()),
    }
}
