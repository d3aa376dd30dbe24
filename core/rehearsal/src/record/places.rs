//! What was in places when a past run began, as far as its steps show it: files that it read, by what is known of them.

use std::collections::BTreeSet;

use serde_json::{Map, Value as Json, json};

use super::{Past, PastStep};
use crate::case::PUBLIC;

/// Files by place and path. What the run itself stored before it read it is left out.
pub(super) fn places(steps: &[PastStep]) -> Map<String, Json> {
    let mut places = Map::new();
    let mut stored: BTreeSet<(String, String)> = BTreeSet::new();
    for step in steps.iter().filter(|step| step.kind == "file") {
        let Some(sent) = step.sent.as_object() else { continue };
        let word = sent.get("file").and_then(Json::as_str).unwrap_or_default();
        let mut put = |place: &str, path: &str, file: Json| {
            if !stored.contains(&(place.to_owned(), path.to_owned())) {
                let files = places.entry(place.to_owned()).or_insert_with(|| json!({}));
                if let Some(files) = files.as_object_mut() {
                    files.entry(path.to_owned()).or_insert(file);
                }
            }
        };
        let done = step.state == "succeeded";
        for (place, path) in sent.iter().filter(|(name, _)| *name != "file" && *name != "of" && *name != "to") {
            match (word, path) {
                ("fetch", Json::String(path)) if done => put(place, path, step.outcome.clone()),
                ("link", Json::String(path)) if done => put(place, path, unknown(1)),
                ("list", _) if done => {
                    for entry in step.outcome.as_array().into_iter().flatten() {
                        if let Some(path) = entry["path"].as_str() {
                            put(place, path, unknown(entry["size"].as_u64().unwrap_or(1)));
                        }
                    }
                }
                ("remove", Json::Array(paths)) => {
                    let found = step.outcome["removed"].as_u64().unwrap_or_default() as usize;
                    for path in paths.iter().filter_map(Json::as_str).take(found) {
                        put(place, path, unknown(1));
                    }
                }
                _ => {}
            }
        }
        for (place, path) in sent.get("to").and_then(Json::as_object).into_iter().flatten() {
            if let (Some(path), false, "exists") = (path.as_str(), done, step.failure["kind"].as_str().unwrap_or("")) {
                put(place, path, unknown(1));
            }
        }
        let to = sent.get("to").and_then(Json::as_object).into_iter().flatten().filter(|_| done);
        stored.extend(to.filter_map(|(place, path)| Some((place.clone(), path.as_str()?.to_owned()))));
    }
    // A file that was listed first and fetched then is known better.
    for step in
        steps.iter().filter(|step| step.kind == "file" && step.sent["file"] == "fetch" && step.state == "succeeded")
    {
        for (place, path) in step.sent.as_object().into_iter().flatten() {
            if let Some(file) = path.as_str().and_then(|path| places.get_mut(place)?.get_mut(path)) {
                *file = step.outcome.clone();
            }
        }
    }
    places
}

/// A file of which only the size is known.
fn unknown(size: u64) -> Json {
    json!({"size": size, "digest": "0".repeat(64)})
}

/// The address of a link, and that of a rehearsal in its place.
pub(super) fn link(sent: &Json, outcome: &Json) -> Option<(String, String)> {
    let url = outcome["url"].as_str().filter(|_| sent["file"] == "link")?;
    let (place, path) = sent.as_object()?.iter().find(|(name, _)| *name != "file")?;
    Some((url.to_owned(), format!("{PUBLIC}/~/files/{place}/{}", path.as_str()?)))
}

/// What a reply has in common with that of another run: members with the run's own id, or with the end of a link, are left out.
pub(super) fn lasting(past: &Past, body: Json) -> Json {
    let ends = past.steps.iter().filter(|step| step.kind == "file" && step.sent["file"] == "link");
    let ends: Vec<&str> = ends.filter_map(|step| step.outcome["until"].as_str()).collect();
    let own = |value: &Json| {
        let text = value.as_str().unwrap_or_default();
        !past.id.is_empty() && text.contains(&past.id) || ends.contains(&text)
    };
    match body {
        Json::Object(members) => {
            let left = members.into_iter().filter(|(_, value)| !own(value));
            left.map(|(name, value)| (name, lasting(past, value))).collect::<Map<_, _>>().into()
        }
        other => other,
    }
}
