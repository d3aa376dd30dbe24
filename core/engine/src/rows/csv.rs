//! CSV (RFC 4180): objects by the names of the first line.

use std::io::{self, BufRead};

use csv::{Reader, ReaderBuilder, StringRecord};
use kanzlei_model::value::{Str, Value};

use super::bounded::{Bounded, Left};
use super::{BUFFER, Format, Found, MOST_OF_ROW, Row, Wrong, too_long};

/// The most columns.
const MOST_COLUMNS: usize = 1000;

pub struct Csv<R: BufRead> {
    reader: Reader<Bounded<R>>,
    left: Left,
    columns: Option<Vec<Str>>,
    record: StringRecord,
}

impl<R: BufRead + Send> Csv<R> {
    pub fn new(bytes: R, delimiter: u8) -> Self {
        let (bytes, left) = Bounded::new(bytes);
        let reader = ReaderBuilder::new()
            .has_headers(false)
            .flexible(true)
            .delimiter(delimiter)
            .buffer_capacity(BUFFER)
            .from_reader(bytes);
        Csv { reader, left, columns: None, record: StringRecord::new() }
    }

    fn record(&mut self) -> Option<Result<u64, Wrong>> {
        let line = self.reader.position().line();
        // What is read ahead of the row is its own or that of the next one.
        self.left.set(MOST_OF_ROW + BUFFER);
        match self.reader.read_record(&mut self.record) {
            Ok(false) => None,
            Ok(true) => Some(Ok(self.line())),
            Err(error) => match error.into_kind() {
                csv::ErrorKind::Io(error) if error.kind() == io::ErrorKind::FileTooLarge => {
                    Some(Err(Wrong::At(line, too_long(MOST_OF_ROW))))
                }
                csv::ErrorKind::Io(error) => Some(Err(Wrong::Io(error))),
                other => Some(Err(Wrong::At(line, format!("{other:?}")))),
            },
        }
    }

    /// The line on which the record begins: the parser counts line breaks up to the one that ends it, but passes over `\r` alone.
    fn line(&self) -> u64 {
        let inside = self.record.as_slice().bytes().filter(|byte| *byte == b'\n').count() as u64;
        let ending = !self.left.ends_with_return() && !self.reader.is_done();
        self.reader.position().line().saturating_sub(inside + u64::from(ending)).max(1)
    }

    fn header(&mut self) -> Option<Result<(), Wrong>> {
        let line = match self.record()? {
            Ok(line) => line,
            Err(wrong) => return Some(Err(wrong)),
        };
        let names: Vec<Str> = self.record.iter().map(|name| Str::from(name.trim())).collect();
        let twice = names.iter().enumerate().find(|(at, name)| names[..*at].contains(name));
        Some(match twice {
            _ if names.len() > MOST_COLUMNS => {
                Err(Wrong::At(line, format!("there are {} columns; at most {MOST_COLUMNS} are read", names.len())))
            }
            Some((_, name)) => Err(Wrong::At(line, format!("two columns are named `{name}`"))),
            None => {
                self.columns = Some(names);
                Ok(())
            }
        })
    }
}

impl<R: BufRead + Send> Format for Csv<R> {
    fn next(&mut self) -> Option<Found> {
        if self.columns.is_none()
            && let Err(wrong) = self.header()?
        {
            return Some(Err(wrong));
        }
        let line = match self.record()? {
            Ok(line) => line,
            Err(wrong) => return Some(Err(wrong)),
        };
        let columns = self.columns.as_deref().unwrap_or_default();
        if self.record.len() != columns.len() {
            let why = format!("there are {} fields; the first line names {} columns", self.record.len(), columns.len());
            return Some(Err(Wrong::At(line, why)));
        }
        let value = Value::object(columns.iter().cloned().zip(self.record.iter().map(Value::text)));
        // A delimiter and a line break for each field.
        let bytes = self.record.as_slice().len() + columns.len();
        Some(Ok(Row { file: None, line, bytes, value }))
    }
}
