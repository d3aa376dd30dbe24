//! `record`: makes a case out of a past run. What is confidential is masked in the journal already.

use kanzlei_api::runs::{CaseName, RecordedCase};

use super::{listing, runs, segment};
use crate::Done;
use crate::api::Api;

/// Prints a document of cases with one that shows what a run did.
pub fn record(api: &Api, id: &str, name: Option<&str>, json: bool) -> Done {
    let id = runs::meant(api, id)?;
    let name = CaseName { name: name.map(str::to_owned) };
    let at = |of: &str| listing(&format!("{of}/{}/case", segment(&id)), &name);
    let of_run = api.try_get::<RecordedCase>(&at("runs"))?;
    let case = match of_run {
        Ok(case) => case,
        // What is no run may be a trial; where it is neither, the first answer counts.
        Err(refused) if refused.status == 404 => {
            api.try_get::<RecordedCase>(&at("trials"))?.map_err(|_| api.error(refused))?
        }
        Err(refused) => return Err(api.error(refused)),
    };
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
