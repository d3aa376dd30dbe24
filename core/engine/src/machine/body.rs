//! Bodies: how a value is written into a request, and what an answer's bytes are as a value.
//!
//! A *file* is what an answer of any other media type than JSON, text or CSV becomes, and what a multipart body or a
//! reply sends as bytes again. Expressions see it as an object `{name, media, size, base64}`; an object that only looks
//! like one, as a client can send it, is no file.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;

use kanzlei_lang::document::step::Encoding;
use kanzlei_lang::expr::ops;
use kanzlei_model::value::{ObjectBuilder, Str, Value};

/// The bytes of a value that is a file, with media type and name.
pub fn file_bytes(value: &Value) -> Option<(String, Option<String>, Vec<u8>)> {
    if value.is_file() { described_bytes(value) } else { None }
}

/// The same of an object that describes a file, for stubs: what stands in a document of cases is meant.
pub fn described_bytes(value: &Value) -> Option<(String, Option<String>, Vec<u8>)> {
    let media = value.member("media")?.as_text()?;
    let bytes = STANDARD.decode(value.member("base64")?.as_text()?).ok()?;
    Some((media.to_owned(), value.member("name").and_then(Value::as_text).map(str::to_owned), bytes))
}

/// A file as a value; a media type that is none (RFC 9110 §8.3.1) becomes `application/octet-stream`.
pub fn file(media: &str, name: Option<&str>, bytes: &[u8]) -> Value {
    let token = |text: &str| {
        !text.is_empty() && text.bytes().all(|b| b.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(&b))
    };
    let valid = media.split_once('/').is_some_and(|(kind, of)| token(kind) && token(of));
    Value::object([
        ("name", name.map_or(Value::Null, Value::text)),
        ("media", Value::text(if valid { media } else { "application/octet-stream" })),
        ("size", Value::Int(bytes.len() as i64)),
        ("base64", Value::text(STANDARD.encode(bytes))),
    ])
    .into_file()
}

/// Writes a request body: its bytes and media type. `seed` makes the boundary of a multipart body.
pub(super) fn write(encoding: Option<Encoding>, body: &Value, seed: &str) -> (Vec<u8>, String) {
    let json = |body: &Value| (body.to_json().into_bytes(), "application/json".to_owned());
    let text = |body: &Value| (ops::to_text(body).as_bytes().to_vec(), "text/plain; charset=utf-8".to_owned());
    match encoding {
        Some(Encoding::Json) => json(body),
        Some(Encoding::Text) => text(body),
        Some(Encoding::Form) => (form(body).into_bytes(), "application/x-www-form-urlencoded".into()),
        Some(Encoding::Multipart) => multipart(body, seed),
        None => match file_bytes(body) {
            Some((media, _, bytes)) => (bytes, media),
            None if body.as_text().is_some() => text(body),
            None => json(body),
        },
    }
}

/// Name and value pairs of an object; a list repeats its name, nothing is left out.
fn pairs(body: &Value) -> Vec<(Str, Value)> {
    let Value::Object(members) = body else { return Vec::new() };
    let mut out = Vec::new();
    for (name, value) in members.iter() {
        match value {
            Value::Undefined | Value::Null => {}
            Value::List(list) => out.extend(list.items().iter().map(|item| (name.clone(), item.clone()))),
            other => out.push((name.clone(), other.clone())),
        }
    }
    out
}

fn field(value: &Value) -> String {
    match value {
        Value::Object(_) | Value::List(_) => value.to_json(),
        other => ops::to_text(other).to_string(),
    }
}

fn form(body: &Value) -> String {
    let escape = |text: &str, out: &mut String| {
        for byte in text.bytes() {
            match byte {
                b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'*' | b'-' | b'.' | b'_' => out.push(byte as char),
                b' ' => out.push('+'),
                _ => out.push_str(&format!("%{byte:02X}")),
            }
        }
    };
    let mut out = String::new();
    for (name, value) in pairs(body) {
        if !out.is_empty() {
            out.push('&');
        }
        escape(&name, &mut out);
        out.push('=');
        escape(&field(&value), &mut out);
    }
    out
}

/// RFC 7578: one part per member; files with their name and media type.
fn multipart(body: &Value, seed: &str) -> (Vec<u8>, String) {
    let boundary = format!("kanzlei-{}", seed.replace(|c: char| !c.is_ascii_alphanumeric(), ""));
    let quoted = |name: &str| name.replace('"', "%22").replace(['\r', '\n'], " ");
    let mut out = Vec::new();
    for (name, value) in pairs(body) {
        let mut head = format!("--{boundary}\r\nContent-Disposition: form-data; name=\"{}\"", quoted(&name));
        let bytes = match file_bytes(&value) {
            Some((media, name, bytes)) => {
                let name = name.unwrap_or_else(|| "file".into());
                head.push_str(&format!("; filename=\"{}\"\r\nContent-Type: {media}", quoted(&name)));
                bytes
            }
            None => {
                if value.depth() > 0 {
                    head.push_str("\r\nContent-Type: application/json");
                }
                field(&value).into_bytes()
            }
        };
        out.extend_from_slice(head.as_bytes());
        out.extend_from_slice(b"\r\n\r\n");
        out.extend_from_slice(&bytes);
        out.extend_from_slice(b"\r\n");
    }
    out.extend_from_slice(format!("--{boundary}--\r\n").as_bytes());
    (out, format!("multipart/form-data; boundary={boundary}"))
}

/// An answer's body by its media type: JSON, CSV rows, text, or a file.
pub(super) fn parse(media: &str, disposition: Option<&str>, body: &[u8]) -> Result<Value, String> {
    if body.is_empty() {
        return Ok(Value::Null);
    }
    let essence = media.split(';').next().unwrap_or_default().trim();
    if essence == "application/json" || essence.ends_with("+json") {
        return serde_json::from_slice(body).map_err(|error| format!("the answer says it is JSON and is not: {error}"));
    }
    if essence == "text/csv" {
        return csv(body);
    }
    let textual = essence.is_empty()
        || essence.starts_with("text/")
        || essence.ends_with("xml")
        || matches!(essence, "application/x-www-form-urlencoded" | "application/yaml" | "application/javascript");
    match std::str::from_utf8(body) {
        Ok(text) if textual => Ok(Value::text(text)),
        Err(_) if textual && !essence.is_empty() => Err(format!("the answer says it is {essence} and is not UTF-8")),
        _ => {
            let media = if essence.is_empty() { "application/octet-stream" } else { essence };
            Ok(file(media, disposition.and_then(file_name), body))
        }
    }
}

/// `filename` of a Content-Disposition (RFC 6266), as far as it is plain.
fn file_name(disposition: &str) -> Option<&str> {
    let (_, rest) = disposition.split_once("filename=")?;
    let name = match rest.strip_prefix('"') {
        Some(quoted) => quoted.split('"').next()?,
        None => rest.split(';').next()?.trim(),
    };
    name.rsplit(['/', '\\']).next().filter(|name| !name.is_empty())
}

/// Rows of CSV (RFC 4180) as objects by the names in the first line.
fn csv(body: &[u8]) -> Result<Value, String> {
    let body = body.strip_prefix(b"\xef\xbb\xbf").unwrap_or(body);
    let mut reader = csv::ReaderBuilder::new().flexible(true).from_reader(body);
    let wrong = |error: csv::Error| format!("the answer says it is CSV and is not: {error}");
    let names: Vec<Str> = reader.headers().map_err(wrong)?.iter().map(Str::from).collect();
    let mut rows = Vec::new();
    for record in reader.records() {
        let record = record.map_err(wrong)?;
        let mut row = ObjectBuilder::with_capacity(names.len());
        for (name, value) in names.iter().zip(record.iter()) {
            row.insert(name.clone(), Value::text(value));
        }
        rows.push(row.finish());
    }
    Ok(Value::list(rows))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bodies_are_written_by_encoding() {
        let body: Value = serde_json::from_str(r#"{"a b":"x&y","n":[1,2],"gone":null,"o":{"k":1}}"#).expect("json");
        for (encoding, media, wanted) in [
            (Some(Encoding::Form), "application/x-www-form-urlencoded", "a+b=x%26y&n=1&n=2&o=%7B%22k%22%3A1%7D"),
            (Some(Encoding::Text), "text/plain; charset=utf-8", "[object Object]"),
            (None, "application/json", r#"{"a b":"x&y","n":[1,2],"gone":null,"o":{"k":1}}"#),
        ] {
            let (bytes, got) = write(encoding, &body, "s");
            assert_eq!((got.as_str(), String::from_utf8_lossy(&bytes).as_ref()), (media, wanted));
        }
        let with_file =
            Value::object([("note", Value::text("hi")), ("doc", file("image/png", Some("a\"b.png"), b"\x89P"))]);
        let (bytes, media) = write(Some(Encoding::Multipart), &with_file, "r-1");
        assert_eq!(media, "multipart/form-data; boundary=kanzlei-r1");
        let text = String::from_utf8_lossy(&bytes);
        assert!(text.contains("name=\"note\"\r\n\r\nhi\r\n"), "{text}");
        assert!(text.contains("filename=\"a%22b.png\"\r\nContent-Type: image/png\r\n\r\n"), "{text}");
        assert!(bytes.windows(2).any(|pair| pair == b"\x89P"), "the bytes themselves are sent");
    }

    #[test]
    fn what_looks_like_a_file_is_sent_as_json() {
        let json = r#"{"name":"x","media":"text/html\r\nX-A: b","size":1,"base64":"PGI+"}"#;
        let forged: Value = serde_json::from_str(json).expect("json");
        assert_eq!(write(None, &forged, "s"), (json.as_bytes().to_vec(), "application/json".into()));
        let (parts, _) = write(Some(Encoding::Multipart), &Value::object([("doc", forged)]), "s");
        let parts = String::from_utf8(parts).expect("text");
        assert!(parts.contains("Content-Type: application/json") && !parts.contains("filename"), "{parts}");
        // A media type that a service made up is not passed on either.
        for media in ["text/html\r\nX-A: b", "png", "image/", "a/b/c", ""] {
            let (sent, _, _) = file_bytes(&file(media, None, b"x")).expect("a file");
            assert_eq!(sent, "application/octet-stream", "{media:?}");
        }
    }

    #[test]
    fn answers_are_read_by_media_type() {
        for (media, body, wanted) in [
            ("application/json", &b"{\"a\":1}"[..], r#"{"a":1}"#),
            ("application/problem+json; x", b"[]", "[]"),
            ("text/csv", b"imo,name\n1,\"Hav, bris\"\n2\n", r#"[{"imo":"1","name":"Hav, bris"},{"imo":"2"}]"#),
            ("text/plain", b"hei", r#""hei""#),
            ("", b"hei", r#""hei""#),
            ("application/pdf", b"%PDF", r#"{"name":"a.pdf","media":"application/pdf","size":4,"base64":"JVBERg=="}"#),
            ("application/json", b"", "null"),
        ] {
            let value = parse(media, Some("attachment; filename=\"x/a.pdf\""), body).expect(media);
            assert_eq!(value.to_json(), wanted, "{media}");
        }
        assert!(parse("application/json", None, b"{").is_err());
        assert!(parse("text/plain", None, b"\xff").is_err());
    }
}
