//! `heron outlet`.

pub(crate) mod args;
mod kinds;
mod letters;
mod preview;
mod settings;

use anyhow::{Result, bail};
use api::outlet::{CommandTaken, CommandsState, Delivery, Outlet, SendAgain, SentAgain, Shape};
use serde_json::json;

use crate::client::{Client, segment};
use crate::commands::outlet::args::{CommandVerb, DeliveryVerb, OutletAddArgs, OutletSetArgs, OutletVerb};
use crate::commands::outlet::kinds::Given;
use crate::commands::outlet::settings::{Fields, messages, secrets, without};
use crate::show::{self, NeedsAttention, Out, ago};

/// Characters of a reason in a table.
const SHORT: usize = 60;

async fn path(client: &Client, outlet: &str) -> Result<String> {
    client.in_estate(&format!("outlets/{}", segment(outlet))).await
}

fn state(outlet: &Outlet) -> String {
    let status = &outlet.status;
    let next = status.next_try.map(|at| format!(", next try {}", show::moment(at)));
    format!("{} since {}{}", status.state.name(), show::moment(status.since), next.unwrap_or_default())
}

fn shape(shape: &Shape) -> String {
    match shape {
        Shape::Message => "the message as it is".into(),
        Shape::Flat => "one flat object".into(),
        Shape::Fields(paths) => paths.join(", "),
        Shape::Script(script) => format!("what a script of {} lines makes of it", script.lines().count()),
    }
}

fn or_all(given: Option<&String>, all: &str) -> String {
    given.cloned().unwrap_or_else(|| all.to_owned())
}

fn lines(outlet: &Outlet) -> Vec<(&'static str, String)> {
    let (settings, status) = (&outlet.settings, &outlet.status);
    let types: Vec<&str> = settings.types.iter().map(|kind| kind.name()).collect();
    let mut lines =
        vec![("outlet", settings.slug.clone()), ("to", kinds::place(&settings.to)), ("state", state(outlet))];
    lines.extend(status.why.clone().map(|why| ("because", why)));
    let waits = status.oldest_waiting.map(|at| format!(", the oldest of {}", show::moment(at)));
    lines.extend([
        ("waiting", format!("{}{}", waiting(status.backlog), waits.unwrap_or_default())),
        (
            "delivered",
            format!("{}, last {}; {:.1} a minute", status.delivered, ago(status.last_delivered), status.a_minute),
        ),
        ("dead letters", status.dead_letters.to_string()),
        ("fleet", or_all(settings.fleet.as_ref(), "all")),
        ("types", if types.is_empty() { "all".into() } else { types.join(", ") }),
        ("tag", or_all(settings.tag.as_ref(), "any")),
        ("model", or_all(settings.model.as_ref(), "any")),
        ("sends", shape(&settings.shape)),
    ]);
    lines.extend(kinds::lines(&settings.to));
    lines.extend(status.commands.as_ref().map(|commands| ("takes commands", listening(commands))));
    let secrets = if outlet.secrets_set.is_empty() { "none".into() } else { outlet.secrets_set.join(", ") };
    lines.extend([("secrets", secrets), ("added", show::moment(outlet.added_at))]);
    lines
}

fn listening(commands: &CommandsState) -> String {
    match &commands.why {
        Some(why) => format!("no, since {}: {why}", show::moment(commands.since)),
        None => format!("yes, since {}", show::moment(commands.since)),
    }
}

/// Beyond this many they are not counted.
fn waiting(count: u64) -> String {
    if count >= 100_000 { "100,000 or more".into() } else { count.to_string() }
}

fn short(text: &str) -> String {
    let cut: String = text.chars().take(SHORT).collect();
    if cut.len() < text.len() { format!("{cut}…") } else { cut }
}

async fn list(client: &Client, out: &Out, query: &[(&str, String)]) -> Result<()> {
    let outlets: Vec<Outlet> = client.all(&client.in_estate("outlets").await?, query).await?;
    let head = ["OUTLET", "STATE", "WAITING", "DEAD LETTERS", "LAST DELIVERED", "A MINUTE", "FLEET", "TO"];
    let empty = "There is no outlet. Next: `heron outlet add NAME --to ADDRESS`.";
    out.list(&outlets, empty, &head, |outlet| {
        let (settings, status) = (&outlet.settings, &outlet.status);
        vec![
            settings.slug.clone(),
            status.state.name().into(),
            waiting(status.backlog),
            status.dead_letters.to_string(),
            ago(status.last_delivered),
            format!("{:.1}", status.a_minute),
            or_all(settings.fleet.as_ref(), "all"),
            kinds::place(&settings.to),
        ]
    })
}

async fn add(client: &Client, out: &Out, args: OutletAddArgs) -> Result<()> {
    let OutletAddArgs { slug, to, which, request, broker, kept, secrets: given, since } = args;
    let mut body = Fields::default();
    body.put("slug", Some(slug));
    body.put("retry_for_s", request.retry_for);
    messages(which, &mut body)?;
    let kind = kinds::kind_of(&to)?;
    let to = kinds::fields(kind, Given { to: Some(to), account: given.account.clone(), request, broker, kept })?;
    body.put("to", Some(json!({ kind: to.0 })));
    body.put_inside("secrets", secrets(&given)?);
    body.put("since", since.map(|at| at.since().to_rfc3339()));
    let made: Outlet = client.post(&client.in_estate("outlets").await?, &body.0).await?;
    out.one(&made, lines)?;
    if out.json { Ok(()) } else { out.line(format!("Next: `heron outlet test {}`.", made.settings.slug)) }
}

async fn set(client: &Client, out: &Out, args: OutletSetArgs) -> Result<()> {
    let mut path_now = path(client, &args.outlet).await?;
    let mut body = Fields::default();
    body.put("slug", args.slug.clone());
    body.put("retry_for_s", args.request.retry_for);
    messages(args.which, &mut body)?;
    let before: Outlet = client.get(&path_now, &[]).await?;
    let kind = before.settings.to.kind();
    let OutletSetArgs { to, request, broker, kept, secrets: given, .. } = args;
    let mut to = kinds::fields(kind, Given { to, account: given.account.clone(), request, broker, kept })?;
    let mut secrets = secrets(&given)?;
    without(&args.without, &mut body, &mut to, &mut secrets)?;
    if !to.0.is_empty() {
        body.put("to", Some(json!({ kind: to.0 })));
    }
    body.put_inside("secrets", secrets);
    let mut changed: Option<Outlet> = None;
    if !body.0.is_empty() {
        let outlet: Outlet = client.patch(&path_now, &body.0).await?;
        path_now = path(client, &outlet.settings.slug).await?;
        changed = Some(outlet);
    }
    for (wanted, verb) in [(args.pause, "pause"), (args.resume, "resume")] {
        if wanted {
            changed = Some(client.post(&format!("{path_now}/{verb}"), &json!({})).await?);
        }
    }
    match changed {
        Some(outlet) => out.one(&outlet, lines),
        None => bail!("nothing is to be changed; `heron outlet set --help` says what can be"),
    }
}

fn delivery(delivery: &Delivery) -> Vec<(&'static str, String)> {
    let mut lines = vec![
        ("when", show::clock(delivery.at)),
        ("outcome", if delivery.delivered { "taken" } else { "not taken" }.into()),
    ];
    lines.extend(delivery.why.clone().map(|why| ("because", why)));
    lines.push(("took", format!("{:.1} ms", delivery.took_ms)));
    lines.extend(letters::exchange(&delivery.request, delivery.answer.as_ref()));
    lines
}

async fn deliveries(client: &Client, out: &Out, outlet: &str, bodies: bool) -> Result<()> {
    let all: Vec<Delivery> = client.all(&format!("{}/deliveries", path(client, outlet).await?), &[]).await?;
    if bodies && !out.json {
        return all.iter().try_for_each(|one| {
            out.one(one, delivery)?;
            out.line("")
        });
    }
    let head = ["WHEN", "OUTCOME", "TOOK", "MESSAGES", "WHY"];
    out.list(&all, "Nothing was delivered since the service was started.", &head, |one| {
        let status = one.answer.as_ref().map_or_else(String::new, |answer| format!(" ({})", answer.status));
        vec![
            show::clock(one.at),
            format!("{}{status}", if one.delivered { "taken" } else { "not taken" }),
            format!("{:.1} ms", one.took_ms),
            one.messages.len().to_string(),
            short(one.why.as_deref().unwrap_or("–")),
        ]
    })
}

async fn commands(client: &Client, out: &Out, outlet: &str) -> Result<()> {
    let all: Vec<CommandTaken> = client.all(&format!("{}/commands", path(client, outlet).await?), &[]).await?;
    let head = ["WHEN", "TAKEN", "TOPIC", "COMMAND", "ANSWER"];
    out.list(&all, "No command came since the service was started.", &head, |one| {
        vec![
            show::clock(one.at),
            if one.taken { "yes" } else { "no" }.into(),
            one.topic.clone(),
            short(&one.command),
            short(&one.answer),
        ]
    })
}

pub(crate) async fn run(client: &Client, out: &Out, verb: OutletVerb, yes: bool) -> Result<()> {
    match verb {
        OutletVerb::List(which) => list(client, out, &which.query()).await,
        OutletVerb::Show { outlet } => {
            let outlet: Outlet = client.get(&path(client, &outlet).await?, &[]).await?;
            out.one(&outlet, lines)
        }
        OutletVerb::Add(args) => add(client, out, *args).await,
        OutletVerb::Set(args) => set(client, out, *args).await,
        OutletVerb::Remove { outlet } => {
            let what = "What waits is not delivered any more, and its dead letters are gone.";
            show::confirm(yes, &format!("The outlet {outlet} will be removed. {what}"))?;
            client.delete(&path(client, &outlet).await?).await?;
            out.said(format!("{outlet} was removed."))
        }
        OutletVerb::Test { outlet } => {
            let tried: Delivery = client.post(&format!("{}/test", path(client, &outlet).await?), &json!({})).await?;
            out.one(&tried, delivery)?;
            if tried.delivered { Ok(()) } else { Err(NeedsAttention.into()) }
        }
        OutletVerb::Send { outlet, since } => {
            let wanted = SendAgain { since: since.since() };
            let sent: SentAgain = client.post(&format!("{}/send-again", path(client, &outlet).await?), &wanted).await?;
            out.said(format!("{} messages since {} are looked at again.", sent.messages, show::moment(wanted.since)))
        }
        OutletVerb::Delivery { verb: DeliveryVerb::List { outlet, bodies } } => {
            deliveries(client, out, &outlet, bodies).await
        }
        OutletVerb::Preview(args) => preview::run(client, out, args).await,
        OutletVerb::Command { verb: CommandVerb::List { outlet } } => commands(client, out, &outlet).await,
        OutletVerb::Letter { verb } => letters::run(client, out, verb, yes).await,
    }
}
