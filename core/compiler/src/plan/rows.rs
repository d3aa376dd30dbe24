//! How the rows of files are read and written, compiled.

use std::sync::Arc;

use kanzlei_lang::document::formats::Format;
use kanzlei_lang::document::step::rows::Readable;
use kanzlei_model::value::Value;

use crate::input::InputPlan;

/// How rows are read.
#[derive(Debug)]
pub struct Reading {
    /// The format.
    pub format: Readable,
    /// What stands between the fields of a line.
    pub delimiter: u8,
    /// The label of the character encoding; UTF-8 where there is none.
    pub encoding: Option<String>,
    /// The name of the elements that are rows.
    pub element: Option<String>,
    /// What a row is, where the step says so.
    pub row: Option<InputPlan>,
}

/// What a row is decides as its schema does.
impl PartialEq for Reading {
    fn eq(&self, other: &Self) -> bool {
        let schema = |of: &Reading| of.row.as_ref().map(|row| row.schema.clone());
        (self.format, self.delimiter, &self.encoding, &self.element)
            == (other.format, other.delimiter, &other.encoding, &other.element)
            && schema(self) == schema(other)
    }
}

impl Reading {
    /// A row as the step wants it: texts of CSV and XML become numbers and booleans where the schema says so, members that are not
    /// declared are dropped, defaults fill what is missing.
    ///
    /// # Errors
    /// What does not fit, for people.
    pub fn fit(&self, row: Value) -> Result<Value, String> {
        let Some(wanted) = &self.row else { return Ok(row) };
        let of_texts = matches!(self.format, Readable::Csv | Readable::Xml);
        wanted.fit(&row, of_texts).map_err(|problem| match problem.errors.as_slice() {
            [] => problem.title,
            all => all
                .iter()
                .map(|one| format!("{} {}", one.pointer, one.detail).trim().to_owned())
                .collect::<Vec<_>>()
                .join("; "),
        })
    }
}

/// How rows are written.
#[derive(Clone, Debug, PartialEq)]
pub struct Writing {
    /// The format.
    pub format: Format,
    /// Columns of CSV; the members of the first row where it is empty.
    pub columns: Vec<String>,
    /// Whether texts that a spreadsheet would compute stay as they are.
    pub keep_formulas: bool,
}

/// Rows that a step reads where it uses them.
pub type Source = Option<Arc<Reading>>;
