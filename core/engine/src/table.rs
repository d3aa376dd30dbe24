//! Lists as CSV (RFC 4180) and as lines of JSON, row by row.
//!
//! A text that a spreadsheet would compute (it begins with `=`, `+`, `-`, `@`, a tab or a line break) gets an apostrophe in front, unless
//! it is to be kept.
//!
//! ```
//! use kanzlei_engine::table::Csv;
//! use kanzlei_model::value::Value;
//! let rows: Value = serde_json::from_str(r#"[{"imo": 7, "note": "=1+1"}, {"imo": 8, "at": "a,b"}]"#).unwrap();
//! let csv = Csv::new(&rows, &[], false);
//! let text: Vec<u8> = std::iter::once(csv.header()).chain(rows.as_list().unwrap().iter().map(|row| csv.row(row))).flatten().collect();
//! assert_eq!(String::from_utf8(text).unwrap(), "imo,note,at\r\n7,'=1+1,\r\n8,,\"a,b\"\r\n");
//! ```

use std::collections::HashSet;

use kanzlei_lang::expr::ops;
use kanzlei_model::value::{Str, Value};

/// The most columns that are found in rows.
const MOST_COLUMNS: usize = 1000;

/// How rows are written.
pub struct Csv {
    columns: Vec<Str>,
    keep_formulas: bool,
}

impl Csv {
    /// For these columns, or those of the rows in the order in which they first occur.
    pub fn new(rows: &Value, columns: &[String], keep_formulas: bool) -> Self {
        let columns = match columns {
            [] => found(rows),
            named => named.iter().map(|name| Str::from(name.as_str())).collect(),
        };
        Csv { columns, keep_formulas }
    }

    /// The first line.
    pub fn header(&self) -> Vec<u8> {
        self.line(self.columns.iter().map(|name| name.to_string()))
    }

    /// A line; a row that is no object is its only field.
    pub fn row(&self, row: &Value) -> Vec<u8> {
        match row {
            Value::Object(_) => self.line(self.columns.iter().map(|name| self.field(row.member(name)))),
            other => self.line(std::iter::once(self.field(Some(other)))),
        }
    }

    fn field(&self, value: Option<&Value>) -> String {
        match value {
            None | Some(Value::Undefined | Value::Null) => String::new(),
            Some(Value::Text(text)) if !self.keep_formulas && computes(text) => format!("'{text}"),
            Some(value @ (Value::List(_) | Value::Object(_))) => value.to_json(),
            Some(value) => ops::to_text(value).to_string(),
        }
    }

    fn line(&self, fields: impl Iterator<Item = String>) -> Vec<u8> {
        let mut writer = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
        // Writing to memory does not fail.
        let _ = writer.write_record(fields.map(String::into_bytes));
        writer.into_inner().unwrap_or_default()
    }
}

fn computes(text: &str) -> bool {
    text.starts_with(['=', '+', '-', '@', '\t', '\r', '\n'])
}

fn found(rows: &Value) -> Vec<Str> {
    let (mut columns, mut known) = (Vec::new(), HashSet::new());
    for row in rows.as_list().unwrap_or_default() {
        let Value::Object(object) = row else { continue };
        for (name, _) in object.iter() {
            if columns.len() < MOST_COLUMNS && known.insert(name.clone()) {
                columns.push(name.clone());
            }
        }
    }
    columns
}

/// A value on a line of its own.
pub fn json_line(row: &Value) -> Vec<u8> {
    let mut line = row.to_json();
    line.push('\n');
    line.into_bytes()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_are_what_other_programs_read() {
        let row: Value = serde_json::from_str(
            r#"{"a": "say \"hi\"", "b": "two\r\nlines", "c": null, "d": -5, "e": "-5", "f": [1, "x"], "g": true, "h": 0.1, "i": " @x", "j": "@x"}"#,
        )
        .expect("JSON");
        for (keep, wanted) in [
            (false, "\"say \"\"hi\"\"\",\"two\r\nlines\",,-5,'-5,\"[1,\"\"x\"\"]\",true,0.1, @x,'@x\r\n"),
            (true, "\"say \"\"hi\"\"\",\"two\r\nlines\",,-5,-5,\"[1,\"\"x\"\"]\",true,0.1, @x,@x\r\n"),
        ] {
            let csv = Csv::new(&Value::list(vec![row.clone()]), &[], keep);
            assert_eq!(String::from_utf8(csv.row(&row)).expect("text"), wanted);
        }
        let chosen = Csv::new(&Value::Null, &["d".to_owned(), "none".to_owned()], false);
        assert_eq!((chosen.header(), chosen.row(&row)), (b"d,none\r\n".to_vec(), b"-5,\r\n".to_vec()));
        assert_eq!(chosen.row(&Value::text("x")), b"x\r\n");
    }
}
