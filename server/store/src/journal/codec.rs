//! Runs as the bytes of a segment: each as MessagePack, one behind the other with their lengths, compressed together (Zstandard, RFC 8878).
//!
//! ```
//! use kanzlei_store::journal::codec::{Encoded, pack, unpack};
//! let run = kanzlei_store::journal::Run { workflow: "quote".into(), ..Default::default() };
//! let packed = pack(&[Encoded::of(&run)], None).unwrap();
//! assert_eq!(unpack(&packed, None).unwrap(), [run]);
//! ```

use std::io;

use kanzlei_model::caller::Caller;
use kanzlei_model::time::{Span, Timestamp};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use super::{Run, Step};

/// The most bytes of an unpacked segment.
pub const MOST_UNPACKED: usize = 64 << 20;
/// How hard is compressed: more takes longer for little.
const LEVEL: i32 = 3;

/// A run as text within a segment.
#[derive(Serialize, Deserialize)]
struct Entry<'r> {
    id: (u64, u64),
    workflow: &'r str,
    revision: u32,
    state: &'r str,
    entry: &'r str,
    status: Option<u16>,
    started: i64,
    duration: i64,
    request_id: Option<&'r str>,
    trace_id: Trace<'r>,
    caller: Option<&'r str>,
    caller_facts: Option<std::borrow::Cow<'r, str>>,
    input: &'r str,
    kept: Option<&'r str>,
    settings: Option<&'r str>,
    reply: Option<&'r str>,
    failure: Option<&'r str>,
    process: Option<&'r str>,
    incomplete: bool,
    #[serde(borrow)]
    steps: Vec<Line<'r>>,
    #[serde(default)]
    sealed: Option<&'r str>,
}

/// The id of a trace: digits as numbers, anything else as it is.
#[derive(Serialize, Deserialize)]
enum Trace<'r> {
    Digits(u64, u64),
    #[serde(borrow)]
    Text(&'r str),
}

impl<'r> Trace<'r> {
    fn of(text: &'r str) -> Self {
        let digits = text.len() == 32 && text.bytes().all(|byte| matches!(byte, b'0'..=b'9' | b'a'..=b'f'));
        match u128::from_str_radix(text, 16) {
            Ok(n) if digits => Trace::Digits((n >> 64) as u64, n as u64),
            _ => Trace::Text(text),
        }
    }
}

/// A step; it began so many microseconds behind its run.
#[derive(Serialize, Deserialize)]
struct Line<'r> {
    paragraph: u32,
    state: &'r str,
    after: i64,
    duration: i64,
    attempts: u32,
    earlier_attempts: Option<&'r str>,
    sent: Option<&'r str>,
    outcome: Option<&'r str>,
    failure: Option<&'r str>,
    number: Option<&'r str>,
    kind: Option<&'r str>,
    title: Option<&'r str>,
    items: Option<&'r str>,
}

/// A run as bytes, and what its row in the index says.
#[derive(Clone, Debug)]
pub struct Encoded {
    pub(super) row: super::RunLine,
    pub(super) request_id: Option<String>,
    pub(super) caller: Option<String>,
    job: bool,
    bytes: Vec<u8>,
}

impl Encoded {
    /// A run as bytes.
    pub fn of(run: &Run) -> Self {
        let mut own = Uuid::encode_buffer();
        let own = run.id.hyphenated().encode_lower(&mut own);
        let request_id = Some(&run.request_id).filter(|id| **id != *own);
        let entry = Entry {
            id: run.id.as_u64_pair(),
            workflow: &run.workflow,
            revision: run.revision,
            state: &run.state,
            entry: &run.entry,
            status: run.status,
            started: run.started.as_micros(),
            duration: run.duration.as_micros(),
            request_id: request_id.map(String::as_str),
            trace_id: Trace::of(&run.trace_id),
            caller: run.caller.name.as_deref(),
            caller_facts: run.caller.facts().map(Into::into),
            input: &run.input,
            kept: run.kept.as_deref(),
            settings: run.settings.as_deref(),
            reply: run.reply.as_deref(),
            failure: run.failure.as_deref(),
            process: run.process.as_deref(),
            incomplete: run.incomplete,
            steps: run.steps.iter().map(|step| line(step, run.started)).collect(),
            sealed: run.sealed.as_deref(),
        };
        let mut bytes = Vec::with_capacity(run.bytes());
        // Nothing of it can fail to be written into memory.
        let _ = rmp_serde::encode::write(&mut bytes, &entry);
        Encoded {
            row: run.line(),
            request_id: request_id.map(|id| id.chars().take(100).collect()),
            caller: run.caller.name.as_ref().map(|name| name.chars().take(255).collect()),
            job: false,
            bytes,
        }
    }

    /// The same, of a run of a job.
    pub fn of_job(self, job: bool) -> Self {
        Encoded { job, ..self }
    }

    /// The job whose outcomes are needed no longer once this is written: one that succeeded cannot be retried.
    pub fn ended_job(&self) -> Option<Uuid> {
        (self.job && self.succeeded()).then_some(self.row.id)
    }

    /// The bytes of memory that it holds, about.
    pub fn size(&self) -> usize {
        self.bytes.capacity() + self.row.entry.len() + 300
    }

    /// The bytes themselves, from which a dictionary learns.
    pub fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// The name of its workflow.
    pub fn workflow(&self) -> &str {
        &self.row.workflow
    }

    /// Whether the run succeeded.
    pub fn succeeded(&self) -> bool {
        self.row.state == kanzlei_model::run::RunState::Succeeded.name()
    }
}

impl AsRef<Encoded> for Encoded {
    fn as_ref(&self) -> &Encoded {
        self
    }
}

fn line(step: &Step, begun: Timestamp) -> Line<'_> {
    Line {
        paragraph: step.paragraph,
        state: &step.state,
        after: step.started.as_micros() - begun.as_micros(),
        duration: step.duration.as_micros(),
        attempts: step.attempts,
        earlier_attempts: step.earlier_attempts.as_deref(),
        sent: step.sent.as_deref(),
        outcome: step.outcome.as_deref(),
        failure: step.failure.as_deref(),
        number: step.number.as_deref(),
        kind: step.kind.as_deref(),
        title: step.title.as_deref(),
        items: step.items.as_deref(),
    }
}

fn run(bytes: &[u8]) -> io::Result<Run> {
    let entry: Entry = rmp_serde::from_slice(bytes).map_err(io::Error::other)?;
    let text = |text: Option<&str>| text.map(str::to_owned);
    let id = Uuid::from_u64_pair(entry.id.0, entry.id.1);
    let step = |line: &Line| Step {
        paragraph: line.paragraph,
        state: line.state.to_owned(),
        started: Timestamp::from_micros(entry.started.saturating_add(line.after)),
        duration: Span::from_micros(line.duration),
        attempts: line.attempts,
        earlier_attempts: text(line.earlier_attempts),
        sent: text(line.sent),
        outcome: text(line.outcome),
        failure: text(line.failure),
        number: text(line.number),
        kind: text(line.kind),
        title: text(line.title),
        items: text(line.items),
    };
    Ok(Run {
        id,
        workflow: entry.workflow.to_owned(),
        revision: entry.revision,
        state: entry.state.to_owned(),
        entry: entry.entry.to_owned(),
        status: entry.status,
        started: Timestamp::from_micros(entry.started),
        duration: Span::from_micros(entry.duration),
        request_id: entry.request_id.map_or_else(|| id.to_string(), str::to_owned),
        trace_id: match entry.trace_id {
            Trace::Digits(high, low) => format!("{high:016x}{low:016x}"),
            Trace::Text(text) => text.to_owned(),
        },
        caller: Caller::of(text(entry.caller), entry.caller_facts.as_deref()),
        input: entry.input.to_owned(),
        kept: text(entry.kept),
        settings: text(entry.settings),
        reply: text(entry.reply),
        failure: text(entry.failure),
        process: text(entry.process),
        incomplete: entry.incomplete,
        steps: entry.steps.iter().map(step).collect(),
        sealed: text(entry.sealed),
    })
}

/// Runs as a segment.
///
/// # Errors
/// When they cannot be compressed.
pub fn pack<R: AsRef<Encoded>>(runs: &[R], dictionary: Option<&[u8]>) -> io::Result<Vec<u8>> {
    let runs = || runs.iter().map(AsRef::as_ref);
    let mut plain = Vec::with_capacity(runs().map(|run| run.bytes.len() + 4).sum());
    for run in runs() {
        plain.extend_from_slice(&(run.bytes.len() as u32).to_le_bytes());
        plain.extend_from_slice(&run.bytes);
    }
    zstd::bulk::Compressor::with_dictionary(LEVEL, dictionary.unwrap_or_default())?.compress(&plain)
}

/// The bytes of each run of a segment.
fn parts(packed: &[u8], dictionary: Option<&[u8]>, mut each: impl FnMut(&[u8]) -> io::Result<bool>) -> io::Result<()> {
    // A frame says how large it is; without that, room for the largest would be reserved each time.
    let size = zstd::zstd_safe::get_frame_content_size(packed).ok().flatten();
    let room = size.map_or(MOST_UNPACKED, |size| MOST_UNPACKED.min(size as usize));
    let plain = zstd::bulk::Decompressor::with_dictionary(dictionary.unwrap_or_default())?.decompress(packed, room)?;
    let mut left = plain.as_slice();
    while let Some((length, rest)) = left.split_first_chunk::<4>() {
        let length = u32::from_le_bytes(*length) as usize;
        let broken = || io::Error::new(io::ErrorKind::InvalidData, "the segment ends within a run");
        let (bytes, rest) = rest.split_at_checked(length).ok_or_else(broken)?;
        if !each(bytes)? {
            break;
        }
        left = rest;
    }
    Ok(())
}

/// The runs of a segment, in their order.
///
/// # Errors
/// When it is none.
pub fn unpack(packed: &[u8], dictionary: Option<&[u8]>) -> io::Result<Vec<Run>> {
    let mut runs = Vec::new();
    parts(packed, dictionary, |bytes| {
        runs.push(run(bytes)?);
        Ok(true)
    })?;
    Ok(runs)
}

/// One run of a segment by its place; the others are passed over.
///
/// # Errors
/// When it is none.
pub fn unpack_one(packed: &[u8], dictionary: Option<&[u8]>, place: usize) -> io::Result<Option<Run>> {
    let (mut at, mut found) = (0, None);
    parts(packed, dictionary, |bytes| {
        if at == place {
            found = Some(run(bytes)?);
        }
        at += 1;
        Ok(at <= place)
    })?;
    Ok(found)
}

/// Learns from runs what they have in common, at most so many bytes of it; nothing where they are too few.
pub fn dictionary(runs: &[Vec<u8>], most: usize) -> Option<Vec<u8>> {
    zstd::dict::from_samples(runs, most).ok()
}
