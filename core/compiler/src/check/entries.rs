//! Entries: path templates against the input, and no two endpoints at one address.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use super::webhooks;
use crate::input::{EndpointInput, From};
use crate::plan;
use kanzlei_lang::diagnostic::{Place, Report};
use kanzlei_lang::document::Workflow;
use kanzlei_lang::document::address::Address;
use kanzlei_lang::document::file::FileInput;
use kanzlei_lang::document::formats::Formats;
use kanzlei_lang::document::purpose::is_dots;
use kanzlei_lang::document::reader::Named;
use kanzlei_lang::document::workflow::{Endpoint, Property};
use kanzlei_lang::suggest;
use kanzlei_lang::types::Type;

/// How long a request may take by default.
pub(super) const TIME: Duration = Duration::from_secs(30);
/// The largest body by default.
pub(super) const BODY: u64 = 1 << 20;

/// The addresses in use: by method, host and path with the names left out.
#[derive(Default)]
pub(super) struct PathsInUse {
    addresses: BTreeMap<(String, Address), (String, String)>,
}

impl PathsInUse {
    pub fn claim(&mut self, workflow: &Workflow, path: &str, report: &mut Report) {
        let endpoints =
            workflow.entries.iter().map(|endpoint| (endpoint.method.as_str(), &endpoint.address, endpoint.at));
        let webhooks = workflow.webhooks.iter().flat_map(|webhook| {
            webhooks::methods(webhook).into_iter().map(move |(method, _)| (method, &webhook.address, webhook.at))
        });
        for (method, wanted, at) in endpoints.chain(webhooks) {
            let owner = (workflow.name.text.clone(), path.to_owned());
            let same = Address { host: wanted.host.clone(), path: shape(&wanted.path) };
            if let Some((other, file)) = self.addresses.insert((method.to_owned(), same), owner) {
                report.error("address-taken", at, format!("`{method} {wanted}` is already an entry of `{other}`"));
                report.help(format!("see {file}; change one of the paths"));
            }
        }
    }
}

/// A path with its names left out: two paths of one shape meet at the same addresses.
pub fn shape(path: &str) -> String {
    path.split('/').map(|part| if part.starts_with('{') { "{}" } else { part }).collect::<Vec<_>>().join("/")
}

pub(super) fn compile(endpoint: &Endpoint, properties: &[Property], report: &mut Report) -> Option<plan::Endpoint> {
    let mut in_path = Vec::new();
    for part in endpoint.address.path.split('/').skip(1) {
        match part.strip_prefix('{').and_then(|p| p.strip_suffix('}')).filter(|name| !name.contains(['{', '}'])) {
            Some(name) => match properties.iter().find(|p| p.name.text == name) {
                Some(_) if in_path.contains(&name) => {
                    report.error("bad-path", endpoint.at, format!("`{{{name}}}` occurs twice in the path"));
                }
                Some(property) => {
                    in_path.push(name);
                    if matches!(property.schema.get("type").and_then(|t| t.as_str()), Some("object" | "array")) {
                        report.error(
                            "bad-path",
                            endpoint.at,
                            format!("`{name}` is a list or an object and cannot stand in a path"),
                        );
                    }
                }
                None => {
                    report.error(
                        "unknown-input",
                        endpoint.at,
                        format!("the path names `{{{name}}}`, which is no input"),
                    );
                    match suggest::nearest(name, properties.iter().map(|p| p.name.text.as_str())) {
                        Some(near) => report.help(format!("did you mean `{{{near}}}`?")),
                        None => report.help(format!("declare it under `input`: `{name}: {{type: string}}`")),
                    };
                }
            },
            None => plain_part(part, endpoint.at, report),
        }
    }
    let bodyless = matches!(endpoint.method.as_str(), "GET" | "HEAD" | "DELETE");
    let mut sources: Vec<From> = properties
        .iter()
        .map(|property| {
            let name = property.name.text.clone();
            let file = FileInput::of(&property.schema).is_some();
            match (in_path.contains(&name.as_str()), bodyless) {
                (true, _) => From::Path(name),
                (false, true) => From::Query(name),
                (false, false) if file => From::File(name),
                (false, false) => From::Member(name),
            }
        })
        .collect();
    for (name, source) in &endpoint.from {
        let Some(index) = properties.iter().position(|p| p.name.text == name.text) else {
            report.error("unknown-input", name.at, format!("`{}` is no input", name.text));
            if let Some(near) = suggest::nearest(&name.text, properties.iter().map(|p| p.name.text.as_str())) {
                report.did_you_mean(near);
            }
            continue;
        };
        let part = source.text.split_once('.').map_or((source.text.as_str(), ""), |(a, b)| (a, b));
        sources[index] = match part {
            ("body", "") => From::Body,
            ("body", member) => From::Member(member.into()),
            ("query", name) if !name.is_empty() => From::Query(name.into()),
            ("header", field) if !field.is_empty() => {
                let property = &properties[index];
                if is_credential(field) && !property.secret {
                    let message = format!("`{field}` holds a credential, so `{}` is confidential", property.name.text);
                    report.error("credential-input", source.at, message);
                    report
                        .help(format!("declare it with `secret: true`: `{}: {{…, secret: true}}`", property.name.text));
                }
                From::Header(field.into())
            }
            _ => {
                report.error("wrong-value", source.at, format!("`{}` is no part of a request", source.text));
                report.help("write `body`, `body.name`, `query.name` or `header.Name`");
                continue;
            }
        };
    }
    for (property, source) in properties.iter().zip(&sources) {
        let name = &property.name.text;
        if FileInput::of(&property.schema).is_some() && !matches!(source, From::File(_) | From::Body) {
            report.error("file-input", endpoint.at, format!("`{name}` is a file, which comes in a body"));
            report.help(match bodyless {
                true => "use POST, PUT or PATCH: the file is a part of a multipart body".to_owned(),
                false => format!("remove it from the path and from `from`, or write `from: {{{name}: body}}`"),
            });
        }
    }
    let body = sources.iter().filter(|s| **s == From::Body).count();
    if body > 1 || (body == 1 && sources.iter().any(|s| matches!(s, From::Member(_) | From::File(_)))) {
        report.error("wrong-value", endpoint.at, "the body cannot be one input and hold others too");
        report.help("say with `from` where the other inputs come from");
    }
    Some(plan::Endpoint {
        method: endpoint.method.clone(),
        address: endpoint.address.clone(),
        access: endpoint.access.clone(),
        needs: None,
        allowance: endpoint.allowance.as_ref().map(|name| name.text.clone()),
        input: EndpointInput { sources },
        answer: endpoint.answer,
        time: endpoint.time.unwrap_or(TIME),
        body: endpoint.body.unwrap_or(BODY) as usize,
        at_once: endpoint.at_once,
        web: endpoint.web.clone(),
        webhook: None,
    })
}

/// Columns of CSV against the rows that replies answer, as far as these are known.
pub(super) fn columns(formats: &Formats, replies: &[plan::ReplyShape], report: &mut Report) {
    let good = replies.iter().filter(|reply| reply.status.is_none_or(|status| (200..300).contains(&status)));
    let rows = Type::union(good.map(|reply| match &reply.body {
        Type::List(items) => items.of.clone(),
        other => other.clone(),
    }));
    let shapes: Option<Vec<_>> = rows
        .alternatives()
        .iter()
        .map(|one| match one {
            Type::Object(shape) if shape.rest.is_none() => Some(shape),
            _ => None,
        })
        .collect();
    let Some(shapes) = shapes.filter(|shapes| !shapes.is_empty()) else { return };
    for (name, at) in &formats.columns {
        if shapes.iter().any(|shape| shape.get(name).is_some()) {
            continue;
        }
        report.error("unknown-member", *at, format!("the rows that are replied have no `{name}`"));
        let known: Vec<&str> =
            shapes.iter().flat_map(|shape| shape.members.iter().map(|member| &*member.name)).collect();
        match suggest::nearest(name, known.iter().copied()) {
            Some(near) => report.did_you_mean(near),
            None => report.help(format!("they have {}", known.join(", "))),
        };
    }
}

/// Reports files that entries need and do not bring: messages, changed rows and timetables have none.
pub(super) fn without_files(workflow: &Workflow, report: &mut Report) {
    let mut needed = workflow.input.iter().filter(|one| !one.optional && FileInput::of(&one.schema).is_some());
    let Some(property) = needed.next() else { return };
    let name = &property.name.text;
    let webhooks = workflow.webhooks.iter().map(|one| (one.at, "a message"));
    let watches = workflow.watches.iter().map(|one| (one.at, "a changed row"));
    let timetables = workflow.timetables.iter().map(|one| (one.at, "a timetable"));
    for (at, what) in webhooks.chain(watches).chain(timetables) {
        report.error("file-input", at, format!("`{name}` is a file, which {what} does not bring"));
        report.help("declare it with `optional: true`, or fetch it in a step: `file: fetch`");
    }
}

/// Reports an allowance that no document declares.
pub(super) fn known_allowance(name: &Named, known: &BTreeMap<String, Arc<plan::Allowance>>, report: &mut Report) {
    if known.contains_key(&name.text) {
        return;
    }
    report.error("unknown-allowance", name.at, format!("there is no allowance `{}`", name.text));
    match suggest::nearest(&name.text, known.keys().map(String::as_str)) {
        Some(near) => report.did_you_mean(near),
        None => report
            .help(format!("an allowance is a document of its own: `allowance: {}` with `rate: 120/min`", name.text)),
    };
}

/// Reports an issuer that no document declares.
pub(super) fn known_issuer(name: &Named, known: &BTreeMap<String, Arc<plan::Issuer>>, report: &mut Report) {
    if known.contains_key(&name.text) {
        return;
    }
    report.error("unknown-issuer", name.at, format!("there is no issuer `{}`", name.text));
    match suggest::nearest(&name.text, known.keys().map(String::as_str)) {
        Some(near) => report.did_you_mean(near),
        None => {
            let help = "an issuer is a document of its own: `issuer: NAME` with `iss`, `audience` and `service`";
            report.help(help)
        }
    };
}

/// A part of a path that is no name.
pub(super) fn plain_part(part: &str, at: Place, report: &mut Report) {
    if part.contains(['{', '}', '*', '?', '#', ' ', '\\']) || is_dots(part) {
        report.error("bad-path", at, format!("`{part}` cannot be part of a path"));
        report.help("a part of a path is plain text or one name in braces");
    }
}

/// Whether a header field shows who sends a request.
fn is_credential(field: &str) -> bool {
    ["authorization", "cookie", "proxy-authorization"].iter().any(|known| field.eq_ignore_ascii_case(known))
}
