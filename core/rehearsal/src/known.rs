//! What a step of a past run knew when it began: the run is made again from what it recorded, up to that step.
//!
//! Values that were masked or cut when the run was recorded are masked or cut here too, and so is what is evaluated over
//! them.
//!
//! ```
//! use kanzlei_compiler::check::{Bundle, check};
//! use kanzlei_rehearsal::{known::known_at, record::Past};
//! let text = "workflow: w\nsteps: [{let: {dues: 3}}, {reply: 200, body: \"${dues}\"}]\n";
//! let checked = check(&Bundle::of([("w.yaml".to_owned(), text.to_owned())]));
//! let past = Past { workflow: "w".into(), state: "succeeded".into(), ..Past::default() };
//! let seen = known_at(&past, &checked, "2", None).unwrap();
//! assert_eq!(seen.evaluate("dues + 1").unwrap().to_json(), "4");
//! ```

use kanzlei_compiler::check::Checked;
use kanzlei_engine::machine::Seen;
use kanzlei_lang::document::{self, Document, Source};

use super::prepare_stubs;
use super::record::{self, Past};

/// What the step of this number knew; `items` are its positions in the loops around it, the first time by default. The
/// workflows must be those that the run was made of. An error says why that is not known.
pub fn known_at(past: &Past, checked: &Checked, number: &str, items: Option<Vec<u32>>) -> Result<Seen, String> {
    let source = Source::new("past.yaml", record::for_retrace(past));
    let (read, _) = document::read(&source, &|_| None);
    let prepared = match &read {
        Some(Document::Cases(cases)) => prepare_stubs(&source, cases, checked).0,
        _ => None,
    };
    let prepared = prepared.filter(|prepared| !prepared.is_empty());
    let prepared = prepared.ok_or("the run cannot be made again from what is recorded of it")?;
    let (result, machine) = prepared.play_past(0, past, Some((number, items)));
    let machine = machine.ok_or("its input is not accepted any more")?;
    if let Some(seen) = machine.seen() {
        return Ok(seen.clone());
    }
    Err(match result.missing_stubs.is_empty() {
        true => format!("the run did not get to a step {number} there"),
        false => format!("the run cannot be made again up to step {number}: what it recorded does not fit its text"),
    })
}
