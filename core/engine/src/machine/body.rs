//! Bodies: how a value is written into a request, and what an answer's bytes are as a value.
//!
//! A *file* is what an answer of any other media type than JSON, text or CSV becomes, and what a multipart body or a
//! reply sends as its bytes again. The bytes of files stay outside: a body is a list of [`Data`], to be sent one after another.

use kanzlei_lang::document::step::Encoding;
use kanzlei_lang::expr::ops;
use kanzlei_model::file::{self, File};
use kanzlei_model::value::{ObjectBuilder, Str, Value, key};

/// A part of what is sent, or what came.
#[derive(Clone, Debug, PartialEq)]
pub enum Data {
    /// Bytes in memory.
    Bytes(Vec<u8>),
    /// The bytes of a file.
    File(File),
}

impl Data {
    /// Its bytes, where they are in memory.
    pub fn held(&self) -> Option<&[u8]> {
        match self {
            Data::Bytes(bytes) => Some(bytes),
            Data::File(file) => file.held.as_deref(),
        }
    }

    /// How many bytes it occupies in memory.
    pub fn weight(&self) -> usize {
        self.held().map_or(0, <[u8]>::len)
    }
}

impl<B: Into<Vec<u8>>> From<B> for Data {
    fn from(bytes: B) -> Self {
        Data::Bytes(bytes.into())
    }
}

impl Default for Data {
    fn default() -> Self {
        Data::Bytes(Vec::new())
    }
}

/// Whether an answer of a media type is a file, whose bytes need not be in memory.
pub fn is_file(media: &str) -> bool {
    let essence = media.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
    !essence.is_empty() && !is_json(&essence) && !is_textual(&essence)
}

fn is_json(essence: &str) -> bool {
    essence == "application/json" || essence.ends_with("+json")
}

fn is_textual(essence: &str) -> bool {
    essence.is_empty()
        || essence.starts_with("text/")
        || essence.ends_with("xml")
        || matches!(essence, "application/x-www-form-urlencoded" | "application/yaml" | "application/javascript")
}

/// Writes a request body: what is sent and its media type. `seed` makes the boundary of a multipart body.
pub(super) fn write(encoding: Option<Encoding>, body: &Value, seed: &str) -> (Vec<Data>, String) {
    let bytes = |bytes: Vec<u8>, media: &str| (vec![Data::Bytes(bytes)], media.to_owned());
    let json = |body: &Value| bytes(body.to_json().into_bytes(), "application/json");
    let text = |body: &Value| bytes(ops::to_text(body).as_bytes().to_vec(), "text/plain; charset=utf-8");
    match encoding {
        Some(Encoding::Json) => json(body),
        Some(Encoding::Text) => text(body),
        Some(Encoding::Form) => bytes(form(&pairs(body)).into_bytes(), FORM),
        Some(Encoding::Brackets) => {
            let mut nested = Vec::new();
            let members = body.as_object();
            members
                .iter()
                .flat_map(|all| all.iter())
                .for_each(|(name, value)| in_brackets(name, value, 0, &mut nested));
            bytes(form(&nested).into_bytes(), FORM)
        }
        Some(Encoding::Multipart) => multipart(body, seed),
        None => match File::of(body) {
            Some(file) => (vec![Data::File(file.clone())], file.media.to_string()),
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

const FORM: &str = "application/x-www-form-urlencoded";
/// How deep names in brackets nest; deeper values are JSON.
const MOST_BRACKETS: usize = 7;

/// Pairs whose names lead to values without members: `stay[from]`, `ports[]`, `crew[0][name]`.
fn in_brackets(name: &str, value: &Value, depth: usize, out: &mut Vec<(Str, Value)>) {
    if value.is_nullish() {
        return;
    }
    if depth < MOST_BRACKETS {
        if let Some(items) = value.as_list() {
            for (index, item) in items.iter().enumerate() {
                let simple = item.as_list().is_none() && item.as_object().is_none();
                let name = if simple { format!("{name}[]") } else { format!("{name}[{index}]") };
                in_brackets(&name, item, depth + 1, out);
            }
            return;
        }
        if let Some(members) = value.as_object() {
            for (key, member) in members.iter() {
                in_brackets(&format!("{name}[{key}]"), member, depth + 1, out);
            }
            return;
        }
    }
    out.push((name.into(), value.clone()));
}

fn form(pairs: &[(Str, Value)]) -> String {
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
    for (name, value) in pairs {
        if !out.is_empty() {
            out.push('&');
        }
        escape(name, &mut out);
        out.push('=');
        escape(&field(value), &mut out);
    }
    out
}

/// RFC 7578: one part per member; files with their name and media type.
fn multipart(body: &Value, seed: &str) -> (Vec<Data>, String) {
    let boundary = format!("kanzlei-{}", seed.replace(|c: char| !c.is_ascii_alphanumeric(), ""));
    let quoted = |name: &str| name.replace('"', "%22").replace(['\r', '\n'], " ");
    let (mut out, mut bytes) = (Vec::new(), Vec::new());
    for (name, value) in pairs(body) {
        let head = format!("--{boundary}\r\nContent-Disposition: form-data; name=\"{}\"", quoted(&name));
        bytes.extend_from_slice(head.as_bytes());
        match File::of(&value) {
            Some(file) => {
                let name = file.name.as_deref().unwrap_or("file");
                let more = format!("; filename=\"{}\"\r\nContent-Type: {}\r\n\r\n", quoted(name), file.media);
                bytes.extend_from_slice(more.as_bytes());
                out.push(Data::Bytes(std::mem::take(&mut bytes)));
                out.push(Data::File(file.clone()));
            }
            None => {
                if value.depth() > 0 {
                    bytes.extend_from_slice(b"\r\nContent-Type: application/json");
                }
                bytes.extend_from_slice(b"\r\n\r\n");
                bytes.extend_from_slice(field(&value).as_bytes());
            }
        }
        bytes.extend_from_slice(b"\r\n");
    }
    bytes.extend_from_slice(format!("--{boundary}--\r\n").as_bytes());
    out.push(Data::Bytes(bytes));
    (out, format!("multipart/form-data; boundary={boundary}"))
}

/// An answer's body by its media type: JSON, CSV rows, text, or a file.
pub(super) fn parse(media: &str, disposition: Option<&str>, body: Data) -> Result<Value, String> {
    let body = match body {
        Data::Bytes(bytes) => bytes,
        Data::File(file) => return Ok(Value::from(file)),
    };
    if body.is_empty() {
        return Ok(Value::Null);
    }
    let essence = media.split(';').next().unwrap_or_default().trim();
    if is_json(essence) {
        return Value::read(body.into()).map_err(|error| format!("the answer says it is JSON and is not: {error}"));
    }
    if essence == "text/csv" {
        return csv(&body);
    }
    match std::str::from_utf8(&body) {
        Ok(text) if is_textual(essence) => Ok(Value::text(text)),
        Err(_) if is_textual(essence) && !essence.is_empty() => {
            Err(format!("the answer says it is {essence} and is not UTF-8"))
        }
        _ => {
            let media = if essence.is_empty() { file::ANY } else { essence };
            let name = disposition.and_then(file_name);
            Ok(Value::from(File::of_bytes(name, media, body.as_slice().into())))
        }
    }
}

/// `filename` of a Content-Disposition (RFC 6266), as far as it is plain.
pub fn file_name(disposition: &str) -> Option<&str> {
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
    let names: Vec<Str> = reader.headers().map_err(wrong)?.iter().map(key).collect();
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

    fn whole(data: &[Data]) -> Vec<u8> {
        data.iter().flat_map(|one| one.held().expect("in memory").to_vec()).collect()
    }

    #[test]
    fn bodies_are_written_by_encoding() {
        let body: Value = serde_json::from_str(r#"{"a b":"x&y","n":[1,2],"gone":null,"o":{"k":1}}"#).expect("json");
        for (encoding, media, wanted) in [
            (Some(Encoding::Form), "application/x-www-form-urlencoded", "a+b=x%26y&n=1&n=2&o=%7B%22k%22%3A1%7D"),
            (Some(Encoding::Brackets), "application/x-www-form-urlencoded", "a+b=x%26y&n%5B%5D=1&n%5B%5D=2&o%5Bk%5D=1"),
            (Some(Encoding::Text), "text/plain; charset=utf-8", "[object Object]"),
            (None, "application/json", r#"{"a b":"x&y","n":[1,2],"gone":null,"o":{"k":1}}"#),
        ] {
            let (data, got) = write(encoding, &body, "s");
            assert_eq!((got.as_str(), String::from_utf8_lossy(&whole(&data)).as_ref()), (media, wanted));
        }
        let with_file = Value::object([
            ("note", Value::text("hi")),
            ("doc", File::held("a\"b.png", "image/png", *b"\x89P").into()),
        ]);
        let (data, media) = write(Some(Encoding::Multipart), &with_file, "r-1");
        assert_eq!(media, "multipart/form-data; boundary=kanzlei-r1");
        assert_eq!(data.len(), 3, "the file stays what it is");
        let bytes = whole(&data);
        let text = String::from_utf8_lossy(&bytes);
        assert!(text.contains("name=\"note\"\r\n\r\nhi\r\n"), "{text}");
        assert!(text.contains("filename=\"a%22b.png\"\r\nContent-Type: image/png\r\n\r\n"), "{text}");
        assert!(bytes.windows(2).any(|pair| pair == b"\x89P"), "the bytes themselves are sent");
    }

    #[test]
    fn what_looks_like_a_file_is_sent_as_json() {
        let json = r#"{"name":"x","media":"text/html","size":1,"digest":"PGI+"}"#;
        let forged: Value = serde_json::from_str(json).expect("json");
        assert_eq!(write(None, &forged, "s"), (vec![Data::Bytes(json.into())], "application/json".into()));
        let (data, _) = write(Some(Encoding::Multipart), &Value::object([("doc", forged)]), "s");
        let parts = String::from_utf8(whole(&data)).expect("text");
        assert!(parts.contains("Content-Type: application/json") && !parts.contains("filename"), "{parts}");
    }

    #[test]
    fn answers_are_read_by_media_type() {
        for (media, body, wanted) in [
            ("application/json", &b"{\"a\":1}"[..], r#"{"a":1}"#),
            ("application/problem+json; x", b"[]", "[]"),
            ("text/csv", b"imo,name\n1,\"Hav, bris\"\n2\n", r#"[{"imo":"1","name":"Hav, bris"},{"imo":"2"}]"#),
            ("text/plain", b"hei", r#""hei""#),
            ("", b"hei", r#""hei""#),
            (
                "application/pdf",
                b"%PDF",
                r#"{"name":"a.pdf","media":"application/pdf","size":4,"digest":"315d429b7714cedb6ad04ac31240145257692630457f3c88253c5beceac76027"}"#,
            ),
            ("application/json", b"", "null"),
        ] {
            let value =
                parse(media, Some("attachment; filename=\"x/a.pdf\""), Data::Bytes(body.to_vec())).expect(media);
            assert_eq!(value.to_json(), wanted, "{media}");
        }
        assert!(parse("application/json", None, Data::Bytes(b"{".to_vec())).is_err());
        assert!(parse("text/plain", None, Data::Bytes(b"\xff".to_vec())).is_err());
    }
}
