//! Inputs that are files: `{type: file, media: [application/pdf, image/*], max: 20 MiB}`, and `list: true` for several.
//!
//! What is declared becomes a JSON Schema of what expressions see of a file, with the declaration under a key of its own, so that
//! every holder of the schema can see that it describes a file. No author's schema has that key.
//!
//! ```
//! use kanzlei_lang::document::file::FileInput;
//! let declared = FileInput { media: vec!["image/*".into()], max: 1 << 20, list: None };
//! assert!(declared.allows("image/png") && !declared.allows("text/csv"));
//! assert_eq!(FileInput::of(&declared.schema()), Some(declared));
//! ```

use serde_json::{Value as Json, json};

use super::keys::{TEXT, keys};
use super::reader::{KeySpec, Members};
use super::workflow::size;
use super::yaml::Node;
use crate::diagnostic::Report;
use crate::types::schema::FILE as MARK;

/// Bytes of a file by default.
pub const MAX: u64 = 20 << 20;
/// The most bytes a document can allow.
pub const MOST: u64 = 64 << 30;
/// Files of a list by default, and at most.
pub const LIST: u32 = 20;
/// See [`LIST`].
pub const MOST_LIST: i64 = 1000;

/// Keys of an input that is a file.
pub const FILE: &[KeySpec] = keys! {
    "type", r#"{"const":"file"}"#, "`file`: what is sent is kept as a file, and expressions see its `name`, `media`, `size` and `digest`.";
    "media", r#"{"type":"array","items":{"type":"string"}}"#, "The media types that are accepted: `[application/pdf, image/*]`; default: any. What a file begins with counts, not only what its sender says.";
    "max", r#"{"type":["string","integer"]}"#, "The most bytes: a number, or `500 KiB`, `20 MiB`, `2 GiB`; default: `20 MiB`.";
    "list", r#"{"type":["boolean","integer"]}"#, "`true` for several files, at most 20; a number allows so many.";
    "optional", r#"{"type":"boolean"}"#, "Whether it may be missing.";
    "secret", r#"{"type":"boolean"}"#, "Whether its name and digest are confidential.";
    "description", TEXT, "What it is.";
};

/// What an input that is a file accepts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileInput {
    /// Media types, also `image/*`; any where it is empty.
    pub media: Vec<String>,
    /// The most bytes of each.
    pub max: u64,
    /// The most files, where it is a list.
    pub list: Option<u32>,
}

impl FileInput {
    /// The declaration that a schema was made from.
    pub fn of(schema: &Json) -> Option<Self> {
        let list = schema.get("items").and_then(|items| items.get(MARK));
        let mark = schema.get(MARK).or(list)?;
        let media = mark.get("media")?.as_array()?.iter().filter_map(Json::as_str).map(str::to_owned).collect();
        let most = schema.get("maxItems").and_then(Json::as_u64).and_then(|most| u32::try_from(most).ok());
        Some(FileInput { media, max: mark.get("max")?.as_u64()?, list: list.and(most) })
    }

    /// Whether files of a media type are accepted.
    pub fn allows(&self, media: &str) -> bool {
        let fits = |allowed: &String| match allowed.strip_suffix("/*") {
            Some(kind) => media.split('/').next() == Some(kind),
            None => allowed == media,
        };
        self.media.is_empty() || self.media.iter().any(fits)
    }

    /// The schema of its value.
    pub fn schema(&self) -> Json {
        let media = self.media.iter().find(|media| !media.contains('*')).map_or("text/plain", String::as_str);
        let one = json!({
            "type": "object",
            MARK: {"media": self.media, "max": self.max},
            "properties": {
                "name": {"type": ["string", "null"]},
                "media": {"type": "string"},
                "size": {"type": "integer", "minimum": 0, "maximum": self.max},
                "digest": {"type": "string"},
            },
            "required": ["name", "media", "size", "digest"],
            "additionalProperties": false,
            "examples": [{"name": "example", "media": media, "text": "example"}],
        });
        match self.list {
            None => one,
            Some(most) => json!({"type": "array", "items": one, "maxItems": most}),
        }
    }
}

/// Reads the declaration of a file; nothing for one of another type.
pub(super) fn read(node: &Node, report: &mut Report) -> Option<FileInput> {
    if node.get("type").and_then(Node::as_text) != Some("file") {
        return None;
    }
    let all = FileInput { media: Vec::new(), max: MAX, list: None };
    let Some(members) = Members::new(node, "a file", &[FILE], report) else { return Some(all) };
    let mut media = Vec::new();
    for node in members.list("media", report) {
        let known = node.as_text().filter(|text| {
            let essence = kanzlei_model::file::essence(&text.replace("/*", "/x"));
            text.contains('/') && essence.replace("/x", "/*") == text.replace("/x", "/*")
        });
        match known {
            Some(text) => media.push(text.to_owned()),
            None => {
                report.error("wrong-value", node.at, "this is no media type");
                report.help("write it in lower case, without parameters: `application/pdf`, `image/*`");
            }
        }
    }
    let max = members.get("max").and_then(|node| size(node, MOST, report)).unwrap_or(MAX);
    let list = match members.get("list").map(Node::to_value) {
        Some(kanzlei_model::value::Value::Bool(list)) => list.then_some(LIST),
        Some(_) => members.integer("list", 1, MOST_LIST, report).map(|most| most as u32),
        None => None,
    };
    Some(FileInput { media, max, list })
}
