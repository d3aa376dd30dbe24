//! The OpenAPI 3.1 document of deployed endpoints, written from what the checker knows of them: inputs
//! from their schemas, answers from the inferred types of replies, problems from what can go wrong.
//!
//! ```
//! use kanzlei_compiler::check::{Bundle, check};
//! let mut bundle = Bundle::default();
//! bundle.add("w.yaml", "workflow: hi\nentries: [{endpoint: GET /hi, access: open}]\nsteps: [{reply: 200, body: {n: 1}}]\n");
//! let checked = check(&bundle);
//! let document = kanzlei_compiler::openapi::document(checked.workflows.iter().map(|(_, plan)| &**plan), "http://localhost", None, "Run-Id");
//! assert_eq!(document["paths"]["/hi"]["get"]["operationId"], "hi");
//! ```

mod access;
mod body;
mod webhook;

use std::collections::BTreeMap;

use serde_json::{Map, Value as Json, json};

use crate::example;
use crate::input::From;
use crate::plan::{Action, Endpoint, Plan};
use kanzlei_lang::document::address::Address;
use kanzlei_lang::document::formats::Format;
use kanzlei_lang::document::workflow::Answer;
use kanzlei_lang::types::{Text, Type, schema};
use kanzlei_model::problem::phrase;
use kanzlei_model::run::RunState;

const PROBLEM: &str = "application/problem+json";

/// The document of the endpoints of these workflows, for clients of the listener at `server`.
///
/// With a `host`: those that this host leads to. Without: all, those of a host with their own server; where two have one path, the
/// one that every host leads to. `run_header` is the header field with the id of the run; empty where answers have none.
pub fn document<'p>(
    plans: impl IntoIterator<Item = &'p Plan>,
    server: &str,
    host: Option<&str>,
    run_header: &str,
) -> Json {
    let mut paths: BTreeMap<&str, Map<String, Json>> = BTreeMap::new();
    let mut schemes: Map<String, Json> = Map::new();
    let mut listed: Vec<(&Plan, usize, &Endpoint)> = Vec::new();
    for plan in plans {
        let endpoints = plan.endpoints.iter().enumerate();
        let reached = endpoints.filter(|(_, endpoint)| match (&endpoint.address.host, host) {
            (Some(own), Some(host)) => own == host,
            _ => true,
        });
        listed.extend(reached.map(|(index, endpoint)| (plan, index, endpoint)));
    }
    listed.sort_by_key(|(_, _, endpoint)| endpoint.address.host.is_some() != host.is_some());
    for (plan, index, endpoint) in listed {
        let method = endpoint.method.to_lowercase();
        if paths.get(endpoint.address.path.as_str()).is_some_and(|known| known.contains_key(&method)) {
            continue;
        }
        let id = if index == 0 { plan.name.clone() } else { format!("{}-{}", plan.name, index + 1) };
        let mut operation = match &endpoint.webhook {
            Some(webhook) => {
                schemes.extend(webhook::scheme(&webhook.proof));
                webhook::operation(plan, endpoint, webhook, id, run_header)
            }
            None => operation(plan, endpoint, id, run_header),
        };
        schemes.extend(access::schemes(&endpoint.access));
        if !plan.tags.is_empty() {
            operation["tags"] = plan.tags.clone().into();
        }
        if host.is_none() && endpoint.address.host.is_some() {
            let own = Address { host: endpoint.address.host.clone(), path: String::new() };
            operation["servers"] = json!([{"url": own.url(server)}]);
        }
        paths.entry(&endpoint.address.path).or_default().insert(method, operation);
    }
    let server = Address { host: host.map(str::to_owned), path: String::new() }.url(server);
    let mut document = json!({
        "openapi": "3.1.0",
        "info": {"title": "Workflows", "version": env!("CARGO_PKG_VERSION")},
        "servers": [{"url": server}],
        "security": [],
        "paths": paths.into_iter().map(|(path, operations)| (path.to_owned(), Json::Object(operations))).collect::<Map<_, _>>(),
        "components": {
            "schemas": {"Problem": problem_schema(), "Job": job_schema()},
            "headers": {
                "X-Request-Id": {"description": "The request's id: the client's own, or one that was made.", "schema": {"type": "string"}},
            },
        },
    });
    if !run_header.is_empty() {
        document["components"]["headers"][run_header] =
            json!({"description": "The id of the run that answered.", "schema": {"type": "string", "format": "uuid"}});
    }
    if !schemes.is_empty() {
        document["components"]["securitySchemes"] = schemes.into();
    }
    document
}

/// A queued run, as `/~/jobs/{id}` returns it.
fn job_schema() -> Json {
    let instant = json!({"type": ["string", "null"], "format": "date-time"});
    json!({
        "type": "object",
        "description": "A queued run.",
        "required": ["id", "workflow", "state", "queued", "due", "links"],
        "properties": {
            "id": {"type": "string", "format": "uuid"},
            "workflow": {"type": "string"},
            "state": {"enum": RunState::NAMES},
            "queued": {"type": "string", "format": "date-time"},
            "due": {"type": "string", "format": "date-time"},
            "started": instant,
            "ended": instant,
            "progress": {"type": ["number", "null"], "minimum": 0, "maximum": 1},
            "note": {"type": ["string", "null"]},
            "remaining_s": {"type": ["number", "null"], "description": "Estimated seconds until it ends."},
            "answered": {"type": "boolean"},
            "links": {"type": "object", "additionalProperties": {"type": "string"}},
        },
    })
}

/// Problem details (RFC 9457) with the places of faults in the input.
fn problem_schema() -> Json {
    json!({
        "type": "object",
        "description": "Problem details (RFC 9457).",
        "required": ["title", "status"],
        "properties": {
            "type": {"type": "string"},
            "title": {"type": "string"},
            "status": {"type": "integer"},
            "detail": {"type": "string"},
            "errors": {"type": "array", "items": {
                "type": "object",
                "required": ["in", "pointer", "detail"],
                "properties": {"in": {"type": "string"}, "pointer": {"type": "string"}, "detail": {"type": "string"}},
            }},
        },
    })
}

fn operation(plan: &Plan, endpoint: &Endpoint, id: String, run_header: &str) -> Json {
    let mut parameters = Vec::new();
    let mut members = Map::new();
    let mut required = Vec::new();
    let mut whole = None;
    let mut files = body::Files::default();
    for (declared, from) in plan.input.properties.iter().zip(&endpoint.input.sources) {
        let (name, within) = match from {
            From::Path(name) => (name, "path"),
            From::Query(name) => (name, "query"),
            From::Header(name) => (name, "header"),
            From::Member(name) => {
                members.insert(name.clone(), with_items(&declared.schema));
                if declared.required {
                    required.push(Json::from(name.as_str()));
                }
                continue;
            }
            From::File(name) => {
                files.add(name, declared);
                continue;
            }
            From::Body if declared.file.is_some() => {
                files.raw(declared);
                continue;
            }
            From::Body => {
                whole = Some((with_items(&declared.schema), declared.required));
                continue;
            }
        };
        let mut parameter = json!({"name": name, "in": within, "schema": with_items(&declared.schema)});
        if declared.required || within == "path" {
            parameter["required"] = true.into();
        }
        if let Some(about) = declared.schema.get("description") {
            parameter["description"] = about.clone();
        }
        parameters.push(parameter);
    }
    let mut out = json!({"operationId": id, "responses": responses(plan, endpoint, run_header)});
    if let Some(required) = access::required(&endpoint.access) {
        out["security"] = required;
    }
    if !plan.about.is_empty() {
        out["summary"] = plan.about.as_str().into();
    }
    if !parameters.is_empty() {
        out["parameters"] = parameters.into();
    }
    if endpoint.web.deprecated.is_some() || endpoint.web.sunset.is_some() {
        out["deprecated"] = true.into();
    }
    let bodyless = matches!(endpoint.method.as_str(), "GET" | "HEAD" | "DELETE");
    if !files.is_empty() {
        out["requestBody"] = files.body(members, required, plan.input.extra);
    } else if let Some((schema, required)) = whole {
        out["requestBody"] = json!({"required": required, "content": {"application/json": {"schema": schema}}});
    } else if !members.is_empty() && !bodyless {
        let needed = !required.is_empty();
        let schema = json!({
            "type": "object", "properties": members, "required": required, "additionalProperties": plan.input.extra,
        });
        let example = example_of(plan, endpoint);
        let mut content = json!({"application/json": {"schema": schema, "example": example}});
        let members = schema["properties"].as_object();
        if members.is_some_and(|members| members.values().all(fits_form)) {
            let form = &mut content["application/x-www-form-urlencoded"];
            *form = json!({"schema": schema});
            let encodings: Map<String, Json> = members
                .into_iter()
                .flatten()
                .filter_map(|(name, schema)| Some((name.clone(), form_encoding(schema)?)))
                .collect();
            if !encodings.is_empty() {
                form["encoding"] = encodings.into();
            }
        }
        out["requestBody"] = json!({"required": needed, "content": content});
    }
    out
}

/// A schema whose arrays say what their items are: `{}` for anything, which generators of clients ask for.
fn with_items(schema: &Json) -> Json {
    let mut schema = schema.clone();
    let Json::Object(members) = &mut schema else { return schema };
    let array = match members.get("type") {
        Some(Json::String(kind)) => kind == "array",
        Some(Json::Array(kinds)) => kinds.iter().any(|kind| kind == "array"),
        _ => false,
    };
    if array && !members.contains_key("items") && !members.contains_key("prefixItems") {
        members.insert("items".into(), json!({}));
    }
    for (name, inner) in members.iter_mut() {
        match inner {
            Json::Object(_) if matches!(name.as_str(), "items" | "additionalProperties" | "not" | "contains") => {
                *inner = with_items(inner);
            }
            Json::Object(all) if matches!(name.as_str(), "properties" | "$defs" | "patternProperties") => {
                all.values_mut().for_each(|one| *one = with_items(one));
            }
            Json::Array(all) if matches!(name.as_str(), "anyOf" | "oneOf" | "allOf" | "prefixItems") => {
                all.iter_mut().for_each(|one| *one = with_items(one));
            }
            _ => {}
        }
    }
    schema
}

/// Whether a form can carry a value: it says what it is, and so do the values in it.
fn fits_form(schema: &Json) -> bool {
    let of_kind = |kind: &str| match kind {
        "array" => fits_form(&schema["items"]),
        "object" => schema["properties"].as_object().is_some_and(|members| members.values().all(fits_form)),
        kind => plain(kind),
    };
    match &schema["type"] {
        Json::String(kind) => of_kind(kind),
        Json::Array(kinds) => kinds.iter().all(|kind| kind.as_str().is_some_and(plain)),
        _ => schema["enum"].as_array().is_some_and(|all| all.iter().all(|one| !one.is_object() && !one.is_array())),
    }
}

fn plain(kind: &str) -> bool {
    matches!(kind, "string" | "number" | "integer" | "boolean")
}

/// How a nested value is written in a form (OpenAPI 3.1, §4.8.15): one level of members in brackets, deeper ones as JSON.
fn form_encoding(schema: &Json) -> Option<Json> {
    let nested = |schema: &Json| schema["type"] == "object" || schema["type"] == "array";
    let kind = schema["type"].as_str()?;
    match kind {
        "object" if schema["properties"].as_object().is_some_and(|all| !all.values().any(nested)) => {
            Some(json!({"style": "deepObject", "explode": true}))
        }
        "array" if !nested(&schema["items"]) => None,
        "object" | "array" => Some(json!({"contentType": "application/json"})),
        _ => None,
    }
}

/// A body with the members that must be there.
fn example_of(plan: &Plan, endpoint: &Endpoint) -> Json {
    let declared = plan.input.properties.iter().zip(&endpoint.input.sources);
    declared
        .filter_map(|(declared, from)| match from {
            From::Member(name) if declared.required => Some((name.clone(), example::of(&declared.schema))),
            _ => None,
        })
        .collect::<Map<_, _>>()
        .into()
}

fn responses(plan: &Plan, endpoint: &Endpoint, run_header: &str) -> Json {
    let mut by_status: BTreeMap<String, Answers> = BTreeMap::new();
    for reply in &plan.replies {
        let status = reply.status.map_or("default".to_owned(), |status| status.to_string());
        let answers = by_status.entry(status).or_default();
        answers.replies.push((reply.body.clone(), reply.declared.clone()));
        answers.typed |= reply.headers.iter().any(|name| name.eq_ignore_ascii_case("content-type"));
    }
    if plan.may_end_silent {
        by_status.entry("204".into()).or_default().replies.push((Type::Undefined, None));
    }
    if endpoint.answer != Answer::Now {
        by_status.entry("202".into()).or_default().job = true;
    }
    if endpoint.web.cache.as_ref().is_some_and(|cache| cache.etag) {
        by_status.entry("304".into()).or_default();
    }
    let mut problem = |status: &str, why: &str| {
        let answers = by_status.entry(status.to_owned()).or_default();
        if !why.is_empty() && !answers.problems.contains(&why.to_owned()) {
            answers.problems.push(why.to_owned());
        }
        answers.problem = true;
    };
    for (status, title) in all_fails(plan) {
        match status {
            Some(status) => problem(&status.to_string(), &title.unwrap_or_else(|| phrase(status).to_owned())),
            None => problem("default", ""),
        }
    }
    problem("400", "The request is malformed");
    for (status, why) in access::refusals(&endpoint.access, endpoint.needs.is_some()) {
        problem(status, why);
    }
    if endpoint.allowance.is_some() || !endpoint.access.is_open() {
        problem("429", "The allowance is used up");
    }
    if endpoint.at_once.is_some() {
        problem("429", "Too many runs at once");
    }
    if !matches!(endpoint.method.as_str(), "GET" | "HEAD" | "DELETE") {
        problem("408", "The request took too long to arrive");
        problem("413", "The body is too large");
        problem("415", "The body's media type is not understood");
    }
    if endpoint.answer != Answer::Now {
        problem("409", "The job was cancelled while the client waited");
        problem("429", "The queue is full");
    }
    if matches!(endpoint.method.as_str(), "POST" | "PATCH") {
        problem("409", "The same request is being worked on");
    }
    if !endpoint.web.formats.of.is_empty() {
        problem("406", "None of its formats is accepted");
    }
    problem("422", "The input does not fit");
    problem("500", "The workflow failed");
    if calls_out(plan) {
        problem("502", "A service failed");
    }
    problem("503", "The service is busy");
    problem("504", "The request took too long");
    let others: Vec<&str> =
        endpoint.web.formats.of.iter().filter(|format| **format != Format::Json).map(|format| format.media()).collect();
    let json = endpoint.web.formats.of.is_empty() || endpoint.web.formats.of.contains(&Format::Json);
    let described = by_status.into_iter().map(|(status, answers)| {
        let mut described = answers.describe(run_header);
        // Rows go out in each of the formats.
        if status.starts_with('2')
            && let Some(content) = described.get_mut("content").and_then(Json::as_object_mut)
            && content.contains_key("application/json")
        {
            content.extend(others.iter().map(|media| ((*media).to_owned(), json!({"schema": {"type": "string"}}))));
            if !json {
                content.remove("application/json");
            }
        }
        (status, described)
    });
    Json::Object(described.collect())
}

/// Statuses and titles of `fail` steps, those of invoked workflows included; a status that only the run
/// knows is nothing.
fn all_fails(plan: &Plan) -> Vec<(Option<u16>, Option<String>)> {
    let mut out: Vec<_> = plan.fails.iter().map(|(status, title)| (Some(*status), title.clone())).collect();
    let computed = plan.blocks.iter().flatten().any(|step| match &step.action {
        Action::Fail(fail) => !matches!(fail.status, crate::plan::Maker::Const(_)),
        _ => false,
    });
    if computed {
        out.push((None, None));
    }
    for invoked in plan.invoked() {
        out.extend(all_fails(invoked));
    }
    out
}

fn calls_out(plan: &Plan) -> bool {
    !plan.services.is_empty() || !plan.statements.is_empty() || plan.invoked().any(|plan| calls_out(plan))
}

/// What is answered with one status.
#[derive(Default)]
struct Answers {
    replies: Vec<(Type, Option<Json>)>,
    /// Whether a reply says its own media type.
    typed: bool,
    problem: bool,
    /// Whether it is the address of a job.
    job: bool,
    /// What problems of this status mean.
    problems: Vec<String>,
}

impl Answers {
    fn describe(self, run_header: &str) -> Json {
        let mut content = Map::new();
        let body = Type::union(self.replies.iter().map(|(body, _)| body.clone()));
        let declared = self.replies.iter().find_map(|(_, declared)| declared.clone());
        if self.typed {
            content.insert("*/*".into(), json!({}));
        } else {
            let texts = body.keep(|one| matches!(one, Type::Text(_) | Type::Unknown));
            let files = body.keep(|one| matches!(one, Type::Object(shape) if shape.file));
            let values = body.keep(|one| {
                !matches!(one, Type::Text(_) | Type::Undefined) && !matches!(one, Type::Object(shape) if shape.file)
            });
            if values != Type::Never {
                let schema = declared.clone().unwrap_or_else(|| schema::write(&values));
                content.insert("application/json".into(), json!({"schema": schema}));
            }
            if texts != Type::Never {
                let schema = if texts == Type::Unknown { json!({"type": "string"}) } else { schema::write(&texts) };
                content.insert("text/plain".into(), json!({"schema": schema}));
            }
            // A file goes out under its own media type.
            for file in files.alternatives() {
                let media = match file {
                    Type::Object(shape) => shape.read("media"),
                    _ => None,
                };
                let media = match media {
                    Some(Type::Text(Text::One(media))) => media.to_string(),
                    _ => "*/*".to_owned(),
                };
                content.insert(media, json!({}));
            }
            if body.alternatives().contains(&Type::Unknown) {
                content.insert("*/*".into(), json!({}));
            }
        }
        if self.job {
            let job = json!({"$ref": "#/components/schemas/Job"});
            let schema = match content.remove("application/json") {
                Some(reply) => json!({"anyOf": [job, reply["schema"]]}),
                None => job,
            };
            content.insert("application/json".into(), json!({"schema": schema}));
        }
        if self.problem {
            content.insert(PROBLEM.into(), json!({"schema": {"$ref": "#/components/schemas/Problem"}}));
        }
        let queued = self.job && self.replies.is_empty();
        let about = match (self.replies.is_empty() && !queued, self.problems.is_empty()) {
            _ if queued => "It is queued; `Location` is the address to poll".to_owned(),
            (false, true) => "The answer".to_owned(),
            (false, false) => format!("The answer; or {}", self.problems.join("; ")),
            (true, _) => self.problems.join("; "),
        };
        let about = if about.is_empty() { "A problem".to_owned() } else { about };
        let mut out = json!({"description": about});
        if !content.is_empty() {
            out["content"] = Json::Object(content);
        }
        if self.job {
            out["headers"] =
                json!({"Location": {"schema": {"type": "string"}}, "Retry-After": {"schema": {"type": "string"}}});
        }
        let mut common = json!({"X-Request-Id": {"$ref": "#/components/headers/X-Request-Id"}});
        if !run_header.is_empty() {
            common[run_header] = json!({"$ref": format!("#/components/headers/{run_header}")});
        }
        match (&mut out["headers"], common) {
            (Json::Object(headers), Json::Object(common)) => headers.extend(common),
            (headers, common) => *headers = common,
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::{Bundle, check};

    fn body_of(input: &str) -> Json {
        let mut bundle = Bundle::default();
        let text = format!(
            "workflow: w\ninput: {input}\nextra: allow\nentries: [{{endpoint: POST /w, access: open}}]\nsteps: [{{reply: 204}}]\n"
        );
        bundle.add("w.yaml", &text);
        let checked = check(&bundle);
        let plan = &checked.workflows.first().unwrap_or_else(|| panic!("{:?}", checked.diagnostics)).1;
        document([&**plan], "http://h", None, "Run-Id")["paths"]["/w"]["post"]["requestBody"]["content"].clone()
    }

    /// The endpoints that clients of a host reach, with the server that they are asked at.
    #[test]
    fn a_host_has_a_document_of_its_own() {
        let mut bundle = Bundle::default();
        for (name, entry) in [
            ("all", "endpoint: GET /a, access: open"),
            ("own", "endpoint: GET /a, host: API.example, access: open"),
            ("below", "endpoint: GET /b, host: api.example/v1, access: open"),
            ("other", "endpoint: GET /c, host: other.example, access: open"),
            ("prefixed", "endpoint: GET /d, host: /v2, access: open"),
        ] {
            bundle.add(
                &format!("{name}.yaml"),
                &format!("workflow: {name}\nentries: [{{{entry}}}]\nsteps: [{{reply: 204}}]\n"),
            );
        }
        let checked = check(&bundle);
        assert!(checked.diagnostics.is_empty(), "{:?}", checked.diagnostics);
        for (host, wanted) in [
            (
                None,
                "/a all, /c other http://other.example:7080, /v1/b below http://api.example:7080, /v2/d prefixed; http://h:7080",
            ),
            (Some("api.example"), "/a own, /v1/b below, /v2/d prefixed; http://api.example:7080"),
            (Some("unknown.example"), "/a all, /v2/d prefixed; http://unknown.example:7080"),
        ] {
            let made = document(checked.workflows.iter().map(|(_, plan)| &**plan), "http://h:7080", host, "");
            let paths = made["paths"].as_object().expect("paths").iter().map(|(path, item)| {
                let server = item["get"]["servers"][0]["url"].as_str().map(|url| format!(" {url}"));
                format!("{path} {}{}", item["get"]["operationId"].as_str().expect("an id"), server.unwrap_or_default())
            });
            let found = format!(
                "{}; {}",
                paths.collect::<Vec<_>>().join(", "),
                made["servers"][0]["url"].as_str().expect("a server")
            );
            assert_eq!(found, wanted, "{host:?}");
        }
        bundle.add("again.yaml", "workflow: again\nentries: [{endpoint: GET /v1/b, host: api.example, access: open}]\nsteps: [{reply: 204}]\n");
        let found = check(&bundle).diagnostics;
        assert_eq!((found.len(), found[0].code.as_str()), (1, "address-taken"), "{found:?}");
    }

    #[test]
    fn a_form_is_offered_only_where_it_can_carry_the_body() {
        for (input, form) in [
            ("{a: {type: string}, n: {type: integer}}", true),
            ("{a: {type: array, items: {type: string}}}", true),
            ("{a: {enum: [x, y]}}", true),
            ("{a: {type: object}}", false),
            ("{a: {type: array, items: {type: object}}}", false),
            ("{a: {}}", false),
            (
                "{a: {type: object, properties: {b: {type: string}, c: {type: array, items: {type: object, properties: {d: {type: number}}}}}}}",
                true,
            ),
        ] {
            let content = body_of(input);
            assert_eq!(content.get("application/x-www-form-urlencoded").is_some(), form, "{input}");
        }
        for (input, encoding) in [
            ("{a: {type: string}, b: {type: array, items: {type: integer}}}", json!(null)),
            (
                "{a: {type: object, properties: {b: {type: string}}}}",
                json!({"a": {"style": "deepObject", "explode": true}}),
            ),
            (
                "{a: {type: object, properties: {b: {type: array, items: {type: string}}}}}",
                json!({"a": {"contentType": "application/json"}}),
            ),
            (
                "{a: {type: array, items: {type: object, properties: {b: {type: string}}}}}",
                json!({"a": {"contentType": "application/json"}}),
            ),
        ] {
            assert_eq!(body_of(input)["application/x-www-form-urlencoded"]["encoding"], encoding, "{input}");
        }
    }

    #[test]
    fn arrays_have_items() {
        let content = body_of("{a: {type: array}, o: {type: object, properties: {b: {type: [array, \"null\"]}}}}");
        let members = &content["application/json"]["schema"]["properties"];
        assert_eq!(members["a"]["items"], json!({}));
        assert_eq!(members["o"]["properties"]["b"]["items"], json!({}));
    }
}
