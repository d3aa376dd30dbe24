//! Addresses of drafts: opened, listed and closed by operators; called by [`crate::public`].
//!
//! An address is off until it is opened, lasts some hours, and cannot be guessed: its secret part is a keyed hash of its id, of which only a
//! digest is stored. What is called there is compiled from the drafts as they stand, beside what is live, and looked at again
//! at most once a second. At most [`MOST`] addresses are open, and tables of [`TABLES`] are held.

use kanzlei_runtime::files::Holder;
use std::collections::{HashMap, VecDeque};
use std::sync::atomic::AtomicUsize;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path};
use kanzlei_api::drafts::DraftName;
use kanzlei_api::jobs::JobDocument;
use kanzlei_api::previews as api;
use kanzlei_engine::machine::Reply;
use kanzlei_lang::diagnostic::Severity;
use kanzlei_model::hex;
use kanzlei_model::problem::Problem;
use kanzlei_model::time::Span;
use kanzlei_rehearsal::Prepared;
use kanzlei_runtime::clock::{fresh_id, now};
use kanzlei_runtime::direct::InFlight;
use kanzlei_runtime::live::Live;
use kanzlei_runtime::trial::Modes;
use kanzlei_store::trials::Preview;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use uuid::Uuid;

use super::auth::Caller;
use super::deploys::{Given, check_here, name_of, with_live};
use super::trials::{stubs, table};
use super::workflows::endpoints;
use crate::App;
use crate::error::{Error, Result};

/// Addresses that are open at once.
const MOST: u32 = 200;
/// Addresses whose drafts are held compiled.
const TABLES: usize = 20;
/// Drafts of one address.
const MOST_DRAFTS: usize = 50;
/// Hours that an address is open by default and at most.
const HOURS: (u32, u32) = (8, 168);
/// How long what is known of addresses and drafts counts as current.
const FRESH: Duration = Duration::from_secs(1);
/// Calls at the same time, of all addresses and of one.
const AT_ONCE: usize = 32;
const AT_ONCE_OF_ONE: usize = 8;
/// How a call ended whose endpoint answers later: its job, its reply, and the files of it.
pub type EndedCall = (JobDocument, Option<Reply>, Arc<Holder>);

/// Ends of calls whose endpoint answers later, and the heaviest reply that is held of one.
const RESULTS: usize = 100;
const HEAVIEST: u64 = 1 << 20;

/// What an address consists of, as it is stored.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct About {
    drafts: Vec<DraftName>,
    live: bool,
    real: Vec<String>,
    simulated: Vec<String>,
    stubs: String,
}

impl About {
    /// What is stored of an address, with the names that its drafts have today.
    fn of(preview: &Preview, live: &Live) -> Self {
        let mut about: About = serde_json::from_str(&preview.about).unwrap_or_default();
        for draft in about.drafts.iter_mut().filter(|draft| draft.kind == "workflow") {
            draft.name = live.name_now(&draft.name, preview.id).to_owned();
        }
        about
    }
}

/// Open addresses by the digest of their secret part.
type ByDigest = Arc<HashMap<String, Arc<Preview>>>;

/// The addresses of this process.
#[derive(Default)]
pub struct Open {
    /// Those that are open, by digest, and when they were read.
    known: tokio::sync::Mutex<Option<(Instant, ByDigest)>>,
    tables: Mutex<VecDeque<(Uuid, Arc<Built>)>>,
    /// Addresses whose drafts have errors, and when that was found.
    failed: Mutex<VecDeque<(Uuid, Instant, Problem)>>,
    /// Compiles one address at a time; a request that waits uses the result of the one before it.
    building: tokio::sync::Mutex<()>,
    under_way: Arc<AtomicUsize>,
    results: Mutex<VecDeque<(Uuid, EndedCall)>>,
}

/// The drafts of an address, compiled beside what was live.
pub struct Built {
    /// When it was last compared with the drafts.
    at: Mutex<Instant>,
    of: (u64, Vec<u64>),
    /// What can be called.
    pub table: Arc<Live>,
    /// What is performed.
    pub modes: Modes,
    /// Stubs by workflow.
    pub stubs: Arc<HashMap<String, Prepared>>,
    under_way: Arc<AtomicUsize>,
}

impl Open {
    /// Occupies a place among the calls under way; `None` when all are occupied.
    pub fn enter(&self, built: &Built) -> Option<[InFlight; 2]> {
        let own = InFlight::enter(&built.under_way, AT_ONCE_OF_ONE)?;
        Some([own, InFlight::enter(&self.under_way, AT_ONCE)?])
    }

    /// Holds the end of a call whose endpoint answers later.
    pub fn ended(&self, id: Uuid, document: JobDocument, reply: Option<Reply>, files: Arc<Holder>) {
        let reply = reply.filter(|reply| reply.body.weight() <= HEAVIEST);
        let mut results = self.results.lock().unwrap_or_else(PoisonError::into_inner);
        results.push_front((id, (document, reply, files)));
        results.truncate(RESULTS);
    }

    /// The end of such a call.
    pub fn result(&self, id: Uuid) -> Option<EndedCall> {
        let results = self.results.lock().unwrap_or_else(PoisonError::into_inner);
        results.iter().find(|(known, ..)| *known == id).map(|(_, ended)| ended.clone())
    }

    /// The open address of a token.
    pub async fn find(&self, app: &App, token: &str) -> Result<Option<Arc<Preview>>> {
        let mut known = self.known.lock().await;
        let current = known.as_ref().filter(|(at, _)| at.elapsed() < FRESH).map(|(_, known)| known.clone());
        let current = match current {
            Some(current) => current,
            None => {
                let all = app.store.previews(now(), MOST).await?;
                let all = all.into_iter().map(|preview| (preview.hash.clone(), Arc::new(preview))).collect();
                let all = Arc::new(all);
                *known = Some((Instant::now(), Arc::clone(&all)));
                all
            }
        };
        drop(known);
        let found = current.get(&digest(token)).filter(|preview| preview.expires > now());
        Ok(found.cloned())
    }

    /// Reads the addresses anew before the next call.
    async fn changed(&self) {
        *self.known.lock().await = None;
    }

    /// The drafts of an address as they stand, or what is wrong with them.
    pub async fn built(&self, app: &App, preview: &Preview) -> Result<Arc<Built>> {
        let held = |tables: &VecDeque<(Uuid, Arc<Built>)>| {
            tables.iter().find(|(id, _)| *id == preview.id).map(|(_, built)| built.clone())
        };
        let current = || held(&self.tables.lock().unwrap_or_else(PoisonError::into_inner));
        if let Some(built) = current().filter(|built| built.age() < FRESH) {
            return Ok(built);
        }
        let _turn = self.building.lock().await;
        let before = current();
        if let Some(built) = before.as_ref().filter(|built| built.age() < FRESH) {
            return Ok(built.clone());
        }
        let failed = self.failed.lock().unwrap_or_else(PoisonError::into_inner).clone();
        if let Some((.., problem)) = failed.into_iter().find(|(id, at, _)| *id == preview.id && at.elapsed() < FRESH) {
            return Err(Error::Runtime(kanzlei_runtime::Error::Problem(Box::new(problem))));
        }
        let live = app.live.load_full();
        let about = About::of(preview, &live);
        let mut versions = Vec::with_capacity(about.drafts.len());
        for DraftName { kind, name } in &about.drafts {
            versions.push(app.store.draft(kind, name).await?.map_or(0, |draft| draft.version));
        }
        let of = (live.generation, versions);
        if let Some(same) = before.as_ref().filter(|built| built.of == of) {
            *same.at.lock().unwrap_or_else(PoisonError::into_inner) = Instant::now();
            return Ok(same.clone());
        }
        let under_way = before.map(|built| built.under_way.clone()).unwrap_or_default();
        let built = match build(app, live, about, of, under_way).await {
            Ok(built) => Arc::new(built),
            Err(error) => {
                let mut failed = self.failed.lock().unwrap_or_else(PoisonError::into_inner);
                failed.retain(|(id, ..)| *id != preview.id);
                failed.push_front((preview.id, Instant::now(), error.as_problem()));
                failed.truncate(TABLES);
                return Err(error);
            }
        };
        let mut tables = self.tables.lock().unwrap_or_else(PoisonError::into_inner);
        tables.retain(|(id, _)| *id != preview.id);
        tables.push_front((preview.id, built.clone()));
        tables.truncate(TABLES);
        Ok(built)
    }
}

impl Built {
    fn age(&self) -> Duration {
        self.at.lock().unwrap_or_else(PoisonError::into_inner).elapsed()
    }
}

/// Compiles drafts beside what is live.
async fn build(
    app: &App,
    live: Arc<Live>,
    about: About,
    of: (u64, Vec<u64>),
    under_way: Arc<AtomicUsize>,
) -> Result<Built> {
    let given = Given::of(std::iter::empty(), &Default::default(), &about.drafts);
    let (given, _) = given.read(app, &live).await?;
    let names: Vec<String> = given
        .documents
        .iter()
        .filter_map(|source| name_of(&source.text).filter(|(kind, _)| *kind == "workflow").map(|(_, name)| name))
        .collect();
    let bundle = with_live(given, &live);
    let checked = check_here(app, bundle.clone()).await?;
    if let Some(first) = checked.diagnostics.iter().find(|found| found.severity == Severity::Error) {
        let detail = format!("{} (line {} of {})", first.message, first.line, first.path);
        return Err(Error::problem(500, "The draft has errors", detail));
    }
    let mut ready = HashMap::new();
    if !about.stubs.trim().is_empty() {
        let mut refused = None;
        for name in &names {
            match stubs(name, &about.stubs, &checked) {
                Ok(prepared) => _ = ready.insert(name.clone(), prepared),
                Err(error) => refused = Some(error),
            }
        }
        // Stubs for one of several workflows are none for the others.
        if let Some(error) = refused.filter(|_| ready.is_empty()) {
            return Err(error);
        }
    }
    let modes = Modes { all: about.live, real: about.real, simulated: about.simulated };
    let table = table(app, live, checked, bundle).await?;
    Ok(Built { at: Mutex::new(Instant::now()), of, table, modes, stubs: Arc::new(ready), under_way })
}

fn digest(token: &str) -> String {
    hex::of(&Sha256::digest(token.as_bytes()))
}

/// `POST /previews`: opens an address for drafts.
pub async fn open(app: Data<App>, caller: Caller, body: Json<api::NewPreview>) -> Result<HttpResponse> {
    let asked = body.into_inner();
    let refused = |detail: String| Error::problem(422, "The address cannot be opened", detail);
    if asked.drafts.is_empty() || asked.drafts.len() > MOST_DRAFTS {
        return Err(refused(format!("name 1 to {MOST_DRAFTS} drafts")));
    }
    let hours = asked.hours.unwrap_or(HOURS.0);
    if !(1..=HOURS.1).contains(&hours) {
        return Err(refused(format!("an address is open for 1 to {} hours", HOURS.1)));
    }
    if app.store.previews(now(), MOST).await?.len() >= MOST as usize {
        return Err(refused(format!("{MOST} addresses are open; close some first")));
    }
    let id = fresh_id();
    let about = About {
        drafts: asked.drafts,
        live: asked.live,
        real: asked.real,
        simulated: asked.simulated,
        stubs: asked.stubs,
    };
    let preview = Preview {
        id,
        hash: digest(&app.jobs.token_of(id)),
        about: serde_json::to_string(&about).unwrap_or_default(),
        operator: caller.name.clone(),
        created: now(),
        expires: now() + Span::from_secs(i64::from(hours) * 3600),
    };
    // What cannot be called gets no address.
    app.previews.built(&app, &preview).await.map_err(|error| match error.as_problem() {
        problem if problem.status == 500 => refused(problem.detail.unwrap_or(problem.title)),
        _ => error,
    })?;
    app.store.open_preview(&preview).await?;
    app.previews.changed().await;
    tracing::info!(preview = %id, operator = caller.name, "drafts can be called before they are deployed");
    Ok(HttpResponse::Ok().json(shown(&app, &preview).await))
}

/// `GET /previews`: the addresses that are open.
pub async fn list(app: Data<App>) -> Result<HttpResponse> {
    let mut previews = Vec::new();
    for preview in app.store.previews(now(), MOST).await? {
        previews.push(shown(&app, &preview).await);
    }
    Ok(HttpResponse::Ok().json(api::Previews { previews }))
}

/// `DELETE /previews/{id}`: closes an address.
pub async fn close(app: Data<App>, id: Path<Uuid>) -> Result<HttpResponse> {
    if !app.store.close_preview(*id).await? {
        return Err(Error::not_found(format!("no preview {id} is open")));
    }
    app.previews.changed().await;
    Ok(HttpResponse::NoContent().finish())
}

async fn shown(app: &App, preview: &Preview) -> api::Preview {
    let about = About::of(preview, &app.live.load());
    let url = format!("{}/~/drafts/{}", app.public_url, app.jobs.token_of(preview.id));
    let built = app.previews.built(app, preview).await;
    let refused = built.as_ref().err().map(|error| {
        let problem = error.as_problem();
        problem.detail.unwrap_or(problem.title)
    });
    let named = |name: &str| about.drafts.iter().any(|draft| draft.kind == "workflow" && draft.name == name);
    let table = built.as_ref().ok().map(|built| &built.table);
    let of_drafts = table.into_iter().flat_map(|table| table.workflows.values()).filter(|one| named(&one.plan.name));
    let endpoints = of_drafts.flat_map(|workflow| endpoints(workflow, &url)).map(|mut endpoint| {
        // A draft is called below its own path, whatever its host will be.
        if endpoint.request.headers.remove("Host").is_some() {
            endpoint.curl = kanzlei_compiler::example::curl(&endpoint.request, &url);
        }
        api::PreviewEndpoint { method: endpoint.method, url: endpoint.reach, curl: endpoint.curl }
    });
    api::Preview {
        id: preview.id,
        endpoints: endpoints.collect(),
        url,
        drafts: about.drafts,
        operator: preview.operator.clone(),
        created: preview.created,
        expires: preview.expires,
        refused,
    }
}
