//! XML 1.0: elements as values. A document type is refused, so that no entity stands for more than a character.
//!
//! An element of text alone is that text. Any other is an object: its attributes and elements by their names without prefix, those that occur
//! again as a list, and text between them as `text`.

use std::io::BufRead;

use kanzlei_model::value::{ObjectBuilder, Str, Value};
use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};

use super::bounded::{Bounded, Left};
use super::{Format, Found, MOST_OF_ROW, Row, Wrong, too_long};

/// The deepest nesting of elements.
const MOST_DEPTH: usize = 100;

pub struct Xml<R> {
    reader: Reader<Bounded<R>>,
    left: Left,
    element: Option<String>,
    /// Elements around the next row.
    depth: usize,
    begun: bool,
    buffer: Vec<u8>,
    /// Line breaks that were read: the parser counts bytes alone.
    line: u64,
}

/// An element that is being read.
#[derive(Default)]
struct Open {
    name: String,
    members: Vec<(Str, Vec<Value>)>,
    text: String,
}

impl Open {
    fn begin(start: &BytesStart, line: u64) -> Result<Self, Wrong> {
        let mut open = Open { name: name_of(start), ..Open::default() };
        for attribute in start.attributes() {
            let attribute = attribute.map_err(|error| Wrong::At(line, format!("no XML: {error}")))?;
            let key = String::from_utf8_lossy(attribute.key.local_name().as_ref()).into_owned();
            if attribute.key.as_ref() == b"xmlns" || attribute.key.as_ref().starts_with(b"xmlns:") {
                continue;
            }
            let value = attribute
                .normalized_value(quick_xml::XmlVersion::Explicit1_0)
                .map_err(|error| Wrong::At(line, format!("no XML: {error}")))?;
            open.add(&key, Value::text(value));
        }
        Ok(open)
    }

    fn add(&mut self, name: &str, value: Value) {
        match self.members.iter_mut().find(|(known, _)| **known == *name) {
            Some((_, values)) => values.push(value),
            None => self.members.push((name.into(), vec![value])),
        }
    }

    fn finish(mut self) -> Value {
        let text = self.text.trim().to_owned();
        if self.members.is_empty() {
            return Value::text(text);
        }
        if !text.is_empty() {
            self.add("text", Value::text(text));
        }
        let mut made = ObjectBuilder::with_capacity(self.members.len());
        for (name, mut values) in self.members {
            let value = if values.len() == 1 { values.swap_remove(0) } else { Value::list(values) };
            made.insert(name, value);
        }
        made.finish()
    }
}

fn name_of(start: &BytesStart) -> String {
    String::from_utf8_lossy(start.local_name().as_ref()).into_owned()
}

impl<R: BufRead + Send> Xml<R> {
    pub fn new(bytes: R, element: Option<String>) -> Self {
        let (bytes, left) = Bounded::new(bytes);
        let mut reader = Reader::from_reader(bytes);
        reader.config_mut().expand_empty_elements = true;
        Xml { reader, left, element, depth: 0, begun: false, buffer: Vec::new(), line: 1 }
    }

    /// The next event, with what it holds; bounded as a row is.
    fn event(&mut self) -> Result<Event<'static>, Wrong> {
        self.buffer.clear();
        self.left.set(MOST_OF_ROW);
        let line = self.line;
        let event = self.reader.read_event_into(&mut self.buffer);
        let event = event.map_err(|error| match error {
            quick_xml::Error::Io(error) if error.kind() == std::io::ErrorKind::FileTooLarge => {
                Wrong::At(line, too_long(MOST_OF_ROW))
            }
            quick_xml::Error::Io(error) => Wrong::Io(std::io::Error::new(error.kind(), error.to_string())),
            other => Wrong::At(line, format!("no XML: {other}")),
        })?;
        let event = event.into_owned();
        self.line += self.buffer.iter().filter(|byte| **byte == b'\n').count() as u64;
        Ok(event)
    }

    fn wrong(&self, why: impl Into<String>) -> Wrong {
        Wrong::At(self.line, why.into())
    }

    /// Reads an element to its end.
    fn read(&mut self, start: &BytesStart) -> Result<(Value, usize), Wrong> {
        let from = self.reader.buffer_position();
        let mut open = vec![Open::begin(start, self.line)?];
        loop {
            let event = self.event()?;
            let bytes = (self.reader.buffer_position() - from) as usize;
            if bytes > MOST_OF_ROW {
                return Err(self.wrong(too_long(MOST_OF_ROW)));
            }
            match event {
                Event::Start(start) => {
                    if open.len() + self.depth >= MOST_DEPTH {
                        return Err(self.wrong(format!("elements are nested more than {MOST_DEPTH} deep")));
                    }
                    open.push(Open::begin(&start, self.line)?);
                }
                Event::End(_) => {
                    let Some(ended) = open.pop() else { continue };
                    let name = ended.name.clone();
                    let value = ended.finish();
                    match open.last_mut() {
                        Some(around) => around.add(&name, value),
                        None => return Ok((value, bytes)),
                    }
                }
                Event::Text(text) => {
                    let text = text.decode().map_err(|error| self.wrong(format!("no XML: {error}")))?;
                    if let Some(open) = open.last_mut() {
                        open.text.push_str(&text);
                    }
                }
                Event::CData(text) => {
                    if let Some(open) = open.last_mut() {
                        open.text.push_str(&String::from_utf8_lossy(&text));
                    }
                }
                Event::GeneralRef(name) => {
                    let stands_for = match name.resolve_char_ref() {
                        Ok(Some(character)) => Some(character.to_string()),
                        _ => quick_xml::escape::resolve_predefined_entity(&String::from_utf8_lossy(&name))
                            .map(str::to_owned),
                    };
                    let Some(text) = stands_for else {
                        let name = String::from_utf8_lossy(&name).into_owned();
                        return Err(self.wrong(format!("the entity `{name}` is not read")));
                    };
                    if let Some(open) = open.last_mut() {
                        open.text.push_str(&text);
                    }
                }
                Event::DocType(_) => return Err(self.wrong("a document type is not read")),
                Event::Eof => return Err(self.wrong("an element has no end")),
                _ => {}
            }
        }
    }

    fn step(&mut self) -> Result<Option<Row>, Wrong> {
        loop {
            let event = self.event()?;
            match event {
                Event::Start(start) => {
                    let is_row = match &self.element {
                        Some(element) => name_of(&start) == *element,
                        None => self.depth == 1,
                    };
                    self.begun = true;
                    if is_row {
                        let line = self.line;
                        let (value, bytes) = self.read(&start)?;
                        return Ok(Some(Row { file: None, line, bytes: bytes + start.len(), value }));
                    }
                    self.depth += 1;
                    if self.depth >= MOST_DEPTH {
                        return Err(self.wrong(format!("elements are nested more than {MOST_DEPTH} deep")));
                    }
                }
                Event::End(_) => self.depth = self.depth.saturating_sub(1),
                Event::DocType(_) => return Err(self.wrong("a document type is not read")),
                Event::Eof if !self.begun || self.depth > 0 => {
                    return Err(self.wrong("the file is no whole XML document"));
                }
                Event::Eof => return Ok(None),
                _ => {}
            }
        }
    }
}

impl<R: BufRead + Send> Format for Xml<R> {
    fn next(&mut self) -> Option<Found> {
        self.step().transpose()
    }
}
