//! Calls: services and operations that exist, what is sent against what the operation takes.

use std::time::Duration;

use super::steps::Walk;
use crate::document::service::{In, Operation, Service};
use crate::document::step::{Call, Encoding, Target};
use crate::plan::sheet;
use crate::plan::{self, Maker};
use crate::suggest;

/// How long an attempt may take unless call or service say.
const WITHIN: Duration = Duration::from_secs(10);

pub(super) fn title(target: &Target) -> String {
    match target {
        Target::Operation { service, operation, .. } => format!("{service}.{operation}"),
        Target::Url { method, template, .. } => format!("{method} {template}"),
    }
}

pub(super) fn rows(call: &Call) -> Vec<(String, String)> {
    let mut rows: Vec<_> = call.send.iter().map(|(name, node)| (name.text.clone(), sheet::inline(node))).collect();
    rows.extend(call.headers.iter().map(|(name, node)| (format!("{}:", name.text), sheet::inline(node))));
    rows.extend(call.body.iter().map(|body| ("body".to_owned(), sheet::inline(body))));
    rows
}

/// What the step gives to the call; a value that did not compile is `None` and reported.
struct Given {
    send: Vec<(String, Option<Maker>)>,
    headers: Vec<(String, Maker)>,
    body: Option<Option<Maker>>,
}

/// What goes out.
struct Request {
    template: String,
    variables: Vec<(String, Maker)>,
    headers: Vec<(String, Maker)>,
    body: Option<Maker>,
}

pub(super) fn compile(walk: &mut Walk, call: &Call) -> Option<plan::Call> {
    let given = Given {
        send: call.send.iter().map(|(name, node)| (name.text.clone(), walk.maker(node))).collect(),
        headers: walk.named_makers(&call.headers),
        body: call.body.as_ref().map(|body| walk.maker(body)),
    };
    let target = match &call.target {
        Target::Operation { service, operation, at } => {
            let Some(known) = walk.services.get(service) else {
                walk.report.error("unknown-service", *at, format!("there is no service `{service}`"));
                match suggest::nearest(service, walk.services.keys().map(String::as_str)) {
                    Some(near) => walk.report.help(format!("did you mean `{near}`?")),
                    None => walk
                        .report
                        .help(format!("declare it in a document of its own that begins `service: {service}`")),
                };
                return None;
            };
            let Some(found) = known.operations.get(operation) else {
                walk.report.error(
                    "unknown-operation",
                    *at,
                    format!("the service `{service}` has no operation `{operation}`"),
                );
                match suggest::nearest(operation, known.operations.keys().map(String::as_str)) {
                    Some(near) => walk.report.help(format!("did you mean `{near}`?")),
                    None => walk.report.help(format!(
                        "its operations: {}",
                        known.operations.keys().cloned().collect::<Vec<_>>().join(", ")
                    )),
                };
                return None;
            };
            operation_call(walk, call, known, found, given)
        }
        Target::Url { method, template, at } => {
            let declared = walk.services.values().filter(|s| under(template, &s.base)).max_by_key(|s| s.base.len());
            let Some(service) = declared else {
                walk.report.error(
                    "unknown-service",
                    *at,
                    "no declared service has a base address that this begins with",
                );
                walk.report.help("calls go to declared services only; write a document that begins `service: NAME`");
                return None;
            };
            let relative = template[service.base.len()..].to_owned();
            url_call(walk, call, service, (method, relative), given)
        }
    }?;
    walk.used_services.insert(target.service.clone());
    if let Some(retry) = &call.retry {
        let repeatable = !matches!(target.method.as_str(), "POST" | "PATCH");
        let honours = walk.services.get(&target.service).is_some_and(|s| s.idempotency_key);
        if retry.times > 1 && !repeatable && !honours {
            walk.report.error(
                "unsafe-retry",
                retry.at,
                format!("trying a {} again could do its work twice", target.method),
            );
            walk.report.help(format!(
                "if `{}` honours `Idempotency-Key`, say `idempotency_key: true` in its document",
                target.service
            ));
        }
    }
    Some(target)
}

/// Whether an address lies below a base.
fn under(template: &str, base: &str) -> bool {
    !base.is_empty()
        && template.strip_prefix(base).is_some_and(|rest| rest.is_empty() || rest.starts_with(['/', '?', '{']))
}

fn operation_call(
    walk: &mut Walk,
    call: &Call,
    service: &Service,
    operation: &Operation,
    Given { send, mut headers, body }: Given,
) -> Option<plan::Call> {
    let at = match &call.target {
        Target::Operation { at, .. } | Target::Url { at, .. } => *at,
    };
    let mut template = operation.path.clone();
    let mut variables: Vec<(String, Maker)> = Vec::new();
    let mut query = Vec::new();
    let mut fixed_query = Vec::new();
    let mut members = Vec::new();
    for ((name, maker), (named, _)) in send.into_iter().zip(&call.send) {
        let parameter = operation.parameters.iter().find(|p| p.name == name);
        // Names of parameters may hold what a template variable must not.
        let variable = format!("v{}", variables.len());
        match parameter.map(|p| (p.within, p.list)) {
            Some((In::Path, _)) => {
                template = template.replace(&format!("{{{name}}}"), &format!("{{{variable}}}"));
                variables.push((variable, maker?));
            }
            Some((In::Query, list)) => {
                let plain = name.bytes().all(|b| b.is_ascii_alphanumeric() || b"_.".contains(&b));
                if plain {
                    query.push(format!("{name}{}", if list { "*" } else { "" }));
                    variables.push((name, maker?));
                } else {
                    fixed_query.push(format!("{name}={{{variable}}}"));
                    variables.push((variable, maker?));
                }
            }
            Some((In::Header, _)) => headers.push((name, maker?)),
            None if operation.takes_body => members.push((name.as_str().into(), maker?)),
            None => {
                walk.report.error("unknown-parameter", named.at, format!("the operation takes no `{name}`"));
                match suggest::nearest(&name, operation.parameters.iter().map(|p| p.name.as_str())) {
                    Some(near) => walk.report.help(format!("did you mean `{near}`?")),
                    None => {
                        let names: Vec<_> = operation.parameters.iter().map(|p| p.name.as_str()).collect();
                        walk.report.help(if names.is_empty() {
                            "it takes nothing".to_owned()
                        } else {
                            format!("it takes {}", names.join(", "))
                        })
                    }
                };
            }
        }
    }
    for parameter in operation.parameters.iter().filter(|p| p.required) {
        let sent = call.send.iter().any(|(name, _)| name.text == parameter.name)
            || headers.iter().any(|(name, _)| name.eq_ignore_ascii_case(&parameter.name));
        if !sent {
            walk.report.error(
                "missing-parameter",
                at,
                format!("the operation needs `{}`, which is not sent", parameter.name),
            );
            walk.report.help(format!("add it under `send`: `{}: …`", parameter.name));
        }
    }
    if !members.is_empty() && body.is_some() {
        walk.report.error("wrong-value", at, "the body is given by `body`, and again by members under `send`");
    }
    let body = match body {
        Some(body) => Some(body?),
        None if members.is_empty() => None,
        None => Some(Maker::Object(members)),
    };
    // `{?a,b}` leaves out what has no value; a name that no variable can have stands as it is.
    if !fixed_query.is_empty() {
        template.push_str(&format!("?{}", fixed_query.join("&")));
    }
    if !query.is_empty() {
        let operator = if fixed_query.is_empty() { '?' } else { '&' };
        template.push_str(&format!("{{{operator}{}}}", query.join(",")));
    }
    finish(walk, call, service, &operation.method, operation.encoding, Request { template, variables, headers, body })
}

fn url_call(
    walk: &mut Walk,
    call: &Call,
    service: &Service,
    (method, template): (&str, String),
    Given { send, headers, body }: Given,
) -> Option<plan::Call> {
    let wanted = template_names(&template);
    let at = match &call.target {
        Target::Operation { at, .. } | Target::Url { at, .. } => *at,
    };
    if iri_string::template::UriTemplateStr::new(&template).is_err() {
        walk.report.error("bad-template", at, "this is not a URI template (RFC 6570)");
        return None;
    }
    let mut variables = Vec::new();
    for ((name, maker), (named, _)) in send.into_iter().zip(&call.send) {
        if !wanted.contains(&name) {
            walk.report.error("unknown-parameter", named.at, format!("the template has no variable `{name}`"));
            match suggest::nearest(&name, wanted.iter().map(String::as_str)) {
                Some(near) => walk.report.help(format!("did you mean `{near}`?")),
                None => walk.report.help("what belongs in the body stands under `body`"),
            };
            continue;
        }
        variables.push((name, maker?));
    }
    for name in wanted.iter().filter(|name| !call.send.iter().any(|(sent, _)| sent.text == **name)) {
        walk.report.error("missing-parameter", at, format!("the template needs `{name}`, which is not sent"));
        walk.report.help(format!("add it under `send`: `{name}: …`"));
    }
    let body = match body {
        Some(body) => Some(body?),
        None => None,
    };
    finish(walk, call, service, method, None, Request { template, variables, headers, body })
}

fn finish(
    walk: &mut Walk,
    call: &Call,
    service: &Service,
    method: &str,
    by_operation: Option<Encoding>,
    request: Request,
) -> Option<plan::Call> {
    let Request { template, variables, headers, body } = request;
    if body.is_some() && matches!(method, "GET" | "HEAD") {
        let at =
            call.body.as_ref().map_or_else(|| call.send.first().map(|(name, _)| name.at).unwrap_or_default(), |b| b.at);
        walk.report.error("wrong-value", at, format!("a {method} request has no body"));
    }
    Some(plan::Call {
        service: service.name.text.clone(),
        operation: match &call.target {
            Target::Operation { operation, .. } => Some(operation.clone()),
            Target::Url { .. } => None,
        },
        method: method.to_owned(),
        template,
        variables,
        headers,
        body,
        encoding: call.encoding.or(by_operation),
        accept: if call.accept.is_empty() { vec![(200, 299)] } else { call.accept.clone() },
        within: call.within.or(service.within).unwrap_or(WITHIN),
        retry: call.retry.clone(),
    })
}

/// The variable names of a URI template.
fn template_names(template: &str) -> Vec<String> {
    let mut names = Vec::new();
    for expression in template.split('{').skip(1).filter_map(|part| part.split_once('}')).map(|(inside, _)| inside) {
        for variable in expression.trim_start_matches(['+', '#', '.', '/', ';', '?', '&']).split(',') {
            let name = variable.split(':').next().unwrap_or_default().trim_end_matches('*');
            if !names.iter().any(|known| known == name) {
                names.push(name.to_owned());
            }
        }
    }
    names
}
