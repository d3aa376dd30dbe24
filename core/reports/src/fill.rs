//! Values in templates: how they are written, and filters beside the built-in ones.

use std::io;

use kanzlei_model::value::Value;
use minijinja::value::{Value as Filling, ValueKind};
use minijinja::{AutoEscape, Environment, Error, ErrorKind, Output, State, escape_formatter};

use crate::MOST_OF_TEXT;

/// A value as templates see it.
pub fn value(value: &Value) -> Filling {
    match value {
        Value::Undefined | Value::Null => Filling::from(()),
        Value::Bool(yes) => Filling::from(*yes),
        Value::Int(number) => Filling::from(*number),
        Value::Num(number) => Filling::from(*number),
        Value::Text(text) => Filling::from(text.to_string()),
        Value::List(list) => Filling::from(list.items().iter().map(self::value).collect::<Vec<_>>()),
        Value::Object(object) => {
            Filling::from_pairs(object.iter().map(|(name, one)| (name.to_string(), self::value(one))))
        }
    }
}

/// How values are written into CSV.
pub const CSV: AutoEscape = AutoEscape::Custom(std::borrow::Cow::Borrowed("csv"));

/// Writes a value: nothing for null, fields of CSV as RFC 4180 has them.
pub fn format(out: &mut Output, state: &mut State, value: &Filling) -> Result<(), Error> {
    if value.is_none() {
        return Ok(());
    }
    if *state.auto_escape() == CSV {
        let text = value.to_string();
        // What a spreadsheet would compute becomes a text.
        let formula = value.kind() == ValueKind::String && text.starts_with(['=', '+', '-', '@', '\t', '\r']);
        let text = if formula { format!("'{text}") } else { text };
        let quoted = text.contains(['"', ',', ';', '\n', '\r']);
        let text = if quoted { format!("\"{}\"", text.replace('"', "\"\"")) } else { text };
        return out.write_str(&text).map_err(Error::from);
    }
    escape_formatter(out, state, value)
}

/// Adds the filters that are ours.
pub fn filters(environment: &mut Environment<'static>) {
    environment.add_filter("fixed", fixed);
    // The built-in ones make texts of any length.
    environment.add_filter("replace", replace);
    environment.add_filter("join", join);
}

fn too_long() -> Error {
    Error::new(ErrorKind::InvalidOperation, format!("a text has at most {MOST_OF_TEXT} bytes"))
}

fn replace(text: &str, from: &str, to: &str) -> Result<String, Error> {
    let found = text.matches(from).count();
    match text.len().saturating_add(found.saturating_mul(to.len())) > MOST_OF_TEXT {
        true => Err(too_long()),
        false => Ok(text.replace(from, to)),
    }
}

fn join(list: Filling, between: Option<String>) -> Result<String, Error> {
    let between = between.unwrap_or_default();
    let mut out = String::new();
    for (at, one) in list.try_iter()?.enumerate() {
        if at > 0 {
            out.push_str(&between);
        }
        match one.as_str() {
            Some(text) => out.push_str(text),
            None => out.push_str(&one.to_string()),
        }
        if out.len() > MOST_OF_TEXT {
            return Err(too_long());
        }
    }
    Ok(out)
}

/// A number with so many digits behind the point, and a separator between thousands where one is named.
fn fixed(number: f64, digits: Option<u32>, separator: Option<String>) -> Result<String, Error> {
    let digits = digits.unwrap_or(2);
    if digits > 20 || separator.as_ref().is_some_and(|text| text.len() > 8) {
        return Err(Error::new(ErrorKind::InvalidOperation, "`fixed` has at most 20 digits and a short separator"));
    }
    let text = format!("{number:.*}", digits as usize);
    let Some(separator) = separator.filter(|_| number.is_finite()) else { return Ok(text) };
    let (sign, text) = text.strip_prefix('-').map_or(("", text.as_str()), |rest| ("-", rest));
    let (whole, rest) = text.find('.').map_or((text, ""), |at| text.split_at(at));
    let mut out = sign.to_owned();
    for (at, digit) in whole.chars().enumerate() {
        if at > 0 && (whole.len() - at) % 3 == 0 {
            out.push_str(&separator);
        }
        out.push(digit);
    }
    out.push_str(rest);
    Ok(out)
}

/// Bytes up to a bound.
#[derive(Default)]
pub struct Bounded {
    pub bytes: Vec<u8>,
    pub full: bool,
}

impl io::Write for Bounded {
    fn write(&mut self, more: &[u8]) -> io::Result<usize> {
        if self.bytes.len() + more.len() > MOST_OF_TEXT {
            self.full = true;
            return Err(io::ErrorKind::FileTooLarge.into());
        }
        self.bytes.extend_from_slice(more);
        Ok(more.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
