//! `record`: makes a case out of a past run. What is confidential is masked in the journal already.

use kanzlei_api::runs::{CaseName, RecordedCase};

use super::{listing, runs, segment};
use crate::Done;
use crate::api::Api;

/// Prints a document of cases with one that shows what a run did.
pub fn record(api: &Api, id: &str, name: Option<&str>, json: bool) -> Done {
    let id = runs::meant(api, id)?;
    let name = CaseName { name: name.map(str::to_owned) };
    let case: RecordedCase = api.get(&listing(&format!("runs/{}/case", segment(&id)), &name))?;
    if json {
        super::print_json(&case);
        return Ok(());
    }
    print!("{}", case.document);
    for note in &case.notes {
        eprintln!("note: {note}");
    }
    Ok(())
}
