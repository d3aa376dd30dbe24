//! Files: what values, records and effects say of one. The bytes stay where they are, or stand beside it where no
//! disk is at hand (rehearsals).
//!
//! An expression sees a file as the object `{name, media, size, digest}`. No JSON and no expression makes one: an object
//! with the same members is an object. Records keep which parts of a value are files beside its JSON ([`to_record`]).
//!
//! ```
//! use kanzlei_model::file::{File, of_record, to_record};
//! use kanzlei_model::value::Value;
//! let crew = Value::from(File::held("crew.csv", "text/csv", *b"name\n"));
//! let input = Value::object([("crew", crew)]);
//! assert_eq!(of_record(&to_record(&input)).as_ref(), Some(&input));
//! ```

use crate::hex;
use std::sync::Arc;

use sha2::{Digest, Sha256};

use crate::value::{Str, Value};

/// A file, without its bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct File {
    /// What it is found by where its bytes are; expressions do not see it.
    pub id: Str,
    /// Its name, without a path.
    pub name: Option<Str>,
    /// Its media type (RFC 9110 §8.3.1), without parameters.
    pub media: Str,
    /// Its bytes.
    pub size: u64,
    /// SHA-256 of its bytes, 64 hexadecimal digits.
    pub digest: Str,
    /// Its bytes themselves, where they are in memory.
    pub held: Option<Arc<[u8]>>,
}

/// What stands for a media type that is none.
pub const ANY: &str = "application/octet-stream";

impl File {
    /// A file whose bytes are in memory.
    pub fn held(name: impl Into<Option<&'static str>>, media: &str, bytes: impl Into<Arc<[u8]>>) -> Self {
        Self::of_bytes(name.into(), media, bytes.into())
    }

    /// The same for a name that is not written in the program.
    pub fn of_bytes(name: Option<&str>, media: &str, bytes: Arc<[u8]>) -> Self {
        let digest: Str = hex::of(&Sha256::digest(&bytes)).into();
        File {
            id: digest.clone(),
            name: name.and_then(plain_name).map(Str::from),
            media: essence(media).into(),
            size: bytes.len() as u64,
            digest,
            held: Some(bytes),
        }
    }

    /// The file that a value stands for.
    pub fn of(value: &Value) -> Option<&File> {
        match value {
            Value::Object(object) => object.file(),
            _ => None,
        }
    }

    /// As a record keeps it: one object with its id.
    pub fn to_json(&self) -> serde_json::Value {
        serde_json::json!({
            "id": &*self.id, "name": self.name.as_deref(), "media": &*self.media, "size": self.size, "digest": &*self.digest,
        })
    }

    /// The file of such an object.
    pub fn of_json(json: &serde_json::Value) -> Option<Self> {
        let text = |name: &str| json.get(name)?.as_str().map(Str::from);
        Some(File {
            id: text("id")?,
            name: text("name"),
            media: text("media")?,
            size: json.get("size")?.as_u64()?,
            digest: text("digest")?,
            held: None,
        })
    }
}

impl From<File> for Value {
    fn from(file: File) -> Value {
        let members = Value::object([
            ("name", file.name.as_ref().map_or(Value::Null, |name| Value::Text(name.clone()))),
            ("media", Value::Text(file.media.clone())),
            ("size", Value::Int(i64::try_from(file.size).unwrap_or(i64::MAX))),
            ("digest", Value::Text(file.digest.clone())),
        ]);
        members.standing_for(file)
    }
}

/// The media type without its parameters, in lower case; [`ANY`] for what is none.
pub fn essence(media: &str) -> String {
    let media = media.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
    let token = |text: &str| {
        !text.is_empty() && text.bytes().all(|b| b.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(&b))
    };
    match media.split_once('/') {
        Some((kind, of)) if token(kind) && token(of) && media.len() <= 120 => media,
        _ => ANY.to_owned(),
    }
}

/// A name without a path and without what a header field or a file system would read as something else; at most
/// 200 bytes.
pub fn plain_name(name: &str) -> Option<&str> {
    let name = name.rsplit(['/', '\\']).next().unwrap_or_default().trim();
    let end = (0..=name.len().min(200)).rev().find(|at| name.is_char_boundary(*at)).unwrap_or_default();
    let name = &name[..end];
    (!name.is_empty() && name != "." && name != ".." && !name.chars().any(char::is_control)).then_some(name)
}

/// A value as a record keeps it: its JSON, and before it which parts of it are files. No JSON begins like that.
pub fn to_record(value: &Value) -> String {
    let mut files = Vec::new();
    find(value, &mut String::new(), &mut files);
    if files.is_empty() {
        return value.to_json();
    }
    let files: Vec<_> = files.iter().map(|(pointer, file)| serde_json::json!([pointer, file.to_json()])).collect();
    format!("#{}\n{}", serde_json::Value::from(files), value.to_json())
}

/// The value of a record; nothing for what [`to_record`] never writes.
pub fn of_record(record: &str) -> Option<Value> {
    let Some(marked) = record.strip_prefix('#') else { return serde_json::from_str(record).ok() };
    let (files, json) = marked.split_once('\n')?;
    let mut value: Value = serde_json::from_str(json).ok()?;
    let files: serde_json::Value = serde_json::from_str(files).ok()?;
    for pair in files.as_array()? {
        let (pointer, file) = (pair.get(0)?.as_str()?, File::of_json(pair.get(1)?)?);
        value = value.with_at(pointer, Value::from(file))?;
    }
    Some(value)
}

/// The JSON of a record, for those who show it.
pub fn json_of_record(record: &str) -> &str {
    match record.strip_prefix('#') {
        Some(marked) => marked.split_once('\n').map_or("null", |(_, json)| json),
        None => record,
    }
}

/// The files in a value, with the JSON Pointer (RFC 6901) of each.
pub fn files_of(value: &Value) -> Vec<(String, &File)> {
    let mut files = Vec::new();
    find(value, &mut String::new(), &mut files);
    files
}

fn find<'v>(value: &'v Value, at: &mut String, files: &mut Vec<(String, &'v File)>) {
    let length = at.len();
    match value {
        Value::Object(object) => {
            if let Some(file) = object.file() {
                files.push((at.clone(), file));
                return;
            }
            for (name, member) in object.iter().filter(|(_, member)| member.depth() > 0) {
                at.push('/');
                at.push_str(&name.replace('~', "~0").replace('/', "~1"));
                find(member, at, files);
                at.truncate(length);
            }
        }
        Value::List(list) => {
            for (index, item) in list.items().iter().enumerate().filter(|(_, item)| item.depth() > 0) {
                at.push_str(&format!("/{index}"));
                find(item, at, files);
                at.truncate(length);
            }
        }
        _ => {}
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn records_keep_which_parts_are_files() {
        let file = |name| Value::from(File::held(name, "Text/CSV; charset=utf-8", *b"imo\n"));
        let looks = Value::object([("name", Value::text("x")), ("media", Value::text("a/b"))]);
        let value = Value::object([
            ("a/b~", file("crew.csv")),
            ("list", Value::list(vec![looks.clone(), file("../../etc/x.csv"), Value::Null])),
            ("looks", looks),
        ]);
        let read = of_record(&to_record(&value)).expect("a record");
        let found: Vec<_> = files_of(&read).into_iter().map(|(at, file)| (at, file.name.clone())).collect();
        assert_eq!(
            found,
            [("/a~1b~0".to_owned(), Some("crew.csv".into())), ("/list/1".to_owned(), Some("x.csv".into()))]
        );
        assert_eq!(read, value);
        assert_eq!(json_of_record(&to_record(&value)), value.to_json());
        // What a client sends is JSON and stays it.
        for sent in [r##""#[]\n{}""##, r#"{"id":"x","name":"a","media":"a/b","size":1,"digest":"d"}"#] {
            let value = of_record(sent).expect(sent);
            assert!(files_of(&value).is_empty(), "{sent}");
            assert_eq!(to_record(&value), sent);
        }
        for wrong in ["#", "#[]", "#{}\n{}", "#[[\"/x\",{}]]\n{}", "#[[\"/x\",1]]\n{\"x\":1}", "{"] {
            assert_eq!(of_record(wrong), None, "{wrong}");
        }
    }

    #[test]
    fn names_and_media_types_are_plain() {
        for (given, wanted) in [
            ("crew.csv", Some("crew.csv")),
            ("C:\\office\\crew.csv", Some("crew.csv")),
            ("../../etc/passwd", Some("passwd")),
            ("a/..", None),
            ("", None),
            ("x\r\nSet-Cookie: a", None),
        ] {
            assert_eq!(plain_name(given), wanted, "{given:?}");
        }
        assert_eq!(plain_name(&"å".repeat(300)).map(str::len), Some(200));
        for (given, wanted) in
            [("Image/PNG; q=1", "image/png"), ("text/html\r\nX-A: b", ANY), ("png", ANY), ("a/b/c", ANY)]
        {
            assert_eq!(essence(given), wanted, "{given:?}");
        }
    }
}
