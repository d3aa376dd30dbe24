//! What all listeners share, and what follows from deploys.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use actix_web::web::{Bytes, Data};
use arc_swap::ArcSwap;
use kanzlei_model::time::Timestamp;
use kanzlei_runtime::admission::Admission;
use kanzlei_runtime::background::Background;
use kanzlei_runtime::effects::Effects;
use kanzlei_runtime::journal::Journal;
use kanzlei_runtime::live::{Live, Public};
use kanzlei_runtime::queue::Jobs;
use kanzlei_store::Store;

use crate::control;
use crate::error::Result;
use crate::public::admit::Arrivals;
use crate::tls::Certificate;

/// What all listeners share.
pub struct App {
    pub store: Store,
    pub live: Arc<ArcSwap<Live>>,
    pub jobs: Arc<Jobs>,
    pub journal: Arc<Journal>,
    pub public_url: String,
    /// The header field with the id of a run in public answers; empty for none.
    pub run_header: String,
    /// The header field `Server` of public answers, and what stands in front of the types of problems; empty for none.
    pub server: String,
    pub problem_types: String,
    /// Where the public listener listens.
    pub public_listener: std::net::SocketAddr,
    /// Whether it has TLS.
    pub public_tls: bool,
    pub started: Timestamp,
    /// The certificates of the listeners that have TLS.
    pub certificates: Vec<Arc<Certificate>>,
    pub in_flight: Arc<Admission>,
    /// Bodies that arrive; requests in flight are those that have arrived.
    pub arrivals: Arc<Arrivals>,
    pub effects: Arc<Effects>,
    /// Where databases for rehearsals are made, if anywhere.
    pub scratch: Option<kanzlei_store::databases::Database>,
    /// Those that are lent.
    pub lent: control::scratch::Lent,
    pub session: Duration,
    /// The interval of keep-alive comments in event streams.
    pub alive: Duration,
    pub deploying: tokio::sync::Mutex<()>,
    /// Changes of many jobs.
    pub operations: control::Operations,
    /// Whether the database answers.
    pub pulse: Pulse,
    /// Whether the process ends and finishes what it began.
    pub stopping: AtomicBool,
    /// Lanes as metrics show them.
    pub lanes: control::metrics::Lanes,
    /// What is known of operator tokens.
    pub tokens: control::auth::Tokens,
    /// What is known of callers' keys.
    pub keys: crate::public::access::Keys,
    /// Keys of issuers, and the tokens verified with them.
    pub issuers: Arc<kanzlei_runtime::tokens::issuers::Issuers>,
    /// What callers may still ask for.
    pub allowances: kanzlei_runtime::allowances::Allowances,
    /// What keys asked for.
    pub usage: Arc<kanzlei_runtime::usage::UsageCounts>,
    /// Proxies that say from where requests come.
    pub proxies: Arc<kanzlei_model::address::Allowed>,
    /// Names under which the control listener answers.
    /// Jobs of one lane that a process runs at the same time.
    pub places_of_lane: u32,
    /// Direct runs that have begun an effect.
    pub notes: Arc<kanzlei_runtime::begun::Notes>,
    /// The last rotation of the key of the secrets.
    pub rotation: control::rotation::Last,
    /// Erasures and what came of them.
    pub erasures: control::erase::Erasures,
    pub hosts: control::hosts::Hosts,
    /// The file of the audit trail.
    pub trail: control::audit::Trail,
    /// The provider of identities through which operators sign in.
    pub provider: Option<control::openid::Provider>,
    /// Wrong tokens by peer.
    pub guesses: control::auth::Guesses,
    /// Whether the console's address is HTTPS.
    pub secure: bool,
    /// The runtime that ends last: runs continue in it after their answer, and statements belong to it.
    pub runtime: tokio::runtime::Handle,
    /// The pool for CPU-bound work.
    pub background: Background,
    /// The live documents, as editors ask about them.
    pub workspace: std::sync::Arc<control::language::LiveWorkspace>,
    /// Trials of this process.
    pub trials: control::trials::Trials,
    /// Addresses at which drafts can be called.
    pub previews: control::previews::Open,
    /// How long trials are kept.
    pub trial_age: kanzlei_model::time::Span,
    /// Base addresses that replace those of the service documents.
    pub bases: std::collections::BTreeMap<String, String>,
}

/// Whether the database answers, as of the last second.
#[derive(Default)]
pub struct Pulse {
    missed: AtomicBool,
    took_us: AtomicU64,
}

impl Pulse {
    /// An answer did not come in time.
    pub fn missed(&self) {
        self.missed.store(true, Ordering::Relaxed);
    }

    /// How long the last sign of life took.
    pub fn took(&self) -> Duration {
        Duration::from_micros(self.took_us.load(Ordering::Relaxed))
    }
}

/// Asks the database for a sign of life each second.
pub async fn feel_pulse(app: Data<App>) {
    let mut every = tokio::time::interval(Duration::from_secs(1));
    every.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        every.tick().await;
        let begun = Instant::now();
        let answered = matches!(tokio::time::timeout(Duration::from_secs(2), app.store.ping()).await, Ok(Ok(())));
        app.pulse.took_us.store(begun.elapsed().as_micros() as u64, Ordering::Relaxed);
        if app.pulse.missed.swap(!answered, Ordering::Relaxed) == answered {
            match answered {
                true => tracing::info!("the database answers again"),
                false => tracing::warn!("the database does not answer"),
            }
        }
    }
}

impl App {
    /// How the database stands: `available`, `unavailable` or `full`.
    pub fn database_state(&self) -> &'static str {
        let unavailable = self.pulse.missed.load(Ordering::Relaxed);
        match (kanzlei_store::database_is_full(), unavailable) {
            (true, _) => "full",
            (false, true) => "unavailable",
            (false, false) if self.journal.database_unavailable.load(Ordering::Relaxed) => "unavailable",
            (false, false) => "available",
        }
    }

    /// How clients see the public listener.
    pub fn public(&self) -> Public {
        Public { url: self.public_url.clone(), run_header: self.run_header.clone() }
    }

    /// Reads what is live and serves it to all later requests.
    pub async fn reload(&self) -> Result<()> {
        // Read before the documents: a deploy between the two is seen when the generation is read
        // again.
        let generation = self.store.generation().await?;
        let documents = self.store.live_at(generation).await?;
        let (graduals, beside) = (self.store.graduals().await?, self.store.gradual_at(generation).await?);
        let former = self.store.former_names().await?;
        let (bases, journal) = (self.bases.clone(), self.journal.clone());
        let (before, public) = (self.live.load_full(), self.public());
        let build = move || {
            let live = Live::build(documents, generation, &bases, &journal, &before, &public, former);
            live.with_graduals(graduals, beside, &journal)
        };
        self.live.store(Arc::new(self.background.run(build).await?));
        Ok(())
    }

    /// The OpenAPI document of what clients of a host reach, as it is sent.
    pub async fn openapi(&self, host: &str) -> std::result::Result<Bytes, kanzlei_runtime::Error> {
        let live = self.live.load_full();
        match live.openapi_made(host) {
            Some(made) => Ok(made),
            None => {
                let host = host.to_owned();
                self.background.run(move || live.openapi(&host)).await
            }
        }
    }
}

/// Fails over to another node of the database's cluster when the current one is unavailable.
pub async fn keep_server(store: Store) {
    let mut every = tokio::time::interval(Duration::from_millis(500));
    every.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        every.tick().await;
        match store.fail_over().await {
            Ok(None) => {}
            Ok(Some(server)) => tracing::warn!(server, "the database was unavailable; another of its servers is used"),
            Err(error) => tracing::debug!(%error, "none of the database's servers answers"),
        }
    }
}

/// Serves what another process on the same database deployed.
pub async fn follow_deploys(app: Data<App>) {
    let mut every = tokio::time::interval(Duration::from_millis(200));
    every.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        every.tick().await;
        let _ = app.jobs.follow_holds().await;
        let Ok(generation) = app.store.generation().await else { continue };
        if generation != app.live.load().generation {
            let _turn = app.deploying.lock().await;
            // Secrets are shared too.
            let _ = app.effects.secrets.load(&app.store).await;
            if generation != app.live.load().generation
                && let Err(error) = app.reload().await
            {
                tracing::warn!(%error, "what was deployed elsewhere is not in force here yet");
            }
        }
    }
}
