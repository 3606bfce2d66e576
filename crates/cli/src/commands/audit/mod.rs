//! The audit log.

pub(crate) mod args;

use anyhow::Result;
use api::people::audit::{AuditEntry, AuditKind, AuditPage};

use crate::args::moment;
use crate::client::Client;
use crate::commands::audit::args::{AuditFilterArgs, AuditListArgs, AuditVerb, Kind};
use crate::save;
use crate::show::{self, Out};

impl From<Kind> for AuditKind {
    fn from(kind: Kind) -> Self {
        match kind {
            Kind::Change => Self::Change,
            Kind::Sign => Self::Sign,
            Kind::Refusal => Self::Refusal,
            Kind::Secret => Self::Secret,
        }
    }
}

fn query(args: &AuditFilterArgs) -> Vec<(&'static str, String)> {
    let mut query = Vec::new();
    query.extend(args.kind.map(|kind| ("kind", AuditKind::from(kind).name().to_owned())));
    query.extend(args.who.clone().map(|who| ("who", who)));
    query.extend(args.what.clone().map(|what| ("what", what)));
    query.extend(args.since.map(|at| ("since", moment::text(at.since()))));
    query.extend(args.until.map(|at| ("until", moment::text(at.until()))));
    query
}

pub(crate) async fn run(client: &Client, out: &Out, verb: AuditVerb) -> Result<()> {
    match verb {
        AuditVerb::List(args) => list(client, out, args).await,
        AuditVerb::Export { which, output } => {
            let mut query = query(&which);
            query.push(("form", save::text_form(output.as_deref())?.to_owned()));
            let response = client.stream(&client.in_estate("audit/export").await?, &query, None).await?;
            save::whole(response, output.as_deref()).await
        }
    }
}

async fn list(client: &Client, out: &Out, args: AuditListArgs) -> Result<()> {
    let mut query = query(&args.which);
    let path = match args.installation {
        true => "/installation/audit".to_owned(),
        false => client.in_estate("audit").await?,
    };
    query.push(("limit", args.limit.to_string()));
    let page: AuditPage = client.get(&path, &query).await?;
    if out.json {
        return out.json(&page);
    }
    let time = format!("TIME ({})", show::zone());
    let head = [time.as_str(), "KIND", "WHO", "FROM", "ACTION", "WHAT", "ENDED", "BEFORE → AFTER"];
    out.list(&page.items, "Nothing like it is in the audit log.", &head, |entry| {
        let time = show::moment(entry.time);
        let (kind, address) = (entry.kind.name().to_owned(), entry.address.clone());
        let (action, object) = (entry.action.replace('_', " "), entry.object.clone());
        vec![time, kind, who(entry), address, action, object, entry.status.to_string(), told(entry)]
    })?;
    let added = if page.append_only { "entries are only added" } else { "the database lets entries be changed" };
    out.line(format!("\nKept for {} days; {added}.", page.kept_days))
}

fn who(entry: &AuditEntry) -> String {
    match &entry.token {
        Some(token) => format!("{} (token {token})", entry.who),
        None => entry.who.clone(),
    }
}

/// What changed, and what else is said, on one line.
fn told(entry: &AuditEntry) -> String {
    let side = |side: &Option<serde_json::Value>| match side {
        None => "–".to_owned(),
        Some(serde_json::Value::String(text)) => text.replace(['\n', '\r'], " "),
        Some(other) => other.to_string(),
    };
    let changes = entry.differences.iter().map(|d| match &d.before {
        None => format!("{}: {}", d.field, side(&d.after)),
        Some(_) => format!("{}: {} → {}", d.field, side(&d.before), side(&d.after)),
    });
    entry.note.iter().cloned().chain(changes).collect::<Vec<_>>().join("; ")
}

#[cfg(test)]
mod tests {
    use api::people::audit::AuditDifference;

    use super::*;

    #[test]
    fn an_entry_stands_on_one_line() {
        let entry = AuditEntry {
            id: "01".into(),
            time: chrono::DateTime::UNIX_EPOCH,
            kind: AuditKind::Change,
            who: "marit".into(),
            token: Some("dashboard".into()),
            address: "::1".into(),
            action: "change_device".into(),
            object: "device tide-01".into(),
            status: 200,
            note: Some("by hand".into()),
            differences: vec![
                AuditDifference { field: "name".into(), before: Some("a".into()), after: Some("b\nc".into()) },
                AuditDifference { field: "app_key".into(), before: None, after: Some("changed".into()) },
            ],
        };
        assert_eq!(told(&entry), "by hand; name: a → b c; app_key: changed");
        assert_eq!(who(&entry), "marit (token dashboard)");
    }
}
