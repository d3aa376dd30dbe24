//! `check` and `deploy`.

use std::collections::BTreeMap;
use std::path::PathBuf;

use kanzlei_api::deploys::Deployed;
use kanzlei_api::drafts::DraftName;
use kanzlei_compiler::check::Bundle;
use kanzlei_lang::diagnostic::{Diagnostic, Severity};
use kanzlei_lang::document::{BESIDE, kind_of};
use kanzlei_model::gradual::Rules;
use kanzlei_rehearsal::check as check_bundle;
use serde_json::{Value as Json, json};

use super::drafts::print_consequences;
use super::{gradual, print_json, rehearse, settings};
use crate::api::Api;
use crate::args::Format;
use crate::{Done, Error, draw, files, sarif};

pub fn check(paths: &[PathBuf], format: Format) -> Done {
    let bundle = files::bundle(paths)?;
    let (checked, _) = check_bundle(&bundle);
    let text_of = |path: &str| bundle.documents.iter().find(|d| d.path == path).map(|d| d.text.clone());
    match format {
        Format::Json => {
            print_json(&json!({"documents": bundle.documents.len(), "diagnostics": checked.diagnostics}));
        }
        Format::Sarif => print_json(&sarif::log(&checked.diagnostics, &text_of)),
        Format::Text => {
            show(&checked.diagnostics, &bundle);
            let clean = checked.diagnostics.is_empty();
            let found = if clean { "no errors".to_owned() } else { draw::counted(&checked.diagnostics) };
            let count = bundle.documents.len();
            println!("{count} document{}: {found}", if count == 1 { "" } else { "s" });
        }
    }
    if checked.errors() > 0 { Err(Error::Bad) } else { Ok(()) }
}

fn show(found: &[Diagnostic], bundle: &Bundle) {
    draw::diagnostics(found, &|path| bundle.documents.iter().find(|d| d.path == path).map(|d| d.text.clone()));
}

/// How documents are deployed.
pub struct How {
    /// Without their cases.
    pub unrehearsed: bool,
    /// Drafts over a revision that went live since they began.
    pub over: bool,
    /// Nothing is put live.
    pub preview: bool,
    /// Settings that are set along, as `NAME=VALUE`.
    pub set: Vec<String>,
    /// What the new revision serves beside the live one.
    pub gradual: Option<Rules>,
}

/// The documents of a deploy as they are sent: with drafts, and how.
#[derive(serde::Serialize)]
struct Sent<'b> {
    #[serde(flatten)]
    bundle: &'b Bundle,
    drafts: Vec<DraftName>,
    settings: BTreeMap<String, Json>,
    over: bool,
    preview: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    gradual: Option<Rules>,
}

pub fn deploy(api: &Api, paths: &[PathBuf], drafts: &[String], how: &How, json: bool) -> Done {
    let bundle = if paths.is_empty() { Bundle::default() } else { files::bundle(paths)? };
    let named = drafts.iter().map(|name| {
        let (kind, name) = name.split_once('/').unwrap_or(("workflow", name));
        DraftName { kind: kind.to_owned(), name: name.to_owned() }
    });
    deploy_bundle(api, bundle, named.collect(), &rehearse::shown(paths), how, json)
}

/// Rehearses and deploys documents; `from` is where they lie.
pub fn deploy_bundle(api: &Api, mut bundle: Bundle, drafts: Vec<DraftName>, from: &str, how: &How, json: bool) -> Done {
    if !how.unrehearsed && !bundle.documents.is_empty() {
        let (checked, rehearsals) = check_bundle(&bundle);
        // The service reports what is wrong with workflows, as it knows what is live. Cases stay here.
        let is_case = |path: &str| {
            let source = bundle.documents.iter().find(|source| source.path == path);
            source.is_some_and(|source| kind_of(&source.text) == Some("cases"))
        };
        let broken: Vec<Diagnostic> = checked.diagnostics.iter().filter(|d| is_case(&d.path)).cloned().collect();
        if broken.iter().any(|d| d.severity == Severity::Error) {
            if json {
                print_json(&json!({"diagnostics": broken}));
            } else {
                show(&broken, &bundle);
                println!("{} in cases; nothing was deployed", draw::counted(&broken));
            }
            return Err(Error::Bad);
        }
        if checked.errors() == 0 && !rehearse::all_pass(&rehearsals, api) {
            println!("\nnothing was deployed; see `kanzlei rehearse {from}`, or add --unrehearsed");
            return Err(Error::Bad);
        }
    }
    bundle.documents.retain(|document| kind_of(&document.text).is_none_or(|kind| !BESIDE.contains(&kind)));
    if bundle.documents.is_empty() && drafts.is_empty() {
        return Err(Error::Usage("there are only cases and descriptions of databases here; nothing to deploy".into()));
    }
    // Services beside single files are live already, or the service says that they are not.
    bundle.context.clear();
    let settings = settings::given(api, &bundle, &how.set)?;
    let gradual = how.gradual.clone();
    let sent = Sent { bundle: &bundle, drafts, settings, over: how.over, preview: how.preview, gradual };
    send(api, &sent, json)
}

/// Sets settings of what is live; null removes a value.
pub fn deploy_settings(api: &Api, settings: BTreeMap<String, Json>, json: bool) -> Done {
    let sent =
        Sent { bundle: &Bundle::default(), drafts: Vec::new(), settings, over: false, preview: false, gradual: None };
    send(api, &sent, json)
}

fn send(api: &Api, sent: &Sent, json: bool) -> Done {
    let bundle = sent.bundle;
    let answer: Deployed = match api.try_post("/deploys", sent)? {
        Ok(answer) => answer,
        Err(refused) => {
            let found: Vec<Diagnostic> =
                serde_json::from_value(refused.problem["diagnostics"].clone()).unwrap_or_default();
            if found.is_empty() {
                return Err(api.error(refused));
            }
            if json {
                print_json(&refused.problem);
            } else {
                let live = refused.problem["sources"].clone();
                let own = |path: &str| bundle.documents.iter().find(|d| d.path == path).map(|d| d.text.clone());
                draw::diagnostics(&found, &|path| own(path).or_else(|| live[path].as_str().map(str::to_owned)));
                println!("{}; nothing was deployed", draw::counted(&found));
                if let Some(other) = found
                    .iter()
                    .filter(|_| !bundle.documents.is_empty())
                    .find(|d| d.severity == Severity::Error && d.path.starts_with("live/"))
                {
                    let name = other.path.split('/').nth(2).unwrap_or_default();
                    println!("`{name}` is live and would no longer work; deploy it together with the change");
                }
            }
            return Err(Error::Bad);
        }
    };
    if json {
        print_json(&answer);
        return Ok(());
    }
    show(&answer.warnings, bundle);
    let mut deployed = answer.deployed;
    deployed.sort_by(|a, b| (a.kind == "workflow", &a.name).cmp(&(b.kind == "workflow", &b.name)));
    for done in &deployed {
        let state = match (done.unchanged, sent.preview) {
            (true, _) if !done.gradual => draw::dim("unchanged"),
            (_, false) if done.gradual => {
                let rules = sent.gradual.as_ref().map(gradual::serves).unwrap_or_default();
                format!("beside the live one, serves {rules}")
            }
            (_, true) if done.gradual => "would serve a share".into(),
            (_, true) => "would be live".into(),
            (_, false) => "live".into(),
        };
        println!("{:<26} revision {} · {state}", format!("{} {}", done.kind, done.name), done.revision);
        print_consequences(done);
        for endpoint in &done.endpoints {
            println!("  {} {}", draw::bold(&endpoint.method), endpoint.url);
            println!("  {}", draw::dim(&endpoint.curl));
        }
        if done.gradual && !sent.preview {
            println!("  {}", draw::dim(&format!("kanzlei gradual show {}", done.name)));
        }
    }
    Ok(())
}
