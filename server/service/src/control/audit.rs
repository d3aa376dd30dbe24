//! The audit trail: what changed through the control API and by whom, and who looked at runs with confidential values.
//!
//! Handlers note what a request is about; the line is written when its answer is known, before it is sent. It goes to the records and, where
//! `audit.file` is set, as one line of JSON to a file. A line that cannot be written to the records is logged as an error.

use std::io::Write;
use std::sync::{Arc, Mutex, PoisonError};

use actix_web::HttpResponse;
use actix_web::web::{Data, Query};
use kanzlei_api::audit::{Audit, AuditFilter, AuditLine};
use kanzlei_model::time::Timestamp;
use kanzlei_runtime::clock::{fresh_id, now};
use kanzlei_store::audit::{AuditFilter as Filter, Audited};

use super::auth::Caller;
use crate::App;
use crate::error::{Error, Result};

/// The most lines of one answer.
const MOST: u32 = 1000;
/// The most lines of one request.
const MOST_NOTES: usize = 1000;

/// What a request is about.
#[derive(Clone, Debug, Default)]
struct Note {
    subject: String,
    before: Option<String>,
    after: Option<String>,
}

/// What a handler notes of its request.
#[derive(Clone, Debug, Default)]
pub struct Notes(Arc<Mutex<Vec<Note>>>);

impl Notes {
    /// Notes a change of something, as text before and after; confidential values do not belong here.
    pub fn changed(&self, subject: impl Into<String>, before: Option<String>, after: Option<String>) {
        let mut notes = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if notes.len() < MOST_NOTES {
            notes.push(Note { subject: subject.into(), before, after });
        }
    }

    /// Notes that something confidential was looked at.
    pub fn looked_at(&self, subject: impl Into<String>) {
        self.changed(subject, None, None);
    }
}

/// The file of the trail, where there is one.
pub struct Trail(Option<Mutex<std::fs::File>>);

impl Trail {
    /// Opens the file; an empty name is none.
    ///
    /// # Errors
    /// When it cannot be opened for appending.
    pub fn open(path: &str) -> std::io::Result<Self> {
        if path.is_empty() {
            return Ok(Trail(None));
        }
        let file = std::fs::OpenOptions::new().create(true).append(true).open(path)?;
        Ok(Trail(Some(Mutex::new(file))))
    }

    fn write(&self, lines: &[Audited]) {
        let Some(file) = &self.0 else { return };
        let text: String =
            lines.iter().filter_map(|line| serde_json::to_string(line).ok()).map(|line| line + "\n").collect();
        let mut file = file.lock().unwrap_or_else(PoisonError::into_inner);
        if let Err(error) = file.write_all(text.as_bytes()).and_then(|()| file.flush()) {
            tracing::error!(%error, "the audit trail cannot be written to its file");
        }
    }
}

/// Writes the lines of a request that was answered.
pub async fn write(app: &App, caller: &Caller, address: Option<String>, what: String, status: u16, changes: bool) {
    let mut notes = caller.notes.0.lock().unwrap_or_else(PoisonError::into_inner).clone();
    if notes.is_empty() {
        if !changes {
            return;
        }
        notes.push(Note::default());
    }
    let line = |note: Note| Audited {
        id: fresh_id(),
        at: now(),
        who: caller.name.clone(),
        role: caller.role.name().to_owned(),
        via: caller.via.to_owned(),
        address: address.clone(),
        what: what.clone(),
        subject: note.subject,
        status,
        before: note.before,
        after: note.after,
    };
    let lines: Vec<Audited> = notes.into_iter().map(line).collect();
    app.trail.write(&lines);
    if let Err(error) = app.store.audit(&lines).await {
        tracing::error!(%error, who = caller.name, what, "the audit trail lacks a line");
    }
}

/// `GET /audit`: the trail, newest first.
pub async fn list(app: Data<App>, asked: Query<AuditFilter>) -> Result<HttpResponse> {
    let asked = asked.into_inner();
    let limit = asked.limit.unwrap_or(100).clamp(1, MOST);
    let since = asked.since.as_deref().map(str::parse::<Timestamp>).transpose();
    let since = since
        .map_err(|_| Error::problem(422, "Not an instant", "`since` is an instant such as 2027-03-04T06:00:00Z"))?;
    let filter = Filter { who: asked.who, text: asked.text, since, before: asked.before, limit };
    let found = app.store.audited(&filter).await?;
    let next = (found.len() as u32 == limit).then(|| found.last().map(|line| line.id)).flatten();
    let lines = found.into_iter().map(|line| AuditLine {
        id: line.id,
        at: line.at,
        who: line.who,
        role: line.role,
        via: line.via,
        address: line.address,
        what: line.what,
        subject: line.subject,
        status: line.status,
        before: line.before,
        after: line.after,
    });
    Ok(HttpResponse::Ok().json(Audit { lines: lines.collect(), next }))
}
