//! `record`: makes a case out of a past run. What was secret is masked in the journal already.

use super::segment;
use crate::api::Api;
use crate::{Done, Failure};

pub fn record(api: &Api, id: &str, name: Option<&str>, json: bool) -> Done {
    let id = match id {
        "last" => {
            let runs = api.get("/runs?limit=1")?;
            let newest = runs["runs"][0]["id"].as_str().map(str::to_owned);
            newest.ok_or_else(|| Failure::Told("the journal has no runs yet".into()))?
        }
        id => id.to_owned(),
    };
    let name = name.map(|name| format!("?name={}", segment(name))).unwrap_or_default();
    let case = api.get(&format!("/runs/{}/case{name}", segment(&id)))?;
    if json {
        super::print_json(&case);
        return Ok(());
    }
    print!("{}", case["document"].as_str().unwrap_or_default());
    for note in case["notes"].as_array().into_iter().flatten().filter_map(|note| note.as_str()) {
        eprintln!("note: {note}");
    }
    Ok(())
}
