//! Diagnostics as SARIF 2.1.0 (OASIS), for editors and code hosts.

use std::collections::BTreeSet;

use kanzlei_lang::diagnostic::{Diagnostic, Severity};
use serde_json::{Value as Json, json};

/// One run of the checker. Columns count Unicode code points, as the positions of diagnostics do.
pub fn log(found: &[Diagnostic], text_of: &dyn Fn(&str) -> Option<String>) -> Json {
    let codes: Vec<&str> = found.iter().map(|d| d.code.as_str()).collect::<BTreeSet<_>>().into_iter().collect();
    let rules: Vec<Json> = codes.iter().map(|code| json!({"id": code})).collect();
    let results: Vec<Json> = found
        .iter()
        .map(|d| {
            let level = match d.severity {
                Severity::Error => "error",
                Severity::Warning => "warning",
            };
            let message = match &d.help {
                Some(help) => format!("{} ({help})", d.message),
                None => d.message.clone(),
            };
            let mut region = json!({"startLine": d.line, "startColumn": d.column});
            if let Some(text) = text_of(&d.path) {
                let (line, column) = kanzlei_lang::diagnostic::line_and_column(&text, d.end as usize);
                region["endLine"] = line.into();
                region["endColumn"] = column.into();
            }
            let fixes: Vec<Json> = d
                .fixes
                .iter()
                .map(|fix| {
                    let (start, end) = (fix.edit.start, fix.edit.end);
                    let region = json!({"byteOffset": start, "byteLength": end - start});
                    let replaced = json!({"deletedRegion": region, "insertedContent": {"text": fix.edit.text}});
                    let change = json!({"artifactLocation": {"uri": uri(&d.path)}, "replacements": [replaced]});
                    json!({"description": {"text": fix.title}, "artifactChanges": [change]})
                })
                .collect();
            let mut result = json!({
                "ruleId": d.code,
                "ruleIndex": codes.iter().position(|code| *code == d.code),
                "level": level,
                "message": {"text": message},
                "locations": [{"physicalLocation": {"artifactLocation": {"uri": uri(&d.path)}, "region": region}}],
            });
            if !fixes.is_empty() {
                result["fixes"] = fixes.into();
            }
            result
        })
        .collect();
    json!({
        "$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
        "version": "2.1.0",
        "runs": [{
            "tool": {"driver": {"name": "kanzlei check", "semanticVersion": env!("CARGO_PKG_VERSION"), "rules": rules}},
            "columnKind": "unicodeCodePoints",
            "results": results,
        }],
    })
}

/// A path as a relative URI reference (RFC 3986 §4.2).
fn uri(path: &str) -> String {
    let mut out = String::new();
    for byte in path.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' | b'/' => out.push(byte as char),
            _ => out.push_str(&format!("%{byte:02X}")),
        }
    }
    if path.starts_with('/') { format!("file://{out}") } else { out }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn findings_become_results_with_places() {
        let found = |code: &str, severity, start, end| Diagnostic {
            code: code.into(),
            severity,
            path: "work flows/å.yaml".into(),
            line: 2,
            column: 3,
            start,
            end,
            message: "no".into(),
            help: Some("yes".into()),
            fixes: Vec::new(),
        };
        let text = "workflow: x\n  åb: c\n";
        let found = [found("b", Severity::Error, 14, 17), found("a", Severity::Warning, 14, 14)];
        let log = log(&found, &|_| Some(text.to_owned()));
        let run = &log["runs"][0];
        assert_eq!((&log["version"], &run["columnKind"]), (&json!("2.1.0"), &json!("unicodeCodePoints")));
        assert_eq!(run["tool"]["driver"]["rules"], json!([{"id": "a"}, {"id": "b"}]));
        let first = &run["results"][0];
        assert_eq!((&first["ruleId"], &first["ruleIndex"], &first["level"]), (&json!("b"), &json!(1), &json!("error")));
        assert_eq!(first["message"]["text"], "no (yes)");
        let place = &first["locations"][0]["physicalLocation"];
        assert_eq!(place["artifactLocation"]["uri"], "work%20flows/%C3%A5.yaml");
        assert_eq!(place["region"], json!({"startLine": 2, "startColumn": 3, "endLine": 2, "endColumn": 5}));
        assert_eq!(run["results"][1]["level"], "warning");
        assert_eq!(uri("/tmp/x"), "file:///tmp/x");
        // The published schema, without its descriptions.
        let schema: Json = serde_json::from_str(include_str!("testdata/sarif-2.1.0.schema.json")).expect("a schema");
        let validator = jsonschema::validator_for(&schema).expect("a usable schema");
        let faults: Vec<String> = validator.iter_errors(&log).map(|fault| fault.to_string()).collect();
        assert_eq!(faults, Vec::<String>::new());
        let mut wrong = log;
        wrong["runs"][0]["results"][0]["level"] = "bad".into();
        assert!(!validator.is_valid(&wrong), "the schema rejects what is wrong");
    }
}
