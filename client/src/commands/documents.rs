//! `check` and `deploy`.

use std::path::PathBuf;

use kanzlei_api::deploys::Deployed;
use kanzlei_compiler::check::Bundle;
use kanzlei_lang::diagnostic::{Diagnostic, Severity};
use kanzlei_lang::document::kind_of;
use kanzlei_rehearsal::check as check_bundle;
use serde_json::json;

use super::{print_json, rehearse};
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

pub fn deploy(api: &Api, paths: &[PathBuf], unrehearsed: bool, json: bool) -> Done {
    let mut bundle = files::bundle(paths)?;
    if !unrehearsed {
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
            println!(
                "\nnothing was deployed; see `kanzlei rehearse {}`, or deploy with --unrehearsed",
                rehearse::shown(paths)
            );
            return Err(Error::Bad);
        }
    }
    bundle.documents.retain(|document| kind_of(&document.text) != Some("cases"));
    if bundle.documents.is_empty() {
        return Err(Error::Usage("there are only cases here; nothing to deploy".into()));
    }
    // Services beside single files are live already, or the service says that they are not.
    bundle.context.clear();
    let answer: Deployed = match api.try_post("/deploys", &bundle)? {
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
                if let Some(other) = found.iter().find(|d| d.severity == Severity::Error && d.path.starts_with("live/"))
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
    show(&answer.warnings, &bundle);
    let mut deployed = answer.deployed;
    deployed.sort_by(|a, b| (a.kind == "workflow", &a.name).cmp(&(b.kind == "workflow", &b.name)));
    for done in &deployed {
        let how = if done.unchanged { draw::dim("unchanged") } else { "live".into() };
        println!("{:<26} revision {} · {how}", format!("{} {}", done.kind, done.name), done.revision);
        for endpoint in &done.endpoints {
            println!("  {} {}", draw::bold(&endpoint.method), endpoint.url);
            println!("  {}", draw::dim(&endpoint.curl));
        }
    }
    Ok(())
}
