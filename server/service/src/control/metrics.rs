//! `GET /metrics`: what this process counts and how full it is, as OpenMetrics text; `/~/live` and `/~/ready` for supervisors of processes.
//!
//! Counters are those of the process; depths and rates of lanes are those of all processes, read from the database at
//! most every [`FRESH`]. Names of workflows and services are those of documents, at most [`MOST`] of each; further ones are left out, and
//! their number is reported. Durations are in seconds, sizes in bytes.

use std::fmt;
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use actix_web::HttpResponse;
use actix_web::web::Data;
use kanzlei_model::time::Span;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::journal::Counters;
use kanzlei_runtime::metrics::{OfWorkflow, Timed, Words};
use kanzlei_store::queue::{LaneDepth, Sample};
use prometheus_client::collector::Collector;
use prometheus_client::encoding::{DescriptorEncoder, EncodeMetric, MetricEncoder, text};
use prometheus_client::metrics::MetricType;
use prometheus_client::metrics::counter::ConstCounter;
use prometheus_client::metrics::gauge::ConstGauge;
use prometheus_client::metrics::info::Info;
use prometheus_client::registry::{Registry, Unit};

use crate::App;
use crate::error::{Error, Result};

/// The media type of OpenMetrics text.
const MEDIA_TYPE: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";
/// The most workflows and services that are shown.
const MOST: usize = 1000;
/// How long what is known of lanes is shown again.
const FRESH: Duration = Duration::from_secs(5);
/// How long the database has for lanes; without them the rest is answered.
const PATIENCE: Duration = Duration::from_secs(2);
/// The span over which rates of lanes are taken.
const SPAN: Span = Span::from_secs(60);

/// Lanes as they were read last.
#[derive(Default)]
pub struct Lanes(Mutex<Option<(Instant, Arc<Stand>)>>);

/// How lanes stand over all processes.
#[derive(Debug, Default)]
struct Stand {
    depths: Vec<LaneDepth>,
    recent: Vec<Sample>,
}

/// `GET /~/live` of both listeners: the process serves requests.
pub fn live() -> HttpResponse {
    HttpResponse::Ok().json(serde_json::json!({"status": "live"}))
}

/// `GET /~/ready` of both listeners: whether requests are to be sent here. A process that stops is not ready. Without the database it is:
/// endpoints that answer at once go on, and all processes miss it together; `database` says so.
pub fn ready(app: &App) -> HttpResponse {
    let stopping = app.stopping.load(Ordering::Relaxed);
    let shown = serde_json::json!({
        "status": if stopping { "stopping" } else { "ready" },
        "database": app.database_state(),
        "workflows": app.live.load().workflows.len(),
    });
    match stopping {
        true => HttpResponse::ServiceUnavailable().json(shown),
        false => HttpResponse::Ok().json(shown),
    }
}

/// `GET /metrics` of the control listener.
pub async fn metrics(app: Data<App>) -> Result<HttpResponse> {
    let stand = stand(&app).await;
    let mut registry = Registry::with_prefix("kanzlei");
    registry.register_collector(Box::new(Seen { app: app.clone(), stand }));
    let mut body = String::new();
    text::encode(&mut body, &registry)
        .map_err(|_| Error::problem(500, "Internal server error", "the metrics cannot be written"))?;
    Ok(HttpResponse::Ok().content_type(MEDIA_TYPE).body(body))
}

/// How lanes stand; nothing where the database does not answer in time.
async fn stand(app: &App) -> Option<Arc<Stand>> {
    let known = app.lanes.0.lock().unwrap_or_else(PoisonError::into_inner).clone();
    if let Some((_, stand)) = known.filter(|(read, _)| read.elapsed() < FRESH) {
        return Some(stand);
    }
    let at = now();
    let read = async { tokio::try_join!(app.store.lane_depths(at), app.store.samples(at - SPAN)) };
    let (depths, recent) = tokio::time::timeout(PATIENCE, read).await.ok()?.ok()?;
    let stand = Arc::new(Stand { depths, recent });
    *app.lanes.0.lock().unwrap_or_else(PoisonError::into_inner) = Some((Instant::now(), stand.clone()));
    Some(stand)
}

/// What one answer shows.
struct Seen {
    app: Data<App>,
    stand: Option<Arc<Stand>>,
}

impl fmt::Debug for Seen {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Seen")
    }
}

/// Writes families of metrics.
struct Page<'e>(DescriptorEncoder<'e>);

/// A name and its help.
type Family<'n> = (&'n str, &'n str);

impl Page<'_> {
    fn family(
        &mut self,
        (name, help): Family<'_>,
        unit: Option<&Unit>,
        kind: MetricType,
        rows: impl FnOnce(&mut MetricEncoder<'_>) -> fmt::Result,
    ) -> fmt::Result {
        rows(&mut self.0.encode_descriptor(name, help, unit, kind)?)
    }

    /// A gauge without labels.
    fn gauge(&mut self, family: Family<'_>, unit: Option<&Unit>, value: f64) -> fmt::Result {
        self.gauges(family, unit, "", [("", value)])
    }

    /// Gauges of one label; an empty one stands for none.
    fn gauges<'v>(
        &mut self,
        family: Family<'_>,
        unit: Option<&Unit>,
        label: &str,
        values: impl IntoIterator<Item = (&'v str, f64)>,
    ) -> fmt::Result {
        self.family(family, unit, MetricType::Gauge, |rows| {
            for (name, value) in values {
                match label {
                    "" => ConstGauge::new(value).encode(rows.encode_family(&NONE)?)?,
                    label => ConstGauge::new(value).encode(rows.encode_family(&[(label, name)])?)?,
                }
            }
            Ok(())
        })
    }

    /// Counters of one label.
    fn counters<'v>(
        &mut self,
        family: Family<'_>,
        label: &str,
        values: impl IntoIterator<Item = (&'v str, u64)>,
    ) -> fmt::Result {
        self.family(family, None, MetricType::Counter, |rows| {
            for (name, value) in values {
                ConstCounter::new(value).encode(rows.encode_family(&[(label, name)])?)?;
            }
            Ok(())
        })
    }

    /// How things of some names ended, and how long they took.
    fn timed<'v, I: Iterator<Item = (&'v str, &'v Timed)>>(
        &mut self,
        (count, times): (Family<'_>, Family<'_>),
        (label, became): (&str, &str),
        all: impl Fn() -> I,
    ) -> fmt::Result {
        self.family(count, None, MetricType::Counter, |rows| {
            for (name, timed) in all() {
                for (word, value) in timed.words.all() {
                    ConstCounter::new(value).encode(rows.encode_family(&[(label, name), (became, word)])?)?;
                }
            }
            Ok(())
        })?;
        self.family(times, Some(&Unit::Seconds), MetricType::Histogram, |rows| {
            for (name, timed) in all().filter(|(_, timed)| timed.count() > 0) {
                timed.times.encode(rows.encode_family(&[(label, name)])?)?;
            }
            Ok(())
        })
    }
}

/// No labels.
const NONE: [(&str, &str); 0] = [];

impl Collector for Seen {
    fn encode(&self, encoder: DescriptorEncoder<'_>) -> fmt::Result {
        let app = &self.app;
        let mut page = Page(encoder);
        let mut workflows: Vec<(String, Arc<Counters>)> = app.journal.all_counters();
        workflows.sort_by(|a, b| a.0.cmp(&b.0));
        let live = app.live.load_full();
        let left_out = workflows.len().saturating_sub(MOST) + live.services.len().saturating_sub(MOST);
        workflows.truncate(MOST);
        self.process(&mut page, left_out)?;
        requests(&mut page, app, &workflows)?;
        page.timed(
            (
                ("calls", "Calls of services by the class of the status or the kind of failure"),
                ("call_duration", "How long calls of services took, waiting for their limits included"),
            ),
            ("service", "outcome"),
            || live.services.iter().take(MOST).map(|(name, service)| (name.as_str(), &*service.calls)),
        )?;
        let words = |words: &Words| words.all();
        let totals = &app.jobs.totals;
        page.counters(
            ("timetable_instants", "Due instants of timetables by what became of them"),
            "result",
            words(&totals.timetables),
        )?;
        page.counters(("deliveries", "Messages that webhooks received"), "state", words(&totals.deliveries))?;
        page.counters(("allowance_requests", "Requests that allowances counted"), "result", words(&totals.allowances))?;
        of_lanes(&mut page, app)?;
        if let Some(stand) = &self.stand {
            lanes(&mut page, stand)?;
        }
        Ok(())
    }
}

fn requests(page: &mut Page<'_>, app: &App, workflows: &[(String, Arc<Counters>)]) -> fmt::Result {
    let of = |pick: fn(&OfWorkflow) -> &Timed| {
        move || workflows.iter().map(move |(name, counters)| (name.as_str(), pick(&counters.metrics)))
    };
    let elsewhere = || std::iter::once(("", &app.jobs.totals.elsewhere));
    let answers = of(|counts| &counts.answers);
    page.timed(
        (
            ("answers", "Answers of the public listener by the class of their status; without a workflow all that no endpoint gave"),
            ("answer_duration", "How long requests took from their first byte to their answer"),
        ),
        ("workflow", "status"),
        || answers().chain(elsewhere()),
    )?;
    page.timed(
        (("runs", "Runs that answered a request, by how they ended"), ("run_duration", "How long runs took")),
        ("workflow", "state"),
        of(|counts| &counts.runs),
    )?;
    page.timed(
        (
            ("jobs", "Runs of jobs that ended in this process, by how they ended"),
            ("job_duration", "How long the runs of jobs took, from their beginning"),
        ),
        ("workflow", "state"),
        of(|counts| &counts.jobs),
    )
}

/// What lanes did in this process.
fn of_lanes(page: &mut Page<'_>, app: &App) -> fmt::Result {
    let all = app.jobs.tally.since_start();
    let running = all.iter().map(|(lane, whole)| (lane.as_str(), whole.running as f64));
    page.gauges(("lane_running", "Jobs of a lane that run in this process"), None, "lane", running)?;
    let begun = all.iter().map(|(lane, whole)| (lane.as_str(), whole.begun));
    page.counters(("lane_begun", "Jobs that began in this process"), "lane", begun)?;
    let ended = ("lane_ended", "Jobs that ended in this process");
    page.family(ended, None, MetricType::Counter, |rows| {
        for (lane, whole) in &all {
            for (state, count) in ["succeeded", "rejected", "failed"].into_iter().zip(whole.ended) {
                let labels = [("lane", lane.as_str()), ("state", state)];
                ConstCounter::new(count).encode(rows.encode_family(&labels)?)?;
            }
        }
        Ok(())
    })
}

fn lanes(page: &mut Page<'_>, stand: &Stand) -> fmt::Result {
    let at = now();
    page.family(("lane_jobs", "Jobs of a lane by state, over all processes"), None, MetricType::Gauge, |rows| {
        for depth in &stand.depths {
            for (state, count) in [
                ("scheduled", depth.scheduled),
                ("queued", depth.queued),
                ("running", depth.running),
                ("waiting", depth.waiting),
            ] {
                let labels = [("lane", depth.lane.as_str()), ("state", state)];
                ConstGauge::new(count as f64).encode(rows.encode_family(&labels)?)?;
            }
        }
        Ok(())
    })?;
    let oldest = stand.depths.iter().filter_map(|depth| {
        let due = depth.oldest?;
        Some((depth.lane.as_str(), (at - due).max(Span::ZERO).as_micros() as f64 / 1e6))
    });
    page.gauges(("lane_oldest", "How long the job that waits longest is due"), Some(&Unit::Seconds), "lane", oldest)?;
    let mut sums: Vec<Sample> = Vec::new();
    for sample in &stand.recent {
        match sums.iter_mut().find(|sum| sum.lane == sample.lane) {
            Some(sum) => {
                sum.begun += sample.begun;
                sum.delay += sample.delay;
            }
            None => sums.push(sample.clone()),
        }
    }
    let seconds = SPAN.as_secs_f64();
    let begun = sums.iter().map(|sum| (sum.lane.as_str(), sum.begun as f64 / seconds));
    page.gauges(
        ("lane_begun_per_second", "Jobs that began, on average over the last minute and over all processes"),
        None,
        "lane",
        begun,
    )?;
    let delay = sums
        .iter()
        .filter(|sum| sum.begun > 0)
        .map(|sum| (sum.lane.as_str(), sum.delay as f64 / sum.begun as f64 / 1e6));
    page.gauges(
        ("lane_delay", "Mean time between the due time and the beginning of jobs, over the last minute"),
        Some(&Unit::Seconds),
        "lane",
        delay,
    )
}

impl Seen {
    /// The process: how full it is, and what it dropped.
    fn process(&self, page: &mut Page<'_>, left_out: usize) -> fmt::Result {
        let app = &self.app;
        page.family(("build", "The version that runs"), None, MetricType::Info, |rows| {
            Info::new([("version", env!("CARGO_PKG_VERSION"))]).encode(rows.encode_family(&NONE)?)
        })?;
        let started = app.started.as_micros() as f64 / 1e6;
        page.gauge(("start_time", "When the process began, since 1970"), Some(&Unit::Seconds), started)?;
        page.gauge(("workflows", "Workflows that are live"), None, app.live.load().workflows.len() as f64)?;
        page.gauge(("left_out", "Workflows and services beyond those that have metrics"), None, left_out as f64)?;
        let (resident, open) = of_process();
        page.gauge(("resident_memory", "Memory of the process"), Some(&Unit::Bytes), resident)?;
        page.gauge(("open_files", "Open files and sockets of the process"), None, open)?;
        let bounds = super::overview::bounds(app);
        let used = bounds.iter().map(|bound| (bound.name.as_str(), bound.used as f64));
        page.gauges(("used", "What is used of each bound of the process"), None, "bound", used)?;
        let most = bounds.iter().map(|bound| (bound.name.as_str(), bound.bound as f64));
        page.gauges(
            (
                "bound",
                "The bounds of the process: requests in flight, threads, connections, bytes that wait for the database",
            ),
            None,
            "bound",
            most,
        )?;
        page.counters(
            ("dropped", "Details that were dropped instead of written"),
            "what",
            [
                ("runs", app.journal.dropped.load(Ordering::Relaxed)),
                ("refusals", app.journal.refusals.dropped.load(Ordering::Relaxed)),
                ("telemetry", app.jobs.telemetry.dropped.load(Ordering::Relaxed)),
            ],
        )?;
        let pools: Vec<_> = std::iter::once(("records", app.store.connections()))
            .chain(app.effects.databases.iter().map(|(name, outside)| (name.as_str(), outside.database.connections())))
            .collect();
        page.family(("pool_connections", "Connections of each pool of databases"), None, MetricType::Gauge, |rows| {
            for (name, (idle, open, _)) in &pools {
                for (state, count) in [("idle", *idle), ("busy", open - idle)] {
                    ConstGauge::new(f64::from(count))
                        .encode(rows.encode_family(&[("pool", *name), ("state", state)])?)?;
                }
            }
            Ok(())
        })?;
        let most = pools.iter().map(|(name, (_, _, most))| (*name, f64::from(*most)));
        page.gauges(("pool_bound", "The most connections of each pool"), None, "pool", most)?;
        let expire = app.certificates.iter().filter_map(|certificate| {
            Some((certificate.listener(), certificate.ends().ok()?.as_micros() as f64 / 1e6))
        });
        let expire: Vec<_> = expire.collect();
        page.gauges(
            ("certificate_expiry", "When the certificate of a listener ends, since 1970"),
            Some(&Unit::Seconds),
            "listener",
            expire,
        )?;
        let available = if app.database_state() == "available" { 1.0 } else { 0.0 };
        page.gauge(("database_available", "Whether the database answers and has room"), None, available)?;
        let ping = app.pulse.took().as_secs_f64();
        page.gauge(
            ("database_ping", "How long the database took for its last sign of life"),
            Some(&Unit::Seconds),
            ping,
        )
    }
}

/// Memory and open files of the process, where the system shows them; zero elsewhere.
fn of_process() -> (f64, f64) {
    let pages = std::fs::read_to_string("/proc/self/statm").unwrap_or_default();
    let resident = pages.split_whitespace().nth(1).and_then(|pages| pages.parse::<f64>().ok()).unwrap_or(0.0);
    let open = std::fs::read_dir("/proc/self/fd").map_or(0, Iterator::count);
    // Pages have 4 KiB where Debian runs.
    (resident * 4096.0, open as f64)
}
