//! The beginning of a workflow: a document from its purpose, how it is entered, and an example of what it takes in.
//!
//! ```
//! use kanzlei_analysis::begin::{Beginning, begin};
//! let wanted = Beginning {
//!     name: "berth-quote".into(),
//!     example: "curl -X POST http://127.0.0.1:7080/quotes --json '{\"nights\": 2}'".into(),
//!     ..Beginning::default()
//! };
//! let begun = begin(&wanted).unwrap();
//! assert_eq!(begun.endpoint, "POST /quotes");
//! assert!(begun.text.contains("  nights: {type: integer, examples: [2]}\n"), "{}", begun.text);
//! ```

use std::fmt::Write;

use kanzlei_compiler::input::{decoded, form_pairs};
use kanzlei_lang::document::change::Operation;
use kanzlei_lang::document::reader::{is_document_name, is_identifier};
use kanzlei_lang::document::yaml::{flow, quoted};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json, json};

use crate::propose::propose;
use crate::sample::schema_of;

/// What a new workflow is to be.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Beginning {
    /// Its name.
    pub name: String,
    /// What it is for.
    pub about: String,
    /// Method and path of an endpoint: `POST /quotes`; empty for none, or for that of the example.
    pub endpoint: String,
    /// The path of a webhook: `/from/customs`; empty for none.
    pub webhook: String,
    /// A table whose changed rows begin it.
    pub change: Option<Changed>,
    /// The pattern of a timetable: `0 2 * * *`; empty for none.
    pub timetable: String,
    /// The time zone of the pattern.
    pub zone: String,
    /// What goes in: a JSON object, or a request as a line of curl; empty for nothing.
    pub example: String,
}

/// A table whose changed rows begin a workflow.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Changed {
    /// The table.
    pub table: String,
    /// The database, as `sql` steps name it.
    pub database: String,
    /// What must happen to a row: `insert`, `update`, `delete`; empty for all of them.
    pub of: Vec<String>,
}

/// A workflow that is begun.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Begun {
    /// Its document.
    pub text: String,
    /// Method and path, where it has an endpoint.
    pub endpoint: String,
    /// Its inputs: JSON Schema by name.
    pub input: Json,
}

/// A request that was pasted.
#[derive(Debug, Default, PartialEq)]
struct Request {
    method: String,
    path: String,
    /// Where each input comes from: the query, or the body.
    query: Map<String, Json>,
    body: Map<String, Json>,
}

/// Makes the document; an error says what of the example cannot be read.
pub fn begin(wanted: &Beginning) -> Result<Begun, String> {
    if !is_document_name(&wanted.name) {
        return Err(format!(
            "`{}` cannot be the name of a workflow: lower-case letters, digits and hyphens, beginning with a letter",
            wanted.name
        ));
    }
    let request = read(wanted.example.trim())?;
    if !wanted.webhook.trim().is_empty() {
        return Ok(receives(wanted, &request.body));
    }
    let endpoint = match (wanted.endpoint.trim(), request.path.as_str()) {
        (endpoint, _) if !endpoint.is_empty() => endpoint.to_owned(),
        (_, path) if !path.is_empty() && wanted.timetable.is_empty() && wanted.change.is_none() => {
            format!("{} {path}", request.method)
        }
        _ => String::new(),
    };
    let by_query = ["GET ", "HEAD ", "DELETE "].iter().any(|method| endpoint.starts_with(method));
    let mut samples: Map<String, Json> = Map::new();
    for name in endpoint.split('{').skip(1).filter_map(|part| part.split_once('}')).map(|(name, _)| name) {
        samples.insert(name.to_owned(), Json::String(String::new()));
    }
    samples.extend(request.query.clone());
    samples.extend(request.body.clone());

    let mut input = Map::new();
    let mut from: Vec<String> = Vec::new();
    for (name, value) in &samples {
        let identifier = name_of(name);
        let mut schema = match value {
            Json::Null => json!({"type": "string", "optional": true}),
            value => schema_of(std::slice::from_ref(value)),
        };
        if !matches!(value, Json::Null | Json::Object(_)) && *value != json!("") && *value != json!([]) {
            schema["examples"] = json!([value]);
        }
        if request.query.contains_key(name) && (!by_query || identifier != *name) {
            from.push(format!("{identifier}: {}", quoted(&format!("query.{name}"))));
        } else if request.body.contains_key(name) && identifier != *name {
            from.push(format!("{identifier}: {}", quoted(&format!("body.{name}"))));
        }
        input.insert(identifier, schema);
    }
    let mut text = format!("workflow: {}\n", wanted.name);
    if !wanted.about.trim().is_empty() {
        let _ = writeln!(text, "about: {}", quoted(wanted.about.trim()));
    }
    if !input.is_empty() {
        text.push_str("\ninput:\n");
        for (name, schema) in &input {
            let _ = writeln!(text, "  {name}: {}", flow(schema));
        }
    }
    if !endpoint.is_empty() {
        let _ = write!(text, "\nentries:\n  - endpoint: {}\n    access: open\n", plain(&endpoint));
        if !from.is_empty() {
            let _ = writeln!(text, "    from: {{{}}}", from.join(", "));
        }
    } else if let Some(change) = &wanted.change {
        // Columns of the row are the inputs of the same name.
        let _ = write!(
            text,
            "\nentries:\n  - change: {}\n    database: {}\n",
            quoted(change.table.trim()),
            quoted(change.database.trim())
        );
        if !change.of.is_empty() && change.of.len() < Operation::ALL.len() {
            let _ = writeln!(text, "    of: {}", flow(&json!(change.of)));
        }
    } else if !wanted.timetable.trim().is_empty() {
        let _ =
            write!(text, "\nentries:\n  - timetable: {}\n", flow(&Json::String(wanted.timetable.trim().to_owned())));
        if !wanted.zone.trim().is_empty() {
            let _ = writeln!(text, "    zone: {}", quoted(wanted.zone.trim()));
        }
    }
    text.push_str("\nsteps: []\n");
    Ok(Begun { text, endpoint, input: Json::Object(input) })
}

/// The document of a workflow that receives messages such as the example.
fn receives(wanted: &Beginning, example: &Map<String, Json>) -> Begun {
    let path = format!("/{}", wanted.webhook.trim().trim_start_matches('/'));
    let bodies = if example.is_empty() { Vec::new() } else { vec![Json::Object(example.clone())] };
    let proposed = propose(&bodies);
    let lines = |text: &str, by: &str| text.lines().map(|line| format!("{by}{line}\n")).collect::<String>();
    let mut text = format!("workflow: {}\n", wanted.name);
    if !wanted.about.trim().is_empty() {
        let _ = writeln!(text, "about: {}", quoted(wanted.about.trim()));
    }
    if !proposed.input.is_empty() {
        let _ = write!(text, "\ninput:\n{}", lines(&proposed.input, "  "));
    }
    let _ = write!(text, "\nentries:\n  - webhook: {}\n    proof: none\n", plain(&path));
    if !proposed.send.is_empty() {
        let _ = write!(text, "    send:\n{}", lines(&proposed.send, "      "));
    }
    text.push_str("\nsteps: []\n");
    let input = proposed.inputs.into_iter().map(|(name, schema, _)| (name, schema));
    Begun { text, endpoint: format!("POST {path}"), input: Json::Object(input.collect()) }
}

/// A method and path as a scalar in block layout, where braces need no quotes.
fn plain(endpoint: &str) -> String {
    match endpoint.contains(": ") || endpoint.contains(" #") || endpoint.ends_with(':') {
        true => Json::String(endpoint.to_owned()).to_string(),
        false => endpoint.to_owned(),
    }
}

/// A name that expressions can read.
pub(crate) fn name_of(name: &str) -> String {
    if is_identifier(name) {
        return name.to_owned();
    }
    let mut out: String = name.chars().map(|c| if c.is_ascii_alphanumeric() || c == '_' { c } else { '_' }).collect();
    if !out.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_') {
        out.insert(0, '_');
    }
    out
}

fn read(example: &str) -> Result<Request, String> {
    if example.is_empty() {
        return Ok(Request::default());
    }
    if !example.starts_with("curl ") {
        return Ok(Request { body: members(example)?, ..Request::default() });
    }
    curl(example)
}

fn members(text: &str) -> Result<Map<String, Json>, String> {
    match serde_json::from_str(text) {
        Ok(Json::Object(members)) => Ok(members),
        Ok(_) => Err("the example is no JSON object; its members become the inputs".into()),
        Err(error) => Err(format!("the example is neither JSON nor a line of curl: {error}")),
    }
}

/// Reads a line of curl: method, path, query and body.
fn curl(line: &str) -> Result<Request, String> {
    let joined = line.replace("\\\r\n", " ").replace("\\\n", " ");
    let words = shell_words::split(&joined).map_err(|error| format!("the line of curl cannot be read: {error}"))?;
    let (mut method, mut url, mut data, mut in_query) = (None, None, Vec::new(), false);
    let mut words = words.into_iter().skip(1);
    while let Some(word) = words.next() {
        let (name, own) = match word.split_once('=') {
            Some((name, value)) if name.starts_with("--") => (name.to_owned(), Some(value.to_owned())),
            _ => (word, None),
        };
        let mut value = || own.clone().or_else(|| words.next()).unwrap_or_default();
        match name.as_str() {
            "-X" | "--request" => method = Some(value().to_uppercase()),
            "-d" | "--data" | "--data-raw" | "--data-binary" | "--data-ascii" | "--json" | "--data-urlencode" => {
                data.push(value())
            }
            "-G" | "--get" => in_query = true,
            "--url" => url = Some(value()),
            "-H" | "--header" | "-u" | "--user" | "-A" | "--user-agent" | "-e" | "--referer" | "-b" | "--cookie"
            | "-o" | "--output" | "-m" | "--max-time" | "--connect-timeout" | "-x" | "--proxy" | "--cacert" | "-E"
            | "--cert" | "--retry" | "-F" | "--form" | "-w" | "--write-out" => {
                value();
            }
            name if name.starts_with('-') => {}
            _ => url = url.or(Some(name)),
        }
    }
    let url = url.ok_or("the line of curl has no address")?;
    let behind = url.split_once("://").map_or(url.as_str(), |(_, rest)| rest);
    let from_path = behind.find('/').map_or("/", |at| &behind[at..]);
    let (path, query) = from_path.split_once('?').unwrap_or((from_path, ""));
    let path = decoded(path.split('#').next().unwrap_or_default());
    let text = |pairs: Vec<(String, String)>| -> Map<String, Json> {
        pairs.into_iter().map(|(name, value)| (name, scalar(&value))).collect()
    };
    let mut query = text(form_pairs(query.as_bytes()));
    let body = data.join("&");
    let mut members_of_body = Map::new();
    if in_query {
        query.extend(text(form_pairs(body.as_bytes())));
    } else if body.trim_start().starts_with('{') {
        members_of_body = members(&body)?;
    } else if !body.is_empty() {
        members_of_body = text(form_pairs(body.as_bytes()));
    }
    let by_body = if body.is_empty() || in_query { "GET" } else { "POST" };
    Ok(Request { method: method.unwrap_or_else(|| by_body.into()), path, query, body: members_of_body })
}

/// A value of a query or form: a number or boolean where it reads as one.
fn scalar(text: &str) -> Json {
    match serde_json::from_str(text) {
        Ok(value @ (Json::Number(_) | Json::Bool(_))) if !text.starts_with('0') || text.len() == 1 => value,
        _ => Json::String(text.to_owned()),
    }
}
