//! The places of a case: files in memory, for `file` steps that nothing performs.

use std::collections::BTreeMap;
use std::io::Cursor;
use std::sync::Arc;

use kanzlei_compiler::plan::rows::{Reading, Writing};
use kanzlei_engine::machine::{Batch, EffectError, FileRows, FileWork, Letter, Reply, RowsTask};
use kanzlei_engine::pack::{self, Bounds};
use kanzlei_engine::rows::{self, Rows, Source, Writer};
use kanzlei_model::file::{File, files_of};
use kanzlei_model::problem::Problem;
use kanzlei_model::run::FailureKind;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_model::value::Value;

use super::case::PUBLIC;

/// Bytes that an archive of a case may have unpacked.
const MOST: u64 = 64 << 20;

/// Files by place and path, with the time at which they were stored.
#[derive(Debug, Default)]
pub struct Shelf(BTreeMap<String, BTreeMap<String, (File, Timestamp)>>);

fn fault(kind: FailureKind, detail: impl Into<String>) -> EffectError {
    EffectError { kind, detail: detail.into() }
}

impl Shelf {
    /// Places with these files.
    pub fn new(files: &[(String, String, File)]) -> Self {
        let mut shelf = Shelf::default();
        for (place, path, file) in files {
            shelf.put(place, path, file.clone(), Timestamp::EPOCH);
        }
        shelf
    }

    fn put(&mut self, place: &str, path: &str, file: File, now: Timestamp) {
        self.0.entry(place.to_owned()).or_default().insert(path.to_owned(), (file, now));
    }

    fn get(&self, place: &str, path: &str) -> Result<&File, EffectError> {
        let missing = || fault(FailureKind::Missing, format!("there is no file `{path}` in the place `{place}`"));
        self.0.get(place).and_then(|files| files.get(path)).map(|(file, _)| file).ok_or_else(missing)
    }

    /// Whether work reads what is stored here.
    pub fn holds(&self, work: &FileWork) -> bool {
        match work {
            FileWork::Fetch { place, path } | FileWork::Link { place, path, .. } => self.get(place, path).is_ok(),
            FileWork::Remove { place, paths } => paths.iter().any(|path| self.get(place, path).is_ok()),
            FileWork::List { place, below, .. } => {
                self.0.get(place).is_some_and(|files| files.keys().any(|path| path.starts_with(below.as_str())))
            }
            FileWork::Store { .. }
            | FileWork::Zip { .. }
            | FileWork::Unzip { .. }
            | FileWork::Read { .. }
            | FileWork::Write { .. }
            | FileWork::Keep { .. }
            | FileWork::Print { .. } => false,
        }
    }

    /// What comes of work with files.
    ///
    /// # Errors
    /// As the work fails where it is performed.
    pub fn perform(&mut self, work: &FileWork, now: Timestamp) -> Result<Value, EffectError> {
        Ok(match work {
            FileWork::Store { file, to, replace } => {
                for (place, path) in to {
                    if !replace && self.get(place, path).is_ok_and(|known| known.digest != file.digest) {
                        let detail = format!("there is a file `{path}` in the place `{place}` already");
                        return Err(fault(FailureKind::Exists, detail));
                    }
                    self.put(place, path, file.clone(), now);
                }
                Value::object(to.iter().map(|(place, path)| (place.as_str(), Value::text(path.as_str()))))
            }
            FileWork::Fetch { place, path } => {
                let file = self.get(place, path)?.clone();
                let name = path.rsplit('/').next().map(Into::into);
                File { name, ..file }.into()
            }
            FileWork::List { place, below, most } => {
                let prefix = if below.is_empty() { String::new() } else { format!("{}/", below.trim_matches('/')) };
                let found = self.0.get(place).into_iter().flatten();
                let found = found.filter(|(path, _)| path.starts_with(&prefix)).take(*most as usize);
                Value::list(found.map(|(path, (file, stored))| entry(path, file.size, *stored)).collect())
            }
            FileWork::Remove { place, paths } => {
                let files = self.0.entry(place.clone()).or_default();
                let removed = paths.iter().filter(|path| files.remove(*path).is_some()).count();
                Value::object([("removed", Value::Int(removed as i64))])
            }
            FileWork::Link { place, path, span } => {
                self.get(place, path)?;
                let until = now + Span::from(*span);
                let url = format!("{PUBLIC}/~/files/{place}/{path}");
                Value::object([("url", Value::text(url)), ("until", Value::text(until.to_string()))])
            }
            FileWork::Zip { files, name } => {
                let parts = files.iter().map(|(path, file)| (path.clone(), file.held.as_deref().unwrap_or_default()));
                let mut archive = Cursor::new(Vec::new());
                pack::pack(parts, &mut archive).map_err(|why| fault(why.kind(), why.to_string()))?;
                let name = name.as_deref().unwrap_or("files.zip");
                File::of_bytes(Some(name), "application/zip", archive.into_inner().into()).into()
            }
            FileWork::Unzip { file } => {
                let bytes = file.held.as_deref().unwrap_or_default();
                let mut found = Vec::new();
                let bounds = Bounds { bytes: MOST, ..Bounds::default() };
                let done = pack::unpack(Cursor::new(bytes), &bounds, |path, bytes| {
                    let mut whole = Vec::new();
                    bytes.read_to_end(&mut whole)?;
                    let media =
                        if std::str::from_utf8(&whole).is_ok() { "text/plain" } else { kanzlei_model::file::ANY };
                    found.push((path.to_owned(), File::of_bytes(Some(path), media, whole.into())));
                    Ok(())
                });
                done.map_err(|why| fault(why.kind(), why.to_string()))?;
                unpacked(found)
            }
            FileWork::Read { files, reading } => rows_of(files, reading)?.whole().map_err(unreadable)?,
            FileWork::Write { rows, writing, name } => {
                written(values(rows)?.into_iter().map(Ok), writing, name.as_deref())?
            }
            FileWork::Keep { text, media, name } => {
                File::of_bytes(Some(name), media, text.clone().into_bytes().into()).into()
            }
            // The bytes are the page itself: nothing is printed here.
            FileWork::Print { page, name, .. } => {
                File::of_bytes(Some(name), "application/pdf", page.clone().into_bytes().into()).into()
            }
        })
    }

    /// All files, as expectations see them: by place and path, with their text where they have one.
    pub fn value(&self) -> Value {
        let place = |files: &BTreeMap<String, (File, Timestamp)>| {
            Value::object(files.iter().map(|(path, (found, _))| (path.as_str(), Value::object(seen(found)))))
        };
        Value::object(self.0.iter().map(|(name, files)| (name.as_str(), place(files))))
    }
}

/// A file as expectations see it, with its text where it has one.
fn seen(file: &File) -> Vec<(&'static str, Value)> {
    let mut members = vec![
        ("media", Value::Text(file.media.clone())),
        ("size", Value::Int(file.size as i64)),
        ("digest", Value::Text(file.digest.clone())),
    ];
    if let Some(text) = file.held.as_deref().and_then(|bytes| std::str::from_utf8(bytes).ok()) {
        members.push(("text", Value::text(text)));
    }
    members
}

/// A mail as expectations see it.
pub fn letter(letter: &Letter) -> Value {
    let Value::Object(shown) = letter.shown() else { return Value::Null };
    let attached = |file: &File| {
        let name = ("name", file.name.as_deref().map_or(Value::Null, Value::text));
        Value::object(std::iter::once(name).chain(seen(file)))
    };
    let members = shown.iter().filter(|(name, _)| ***name != *"attach");
    let members = members.map(|(name, value)| (name.to_string(), value.clone()));
    let attach = ("attach".to_owned(), Value::list(letter.attach.iter().map(attached).collect()));
    Value::object(members.chain([attach]))
}

/// What a `mail` step returns when all recipients are accepted.
pub fn sent(letter: &Letter, id: &str) -> Value {
    let accepted = letter.recipients().map(Value::text).collect();
    Value::object([("id", Value::text(id)), ("accepted", Value::list(accepted)), ("refused", Value::list(Vec::new()))])
}

/// The rows of files that are held.
fn rows_of(files: &[File], reading: &Arc<Reading>) -> Result<Rows, EffectError> {
    let source = |file: &File| {
        let name = file.name.as_deref().unwrap_or("file").to_owned();
        let held = file.held.clone().ok_or_else(|| {
            fault(FailureKind::Missing, format!("the bytes of `{name}` are not kept with the record of the run"))
        })?;
        Ok(Source { name, bytes: Box::new(Cursor::new(held)) })
    };
    Ok(Rows::new(reading.clone(), files.iter().map(source).collect::<Result<_, EffectError>>()?))
}

/// Rows of a list, or of files that are held.
///
/// # Errors
/// When they cannot be read.
pub fn values(rows: &FileRows) -> Result<Vec<Value>, EffectError> {
    match rows {
        FileRows::List(list) => Ok(list.as_list().unwrap_or_default().to_vec()),
        FileRows::Read(files, reading) => {
            rows_of(files, reading)?.map(|row| row.map(|row| row.value).map_err(unreadable)).collect()
        }
    }
}

/// A file of rows that is held.
///
/// # Errors
/// The first one of a row.
pub fn written(
    rows: impl Iterator<Item = Result<Value, EffectError>>,
    writing: &Writing,
    name: Option<&str>,
) -> Result<Value, EffectError> {
    let (mut writer, mut bytes) = (Writer::new(writing), Vec::new());
    for row in rows {
        bytes.extend(writer.row(&row?));
    }
    bytes.extend(writer.end());
    let name = name.map_or_else(|| format!("rows.{}", writing.format.word()), str::to_owned);
    Ok(File::of_bytes(Some(&name), writing.format.media(), bytes.into()).into())
}

/// Why a step cannot read rows.
pub fn unreadable(why: rows::Fault) -> EffectError {
    let kind = match &why {
        rows::Fault::Content(_) => FailureKind::Unreadable,
        rows::Fault::TooLarge(_) => FailureKind::TooLarge,
        rows::Fault::Io(_) => FailureKind::Place,
    };
    fault(kind, why.to_string())
}

/// The next rows of a loop over files that are held.
///
/// # Errors
/// When they cannot be read.
pub fn batch(task: &RowsTask) -> Result<Batch, EffectError> {
    let mut rows = rows_of(&task.files, &task.reading)?;
    rows.pass(task.from).map_err(unreadable)?;
    let (rows, last) = rows.batch().map_err(unreadable)?;
    Ok(Batch { count: rows.len() as u64, rows: rows.into_iter().map(|row| row.value).collect(), last })
}

/// A reply as its client sees it: rows of files that are held become a list.
pub fn replied(reply: &Reply) -> Reply {
    let Some(reading) = &reply.rows else { return reply.clone() };
    let files: Vec<File> = files_of(&reply.body).into_iter().map(|(_, file)| file.clone()).collect();
    let whole = rows_of(&files, reading).and_then(|rows| rows.whole().map_err(unreadable));
    match whole {
        Ok(body) => Reply { body, rows: None, ..reply.clone() },
        Err(why) => {
            let body = Problem::new(500, "The rows cannot be read").detail(why.detail).to_value();
            Reply { status: 500, headers: Vec::new(), body, rows: None, problem: true }
        }
    }
}

/// An entry of a list.
pub fn entry(path: &str, size: u64, stored: Timestamp) -> Value {
    Value::object([
        ("path", Value::text(path)),
        ("size", Value::Int(size as i64)),
        ("stored", Value::text(stored.to_string())),
    ])
}

/// What `unzip` returns.
pub fn unpacked(files: Vec<(String, File)>) -> Value {
    let one = |(path, file): (String, File)| Value::object([("path", Value::text(path)), ("file", file.into())]);
    Value::list(files.into_iter().map(one).collect())
}
