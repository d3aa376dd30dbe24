//! `file` steps in the machine: what they ask for, made from values, and what comes of it. The bytes stay outside.

use std::sync::Arc;
use std::time::Duration;

use super::flow::{Awaits, Fibre, Flow, What};
use super::{Effect, EffectError, Failure, Machine, State};
use kanzlei_compiler::plan::Maker;
use kanzlei_compiler::plan::file::{FileStep, InPlace, Work};
use kanzlei_compiler::plan::rows::{Reading, Writing};
use kanzlei_lang::expr::{self, ops};
use kanzlei_model::duration;
use kanzlei_model::file::File;
use kanzlei_model::run::FailureKind;
use kanzlei_model::value::Value;

/// The longest that a link is valid.
const LONGEST_LINK: Duration = Duration::from_secs(7 * 86_400);
/// How long it is by default.
const LINK: Duration = Duration::from_secs(15 * 60);
/// The most files that are packed or removed by one step.
const MOST: usize = 10_000;

/// What a `file` step asks for.
#[derive(Clone, Debug, PartialEq)]
pub struct FileTask {
    /// What is to be done.
    pub work: FileWork,
    /// How long it may take.
    pub within: Duration,
}

/// Work with files and places; the outcome is the value of the step.
#[derive(Clone, Debug, PartialEq)]
#[allow(missing_docs)]
pub enum FileWork {
    /// Store a file at a path of each place: the paths by place.
    Store { file: File, to: Vec<(String, String)>, replace: bool },
    /// Read a file of a place: a file.
    Fetch { place: String, path: String },
    /// List the files below a path: objects of `path`, `size`, `stored`.
    List { place: String, below: String, most: u32 },
    /// Remove files: `removed`, how many there were.
    Remove { place: String, paths: Vec<String> },
    /// Make an address for downloads: `url` and `until`.
    Link { place: String, path: String, span: Duration },
    /// Pack files, by their paths in the new one: a file.
    Zip { files: Vec<(String, File)>, name: Option<String> },
    /// Unpack a file: objects of `path` and `file`.
    Unzip { file: File },
    /// Read all rows of files: a list.
    Read { files: Vec<File>, reading: Arc<Reading> },
    /// Write rows into a new file.
    Write { rows: Rows, writing: Arc<Writing>, name: Option<String> },
    /// Keep a text as a file.
    Keep { text: String, media: &'static str, name: String },
    /// Print a page with the files that it shows: a PDF.
    Print { page: String, files: Vec<(String, File)>, name: String, pages: u32 },
}

/// Rows that are to be used.
#[derive(Clone, Debug, PartialEq)]
pub enum Rows {
    /// Those of files, read as they are used.
    Read(Vec<File>, Arc<Reading>),
    /// Those of a list.
    List(Value),
}

pub(super) type Made<T> = Result<T, Stopped>;

/// Why a task is not made.
pub(super) enum Stopped {
    Evaluation(Box<expr::EvalError>),
    Value(String),
}

impl From<Box<expr::EvalError>> for Stopped {
    fn from(error: Box<expr::EvalError>) -> Self {
        Stopped::Evaluation(error)
    }
}

impl Machine {
    pub(super) fn start_file(
        &mut self,
        at: usize,
        fibre: &mut Fibre,
        step: &FileStep,
        record: usize,
    ) -> Result<Flow, Box<expr::EvalError>> {
        if let Work::Read { of, whole: false, .. } = &step.work {
            // Nothing is read before a step uses the rows.
            let files = of.make(&fibre.slots, self.limits())?;
            self.close(fibre, record, State::Succeeded, files);
            return Ok(Flow::On);
        }
        let work = match self.file_work(fibre, &step.work) {
            Ok(work) => work,
            Err(Stopped::Evaluation(error)) => return Err(error),
            Err(Stopped::Value(detail)) => {
                return Ok(self.step_failed(fibre, record, Failure::new(FailureKind::Input, detail)));
            }
        };
        self.records[record].sent = work.shown();
        let id = self.ask(at, Effect::File(Box::new(FileTask { work, within: step.within })));
        fibre.awaits = Awaits::Effect { id, record: Some(record), what: What::File };
        Ok(Flow::Waits)
    }

    pub(super) fn filed(&mut self, fibre: &mut Fibre, record: usize, result: Result<Value, EffectError>) -> Flow {
        match result {
            Ok(value) => {
                self.close(fibre, record, State::Succeeded, value);
                Flow::On
            }
            Err(fault) => self.step_failed(fibre, record, Failure::of_files(fault)),
        }
    }

    fn file_work(&self, fibre: &Fibre, work: &Work) -> Made<FileWork> {
        let make = |maker: &Maker| maker.make(&fibre.slots, self.limits());
        let one = |(place, maker): &InPlace| Ok::<_, Stopped>((place.clone(), text(&make(maker)?, "a path")?));
        let file = |maker: &Maker| -> Made<File> { file_of(&make(maker)?) };
        Ok(match work {
            Work::Store { of, to, replace } => {
                let to = to.iter().map(one).collect::<Made<_>>()?;
                FileWork::Store { file: file(of)?, to, replace: *replace }
            }
            Work::Fetch(from) => {
                let (place, path) = one(from)?;
                FileWork::Fetch { place, path }
            }
            Work::List { from, most } => {
                let (place, below) = one(from)?;
                FileWork::List { place, below, most: *most }
            }
            Work::Remove((place, maker)) => {
                let value = make(maker)?;
                let paths = value.as_list().unwrap_or(std::slice::from_ref(&value));
                if paths.len() > MOST {
                    return Err(Stopped::Value(format!("{} paths; at most {MOST} are removed at once", paths.len())));
                }
                let paths = paths.iter().map(|path| text(path, "a path")).collect::<Made<_>>()?;
                FileWork::Remove { place: place.clone(), paths }
            }
            Work::Link { from, span } => {
                let (place, path) = one(from)?;
                let span = match span {
                    None => LINK,
                    Some(span) => {
                        let text = ops::to_text(&make(span)?);
                        duration::parse(&text).map_err(|error| Stopped::Value(error.to_string()))?
                    }
                };
                if span > LONGEST_LINK || span.is_zero() {
                    let span = duration::short(span);
                    return Err(Stopped::Value(format!("a link is valid for at most 7 days, not for {span}")));
                }
                FileWork::Link { place, path, span }
            }
            Work::Zip { of, name } => {
                let name = match name {
                    None => None,
                    Some(name) => Some(text(&make(name)?, "a name")?),
                };
                FileWork::Zip { files: packed(&make(of)?)?, name }
            }
            Work::Unzip(of) => FileWork::Unzip { file: file(of)? },
            Work::Read { of, reading, .. } => FileWork::Read { files: files_of(&make(of)?)?, reading: reading.clone() },
            Work::Write { of, rows, writing, name } => {
                let of = make(of)?;
                let rows = match rows {
                    Some(reading) => Rows::Read(files_of(&of)?, reading.clone()),
                    None if of.as_list().is_some() => Rows::List(of),
                    None => return Err(Stopped::Value(format!("these must be rows, not {}", of.kind()))),
                };
                let name = match name {
                    None => None,
                    Some(name) => Some(text(&make(name)?, "a name")?),
                };
                FileWork::Write { rows, writing: writing.clone(), name }
            }
        })
    }
}

impl FileWork {
    /// What the journal shows of it.
    pub(super) fn shown(&self) -> Value {
        let path = |place: &String, path: &String| (place.clone(), Value::text(path.as_str()));
        let word = |word: &str| ("file".to_owned(), Value::text(word));
        let of = |file: &File| ("of".to_owned(), Value::from(file.clone()));
        match self {
            FileWork::Store { file, to, .. } => {
                let to = Value::object(to.iter().map(|(place, at)| path(place, at)));
                Value::object([word("store"), of(file), ("to".to_owned(), to)])
            }
            FileWork::Fetch { place, path: at } => Value::object([word("fetch"), path(place, at)]),
            FileWork::List { place, below, .. } => Value::object([word("list"), path(place, below)]),
            FileWork::Remove { place, paths } => {
                let paths = Value::list(paths.iter().map(|path| Value::text(path.as_str())).collect());
                Value::object([word("remove"), (place.clone(), paths)])
            }
            FileWork::Link { place, path: at, .. } => Value::object([word("link"), path(place, at)]),
            FileWork::Zip { files, .. } => {
                let files = files.iter().map(|(path, file)| (path.clone(), Value::from(file.clone())));
                Value::object([word("zip"), ("of".to_owned(), Value::object(files))])
            }
            FileWork::Unzip { file } => Value::object([word("unzip"), of(file)]),
            FileWork::Read { files, .. } => Value::object([word("read"), ("of".to_owned(), listed(files))]),
            FileWork::Write { rows, writing, .. } => {
                let rows = match rows {
                    Rows::Read(files, _) => ("of".to_owned(), listed(files)),
                    Rows::List(list) => {
                        ("rows".to_owned(), Value::Int(list.as_list().map_or(0, <[Value]>::len) as i64))
                    }
                };
                Value::object([word("write"), rows, ("format".to_owned(), Value::text(writing.format.word()))])
            }
            // A `render` step shows its template and values.
            FileWork::Keep { .. } | FileWork::Print { .. } => Value::Undefined,
        }
    }
}

pub(super) fn text(value: &Value, what: &str) -> Made<String> {
    match value.as_text() {
        Some(text) => Ok(text.to_owned()),
        None => Err(Stopped::Value(format!("{what} is a text, not {}", value.kind()))),
    }
}

fn file_of(value: &Value) -> Made<File> {
    File::of(value).cloned().ok_or_else(|| Stopped::Value(format!("this must be a file, not {}", value.kind())))
}

fn listed(files: &[File]) -> Value {
    Value::list(files.iter().map(|file| file.clone().into()).collect())
}

/// A file, or those of a list.
pub(super) fn files_in(value: &Value) -> Result<Vec<File>, String> {
    let all = value.as_list().unwrap_or(std::slice::from_ref(value));
    if all.len() > MOST {
        return Err(format!("{} files; at most {MOST} are read at once", all.len()));
    }
    let of = |one| File::of(one).cloned().ok_or_else(|| format!("this must be a file, not {}", one.kind()));
    all.iter().map(of).collect()
}

pub(super) fn files_of(value: &Value) -> Made<Vec<File>> {
    files_in(value).map_err(Stopped::Value)
}

/// Files by their paths: those of an object, or of a list by their names; a name that occurs again gets a number.
pub(super) fn packed(value: &Value) -> Made<Vec<(String, File)>> {
    let mut files: Vec<(String, File)> = Vec::new();
    let mut used = std::collections::HashSet::new();
    match value {
        Value::List(list) => {
            for item in list.items() {
                let file = file_of(item)?;
                let name = file.name.as_deref().unwrap_or("file").to_owned();
                let (stem, ending) = match name.rfind('.').filter(|at| *at > 0) {
                    Some(at) => name.split_at(at),
                    None => (name.as_str(), ""),
                };
                let numbered = (2..).map(|n| format!("{stem}-{n}{ending}"));
                let name = std::iter::once(name.clone()).chain(numbered).find(|name| !used.contains(name));
                let name = name.unwrap_or_default();
                used.insert(name.clone());
                files.push((name, file));
            }
        }
        Value::Object(object) if object.file().is_none() => {
            for (path, item) in object.iter() {
                files.push((path.to_string(), file_of(item)?));
            }
        }
        other => return Err(Stopped::Value(format!("these must be files, not {}", other.kind()))),
    }
    if files.len() > MOST {
        return Err(Stopped::Value(format!("{} files; at most {MOST} are packed at once", files.len())));
    }
    Ok(files)
}
