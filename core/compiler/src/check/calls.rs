//! Calls: services and operations that exist, what is sent against what the operation accepts.

use std::sync::Arc;
use std::time::Duration;

use super::steps::{Answered, Numbers, Walk};
use crate::plan::sheet;
use crate::plan::{self, Maker};
use kanzlei_lang::diagnostic::Place;
use kanzlei_lang::document::purpose::Purpose;
use kanzlei_lang::document::reader::Named;
use kanzlei_lang::document::service::{In, Operation, Response, Service};
use kanzlei_lang::document::step::{Action, Call, Encoding, Step, Target};
use kanzlei_lang::suggest;
use kanzlei_lang::types::schema::Reader;
use kanzlei_lang::types::{Shape, Text, Type, contradiction};

/// How long an attempt may take by default.
const WITHIN: Duration = Duration::from_secs(10);
/// Statuses by which a service says that it knows of no such work: Not Found, Gone.
const NOT_DONE: [u16; 2] = [404, 410];

pub(super) fn title(target: &Target) -> String {
    match target {
        Target::Operation { service, operation, .. } => format!("{service}.{operation}"),
        Target::Url { method, template, .. } => format!("{method} {template}"),
    }
}

pub(super) fn rows(call: &Call) -> Vec<(String, String)> {
    let named = match &call.target {
        Target::Url { service, .. } => service.as_ref(),
        Target::Operation { .. } => None,
    };
    let mut rows: Vec<_> = named.map(|service| ("service".to_owned(), service.text.clone())).into_iter().collect();
    rows.extend(call.send.iter().map(|(name, node)| (name.text.clone(), sheet::inline(node))));
    rows.extend(sheet::header_rows(&call.headers));
    rows.extend(call.body.iter().map(|body| ("body".to_owned(), sheet::inline(body))));
    rows
}

/// What the step passes to the call; a value that did not compile is `None` and reported.
struct Passed {
    send: Vec<(String, Option<Maker>)>,
    /// Types of what is sent, in the same order.
    types: Vec<Type>,
    headers: Vec<(String, Maker)>,
    body: Option<Option<Maker>>,
    body_type: Option<Type>,
}

/// What goes out.
struct Request {
    host: Option<Maker>,
    template: String,
    variables: Vec<(String, Maker)>,
    headers: Vec<(String, Maker)>,
    body: Option<Maker>,
}

pub(super) fn compile(walk: &mut Walk, call: &Call) -> Option<plan::Call> {
    let (mut send, mut types) = (Vec::new(), Vec::new());
    for (name, node) in &call.send {
        let (maker, of) = walk.typed(node);
        send.push((name.text.clone(), maker));
        types.push(of);
    }
    let headers = walk.named_makers(&call.headers);
    let (body, body_type) = match call.body.as_ref().map(|body| walk.typed(body)) {
        Some((maker, of)) => (Some(maker), Some(of)),
        None => (None, None),
    };
    let given = Passed { send, types, headers, body, body_type };
    let target = match &call.target {
        Target::Operation { service, operation, at } => {
            let Some(known) = walk.services.get(service) else {
                walk.report.error("unknown-service", *at, format!("there is no service `{service}`"));
                match suggest::nearest(service, walk.services.keys().map(String::as_str)) {
                    Some(near) => walk.report.did_you_mean_as(near, &format!("{near}.{operation}")),
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
                    Some(near) => walk.report.did_you_mean_as(near, &format!("{service}.{near}")),
                    None => walk.report.help(format!(
                        "its operations: {}",
                        known.operations.keys().cloned().collect::<Vec<_>>().join(", ")
                    )),
                };
                return None;
            };
            operation_call(walk, call, known, found, given)
        }
        Target::Url { method, template, service, at } => {
            let service = addressed(walk, template, service.as_ref(), *at)?;
            walk.addressed.push((format!("{method} {template}"), service.name.text.clone()));
            let relative = template[service.base.len()..].to_owned();
            url_call(walk, call, service, (method, relative), given)
        }
    }?;
    walk.used_services.insert(target.service.clone());
    if let Some(retry) = &call.retry
        && retry.attempts > 1
        && call.unless.is_none()
        && !is_safe(walk, call, &target)
    {
        let message = format!("trying a {} again could do its work twice", target.method);
        walk.report.error("unsafe-retry", retry.at, message);
        walk.report.help(format!(
            "if `{}` honours `Idempotency-Key`, say `idempotency_key: true` in its document; if repeating this call does no harm, say `safe: true` here; if another call can find out whether the work is done, name it under `unless`",
            target.service
        ));
    }
    Some(target)
}

/// Whether repeating a call does no harm.
fn is_safe(walk: &Walk, call: &Call, compiled: &plan::Call) -> bool {
    let service = walk.services.get(&compiled.service);
    let honours = service.is_some_and(|service| service.idempotency_key);
    let named = compiled.operation.as_ref().zip(service).is_some_and(|(id, service)| service.safe.contains(id));
    call.safe || honours || named || !matches!(compiled.method.as_str(), "POST" | "PATCH")
}

/// Compiles the question of a call; returns it with the type of the answer that means that the work is done.
pub(super) fn unless(
    walk: &mut Walk,
    call: &Call,
    inside: &mut Numbers,
    answered: Answered,
) -> Option<(Option<plan::Unless>, Type)> {
    let unless = call.unless.as_ref()?;
    let asking = unless.call()?;
    let accept = if asking.accept.is_empty() { vec![(200, 299)] } else { asking.accept.clone() };
    let not_done = NOT_DONE.into_iter().filter(|status| !accept.iter().any(|(from, to)| (from..=to).contains(&status)));
    let performed = Call {
        accept: accept.iter().copied().chain(not_done.map(|status| (status, status))).collect(),
        retry: asking.retry.clone().or_else(|| call.retry.clone()),
        // Whether it may be repeated is checked here.
        safe: true,
        ..asking.clone()
    };
    let step = Step { action: Action::Call(Box::new(performed)), ..unless.step.clone() };
    let answer = result(walk, asking);
    let around = walk.env.clone();
    let ((block, done), _) = walk.apart(|walk| {
        let (block, _) = walk.branch(std::slice::from_ref(&step), inside, "unless", answered);
        if let Some(slot) = step.id.as_ref().and_then(|id| walk.scope.slot(&id.text)) {
            walk.env.set(slot, answer.clone());
        }
        let done = unless.done.as_ref().map(|node| walk.condition("done", node));
        (block, done)
    });
    walk.env = around;
    if let Some(plan::Action::Call(compiled)) = walk.block(block).first().map(|step| &step.action)
        && !is_safe(walk, asking, compiled)
    {
        let message = format!("asking with a {} could do some work itself", compiled.method);
        walk.report.error("unsafe-retry", unless.step.at, message);
        walk.report.help("ask with a GET, or say `safe: true` if it does no harm");
    }
    let compiled = match done {
        Some(None) => None,
        done => Some(plan::Unless { block, accept, done: done.flatten() }),
    };
    Some((compiled, answer))
}

/// The service of a call by address: the one that is named, or the only one with the longest base.
fn addressed<'w>(walk: &mut Walk<'w, '_, '_>, template: &str, named: Option<&Named>, at: Place) -> Option<&'w Service> {
    let mut fitting: Vec<&'w Service> =
        walk.services.values().map(|service| &**service).filter(|service| under(template, &service.base)).collect();
    let longest = fitting.iter().map(|service| service.base.len()).max();
    if let Some(named) = named {
        if let Some(found) = fitting.iter().find(|service| service.name.text == named.text) {
            return Some(found);
        }
        let (code, message) = match walk.services.get(&named.text) {
            Some(known) => {
                ("wrong-value", format!("this does not begin with `{}`, the base of `{}`", known.base, named.text))
            }
            None => ("unknown-service", format!("there is no service `{}`", named.text)),
        };
        walk.report.error(code, named.at, message);
        if let Some(near) = suggest::nearest(&named.text, fitting.iter().map(|service| service.name.text.as_str())) {
            walk.report.did_you_mean(near);
        }
        return None;
    }
    fitting.retain(|service| Some(service.base.len()) == longest);
    match fitting.as_slice() {
        [one] => Some(one),
        [] => {
            walk.report.error("unknown-service", at, "no declared service has a base address that this begins with");
            walk.report.help("calls go to declared services only; write a document that begins `service: NAME`");
            None
        }
        several => {
            let names: Vec<String> = several.iter().map(|service| format!("`{}`", service.name.text)).collect();
            let message = format!("{} have the base address of this call", names.join(" and "));
            walk.report.error("ambiguous-service", at, message);
            walk.report.help(format!("name the one that is meant: `service: {}`", several[0].name.text));
            None
        }
    }
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
    Passed { send, types, mut headers, body, body_type }: Passed,
) -> Option<plan::Call> {
    argument_types(walk, call, service, operation, &types, body_type.as_ref());
    let at = match &call.target {
        Target::Operation { at, .. } | Target::Url { at, .. } => *at,
    };
    let mut template = operation.path.clone();
    let mut variables: Vec<(String, Maker)> = Vec::new();
    let mut query = Vec::new();
    let mut fixed_query = Vec::new();
    let mut members = Vec::new();
    let mut host = None;
    for ((name, maker), (named, _)) in send.into_iter().zip(&call.send) {
        if service.hosts.is_some() && name == "host" {
            host = Some(maker?);
            continue;
        }
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
                walk.report.error("unknown-parameter", named.at, format!("the operation has no parameter `{name}`"));
                match suggest::nearest(&name, operation.parameters.iter().map(|p| p.name.as_str())) {
                    Some(near) => walk.report.did_you_mean(near),
                    None => {
                        let names: Vec<_> = operation.parameters.iter().map(|p| p.name.as_str()).collect();
                        walk.report.help(if names.is_empty() {
                            "it has no parameters".to_owned()
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
    let request = Request { host, template, variables, headers, body };
    finish(walk, call, service, &operation.method, operation.encoding, request)
}

fn url_call(
    walk: &mut Walk,
    call: &Call,
    service: &Service,
    (method, template): (&str, String),
    Passed { send, headers, body, .. }: Passed,
) -> Option<plan::Call> {
    let mut wanted = template_names(&template);
    wanted.extend(service.hosts.is_some().then(|| "host".to_owned()));
    let at = match &call.target {
        Target::Operation { at, .. } | Target::Url { at, .. } => *at,
    };
    if iri_string::template::UriTemplateStr::new(&template).is_err() {
        walk.report.error("bad-template", at, "this is not a URI template (RFC 6570)");
        return None;
    }
    let (mut variables, mut host) = (Vec::new(), None);
    for ((name, maker), (named, _)) in send.into_iter().zip(&call.send) {
        if !wanted.contains(&name) {
            walk.report.error("unknown-parameter", named.at, format!("the template has no variable `{name}`"));
            match suggest::nearest(&name, wanted.iter().map(String::as_str)) {
                Some(near) => walk.report.did_you_mean(near),
                None => walk.report.help("what belongs in the body stands under `body`"),
            };
            continue;
        }
        match service.hosts.is_some() && name == "host" {
            true => host = Some(maker?),
            false => variables.push((name, maker?)),
        }
    }
    for name in wanted.iter().filter(|name| !call.send.iter().any(|(sent, _)| sent.text == **name)) {
        walk.report.error("missing-parameter", at, format!("the template needs `{name}`, which is not sent"));
        walk.report.help(format!("add it under `send`: `{name}: …`"));
    }
    let body = match body {
        Some(body) => Some(body?),
        None => None,
    };
    finish(walk, call, service, method, None, Request { host, template, variables, headers, body })
}

fn finish(
    walk: &mut Walk,
    call: &Call,
    service: &Service,
    method: &str,
    by_operation: Option<Encoding>,
    request: Request,
) -> Option<plan::Call> {
    let Request { host, template, variables, headers, body } = request;
    let at = match &call.target {
        Target::Operation { at, .. } | Target::Url { at, .. } => *at,
    };
    if service.hosts.is_some() && host.is_none() {
        if matches!(call.target, Target::Operation { .. }) {
            walk.report.error("missing-parameter", at, "the service has no host of its own, and none is sent");
            walk.report.help("add it under `send`: `host: …`");
        }
        return None;
    }
    if let (Some(Maker::Const(value)), Some(hosts)) = (&host, &service.hosts)
        && let Err(why) = hosts.admit(value.as_text().unwrap_or_default())
    {
        walk.report.error("wrong-argument", at, why);
    }
    if body.is_some() && matches!(method, "GET" | "HEAD") {
        let at =
            call.body.as_ref().map_or_else(|| call.send.first().map(|(name, _)| name.at).unwrap_or_default(), |b| b.at);
        walk.report.error("wrong-value", at, format!("a {method} request has no body"));
    }
    for secret in call.sign.iter().flat_map(|sign| sign.secrets()) {
        super::services::secret(secret, &Purpose::Signing, walk.known, walk.report);
    }
    Some(plan::Call {
        service: service.name.text.clone(),
        operation: match &call.target {
            Target::Operation { operation, .. } => Some(operation.clone()),
            Target::Url { .. } => None,
        },
        method: method.to_owned(),
        host: host.zip(service.hosts.clone()),
        template,
        variables,
        headers,
        body,
        encoding: call.encoding.or(by_operation),
        accept: if call.accept.is_empty() { vec![(200, 299)] } else { call.accept.clone() },
        within: call.within.or(service.within).unwrap_or(WITHIN),
        retry: call.retry.clone(),
        sign: call.sign.clone().map(Arc::new),
        unless: None,
    })
}

/// Reports what is sent and can never be what the operation accepts.
fn argument_types(
    walk: &mut Walk,
    call: &Call,
    service: &Service,
    operation: &Operation,
    types: &[Type],
    body: Option<&Type>,
) {
    let mut reader = Reader::new(&service.api);
    let wanted_body = operation.body.as_ref().map(|schema| reader.read(schema));
    let mut members = Shape::default();
    for ((name, node), of) in call.send.iter().zip(types) {
        match operation.parameters.iter().find(|p| p.name == name.text) {
            Some(parameter) => {
                if parameter.required && of.may_be_missing() {
                    let missing = of.keep(Type::is_nullish).what();
                    let message = format!("the operation needs `{}`, which may be {missing} here", name.text);
                    walk.report.error("maybe-missing", node.at, message);
                    walk.report.help("say what to send instead: `?? …`, or test it first");
                }
                // Parameters are written as text; lists and objects only where they are asked for.
                let wanted = reader.read(&parameter.schema);
                let plain = wanted
                    .alternatives()
                    .iter()
                    .all(|one| matches!(one, Type::Text(_) | Type::Number(_) | Type::Bool(_)));
                let odd = of.keep(|one| matches!(one, Type::List(_) | Type::Object(_)));
                if plain && wanted != Type::Never && odd != Type::Never {
                    let message =
                        format!("`{}` is {}, and the operation takes {}", name.text, odd.what(), wanted.what());
                    walk.report.error("wrong-argument", node.at, message);
                } else if wanted.alternatives().iter().all(|one| matches!(one, Type::Text(Text::One(_)))) {
                    // One of a few words.
                    let texts = of.keep(|one| matches!(one, Type::Text(_)));
                    if let Some((_, why)) = contradiction(&texts, &wanted) {
                        walk.report.error("wrong-argument", node.at, format!("`{}`: {why}", name.text));
                    }
                }
            }
            None => members.set(name.text.as_str().into(), of.clone(), false),
        }
    }
    let given = match (body, members.members.is_empty()) {
        (Some(body), _) => body.clone(),
        (None, false) => Type::Object(members.into()),
        (None, true) => {
            if operation.body_required
                && call.send.iter().all(|(name, _)| operation.parameters.iter().any(|p| p.name == name.text))
            {
                let at = target_place(call);
                walk.report.error("missing-parameter", at, "the operation needs a body, which is not sent");
                walk.report.help("set its members under `send`, or all of it under `body`");
            }
            return;
        }
    };
    // Forms and multipart bodies are text in the end, as parameters are.
    let json = matches!(call.encoding.or(operation.encoding), None | Some(Encoding::Json));
    if let Some((pointer, why)) = wanted_body.filter(|_| json).and_then(|wanted| contradiction(&given, &wanted)) {
        let first = pointer.split('/').nth(1).unwrap_or_default();
        let node = call.send.iter().find(|(name, _)| name.text == first).map(|(_, node)| node.at);
        let at = node.or(call.body.as_ref().map(|body| body.at)).unwrap_or_else(|| target_place(call));
        let what = if pointer.is_empty() { "the body".to_owned() } else { format!("`{pointer}` of the body") };
        walk.report.error("wrong-argument", at, format!("{what}: {why}"));
    }
}

fn target_place(call: &Call) -> Place {
    match &call.target {
        Target::Operation { at, .. } | Target::Url { at, .. } => *at,
    }
}

/// The type of a call's result: one form for each status that is accepted and described.
pub(super) fn result(walk: &Walk, call: &Call) -> Type {
    let one = |status: Type, body: Type| {
        Type::object([("status", status), ("body", body), ("headers", Type::record(Type::TEXT))])
    };
    let accept = if call.accept.is_empty() { vec![(200, 299)] } else { call.accept.clone() };
    let single = |range: &(u16, u16)| if range.0 == range.1 { Type::number(range.0.into()) } else { Type::NUMBER };
    let unknown = || Type::union(accept.iter().map(|range| one(single(range), Type::Unknown)));
    let Target::Operation { service, operation, .. } = &call.target else { return unknown() };
    let found = walk.services.get(service).and_then(|s| Some((s, s.operations.get(operation)?)));
    let Some((service, operation)) = found else { return Type::Unknown };
    if operation.responses.is_empty() {
        return unknown();
    }
    let mut reader = Reader::new(&service.api);
    let mut forms = Vec::new();
    for range in &accept {
        let described: Vec<&Response> = operation
            .responses
            .iter()
            .filter(|r| r.statuses().is_some_and(|(from, to)| from <= range.1 && range.0 <= to))
            .collect();
        let otherwise = operation.responses.iter().find(|r| r.status == "default");
        match (described.is_empty(), otherwise) {
            (false, _) => forms.extend(described.into_iter().map(|response| {
                let status = match response.statuses() {
                    Some((from, to)) if from == to => Type::number(from.into()),
                    _ => single(range),
                };
                one(status, body(&mut reader, response))
            })),
            (true, Some(response)) => forms.push(one(single(range), body(&mut reader, response))),
            (true, None) => forms.push(one(single(range), Type::Unknown)),
        }
    }
    Type::union(forms)
}

/// The type of an answer's body, as the machine reads it by its media type.
fn body<'d>(reader: &mut Reader<'d>, response: &'d Response) -> Type {
    if response.content.is_empty() {
        return Type::Null;
    }
    Type::union(
        response
            .content
            .iter()
            .map(|(media, schema)| match media.as_str() {
                "*/*" => Type::Unknown,
                media if media.contains("json") => reader.read(schema),
                "text/csv" => Type::list(Type::record(Type::TEXT)),
                media if media.starts_with("text/") || media.ends_with("xml") => Type::TEXT,
                media => Type::file(if media.contains('*') { Type::TEXT } else { Type::text(media) }),
            })
            .collect::<Vec<_>>(),
    )
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
