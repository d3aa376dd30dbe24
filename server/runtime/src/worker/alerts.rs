//! Alerts: measured every few seconds by one process, stepped, and announced by a job, once over all processes.
//!
//! A round is claimed in the database. Of each alert it reads the measures ([`measures`]), steps its standing
//! (`kanzlei_engine::alert`), writes that it began before it announces it, and what was announced afterwards. The id of a notice
//! follows from the alert, when it began and when it was announced before, so that a round which is repeated after a crash queues nothing twice.

mod measures;

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::Duration;

use kanzlei_compiler::plan::Alert;
use kanzlei_compiler::plan::alert::{Announced, notice};
use kanzlei_engine::alert::{Notice, Standing, Step, Terms, step};
use kanzlei_model::hex;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_store::alerts::{AlertRow, AlertSpan};
use kanzlei_store::queue::NewJob;
use sha2::{Digest, Sha256};
use uuid::Uuid;

use crate::clock::now;
use crate::error::{Error, Result};
use crate::live::Live;
use crate::queue::{Jobs, Origin};

pub use measures::Measures;

/// The pause between two rounds.
pub const EVERY: Span = Span::from_secs(10);
/// How often a process looks whether one is due.
const LOOKS: Duration = Duration::from_secs(2);
/// How long a round may take; the next one begins anew.
const PATIENCE: Duration = Duration::from_secs(60);
/// Bytes of measures and faults that are kept.
const MOST_FAULT: usize = 400;

/// Steps the alerts until the process ends.
pub async fn run(jobs: Arc<Jobs>) {
    let mut every = tokio::time::interval(LOOKS);
    every.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        every.tick().await;
        let live = jobs.live.load_full();
        if live.alerts.is_empty() {
            continue;
        }
        let at = now();
        let claimed = match jobs.store.claim_alert_round(at, at - EVERY).await {
            Ok(claimed) => claimed,
            Err(error) => {
                tracing::debug!(%error, "alerts wait for the database");
                continue;
            }
        };
        if claimed {
            match tokio::time::timeout(PATIENCE, round(&jobs, &live, at)).await {
                Ok(Ok(())) => {}
                Ok(Err(error)) => tracing::warn!(%error, "the alerts could not be stepped; the next round is soon"),
                Err(_) => tracing::warn!("a round of alerts took too long; the next one begins anew"),
            }
        }
    }
}

/// An alert that is to be announced.
struct Due<'a> {
    alert: &'a Alert,
    /// As it is in the records.
    row: AlertRow,
    step: Step,
    notice: Notice,
    began: Timestamp,
    measures: Measures,
}

/// Steps all alerts that are live.
///
/// # Errors
/// When the database is unavailable.
pub async fn round(jobs: &Jobs, live: &Live, at: Timestamp) -> Result<()> {
    let mut known: HashMap<String, AlertRow> =
        jobs.store.alerts().await?.into_iter().map(|row| (row.name.clone(), row)).collect();
    let mut due = Vec::new();
    for alert in live.alerts.values() {
        let definition = definition(alert);
        let before = known.remove(&alert.name).unwrap_or_default();
        let before = match before.definition == definition {
            true => before,
            // Another condition begins anew, and what lasted under the old one ends with it.
            false => {
                if let Some(began) = before.began {
                    note(jobs, &before, began, Some(at), 0).await?;
                }
                let AlertRow { version, silence, .. } = before;
                AlertRow { name: alert.name.clone(), definition, silence, version, ..AlertRow::default() }
            }
        };
        let (holds, measures, fault) = match measures::read(jobs, live, alert, at).await {
            Ok(measures) => {
                let holds = alert.holds(|name| measures::of(&measures, name));
                (holds.as_ref().ok().copied(), measures, holds.err())
            }
            Err(error) => (None, Vec::new(), Some(error.to_string())),
        };
        let silenced = before.silence.as_ref().is_some_and(|silence| silence.until > at);
        let standing = Standing {
            holds_since: before.holds_since,
            calm_since: before.calm_since,
            began: before.began,
            announced: before.announced,
        };
        let step = step(&standing, &terms(alert), holds, silenced, at);
        let began = step.ended.or(step.standing.began);
        let mut row = AlertRow {
            checked: at,
            fault: fault.map(|fault| fault.chars().take(MOST_FAULT).collect()),
            measures: match measures.is_empty() {
                true => before.measures.clone(),
                false => json(&measures),
            },
            ..before.clone()
        };
        match (step.notice, began, &alert.run) {
            (Some(notice), Some(began), Some(_)) => {
                // That it began is known before it is announced: the id of the notice follows from it.
                if before.began.is_none() {
                    (row.holds_since, row.began) = (step.standing.holds_since, Some(began));
                    if !jobs.store.write_alert(&row).await? {
                        continue;
                    }
                    row.version += 1;
                    note(jobs, &row, began, None, 0).await?;
                }
                due.push(Due { alert, row, step, notice, began, measures });
            }
            _ => {
                put(&mut row, &step.standing);
                // Without a workflow for notices it counts as never announced.
                row.announced = if alert.run.is_none() { None } else { row.announced };
                if jobs.store.write_alert(&row).await? {
                    let ended = step.ended.map(|_| at);
                    if let Some(began) = began.filter(|_| ended.is_some() || before.began.is_none()) {
                        note(jobs, &row, began, ended, 0).await?;
                    }
                }
            }
        }
    }
    // What lasted of alerts that are not live any more ends with them.
    for mut gone in known.into_values() {
        if let Some(began) = gone.began {
            note(jobs, &gone, began, Some(at), 0).await?;
            put(&mut gone, &Standing::default());
            jobs.store.write_alert(&gone).await?;
        }
    }
    announce(jobs, live, due, at).await
}

/// Queues the notices, those of a group together, and writes that they were announced.
async fn announce(jobs: &Jobs, live: &Live, due: Vec<Due<'_>>, at: Timestamp) -> Result<()> {
    let mut together: BTreeMap<(&str, String), Vec<Due<'_>>> = BTreeMap::new();
    for one in due {
        let Some(run) = one.alert.run.as_deref() else { continue };
        let with = one
            .alert
            .group
            .as_ref()
            .map_or_else(|| format!("alert {}", one.alert.name), |group| format!("group {group}"));
        together.entry((run, with)).or_default().push(one);
    }
    for ((run, _), all) in together {
        if let Err(error) = queue(jobs, live, run, &all, at).await {
            tracing::error!(workflow = run, %error, "a notice of alerts could not be queued; the next round tries it again");
            continue;
        }
        for Due { mut row, step, began, .. } in all {
            put(&mut row, &step.standing);
            if jobs.store.write_alert(&row).await? {
                note(jobs, &row, began, step.ended.map(|_| at), 1).await?;
            }
        }
    }
    Ok(())
}

/// Queues one notice.
async fn queue(jobs: &Jobs, live: &Live, run: &str, all: &[Due<'_>], at: Timestamp) -> Result<()> {
    let workflow = live.workflows.get(run).ok_or_else(|| Error::not_found(format!("no workflow `{run}` is live")))?;
    let announced: Vec<Announced<'_>> = all
        .iter()
        .map(|due| Announced {
            name: &due.alert.name,
            about: &due.alert.about,
            subject: due.alert.subject,
            of: &due.alert.of,
            group: due.alert.group.as_deref(),
            state: due.notice.name(),
            since: due.began,
            until: due.step.ended.map(|_| at),
            measures: &due.measures,
        })
        .collect();
    let input = notice(&workflow.plan, &announced);
    let input = workflow.plan.input.accept(&input).map_err(Error::Problem)?;
    let mut seed = Sha256::new();
    for due in all {
        let before = due.row.announced.map_or(0, Timestamp::as_micros);
        seed.update(format!("{} {} {} {before}\n", due.alert.name, due.notice.name(), due.began.as_micros()));
    }
    let seed = Uuid::from_slice(&seed.finalize()[..16]).unwrap_or_default();
    let began = all.iter().map(|due| due.began).min().unwrap_or(at);
    let request = jobs.id_of(seed, 0, 0, began);
    let id = jobs.id_of_request(request);
    let names: Vec<&str> = all.iter().map(|due| due.alert.name.as_str()).collect();
    let origin = Origin {
        entry: format!("alert {}", names.join(", ")).chars().take(300).collect(),
        caller: Default::default(),
        request_id: request.to_string(),
        trace: jobs.telemetry.fresh(request),
        generation: 0,
        drawn: false,
    };
    let row = NewJob { unattended: true, ..jobs.row(live, workflow, id, &input, &origin)? };
    Ok(jobs.accept(vec![row], None).await?)
}

fn put(row: &mut AlertRow, standing: &Standing) {
    row.holds_since = standing.holds_since;
    row.calm_since = standing.calm_since;
    row.began = standing.began;
    row.announced = standing.announced;
}

async fn note(jobs: &Jobs, row: &AlertRow, began: Timestamp, ended: Option<Timestamp>, notices: u32) -> Result<()> {
    let (alert, measures) = (row.name.clone(), row.measures.clone());
    Ok(jobs.store.note_alert(&AlertSpan { alert, began, ended, measures, notices }).await?)
}

fn terms(alert: &Alert) -> Terms {
    Terms {
        lasting: alert.lasting.into(),
        calm: alert.calm.into(),
        repeat: alert.repeat.map(Span::from),
        quiet: alert.quiet.clone(),
    }
}

/// A digest of what an alert looks at and of its condition.
pub fn definition(alert: &Alert) -> String {
    let text = format!("{} {} {:?} {}", alert.subject.name(), alert.of, alert.over, alert.condition());
    hex::of(&Sha256::digest(text))
}

fn json(measures: &Measures) -> String {
    let members = measures.iter().map(|(name, value)| ((*name).to_owned(), serde_json::Value::from(*value)));
    serde_json::Value::Object(members.collect()).to_string()
}
