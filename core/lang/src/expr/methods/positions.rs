//! Positions in texts: UTF-16 code units, as ECMAScript counts them, over UTF-8.
//!
//! A loop over `text[i]` or `text.slice(from, to)` must not count from the beginning each time. The evaluation remembers the text
//! that it looked into last and the place there ([`Cursor`]); the next place is counted from the nearest one that is known. In
//! texts of ASCII alone each place is known. What has to be counted is charged for.
//!
//! ```
//! use kanzlei_lang::expr::{Expression, Limits, Scope};
//!
//! let text = "const t = 'å😀, '.repeat(50000); let n = 0; for (let i = 0; i < t.length; i++) { if (t[i] === ',') n++; } return n;";
//! let script = Expression::script(text, &Scope::default()).unwrap();
//! assert_eq!(script.eval(&[], Limits { work: 10_000_000, ..Limits::script() }).unwrap().to_json(), "50000");
//! ```

use std::array;
use std::sync::Arc;

use super::relative;
use crate::expr::ast::{Arg, MethodCall};
use crate::expr::eval::{Eval, Res};
use crate::expr::functions::Method;
use kanzlei_model::value::{Str, Value};

/// Bytes of a text that is looked through each time: that costs less than remembering it.
const SHORT: usize = 48;
/// What stands for half of a surrogate pair.
const HALF: char = '\u{FFFD}';

thread_local! {
    /// The texts of one character of ASCII.
    static ONE: [Str; 128] = array::from_fn(|code| char::from(code as u8).encode_utf8(&mut [0; 4]).into());
}

/// The text that was looked into last, and the place there.
#[derive(Debug)]
pub struct Cursor {
    text: Str,
    ascii: bool,
    /// Its length in code units.
    length: usize,
    /// A place that is known: code units and bytes before it, at the beginning of a character.
    unit: usize,
    byte: usize,
}

impl Default for Cursor {
    fn default() -> Self {
        Cursor { text: "".into(), ascii: true, length: 0, unit: 0, byte: 0 }
    }
}

/// A place in a text.
#[derive(Clone, Copy)]
struct Place {
    /// Where its character begins.
    byte: usize,
    /// Whether it is in the middle of that character, which has two code units.
    inside: bool,
}

/// A character of ASCII as a text.
fn one(byte: u8) -> Str {
    ONE.with(|all| all.get(usize::from(byte)).cloned()).unwrap_or_default()
}

impl Eval<'_> {
    /// Whether a text is of ASCII alone. Others are in the cursor afterwards, with their lengths.
    #[inline]
    fn is_plain(&mut self, text: &Str) -> Res<bool> {
        if text.len() <= SHORT && text.is_ascii() {
            return Ok(true);
        }
        if !Arc::ptr_eq(&self.cursor.text, text) {
            self.look_into(text)?;
        }
        Ok(self.cursor.ascii)
    }

    #[cold]
    fn look_into(&mut self, text: &Str) -> Res<()> {
        self.text_work(text.len())?;
        let ascii = text.is_ascii();
        if !ascii {
            self.item_work(text.len() / 8)?;
        }
        let length = if ascii { text.len() } else { utf16_len(text) };
        self.cursor = Cursor { text: text.clone(), ascii, length, unit: 0, byte: 0 };
        Ok(())
    }

    /// The length of a text in code units.
    pub(in crate::expr) fn length_of(&mut self, text: &Str) -> Res<usize> {
        Ok(if self.is_plain(text)? { text.len() } else { self.cursor.length })
    }

    /// The place of a count of code units, at most the length of the text.
    fn seek(&mut self, text: &Str, unit: usize) -> Res<Place> {
        if self.is_plain(text)? {
            return Ok(Place { byte: unit.min(text.len()), inside: false });
        }
        let cursor = &self.cursor;
        let starts = [(0, 0), (cursor.unit, cursor.byte), (cursor.length, text.len())];
        let nearest = starts.into_iter().min_by_key(|(known, _)| known.abs_diff(unit));
        let (mut at, mut byte) = nearest.unwrap_or_default();
        self.item_work(at.abs_diff(unit) / 8)?;
        if at <= unit {
            for c in text.get(byte..).unwrap_or_default().chars() {
                if at + c.len_utf16() > unit {
                    break;
                }
                at += c.len_utf16();
                byte += c.len_utf8();
            }
        } else {
            for c in text.get(..byte).unwrap_or_default().chars().rev() {
                at -= c.len_utf16();
                byte -= c.len_utf8();
                if at <= unit {
                    break;
                }
            }
        }
        (self.cursor.unit, self.cursor.byte) = (at, byte);
        Ok(Place { byte, inside: at < unit })
    }

    /// The count of code units before a byte position behind the place that was looked for last.
    fn units_before(&mut self, text: &Str, byte: usize) -> Res<usize> {
        if self.is_plain(text)? {
            return Ok(byte);
        }
        let (unit, known) = match self.cursor.byte <= byte {
            true => (self.cursor.unit, self.cursor.byte),
            false => (0, 0),
        };
        self.item_work((byte - known) / 8)?;
        let unit = unit + text.get(known..byte).map_or(0, utf16_len);
        (self.cursor.unit, self.cursor.byte) = (unit, byte);
        Ok(unit)
    }

    /// One code unit as a text; half of a pair is U+FFFD.
    pub(in crate::expr) fn unit_text(&mut self, text: &Str, index: usize) -> Res<Option<Str>> {
        if self.is_plain(text)? {
            return Ok(text.as_bytes().get(index).map(|byte| one(*byte)));
        }
        let place = self.seek(text, index.min(self.cursor.length))?;
        let found = text.get(place.byte..).and_then(|rest| rest.chars().next());
        Ok(found.filter(|_| index < self.cursor.length).map(unit_of))
    }

    /// The code unit at an index, and the character that begins there, if one does.
    fn unit_value(&mut self, text: &Str, index: usize) -> Res<Option<(u16, Option<char>)>> {
        if self.is_plain(text)? {
            let found = text.as_bytes().get(index);
            return Ok(found.map(|byte| (u16::from(*byte), Some(char::from(*byte)))));
        }
        if index >= self.cursor.length {
            return Ok(None);
        }
        let place = self.seek(text, index)?;
        let Some(c) = text.get(place.byte..).and_then(|rest| rest.chars().next()) else { return Ok(None) };
        let mut units = [0; 2];
        c.encode_utf16(&mut units);
        Ok(Some((units[usize::from(place.inside)], (!place.inside).then_some(c))))
    }

    /// The text between two counts of code units; halves of pairs are U+FFFD.
    fn unit_slice(&mut self, text: &Str, from: usize, to: usize) -> Res {
        if from >= to {
            return Ok(Value::text(""));
        }
        let (first, last) = (self.seek(text, from)?, self.seek(text, to)?);
        if !first.inside && !last.inside {
            let slice = text.get(first.byte..last.byte).unwrap_or_default();
            return match slice.as_bytes() {
                [byte] => Ok(Value::Text(one(*byte))),
                _ => self.make_text(slice),
            };
        }
        let begin = if first.inside { first.byte + 4 } else { first.byte };
        let mut out = String::new();
        out.extend(first.inside.then_some(HALF));
        out.push_str(text.get(begin..last.byte).unwrap_or_default());
        out.extend(last.inside.then_some(HALF));
        self.make_text(out)
    }

    /// The methods of texts that look at one place or from one place on (ECMA-262 §22.1.3); nothing for the others.
    pub(super) fn positional(&mut self, call: &MethodCall, text: &Str) -> Res<Option<Value>> {
        if !matches!(
            call.method,
            Method::At
                | Method::CharAt
                | Method::CharCodeAt
                | Method::CodePointAt
                | Method::Slice
                | Method::Substring
                | Method::StartsWith
                | Method::EndsWith
                | Method::Includes
                | Method::IndexOf
        ) || matches!(call.args.first(), Some(Arg::Pattern(_)))
        {
            return Ok(None);
        }
        let args = self.arg_values(&call.args)?;
        let length = self.length_of(text)?;
        let index = |position: f64| (0.0..length as f64).contains(&position).then_some(position as usize);
        Ok(Some(match call.method {
            Method::At => {
                let position = self.integer_at(&args, 0, 0.0)?;
                match index(if position < 0.0 { position + length as f64 } else { position }) {
                    Some(index) => self.unit_text(text, index)?.map_or(Value::Undefined, Value::Text),
                    None => Value::Undefined,
                }
            }
            Method::CharAt => match index(self.integer_at(&args, 0, 0.0)?) {
                Some(index) => Value::Text(self.unit_text(text, index)?.unwrap_or_default()),
                None => Value::text(""),
            },
            Method::CharCodeAt => {
                let found = match index(self.integer_at(&args, 0, 0.0)?) {
                    Some(index) => self.unit_value(text, index)?,
                    None => None,
                };
                found.map_or(Value::Num(f64::NAN), |(unit, _)| Value::Int(unit.into()))
            }
            Method::CodePointAt => {
                let found = match index(self.integer_at(&args, 0, 0.0)?) {
                    Some(index) => self.unit_value(text, index)?,
                    None => None,
                };
                found.map_or(Value::Undefined, |(unit, c)| Value::Int(c.map_or(i64::from(unit), |c| c as i64)))
            }
            Method::Slice => {
                let from = relative(self.integer_at(&args, 0, 0.0)?, length);
                let to = relative(self.integer_at(&args, 1, length as f64)?, length);
                self.unit_slice(text, from, to)?
            }
            Method::Substring => {
                let from = relative(self.integer_at(&args, 0, 0.0)?.max(0.0), length);
                let to = relative(self.integer_at(&args, 1, length as f64)?.max(0.0), length);
                self.unit_slice(text, from.min(to), from.max(to))?
            }
            method => {
                let ends = method == Method::EndsWith;
                let position = self.integer_at(&args, 1, if ends { length as f64 } else { 0.0 })?;
                let wanted = self.text_at(&args, 0)?;
                let unit = relative(position.max(0.0), length);
                let place = self.seek(text, unit)?;
                // Nothing begins or ends in the middle of a character but the empty text.
                let byte = if place.inside { place.byte + 4 } else { place.byte };
                let (head, rest) = text.split_at_checked(byte).unwrap_or((text, ""));
                if matches!(method, Method::EndsWith | Method::StartsWith) {
                    self.text_work(wanted.len())?;
                    let here = if ends { head.ends_with(&*wanted) } else { rest.starts_with(&*wanted) };
                    return Ok(Some(Value::Bool(wanted.is_empty() || here && !place.inside)));
                }
                if wanted.is_empty() {
                    return Ok(Some(if method == Method::Includes {
                        Value::Bool(true)
                    } else {
                        Value::Int(unit as i64)
                    }));
                }
                let found = rest.find(&*wanted);
                self.text_work(found.unwrap_or(rest.len()) + wanted.len())?;
                match (method, found) {
                    (Method::Includes, found) => Value::Bool(found.is_some()),
                    (_, Some(at)) => Value::Int(self.units_before(text, byte + at)? as i64),
                    (_, None) => Value::Int(-1),
                }
            }
        }))
    }
}

/// The length in UTF-16 code units.
pub(super) fn utf16_len(text: &str) -> usize {
    if text.is_ascii() { text.len() } else { text.chars().map(char::len_utf16).sum() }
}

/// All UTF-16 code units, each as text.
pub(in crate::expr) fn units(text: &str) -> impl Iterator<Item = Str> {
    text.chars().flat_map(|c| std::iter::repeat_n(unit_of(c), c.len_utf16()))
}

/// A character as a text.
pub(in crate::expr) fn character(c: char) -> Str {
    if c.is_ascii() { one(c as u8) } else { c.encode_utf8(&mut [0; 4]).into() }
}

/// A code unit of a character as a text; half of a pair is U+FFFD.
fn unit_of(c: char) -> Str {
    character(if c.len_utf16() == 1 { c } else { HALF })
}

/// A byte position as a count of UTF-16 code units.
pub(super) fn unit_position(text: &str, byte: usize) -> usize {
    utf16_len(&text[..byte])
}

/// The byte position of the character at a count of UTF-16 code units.
pub(super) fn byte_position(text: &str, unit: usize) -> usize {
    if text.is_ascii() {
        return unit.min(text.len());
    }
    let mut seen = 0;
    for (at, c) in text.char_indices() {
        seen += c.len_utf16();
        if seen > unit {
            return at;
        }
    }
    text.len()
}
