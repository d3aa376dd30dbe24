//! `new` and `service`: beginning from a worked example, and from a published API description.

use std::path::{Path, PathBuf};

use kanzlei_analysis::describe::{Refused, describe};
use kanzlei_api::services::{self as api, Services, ServicesQuery};
use kanzlei_lang::document::reader::is_document_name;

use kanzlei_gallery::EXAMPLES;

use super::{listing, print_json, segment};
use crate::api::Api;
use crate::{Done, Error, draw};

fn examples() -> String {
    EXAMPLES.iter().map(|e| format!("  {:<18} {}", e.name, e.about)).collect::<Vec<_>>().join("\n")
}

/// Lists worked examples for a need, or shows one.
pub fn gallery(words: &[String], show: Option<&str>, json: bool) -> Done {
    if let Some(name) = show {
        let Some(example) = kanzlei_gallery::example(name) else { return Err(no_example(name)) };
        println!("{}", example.workflow());
        println!("{}", draw::dim(&format!("# its cases and what it needs: kanzlei new my-own --like {name}")));
        return Ok(());
    }
    let need = words.join(" ");
    let found = kanzlei_gallery::search(&need);
    if json {
        let listed =
            found.iter().map(|one| serde_json::json!({"name": one.name, "about": one.about, "kinds": one.kinds()}));
        print_json(&listed.collect::<Vec<_>>());
        return Ok(());
    }
    if found.is_empty() {
        println!("No example is about `{need}`. All of them: kanzlei examples");
        return Ok(());
    }
    let rows =
        found.iter().map(|one| vec![draw::bold(one.name), one.about.to_owned(), draw::dim(&one.kinds().join(" "))]);
    draw::table(&["example", "shows", "entries and steps"], rows);
    let first = found[0].name;
    println!(
        "{}",
        draw::dim(&format!(
            "read one: kanzlei examples --show {first}; begin from it: kanzlei new my-own --like {first}"
        ))
    );
    Ok(())
}

fn no_example(name: &str) -> Error {
    let near = kanzlei_lang::suggest::nearest(name, EXAMPLES.iter().map(|example| example.name));
    let hint = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
    Error::Usage(format!("there is no example `{name}`{hint}\nExamples:\n{}", examples()))
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
    let Some(example) = kanzlei_gallery::example(wanted) else { return Err(no_example(wanted)) };
    let mut files: Vec<(PathBuf, String)> = Vec::new();
    files.push((folder.join(format!("workflows/{name}.yaml")), example.renamed(name).0));
    files.push((folder.join(format!("cases/{name}.yaml")), example.renamed(name).1));
    if let Some((file, _)) = files.iter().find(|(file, _)| file.exists()) {
        return Err(Error::Usage(format!("{} exists already; choose another name", file.display())));
    }
    let own = [format!("workflows/{}.yaml", example.name), format!("cases/{}.yaml", example.name)];
    let others = example.files().into_iter().filter(|(path, _)| own.iter().all(|known| known != path));
    files.extend(others.map(|(path, text)| (folder.join(path), text.to_owned())));
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

fn write(file: &Path, text: &str) -> Done {
    let failed = |error: std::io::Error| Error::Usage(format!("{}: {error}", file.display()));
    if let Some(folder) = file.parent() {
        std::fs::create_dir_all(folder).map_err(failed)?;
    }
    std::fs::write(file, text).map_err(failed)
}

/// Writes a published API description into the folder and the service's document beside it.
pub fn add_service(name: &str, path: &Path, base: Option<&str>, folder: &Path) -> Done {
    let folder = folder.strip_prefix(".").unwrap_or(folder);
    let text = std::fs::read_to_string(path).map_err(|error| Error::Usage(format!("{}: {error}", path.display())))?;
    let file = folder.join(format!("services/{name}.yaml"));
    if file.exists() {
        return Err(Error::Usage(format!("{} exists already", file.display())));
    }
    // What is written must be good before it is written.
    let described = match describe(name, &text, base) {
        Ok(described) => described,
        Err(Refused::Because(why)) => return Err(Error::Usage(format!("{}: {why}", path.display()))),
        Err(Refused::Findings(found)) => {
            draw::diagnostics(&found, &|_| Some(text.clone()));
            return Err(Error::Failed(format!("{} is refused", path.display())));
        }
    };
    write(&folder.join(format!("services/{}", described.beside)), &text)?;
    write(&file, &described.document)?;
    println!("written   {}", file.display());
    println!("written   {}\n", folder.join(format!("services/{}", described.beside)).display());
    if described.private {
        println!(
            "{} is a private address: calls reach it where the service's configuration allows its network",
            described.base
        );
        println!("(`network.allow`).\n");
    }
    if let Some(service) = described.service {
        let all = service.operations.iter().map(|(id, operation)| api::described(&service.api, id, operation));
        operations(name, &all.collect::<Vec<_>>());
    }
    Ok(())
}

/// Lists live services.
pub fn services(api: &Api, json: bool) -> Done {
    let answer: Services = api.get(&listing("services", &ServicesQuery { day: true }))?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    let Some(first) = answer.services.first() else {
        println!("No services yet. Add one with: kanzlei service add NAME openapi.yaml");
        return Ok(());
    };
    let rows = answer.services.iter().map(|service| {
        let day = service.day.as_ref().filter(|day| day.runs > 0);
        let secrets: Vec<String> = service.secrets.iter().map(secret).collect();
        let trouble = service.token.as_ref().and_then(|token| token.trouble.as_ref());
        let trouble = trouble.map(|why| draw::paint("31", why));
        let p95 = day.and_then(|day| day.p95_us).map(|span| kanzlei_model::duration::short(span.into()));
        vec![
            service.name.clone(),
            service.operations.to_string(),
            day.map(|day| day.runs.to_string()).unwrap_or_default(),
            day.filter(|day| day.failures > 0).map(|day| day.failures.to_string()).unwrap_or_default(),
            p95.unwrap_or_default(),
            secrets.join(", "),
            service.base.clone(),
            trouble.unwrap_or_else(|| service.about.clone()),
        ]
    });
    draw::table(&["service", "operations", "calls (24 h)", "failed", "p95", "secret", "base", "about"], rows);
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
    if !service.hosts.is_empty() {
        println!("{} {}", draw::dim("hosts      "), service.hosts.join(", "));
    }
    let over_all = if service.shared { ", over all processes" } else { "" };
    let secrets: Vec<String> = service.secrets.iter().map(secret).collect();
    let token = service.token.as_ref().map(|token| {
        let valid = match token.valid_s {
            Some(seconds) => format!("valid for {seconds} s"),
            None => "none yet; the next call requests one".to_owned(),
        };
        let trouble = token.trouble.as_ref().map(|why| format!("; {}", draw::paint("31", why)));
        format!("of {}, {valid}{}", token.from, trouble.unwrap_or_default())
    });
    for (label, value) in [
        ("secret     ", (!secrets.is_empty()).then(|| secrets.join(", "))),
        ("token      ", token),
        ("at once    ", service.at_once.map(|most| format!("{most}{over_all}"))),
        ("pace       ", service.pace.as_ref().map(|pace| format!("{pace}{over_all}"))),
    ] {
        if let Some(value) = value {
            println!("{} {value}", draw::dim(label));
        }
    }
    println!();
    operations(name, &service.operations);
    Ok(())
}

/// A secret by its name, and whether it is missing.
fn secret(secret: &api::ServiceSecret) -> String {
    match secret.set {
        true => secret.name.clone(),
        false => draw::paint("31", &format!("{} is not set", secret.name)),
    }
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
    use kanzlei_lang::document;
    let source = document::Source::new("x.yaml", text);
    let (document, found) = document::read(&source, &|_| Some(String::new()));
    document.is_some() && found.is_empty()
}

#[cfg(test)]
mod tests {
    use kanzlei_lang::document;

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
