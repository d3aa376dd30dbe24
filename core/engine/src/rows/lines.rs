//! Lines: texts, or a JSON value on each. Empty lines between JSON values are left out.

use std::io::{BufRead, Read};

use kanzlei_model::value::Value;

use super::{Format, Found, MOST_OF_ROW, Row, Wrong, too_long};

pub struct Lines<R> {
    bytes: R,
    json: bool,
    line: u64,
    text: Vec<u8>,
}

impl<R: BufRead + Send> Lines<R> {
    pub fn new(bytes: R, json: bool) -> Self {
        Lines { bytes, json, line: 0, text: Vec::new() }
    }
}

impl<R: BufRead + Send> Format for Lines<R> {
    fn next(&mut self) -> Option<Found> {
        loop {
            self.text.clear();
            self.line += 1;
            let read = (&mut self.bytes).take(MOST_OF_ROW as u64 + 1).read_until(b'\n', &mut self.text);
            let read = match read {
                Ok(0) => return None,
                Ok(read) => read,
                Err(error) => return Some(Err(Wrong::Io(error))),
            };
            let text = self.text.strip_suffix(b"\n").unwrap_or(&self.text);
            let text = text.strip_suffix(b"\r").unwrap_or(text);
            if text.len() > MOST_OF_ROW || read > MOST_OF_ROW && !self.text.ends_with(b"\n") {
                return Some(Err(Wrong::At(self.line, too_long(MOST_OF_ROW))));
            }
            let value = match self.json {
                true if text.trim_ascii().is_empty() => continue,
                true => match Value::read(text.into()) {
                    Ok(value) => value,
                    Err(error) => return Some(Err(Wrong::At(self.line, super::json::said(&error)))),
                },
                false => Value::text(String::from_utf8_lossy(text)),
            };
            return Some(Ok(Row { file: None, line: self.line, bytes: read, value }));
        }
    }
}
