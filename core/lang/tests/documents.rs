//! What is wrong with documents, by place, code and message: the table in `findings.txt`.
//!
//! Each entry is a document, a line `----`, the findings one a line, and a line `====`. Files beside the document
//! are `api.json` (an OpenAPI document with the operation `get`), `list.json` (no mapping) and `seed.sql`.

use kanzlei_lang::document::{self, Source};

const TABLE: &str = include_str!("findings.txt");

fn file(path: &str) -> Option<String> {
    match path {
        "api.json" => Some(r#"{"openapi": "3.1.0", "paths": {"/x": {"get": {"operationId": "get"}}}}"#.into()),
        "twice.json" => Some(
            r#"{"openapi": "3.1.0", "paths": {"/x": {"get": {"operationId": "a"}, "put": {"operationId": "a"}}}}"#
                .into(),
        ),
        "bare.json" => Some(r#"{"openapi": "3.1.0", "paths": {}}"#.into()),
        "list.json" => Some("[]".into()),
        "broken.json" => Some("{".into()),
        "seed.sql" => Some("CREATE TABLE t (a INT)".into()),
        _ => None,
    }
}

/// `line:column code: message`, with the help behind ` | `.
fn findings(text: &str) -> Vec<String> {
    let (_, found) = document::read(&Source::new("d.yaml", text), &file);
    found
        .iter()
        .map(|d| {
            let help = d.help.as_ref().map(|help| format!(" | {help}")).unwrap_or_default();
            format!("{}:{} {}: {}{help}", d.line, d.column, d.code, d.message)
        })
        .collect()
}

#[test]
fn documents_have_the_findings_of_the_table() {
    let (mut wrong, mut count) = (Vec::new(), 0);
    for entry in TABLE.split("\n====\n").filter(|entry| !entry.trim().is_empty()) {
        let (text, wanted) = entry.split_once("\n----\n").unwrap_or_else(|| panic!("no `----` in {entry}"));
        let (text, found) = (text.trim_start_matches('\n'), findings(text.trim_start_matches('\n')).join("\n"));
        count += 1;
        if found != wanted.trim_end() {
            wrong.push(format!("{text}\n----\n{found}\n==== wanted\n{wanted}"));
        }
    }
    assert!(wrong.is_empty(), "{} of {count}:\n\n{}", wrong.len(), wrong.join("\n\n"));
    assert!(count > 80, "{count}");
}
