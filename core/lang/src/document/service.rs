//! Documents of kind `service`: an outside HTTP API, with the operations of its OpenAPI document.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use serde_json::Value as Json;

use super::credentials::{self, Credentials, Tls};
use super::hosts::{self, HOST, Hosts};
use super::reader::{KeySpec, Members, Named, constant, is_document_name};
use super::step::Encoding;
use super::values::{MAX_WITHIN, METHODS};
use super::yaml::{self, Node};
use crate::diagnostic::Report;

/// A service document.
#[derive(Clone, Debug)]
pub struct Service {
    /// The name of the service.
    pub name: Named,
    /// What it does, in the author's words.
    pub about: String,
    /// Absolute base address without a slash at the end.
    pub base: String,
    /// The hosts that it may be at, where its base has `{host}` in place of one.
    pub hosts: Option<Hosts>,
    /// `network: private`: private and link-local addresses may be called.
    pub private: bool,
    /// Whether it honours `Idempotency-Key`, so that any call may be retried.
    pub idempotency_key: bool,
    /// Ids of operations that may be repeated without harm, whatever their method.
    pub safe: Vec<String>,
    /// Default timeout of a call.
    pub within: Option<Duration>,
    /// The credentials of each call.
    pub credentials: Option<Credentials>,
    /// The certificates of its connections.
    pub tls: Option<Tls>,
    /// Headers sent with every call, unless the call sets them.
    pub headers: Vec<(String, String)>,
    /// The most calls under way at the same time.
    pub at_once: Option<u32>,
    /// The most calls in an interval, spread evenly.
    pub pace: Option<(u32, Duration)>,
    /// Whether its limits hold over all processes together; else for each process.
    pub shared: bool,
    /// Operations of its OpenAPI document, by id.
    pub operations: BTreeMap<String, Operation>,
    /// The whole OpenAPI document, for the references in its schemas.
    pub api: Arc<Json>,
}

impl Service {
    /// The names of the secrets that its calls need.
    pub fn secrets(&self) -> impl Iterator<Item = &Named> {
        let certificate = self.tls.as_ref().and_then(|tls| tls.certificate.as_ref());
        self.credentials.iter().map(Credentials::secret).chain(certificate)
    }

    /// The service that issues the tokens of its calls.
    pub fn issuer(&self) -> Option<&Named> {
        Some(&self.credentials.as_ref()?.oauth()?.from)
    }
}

/// One operation of the OpenAPI document.
#[derive(Clone, Debug, PartialEq)]
pub struct Operation {
    /// HTTP method.
    pub method: String,
    /// Path template, as in OpenAPI.
    pub path: String,
    /// Its summary.
    pub about: String,
    /// Its parameters.
    pub parameters: Vec<Parameter>,
    /// Whether it accepts a body.
    pub takes_body: bool,
    /// The schema of its body.
    pub body: Option<Json>,
    /// Whether the body is required.
    pub body_required: bool,
    /// Its responses.
    pub responses: Vec<Response>,
    /// How its body is written, where that is not JSON or text by the value.
    pub encoding: Option<Encoding>,
}

/// A parameter of an operation.
#[derive(Clone, Debug, PartialEq)]
pub struct Parameter {
    /// The name of the parameter.
    pub name: String,
    /// Where it stands in a request.
    pub within: In,
    /// Whether it is required.
    pub required: bool,
    /// Whether its schema is an array.
    pub list: bool,
    /// Its JSON Schema.
    pub schema: Json,
}

/// What an operation answers with.
#[derive(Clone, Debug, PartialEq)]
pub struct Response {
    /// `200`, `2XX` or `default`.
    pub status: String,
    /// Media types and schemas; none for an answer without a body.
    pub content: Vec<(String, Json)>,
    /// An example of the body.
    pub example: Option<Json>,
}

impl Response {
    /// The statuses it describes, both ends included; `default` is for those that no other describes.
    pub fn statuses(&self) -> Option<(u16, u16)> {
        match self.status.parse() {
            Ok(status) => Some((status, status)),
            Err(_) => {
                let class = self.status.strip_suffix("XX").or_else(|| self.status.strip_suffix("xx"))?;
                let class = class.parse().ok().filter(|class| (1..=5).contains(class));
                class.map(|class: u16| (class * 100, class * 100 + 99))
            }
        }
    }
}

/// Where a parameter stands in a request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum In {
    /// In the path.
    Path,
    /// In the query.
    Query,
    /// In a header field.
    Header,
}

/// Keys of a service document.
pub const SERVICE: &[KeySpec] = &[
    KeySpec {
        name: "service",
        about: "The name of the service.",
        schema: r#"{"type":"string","pattern":"^[a-z][a-z0-9-]*$"}"#,
    },
    KeySpec { name: "about", about: "What it is for, in a sentence.", schema: r#"{"type":"string"}"# },
    KeySpec {
        name: "base",
        about: "Its base address: `https://registry.example/v1`.",
        schema: r#"{"type":"string","format":"uri"}"#,
    },
    KeySpec {
        name: "hosts",
        about: "Where the base has `{host}` in place of a host, which each call sends: `any`, or names, with `*.` in front for all below one: `[\"*.lindvik.example\"]`. Only public addresses are called.",
        schema: r#"{"oneOf":[{"enum":["any"]},{"type":"array","items":{"type":"string"}}]}"#,
    },
    KeySpec {
        name: "openapi",
        about: "The file with its OpenAPI document, relative to this one.",
        schema: r#"{"type":"string"}"#,
    },
    KeySpec {
        name: "network",
        about: "`private` lets calls reach private and link-local addresses; default: `public`.",
        schema: r#"{"enum":["public","private"]}"#,
    },
    KeySpec {
        name: "idempotency_key",
        about: "Whether it honours `Idempotency-Key`, so that any call may be retried.",
        schema: r#"{"type":"boolean"}"#,
    },
    KeySpec {
        name: "safe",
        about: "Operations that may be repeated without harm, so that calls of them may be retried: `[searchVessels]`.",
        schema: r#"{"type":"array","items":{"type":"string"}}"#,
    },
    KeySpec { name: "within", about: "How long one attempt may take by default.", schema: r#"{"type":"string"}"# },
    KeySpec {
        name: "credentials",
        about: "How it knows who calls, by names of secrets: `{bearer: rates-token}`, `{basic: {user: office, password: tides-password}}`, `{header: {name: X-Api-Key, value: rates-key}}`, `{query: {name: key, value: rates-key}}`; or `{oauth: {from: identity, client: harbour-office, secret: identity-client}}`.",
        schema: r##"{"$ref":"#/$defs/credentials"}"##,
    },
    KeySpec {
        name: "tls",
        about: "The certificates of its connections: `{certificate: office-certificate}`, a secret with the caller's certificate and key.",
        schema: r##"{"$ref":"#/$defs/tls"}"##,
    },
    KeySpec {
        name: "headers",
        about: "Headers sent with every call, unless the call sets them.",
        schema: r#"{"type":"object","additionalProperties":{"type":"string"}}"#,
    },
    KeySpec {
        name: "limits",
        about: "`at_once`: the most calls at the same time; `pace: 10/s`: the most calls in an interval, spread evenly; `shared: true`: over all processes.",
        schema: r##"{"$ref":"#/$defs/limits"}"##,
    },
];

/// Keys of a service's `limits`.
pub const SERVICE_LIMITS: &[KeySpec] = &[
    KeySpec { name: "at_once", about: "The most calls at the same time.", schema: r#"{"type":"integer"}"# },
    KeySpec { name: "pace", about: "The most calls in an interval: `10/s`.", schema: r#"{"type":"string"}"# },
    KeySpec {
        name: "shared",
        about: "Whether they hold over all processes of the installation; default: for each process.",
        schema: r#"{"type":"boolean"}"#,
    },
];

/// A pace such as `10/s`, `100/min` or `5/2s`.
/// Reads a pace, a count and an interval such as `30/min`.
pub fn pace_of(text: &str) -> Option<(u32, Duration)> {
    let (count, span) = text.split_once('/')?;
    let span = span.trim();
    let span = if span.starts_with(|c: char| c.is_ascii_digit()) { span.to_owned() } else { format!("1{span}") };
    let count: u32 = count.trim().parse().ok().filter(|count| (1..=100_000).contains(count))?;
    kanzlei_model::duration::parse(&span).ok().filter(|span| !span.is_zero()).map(|span| (count, span))
}

pub(super) fn pace(named: &Named, report: &mut Report) -> Option<(u32, Duration)> {
    let found = pace_of(&named.text);
    if found.is_none() {
        report.error("wrong-value", named.at, "a pace is a count and an interval, such as `10/s` or `100/min`");
    }
    found
}

/// The file a service document names for its OpenAPI document, without reading the rest.
pub fn openapi_file(root: &Node) -> Option<&str> {
    root.get("service")?;
    root.get("openapi")?.as_text()
}

/// Reads a service; `file` returns the text of a file named relative to the document.
pub fn read(root: &Node, file: &dyn Fn(&str) -> Option<String>, report: &mut Report) -> Option<Service> {
    let members = Members::new(root, "a service", &[SERVICE], report)?;
    let name = members.text("service", report)?;
    if !is_document_name(&name.text) {
        report.error("bad-name", name.at, format!("`{}` cannot be the name of a service", name.text));
        report.help("lower-case letters, digits and hyphens, beginning with a letter");
    }
    let about = members.text("about", report).map(|n| n.text).unwrap_or_default();
    let base = match members.constant_text("base", report) {
        Some(base) => match valid_base(&base.text) {
            Ok(valid) => valid,
            Err(why) => {
                report.error("wrong-value", base.at, why);
                String::new()
            }
        },
        None => {
            if members.get("base").is_none() {
                report.error("missing-key", name.at, "a service needs `base`, its base address");
            }
            String::new()
        }
    };
    let private = match members.text("network", report) {
        None => false,
        Some(network) if network.text == "private" => true,
        Some(network) => {
            if network.text != "public" {
                report.error("wrong-value", network.at, "`network` is `public` or `private`");
            }
            false
        }
    };
    let hosts = hosts::read(&members, report);
    let templated = base.contains(HOST);
    if let (Some((key, _)), false) = (members.entry("hosts"), templated || base.is_empty()) {
        report.error("wrong-value", key.at, format!("`hosts` goes with a base that has `{HOST}` in place of a host"));
        report.help(format!("write `base: \"https://{HOST}\"`"));
    }
    if templated && members.get("hosts").is_none() {
        report.error("missing-key", name.at, "a base without a host needs `hosts`, those that may be called");
        report.help("`hosts: any`, or a list of names such as `[\"*.lindvik.example\"]`");
    }
    if let (true, true, Some((key, _))) = (templated, private, members.entry("network")) {
        report.error("wrong-value", key.at, "whatever host is named, only public addresses are called");
    }
    if let (true, Some((key, _))) = (templated, members.entry("credentials").or_else(|| members.entry("tls"))) {
        report.error("wrong-value", key.at, "credentials would go to whatever host is named");
        report.help("declare a service of its own for the host that knows them");
    }
    let (operations, api) = match members.text("openapi", report) {
        None => Default::default(),
        Some(path) => match file(&path.text) {
            Some(text) => operations(&path, &text, report),
            None => {
                report.error("missing-file", path.at, format!("there is no file `{}` beside this document", path.text));
                Default::default()
            }
        },
    };
    let idempotency_key = members.boolean("idempotency_key", report);
    let safe = safe(&members, &operations, report);
    let within = members.duration("within", MAX_WITHIN, report);
    let credentials = members.get("credentials").and_then(|node| credentials::read(node, report));
    let tls = members.get("tls").and_then(|node| credentials::tls(node, report));
    if let (Some(_), Some(node), true) = (&tls, members.get("tls"), base.starts_with("http://")) {
        report.error("wrong-value", node.at, format!("`{base}` has no TLS"));
        report.help("`tls` belongs to a base that begins with `https://`");
    }
    let mut headers = Vec::new();
    for (name, node) in members.mapping("headers", report) {
        let Some(node) = constant(node, report) else { continue };
        match node.as_text() {
            Some(text) if super::step::is_header_name(&name.text) => headers.push((name.text, text.to_owned())),
            Some(_) => {
                report.error("bad-name", name.at, format!("`{}` cannot be the name of a header", name.text));
            }
            None => {
                report.error("wrong-type", node.at, format!("a header is text, not {}", node.what()));
            }
        }
    }
    let limits = members.get("limits").and_then(|node| Members::new(node, "`limits`", &[SERVICE_LIMITS], report));
    let at_once = limits.as_ref().and_then(|limits| limits.integer("at_once", 1, 10_000, report)).map(|n| n as u32);
    let pace =
        limits.as_ref().and_then(|limits| limits.constant_text("pace", report)).and_then(|text| pace(&text, report));
    let shared = limits.as_ref().is_some_and(|limits| limits.boolean("shared", report));
    if let (true, None, None, Some(limits)) = (shared, at_once, pace, &limits) {
        report.error("missing-key", limits.at, "`shared` needs limits to share: `at_once`, `pace` or both");
    }
    Some(Service {
        name,
        about,
        base,
        hosts,
        private,
        idempotency_key,
        safe,
        within,
        credentials,
        tls,
        headers,
        at_once,
        pace,
        shared,
        operations,
        api: Arc::new(api),
    })
}

/// The operations that `safe` names.
fn safe(members: &Members, operations: &BTreeMap<String, Operation>, report: &mut Report) -> Vec<String> {
    let mut out = Vec::new();
    for node in members.list("safe", report) {
        match node.as_text() {
            Some(id) if operations.contains_key(id) => out.push(id.to_owned()),
            Some(id) => {
                report.error("unknown-operation", node.at, format!("the service has no operation `{id}`"));
                if let Some(near) = crate::suggest::nearest(id, operations.keys().map(String::as_str)) {
                    report.did_you_mean(near);
                }
            }
            None => {
                let message = format!("`safe` is a list of operations by their ids, not {}", node.what());
                report.error("wrong-type", node.at, message);
            }
        }
    }
    out
}

/// A base address without a slash at the end, or why it is none.
pub fn valid_base(base: &str) -> Result<String, String> {
    let rest = base.strip_prefix("https://").or_else(|| base.strip_prefix("http://"));
    // A host that each call names stands for all of the authority.
    let named = rest.and_then(|rest| rest.strip_prefix(HOST)).filter(|rest| rest.is_empty() || rest.starts_with('/'));
    if named.is_some_and(|below| !below.contains(['?', '#', '{', ' ', '@'])) {
        return Ok(base.trim_end_matches('/').to_owned());
    }
    match rest {
        Some(rest)
            if !rest.is_empty() && !rest.starts_with(['/', ':', '?']) && !base.contains(['?', '#', '{', ' ', '@']) =>
        {
            Ok(base.trim_end_matches('/').to_owned())
        }
        _ => Err(format!("`{base}` is not a base address such as `https://registry.example/v1`")),
    }
}

/// The operations of an OpenAPI 3 document, by operationId.
fn operations(path: &Named, text: &str, report: &mut Report) -> (BTreeMap<String, Operation>, Json) {
    let mut inner = Report::new(&path.text, text);
    let Some(root) = yaml::parse(&mut inner) else {
        let why =
            inner.finish().into_iter().next().map(|d| format!("{} (line {})", d.message, d.line)).unwrap_or_default();
        report.error("openapi", path.at, format!("`{}` cannot be read: {why}", path.text));
        return Default::default();
    };
    if !root.get("openapi").and_then(Node::as_text).is_some_and(|version| version.starts_with("3.")) {
        report.error("openapi", path.at, format!("`{}` is not an OpenAPI 3 document", path.text));
        return Default::default();
    }
    let mut found = BTreeMap::new();
    let paths = root.get("paths").and_then(Node::as_map).unwrap_or_default();
    for (template, item) in paths {
        for (method, operation) in item.as_map().unwrap_or_default() {
            let upper = method.name.to_uppercase();
            if !METHODS.contains(&upper.as_str()) {
                continue;
            }
            let given = operation.get("operationId").and_then(Node::as_text).map(str::to_owned);
            let id = given.unwrap_or_else(|| made_id(&method.name, &template.name));
            let mut parameters = Vec::new();
            for list in [item.get("parameters"), operation.get("parameters")].into_iter().flatten() {
                let yaml::Kind::List(items) = &list.kind else { continue };
                parameters.extend(items.iter().filter_map(|item| parameter(resolve(&root, item))));
            }
            let text = |key| operation.get(key).and_then(Node::as_text).unwrap_or_default().to_owned();
            let content = operation
                .get("requestBody")
                .and_then(|body| resolve(&root, body).get("content"))
                .and_then(Node::as_map)
                .unwrap_or_default();
            let takes_body = !content.is_empty();
            let body_required = operation
                .get("requestBody")
                .map(|body| resolve(&root, body))
                .is_some_and(|body| matches!(body.get("required").map(|n| &n.kind), Some(yaml::Kind::Bool(true))));
            let preferred = content.iter().find(|(media, _)| media.name.contains("json")).or(content.first());
            let body =
                preferred.and_then(|(_, content)| content.get("schema")).map(|schema| schema.to_value().to_serde());
            let responses = operation.get("responses").and_then(Node::as_map).unwrap_or_default();
            let responses = responses.iter().map(|(status, node)| response(&root, &status.name, node)).collect();
            let takes = |part: &str| content.iter().any(|(media, _)| media.name.contains(part));
            let encoding = match () {
                _ if takes("json") => Some(Encoding::Json),
                _ if takes("x-www-form-urlencoded") => {
                    // OpenAPI's style for nested values in brackets.
                    let of_members = preferred.and_then(|(_, content)| content.get("encoding")).and_then(Node::as_map);
                    let deep = |node: &Node| node.get("style").and_then(Node::as_text) == Some("deepObject");
                    let brackets = of_members.unwrap_or_default().iter().any(|(_, node)| deep(node));
                    Some(if brackets { Encoding::Brackets } else { Encoding::Form })
                }
                _ if takes("multipart/form-data") => Some(Encoding::Multipart),
                _ => None,
            };
            let about = text("summary");
            let operation = Operation {
                method: upper,
                path: template.name.clone(),
                about,
                parameters,
                takes_body,
                body,
                body_required,
                responses,
                encoding,
            };
            if found.insert(id.clone(), operation).is_some() {
                report.error("openapi", path.at, format!("`{}` has the operation `{id}` twice", path.text));
            }
        }
    }
    if found.is_empty() {
        report.warning("openapi", path.at, format!("`{}` has no operation with an `operationId`", path.text));
    }
    (found, root.to_value().to_serde())
}

/// A name for an operation that has none: `getVesselsByImo` for `GET /vessels/{imo}`.
fn made_id(method: &str, path: &str) -> String {
    let mut id = method.to_lowercase();
    for part in path.split('/').filter(|part| !part.is_empty()) {
        let (by, name) = match part.strip_prefix('{').and_then(|p| p.strip_suffix('}')) {
            Some(name) => ("By", name),
            None => ("", part),
        };
        id.push_str(by);
        for word in name.split(|c: char| !c.is_ascii_alphanumeric()).filter(|word| !word.is_empty()) {
            let mut letters = word.chars();
            id.extend(letters.next().map(|first| first.to_ascii_uppercase()));
            id.push_str(letters.as_str());
        }
    }
    id
}

fn response(root: &Node, status: &str, node: &Node) -> Response {
    let content = resolve(root, node).get("content").and_then(Node::as_map).unwrap_or_default();
    let example = content.iter().find_map(|(_, content)| {
        let first = content.get("examples").and_then(Node::as_map).and_then(|all| all.first()?.1.get("value"));
        content.get("example").or(first).map(|example| example.to_value().to_serde())
    });
    let content = content
        .iter()
        .map(|(media, content)| {
            let schema = content.get("schema").map_or(Json::Bool(true), |schema| schema.to_value().to_serde());
            (media.name.clone(), schema)
        })
        .collect();
    Response { status: status.to_owned(), content, example }
}

fn parameter(node: &Node) -> Option<Parameter> {
    let within = match node.get("in")?.as_text()? {
        "path" => In::Path,
        "query" => In::Query,
        "header" => In::Header,
        _ => return None,
    };
    let required = matches!(node.get("required").map(|n| &n.kind), Some(yaml::Kind::Bool(true)));
    let list = node.get("schema").and_then(|s| s.get("type")).and_then(Node::as_text) == Some("array");
    let schema = node.get("schema").map_or(Json::Bool(true), |schema| schema.to_value().to_serde());
    Some(Parameter { name: node.get("name")?.as_text()?.to_owned(), within, required, list, schema })
}

/// Follows local references, at most eight in a row.
fn resolve<'n>(root: &'n Node, mut node: &'n Node) -> &'n Node {
    for _ in 0..8 {
        let Some(pointer) = node.get("$ref").and_then(Node::as_text).and_then(|r| r.strip_prefix("#/")) else { break };
        let target =
            pointer.split('/').try_fold(root, |node, part| node.get(&part.replace("~1", "/").replace("~0", "~")));
        match target {
            Some(target) => node = target,
            None => break,
        }
    }
    node
}

#[cfg(test)]
mod tests {
    use super::Response;

    #[test]
    fn an_answer_describes_a_status_or_a_class() {
        for (status, wanted) in [
            ("201", Some((201, 201))),
            ("2XX", Some((200, 299))),
            ("5xx", Some((500, 599))),
            ("default", None),
            ("XX", None),
            ("0XX", None),
            ("6XX", None),
            ("808XX", None),
        ] {
            let response = Response { status: status.into(), content: Vec::new(), example: None };
            assert_eq!(response.statuses(), wanted, "{status}");
        }
    }
}
