//! Gradual deploys in force: which of two revisions of a workflow serves a request or a job.
//!
//! A request is routed to the live revision first, which decides who may call; then it may move to the revision that serves a
//! share, at the endpoint of the same method and path. A job that no request queued, and one with a tag of the rules, moves when
//! its row is made. Other workflows invoke the live revision. The rules are those of [`kanzlei_model::gradual`].

use std::sync::Arc;

use kanzlei_compiler::check::check;
use kanzlei_compiler::plan::{Endpoint, Plan};
use kanzlei_lang::diagnostic::Severity;
use kanzlei_model::caller::Caller;
use kanzlei_model::gradual::{Per, Rules, Side};
use kanzlei_model::histogram::Histogram;
use kanzlei_model::time::Timestamp;
use kanzlei_store::Store;
use kanzlei_store::documents::LiveDocument;
use kanzlei_store::gradual as store;
use kanzlei_store::statistics::{ANSWER, StepCount};

use crate::journal::Journal;
use crate::live::{Live, Workflow, bundle, by_position};
use crate::step_counts::REFUSED;

/// A revision that serves a share beside the live one.
#[derive(Debug)]
pub struct Gradual {
    /// The revision.
    pub workflow: Arc<Workflow>,
    /// What it serves.
    pub rules: Rules,
    /// Since when.
    pub since: Timestamp,
    /// Its document.
    pub document: LiveDocument,
    /// By endpoint of the live revision: the endpoint of this one.
    endpoints: Vec<usize>,
}

impl Gradual {
    /// Whether it serves a request: by a header field, by its key, or by the draw.
    pub fn serves<'h>(&self, id: &str, caller: &Caller, header: impl FnOnce(&str) -> Option<&'h str>) -> bool {
        let rules = &self.rules;
        if rules.header.as_ref().is_some_and(|wanted| header(&wanted.name) == Some(&wanted.value)) {
            return true;
        }
        if caller.key.as_ref().is_some_and(|key| rules.keys.iter().any(|wanted| **wanted == **key)) {
            return true;
        }
        self.draws(id, caller)
    }

    /// Whether it serves a job: by one of its tags, or by the draw where no request was drawn for it.
    pub fn serves_job(&self, id: &str, tags: &[String], drawn: bool) -> bool {
        tags.iter().any(|tag| self.rules.tags.contains(tag)) || !drawn && self.draws(id, &Caller::default())
    }

    fn draws(&self, id: &str, caller: &Caller) -> bool {
        // Without a key or a token there is no name that the next request has too.
        let known = caller.key.as_deref().or(caller.name.as_deref().filter(|_| caller.claims.is_some()));
        let what = match (self.rules.per, known) {
            (Per::Caller, Some(name)) => name,
            _ => id,
        };
        self.rules.draws(&self.workflow.plan.name, what)
    }

    /// Its endpoint for one of the live revision.
    pub fn endpoint(&self, of_live: usize) -> Option<usize> {
        self.endpoints.get(of_live).copied()
    }
}

/// What a revision did over a span.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Figures {
    /// Its runs and the requests that were refused for what they brought.
    pub runs: u64,
    /// Runs that failed.
    pub failed: u64,
    /// Runs whose caller was at fault, and refused requests.
    pub rejected: u64,
    /// How long its runs took.
    pub times: Histogram,
    /// By state and status: how many; a run without an answer has the status 0.
    pub answers: Vec<(String, u16, u64)>,
}

impl Figures {
    /// Adds up what was counted of a revision, steps aside.
    pub fn of(counts: &[StepCount]) -> Self {
        let mut all = Figures::default();
        for count in counts {
            if count.number.is_empty() {
                all.times.merge(&count.times);
            }
            let Some(answer) = count.number.strip_prefix(ANSWER) else { continue };
            let (state, status) = answer.split_once(' ').unwrap_or((answer, "0"));
            all.runs += count.runs;
            match state {
                "failed" => all.failed += count.runs,
                "rejected" | REFUSED => all.rejected += count.runs,
                _ => {}
            }
            all.answers.push((state.to_owned(), status.parse().unwrap_or(0), count.runs));
        }
        all.answers.sort_by(|a, b| b.2.cmp(&a.2).then_with(|| (&a.0, a.1).cmp(&(&b.0, b.1))));
        all
    }

    /// What the rules compare.
    pub fn side(&self) -> Side {
        Side { runs: self.runs, failed: self.failed, rejected: self.rejected, p95: self.times.quantile(0.95) }
    }
}

/// What the live revision and the one with a share did since an instant, to the minute.
///
/// # Errors
/// When the database is unavailable.
pub async fn figures(
    records: &Store,
    live: &Live,
    workflow: &str,
    since: Timestamp,
    revisions: [u32; 2],
) -> kanzlei_store::Result<[Figures; 2]> {
    let counts = records.all_counts(&live.names_of(workflow), since.as_minutes()).await?;
    Ok(revisions.map(|revision| {
        let own = counts.iter().find(|(known, _)| *known == revision);
        own.map(|(_, counts)| Figures::of(counts)).unwrap_or_default()
    }))
}

impl Live {
    /// The revision that serves a share of a workflow.
    pub fn gradual(&self, workflow: &str) -> Option<&Arc<Gradual>> {
        if self.graduals.is_empty() { None } else { self.graduals.get(workflow) }
    }

    /// Adds the revisions that serve a share, by their rules and documents. One that no longer passes the check, or has other
    /// entries than the live one, is left out and logged; the live revision serves everything then.
    pub fn with_graduals(mut self, rows: Vec<store::Gradual>, documents: Vec<LiveDocument>, journal: &Journal) -> Self {
        for row in rows {
            let Some(document) = documents.iter().find(|one| one.name == row.workflow && one.number == row.number)
            else {
                continue;
            };
            match self.gradual_of(&row, document, journal) {
                Ok(gradual) => _ = self.graduals.insert(row.workflow, Arc::new(gradual)),
                Err(why) => {
                    let (workflow, revision) = (row.workflow, row.number);
                    tracing::error!(workflow, revision, why, "the gradual revision serves nothing");
                }
            }
        }
        self
    }

    fn gradual_of(&self, row: &store::Gradual, document: &LiveDocument, journal: &Journal) -> Result<Gradual, String> {
        let live = self.workflows.get(&row.workflow).ok_or("no revision of it is live")?;
        let checked = check(&bundle(&beside(&self.documents, document)));
        let error = checked.diagnostics.iter().find(|found| found.severity == Severity::Error);
        if let Some(error) = error {
            return Err(format!("{}:{}: {}", error.path, error.line, error.message));
        }
        let plan = checked.plan(&row.workflow).cloned().ok_or("it cannot be compiled")?;
        let endpoints = endpoints(&live.plan, &plan)?;
        let rules = serde_json::from_str(&row.rules).map_err(|error| format!("its rules cannot be read: {error}"))?;
        let workflow = Workflow {
            counters: journal.counters(&plan.name),
            revision: document.number,
            since: row.since,
            source: document.source.clone(),
            entries: plan.endpoints.iter().map(|endpoint| endpoint.label().into()).collect(),
            plan,
        };
        Ok(Gradual { workflow: Arc::new(workflow), rules, since: row.since, document: document.clone(), endpoints })
    }
}

/// Live documents with another revision of one of them.
pub fn beside(live: &[LiveDocument], document: &LiveDocument) -> Vec<LiveDocument> {
    let same = |one: &LiveDocument| one.kind == document.kind && one.name == document.name;
    live.iter().map(|one| if same(one) { document.clone() } else { one.clone() }).collect()
}

/// The endpoints of a new revision in the order of those of the live one.
///
/// # Errors
/// When the two have different entries: nothing would reach an entry that only one of them has.
pub fn endpoints(live: &Plan, new: &Plan) -> Result<Vec<usize>, String> {
    let of = |endpoint: &Endpoint| {
        let Endpoint { method, address, webhook, .. } = endpoint;
        (method.clone(), address.host.clone(), by_position(&address.path), webhook.is_some())
    };
    let known: Vec<_> = new.endpoints.iter().map(of).collect();
    let found = live.endpoints.iter().map(|endpoint| known.iter().position(|new| *new == of(endpoint)));
    let found: Option<Vec<usize>> = found.collect();
    let found = found.filter(|found| found.len() == new.endpoints.len());
    let found = found.ok_or("its endpoints are others than those of the live revision")?;
    let watched = |plan: &Plan| {
        let each = plan.watches.iter().map(|watch| (watch.database.clone(), watch.table.clone(), watch.of.clone()));
        each.collect::<Vec<_>>()
    };
    match watched(live) == watched(new) {
        true => Ok(found),
        false => Err("the tables that it watches are others than those of the live revision".into()),
    }
}

#[cfg(test)]
mod tests {
    use kanzlei_compiler::check::Bundle;

    use super::*;

    #[test]
    fn only_revisions_with_the_same_entries_stand_side_by_side() {
        let plan = |entries: &str| {
            let mut bundle = Bundle::default();
            let entries = entries.replace("endpoint:", "access: open\n    endpoint:");
            let input = "input: {x: {type: string, default: a}, y: {type: string, default: b}}";
            bundle.add("w.yaml", &format!("workflow: w\n{input}\nentries:\n{entries}steps:\n  - reply: 204\n"));
            let checked = check(&bundle);
            checked.plan("w").cloned().unwrap_or_else(|| panic!("{entries}: {:?}", checked.diagnostics))
        };
        let two = "  - endpoint: GET /a/{x}\n  - endpoint: POST /b\n";
        for (live, new, wanted) in [
            (two, two, Some(vec![0, 1])),
            // Order and names of parts do not matter.
            (two, "  - endpoint: POST /b\n  - endpoint: GET /a/{y}\n", Some(vec![1, 0])),
            (two, "  - endpoint: GET /a/{x}\n", None),
            ("  - endpoint: POST /b\n", two, None),
            (two, "  - endpoint: PUT /a/{x}\n  - endpoint: POST /b\n", None),
            ("  - endpoint: GET /a\n", "  - endpoint: GET /a\n  - timetable: '*/5 * * * *'\n", Some(vec![0])),
        ] {
            assert_eq!(endpoints(&plan(live), &plan(new)).ok(), wanted, "{live} {new}");
        }
    }

    #[test]
    fn figures_add_up_answers() {
        let count = |number: &str, runs: u64| StepCount { number: number.into(), runs, ..StepCount::default() };
        let figures = Figures::of(&[
            count("", 9),
            count("1", 9),
            count("=succeeded 200", 4),
            count("=succeeded", 1),
            count("=failed 502", 2),
            count("=rejected 404", 2),
            count("=refused 422", 3),
        ]);
        assert_eq!((figures.runs, figures.failed, figures.rejected), (12, 2, 5));
        let shown: Vec<String> =
            figures.answers.iter().map(|(state, status, n)| format!("{state} {status} {n}")).collect();
        assert_eq!(shown, ["succeeded 200 4", "refused 422 3", "failed 502 2", "rejected 404 2", "succeeded 0 1"]);
    }
}
