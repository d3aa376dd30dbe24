//! Rows as bytes, piece by piece: CSV, lines of JSON, or a JSON list.

use kanzlei_compiler::plan::rows::Writing;
use kanzlei_lang::document::formats::Format;
use kanzlei_model::value::Value;

use crate::table::{Csv, json_line};

/// Writes rows; the pieces make up a file.
pub struct Writer {
    writing: Writing,
    csv: Option<Csv>,
    begun: bool,
}

impl Writer {
    /// For rows that are written so.
    pub fn new(writing: &Writing) -> Self {
        let csv = (writing.format == Format::Csv && !writing.columns.is_empty())
            .then(|| Csv::new(&Value::Null, &writing.columns, writing.keep_formulas));
        Writer { writing: writing.clone(), csv, begun: false }
    }

    /// The bytes of a row, and of what stands before the first one.
    pub fn row(&mut self, row: &Value) -> Vec<u8> {
        let first = !std::mem::replace(&mut self.begun, true);
        match self.writing.format {
            Format::Csv => {
                let keep = self.writing.keep_formulas;
                let csv = self.csv.get_or_insert_with(|| Csv::new(&Value::list(vec![row.clone()]), &[], keep));
                let mut bytes = if first { csv.header() } else { Vec::new() };
                bytes.extend(csv.row(row));
                bytes
            }
            Format::Ndjson => json_line(row),
            Format::Json => format!("{}{}", if first { '[' } else { ',' }, row.to_json()).into_bytes(),
        }
    }

    /// What stands behind the last row.
    pub fn end(&mut self) -> Vec<u8> {
        match (self.writing.format, self.begun, &self.csv) {
            (Format::Csv, false, Some(csv)) => csv.header(),
            (Format::Json, false, _) => b"[]".to_vec(),
            (Format::Json, true, _) => b"]".to_vec(),
            _ => Vec::new(),
        }
    }
}
