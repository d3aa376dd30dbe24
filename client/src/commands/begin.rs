//! `new` and `service`: beginning from a worked example, and from a published API description.

use std::path::{Path, PathBuf};

use kanzlei_api::services::{self as api, Services, described};
use kanzlei_compiler::check::{Bundle, check};
use kanzlei_lang::diagnostic::{Report, Severity};
use kanzlei_lang::document::yaml::Node;
use kanzlei_lang::document::{self, reader::is_document_name};
use kanzlei_model::address::has_private_host;

use super::{print_json, segment};
use crate::api::Api;
use crate::{Done, Error, draw};

/// A worked example of the demo office: its workflow, its cases, and what they need.
struct Example {
    name: &'static str,
    about: &'static str,
    workflow: &'static str,
    cases: &'static str,
    services: &'static [&'static str],
    /// Workflows it invokes or queues.
    others: &'static [&'static str],
    lanes: &'static [&'static str],
}

macro_rules! example {
    ($name:literal, $about:literal, $services:expr, $others:expr) => {
        example!($name, $about, $services, $others, &[])
    };
    ($name:literal, $about:literal, $services:expr, $others:expr, $lanes:expr) => {
        Example {
            name: $name,
            about: $about,
            workflow: include_str!(concat!("../../../demo/harbour/workflows/", $name, ".yaml")),
            cases: include_str!(concat!("../../../demo/harbour/cases/", $name, ".yaml")),
            services: $services,
            others: $others,
            lanes: $lanes,
        }
    };
}

const EXAMPLES: &[Example] = &[
    example!(
        "berth-quote",
        "calls one after another, a branch, a retry, an answer",
        &["registry", "tides", "rates"],
        &[]
    ),
    example!("harbour-tides", "a GET that answers although one service is unavailable", &["tides"], &[]),
    example!("vessel-dues", "a workflow for others to invoke, with functions and a match", &["registry"], &[]),
    example!(
        "stay-bill",
        "invokes another workflow and writes to a database in one transaction",
        &["registry"],
        &["vessel-dues"]
    ),
    example!(
        "arrival-brief",
        "different calls by kind, several services at once",
        &["registry", "tides", "pilots"],
        &["vessel-dues"]
    ),
    example!(
        "gather-reports",
        "a list page by page, only what is new, each item sorted and stored",
        &["pilots", "texts"],
        &[]
    ),
    example!("harbour-report", "a GET that reports from a database", &[], &[]),
    example!(
        "arrival-notice",
        "answers at once and queues the rest, which is retried until it works",
        &["registry", "pilots"],
        &["arrival-follow-up"],
        &["vessels"]
    ),
    example!(
        "customs-clearance",
        "a job that clients poll, and that waits for a callback",
        &["customs"],
        &[],
        &["vessels"]
    ),
    example!("night-watch", "a recurring job with its time zone", &[], &[]),
];

/// What examples queue or invoke without being one to begin from.
const OTHERS: &[Example] = &[example!("arrival-follow-up", "", &[], &[])];

const LANES: &[(&str, &str)] = &[("vessels", include_str!("../../../demo/harbour/lanes/vessels.yaml"))];

const SERVICES: &[(&str, &str, &str)] = &[
    (
        "customs",
        include_str!("../../../demo/harbour/services/customs.yaml"),
        include_str!("../../../demo/harbour/services/customs.openapi.yaml"),
    ),
    (
        "registry",
        include_str!("../../../demo/harbour/services/registry.yaml"),
        include_str!("../../../demo/harbour/services/registry.openapi.yaml"),
    ),
    (
        "tides",
        include_str!("../../../demo/harbour/services/tides.yaml"),
        include_str!("../../../demo/harbour/services/tides.openapi.yaml"),
    ),
    (
        "rates",
        include_str!("../../../demo/harbour/services/rates.yaml"),
        include_str!("../../../demo/harbour/services/rates.openapi.yaml"),
    ),
    (
        "pilots",
        include_str!("../../../demo/harbour/services/pilots.yaml"),
        include_str!("../../../demo/harbour/services/pilots.openapi.yaml"),
    ),
    (
        "texts",
        include_str!("../../../demo/harbour/services/texts.yaml"),
        include_str!("../../../demo/harbour/services/texts.openapi.yaml"),
    ),
];

fn examples() -> String {
    EXAMPLES.iter().map(|e| format!("  {:<17} {}", e.name, e.about)).collect::<Vec<_>>().join("\n")
}

pub fn new(name: &str, like: Option<&str>, folder: &Path) -> Done {
    let written_in = folder;
    // Paths are shown as a person would write them: `workflows/x.yaml`, not `./workflows/x.yaml`.
    let folder = folder.strip_prefix(".").unwrap_or(folder);
    if !is_document_name(name) {
        return Err(Error::Usage(format!(
            "`{name}` cannot be the name of a workflow; lower-case letters, digits and hyphens"
        )));
    }
    let wanted = like.unwrap_or("berth-quote");
    let Some(example) = EXAMPLES.iter().find(|e| e.name == wanted) else {
        return Err(Error::Usage(format!("there is no example `{wanted}`; examples:\n{}", examples())));
    };
    let mut files: Vec<(PathBuf, String)> = Vec::new();
    files.push((folder.join(format!("workflows/{name}.yaml")), renamed(example.workflow, example.name, name)));
    files.push((folder.join(format!("cases/{name}.yaml")), renamed(example.cases, example.name, name)));
    if let Some((file, _)) = files.iter().find(|(file, _)| file.exists()) {
        return Err(Error::Usage(format!("{} exists already; choose another name", file.display())));
    }
    for other in EXAMPLES.iter().chain(OTHERS).filter(|e| example.others.contains(&e.name)) {
        files.push((folder.join(format!("workflows/{}.yaml", other.name)), other.workflow.to_owned()));
        files.push((folder.join(format!("cases/{}.yaml", other.name)), other.cases.to_owned()));
    }
    for (lane, text) in LANES.iter().filter(|(lane, _)| example.lanes.contains(lane)) {
        files.push((folder.join(format!("lanes/{lane}.yaml")), (*text).to_owned()));
    }
    for (service, text, api) in SERVICES.iter().filter(|(service, _, _)| example.services.contains(service)) {
        files.push((folder.join(format!("services/{service}.yaml")), (*text).to_owned()));
        files.push((folder.join(format!("services/{service}.openapi.yaml")), (*api).to_owned()));
    }
    for (file, text) in files {
        if file.exists() {
            println!("{} {}", draw::dim("there    "), file.display());
            continue;
        }
        write(&file, &text)?;
        println!("written   {}", file.display());
    }
    let shown = written_in.display();
    println!("\nNext:\n  kanzlei check {shown}\n  kanzlei rehearse {shown} --only {name} --watch");
    Ok(())
}

/// The example under another name, and its endpoints below a path of that name, so that both can be live.
fn renamed(text: &str, from: &str, to: &str) -> String {
    let methods = document::values::METHODS;
    let mut out = String::new();
    for (index, line) in text.lines().enumerate() {
        let mut line = match index {
            0 => line.replace(from, to),
            _ => line.to_owned(),
        };
        if from != to {
            for key in ["endpoint: ", "request: "] {
                for method in methods {
                    line = line.replace(&format!("{key}{method} /"), &format!("{key}{method} /{to}/"));
                }
            }
        }
        out.push_str(&line);
        out.push('\n');
    }
    out
}

fn write(file: &Path, text: &str) -> Done {
    let failed = |error: std::io::Error| Error::Usage(format!("{}: {error}", file.display()));
    if let Some(folder) = file.parent() {
        std::fs::create_dir_all(folder).map_err(failed)?;
    }
    std::fs::write(file, text).map_err(failed)
}

/// Takes a published API description into the folder and writes the service's document beside it.
pub fn add_service(name: &str, api: &Path, base: Option<&str>, folder: &Path) -> Done {
    let folder = folder.strip_prefix(".").unwrap_or(folder);
    if !is_document_name(name) {
        return Err(Error::Usage(format!(
            "`{name}` cannot be the name of a service; lower-case letters, digits and hyphens"
        )));
    }
    let text = std::fs::read_to_string(api).map_err(|error| Error::Usage(format!("{}: {error}", api.display())))?;
    let shown = api.display().to_string();
    let mut report = Report::new(&shown, &text);
    let root = document::yaml::parse(&mut report);
    let Some(root) = root else {
        let found = report.finish();
        draw::diagnostics(&found, &|_| Some(text.clone()));
        return Err(Error::Bad);
    };
    let version = root.get("openapi").and_then(Node::as_text).unwrap_or_default();
    if !version.starts_with("3.") {
        let what = match root.get("swagger") {
            Some(_) => "describes its API by Swagger 2.0",
            None => "is no OpenAPI document",
        };
        return Err(Error::Usage(format!("{shown} {what}; OpenAPI 3.0 and 3.1 are read")));
    }
    let server = root.get("servers").and_then(|servers| match &servers.kind {
        document::yaml::Kind::List(items) => items.first()?.get("url").and_then(Node::as_text),
        _ => None,
    });
    let about = root.get("info").and_then(|info| info.get("title")).and_then(Node::as_text).unwrap_or(name);
    let Some(base) = base.or(server.filter(|url| url.starts_with("http"))) else {
        return Err(Error::Usage(format!("{shown} names no server; set its address with --base https://…")));
    };
    let extension = if text.trim_start().starts_with('{') { "json" } else { "yaml" };
    let (file, beside) = (folder.join(format!("services/{name}.yaml")), format!("{name}.openapi.{extension}"));
    if file.exists() {
        return Err(Error::Usage(format!("{} exists already", file.display())));
    }
    // Addresses that are not public are called only where the document says so.
    let network = if has_private_host(base) { "network: private\n" } else { "" };
    let document = format!(
        "service: {name}\nabout: {}\nbase: {base}\n{network}openapi: {beside}\n",
        kanzlei_api::Json::from(about)
    );
    // What is written must be good before it is written.
    let mut bundle = Bundle::default();
    bundle.add("service.yaml", &document);
    bundle.files.insert(beside.clone(), text.clone());
    let checked = check(&bundle);
    if checked.errors() > 0 {
        for found in checked.diagnostics.iter().filter(|d| d.severity == Severity::Error) {
            eprintln!("{}", found.message);
        }
        return Err(Error::Failed(format!("{shown} is refused")));
    }
    write(&folder.join(format!("services/{beside}")), &text)?;
    write(&file, &document)?;
    println!("written   {}", file.display());
    println!("written   {}\n", folder.join(format!("services/{beside}")).display());
    if !network.is_empty() {
        println!("{base} is a private address: calls reach it where the service's configuration allows its network");
        println!("(`network.allow`).\n");
    }
    if let Some(service) = checked.services.get(name) {
        let described = service.operations.iter().map(|(id, operation)| described(&service.api, id, operation));
        operations(name, &described.collect::<Vec<_>>());
    }
    Ok(())
}

/// Lists live services.
pub fn services(api: &Api, json: bool) -> Done {
    let answer: Services = api.get("/services")?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    let Some(first) = answer.services.first() else {
        println!("No services yet. Add one with: kanzlei service add NAME openapi.yaml");
        return Ok(());
    };
    let rows = answer.services.iter().map(|service| {
        vec![service.name.clone(), service.operations.to_string(), service.base.clone(), service.about.clone()]
    });
    draw::table(&["service", "operations", "base", "about"], rows);
    println!("\nIts operations with parameters and results: kanzlei service show {}", first.name);
    Ok(())
}

/// Shows a live service with its operations.
pub fn show_service(api: &Api, name: &str, json: bool) -> Done {
    let service: api::Service = api.get(&format!("/services/{}", segment(name)))?;
    if json {
        print_json(&service);
        return Ok(());
    }
    println!("{}  {}", draw::bold(&service.name), service.about);
    println!("{} {} ({})", draw::dim("base       "), service.base, service.network);
    let at_once = service.at_once.map(|most| most.to_string());
    for (label, value) in [("secret     ", &service.secret), ("at once    ", &at_once), ("pace       ", &service.pace)]
    {
        if let Some(value) = value {
            println!("{} {value}", draw::dim(label));
        }
    }
    println!();
    operations(name, &service.operations);
    Ok(())
}

fn operations(name: &str, operations: &[api::Operation]) {
    for operation in operations {
        let call = draw::bold(&format!("{name}.{}", operation.id));
        println!("{call}  {} {}", draw::dim(&operation.method), draw::dim(&operation.path));
        if !operation.about.is_empty() {
            println!("    {}", operation.about);
        }
        for parameter in &operation.parameters {
            let mark = if parameter.required { "" } else { "?" };
            println!("    {} {}{mark}: {}", draw::dim("send"), parameter.name, parameter.of);
        }
        if let Some(body) = &operation.body {
            println!("    {} {body}", draw::dim("body"));
        }
        for answer in &operation.answers {
            println!("    {}  {}", draw::dim(&answer.status), answer.of);
        }
    }
}

/// Whether a text is a document of ours that reads without faults.
#[cfg(test)]
fn reads(text: &str) -> bool {
    let source = document::Source::new("x.yaml", text);
    let (document, found) = document::read(&source, &|_| Some(String::new()));
    document.is_some() && found.is_empty()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_example_begins_a_workflow_of_another_name() {
        for example in EXAMPLES {
            let dir = std::env::temp_dir().join(format!("kanzlei-new-{}-{}", example.name, std::process::id()));
            new("my-own", Some(example.name), &dir).expect(example.name);
            let bundle = crate::files::bundle(std::slice::from_ref(&dir)).expect("bundle");
            assert!(bundle.documents.iter().all(|d| document::kind_of(&d.text) == Some("service") || reads(&d.text)));
            let (checked, rehearsals) = kanzlei_rehearsal::check(&bundle);
            assert_eq!(checked.errors(), 0, "{}: {:?}", example.name, checked.diagnostics);
            assert!(checked.plan("my-own").is_some());
            for prepared in &rehearsals {
                for index in 0..prepared.len() {
                    assert!(prepared.run(index).passed(), "{} {}", example.name, prepared.name(index));
                }
            }
            assert!(matches!(new("my-own", Some(example.name), &dir), Err(Error::Usage(_))), "nothing is overwritten");
            let _ = std::fs::remove_dir_all(&dir);
        }
        assert!(
            matches!(new("x", Some("nothing"), Path::new("/nowhere")), Err(Error::Usage(why)) if why.contains("stay-bill"))
        );
    }
}
