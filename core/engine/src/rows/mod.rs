//! Rows of files: read one after another as they come, and written again. Nothing in here holds a file as a whole or knows where
//! it is: sources are [`std::io::Read`].
//!
//! A row has at most [`MOST_OF_ROW`] bytes, a file that is one row (a JSON or YAML document that is no list) [`MOST_OF_DOCUMENT`], so
//! that a line of 100 MB is a fault and not 100 MB of memory.
//!
//! ```
//! use std::sync::Arc;
//! use kanzlei_compiler::plan::rows::Reading;
//! use kanzlei_engine::rows::{Rows, Source};
//! use kanzlei_lang::document::step::rows::Readable;
//!
//! let reading = Reading { format: Readable::Csv, delimiter: b';', encoding: None, element: None, row: None };
//! let source = Source { name: "bills.csv".into(), bytes: Box::new(&b"imo;weight\n9074729;12\n"[..]) };
//! let rows: Vec<_> = Rows::new(Arc::new(reading), vec![source]).collect::<Result<_, _>>().unwrap();
//! assert_eq!(rows[0].value.to_json(), r#"{"imo":"9074729","weight":"12"}"#);
//! assert_eq!(rows[0].line, 2);
//! ```

mod bounded;
mod csv;
mod decode;
mod json;
mod lines;
mod write;
mod xml;
mod yaml;

#[cfg(test)]
mod tests;

use std::collections::VecDeque;
use std::io::{self, BufRead, BufReader, Read};
use std::sync::Arc;

use kanzlei_compiler::plan::rows::Reading;
use kanzlei_lang::document::step::rows::Readable;
use kanzlei_model::value::Value;

pub use write::Writer;

/// The most bytes of a row.
pub const MOST_OF_ROW: usize = 1 << 20;
/// The most bytes of a file that is one row.
pub const MOST_OF_DOCUMENT: usize = 8 << 20;
/// The most bytes of files that become a list.
pub const MOST_OF_WHOLE: u64 = 16 << 20;
/// The most rows of a list.
pub const MOST_ROWS: usize = 100_000;
/// The most rows that a loop receives at a time.
pub const BATCH: usize = 200;
/// Bytes of rows, as they stand in the file, after which a batch ends.
pub const BATCH_BYTES: usize = 1 << 20;
/// Faults of rows that are reported together.
const FAULTS: usize = 10;
/// Bytes that are read from a source at a time.
const BUFFER: usize = 64 << 10;

/// Bytes of a file that rows are read from.
pub struct Source {
    /// Its name, for messages.
    pub name: String,
    /// The bytes.
    pub bytes: Box<dyn Read + Send>,
}

/// A row.
#[derive(Clone, Debug, PartialEq)]
pub struct Row {
    /// The name of its file when several are read.
    pub file: Option<Arc<str>>,
    /// The line on which it begins, counted from 1.
    pub line: u64,
    /// How many bytes it has in the file, about.
    pub bytes: usize,
    /// What it is.
    pub value: Value,
}

/// Why rows cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum Fault {
    /// What stands in the file is no row, or not such a row.
    #[error("{0}")]
    Content(String),
    /// The file, or the list of its rows, is larger than is allowed.
    #[error("{0}")]
    TooLarge(String),
    /// The bytes cannot be read.
    #[error("the file cannot be read: {0}")]
    Io(io::Error),
}

impl From<io::Error> for Fault {
    fn from(error: io::Error) -> Self {
        fault_of(error)
    }
}

/// A fault of a format: the line and what is wrong there.
enum Wrong {
    At(u64, String),
    Io(io::Error),
}

/// A row of a format, before it is fit to what the step wants.
type Found = Result<Row, Wrong>;

/// What reads one format.
trait Format: Send {
    /// The next row; nothing at the end.
    fn next(&mut self) -> Option<Found>;
}

/// Rows of several files, one after another.
pub struct Rows {
    reading: Arc<Reading>,
    sources: VecDeque<Source>,
    /// Whether messages name the file.
    several: bool,
    open: Option<(Arc<str>, Box<dyn Format>)>,
    ended: bool,
}

impl Rows {
    /// The rows of these files.
    pub fn new(reading: Arc<Reading>, sources: Vec<Source>) -> Self {
        Rows { reading, several: sources.len() > 1, sources: sources.into(), open: None, ended: false }
    }

    fn begin(&self, source: Source) -> Box<dyn Format> {
        let decoded =
            BufReader::with_capacity(BUFFER, decode::Decoded::new(source.bytes, self.reading.encoding.as_deref()));
        match self.reading.format {
            Readable::Csv => Box::new(csv::Csv::new(decoded, self.reading.delimiter)),
            Readable::Ndjson => Box::new(lines::Lines::new(decoded, true)),
            Readable::Text => Box::new(lines::Lines::new(decoded, false)),
            Readable::Json => Box::new(json::Json::new(decoded)),
            Readable::Xml => Box::new(xml::Xml::new(decoded, self.reading.element.clone())),
            Readable::Yaml => Box::new(yaml::Yaml::new(decoded)),
        }
    }

    fn place(&self, name: &str, line: u64) -> String {
        if self.several { format!("{name}, line {line}") } else { format!("line {line}") }
    }

    /// All rows as a list.
    ///
    /// # Errors
    /// When a row cannot be read, or their number exceeds [`MOST_ROWS`].
    pub fn whole(self) -> Result<Value, Fault> {
        let mut all = Vec::new();
        for row in self {
            all.push(row?.value);
            if all.len() > MOST_ROWS {
                return Err(Fault::TooLarge(format!(
                    "there are more than {MOST_ROWS} rows; read them in a loop, without `whole`"
                )));
            }
        }
        Ok(Value::list(all))
    }

    /// Passes over rows that were read before.
    ///
    /// # Errors
    /// When they cannot be read any more.
    pub fn pass(&mut self, count: u64) -> Result<(), Fault> {
        for row in self.take(usize::try_from(count).unwrap_or(usize::MAX)) {
            row?;
        }
        Ok(())
    }

    /// The next rows, and whether they are the last ones.
    ///
    /// # Errors
    /// When some of them cannot be read.
    pub fn batch(&mut self) -> Result<(Vec<Row>, bool), Fault> {
        let (mut rows, mut bytes) = (Vec::new(), 0);
        while rows.len() < BATCH && bytes < BATCH_BYTES {
            match self.next() {
                None => return Ok((rows, true)),
                Some(row) => {
                    let row = row?;
                    bytes += row.bytes;
                    rows.push(row);
                }
            }
        }
        Ok((rows, false))
    }

    /// The next row as it stands in a file, with the name of the file.
    fn found(&mut self) -> Option<Result<Row, (Arc<str>, Wrong)>> {
        loop {
            if self.open.is_none() {
                let source = self.sources.pop_front()?;
                let name = source.name.as_str().into();
                self.open = Some((name, self.begin(source)));
            }
            let (name, format) = self.open.as_mut()?;
            match format.next() {
                Some(Ok(row)) => return Some(Ok(row)),
                Some(Err(wrong)) => return Some(Err((name.clone(), wrong))),
                None => self.open = None,
            }
        }
    }

    /// Reads on behind a row that does not fit, for what else does not.
    fn misfits(&mut self, first: String) -> Fault {
        let mut all = vec![first];
        while all.len() < FAULTS {
            let Some(Ok(row)) = self.found() else { break };
            if let Err(why) = self.reading.fit(row.value) {
                let name = self.open.as_ref().map_or("", |(name, _)| name);
                all.push(format!("{}: {why}", self.place(name, row.line)));
            }
        }
        Fault::Content(all.join("\n"))
    }
}

impl Iterator for Rows {
    type Item = Result<Row, Fault>;

    fn next(&mut self) -> Option<Self::Item> {
        if self.ended {
            return None;
        }
        match self.found() {
            None => {
                self.ended = true;
                None
            }
            Some(Err((_, Wrong::Io(error)))) => {
                self.ended = true;
                Some(Err(fault_of(error)))
            }
            Some(Err((name, Wrong::At(line, why)))) => {
                self.ended = true;
                Some(Err(Fault::Content(format!("{}: {why}", self.place(&name, line)))))
            }
            Some(Ok(row)) => {
                let (line, bytes) = (row.line, row.bytes);
                let file = self.open.as_ref().filter(|_| self.several).map(|(name, _)| name.clone());
                match self.reading.fit(row.value) {
                    Ok(value) => Some(Ok(Row { file, line, bytes, value })),
                    Err(why) => {
                        self.ended = true;
                        let name = self.open.as_ref().map_or("", |(name, _)| name);
                        let first = format!("{}: {why}", self.place(name, line));
                        Some(Err(self.misfits(first)))
                    }
                }
            }
        }
    }
}

/// What is no text is the file's fault, anything else the disk's.
fn fault_of(error: io::Error) -> Fault {
    match error.kind() {
        io::ErrorKind::InvalidData => Fault::Content(error.to_string()),
        _ => Fault::Io(error),
    }
}

fn too_long(most: usize) -> String {
    format!("a row has more than {most} bytes")
}

/// Reads the rest of a file that is one row.
fn document(bytes: &mut impl BufRead) -> Result<String, Wrong> {
    let mut text = String::new();
    let read = bytes.take(MOST_OF_DOCUMENT as u64 + 1).read_to_string(&mut text).map_err(Wrong::Io)?;
    match read > MOST_OF_DOCUMENT {
        true => Err(Wrong::At(1, format!("a file that is one row has at most {MOST_OF_DOCUMENT} bytes"))),
        false => Ok(text),
    }
}
