//! `call`: a request to a workflow's endpoint, as a client would send it.

use kanzlei_api::workflows::{Input, Status, Workflow};
use kanzlei_model::run::HEADER;
use serde_json::{Map, Value as Json};

use super::{form, segment};
use crate::api::{Api, agent};
use crate::{Done, Error, draw};

/// Inputs from `KEY=VALUE`, by the types that are declared.
pub fn values(declared: &[Input], inputs: &[String]) -> Result<Map<String, Json>, Error> {
    let mut given = Map::new();
    for input in inputs {
        let Some((key, value)) = input.split_once('=') else {
            return Err(Error::Usage(format!("`{input}` is not KEY=VALUE")));
        };
        given.insert(key.to_owned(), typed(declared, key, value));
    }
    Ok(given)
}

/// How a request is sent and its answer shown.
pub struct How<'a> {
    /// The key of the caller.
    pub key: Option<&'a str>,
    /// Whether the headers of the answer are printed.
    pub headers: bool,
    /// Whether the line of curl is printed instead.
    pub curl: bool,
    /// Where the body of the answer is written.
    pub output: Option<&'a std::path::Path>,
    pub json: bool,
}

pub fn call(api: &Api, name: &str, inputs: &[String], how: &How) -> Done {
    let &How { key, headers, curl, output, json } = how;
    let workflow: Workflow = api.get(&format!("/workflows/{}", segment(name)))?;
    let Some(endpoint) = workflow.endpoints.iter().find(|endpoint| endpoint.proof.is_none()) else {
        let hint = match workflow.endpoints.first() {
            Some(_) => format!("; it has a webhook: kanzlei send-webhook {name} --body FILE"),
            None => String::new(),
        };
        return Err(Error::Failed(format!("`{name}` has no endpoint{hint}")));
    };
    let (url, method) = (endpoint.reach.as_str(), endpoint.method.as_str());
    let mut given = Map::new();
    let (inputs, files) = form::files_of(inputs);
    given.extend(values(&workflow.input, &inputs)?);
    let mut url = url.to_owned();
    for part in url.clone().split('/').filter_map(|part| part.strip_prefix('{')?.strip_suffix('}').map(str::to_owned)) {
        let Some(value) = given.shift_remove(&part) else {
            return Err(Error::Usage(format!("the path needs `{part}`: add {part}=…")));
        };
        url = url.replace(&format!("{{{part}}}"), &segment(&plain(&value)));
    }
    let bodyless = matches!(method, "GET" | "HEAD" | "DELETE");
    if bodyless && !given.is_empty() {
        let query: Vec<String> =
            given.iter().map(|(key, value)| format!("{}={}", segment(key), segment(&plain(value)))).collect();
        url.push_str(&format!("?{}", query.join("&")));
    }
    if bodyless && !files.is_empty() {
        return Err(Error::Usage(format!("`{method}` sends no files; they come in a body")));
    }
    if curl {
        let quoted = |text: &str| format!("'{}'", text.replace('\'', r"'\''"));
        let data = match files.is_empty() {
            true if bodyless => String::new(),
            true => format!(" --json {}", quoted(&Json::Object(given).to_string())),
            false => {
                let fields = given.iter().map(|(name, value)| format!("{name}={}", plain(value)));
                let fields = fields.chain(files.iter().map(|(name, path)| format!("{name}=@{path}")));
                fields.map(|field| format!(" -F {}", quoted(&field))).collect()
            }
        };
        let key = key.map(|key| format!(" -H 'Authorization: Bearer {key}'")).unwrap_or_default();
        let host = endpoint.host.as_ref().map(|host| format!(" -H 'Host: {host}'")).unwrap_or_default();
        println!("curl -sS -X {method} '{url}'{host}{key}{data}");
        return Ok(());
    }
    let body = match (bodyless, files.is_empty()) {
        (true, _) => form::Body { bytes: Box::new(std::io::empty()), size: 0, media: "application/json".to_owned() },
        (false, true) => {
            let text = Json::Object(given).to_string();
            let size = text.len() as u64;
            form::Body { bytes: Box::new(std::io::Cursor::new(text)), size, media: "application/json".to_owned() }
        }
        (false, false) => form::multipart(&given, &files)?,
    };
    let mut request = ureq::http::Request::builder().method(method).uri(&url).header("content-type", &body.media);
    if !bodyless {
        request = request.header("content-length", body.size);
    }
    if let Some(host) = &endpoint.host {
        request = request.header("host", host);
    }
    if let Some(key) = key {
        request = request.header("authorization", format!("Bearer {key}"));
    }
    let request = request
        .body(ureq::SendBody::from_owned_reader(body.bytes))
        .map_err(|error| Error::Usage(format!("`{url}` is not a valid address: {error}")))?;
    let unavailable = |error: ureq::Error| Error::Unavailable(format!("{url} does not answer: {error}"));
    let mut response = agent().run(request).map_err(unavailable)?;
    let status = response.status();
    let run_header = match response.headers().contains_key(HEADER) {
        true => HEADER.to_owned(),
        false => run_header(api),
    };
    let run = response.headers().get(run_header.as_str()).and_then(|v| v.to_str().ok()).map(str::to_owned);
    let shown: Vec<(String, String)> = response
        .headers()
        .iter()
        .map(|(name, value)| (name.to_string(), String::from_utf8_lossy(value.as_bytes()).into_owned()))
        .collect();
    if let Some(path) = output.filter(|_| status.is_success()) {
        let failed = |error: std::io::Error| Error::Failed(format!("{}: {error}", path.display()));
        let mut file = std::fs::File::create(path).map_err(failed)?;
        let size = std::io::copy(&mut response.body_mut().as_reader(), &mut file).map_err(failed)?;
        println!("{} has {size} bytes", path.display());
        return Ok(());
    }
    let bytes = response.body_mut().with_config().limit(256 << 20).read_to_vec().map_err(unavailable)?;
    let Ok(text) = String::from_utf8(bytes) else {
        let named = |name: &str| shown.iter().find(|(known, _)| known == name).map_or("", |(_, value)| value);
        let (media, size) = (named("content-type"), named("content-length"));
        println!("{} {media}, {size} bytes; write it to a file with --output FILE", status.as_u16());
        return if status.is_success() { Ok(()) } else { Err(Error::Bad) };
    };
    if json {
        let body: Json = serde_json::from_str(&text).unwrap_or(Json::String(text));
        super::print_json(
            &serde_json::json!({"status": status.as_u16(), "headers": shown.into_iter().collect::<std::collections::BTreeMap<_, _>>(), "body": body, "run": run}),
        );
    } else {
        let code = if status.is_success() { "32" } else { "31" };
        println!(
            "{}",
            draw::paint(code, &format!("{} {}", status.as_u16(), status.canonical_reason().unwrap_or_default()))
        );
        if headers {
            shown.iter().for_each(|(name, value)| println!("{}: {value}", draw::dim(name)));
        }
        match serde_json::from_str::<Json>(&text) {
            Ok(json) => println!("{}", serde_json::to_string_pretty(&json).unwrap_or(text)),
            Err(_) if text.is_empty() => {}
            Err(_) => println!("{text}"),
        }
        if let Some(run) = run {
            println!("{}", draw::dim(&format!("what happened: kanzlei run {run}")));
        }
    }
    if status.is_success() { Ok(()) } else { Err(Error::Bad) }
}

/// The header field in which the service answers the id of a run, in lower case; the usual one where it has none or does not say.
pub fn run_header(api: &Api) -> String {
    let named = api.get("/status").map(|status: Status| status.run_header.to_lowercase());
    named.ok().filter(|name| !name.is_empty()).unwrap_or_else(|| HEADER.to_owned())
}

/// A value as the input's schema wants it: text stays text, anything else is read as JSON.
fn typed(inputs: &[Input], key: &str, value: &str) -> Json {
    super::settings::typed(inputs.iter().find(|input| input.name == key).map(|input| &input.schema), value)
}

/// A value in a path or query.
fn plain(value: &Json) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn values_follow_the_schema() {
        let input = |name: &str, of: &str| Input {
            name: name.into(),
            schema: json!({"type": of}),
            required: true,
            secret: false,
        };
        let inputs = [input("imo", "string"), input("nights", "integer")];
        for (key, value, wanted) in [
            ("imo", "9074720", json!("9074720")),
            ("nights", "2", json!(2)),
            ("nights", "two", json!("two")),
            ("tags", "[1,2]", json!([1, 2])),
            ("other", "true", json!(true)),
        ] {
            assert_eq!(typed(&inputs, key, value), wanted, "{key}={value}");
        }
        assert_eq!((plain(&json!("a b")), plain(&json!(2.5))), ("a b".into(), "2.5".into()));
    }
}
