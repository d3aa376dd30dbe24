//! What a file is, by its first bytes: its sender's word counts only where they do not contradict it.
//!
//! ```
//! use kanzlei_runtime::files::media::judged;
//! assert_eq!(judged(b"%PDF-1.7", Some("text/html")), "application/pdf");
//! assert_eq!(judged(b"imo,name\n", Some("text/csv")), "text/csv");
//! assert_eq!(judged(b"imo,name\n", Some("image/png")), "text/plain");
//! ```

use kanzlei_model::file::{ANY, essence};

/// How many of the first bytes are looked at.
pub const LOOKED_AT: usize = 8 << 10;

/// Media types of texts that do not begin with `text/`.
const TEXTUAL: [&str; 8] = [
    "application/json",
    "application/xml",
    "application/yaml",
    "application/x-ndjson",
    "application/jsonl",
    "application/sql",
    "application/javascript",
    "image/svg+xml",
];

/// The media type of a file that begins with these bytes, and of which its sender says another.
pub fn judged(first: &[u8], said: Option<&str>) -> String {
    let first = &first[..first.len().min(LOOKED_AT)];
    let said = said.map(essence).unwrap_or_else(|| ANY.to_owned());
    let textual = said.starts_with("text/")
        || TEXTUAL.contains(&said.as_str())
        || said.ends_with("+json")
        || said.ends_with("+xml");
    let text = is_text(first);
    match infer::get(first) {
        // Formats of texts are recognised by their first words, which prove little.
        Some(known) if text && known.mime_type().starts_with("text/") => {
            if textual {
                said
            } else {
                known.mime_type().to_owned()
            }
        }
        // A container is what its sender says it holds: office documents are ZIP files.
        Some(known) if known.mime_type() == "application/zip" && is_zip(&said) => said,
        Some(known) => known.mime_type().to_owned(),
        None if text && textual => said,
        None if text && said == ANY => "text/plain".to_owned(),
        // A format with a signature that the bytes do not have.
        None if infer::is_mime_supported(&said) || textual => {
            if text {
                "text/plain".to_owned()
            } else {
                ANY.to_owned()
            }
        }
        None => said,
    }
}

/// The media type that the ending of a name stands for, where the bytes do not show it.
pub fn of_name(path: &str) -> Option<&'static str> {
    let (_, ending) = path.rsplit('/').next()?.rsplit_once('.')?;
    let known = [
        ("csv", "text/csv"),
        ("css", "text/css"),
        ("html", "text/html"),
        ("json", "application/json"),
        ("ndjson", "application/x-ndjson"),
        ("svg", "image/svg+xml"),
        ("txt", "text/plain"),
        ("xml", "application/xml"),
        ("yaml", "application/yaml"),
        ("docx", "application/vnd.openxmlformats-officedocument.wordprocessingml.document"),
        ("xlsx", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"),
        ("odt", "application/vnd.oasis.opendocument.text"),
        ("ods", "application/vnd.oasis.opendocument.spreadsheet"),
    ];
    known.iter().find(|(known, _)| ending.eq_ignore_ascii_case(known)).map(|(_, media)| *media)
}

/// Media types of ZIP files with a purpose.
fn is_zip(said: &str) -> bool {
    said.starts_with("application/vnd.openxmlformats-officedocument.")
        || said.starts_with("application/vnd.oasis.opendocument.")
        || matches!(said, "application/epub+zip" | "application/java-archive")
        || said.ends_with("+zip")
}

/// Whether bytes are UTF-8 without control characters; the last character may be cut.
fn is_text(first: &[u8]) -> bool {
    let valid = match std::str::from_utf8(first) {
        Ok(_) => true,
        Err(error) => error.error_len().is_none() && first.len() >= LOOKED_AT,
    };
    valid && !first.iter().any(|byte| matches!(byte, 0..=8 | 14..=26 | 28..=31))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bytes_count_more_than_words() {
        for (first, said, wanted) in [
            (&b"\x89PNG\r\n\x1a\n\0\0"[..], "text/csv", "image/png"),
            (b"GIF89a\0\0", "application/pdf", "image/gif"),
            (b"PK\x03\x04\x14\0\0\0", "application/zip", "application/zip"),
            (
                b"PK\x03\x04\x14\0\0\0",
                "application/vnd.oasis.opendocument.text",
                "application/vnd.oasis.opendocument.text",
            ),
            (b"PK\x03\x04\x14\0\0\0", "text/html", "application/zip"),
            (b"<!DOCTYPE html><p>x", "text/csv", "text/csv"),
            (b"<!DOCTYPE html><p>x", "", "text/html"),
            (b"{\"a\":1}", "application/json; charset=utf-8", "application/json"),
            (b"plain words", "", "text/plain"),
            (b"plain words", "application/pdf", "text/plain"),
            (b"\0\x01\x02binary", "text/plain", ANY),
            (b"\0\x01\x02binary", "application/pdf", ANY),
            (b"\0\x01\x02binary", "application/x-berth-plan", "application/x-berth-plan"),
            (b"", "text/csv", "text/csv"),
        ] {
            assert_eq!(judged(first, Some(said)), wanted, "{said}");
        }
    }
}
