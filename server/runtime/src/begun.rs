//! Direct runs that have begun an effect, on the local disk: what a crash leaves of them.
//!
//! A job is a row before it begins; a direct run is nowhere until it ends. Before its first effect that may change something outside,
//! a direct run is noted in a slot of a file of its process, without any of its values. The kernel keeps what is written there when
//! the process dies, so nothing waits for the disk; a machine that loses its power loses the notes of the last seconds. The next
//! process that starts with this folder turns the notes of dead processes into failed runs of the journal. A run that the journal
//! has already stays as it is, so that a note may outlive its run by some seconds.
//!
//! Bounds: [`SLOTS`] runs of [`SLOT`] bytes; beyond them runs are not noted.

use std::collections::VecDeque;
use std::fs::{self, File, TryLockError};
use std::os::unix::fs::{DirBuilderExt, FileExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use kanzlei_engine::machine::{Effect, Failure};
use kanzlei_model::caller::Caller;
use kanzlei_model::run::{FailureKind, RunState};
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_model::trace::Trace;
use kanzlei_store::Store;
use kanzlei_store::journal::{Run, Tally};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// Runs that are noted at the same time.
const SLOTS: u32 = 8192;
/// Bytes of a note.
const SLOT: usize = 1024;
/// How long a note outlives its run: until then the journal has written it.
const OUTLIVES: Duration = Duration::from_secs(5);
/// How files of notes end.
const SUFFIX: &str = "begun";

/// A run that has begun an effect.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Note {
    /// Its id.
    pub id: Uuid,
    /// Its workflow, with the revision.
    pub workflow: String,
    /// The revision.
    pub revision: u32,
    /// What began it.
    pub entry: String,
    /// When it started.
    pub started: Timestamp,
    /// The `X-Request-Id` of the request.
    pub request_id: String,
    /// The trace it continues.
    pub trace_id: String,
    /// Who called, where that is known.
    pub caller: Option<String>,
    /// The effect, in words.
    pub effect: String,
    /// The process.
    pub process: String,
}

/// The notes of this process.
pub struct Notes(Option<Open>);

struct Open {
    file: File,
    path: PathBuf,
    process: String,
    slots: Mutex<Slots>,
}

struct Slots {
    free: Vec<u32>,
    ended: VecDeque<(u32, Instant)>,
}

/// A note of a run that is under way; dropping it says that the run has ended.
pub struct Noted {
    notes: Arc<Notes>,
    slot: u32,
}

impl Drop for Noted {
    fn drop(&mut self) {
        if let Some(open) = &self.notes.0 {
            open.slots().ended.push_back((self.slot, Instant::now()));
        }
    }
}

impl Open {
    fn slots(&self) -> std::sync::MutexGuard<'_, Slots> {
        self.slots.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn write(&self, slot: u32, bytes: &[u8]) -> bool {
        self.file.write_all_at(bytes, u64::from(slot) * SLOT as u64).is_ok()
    }
}

/// What an effect may change outside, in words; nothing where it only reads.
pub fn change(effect: &Effect) -> Option<String> {
    match effect {
        Effect::Call(call) if matches!(call.method.as_str(), "GET" | "HEAD" | "OPTIONS") => None,
        Effect::Call(call) => Some(format!("a call of `{}` by {}", call.service, call.method)),
        Effect::Wait { .. } | Effect::Rows(_) | Effect::Recall { .. } | Effect::Await { .. } => None,
        other => Some(other.what().to_owned()),
    }
}

impl Notes {
    /// Notes in a new file of a folder, which is made where it is not there; an empty name notes nothing.
    ///
    /// # Errors
    /// When the file cannot be made.
    pub fn open(folder: &str, process: &str) -> std::io::Result<Arc<Self>> {
        if folder.is_empty() {
            return Ok(Notes::none());
        }
        fs::DirBuilder::new().recursive(true).mode(0o700).create(folder)?;
        let path = Path::new(folder).join(format!("{}.{SUFFIX}", Uuid::now_v7()));
        let new = path.with_extension("new");
        let file = File::options().read(true).write(true).create_new(true).mode(0o600).open(&new)?;
        file.try_lock().map_err(|error| match error {
            TryLockError::Error(error) => error,
            TryLockError::WouldBlock => std::io::Error::other("the file is locked"),
        })?;
        // Others see it once it is locked: one that is not is of a dead process.
        fs::rename(&new, &path)?;
        let slots = Mutex::new(Slots { free: (0..SLOTS).rev().collect(), ended: VecDeque::new() });
        Ok(Arc::new(Notes(Some(Open { file, path, process: process.to_owned(), slots }))))
    }

    /// Notes nothing.
    pub fn none() -> Arc<Self> {
        Arc::new(Notes(None))
    }

    /// Notes a run before its first effect. Nothing where there is no room; the run goes on all the same.
    pub fn note(self: &Arc<Self>, about: impl FnOnce() -> Note) -> Option<Noted> {
        let open = self.0.as_ref()?;
        let slot = {
            let mut slots = open.slots();
            let over = slots.ended.front().is_some_and(|(_, at)| at.elapsed() > OUTLIVES);
            match slots.free.pop() {
                Some(slot) => slot,
                None if over => slots.ended.pop_front()?.0,
                None => return None,
            }
        };
        let note = Note { process: open.process.clone(), ..about() };
        let mut bytes = serde_json::to_vec(&note).unwrap_or_default();
        bytes.push(b'\n');
        if bytes.len() > SLOT || !open.write(slot, &bytes) {
            open.slots().free.push(slot);
            return None;
        }
        Some(Noted { notes: self.clone(), slot })
    }

    /// Clears the notes of runs that ended some seconds ago; at the end of the process of all that ended.
    pub fn clear(&self, all: bool) {
        let Some(open) = &self.0 else { return };
        let mut over = Vec::new();
        {
            let mut slots = open.slots();
            while slots.ended.front().is_some_and(|(_, at)| all || at.elapsed() > OUTLIVES) {
                over.extend(slots.ended.pop_front().map(|(slot, _)| slot));
            }
        }
        for slot in &over {
            // An empty line is no note.
            open.write(*slot, b"\n");
        }
        open.slots().free.extend(over);
    }

    /// Clears notes until the process ends.
    pub async fn keep(notes: Arc<Notes>) {
        let mut every = tokio::time::interval(Duration::from_secs(1));
        every.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        loop {
            every.tick().await;
            notes.clear(false);
        }
    }

    /// Removes the file, once all runs have ended and are written.
    pub fn end(&self) {
        let Some(open) = &self.0 else { return };
        let all_ended = {
            let slots = open.slots();
            slots.free.len() + slots.ended.len() == SLOTS as usize
        };
        if all_ended {
            let _ = fs::remove_file(&open.path);
        }
    }
}

/// Turns what dead processes left in a folder into failed runs of the journal; returns how many.
///
/// # Errors
/// When the database does not take them: the notes stay for another attempt.
pub async fn recover(folder: &str, store: &Store, at: Timestamp) -> kanzlei_store::Result<usize> {
    let mut found = 0;
    let Ok(files) = fs::read_dir(folder) else { return Ok(0) };
    for path in files.filter_map(|entry| Some(entry.ok()?.path())) {
        if path.extension().is_none_or(|suffix| suffix != SUFFIX) {
            continue;
        }
        let Ok(file) = File::open(&path) else { continue };
        // The process that has it lives.
        if file.try_lock().is_err() {
            continue;
        }
        let runs: Vec<Run> = notes(&file).into_iter().map(|note| as_run(note, at)).collect();
        let mut lost = Vec::with_capacity(runs.len());
        for run in runs {
            if store.run(run.id).await?.is_none() {
                lost.push(run);
            }
        }
        if !lost.is_empty() {
            store.write_runs(&lost).await?;
            store.add_tallies(&counted(&lost)).await?;
        }
        found += lost.len();
        let _ = fs::remove_file(&path);
    }
    Ok(found)
}

/// The notes in a file.
fn notes(file: &File) -> Vec<Note> {
    let slots = file.metadata().map_or(0, |meta| meta.len().div_ceil(SLOT as u64)).min(SLOTS.into());
    let read = |slot: u64| -> Option<Note> {
        let mut bytes = [0; SLOT];
        let read = file.read_at(&mut bytes, slot * SLOT as u64).ok()?;
        let line = bytes[..read].split(|byte| *byte == b'\n').next()?;
        serde_json::from_slice(line).ok()
    };
    (0..slots).filter_map(read).collect()
}

fn as_run(note: Note, at: Timestamp) -> Run {
    let detail = format!(
        "the process ended while this run was under way; it had begun {}; whether that took effect is unknown",
        note.effect
    );
    Run {
        id: note.id,
        workflow: note.workflow,
        revision: note.revision,
        state: RunState::Failed.name().into(),
        entry: note.entry,
        started: note.started,
        duration: (at - note.started).max(Span::ZERO),
        request_id: note.request_id,
        trace_id: note.trace_id,
        caller: Caller { name: note.caller, ..Caller::default() },
        input: "null".into(),
        failure: Some(Failure::new(FailureKind::Internal, detail).to_value().to_json()),
        process: Some(note.process),
        incomplete: true,
        ..Run::default()
    }
}

fn counted(runs: &[Run]) -> Vec<Tally> {
    let of = |run: &Run| Tally {
        workflow: run.workflow.clone(),
        minute: run.started.as_minutes(),
        runs: 1,
        failed: 1,
        duration: u64::try_from(run.duration.as_micros()).unwrap_or(0),
        ..Tally::default()
    };
    runs.iter().map(of).collect()
}

/// A note of a run, but for its process.
pub fn about(
    (id, workflow, revision): (Uuid, &str, u32),
    entry: &str,
    started: Timestamp,
    request_id: &str,
    (trace, caller): (&Trace, &Caller),
    effect: String,
) -> Note {
    Note {
        id,
        workflow: workflow.to_owned(),
        revision,
        entry: entry.chars().take(300).collect(),
        started,
        request_id: request_id.chars().take(100).collect(),
        trace_id: trace.id_text(),
        caller: caller.name.as_ref().map(|name| name.chars().take(150).collect()),
        effect,
        process: String::new(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn note(n: u128) -> Note {
        let start = (Uuid::from_u128(n), "w", 3);
        let from = (&Trace::default(), &Caller::default());
        about(start, "POST /w", Timestamp::from_micros(5), "r", from, "a mail".into())
    }

    #[test]
    fn notes_are_left_of_runs_that_have_not_ended() {
        let folder = kanzlei_harness::scratch::folder("begun");
        let place = folder.to_str().expect("UTF-8");
        let notes_of = Notes::open(place, "p").expect("a file");
        let kept: Vec<Noted> = (1..=3).filter_map(|n| notes_of.note(|| note(n))).collect();
        assert_eq!(kept.len(), 3);
        let path = notes_of.0.as_ref().expect("open").path.clone();
        let read =
            || notes(&File::open(&path).expect("reads")).iter().map(|note| note.id.as_u128()).collect::<Vec<_>>();
        drop(kept.into_iter().nth(1));
        // All of them ended; what has not is noted still.
        let fourth = notes_of.note(|| note(4)).expect("room");
        notes_of.clear(true);
        assert_eq!(read(), [4]);
        assert!(File::open(&path).expect("opens").try_lock().is_err(), "its process lives");
        notes_of.end();
        assert!(path.exists(), "a run has not ended");
        drop(fourth);
        notes_of.end();
        assert!(!path.exists());
        let none = Notes::open("", "p").expect("nothing");
        assert!(none.note(|| note(1)).is_none());
    }

    #[test]
    fn there_is_room_for_a_bounded_number() {
        let folder = kanzlei_harness::scratch::folder("begun-many");
        let notes_of = Notes::open(folder.to_str().expect("UTF-8"), "p").expect("a file");
        let kept: Vec<Noted> = (0..u128::from(SLOTS) + 10).filter_map(|n| notes_of.note(|| note(n))).collect();
        assert_eq!(kept.len(), SLOTS as usize);
        let long = Note { entry: "x".repeat(2000), ..note(1) };
        drop(kept);
        notes_of.clear(true);
        assert!(notes_of.note(|| long).is_none(), "a note that is too long is none");
        assert_eq!(notes_of.0.as_ref().expect("open").slots().free.len(), SLOTS as usize);
    }
}
