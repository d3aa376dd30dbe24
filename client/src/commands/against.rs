//! `rehearse --against URL`: the requests of cases, sent to a deployed service; replies, states of steps
//! and final states compared. Stubs do not apply there: what services answer is theirs.

use std::collections::BTreeMap;
use std::time::Duration;

use kanzlei_api::deliveries::{Delivery, Signing};
use kanzlei_api::runs::Run;
use kanzlei_engine::machine::Reply;
use kanzlei_model::value::Value;
use kanzlei_rehearsal::{CaseResult, Prepared, Reached, StepSeen, body_of};

use super::call::run_header;
use super::deliveries::sign;
use crate::Error;
use crate::api::{Api, agent};

/// How long a run may take to show in the journal.
const PATIENCE: Duration = Duration::from_secs(10);
/// How long a queued run may take to end.
const JOB_PATIENCE: Duration = Duration::from_secs(60);

pub fn run(chosen: &[(&Prepared, usize)], url: &str, api: &Api) -> Result<Vec<CaseResult>, Error> {
    let agent = agent();
    let base = url.trim_end_matches('/');
    let run_header = run_header(api);
    let mut results = Vec::new();
    let mut left_out = 0;
    for (prepared, index) in chosen {
        // Nobody can show the key or the token of another.
        let known = prepared.caller(*index).facts().is_none();
        let Some((method, target, headers, body)) = prepared.request(*index).filter(|_| known) else {
            left_out += 1;
            continue;
        };
        let (media, bytes) = body_of(&headers, body.as_ref());
        // A message is signed like its sender signs it.
        let (target, headers) = match prepared.is_delivery(*index) {
            true => signed(api, prepared, (&method, &target, headers), &media, &bytes)?,
            false => (target, headers),
        };
        let mut request = ureq::http::Request::builder().method(method.as_str()).uri(format!("{base}{target}"));
        for (name, value) in headers.iter().filter(|(name, _)| !name.eq_ignore_ascii_case("content-type")) {
            request = request.header(name, value);
        }
        if body.is_some() {
            request = request.header("content-type", media);
        }
        let request = request
            .body(bytes)
            .map_err(|error| Error::Usage(format!("`{base}{target}` is not a valid address: {error}")))?;
        let (mut reply, run_id) = answer(&agent, base, &run_header, request)?;
        // A queued run answers like a direct one when it has ended; its id is that of its job.
        let run_id = match prepared.is_delivery(*index) {
            true => queued_for(api, base, &agent, &mut reply)?.or(run_id),
            false => run_id,
        };
        let queued = run_id.as_ref().filter(|id| {
            let there = format!("/~/jobs/{id}");
            reply.status == 202 && reply.headers.iter().any(|(name, at)| name == "location" && *at == there)
        });
        if let Some(job) = queued {
            wait_for(&agent, base, job)?;
            let request = ureq::http::Request::get(format!("{base}/~/jobs/{job}/result"));
            let request = request.body(Vec::new()).map_err(|error| Error::Failed(error.to_string()))?;
            (reply, _) = answer(&agent, base, &run_header, request)?;
        }
        let run = run_id.map(|id| journaled(api, &id)).transpose()?;
        let seen = run.as_ref().map(|(state, steps)| (state.as_str(), steps.as_slice()));
        results.push(CaseResult {
            workflow: prepared.plan().name.clone(),
            case: prepared.name(*index).to_owned(),
            path: prepared.path.clone(),
            line: prepared.line(*index),
            differences: prepared.judge(*index, &reply, seen),
            missing_stubs: Vec::new(),
            steps: Vec::new(),
            status: Some(reply.status),
            body: reply.body,
            state: None,
            duration_ms: 0.0,
            asked: Vec::new(),
            reached: Reached::default(),
        });
    }
    if left_out > 0 {
        eprintln!(
            "{left_out} cases have no `request` of their own (an `input`, a changed row, a `caller`) and were skipped"
        );
    }
    if results.is_empty() {
        return Err(Error::Usage("none of the cases has a `request` to send".into()));
    }
    Ok(results)
}

/// The target and headers of a message as its sender sends them.
fn signed(
    api: &Api,
    prepared: &Prepared,
    (method, target, headers): (&str, &str, Vec<(String, String)>),
    media: &str,
    bytes: &[u8],
) -> Result<(String, Vec<(String, String)>), Error> {
    let (path, query) = target.split_once('?').unwrap_or((target, ""));
    let mut headers: BTreeMap<String, String> = headers.into_iter().collect();
    let id = headers.remove("webhook-id");
    headers.insert("content-type".to_owned(), media.to_owned());
    let signing = Signing {
        workflow: prepared.plan().name.clone(),
        entry: Some(format!("{method} {path}")),
        query: query.to_owned(),
        headers,
        id,
        ..Signing::default()
    };
    let signed = sign(api, signing, bytes)?;
    Ok((signed.target, signed.headers.into_iter().collect()))
}

/// The job of a message that was kept, once it has ended; its result takes the place of the answer.
fn queued_for(api: &Api, base: &str, agent: &ureq::Agent, reply: &mut Reply) -> Result<Option<String>, Error> {
    let delivery = reply.body.member("delivery").and_then(Value::as_text).map(|id| id.to_string());
    let Some(id) = delivery.filter(|_| reply.status == 202) else { return Ok(None) };
    let delivery: Delivery = api.get(&format!("/deliveries/{id}"))?;
    let Some(job) = delivery.line.run.filter(|_| delivery.line.as_job).map(|job| job.to_string()) else {
        return Ok(None);
    };
    wait_for(agent, base, &job)?;
    let request = ureq::http::Request::get(format!("{base}/~/jobs/{job}/result"));
    let request = request.body(Vec::new()).map_err(|error| Error::Failed(error.to_string()))?;
    (*reply, _) = answer(agent, base, "", request)?;
    Ok(Some(job))
}

/// Sends a request; returns the answer and the id of its run.
fn answer(
    agent: &ureq::Agent,
    base: &str,
    run_header: &str,
    request: ureq::http::Request<Vec<u8>>,
) -> Result<(Reply, Option<String>), Error> {
    let unavailable = |error: ureq::Error| Error::Unavailable(format!("{base} does not answer: {error}"));
    let mut response = agent.run(request).map_err(unavailable)?;
    let status = response.status().as_u16();
    let headers: Vec<(String, String)> = response
        .headers()
        .iter()
        .map(|(name, value)| (name.to_string(), String::from_utf8_lossy(value.as_bytes()).into_owned()))
        .collect();
    let header = |wanted: &str| headers.iter().find(|(name, _)| name == wanted).map(|(_, value)| value.clone());
    let (run_id, media) = (header(run_header), header("content-type").unwrap_or_default());
    let text = response.body_mut().with_config().limit(64 << 20).read_to_string().map_err(unavailable)?;
    let body = match () {
        _ if text.is_empty() => Value::Undefined,
        _ if media.contains("json") => serde_json::from_str(&text).unwrap_or(Value::text(text)),
        _ => Value::text(text),
    };
    Ok((Reply { status, headers, body, rows: None, problem: media.contains("problem+json") }, run_id))
}

/// Waits until a job has ended, at most [`JOB_PATIENCE`].
fn wait_for(agent: &ureq::Agent, base: &str, job: &str) -> Result<(), Error> {
    let begun = std::time::Instant::now();
    while begun.elapsed() < JOB_PATIENCE {
        let request = ureq::http::Request::get(format!("{base}/~/jobs/{job}")).header("prefer", "wait=10");
        let request = request.body(Vec::new()).map_err(|error| Error::Failed(error.to_string()))?;
        let (polled, _) = answer(agent, base, "", request)?;
        let state = polled.body.member("state").and_then(Value::as_text).map(|state| state.to_string());
        match state.as_deref() {
            Some("succeeded" | "rejected" | "failed" | "cancelled") => return Ok(()),
            // An operator must release it; this does not wait for that.
            Some("scheduled") => break,
            Some(_) => {}
            None => return Err(Error::Failed(format!("{base}/~/jobs/{job} answered {}", polled.status))),
        }
    }
    Ok(())
}

/// The state and steps of a run by the journal, which is written behind the answer.
fn journaled(api: &Api, id: &str) -> Result<(String, Vec<StepSeen>), Error> {
    let begun = std::time::Instant::now();
    let run: Run = loop {
        match api.get(&format!("/runs/{id}")) {
            Ok(run) => break run,
            Err(failure) if begun.elapsed() > PATIENCE => return Err(failure),
            Err(_) => std::thread::sleep(Duration::from_millis(50)),
        }
    };
    let steps = run.steps.iter().map(|step| {
        let number = step.number.clone();
        let items = step.items.iter().flat_map(|items| items.split('.')).map(|item| format!("[{item}]"));
        StepSeen {
            numbered: format!("{number}{}", items.collect::<String>()),
            id: run.sheet.iter().find(|paragraph| paragraph.number == number).and_then(|p| p.name.clone()),
            number,
            state: step.state.name().to_owned(),
            attempts: step.attempts,
            failure: step.failure.as_ref().map(|failure| failure.detail.clone()),
        }
    });
    let detail = run.failure.as_ref().map(|failure| format!(": {}", failure.detail)).unwrap_or_default();
    Ok((format!("{}{detail}", run.state), steps.collect()))
}
