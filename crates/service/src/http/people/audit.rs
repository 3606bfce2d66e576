//! Reading the audit log.

use api::people::audit::{AuditEntry, AuditKind, AuditPage};
use api::problem::{Problem, bad_field};
use axum::extract::State;
use axum::response::Response;
use chrono::{DateTime, SecondsFormat, Utc};
use domain::csv::guarded;
use serde::Deserialize;
use store::{AuditQuery, EstateId};
use ulid::Ulid;

use crate::history::TextForm;
use crate::http::app::App;
use crate::http::auth::context::RequestContext;
use crate::http::error::Refusal;
use crate::http::extract::{Paging, Params, WholeEstate};
use crate::http::file::{WantedForm, file};
use crate::http::json::{Answer, Json};

/// Entries in one export.
const MOST_EXPORTED: u32 = 200_000;

/// Which entries.
#[derive(Debug, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Which {
    /// Only of this kind: `change`, `sign`, `refusal` or `secret`.
    #[param(inline)]
    kind: Option<AuditKind>,
    /// Part of a person's or a token's name.
    who: Option<String>,
    /// Part of an action, or of what it was done to.
    what: Option<String>,
    /// From when on (RFC 3339).
    since: Option<DateTime<Utc>>,
    /// Until when.
    until: Option<DateTime<Utc>>,
}

impl Which {
    fn query(self, before: Option<String>) -> Result<AuditQuery, Problem> {
        let text = |field: &str, text: Option<String>| match text {
            Some(long) if long.chars().count() > 200 => {
                Err(bad_field(field, &long, "at most 200 characters are allowed"))
            }
            text => Ok(text.filter(|text| !text.trim().is_empty())),
        };
        let (who, what) = (text("who", self.who)?, text("what", self.what)?);
        if let Some(bad) = before.as_ref().filter(|before| Ulid::from_string(before).is_err()) {
            return Err(bad_field("after", bad, "the `next` of the page before"));
        }
        Ok(AuditQuery { kind: self.kind, who, what, from: self.since, until: self.until, before })
    }
}

async fn page(app: &App, estate: Option<EstateId>, which: Which, paging: &Paging) -> Answer<AuditPage> {
    let limit = paging.limit()?;
    let query = which.query(paging.after.clone())?;
    let rows = app.store.audit(estate, &query, limit + 1).await?;
    let page = crate::http::extract::page(rows, limit, |entry| entry.id.clone(), |entry| entry);
    let (kept_days, append_only) = (app.edge.audit_days, app.edge.audit_append_only);
    Ok(Json(AuditPage { items: page.items, next: page.next, kept_days, append_only }))
}

/// The estate's audit log, newest first.
#[utoipa::path(get, path = "/estates/{estate}/audit", tag = "audit",
    extensions(("x-right" = json!("audit"))),
    params(Which, Paging),
    responses((status = 200, body = AuditPage), (status = 422, body = Problem)))]
pub(crate) async fn list_audit(
    State(app): State<App>,
    estate: WholeEstate,
    Params(which): Params<Which>,
    Params(paging): Params<Paging>,
) -> Answer<AuditPage> {
    page(&app, Some(estate.id), which, &paging).await
}

/// The installation's audit log, newest first: sign-ins, accounts, estates.
#[utoipa::path(get, path = "/installation/audit", tag = "installation",
    extensions(("x-right" = json!("installation"))), params(Which, Paging),
    responses((status = 200, body = AuditPage), (status = 422, body = Problem)))]
pub(crate) async fn list_installation_audit(
    State(app): State<App>,
    _entry: RequestContext,
    Params(which): Params<Which>,
    Params(paging): Params<Paging>,
) -> Answer<AuditPage> {
    page(&app, None, which, &paging).await
}

/// The audit log as a file, newest first.
#[utoipa::path(get, path = "/estates/{estate}/audit/export", tag = "audit",
    extensions(("x-right" = json!("audit"))),
    params(Which, WantedForm),
    responses((status = 200, body = String, content_type = "text/csv"), (status = 422, body = Problem)))]
pub(crate) async fn export_audit(
    State(app): State<App>,
    estate: WholeEstate,
    Params(which): Params<Which>,
    Params(form): Params<WantedForm>,
) -> Result<Response, Refusal> {
    let form = form.read()?;
    let _turn = app.exports.turn(estate.context.who.person.id).await?;
    let entries = app.store.audit(Some(estate.id), &which.query(None)?, MOST_EXPORTED).await?;
    let text = match form {
        TextForm::Csv => csv(&entries),
        TextForm::JsonLines => lines(&entries),
    };
    Ok(file(&format!("audit.{}", form.name()), form.content_type(), text.into()))
}

fn lines(entries: &[AuditEntry]) -> String {
    entries.iter().filter_map(|entry| serde_json::to_string(entry).ok()).map(|line| line + "\n").collect()
}

fn csv(entries: &[AuditEntry]) -> String {
    let mut writer = csv::Writer::from_writer(Vec::new());
    let head = ["time", "kind", "who", "token", "address", "action", "object", "status", "note", "changes"];
    let mut written = writer.write_record(head).is_ok();
    for entry in entries {
        let side = |side: &Option<serde_json::Value>| side.as_ref().map_or_else(|| "–".into(), ToString::to_string);
        let changes: Vec<String> = entry
            .differences
            .iter()
            .map(|d| format!("{}: {} → {}", d.field, side(&d.before), side(&d.after)))
            .collect();
        written &= writer
            .write_record([
                &*entry.time.to_rfc3339_opts(SecondsFormat::Millis, true),
                entry.kind.name(),
                &*guarded(&entry.who),
                &*guarded(entry.token.as_deref().unwrap_or_default()),
                &entry.address,
                &entry.action,
                &*guarded(&entry.object),
                &entry.status.to_string(),
                &*guarded(entry.note.as_deref().unwrap_or_default()),
                &*guarded(&changes.join("; ")),
            ])
            .is_ok();
    }
    debug_assert!(written, "memory takes what is written to it");
    writer.into_inner().ok().and_then(|bytes| String::from_utf8(bytes).ok()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use api::people::audit::AuditDifference;

    use super::*;

    #[test]
    fn a_spreadsheet_runs_nothing_of_what_people_wrote() {
        let entry = AuditEntry {
            id: "01".into(),
            time: DateTime::UNIX_EPOCH,
            kind: AuditKind::Change,
            who: "=cmd|' /C calc'!A0".into(),
            token: Some("-x".into()),
            address: "127.0.0.1".into(),
            action: "change_device".into(),
            object: "@sum(1)".into(),
            status: 200,
            note: None,
            differences: vec![AuditDifference { field: "name".into(), before: Some("a".into()), after: None }],
        };
        let text = csv(std::slice::from_ref(&entry));
        let row = text.lines().nth(1).unwrap();
        assert!(row.starts_with("1970-01-01T00:00:00.000Z,change,'=cmd|"), "{row}");
        assert!(
            row.contains(",'-x,") && row.contains(",'@sum(1),") && row.ends_with("\"name: \"\"a\"\" → –\""),
            "{row}"
        );
        let back: AuditEntry = serde_json::from_str(lines(std::slice::from_ref(&entry)).trim()).unwrap();
        assert_eq!(back, entry);
    }
}
