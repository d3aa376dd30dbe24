//! Runs as the bytes of a segment: each as MessagePack, one behind the other with their lengths, compressed together (Zstandard, RFC 8878).
//!
//! ```
//! use kanzlei_store::journal::codec::{Encoded, pack, unpack};
//! let run = kanzlei_store::journal::Run { workflow: "quote".into(), ..Default::default() };
//! let packed = pack(&[Encoded::of(&run)], None).unwrap();
//! assert_eq!(unpack(&packed, None).unwrap(), [run]);
//! ```

mod encode;

use std::io;

pub use encode::{Encoded, Head, Part, Source, StepHead, TraceId};
use kanzlei_model::caller::Caller;
use kanzlei_model::time::{Span, Timestamp};
use serde::Deserialize;
use uuid::Uuid;

use super::{Run, Step};

/// The most bytes of an unpacked segment.
pub const MOST_UNPACKED: usize = 64 << 20;
/// How hard is compressed: with a dictionary, level 3 saves 5 % of the bytes for twice the time.
const LEVEL: i32 = 1;

/// A run as text within a segment; [`encode`] writes its members in this order.
#[derive(Deserialize)]
#[cfg_attr(test, derive(serde::Serialize))]
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
#[derive(Deserialize)]
#[cfg_attr(test, derive(serde::Serialize))]
enum Trace<'r> {
    Digits(u64, u64),
    #[serde(borrow)]
    Text(&'r str),
}

/// A step; it began so many microseconds behind its run.
#[derive(Deserialize)]
#[cfg_attr(test, derive(serde::Serialize))]
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
pub fn pack<R: AsRef<Encoded>>(runs: &[R], dictionary: Option<&Prepared>) -> io::Result<Vec<u8>> {
    let runs = || runs.iter().map(AsRef::as_ref);
    let mut plain = Vec::with_capacity(runs().map(|run| run.bytes.len() + 4).sum());
    for run in runs() {
        plain.extend_from_slice(&(run.bytes.len() as u32).to_le_bytes());
        plain.extend_from_slice(&run.bytes);
    }
    let mut compressor = match dictionary {
        Some(Prepared(dictionary)) => zstd::bulk::Compressor::with_prepared_dictionary(dictionary)?,
        None => zstd::bulk::Compressor::new(LEVEL)?,
    };
    compressor.compress(&plain)
}

/// A dictionary as packing needs it: preparing one takes longer than packing a few runs.
pub struct Prepared(zstd::dict::EncoderDictionary<'static>);

impl Prepared {
    /// Prepares a dictionary.
    pub fn of(dictionary: &[u8]) -> Self {
        Prepared(zstd::dict::EncoderDictionary::copy(dictionary, LEVEL))
    }
}

impl std::fmt::Debug for Prepared {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Prepared")
    }
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
