//! Every code of a finding is explained, and its examples are what they are said to be.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use kanzlei_compiler::check::Known;
use kanzlei_compiler::sql;
use kanzlei_lang::diagnostic::{Diagnostic, Severity};

use crate::{Workspace, explain};

const HEAD: &str = "workflow: example\ninput:\n  imo: {type: string}\n  harbour: {type: string, enum: [LIN, NES]}\n  nights: {type: integer}\n  note: {type: string, optional: true}\n  vessels: {type: array, items: {type: object, properties: {name: {type: string}, length_m: {type: number}}, required: [name, length_m]}}\nsteps:\n";

/// What the service has that checks the examples.
fn known() -> Known {
    let bound = |purpose: &str| vec![purpose.parse().expect("a purpose")];
    Known {
        secrets: [("rates-token".to_owned(), bound("https://rates.example"))].into(),
        places: ["archive".to_owned()].into(),
        no_printer: Some("`python3` has no WeasyPrint".to_owned()),
        databases: ["harbour", "bare"].map(|name| (name.to_owned(), sql::Allowed::default())).into(),
        no_transactions: [("harbour".to_owned(), vec![("old_log".to_owned(), "Aria".to_owned())])].into(),
        unprepared: [("bare".to_owned(), vec!["the table `kanzlei_done`".to_owned()])].into(),
        ..Known::default()
    }
}

/// Codes that depend on what the service has.
const OF_SERVICES: &[&str] = &[
    "private-address",
    "missing-secret",
    "unbound-secret",
    "unknown-database",
    "unknown-place",
    "no-printer",
    "no-mail",
    "not-allowed",
    "no-transactions",
    "unprepared-database",
    "wrong-setting",
];

fn check(code: &str, example: &str) -> Vec<Diagnostic> {
    let text = match example.starts_with("- ") {
        true => example.lines().fold(HEAD.to_owned(), |text, line| format!("{text}  {line}\n")),
        false => example.to_owned(),
    };
    let folder = match text.split(':').next() {
        Some("service") => "services",
        Some("library") => "libraries",
        _ => "workflows",
    };
    let path = format!("{folder}/example.yaml");
    let mut texts = kanzlei_samples::demo();
    // What does not say that it is a document is one all the same.
    texts.push((path.clone(), "workflow: example\n".into()));
    texts.push(("services/notes.yaml".into(), "just: notes\n".into()));
    if code == "ambiguous-service" {
        let too = "service: registry-too\nbase: http://127.0.0.1:7090/registry\nnetwork: private\n";
        texts.push(("services/registry-too.yaml".into(), too.into()));
    }
    let mut workspace = Workspace::of(texts);
    workspace.set(&path, &text);
    workspace.known = OF_SERVICES.contains(&code).then(known);
    let mut found: Vec<Diagnostic> = workspace.all_diagnostics();
    found.retain(|one| one.path == path);
    found
}

#[test]
fn examples_are_wrong_and_corrected() {
    let mut bad = Vec::new();
    for explained in explain::all() {
        let (Some(wrong), Some(corrected)) = (explained.wrong, explained.corrected) else { continue };
        let found = check(explained.code, wrong);
        let codes: BTreeSet<&str> = found.iter().map(|one| one.code.as_str()).collect();
        if !codes.contains(explained.code) {
            bad.push(format!("the wrong example of {} has {codes:?}", explained.code));
        }
        let left = check(explained.code, corrected);
        for one in left.iter().filter(|one| one.severity == Severity::Error || one.code == explained.code) {
            bad.push(format!("the corrected example of {} has {}: {}", explained.code, one.code, one.message));
        }
    }
    assert!(bad.is_empty(), "{}", bad.join("\n"));
}

/// Codes in the source: the first argument of what reports.
fn codes_below(folder: &Path, found: &mut BTreeMap<String, String>) {
    for entry in std::fs::read_dir(folder).expect("a folder").filter_map(Result::ok) {
        let path = entry.path();
        if path.is_dir() {
            codes_below(&path, found);
        } else if path.extension().is_some_and(|e| e == "rs") && !path.ends_with("tests.rs") {
            let text = std::fs::read_to_string(&path).expect("a source");
            for call in [".error(", ".warning(", ".report(", ".warn(", ".fault(", "Fault::new(", "code: "] {
                for (at, _) in text.match_indices(call) {
                    let rest = text[at + call.len()..].trim_start();
                    let Some(code) = rest.strip_prefix('"').and_then(|rest| rest.split('"').next()) else { continue };
                    let shaped = code.bytes().all(|b| b.is_ascii_lowercase() || b == b'-') && code.len() > 2;
                    if shaped {
                        found.insert(code.to_owned(), path.display().to_string());
                    }
                }
            }
        }
    }
}

#[test]
fn every_code_is_explained() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let mut codes = BTreeMap::new();
    for crate_name in ["lang", "compiler", "rehearsal"] {
        codes_below(&root.join(crate_name).join("src"), &mut codes);
    }
    assert!(codes.len() > 80, "{codes:?}");
    let missing: Vec<_> = codes.iter().filter(|(code, _)| explain::of(code).is_none()).collect();
    assert!(missing.is_empty(), "not in docs/findings.md: {missing:?}");
    let without = explain::all().iter().filter(|one| one.wrong.is_none()).count();
    assert!(without <= 10, "{without} codes have no example");
}
