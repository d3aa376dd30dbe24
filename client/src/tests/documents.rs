//! Commands that read documents: `check`, `rehearse`, `deploy` and `new`, on folders of their own.

use std::path::{Path, PathBuf};

use serde_json::{Value as Json, json};

use super::{api, run};
use crate::Error;

const NOBODY: &str = "http://127.0.0.1:1";
const GOOD: &str = "workflow: good\ninput: {n: {type: integer}}\nentries: [{endpoint: GET /good, access: open}]\nsteps:\n  - if: input.n > 1\n    then: [{reply: 200, body: many}]\n    else: [{reply: 200, body: one}]\n";
const PASSES: &str =
    "cases: good\nexamples:\n  - {name: many, input: {n: 2}, expect: {reply: {status: 200, body: many}}}\n";

/// A folder that is removed with the test.
struct Folder(PathBuf);

impl Folder {
    fn new(name: &str, files: &[(&str, &str)]) -> Self {
        let folder = std::env::temp_dir().join(format!("kanzlei-documents-{name}-{}", std::process::id()));
        let _ = std::fs::remove_dir_all(&folder);
        std::fs::create_dir_all(&folder).expect("a folder");
        for (file, text) in files {
            std::fs::write(folder.join(file), text).expect("a file");
        }
        Folder(folder)
    }

    fn path(&self) -> &str {
        self.0.to_str().expect("UTF-8")
    }
}

impl Drop for Folder {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.0);
    }
}

/// How a command ends, by its exit code.
fn code(ended: &Result<(), Error>) -> u8 {
    match ended {
        Ok(()) => 0,
        Err(Error::Bad | Error::Failed(_)) => 1,
        Err(Error::Usage(_)) => 2,
        Err(Error::Unavailable(_)) => 3,
    }
}

#[test]
fn a_check_ends_by_what_it_finds() {
    for (name, files, wanted) in [
        ("good", vec![("w.yaml", GOOD)], 0),
        ("warned", vec![("w.yaml", "workflow: w\ninput: {n: {type: integer}}\nsteps: [{reply: 204}]\n")], 0),
        ("bad", vec![("w.yaml", "workflow: w\nsteps: [{replay: 204}]\n")], 1),
        ("broken-cases", vec![("w.yaml", GOOD), ("c.yaml", "cases: good\nexamples: 7\n")], 1),
        ("others", vec![("notes.yaml", "just: notes\n")], 2),
        ("empty", vec![], 2),
    ] {
        let folder = Folder::new(&format!("check-{name}"), &files);
        for format in ["text", "json", "sarif"] {
            let ended = run(NOBODY, &["check", folder.path(), "--format", format]);
            assert_eq!(code(&ended), wanted, "{name} {format}: {ended:?}");
        }
    }
    assert_eq!(code(&run(NOBODY, &["check", "/no/such/folder"])), 2);
}

#[test]
fn a_rehearsal_ends_by_its_cases() {
    let fails = PASSES.replace("body: many", "body: few");
    for (name, cases, wanted) in [("passes", PASSES, 0), ("fails", fails.as_str(), 1), ("broken", "cases: good\n", 1)] {
        let folder = Folder::new(&format!("rehearse-{name}"), &[("w.yaml", GOOD), ("c.yaml", cases)]);
        let report = folder.0.join("report.xml");
        let line = ["rehearse", folder.path(), "--junit", report.to_str().expect("UTF-8")];
        let ended = run(NOBODY, &line);
        assert_eq!(code(&ended), wanted, "{name}: {ended:?}");
        let written = std::fs::read_to_string(&report).unwrap_or_default();
        let failures = written.matches("<failure").count();
        assert_eq!(
            (written.contains("<testcase"), failures),
            (name != "broken", usize::from(name == "fails")),
            "{written}"
        );
    }
}

#[test]
fn a_deploy_sends_all_but_the_cases() {
    let folder = Folder::new("deploys", &[("w.yaml", GOOD), ("c.yaml", PASSES)]);
    let deployed = json!({"deployed": [], "warnings": []});
    let (url, asked) = api(vec![(200, deployed)]);
    let ended = run(&url, &["deploy", folder.path()]);
    assert_eq!(code(&ended), 0, "{ended:?}");
    let (line, body) = asked.try_recv().expect("a request");
    let sent: Vec<&Json> = body["documents"].as_array().expect("documents").iter().map(|one| &one["text"]).collect();
    assert_eq!((line.as_str(), sent), ("POST /deploys", vec![&json!(GOOD)]));
}

#[test]
fn a_deploy_stops_at_cases_that_fail_or_are_broken() {
    let fails = PASSES.replace("body: many", "body: few");
    for (name, cases, flags, sends) in [
        ("stops", fails.as_str(), vec![], false),
        ("breaks", "cases: good\nexamples: 7\n", vec![], false),
        ("forced", fails.as_str(), vec!["--unrehearsed"], true),
    ] {
        let folder = Folder::new(&format!("deploy-{name}"), &[("w.yaml", GOOD), ("c.yaml", cases)]);
        let (url, asked) = api(vec![(200, json!({"deployed": [], "warnings": []}))]);
        let line: Vec<&str> = ["deploy", folder.path()].into_iter().chain(flags).collect();
        let ended = run(&url, &line);
        assert_eq!((asked.try_recv().is_ok(), code(&ended)), (sends, u8::from(!sends)), "{name}: {ended:?}");
    }
    let only = Folder::new("only-cases", &[("c.yaml", PASSES)]);
    assert_eq!(code(&run(NOBODY, &["deploy", only.path(), "--unrehearsed"])), 2);
}

#[test]
fn what_the_service_finds_is_shown_and_nothing_is_deployed() {
    let folder = Folder::new("found", &[("w.yaml", GOOD)]);
    let finding = json!({
        "code": "unknown-database", "severity": "error", "path": "w.yaml", "line": 1, "column": 1, "start": 0, "end": 8,
        "message": "there is no database `harbour`"
    });
    for (status, problem, wanted) in [
        (422, json!({"title": "The documents have errors", "diagnostics": [finding], "sources": {}}), 1),
        (409, json!({"title": "Somebody deployed", "detail": "try again"}), 1),
        (503, json!({"title": "The database is unavailable"}), 3),
    ] {
        let (url, _asked) = api(vec![(status, problem)]);
        let ended = run(&url, &["deploy", folder.path()]);
        assert_eq!(code(&ended), wanted, "{status}: {ended:?}");
        assert!(status != 422 || matches!(ended, Err(Error::Bad)), "{ended:?}");
    }
}

/// Files below a folder, by their paths in it.
fn files(below: &Path) -> Vec<String> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(below).expect("a folder").filter_map(Result::ok) {
        let name = entry.file_name().to_string_lossy().into_owned();
        match entry.path().is_dir() {
            true => found.extend(files(&entry.path()).into_iter().map(|file| format!("{name}/{file}"))),
            false => found.push(name),
        }
    }
    found.sort();
    found
}

#[test]
fn a_new_workflow_checks_and_rehearses() {
    for like in ["berth-quote", "vessel-dues", "stay-bill", "arrival-brief"] {
        let folder = Folder::new(&format!("new-{like}"), &[]);
        let made = run(NOBODY, &["new", "my-own", "--like", like, "--folder", folder.path()]);
        assert_eq!(code(&made), 0, "{like}: {made:?}");
        assert!(files(&folder.0).iter().any(|file| file.ends_with("my-own.yaml")), "{:?}", files(&folder.0));
        assert_eq!(code(&run(NOBODY, &["check", folder.path()])), 0, "{like}");
        let again = run(NOBODY, &["new", "my-own", "--like", like, "--folder", folder.path()]);
        assert_ne!(code(&again), 0, "{like}: what is there stays");
    }
    assert_eq!(code(&run(NOBODY, &["new", "Wrong Name"])), 2);
    assert_eq!(code(&run(NOBODY, &["new", "my-own", "--like", "nothing"])), 2);
}
