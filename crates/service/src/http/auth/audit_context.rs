//! What a request adds to the audit log.

use std::net::IpAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Instant;

use api::people::audit::{AuditDifference, AuditEntry, AuditKind};
use api::problem::Problem;
use axum::http::StatusCode;
use chrono::Utc;
use domain::audit::differences;
use serde::Serialize;
use store::{EstateId, Person};
use ulid::Ulid;

use crate::http::app::App;
use crate::http::auth::access::Who;
use crate::http::auth::refusals::{Fate, GATHERED};
use crate::http::error::Refusal;

/// Notes by a handler for the audit log, recorded when it has ended.
#[derive(Clone)]
pub struct AuditContext(Arc<Mutex<AuditNotes>>);

struct AuditNotes {
    object: String,
    kind: Option<AuditKind>,
    note: Option<String>,
    differences: Vec<AuditDifference>,
}

impl AuditContext {
    /// The default: what the path names.
    pub fn at(object: &str) -> Self {
        Self(Arc::new(Mutex::new(AuditNotes {
            object: object.to_owned(),
            kind: None,
            note: None,
            differences: Vec::new(),
        })))
    }

    fn lock(&self) -> MutexGuard<'_, AuditNotes> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What it was done to, as text.
    pub fn object(&self, object: impl Into<String>) -> &Self {
        self.lock().object = object.into();
        self
    }

    /// Further details.
    pub fn note(&self, note: impl Into<String>) -> &Self {
        self.lock().note = Some(note.into());
        self
    }

    /// A sign-in or a sign-out.
    pub fn sign(&self) -> &Self {
        self.lock().kind = Some(AuditKind::Sign);
        self
    }

    /// A secret was shown.
    pub fn secret(&self) -> &Self {
        self.lock().kind = Some(AuditKind::Secret);
        self
    }

    /// What was made.
    pub fn made(&self, after: &impl Serialize) -> &Self {
        self.differ(None::<&()>, Some(after))
    }

    /// What was removed.
    pub fn removed(&self, before: &impl Serialize) -> &Self {
        self.differ(Some(before), None::<&()>)
    }

    /// What was changed.
    pub fn changed(&self, before: &impl Serialize, after: &impl Serialize) -> &Self {
        self.differ(Some(before), Some(after))
    }

    fn differ(&self, before: Option<&impl Serialize>, after: Option<&impl Serialize>) -> &Self {
        let json = |side: serde_json::Result<serde_json::Value>| side.ok();
        let before = before.and_then(|before| json(serde_json::to_value(before)));
        let after = after.and_then(|after| json(serde_json::to_value(after)));
        self.lock().differences.extend(differences(before.as_ref(), after.as_ref()));
        self
    }

    /// A secret has another value, which is not shown.
    pub fn secret_changed(&self, field: &str) -> &Self {
        let changed = AuditDifference { field: field.to_owned(), before: None, after: Some("changed".into()) };
        self.lock().differences.push(changed);
        self
    }

    /// Whether a request has to be recorded that would otherwise not be.
    pub fn is_deed(&self) -> bool {
        self.lock().kind.is_some()
    }
}

/// A caller and an action.
pub(crate) struct AuditRecord {
    who: String,
    token: Option<String>,
    address: String,
    action: String,
}

impl AuditRecord {
    pub(crate) fn by(who: &Who, address: IpAddr, action: &str) -> Self {
        Self {
            who: who.person.name.clone(),
            token: who.token().map(str::to_owned),
            address: address.to_string(),
            action: action.to_owned(),
        }
    }

    /// By a caller who gave this name, which may be no account's.
    pub(crate) fn claimed(name: &str, address: IpAddr, action: &str) -> Self {
        Self { who: name.to_owned(), token: None, address: address.to_string(), action: action.to_owned() }
    }

    fn entry(&mut self, audit: &AuditContext, status: u16, kind: AuditKind) -> AuditEntry {
        let told = audit.lock();
        AuditEntry {
            id: Ulid::generate().to_string(),
            time: Utc::now(),
            kind,
            who: self.who.clone(),
            token: self.token.clone(),
            address: self.address.clone(),
            action: self.action.clone(),
            object: told.object.clone(),
            status,
            note: told.note.clone(),
            differences: told.differences.clone(),
        }
    }

    /// Records what was done and how it ended. Refusals that come again and again are counted.
    pub(crate) async fn ended(
        &mut self,
        app: &App,
        estate: Option<EstateId>,
        audit: &AuditContext,
        status: StatusCode,
        kind: Option<AuditKind>,
    ) {
        let kind = audit.lock().kind.or(kind).unwrap_or(AuditKind::Change);
        let entry = self.entry(audit, status.as_u16(), kind);
        if kind == AuditKind::Refusal {
            return refusal(app, estate, entry).await;
        }
        write(app, estate, &entry).await;
    }

    /// Records what was not allowed, and why.
    pub(crate) async fn refused(
        &mut self,
        app: &App,
        estate: Option<EstateId>,
        audit: &AuditContext,
        refused: &Refusal,
    ) {
        let mut entry = self.entry(audit, refused.0.status, AuditKind::Refusal);
        entry.note = Some(refused.0.to_string());
        refusal(app, estate, entry).await;
    }

    /// Records a sign-in or its failure: for the installation, and for each estate that the account is a member of.
    pub(crate) async fn signed(&mut self, app: &App, person: Option<&Person>, status: u16, note: Option<&str>) {
        let audit = AuditContext::at("");
        let mut entry = self.entry(&audit, status, AuditKind::Sign);
        entry.note = note.map(str::to_owned);
        write(app, None, &entry).await;
        let Some(person) = person.map(|person| person.id) else { return };
        // The answer does not wait for it: how long it takes would tell whether there is such an account.
        let app = app.clone();
        tokio::spawn(async move {
            let memberships = app.store.memberships(person, None).await.unwrap_or_default();
            for membership in memberships.iter().filter(|membership| membership.role.is_some()) {
                entry.id = Ulid::generate().to_string();
                write(&app, Some(membership.estate_id), &entry).await;
            }
        });
    }
}

/// Writes a refusal down, or counts it with others of the same caller.
async fn refusal(app: &App, estate: Option<EstateId>, mut entry: AuditEntry) {
    let key = (format!("{} {}", entry.who, entry.token.as_deref().unwrap_or_default()), estate);
    match app.edge.refusals.one_more(&key, Instant::now()) {
        Fate::Written => write(app, estate, &entry).await,
        Fate::Counted => {}
        Fate::Begun => {
            let app = app.clone();
            tokio::spawn(async move {
                tokio::time::sleep(GATHERED).await;
                let count = app.edge.refusals.counted(&key);
                let note =
                    format!("{count} requests were refused in {} s; the first of them is named", GATHERED.as_secs());
                (entry.id, entry.time, entry.note) = (Ulid::generate().to_string(), Utc::now(), Some(note));
                write(&app, estate, &entry).await;
            });
        }
    }
}

/// What was done is done: if it cannot be written down, the service's own log says it.
pub(crate) async fn write(app: &App, estate: Option<EstateId>, entry: &AuditEntry) {
    if let Err(why) = app.store.add_audit(estate, entry).await {
        tracing::error!(
            who = entry.who,
            action = entry.action,
            object = entry.object,
            status = entry.status,
            "an entry is missing in the audit log: {why}"
        );
    }
}

/// Records an unknown token, at a limited rate.
pub(crate) async fn unknown_token(app: &App, address: IpAddr, action: &str) {
    let told = Problem::new(401, "sign_in", "a token was presented that is none, or has ended");
    AuditRecord::claimed("(nobody)", address, action).refused(app, None, &AuditContext::at(""), &Refusal(told)).await;
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn a_trail_says_what_was_told_last_and_all_that_differs() {
        let audit = AuditContext::at("fleets/tide");
        audit.object("fleet tide").note("by hand");
        audit.changed(&json!({ "a": 1 }), &json!({ "a": 2 })).secret_changed("app_key");
        assert!(!audit.is_deed());
        let entry =
            AuditRecord::claimed("marit", IpAddr::from([127, 0, 0, 1]), "x").entry(&audit, 200, AuditKind::Change);
        let fields: Vec<&str> = entry.differences.iter().map(|d| d.field.as_str()).collect();
        assert_eq!((entry.object.as_str(), fields), ("fleet tide", vec!["a", "app_key"]));
        assert_eq!(entry.differences[1].after, Some("changed".into()));
        assert!(audit.secret().is_deed());
    }
}
