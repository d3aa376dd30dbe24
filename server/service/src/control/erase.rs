//! Erases what belongs to a caller, a tag or a value: jobs, runs, messages, files and refused requests.
//!
//! It goes on behind its answer, in portions, and can be asked for again: what is erased stays erased. The journal is read whole,
//! because runs of many callers stand in one segment; segments with runs that are meant are written anew without them. Bounds: one
//! erasure at a time, [`KEPT`] reports.

use std::collections::HashSet;
use std::sync::{Arc, Mutex, PoisonError};

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path};
use kanzlei_api::erasures::{Erasure, NewErasure};
use kanzlei_model::hex;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::journal::opened;
use kanzlei_store::erase::{Candidate, Segment, Whose};
use kanzlei_store::journal::Run;
use sha2::{Digest, Sha256};
use uuid::Uuid;

use super::auth::Caller;
use super::jobs::read_id;
use crate::App;
use crate::error::{Error, Result};
use crate::public::uploads;

/// Reports that can be polled.
const KEPT: usize = 20;
/// The shortest text; a shorter one is in too much.
const SHORTEST: usize = 4;

/// Erasures, the newest last.
#[derive(Default)]
pub struct Erasures(Mutex<Vec<Arc<Mutex<Erasure>>>>);

/// A report that is being written.
type Report = Arc<Mutex<Erasure>>;

fn update(report: &Report, change: impl FnOnce(&mut Erasure)) {
    change(&mut report.lock().unwrap_or_else(PoisonError::into_inner));
}

fn read(report: &Report) -> Erasure {
    report.lock().unwrap_or_else(PoisonError::into_inner).clone()
}

impl Erasures {
    /// Begins one, where none is under way.
    fn begin(&self, erasure: Erasure) -> Option<Report> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if all.iter().any(|one| !read(one).ended) {
            return None;
        }
        let room = all.len().saturating_sub(KEPT - 1);
        all.drain(..room);
        let report = Arc::new(Mutex::new(erasure));
        all.push(report.clone());
        Some(report)
    }

    fn find(&self, id: Uuid) -> Option<Erasure> {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.iter().map(read).find(|one| one.id == id)
    }
}

/// What is meant.
fn whose(asked: &NewErasure) -> Result<Whose> {
    let wrong = |detail: String| Error::problem(422, "Invalid erasure", detail);
    let whose = match (&asked.caller, &asked.tag, &asked.text) {
        (Some(caller), None, None) => Whose::Caller(caller.clone()),
        (None, Some(tag), None) => Whose::Tag(tag.clone()),
        (None, None, Some(text)) => Whose::Text(text.clone()),
        _ => return Err(wrong("set one of `caller`, `tag` and `text`".into())),
    };
    match whose.text().trim().chars().count() {
        0 => Err(wrong("the text is empty".into())),
        n if n < SHORTEST && matches!(whose, Whose::Text(_)) => {
            Err(wrong(format!("a text has at least {SHORTEST} characters; a shorter one is in too much")))
        }
        _ => Ok(whose),
    }
}

/// `POST /erasures`: erases, or counts what would be erased.
pub async fn erase(app: Data<App>, caller: Caller, body: Json<NewErasure>) -> Result<HttpResponse> {
    let asked = body.into_inner();
    let whose = whose(&asked)?;
    if !asked.preview {
        // The trail is kept longer than what is erased: it has no value, only its digest.
        let (kind, shown) = match &whose {
            Whose::Caller(name) => ("caller", name.clone()),
            Whose::Tag(tag) => ("tag", digest(tag)),
            Whose::Text(text) => ("text", digest(text)),
        };
        caller.notes.changed(format!("erasure by {kind}"), None, Some(shown));
    }
    let erasure = Erasure {
        id: Uuid::now_v7(),
        begun: now(),
        preview: asked.preview,
        ended: false,
        failure: None,
        jobs: 0,
        open: 0,
        runs: 0,
        examined: 0,
        deliveries: 0,
        refusals: 0,
        files: 0,
        others: 0,
        sealed: 0,
    };
    let Some(report) = app.erasures.begin(erasure) else {
        return Err(Error::problem(409, "An erasure is under way", "one goes on at a time; wait for its end"));
    };
    let answer = read(&report);
    let behind = app.clone();
    app.runtime.spawn(async move {
        let done = Work { app: &behind, whose: &whose, report: &report, preview: asked.preview }.run().await;
        let failure = done.err().map(|error| error.to_string());
        if let Some(why) = &failure {
            tracing::error!(why, "an erasure broke off");
        }
        update(&report, |erasure| (erasure.ended, erasure.failure) = (true, failure));
    });
    Ok(HttpResponse::Accepted().json(answer))
}

/// `GET /erasures/{id}`: how an erasure stands.
pub async fn show(app: Data<App>, id: Path<String>) -> Result<HttpResponse> {
    let id = read_id(&id)?;
    let gone = || Error::not_found("this erasure is not known here: it ended with its process; ask for it again");
    Ok(HttpResponse::Ok().json(app.erasures.find(id).ok_or_else(gone)?))
}

fn digest(text: &str) -> String {
    format!("SHA-256 {}", hex::of(&Sha256::digest(text.as_bytes())))
}

/// One erasure.
struct Work<'w> {
    app: &'w App,
    whose: &'w Whose,
    report: &'w Report,
    preview: bool,
}

impl Work<'_> {
    async fn run(&self) -> Result<()> {
        self.app.journal.flush().await;
        if !self.preview {
            self.app.store.retire_dictionaries(self.whose.text()).await?;
        }
        let jobs = self.jobs().await?;
        let runs = self.runs(&jobs).await?;
        self.deliveries(&runs).await?;
        let refusals = self.app.store.erase_refusals(self.whose, self.preview).await?;
        update(self.report, |erasure| erasure.refusals = refusals);
        if let Whose::Caller(name) = self.whose {
            let files = self.app.store.uploads_of(name).await?;
            update(self.report, |erasure| erasure.files += files.len() as u64);
            if !self.preview {
                uploads::remove(&self.app.store, &self.app.effects.files, &files).await;
                let counts = self.app.store.erase_counts(name).await?;
                update(self.report, |erasure| erasure.others += counts);
            }
        }
        if !self.preview {
            let store = &self.app.store;
            loop {
                let left = store.segments_of_retired().await?;
                if left.is_empty() {
                    break;
                }
                for segment in left {
                    store.replace_segment(&segment, &segment.runs).await?;
                }
            }
            store.erase_dictionaries().await?;
        }
        Ok(())
    }

    /// Whether a candidate is meant: one that is sealed is opened.
    fn is_meant(&self, one: &Candidate, open: impl Fn(&[u8]) -> Option<Vec<u8>>) -> bool {
        let Some(sealed) = &one.sealed else { return true };
        match open(sealed) {
            Some(plain) => contains(&plain, self.whose.text()),
            None => {
                update(self.report, |erasure| erasure.sealed += 1);
                false
            }
        }
    }

    /// Erases jobs that have ended; returns their ids.
    async fn jobs(&self) -> Result<HashSet<Uuid>> {
        let (store, secrets) = (&self.app.store, &self.app.effects.secrets);
        let open = |sealed: &[u8]| {
            let text = std::str::from_utf8(sealed).ok()?;
            secrets.unguard(text).map(String::into_bytes)
        };
        let (mut all, mut after) = (HashSet::new(), None);
        loop {
            let page = store.jobs_to_erase(self.whose, after).await?;
            let Some(last) = page.last() else { return Ok(all) };
            after = Some(last.id);
            let (running, ended): (Vec<_>, Vec<_>) =
                page.iter().filter(|one| self.is_meant(one, open)).partition(|one| one.open);
            let ids: Vec<Uuid> = ended.iter().map(|one| one.id).collect();
            let mut files = 0;
            if !self.preview {
                for id in &ids {
                    files += self.app.effects.files.remove_job(*id).await.map_err(unremoved)?;
                }
                store.erase_jobs(&ids).await?;
                ids.iter().for_each(|id| self.app.jobs.followers.changed(*id));
            }
            update(self.report, |erasure| {
                erasure.jobs += ids.len() as u64;
                erasure.open += running.len() as u64;
                erasure.files += files;
            });
            all.extend(ids);
        }
    }

    /// Erases runs that are meant, and those of the jobs; returns their ids with those of the jobs.
    async fn runs(&self, jobs: &HashSet<Uuid>) -> Result<HashSet<Uuid>> {
        let (mut all, mut after) = (jobs.clone(), 0);
        loop {
            let page = self.app.store.segments_after(after).await?;
            let Some(last) = page.last() else { break };
            after = last.id;
            for segment in page {
                let examined = segment.runs.len() as u64;
                let (segment, meant) = self.meant(segment, jobs).await?;
                if !meant.is_empty() && !self.preview {
                    let kept: Vec<Run> = segment.runs.iter().filter(|run| !meant.contains(&run.id)).cloned().collect();
                    self.app.store.replace_segment(&segment, &kept).await?;
                }
                update(self.report, |erasure| {
                    erasure.examined += examined;
                    erasure.runs += meant.len() as u64;
                });
                all.extend(meant);
            }
        }
        if !self.preview {
            let ids: Vec<Uuid> = all.iter().copied().collect();
            let others = self.app.store.erase_beside_runs(&ids).await?;
            update(self.report, |erasure| erasure.others += others);
        }
        Ok(all)
    }

    /// The runs of a segment that are meant.
    async fn meant(&self, segment: Segment, jobs: &HashSet<Uuid>) -> Result<(Segment, HashSet<Uuid>)> {
        let (whose, secrets, jobs) = (self.whose.clone(), self.app.effects.secrets.clone(), jobs.clone());
        let search = move || {
            let is_meant = |run: &Run| match &whose {
                _ if jobs.contains(&run.id) => true,
                Whose::Caller(name) => run.caller.name.as_ref() == Some(name),
                Whose::Tag(_) => false,
                Whose::Text(text) => {
                    let (plain, _) = opened(run.clone(), &secrets);
                    contains(plain.input.as_bytes(), text)
                }
            };
            let meant = segment.runs.iter().filter(|run| is_meant(run)).map(|run| run.id).collect();
            (segment, meant)
        };
        Ok(self.app.background.run(search).await?)
    }

    async fn deliveries(&self, runs: &HashSet<Uuid>) -> Result<()> {
        let (store, secrets) = (&self.app.store, &self.app.effects.secrets);
        let runs: Vec<Uuid> = runs.iter().copied().collect();
        let mut found: HashSet<Uuid> = store.deliveries_of_runs(&runs).await?.into_iter().collect();
        let mut after = None;
        loop {
            let page = store.deliveries_to_erase(self.whose, after).await?;
            let Some(last) = page.last() else { break };
            after = Some(last.id);
            let meant = page.iter().filter(|one| self.is_meant(one, |sealed| secrets.unseal(sealed)));
            found.extend(meant.map(|one| one.id));
        }
        let found: Vec<Uuid> = found.into_iter().collect();
        if !self.preview {
            store.erase_deliveries(&found).await?;
        }
        update(self.report, |erasure| erasure.deliveries = found.len() as u64);
        Ok(())
    }
}

fn unremoved(why: impl std::fmt::Display) -> Error {
    Error::problem(503, "Files of a job cannot be removed", why.to_string())
}

/// Whether JSON or a message has a text, as it is or escaped as JSON.
fn contains(bytes: &[u8], text: &str) -> bool {
    let escaped = serde_json::to_string(text).unwrap_or_default();
    let has = |part: &str| bytes.windows(part.len().max(1)).any(|window| window == part.as_bytes());
    has(text) || has(escaped.trim_matches('"'))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_thing_is_erased() {
        let of = |caller: &str, tag: &str, text: &str| {
            let some = |text: &str| (!text.is_empty()).then(|| text.to_owned());
            whose(&NewErasure { caller: some(caller), tag: some(tag), text: some(text), preview: false })
        };
        assert_eq!(of("pilots", "", "").ok(), Some(Whose::Caller("pilots".into())));
        assert_eq!(of("", "", "9074720").ok(), Some(Whose::Text("9074720".into())));
        for (caller, tag, text) in [("", "", ""), ("a", "b", ""), ("", "", "abc"), (" ", "", "")] {
            assert!(of(caller, tag, text).is_err(), "{caller} {tag} {text}");
        }
        assert!(contains(br#"{"a":"x \"y\""}"#, r#"x "y""#) && !contains(b"{}", "x"));
    }
}
