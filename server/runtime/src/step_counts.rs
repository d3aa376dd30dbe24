//! What the steps of each workflow do, minute by minute: how often they ran and failed, and how long they took.
//!
//! Every run is counted where it ends, jobs too, also those whose details the journal drops. Counts of the current minute are kept
//! in memory and written over again every few seconds, each process in rows of its own; a crash loses what was not
//! written yet. Of one workflow and minute at most [`MOST_STEPS`] steps are counted, and at most [`MOST_MINUTES`] minutes
//! wait for the database.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::sync::{Mutex, PoisonError};

use kanzlei_engine::machine::{Machine, State, StepRecord};
use kanzlei_model::run::RunState;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_store::statistics::{ANSWER, StepCount, StepCounts};

/// The most steps of one workflow that are counted in a minute, over all its revisions.
const MOST_STEPS: usize = 10_000;
/// The most minutes of one workflow that wait to be written.
const MOST_MINUTES: usize = 30;
/// The records of a run that are counted one by one; those of more are added up first.
const FEW: usize = 64;

/// How requests that were refused before a run began are called.
pub const REFUSED: &str = "refused";

/// The step itself, or one inside a workflow that it invokes, by its number on the sheet of the run.
#[derive(PartialEq, Eq, Hash)]
enum Place {
    Run,
    Own(u32),
    Inside(String),
    /// How the run ended and what it answered; a request without a run was refused.
    Answer(Option<RunState>, u16),
}

/// How an answer is called where steps have numbers.
fn answer(state: Option<RunState>, status: u16) -> String {
    let state = state.map_or(REFUSED, RunState::name);
    if status == 0 { format!("{ANSWER}{state}") } else { format!("{ANSWER}{state} {status}") }
}

/// Counts of one minute, by revision and step.
#[derive(Default)]
struct Minute {
    minute: i64,
    changed: bool,
    counts: HashMap<(u32, Place), StepCount, ahash::RandomState>,
}

impl Minute {
    fn add(
        &mut self,
        revision: u32,
        place: Place,
        number: impl FnOnce() -> String,
        count: impl FnOnce(&mut StepCount),
    ) {
        let full = self.counts.len() >= MOST_STEPS;
        match self.counts.entry((revision, place)) {
            Entry::Occupied(entry) => count(entry.into_mut()),
            Entry::Vacant(_) if full => {}
            Entry::Vacant(entry) => count(entry.insert(StepCount { number: number(), ..StepCount::default() })),
        }
    }

    /// The rows of this minute, one for each revision.
    fn rows(&self, workflow: &str) -> Vec<StepCounts> {
        let mut rows: HashMap<u32, Vec<StepCount>> = HashMap::new();
        for ((revision, _), count) in &self.counts {
            rows.entry(*revision).or_default().push(count.clone());
        }
        let row =
            |(revision, steps)| StepCounts { workflow: workflow.to_owned(), revision, minute: self.minute, steps };
        rows.into_iter().map(row).collect()
    }
}

/// Counts of the steps of one workflow.
#[derive(Default)]
pub struct Steps(Mutex<Vec<Minute>>);

impl std::fmt::Debug for Steps {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Steps")
    }
}

impl Steps {
    /// Counts a run that has ended, and its steps.
    pub fn add(&self, machine: &Machine, revision: u32, (state, status): (RunState, u16), took: Span, at: Timestamp) {
        let mut minutes = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(minute) = minute_of(&mut minutes, at) else { return };
        let failed = state != RunState::Succeeded;
        minute.add(revision, Place::Run, String::new, |count| count_one(count, failed, took));
        let answered = Place::Answer(Some(state), status);
        minute.add(revision, answered, || answer(Some(state), status), |count| count_one(count, failed, took));
        let records = machine.records();
        let place = |record: &StepRecord| match record.level {
            0 => Place::Own(record.paragraph),
            _ => Place::Inside(machine.number(record)),
        };
        if records.len() <= FEW {
            for record in records.iter().filter(|record| counts(record)) {
                minute.add(revision, place(record), || machine.number(record), |count| count_record(count, record));
            }
            return;
        }
        let mut sums: HashMap<(u16, u32), (&StepRecord, StepCount)> = HashMap::new();
        for record in records.iter().filter(|record| counts(record)) {
            let (_, sum) = sums.entry((record.level, record.paragraph)).or_insert((record, StepCount::default()));
            count_record(sum, record);
        }
        for (record, sum) in sums.into_values() {
            minute.add(revision, place(record), || machine.number(record), |count| count.merge(&sum));
        }
    }

    /// Counts a request to a revision that was refused for what it brought.
    pub fn add_refused(&self, revision: u32, status: u16, took: Span, at: Timestamp) {
        let mut minutes = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(minute) = minute_of(&mut minutes, at) else { return };
        let count = |count: &mut StepCount| count_one(count, true, took);
        minute.add(revision, Place::Answer(None, status), || answer(None, status), count);
    }

    /// What is to be written: whole minutes, also the current one so far.
    pub fn changed(&self, workflow: &str) -> Vec<StepCounts> {
        let mut minutes = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let changed =
            minutes.iter_mut().filter_map(|minute| std::mem::take(&mut minute.changed).then(|| minute.rows(workflow)));
        changed.flatten().collect()
    }

    /// Drops minutes before this one, which are written.
    pub fn written(&self, now: i64) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).retain(|minute| minute.changed || minute.minute >= now);
    }

    /// Keeps minutes that could not be written for the next time.
    pub fn not_written(&self) {
        let mut minutes = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        minutes.iter_mut().for_each(|minute| minute.changed = true);
    }
}

/// The minute of an instant, which is counted from now on.
fn minute_of(minutes: &mut Vec<Minute>, at: Timestamp) -> Option<&mut Minute> {
    let now = at.as_minutes();
    if minutes.last().is_none_or(|last| last.minute < now) {
        if minutes.len() >= MOST_MINUTES {
            minutes.remove(0);
        }
        minutes.push(Minute { minute: now, ..Minute::default() });
    }
    let minute = minutes.last_mut()?;
    minute.changed = true;
    Some(minute)
}

/// Whether a step was performed.
fn counts(record: &StepRecord) -> bool {
    record.state != State::Skipped
}

fn count_record(count: &mut StepCount, record: &StepRecord) {
    let failed = matches!(record.state, State::Failed | State::Caught);
    count_one(count, failed, record.ended.since(record.started));
}

fn count_one(count: &mut StepCount, failed: bool, took: Span) {
    count.runs += 1;
    count.failures += u64::from(failed);
    count.times.add(took.as_micros().max(0) as u64);
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use kanzlei_compiler::check::{Bundle, check};
    use kanzlei_engine::driver::on_virtual_clock;
    use kanzlei_engine::machine::Start;
    use kanzlei_model::value::Value;

    use super::*;

    /// A run over so many items.
    fn run(items: i64) -> Box<Machine> {
        let mut bundle = Bundle::default();
        bundle.add("w.yaml", "workflow: w\ninput: {n: {type: integer}}\nsteps:\n  - each: item\n    in: 'Array.from({length: input.n}, (none, at) => at)'\n    steps: [{note: \"${item}\"}]\n");
        let plan = check(&bundle).workflows.remove(0).1;
        let input = Value::object([("n", Value::Int(items))]);
        let mut machine = Machine::new(Arc::clone(&plan), Start::new("r", input, Timestamp::EPOCH));
        on_virtual_clock(&mut machine, Timestamp::EPOCH, |_, _| unreachable!());
        machine
    }

    #[test]
    fn minutes_are_written_over_until_they_are_past() {
        let steps = Steps::default();
        let at = |minute: i64| Timestamp::from_micros(minute * 60_000_000);
        let notes = |rows: &[StepCounts]| -> Vec<(i64, u32, u64)> {
            let mut all: Vec<_> = rows
                .iter()
                .filter_map(|row| {
                    Some((row.minute, row.revision, row.steps.iter().find(|step| step.number == "1.1")?.runs))
                })
                .collect();
            all.sort_unstable();
            all
        };
        // Few records are counted one by one, many are added up first.
        for (items, revision, minute) in [(2, 1, 5), (100, 1, 5), (3, 2, 5)] {
            steps.add(&run(items), revision, (RunState::Succeeded, 200), Span::ZERO, at(minute));
        }
        assert_eq!(notes(&steps.changed("w")), [(5, 1, 102), (5, 2, 3)]);
        assert_eq!(steps.changed("w"), []);
        steps.add(&run(1), 1, (RunState::Failed, 200), Span::ZERO, at(5));
        steps.add(&run(4), 1, (RunState::Succeeded, 200), Span::ZERO, at(6));
        assert_eq!(notes(&steps.changed("w")), [(5, 1, 103), (5, 2, 3), (6, 1, 4)]);
        steps.not_written();
        assert_eq!(notes(&steps.changed("w")).len(), 3);
        steps.written(6);
        steps.not_written();
        assert_eq!(notes(&steps.changed("w")), [(6, 1, 4)]);
        // While the database is unavailable, minutes wait up to a bound.
        (7..200).for_each(|minute| steps.add(&run(1), 1, (RunState::Succeeded, 200), Span::ZERO, at(minute)));
        assert_eq!(notes(&steps.changed("w")).len(), MOST_MINUTES);
    }
}
