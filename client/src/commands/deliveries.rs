//! `deliveries`, `delivery`, `redeliver`, `send-webhook`: messages of senders.

use std::collections::BTreeMap;
use std::io::Read;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use kanzlei_api::deliveries::{
    CompareDeliveries, Delivery, DeliveryFilter, DeliveryLine, DeliveryPage, ProcessDeliveries, Processed, Proposed,
    SignedMessage, Signing,
};
use kanzlei_api::workflows::Workflow;
use kanzlei_model::problem::Problem;
use uuid::Uuid;

use super::{listing, print_json, segment};
use crate::api::{Api, agent};
use crate::args::{Redeliver, SendWebhook};
use crate::{Done, Error, draw};

/// Lists deliveries, newest first.
pub fn list(api: &Api, filter: &DeliveryFilter, json: bool) -> Done {
    let page: DeliveryPage = api.get(&listing("deliveries", filter))?;
    if json {
        print_json(&page);
        return Ok(());
    }
    if page.deliveries.is_empty() {
        let open = DeliveryFilter { limit: filter.limit, ..DeliveryFilter::default() };
        println!("{}", if *filter == open { "No message has arrived yet." } else { "No such deliveries." });
        return Ok(());
    }
    let rows = page.deliveries.iter().map(|one| {
        vec![
            draw::time(one.received),
            paint(&one.state),
            one.entry.clone(),
            one.key.clone().unwrap_or_default().chars().take(40).collect(),
            one.proof.clone(),
            format!("{} B", one.size),
            one.id.to_string(),
            became(one).chars().take(70).collect(),
        ]
    });
    draw::table(&["received (UTC)", "state", "entry", "key", "proof", "size", "delivery", "became"], rows);
    if let Some(next) = page.next_before {
        println!("{}", draw::dim(&format!("older ones: add --before {next}")));
    }
    Ok(())
}

fn paint(state: &str) -> String {
    match state {
        "accepted" => draw::paint("32", state),
        "unfit" => draw::paint("31", state),
        other => draw::dim(other),
    }
}

/// A problem in a line.
fn why(problem: &Problem) -> String {
    match problem.errors.first() {
        Some(first) => format!("{}: {} {}", problem.title, first.pointer, first.detail),
        None => format!("{}: {}", problem.title, problem.detail.as_deref().unwrap_or_default()),
    }
}

/// What became of a delivery, in a few words.
fn became(one: &DeliveryLine) -> String {
    match (&one.problem, one.run, one.first) {
        (Some(problem), ..) => why(problem),
        (_, Some(run), _) => format!("kanzlei {} {run}", if one.as_job { "job" } else { "run" }),
        (_, _, Some(first)) => format!("like {first}"),
        _ => String::new(),
    }
}

/// Shows one delivery, with the input that the live revision makes of it.
pub fn show(api: &Api, id: &str, json: bool) -> Done {
    let id = named(api, id)?;
    let found: Delivery = api.get(&format!("/deliveries/{id}"))?;
    if json {
        print_json(&found);
        return Ok(());
    }
    let line = &found.line;
    println!("{} {}  {}", draw::bold(&line.entry), paint(&line.state), draw::dim(&id));
    let row = |name: &str, value: String| println!("  {name:<10} {value}");
    row("received", format!("{} UTC", draw::time(line.received)));
    row("workflow", format!("{} (revision {})", line.workflow, line.revision));
    row("proof", line.proof.clone());
    line.caller.iter().for_each(|caller| row("from", caller.clone()));
    line.key.iter().for_each(|key| row("key", key.clone()));
    row("processed", format!("{} times", line.processed));
    let became = became(line);
    if !became.is_empty() {
        row("became", became);
    }
    row("digest", format!("sha-256 {}", found.digest));
    if !found.query.is_empty() {
        row("query", found.query.clone());
    }
    println!("\n{}", draw::bold("headers"));
    found.headers.iter().for_each(|(name, value)| println!("  {}: {value}", draw::dim(name)));
    println!("\n{} ({}, {} B)", draw::bold("body"), line.media, line.size);
    match (&found.text, &found.base64) {
        (Some(text), _) => match serde_json::from_str::<serde_json::Value>(text) {
            Ok(json) => println!("{}", serde_json::to_string_pretty(&json).unwrap_or_else(|_| text.clone())),
            Err(_) => println!("{text}"),
        },
        (None, Some(base64)) => println!("{base64}"),
        (None, None) => println!("{}", draw::dim("confidential: it becomes an input that is never shown")),
    }
    match (&found.input, &found.unfit) {
        (Some(input), _) => {
            println!(
                "\n{} by the live revision\n{}",
                draw::bold("input"),
                serde_json::to_string_pretty(input).unwrap_or_default()
            );
        }
        (None, Some(problem)) => {
            println!("\n{}", draw::paint("31", &format!("The live revision does not accept it: {}", problem.title)));
            problem.detail.iter().for_each(|detail| println!("  {detail}"));
            problem.errors.iter().for_each(|error| println!("  {} {}", error.pointer, error.detail));
        }
        (None, None) => {}
    }
    println!("\n{}", draw::dim(&format!("process it again: {}", found.command)));
    Ok(())
}

/// The id of a delivery, or of the last one.
fn named(api: &Api, id: &str) -> Result<String, Error> {
    if id != "last" {
        return Ok(id.to_owned());
    }
    let page: DeliveryPage = api.get("/deliveries?limit=1")?;
    page.deliveries
        .first()
        .map(|one| one.id.to_string())
        .ok_or_else(|| Error::Failed("no message has arrived yet".into()))
}

/// The same as an id.
pub fn id_of(api: &Api, id: &str) -> Result<Uuid, Error> {
    let id = named(api, id)?;
    id.parse().map_err(|_| Error::Usage(format!("`{id}` is not the id of a delivery")))
}

/// Queues jobs for deliveries again.
pub fn redeliver(api: &Api, asked: Redeliver, json: bool) -> Done {
    let mut ids = Vec::new();
    for id in &asked.ids {
        ids.push(id_of(api, id)?);
    }
    if ids.is_empty() && asked.workflow.is_none() && asked.state.is_none() && asked.since.is_none() {
        return Err(Error::Usage("name deliveries by their ids, or select them: --workflow, --state, --since".into()));
    }
    let body = ProcessDeliveries {
        ids,
        workflow: asked.workflow,
        state: asked.state,
        since: asked.since,
        until: asked.until,
        as_received: asked.as_received,
        dry_run: asked.dry_run,
    };
    let done: Processed = api.post("/deliveries/process", &body)?;
    if json {
        print_json(&done);
    } else if asked.dry_run {
        println!("{} deliveries fit; without --dry-run they are processed again", done.found);
    } else {
        for one in &done.deliveries {
            match (&one.job, &one.problem) {
                (Some(job), _) => println!("{}  {}", one.delivery, draw::dim(&format!("kanzlei job {job}"))),
                (None, Some(problem)) => {
                    println!("{}  {}", one.delivery, draw::paint("31", &why(problem)));
                }
                (None, None) => {}
            }
        }
        let queued = done.deliveries.iter().filter(|one| one.job.is_some()).count();
        println!("{queued} of {} deliveries are processed again", done.found);
        if done.more {
            println!("{}", draw::dim("there may be more: narrow the selection with --since and --until, and repeat"));
        }
    }
    let all = done.deliveries.iter().all(|one| one.job.is_some());
    if all { Ok(()) } else { Err(Error::Bad) }
}

/// Prints the inputs that the last messages of a workflow suggest.
pub fn propose(api: &Api, workflow: &str, json: bool) -> Done {
    let body = CompareDeliveries { ids: Vec::new(), workflow: Some(workflow.to_owned()) };
    let proposed: Proposed = api.post("/deliveries/input", &body)?;
    if json {
        print_json(&proposed);
        return Ok(());
    }
    let indented = |text: &str, by: &str| text.lines().map(|line| format!("{by}{line}\n")).collect::<String>();
    println!("{}", draw::dim(&format!("# from {} messages", proposed.messages)));
    print!("input:\n{}", indented(&proposed.input, "  "));
    print!("entries:\n  - webhook: …\n    send:\n{}", indented(&proposed.send, "      "));
    Ok(())
}

/// Has the service sign a message like its sender does.
pub fn sign(api: &Api, signing: Signing, body: &[u8]) -> Result<SignedMessage, Error> {
    api.post("/deliveries/sign", &Signing { base64: Some(STANDARD.encode(body)), ..signing })
}

/// The body of a message by the document of its workflow.
fn example(api: &Api, asked: &SendWebhook) -> Result<Vec<u8>, Error> {
    let workflow: Workflow = api.get(&format!("/workflows/{}", segment(&asked.name)))?;
    let wanted = |path: &str| asked.entry.as_deref().is_none_or(|entry| entry.ends_with(path));
    let webhook = workflow.endpoints.iter().find(|one| one.proof.is_some() && wanted(&one.path));
    match webhook {
        Some(webhook) => Ok(webhook.request.body.to_string().into_bytes()),
        None => Err(Error::Failed(format!("`{}` has no such webhook", asked.name))),
    }
}

/// Signs a message like its sender and sends it.
pub fn send(api: &Api, asked: &SendWebhook, json: bool) -> Done {
    let body = match &asked.body {
        Some(file) => {
            let failed = |error: std::io::Error| Error::Usage(format!("{}: {error}", file.display()));
            let mut body = Vec::new();
            match file.to_str() {
                Some("-") => _ = std::io::stdin().lock().read_to_end(&mut body).map_err(failed)?,
                _ => body = std::fs::read(file).map_err(failed)?,
            }
            body
        }
        None => example(api, asked)?,
    };
    let mut headers = BTreeMap::new();
    for header in &asked.headers {
        let Some((name, value)) = header.split_once(':') else {
            return Err(Error::Usage(format!("`{header}` is no header field; write `NAME: VALUE`")));
        };
        headers.insert(name.trim().to_lowercase(), value.trim().to_owned());
    }
    headers.entry("content-type".to_owned()).or_insert_with(|| "application/json".to_owned());
    let signing = Signing {
        workflow: asked.name.clone(),
        entry: asked.entry.clone(),
        headers,
        id: asked.id.clone(),
        ..Signing::default()
    };
    let signed = sign(api, signing, &body)?;
    if asked.curl {
        let fields: String = signed.headers.iter().map(|(name, value)| format!(" -H '{name}: {value}'")).collect();
        let data = match (&asked.body, String::from_utf8(body)) {
            (Some(file), _) if file.to_str() != Some("-") => format!("@{}", file.display()),
            (_, Ok(text)) => text.replace('\'', r"'\''"),
            (_, Err(_)) => "@-".to_owned(),
        };
        println!("curl -sS -X {} '{}'{fields} --data-binary '{data}'", signed.method, signed.url);
        return Ok(());
    }
    let mut request = ureq::http::Request::builder().method(signed.method.as_str()).uri(&signed.url);
    for (name, value) in &signed.headers {
        request = request.header(name, value);
    }
    let request = request.body(body).map_err(|error| Error::Usage(format!("the message cannot be sent: {error}")))?;
    let unavailable = |error: ureq::Error| Error::Unavailable(format!("{} does not answer: {error}", signed.url));
    let mut response = agent().run(request).map_err(unavailable)?;
    let status = response.status();
    let text = response.body_mut().read_to_string().map_err(unavailable)?;
    if json {
        let body: serde_json::Value = serde_json::from_str(&text).unwrap_or(serde_json::Value::String(text));
        print_json(&serde_json::json!({"id": signed.id, "status": status.as_u16(), "body": body}));
    } else {
        let code = if status.is_success() { "32" } else { "31" };
        let reason = status.canonical_reason().unwrap_or_default();
        println!("{}  {}", draw::paint(code, &format!("{} {reason}", status.as_u16())), draw::dim(&signed.id));
        if !text.is_empty() {
            println!("{text}");
        }
        let delivery = serde_json::from_str::<serde_json::Value>(&text).ok();
        if let Some(id) = delivery.as_ref().and_then(|body| body.get("delivery")).and_then(|id| id.as_str()) {
            println!("{}", draw::dim(&format!("what became of it: kanzlei delivery {id}")));
        }
    }
    if status.is_success() { Ok(()) } else { Err(Error::Bad) }
}
