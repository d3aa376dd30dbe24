//! `record`: makes a case out of a past run. What is confidential is masked in the journal already.

use kanzlei_api::runs::{AddedCase, CaseName, RecordedCase};

use super::{listing, print_json, runs, segment};
use crate::api::{Api, Rejection};
use crate::{Done, draw};

/// Prints a document of cases with one that shows what a run did, or adds the case to the draft on the service.
pub fn record(api: &Api, id: &str, name: Option<&str>, draft: bool, json: bool) -> Done {
    let id = runs::meant(api, id)?;
    let name = CaseName { name: name.map(str::to_owned) };
    let at = |of: &str| format!("{of}/{}/case", segment(&id));
    if draft {
        let add = |of: &str| api.try_post::<AddedCase>(&format!("/{}", at(of)), &name);
        let added = either(api, add)?;
        if json {
            print_json(&added);
            return Ok(());
        }
        println!("{} is a case of {} now (draft, version {}).", draw::bold(&added.name), added.workflow, added.version);
        added.notes.iter().for_each(|note| eprintln!("note: {note}"));
        return Ok(());
    }
    let case = either(api, |of| api.try_get::<RecordedCase>(&listing(&at(of), &name)))?;
    if json {
        print_json(&case);
        return Ok(());
    }
    print!("{}", case.document);
    case.notes.iter().for_each(|note| eprintln!("note: {note}"));
    Ok(())
}

/// Asks for a run, and where there is none for a trial; where it is neither, the first answer counts.
fn either<T>(api: &Api, ask: impl Fn(&str) -> Result<Result<T, Rejection>, crate::Error>) -> Result<T, crate::Error> {
    match ask("runs")? {
        Ok(found) => Ok(found),
        Err(refused) if refused.status == 404 => ask("trials")?.map_err(|_| api.error(refused)),
        Err(refused) => Err(api.error(refused)),
    }
}
