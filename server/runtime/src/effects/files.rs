//! `file` steps: what they store in places, read from them, pack and unpack.

use std::io::{Read, Seek};
use std::sync::Arc;
use std::time::Duration;

use kanzlei_engine::machine::{Batch, EffectError, FileRows, FileTask, FileWork, RowsTask};
use kanzlei_engine::pack;
use kanzlei_engine::rows::{self, MOST_OF_WHOLE};
use kanzlei_model::file::File;
use kanzlei_model::hex;
use kanzlei_model::run::FailureKind;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_model::value::Value;
use kanzlei_rehearsal::shelf::{entry, unpacked, unreadable};
use sha2::{Digest, Sha256};

use super::{Context, Effects};
use crate::clock::now;
use crate::files::local::Local;
use crate::files::place::{self, Place};
use crate::files::{self, Holder, incoming, link};
use crate::print::{Page, Printer};

/// Bytes of a part of an archive that is passed on at a time.
const PIECE: u64 = 64 << 10;
/// Such parts that wait to be kept.
const PIECES: usize = 16;
/// The most bytes of a PDF that is printed.
const MOST_OF_PDF: u64 = 256 << 20;

fn fault(kind: FailureKind, detail: impl Into<String>) -> EffectError {
    EffectError { kind, detail: detail.into() }
}

impl From<files::Fault> for EffectError {
    fn from(why: files::Fault) -> Self {
        let kind = match &why {
            files::Fault::Incoming(incoming::Fault::TooLarge(_)) => FailureKind::TooLarge,
            files::Fault::Place(place::Fault::Missing(..)) | files::Fault::Gone => FailureKind::Missing,
            files::Fault::Place(place::Fault::Exists(..)) => FailureKind::Exists,
            files::Fault::Place(place::Fault::Path(..)) => FailureKind::Input,
            _ => FailureKind::Place,
        };
        fault(kind, why.to_string())
    }
}

impl From<place::Fault> for EffectError {
    fn from(why: place::Fault) -> Self {
        files::Fault::from(why).into()
    }
}

/// Performs a task within a time.
pub async fn perform(run: &Context, effects: &Effects, task: &FileTask, left: Duration) -> Result<Value, EffectError> {
    let within = task.within.min(left);
    match tokio::time::timeout(within, work(&run.files, effects, &task.work, within)).await {
        Ok(done) => done,
        Err(_) => {
            let within = kanzlei_model::duration::short(within);
            Err(fault(FailureKind::Timeout, format!("the files were not ready within {within}")))
        }
    }
}

async fn work(
    holder: &Arc<Holder>,
    effects: &Effects,
    work: &FileWork,
    within: Duration,
) -> Result<Value, EffectError> {
    let named = |place: &str| holder.files().place(place).map_err(EffectError::from);
    Ok(match work {
        FileWork::Store { file, to, replace } => {
            for (place, path) in to {
                store(holder, file, &named(place)?, path, *replace).await?;
            }
            Value::object(to.iter().map(|(place, path)| (place.as_str(), Value::text(path.as_str()))))
        }
        FileWork::Fetch { place, path } => {
            let (size, bytes) = named(place)?.get(path, None).await?;
            let most = holder.files().bounds.file;
            if size > most {
                return Err(fault(
                    FailureKind::TooLarge,
                    format!("`{path}` has {size} bytes; a file has at most {most}"),
                ));
            }
            holder.keep_stream(bytes, Some(path), None).await?.into()
        }
        FileWork::List { place, below, most } => {
            let found = named(place)?.list(below, *most as usize).await?;
            let one = |found: &place::Entry| entry(&found.path, found.size, Timestamp::from_micros(found.stored));
            Value::list(found.iter().map(one).collect())
        }
        FileWork::Remove { place, paths } => {
            let (place, mut removed) = (named(place)?, 0);
            for path in paths {
                removed += i64::from(place.remove(path).await?);
            }
            Value::object([("removed", Value::Int(removed))])
        }
        FileWork::Link { place, path, span } => {
            let until = now() + Span::from(*span);
            let url = link::make(&effects.jobs, &named(place)?, path, *span, until).await?;
            Value::object([("url", Value::text(url)), ("until", Value::text(until.to_string()))])
        }
        FileWork::Zip { files, name } => zip(holder, files, name.as_deref()).await?,
        FileWork::Unzip { file } => unzip(holder, file).await?,
        FileWork::Read { files, reading } => {
            let size = files.iter().fold(0, |all: u64, file| all.saturating_add(file.size));
            if size > MOST_OF_WHOLE {
                let detail = format!(
                    "{size} bytes; at most {MOST_OF_WHOLE} become a list: read them in a loop, without `whole`"
                );
                return Err(fault(FailureKind::TooLarge, detail));
            }
            let rows = files::rows::rows(holder, files, reading);
            files::rows::blocking(move || rows.whole()).await.map_err(unreadable)?
        }
        FileWork::Write { rows, writing, name } => {
            let bytes = match rows {
                FileRows::Read(from, reading) => {
                    let rows = files::rows::rows(holder, from, reading);
                    files::rows::send(rows.map(|row| row.map(|row| row.value)), writing).await
                }
                FileRows::List(list) => {
                    let list = list.clone();
                    let rows = (0..).map_while(move |at| list.as_list()?.get(at).cloned()).map(Ok);
                    files::rows::send(rows, writing).await
                }
            };
            let name = name.clone().unwrap_or_else(|| format!("rows.{}", writing.format.word()));
            written(holder, bytes.map_err(unreadable)?, &name, writing.format.media()).await?
        }
        FileWork::Keep { text, media, name } => {
            let bytes = futures_util::stream::iter([Ok(text.clone().into())]);
            holder.keep_stream(Box::pin(bytes), Some(name), Some(media)).await?.into()
        }
        FileWork::Print { page, files, name, pages } => {
            print(holder, &effects.printer, page, files, name, (*pages, within)).await?
        }
    })
}

/// Prints a page with the files that it shows.
async fn print(
    holder: &Arc<Holder>,
    printer: &Printer,
    page: &str,
    shown: &[(String, File)],
    name: &str,
    (pages, within): (u32, Duration),
) -> Result<Value, EffectError> {
    let folder = holder.files().folder()?;
    let (mut files, mut held) = (Vec::with_capacity(shown.len()), Vec::new());
    let broken = |error: std::io::Error| fault(FailureKind::Place, error.to_string());
    for (at, (name, file)) in shown.iter().enumerate() {
        let here = holder.here(file);
        let path = match here.as_ref().and_then(Local::path) {
            Some(path) => path.to_path_buf(),
            None => {
                let path = folder.path().join(at.to_string());
                holder.copy(file, tokio::fs::File::create(&path).await.map_err(broken)?).await?;
                path
            }
        };
        held.extend(here);
        files.push((name.clone(), path));
    }
    let to = folder.path().join("page.pdf");
    let asked = Page { html: page, files: &files, pages, bytes: MOST_OF_PDF, within };
    printer.print(&asked, &to).await?;
    let size = tokio::fs::metadata(&to).await.map_err(broken)?.len();
    let bytes = place::read_file(&to, 0..size);
    Ok(holder.keep_stream(bytes, Some(name), Some("application/pdf")).await?.into())
}

/// Keeps rows that are being written as a file.
pub(super) async fn written(
    holder: &Arc<Holder>,
    bytes: place::Stream,
    name: &str,
    media: &str,
) -> Result<Value, EffectError> {
    match holder.keep_stream(bytes, Some(name), Some(media)).await {
        Ok(file) => Ok(file.into()),
        Err(files::Fault::Incoming(incoming::Fault::Disk(error))) => match error.downcast::<rows::Fault>() {
            Ok(why) => Err(unreadable(why)),
            Err(error) => Err(files::Fault::from(incoming::Fault::Disk(error)).into()),
        },
        Err(other) => Err(other.into()),
    }
}

/// The next rows of a loop.
pub async fn batch(run: &Context, task: &RowsTask, left: Duration) -> Result<Batch, EffectError> {
    match tokio::time::timeout(left, run.readings.batch(&run.files, task)).await {
        Ok(read) => read.map_err(unreadable),
        Err(_) => Err(fault(FailureKind::Timeout, "the rows were not read in time")),
    }
}

/// Stores a file; where the same bytes are there already, as after a crash, it is stored.
async fn store(holder: &Arc<Holder>, file: &File, place: &Place, path: &str, replace: bool) -> Result<(), EffectError> {
    match holder.store(file, place, path, replace).await {
        Err(files::Fault::Place(place::Fault::Exists(..))) if has_same(place, path, file).await? => Ok(()),
        done => Ok(done?),
    }
}

async fn has_same(place: &Place, path: &str, file: &File) -> Result<bool, EffectError> {
    use futures_util::StreamExt;
    let (size, mut bytes) = match place.get(path, None).await {
        Err(place::Fault::Missing(..)) => return Ok(false),
        got => got?,
    };
    if size != file.size {
        return Ok(false);
    }
    let mut digest = Sha256::new();
    while let Some(chunk) = bytes.next().await {
        let chunk = chunk.map_err(|error| fault(FailureKind::Place, error.to_string()))?;
        digest.update(&chunk);
    }
    Ok(hex::of(&digest.finalize()) == *file.digest)
}

fn packing(why: pack::Fault) -> EffectError {
    fault(why.kind(), why.to_string())
}

/// Packs files, one after another, on a thread that may block.
async fn zip(holder: &Arc<Holder>, files: &[(String, File)], name: Option<&str>) -> Result<Value, EffectError> {
    let mut parts = Vec::with_capacity(files.len());
    for (path, file) in files {
        parts.push((path.clone(), holder.local(file).await?));
    }
    let archive = holder.files().unnamed()?;
    let packed = tokio::task::spawn_blocking(move || {
        let mut archive = archive;
        let opened = parts.iter().map(|(path, local)| Ok((path.clone(), local.open()?)));
        let opened = opened.collect::<std::io::Result<Vec<_>>>()?;
        pack::pack(opened, &mut archive)?;
        archive.rewind()?;
        Ok::<_, pack::Fault>(archive)
    });
    let archive = packed.await.map_err(|error| fault(FailureKind::Internal, error.to_string()))?.map_err(packing)?;
    let size = archive.metadata().map_err(|error| fault(FailureKind::Place, error.to_string()))?.len();
    let bytes = place::read_opened(archive, 0..size);
    let file = holder.keep_stream(bytes, Some(name.unwrap_or("files.zip")), Some("application/zip")).await?;
    Ok(file.into())
}

/// Unpacks a file: its entries are read on a thread that may block, and kept as they come.
async fn unzip(holder: &Arc<Holder>, file: &File) -> Result<Value, EffectError> {
    /// Bytes of an entry, and its path before the first of them.
    struct Piece {
        path: Option<String>,
        bytes: Vec<u8>,
    }
    let archive = holder.local(file).await?;
    let bounds = pack::Bounds { bytes: holder.files().bounds.request, ..pack::Bounds::default() };
    let (sender, mut receiver) = tokio::sync::mpsc::channel::<Piece>(PIECES);
    let reading = tokio::task::spawn_blocking(move || {
        let gone = || pack::Fault::Io(std::io::Error::other("the step has ended"));
        let opened = archive.open().map_err(pack::Fault::Io)?;
        pack::unpack(std::io::BufReader::new(opened), &bounds, |path, bytes| {
            let mut path = Some(path.to_owned());
            loop {
                let mut piece = Vec::new();
                let whole = bytes.take(PIECE).read_to_end(&mut piece)? < PIECE as usize;
                sender.blocking_send(Piece { path: path.take(), bytes: piece }).map_err(|_| gone())?;
                if whole {
                    return Ok(());
                }
            }
        })
    });
    let mut files = Vec::new();
    let mut arriving: Option<(String, incoming::Incoming)> = None;
    let mut keep = async |arriving: Option<(String, incoming::Incoming)>| {
        if let Some((path, incoming)) = arriving {
            let come = incoming.finish(Some(&path), None).await.map_err(files::Fault::from)?;
            files.push((path, holder.keep(come).await?));
        }
        Ok::<_, files::Fault>(())
    };
    while let Some(piece) = receiver.recv().await {
        if let Some(path) = piece.path {
            keep(arriving.take()).await?;
            arriving = Some((path, holder.begin(u64::MAX)?));
        }
        if let Some((_, incoming)) = &mut arriving {
            incoming.write(&piece.bytes).await.map_err(files::Fault::from)?;
        }
    }
    let read = reading.await.map_err(|error| fault(FailureKind::Internal, error.to_string()))?;
    read.map_err(packing)?;
    keep(arriving).await?;
    Ok(unpacked(files))
}
