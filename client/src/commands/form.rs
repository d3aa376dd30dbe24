//! Files in requests: `crew=@crew.csv` names one of this machine, and a body with files is multipart (RFC 7578), read as it is sent.

use std::fs::File;
use std::io::{Cursor, Read};
use std::path::Path;

use serde_json::{Map, Value as Json};

use crate::Error;

/// The body of a request, and its media type.
pub struct Body {
    /// Its bytes.
    pub bytes: Box<dyn Read + Send>,
    /// How many there are.
    pub size: u64,
    pub media: String,
}

/// Files by the names of their inputs.
pub type Files = Vec<(String, String)>;

/// Takes the files out of what is given as `KEY=@PATH`.
pub fn files_of(inputs: &[String]) -> (Vec<String>, Files) {
    let (mut others, mut files) = (Vec::new(), Files::new());
    for input in inputs {
        match input.split_once("=@") {
            Some((name, path)) if !name.contains('=') => files.push((name.to_owned(), path.to_owned())),
            _ => others.push(input.clone()),
        }
    }
    (others, files)
}

/// A multipart body of values and files.
///
/// # Errors
/// When a file cannot be read.
pub fn multipart(values: &Map<String, Json>, files: &Files) -> Result<Body, Error> {
    let boundary = format!("kanzlei-{}", uuid::Uuid::new_v4().simple());
    let (mut parts, mut size): (Vec<Box<dyn Read + Send>>, u64) = (Vec::new(), 0);
    let mut text = |parts: &mut Vec<Box<dyn Read + Send>>, text: String| {
        size += text.len() as u64;
        parts.push(Box::new(Cursor::new(text.into_bytes())));
    };
    let quoted = |name: &str| name.replace('"', "%22").replace(['\r', '\n'], " ");
    for (name, value) in values {
        let value = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
        let name = quoted(name);
        text(&mut parts, format!("--{boundary}\r\nContent-Disposition: form-data; name=\"{name}\"\r\n\r\n{value}\r\n"));
    }
    let mut read = 0;
    for (name, path) in files {
        let failed = |error: std::io::Error| Error::Usage(format!("{path}: {error}"));
        let file = File::open(path).map_err(failed)?;
        read += file.metadata().map_err(failed)?.len();
        let shown = Path::new(path).file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let (name, shown) = (quoted(name), quoted(&shown));
        text(
            &mut parts,
            format!(
                "--{boundary}\r\nContent-Disposition: form-data; name=\"{name}\"; filename=\"{shown}\"\r\nContent-Type: application/octet-stream\r\n\r\n"
            ),
        );
        parts.push(Box::new(file));
        text(&mut parts, "\r\n".to_owned());
    }
    text(&mut parts, format!("--{boundary}--\r\n"));
    let empty: Box<dyn Read + Send> = Box::new(std::io::empty());
    let bytes = parts.into_iter().fold(empty, |all, part| Box::new(all.chain(part)));
    Ok(Body { bytes, size: size + read, media: format!("multipart/form-data; boundary={boundary}") })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_are_named_by_an_at_sign() {
        let inputs = ["imo=9074720", "crew=@crew.csv", "note=a=@b", "at=@"].map(str::to_owned);
        let (others, files) = files_of(&inputs);
        assert_eq!(others, ["imo=9074720", "note=a=@b"]);
        assert_eq!(files, [("crew".to_owned(), "crew.csv".to_owned()), ("at".to_owned(), String::new())]);
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/Cargo.toml").to_owned();
        let mut body = multipart(&Map::new(), &vec![("toml".to_owned(), path)]).expect("a body");
        let mut text = String::new();
        body.bytes.read_to_string(&mut text).expect("text");
        assert_eq!(text.len() as u64, body.size);
        assert!(text.contains("filename=\"Cargo.toml\"") && text.contains("[package]") && text.ends_with("--\r\n"));
        assert!(multipart(&Map::new(), &vec![("x".to_owned(), "/none".to_owned())]).is_err());
    }
}
