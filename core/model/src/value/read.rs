//! JSON text that is checked once and read as far as it is asked for.
//!
//! One pass ([`Scan`]) checks the grammar of RFC 8259 and notes where each list and object begins and ends, how deep it is and what it
//! weighs. Short texts become values at once; of longer ones a list or an object stays a place in the shared text until its items or
//! members are asked for, and is written again as it came. White space is dropped beforehand, so that what is written is what
//! `JSON.stringify` writes.
//!
//! What is rare or wrong (a name twice, an escape in a name, a lone surrogate, a number beyond all bounds) is read by
//! serde_json, which reports what is wrong. So both accept the same texts, and return the same values.
//!
//! ```
//! use kanzlei_model::value::Value;
//! let value = Value::read(br#" {"berths": [{"number": 4}]} "#.as_slice().into()).unwrap();
//! assert_eq!(value.to_json(), r#"{"berths":[{"number":4}]}"#);
//! assert!(Value::read(b"{".as_slice().into()).is_err());
//! ```

use std::borrow::Cow;
use std::collections::HashSet;
use std::fmt;
use std::sync::Arc;

use super::keys::key;
use super::members::Members;
use super::write::plain_prefix;
use super::{MAX_DEPTH, Value, array_index};

/// Bytes from which lists and objects stay text until they are asked for.
const LAZY_FROM: usize = 512;
/// Bytes up to which a text is read this way.
const MOST: usize = 256 << 20;
/// Members from which names are compared by their hash.
const MANY: usize = 8;

/// A list or an object of a text, in the order in which they begin.
#[derive(Clone, Copy, Debug)]
struct Container {
    /// Its first byte, and the one behind its last.
    start: u32,
    end: u32,
    /// The first container behind it and all inside it.
    next: u32,
    weight: u32,
    /// Items or members.
    count: u32,
    depth: u8,
    /// Whether its text is what [`Value::write_json`] writes.
    exact: bool,
}

/// A checked text with the places of its lists and objects.
pub(super) struct Document {
    text: String,
    tape: Vec<Container>,
}

/// A list or an object of a checked text.
#[derive(Clone)]
pub(super) struct Source {
    document: Arc<Document>,
    at: u32,
}

impl fmt::Debug for Source {
    fn fmt(&self, f: &mut fmt::Formatter) -> fmt::Result {
        write!(f, "at {} of {} bytes", self.at, self.document.text.len())
    }
}

impl Source {
    fn container(&self) -> &Container {
        &self.document.tape[self.at as usize]
    }

    /// Its text, where that is what would be written of it.
    pub fn exact(&self) -> Option<&str> {
        let container = self.container();
        container.exact.then(|| &self.document.text[container.start as usize..container.end as usize])
    }

    /// How many items or members it has.
    pub fn count(&self) -> usize {
        self.container().count as usize
    }

    /// Its members, where it is an object.
    pub fn members(&self) -> Members {
        let Document { text, tape } = &*self.document;
        members(text, tape, self.at as usize, Some(&self.document))
    }

    /// Its items, where it is a list.
    pub fn items(&self) -> Vec<Value> {
        let Document { text, tape } = &*self.document;
        items(text, tape, self.at as usize, Some(&self.document))
    }
}

impl Value {
    /// Reads JSON text: lists and objects of a long one are read when they are asked for. Two members of the same name are one, with the
    /// value of the last.
    ///
    /// # Errors
    /// When it is no JSON (RFC 8259), not UTF-8, deeper than [`MAX_DEPTH`], or has a number beyond all bounds.
    pub fn read(bytes: Cow<'_, [u8]>) -> serde_json::Result<Value> {
        match quick(&bytes) {
            Some(Quick::Value(value)) => Ok(value),
            Some(Quick::Tape(tape)) => match String::from_utf8(bytes.into_owned()) {
                Ok(text) => Ok(Document { text, tape }.root()),
                // The text was read as UTF-8 before.
                Err(error) => serde_json::from_slice(error.as_bytes()),
            },
            None => serde_json::from_slice(&bytes),
        }
    }
}

/// What one pass makes of a text.
enum Quick {
    Value(Value),
    /// The text may stay what it is.
    Tape(Vec<Container>),
}

/// Nothing where it is to be read otherwise.
fn quick(bytes: &[u8]) -> Option<Quick> {
    if bytes.len() > MOST {
        return None;
    }
    let text = std::str::from_utf8(bytes).ok()?;
    let tape = match Scan::of(text) {
        Ok(tape) => tape,
        Err(Stop::Odd) => return None,
        Err(Stop::Blank) => {
            let text = without_blanks(text)?;
            let tape = Scan::of(&text).ok()?;
            return Some(Quick::Value(match text.len() < LAZY_FROM {
                true => value(&text, &tape, 0, &mut 0, None).0,
                false => Document { text, tape }.root(),
            }));
        }
    };
    Some(match text.len() < LAZY_FROM {
        true => Quick::Value(value(text, &tape, 0, &mut 0, None).0),
        false => Quick::Tape(tape),
    })
}

impl Document {
    /// The value of the whole text.
    fn root(self) -> Value {
        let document = Arc::new(self);
        value(&document.text, &document.tape, 0, &mut 0, Some(&document)).0
    }
}

/// A text without the white space between its tokens; nothing where it separates what would be one token without it.
fn without_blanks(text: &str) -> Option<String> {
    let bytes = text.as_bytes();
    let mut out = String::with_capacity(text.len());
    let (mut from, mut at) = (0, 0);
    let of_word = |byte: Option<&u8>| byte.is_some_and(|byte| !b"{}[],:\"".contains(byte));
    while at < bytes.len() {
        match bytes[at] {
            b'"' => at = end_of_text(bytes, at),
            b' ' | b'\n' | b'\r' | b'\t' => {
                out.push_str(&text[from..at]);
                at += bytes[at..].iter().take_while(|byte| b" \n\r\t".contains(byte)).count();
                if of_word(out.as_bytes().last()) && of_word(bytes.get(at)) {
                    return None;
                }
                from = at;
            }
            _ => at += 1,
        }
    }
    out.push_str(text.get(from..)?);
    Some(out)
}

/// The place behind a string literal that begins here; behind the text where it does not end.
fn end_of_text(bytes: &[u8], begin: usize) -> usize {
    let mut at = begin + 1;
    at += plain_prefix(&bytes[at..]);
    loop {
        match bytes.get(at) {
            Some(b'"') => return at + 1,
            Some(b'\\') => at += 2,
            Some(_) => at += 1,
            None => return bytes.len(),
        }
    }
}

/// Why a pass ended early.
enum Stop {
    /// There is white space between tokens.
    Blank,
    /// What is rare or wrong.
    Odd,
}

/// One pass over a text without white space.
struct Scan<'t> {
    bytes: &'t [u8],
    at: usize,
    tape: Vec<Container>,
    /// Names of the objects that are open.
    names: Vec<&'t [u8]>,
}

/// What is known of a value behind it.
struct Seen {
    weight: u32,
    depth: u8,
    exact: bool,
    /// Items or members.
    count: u32,
}

const PLAIN: Seen = Seen { weight: 8, depth: 0, exact: true, count: 0 };
const EMPTY: Seen = Seen { weight: 2, depth: 0, exact: true, count: 0 };

impl<'t> Scan<'t> {
    fn of(text: &'t str) -> Result<Vec<Container>, Stop> {
        let mut scan = Scan { bytes: text.as_bytes(), at: 0, tape: Vec::new(), names: Vec::new() };
        scan.value(1)?;
        match scan.bytes.get(scan.at) {
            None => Ok(scan.tape),
            Some(_) => Err(scan.stop()),
        }
    }

    /// Why what is here is not what is expected.
    fn stop(&self) -> Stop {
        match self.bytes.get(self.at) {
            Some(b' ' | b'\n' | b'\r' | b'\t') => Stop::Blank,
            _ => Stop::Odd,
        }
    }

    fn value(&mut self, level: u16) -> Result<Seen, Stop> {
        match self.bytes.get(self.at) {
            Some(b'"') => {
                let text = self.text()?;
                Ok(Seen { weight: text.length.saturating_add(2), exact: text.exact, ..EMPTY })
            }
            Some(b'{') => self.container(level, Self::members),
            Some(b'[') => self.container(level, Self::items),
            Some(b'-' | b'0'..=b'9') => self.number(),
            Some(b't') => self.word(b"true"),
            Some(b'f') => self.word(b"false"),
            Some(b'n') => self.word(b"null"),
            _ => Err(self.stop()),
        }
    }

    fn word(&mut self, word: &[u8]) -> Result<Seen, Stop> {
        match self.bytes[self.at..].starts_with(word) {
            true => {
                self.at += word.len();
                Ok(PLAIN)
            }
            false => Err(Stop::Odd),
        }
    }

    fn container(&mut self, level: u16, inner: fn(&mut Self, u16) -> Result<Seen, Stop>) -> Result<Seen, Stop> {
        if level > MAX_DEPTH {
            return Err(Stop::Odd);
        }
        let (index, start) = (self.tape.len(), self.at as u32);
        self.tape.push(Container { start, end: 0, next: 0, weight: 0, count: 0, depth: 0, exact: false });
        self.at += 1;
        let Seen { weight, depth, exact, count } = inner(self, level + 1)?;
        let depth = depth + 1;
        let (end, next) = (self.at as u32, self.tape.len() as u32);
        self.tape[index] = Container { start, end, next, weight, count, depth, exact };
        Ok(Seen { weight, depth, exact, count })
    }

    /// Whether another one follows; the closing byte is passed.
    fn more(&mut self, close: u8) -> Result<bool, Stop> {
        match self.bytes.get(self.at) {
            Some(b',') => {
                self.at += 1;
                Ok(true)
            }
            Some(byte) if *byte == close => {
                self.at += 1;
                Ok(false)
            }
            _ => Err(self.stop()),
        }
    }

    fn items(&mut self, level: u16) -> Result<Seen, Stop> {
        let mut all = EMPTY;
        if self.bytes.get(self.at) == Some(&b']') {
            self.at += 1;
            return Ok(all);
        }
        loop {
            let item = self.value(level)?;
            all.weight = all.weight.saturating_add(item.weight).saturating_add(1);
            all.depth = all.depth.max(item.depth);
            all.exact &= item.exact;
            all.count += 1;
            if !self.more(b']')? {
                return Ok(all);
            }
        }
    }

    fn members(&mut self, level: u16) -> Result<Seen, Stop> {
        let (mut all, outer) = (EMPTY, self.names.len());
        if self.bytes.get(self.at) == Some(&b'}') {
            self.at += 1;
            return Ok(all);
        }
        loop {
            if self.bytes.get(self.at) != Some(&b'"') {
                return Err(self.stop());
            }
            let begin = self.at + 1;
            if self.text()?.escapes {
                return Err(Stop::Odd);
            }
            let name = &self.bytes[begin..self.at - 1];
            // Such names stand before the others when they are written.
            all.exact &= !name.first().is_some_and(u8::is_ascii_digit);
            self.names.push(name);
            if self.bytes.get(self.at) != Some(&b':') {
                return Err(self.stop());
            }
            self.at += 1;
            let value = self.value(level)?;
            all.weight = all.weight.saturating_add(value.weight).saturating_add(name.len() as u32 + 4);
            all.depth = all.depth.max(value.depth);
            all.exact &= value.exact;
            if !self.more(b'}')? {
                break;
            }
        }
        let names = &self.names[outer..];
        if twice(names) {
            return Err(Stop::Odd);
        }
        all.count = names.len() as u32;
        self.names.truncate(outer);
        Ok(all)
    }

    fn text(&mut self) -> Result<Text, Stop> {
        let mut text = Text { length: 0, exact: true, escapes: false };
        self.at += 1;
        loop {
            let looked = plain_prefix(&self.bytes[self.at..]);
            let rest = &self.bytes[self.at + looked..];
            let run = looked + rest.iter().position(|byte| matches!(byte, b'"' | b'\\' | 0..=0x1f)).ok_or(Stop::Odd)?;
            self.at += run;
            text.length = text.length.saturating_add(run as u32);
            match self.bytes[self.at] {
                b'"' => {
                    self.at += 1;
                    return Ok(text);
                }
                b'\\' => {
                    let (length, exact) = self.escape()?;
                    text.length += length;
                    text.exact &= exact;
                    text.escapes = true;
                }
                _ => return Err(Stop::Odd),
            }
        }
    }

    /// The bytes of what an escape stands for in UTF-8, and whether it would be written like this.
    fn escape(&mut self) -> Result<(u32, bool), Stop> {
        let letter = *self.bytes.get(self.at + 1).ok_or(Stop::Odd)?;
        self.at += 2;
        match letter {
            b'"' | b'\\' | b'b' | b'f' | b'n' | b'r' | b't' => Ok((1, true)),
            b'/' => Ok((1, false)),
            b'u' => {
                let digits = self.bytes.get(self.at..self.at + 4).ok_or(Stop::Odd)?;
                let code = hex(digits)?;
                self.at += 4;
                let exact =
                    code < 0x20 && !matches!(code, 8 | 9 | 10 | 12 | 13) && !digits.iter().any(u8::is_ascii_uppercase);
                match code {
                    0..0x80 => Ok((1, exact)),
                    0x80..0x800 => Ok((2, false)),
                    0xd800..0xdc00 => {
                        let second = self.bytes.get(self.at..self.at + 6).ok_or(Stop::Odd)?;
                        match second.starts_with(b"\\u") && (0xdc00..0xe000).contains(&hex(&second[2..])?) {
                            true => {
                                self.at += 6;
                                Ok((4, false))
                            }
                            false => Err(Stop::Odd),
                        }
                    }
                    0xdc00..0xe000 => Err(Stop::Odd),
                    _ => Ok((3, false)),
                }
            }
            _ => Err(Stop::Odd),
        }
    }

    fn digits(&mut self) -> usize {
        let found = self.bytes[self.at..].iter().take_while(|byte| byte.is_ascii_digit()).count();
        self.at += found;
        found
    }

    fn number(&mut self) -> Result<Seen, Stop> {
        let begin = self.at;
        self.at += usize::from(self.bytes[self.at] == b'-');
        let whole = self.at;
        let first = self.bytes.get(self.at).copied();
        let digits = self.digits();
        if digits == 0 || (first == Some(b'0') && digits > 1) {
            return Err(Stop::Odd);
        }
        let (mut fraction, mut exponent) = (0, false);
        if self.bytes.get(self.at) == Some(&b'.') {
            self.at += 1;
            fraction = self.digits();
            if fraction == 0 {
                return Err(Stop::Odd);
            }
        }
        if let Some(b'e' | b'E') = self.bytes.get(self.at) {
            exponent = true;
            self.at += 1;
            self.at += usize::from(matches!(self.bytes.get(self.at), Some(b'+' | b'-')));
            if self.digits() == 0 {
                return Err(Stop::Odd);
            }
        }
        let text = &self.bytes[begin..self.at];
        let exact = if exponent || digits + fraction > 300 {
            // Beyond all bounds is an error.
            let number: Option<f64> = std::str::from_utf8(text).ok().and_then(|text| text.parse().ok());
            if !number.is_some_and(f64::is_finite) {
                return Err(Stop::Odd);
            }
            false
        } else if fraction == 0 {
            // What is no 64-bit integer is rounded.
            digits <= 18 && text != b"-0"
        } else {
            // So few digits are the shortest of their number, which is written without exponent.
            let nonzero = self.bytes[whole] != b'0' || self.bytes[whole + 2] != b'0';
            digits + fraction <= 15 && nonzero && text.last() != Some(&b'0')
        };
        Ok(Seen { exact, ..PLAIN })
    }
}

/// What is known of a string literal.
struct Text {
    /// Bytes of what it stands for, in UTF-8.
    length: u32,
    exact: bool,
    escapes: bool,
}

fn hex(digits: &[u8]) -> Result<u32, Stop> {
    let mut code = 0;
    for digit in digits {
        code = code * 16 + char::from(*digit).to_digit(16).ok_or(Stop::Odd)?;
    }
    Ok(code)
}

/// Whether a name is there twice.
fn twice(names: &[&[u8]]) -> bool {
    if names.len() <= MANY {
        return names.iter().enumerate().any(|(at, name)| names[..at].contains(name));
    }
    let mut seen: HashSet<&[u8], ahash::RandomState> =
        HashSet::with_capacity_and_hasher(names.len(), Default::default());
    !names.iter().all(|name| seen.insert(name))
}

/// The value that begins here, and the place behind it. `next` is the container that comes next.
fn value(text: &str, tape: &[Container], at: usize, next: &mut u32, whole: Option<&Arc<Document>>) -> (Value, usize) {
    let bytes = text.as_bytes();
    match bytes[at] {
        b'"' => {
            let end = end_of_text(bytes, at);
            (Value::text(unescaped(&text[at..end])), end)
        }
        open @ (b'{' | b'[') => {
            let index = *next;
            let Container { end, next: behind, weight, depth, .. } = tape[index as usize];
            *next = behind;
            let (depth, weight) = (u16::from(depth), u64::from(weight));
            let made = match (whole, open) {
                (Some(document), b'{') => {
                    Value::lazy_object(Source { document: document.clone(), at: index }, depth, weight)
                }
                (Some(document), _) => {
                    Value::lazy_list(Source { document: document.clone(), at: index }, depth, weight)
                }
                (None, b'{') => Value::known_object(members(text, tape, index as usize, None), depth, weight),
                (None, _) => Value::known_list(items(text, tape, index as usize, None), depth, weight),
            };
            (made, end as usize)
        }
        b't' => (Value::Bool(true), at + 4),
        b'f' => (Value::Bool(false), at + 5),
        b'n' => (Value::Null, at + 4),
        _ => {
            let length = bytes[at..].iter().position(|byte| matches!(byte, b',' | b']' | b'}'));
            let end = length.map_or(bytes.len(), |length| at + length);
            (number(&text[at..end]), end)
        }
    }
}

fn number(text: &str) -> Value {
    match text.parse::<i64>() {
        Ok(int) if text != "-0" => Value::Int(int),
        // It was checked.
        _ => Value::Num(text.parse().unwrap_or(f64::NAN)),
    }
}

/// What a string literal stands for.
fn unescaped(literal: &str) -> Cow<'_, str> {
    let inner = &literal[1..literal.len() - 1];
    match inner.contains('\\') {
        // It was checked.
        true => serde_json::from_str::<String>(literal).unwrap_or_default().into(),
        false => inner.into(),
    }
}

fn items(text: &str, tape: &[Container], index: usize, whole: Option<&Arc<Document>>) -> Vec<Value> {
    let container = tape[index];
    let mut out = Vec::with_capacity(container.count as usize);
    let (mut at, mut next) = (container.start as usize + 1, index as u32 + 1);
    for _ in 0..container.count {
        let (item, end) = value(text, tape, at, &mut next, whole);
        out.push(item);
        at = end + 1;
    }
    out
}

fn members(text: &str, tape: &[Container], index: usize, whole: Option<&Arc<Document>>) -> Members {
    let container = tape[index];
    let mut out = Members::with_capacity(container.count as usize);
    let (mut at, mut next) = (container.start as usize + 1, index as u32 + 1);
    let mut indexed = false;
    for _ in 0..container.count {
        let colon = end_of_text(text.as_bytes(), at);
        let name = &text[at + 1..colon - 1];
        indexed |= array_index(name).is_some();
        let (value, end) = value(text, tape, colon + 1, &mut next, whole);
        out.push(key(name), value);
        at = end + 1;
    }
    if indexed {
        super::in_order(&mut out);
    }
    out
}
