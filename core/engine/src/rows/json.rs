//! JSON (RFC 8259): the items of a list as they come, or one row. The bytes of an item are cut out of the list before they are read, so
//! that no more than one item is held.

use kanzlei_model::value::Value;
use std::io::BufRead;

use super::{Format, Found, MOST_OF_ROW, Row, Wrong, document, too_long};

pub struct Json<R> {
    bytes: R,
    state: State,
    line: u64,
    item: Vec<u8>,
}

#[derive(Clone, Copy, PartialEq)]
enum State {
    /// Nothing was read.
    Begin,
    /// Behind the bracket: an item, or the end.
    First,
    /// Behind a comma: an item.
    Item,
    /// Behind an item: a comma, or the end.
    Comma,
    End,
}

impl<R: BufRead + Send> Json<R> {
    pub fn new(bytes: R) -> Self {
        Json { bytes, state: State::Begin, line: 1, item: Vec::new() }
    }

    /// The next byte that is no space, not yet consumed.
    fn peek(&mut self) -> Result<Option<u8>, Wrong> {
        loop {
            let piece = self.bytes.fill_buf().map_err(Wrong::Io)?;
            if piece.is_empty() {
                return Ok(None);
            }
            let spaces = piece.iter().take_while(|byte| matches!(byte, b' ' | b'\t' | b'\r' | b'\n')).count();
            self.line += piece[..spaces].iter().filter(|byte| **byte == b'\n').count() as u64;
            let found = piece.get(spaces).copied();
            self.bytes.consume(spaces);
            if found.is_some() {
                return Ok(found);
            }
        }
    }

    fn wrong(&self, why: impl Into<String>) -> Wrong {
        Wrong::At(self.line, why.into())
    }

    fn step(&mut self) -> Result<Option<Row>, Wrong> {
        loop {
            let byte = self.peek()?;
            match (self.state, byte) {
                (State::Begin, Some(b'[')) => {
                    self.bytes.consume(1);
                    self.state = State::First;
                }
                (State::Begin, None) => return Err(self.wrong("the file is empty")),
                (State::Begin, Some(_)) => {
                    self.state = State::End;
                    let (line, text) = (self.line, document(&mut self.bytes)?);
                    let value = serde_json::from_str(&text)
                        .map_err(|error| Wrong::At(line + error.line() as u64 - 1, said(&error)))?;
                    return Ok(Some(Row { file: None, line, bytes: text.len(), value }));
                }
                (State::First | State::Comma, Some(b']')) => {
                    self.bytes.consume(1);
                    self.state = State::End;
                }
                (State::Comma, Some(b',')) => {
                    self.bytes.consume(1);
                    self.state = State::Item;
                }
                (State::Comma, Some(_)) => return Err(self.wrong("a comma, or the end of the list, is missing")),
                (State::First | State::Item, Some(_)) => {
                    let line = self.line;
                    self.cut()?;
                    self.state = State::Comma;
                    let value = Value::read((&self.item).into())
                        .map_err(|error| Wrong::At(line + error.line().max(1) as u64 - 1, said(&error)))?;
                    return Ok(Some(Row { file: None, line, bytes: self.item.len() + 1, value }));
                }
                (State::End, None) => return Ok(None),
                (State::End, Some(_)) => return Err(self.wrong("something follows the end of the list")),
                (_, None) => return Err(self.wrong("the list has no end")),
            }
        }
    }

    /// Copies an item: up to the comma or bracket that ends it.
    fn cut(&mut self) -> Result<(), Wrong> {
        self.item.clear();
        let (mut depth, mut in_text, mut escaped) = (0usize, false, false);
        loop {
            let piece = self.bytes.fill_buf().map_err(Wrong::Io)?;
            if piece.is_empty() {
                return Err(self.wrong("the list has no end"));
            }
            let mut end = None;
            for (at, byte) in piece.iter().enumerate() {
                match byte {
                    _ if escaped => escaped = false,
                    b'\\' if in_text => escaped = true,
                    b'"' => in_text = !in_text,
                    _ if in_text => {}
                    b'[' | b'{' => depth += 1,
                    b',' | b']' | b'}' if depth == 0 => {
                        end = Some(at);
                        break;
                    }
                    b']' | b'}' => depth -= 1,
                    _ => {}
                }
            }
            let taken = end.unwrap_or(piece.len());
            self.line += piece[..taken].iter().filter(|byte| **byte == b'\n').count() as u64;
            self.item.extend_from_slice(&piece[..taken]);
            self.bytes.consume(taken);
            if self.item.len() > MOST_OF_ROW {
                return Err(self.wrong(too_long(MOST_OF_ROW)));
            }
            if end.is_some() {
                return Ok(());
            }
        }
    }
}

impl<R: BufRead + Send> Format for Json<R> {
    fn next(&mut self) -> Option<Found> {
        self.step().transpose()
    }
}

/// What is wrong with a JSON text, without its place.
pub fn said(error: &serde_json::Error) -> String {
    let text = error.to_string();
    let text = text.rsplit_once(" at line ").map_or(text.as_str(), |(text, _)| text);
    format!("no JSON: {text}")
}
