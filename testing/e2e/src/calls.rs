//! Calls at a service as clients and builders make them.

use std::time::Duration;

use kanzlei_harness::office::Office;
use kanzlei_harness::wait;
use serde_json::Value as Json;

use crate::{Answer, http};

/// Longer than anything takes that is waited for.
pub const LONG: Duration = Duration::from_secs(30);

pub fn bearer(office: &Office) -> String {
    format!("Bearer {}", office.token)
}

pub fn api(office: &Office, path: &str) -> Json {
    http("GET", &format!("{}/api/v1{path}", office.control()), &[("authorization", &bearer(office))], b"").json()
}

pub fn act(office: &Office, path: &str, body: Json) -> Answer {
    let headers = [("authorization", bearer(office)), ("content-type", "application/json".to_owned())];
    let headers: Vec<(&str, &str)> = headers.iter().map(|(name, value)| (*name, value.as_str())).collect();
    http("POST", &format!("{}/api/v1{path}", office.control()), &headers, body.to_string().as_bytes())
}

pub fn post(office: &Office, path: &str, headers: &[(&str, &str)], body: &Json) -> Answer {
    let mut all = vec![("content-type", "application/json")];
    all.extend(headers);
    http("POST", &format!("{}{path}", office.public()), &all, body.to_string().as_bytes())
}

pub fn get(office: &Office, path: &str, headers: &[(&str, &str)]) -> Answer {
    http("GET", &format!("{}{path}", office.public()), headers, b"")
}

/// Waits until a job is in a state; returns its document.
pub fn becomes(office: &Office, id: &str, state: &str) -> Json {
    let found = wait::until(LONG, || {
        let job = get(office, &format!("/~/jobs/{id}"), &[]).json();
        (job["state"] == state).then_some(job)
    });
    found.unwrap_or_else(|| panic!("{id} does not become {state}: {}", api(office, &format!("/jobs/{id}"))))
}

pub fn id_of(answer: &Answer) -> String {
    answer.json()["id"].as_str().unwrap_or_else(|| panic!("no id: {answer:?}")).to_owned()
}
