//! Rows of files where their bytes are: on the local disk, in the work place, or in memory. Reading blocks, so it happens on threads that may.
//!
//! A loop reads some rows at a time; what it reads from stays open between two batches ([`Readings`]), and is opened again and passed over
//! where it is not, as after a crash. A client gets rows while they are read ([`send`]).

use std::io::{self, Read};
use std::sync::{Arc, Mutex, PoisonError};

use bytes::{Buf, Bytes};
use futures_util::stream::{self, StreamExt};
use kanzlei_compiler::plan::rows::{Reading, Writing};
use kanzlei_engine::machine::{Batch, RowsTask};
use kanzlei_engine::rows::{Fault, Rows, Source, Writer};
use kanzlei_model::file::File;
use kanzlei_model::value::Value;

use super::Holder;
use super::local::Seekable;
use super::place::Stream;

/// Readings of one run that stay open between batches; the oldest ones are closed.
const MOST_OPEN: usize = 32;
/// Bytes of rows that are passed on at a time, about.
const PIECE: usize = 64 << 10;

/// Bytes of a file, opened when they are read first.
struct Opening {
    holder: Arc<Holder>,
    file: File,
    runtime: tokio::runtime::Handle,
    open: Option<Open>,
}

enum Open {
    Local(Box<dyn Seekable>),
    /// Read from a place, and what of it was not passed on yet.
    Elsewhere(Stream, Bytes),
}

impl Opening {
    fn open(&self) -> io::Result<Open> {
        if let Some(here) = self.holder.here(&self.file) {
            return Ok(Open::Local(here.open()?));
        }
        let opened = self.runtime.block_on(self.holder.open(&self.file, None)).map_err(io::Error::other)?;
        Ok(Open::Elsewhere(opened, Bytes::new()))
    }
}

impl Read for Opening {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        if self.open.is_none() {
            self.open = Some(self.open()?);
        }
        match &mut self.open {
            Some(Open::Local(bytes)) => bytes.read(out),
            Some(Open::Elsewhere(stream, piece)) => {
                while piece.is_empty() {
                    match self.runtime.block_on(stream.next()) {
                        Some(next) => *piece = next?,
                        None => return Ok(0),
                    }
                }
                let read = piece.len().min(out.len());
                out[..read].copy_from_slice(&piece[..read]);
                piece.advance(read);
                Ok(read)
            }
            None => Ok(0),
        }
    }
}

/// The rows of files of a run; nothing is opened yet.
pub fn rows(holder: &Arc<Holder>, files: &[File], reading: &Arc<Reading>) -> Rows {
    let runtime = tokio::runtime::Handle::current();
    let source = |file: &File| Source {
        name: file.name.as_deref().unwrap_or("file").to_owned(),
        bytes: Box::new(Opening { holder: holder.clone(), file: file.clone(), runtime: runtime.clone(), open: None }),
    };
    Rows::new(reading.clone(), files.iter().map(source).collect())
}

/// Runs what blocks.
///
/// # Errors
/// When it fails, or its thread ends.
pub async fn blocking<T, E>(work: impl FnOnce() -> Result<T, E> + Send + 'static) -> Result<T, E>
where
    T: Send + 'static,
    E: Send + From<io::Error> + 'static,
{
    tokio::task::spawn_blocking(work).await.unwrap_or_else(|error| Err(io::Error::other(error.to_string()).into()))
}

/// What the loops of one run read from, between two batches.
#[derive(Default)]
pub struct Readings(Mutex<Vec<(RowsTask, Rows)>>);

impl Readings {
    /// The next rows of a loop.
    ///
    /// # Errors
    /// When they cannot be read.
    pub async fn batch(&self, holder: &Arc<Holder>, task: &RowsTask) -> Result<Batch, Fault> {
        let kept = {
            let mut open = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            // The plan of a run has one reading for each step.
            let same = |known: &RowsTask| {
                known.from == task.from && Arc::ptr_eq(&known.reading, &task.reading) && known.files == task.files
            };
            open.iter().position(|(known, _)| same(known)).map(|at| open.remove(at).1)
        };
        let (known, from) = (kept.is_some(), task.from);
        let mut rows = kept.unwrap_or_else(|| rows(holder, &task.files, &task.reading));
        let (rows, read) = blocking(move || {
            if !known {
                rows.pass(from)?;
            }
            let read = rows.batch()?;
            Ok::<_, Fault>((rows, read))
        })
        .await?;
        let (found, last) = read;
        let count = found.len() as u64;
        if !last {
            let mut open = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            if open.len() >= MOST_OPEN {
                open.remove(0);
            }
            open.push((RowsTask { from: task.from + count, ..task.clone() }, rows));
        }
        Ok(Batch { rows: found.into_iter().map(|row| row.value).collect(), count, last })
    }
}

/// Rows that become the bytes of a file, piece by piece.
struct Sending<R> {
    rows: R,
    writer: Writer,
}

/// A piece, and the state that produces the next one; none after the last.
type Made<R> = Result<(Bytes, Option<Sending<R>>), Fault>;

impl<R: Iterator<Item = Result<Value, Fault>>> Sending<R> {
    fn piece(mut self) -> Made<R> {
        let mut piece = Vec::with_capacity(PIECE);
        while piece.len() < PIECE {
            match self.rows.next() {
                Some(row) => piece.extend(self.writer.row(&row?)),
                None => {
                    piece.extend(self.writer.end());
                    return Ok((piece.into(), None));
                }
            }
        }
        Ok((piece.into(), Some(self)))
    }
}

/// Rows as the bytes of a file, made while they are read. The first bytes are there when it returns, so that what is wrong with the
/// first rows is known before anything is sent; a fault further on ends the stream.
///
/// One piece is made ahead of those that were read. A thread is occupied only while it makes a piece: a client that reads slowly
/// occupies none.
///
/// # Errors
/// When the first rows cannot be read.
pub async fn send(
    rows: impl Iterator<Item = Result<Value, Fault>> + Send + 'static,
    writing: &Writing,
) -> Result<Stream, Fault> {
    let begun = Sending { rows, writer: Writer::new(writing) };
    let (first, rest) = blocking(move || begun.piece()).await?;
    let ahead = |rest: Sending<_>| tokio::task::spawn_blocking(move || rest.piece());
    let rest = stream::unfold(rest.map(ahead), move |making| async move {
        let made = making?.await.unwrap_or_else(|error| Err(io::Error::other(error.to_string()).into()));
        Some(match made {
            Ok((piece, rest)) => (Ok(piece), rest.map(ahead)),
            Err(why) => {
                tracing::warn!(%why, "rows that are being sent cannot be read to their end");
                (Err(io::Error::other(why)), None)
            }
        })
    });
    Ok(stream::once(async { Ok(first) }).chain(rest).boxed())
}

#[cfg(test)]
mod tests {
    use kanzlei_lang::document::formats::Format;

    use super::*;

    #[test]
    fn clients_that_do_not_read_occupy_no_thread() {
        let runtime = tokio::runtime::Builder::new_current_thread().max_blocking_threads(1).build().expect("a runtime");
        let writing = Writing { format: Format::Ndjson, columns: Vec::new(), keep_formulas: false };
        runtime.block_on(async {
            let rows = |count: i64| (0..count).map(|n| Ok(Value::list(vec![Value::Int(n); 1000])));
            let mut stalled = Vec::new();
            for _ in 0..8 {
                let mut bytes = send(rows(i64::MAX), &writing).await.expect("begun");
                assert!(bytes.next().await.is_some_and(|piece| piece.is_ok_and(|piece| piece.len() >= PIECE)));
                stalled.push(bytes);
            }
            let all: Vec<_> = send(rows(1000), &writing).await.expect("begun").collect().await;
            let lines: usize = all.iter().flatten().map(|piece| piece.iter().filter(|b| **b == b'\n').count()).sum();
            assert_eq!((lines, all.iter().all(Result::is_ok)), (1000, true));
            // A fault ends what is sent.
            let broken = rows(100).chain([Err(Fault::from(io::Error::other("gone")))]).chain(rows(9));
            let all: Vec<_> = send(broken, &writing).await.expect("begun").collect().await;
            assert_eq!(all.iter().position(Result::is_err), Some(all.len() - 1));
        });
    }
}
