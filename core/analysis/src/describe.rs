//! The beginning of a service: its document from a published description of its API, or from answers that were seen.
//!
//! ```
//! use kanzlei_analysis::describe::{Described, describe};
//! let api = "openapi: 3.1.0\ninfo: {title: Tide tables, version: '1'}\nservers: [{url: https://tides.example/api}]\npaths: {}\n";
//! let Described { document, beside, .. } = describe("tides", api, None).unwrap();
//! assert_eq!(document, "service: tides\nabout: Tide tables\nbase: https://tides.example/api\nopenapi: tides.openapi.yaml\n");
//! assert_eq!(beside, "tides.openapi.yaml");
//! ```

use kanzlei_compiler::check::{Bundle, check};
use kanzlei_lang::diagnostic::{Diagnostic, Report, Severity};
use kanzlei_lang::document::reader::is_document_name;
use kanzlei_lang::document::service::Service;
use kanzlei_lang::document::yaml::{self, Kind, Node, quoted};
use kanzlei_model::address::has_private_host;

/// A service that is described.
#[derive(Debug)]
pub struct Described {
    /// The text of its document.
    pub document: String,
    /// The name of the file with the description, beside the document.
    pub beside: String,
    /// Its base address.
    pub base: String,
    /// Whether that is private, so that calls need its network allowed.
    pub private: bool,
    /// The service as the checker reads it.
    pub service: Option<std::sync::Arc<Service>>,
    /// What the checker warns of.
    pub warnings: Vec<Diagnostic>,
}

/// Why a service cannot be described.
#[derive(Debug)]
pub enum Refused {
    /// In a sentence.
    Because(String),
    /// By findings in the description.
    Findings(Vec<Diagnostic>),
}

/// Writes the document of a service; `base` stands in place of the server that its description names.
pub fn describe(name: &str, description: &str, base: Option<&str>) -> Result<Described, Refused> {
    let because = |why: String| Err(Refused::Because(why));
    if !is_document_name(name) {
        return because(format!("`{name}` cannot be the name of a service; lower-case letters, digits and hyphens"));
    }
    let mut report = Report::new("the description", description);
    let Some(root) = yaml::parse(&mut report) else { return Err(Refused::Findings(report.finish())) };
    let version = root.get("openapi").and_then(Node::as_text).unwrap_or_default();
    if !version.starts_with("3.") {
        let what = match root.get("swagger") {
            Some(_) => "it describes its API by Swagger 2.0",
            None => "it is no OpenAPI document",
        };
        return because(format!("{what}; OpenAPI 3.0 and 3.1 are read"));
    }
    let server = root.get("servers").and_then(|servers| match &servers.kind {
        Kind::List(items) => items.first()?.get("url").and_then(Node::as_text),
        _ => None,
    });
    let about = root.get("info").and_then(|info| info.get("title")).and_then(Node::as_text).unwrap_or(name);
    let given = base.map(str::trim).filter(|base| !base.is_empty());
    let Some(base) = given.or(server.filter(|url| url.starts_with("http"))) else {
        return because("it names no server; give the base address of the service: https://…".to_owned());
    };
    let extension = if description.trim_start().starts_with('{') { "json" } else { "yaml" };
    let beside = format!("{name}.openapi.{extension}");
    // Addresses that are not public are called only where the document says so.
    let private = has_private_host(base);
    let network = if private { "network: private\n" } else { "" };
    let document = format!("service: {name}\nabout: {}\nbase: {base}\n{network}openapi: {beside}\n", quoted(about));
    let mut bundle = Bundle::default();
    bundle.add("service.yaml", &document);
    bundle.files.insert(beside.clone(), description.to_owned());
    let checked = check(&bundle);
    let (errors, warnings): (Vec<Diagnostic>, Vec<Diagnostic>) =
        checked.diagnostics.into_iter().partition(|found| found.severity == Severity::Error);
    if !errors.is_empty() {
        return Err(Refused::Findings(errors));
    }
    let service = checked.services.get(name).cloned();
    Ok(Described { document, beside, base: base.to_owned(), private, service, warnings })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_description_is_refused_with_a_reason() {
        let api = |servers: &str| format!("openapi: 3.1.0\ninfo: {{title: t, version: '1'}}\n{servers}paths: {{}}\n");
        for (name, text, base, why) in [
            ("My Tides", api(""), None, "cannot be the name"),
            ("tides", "swagger: '2.0'\n".to_owned(), None, "Swagger 2.0"),
            ("tides", "a: b\n".to_owned(), None, "no OpenAPI document"),
            ("tides", api(""), None, "names no server"),
            ("tides", api("servers: [{url: /api}]\n"), Some(" "), "names no server"),
        ] {
            match describe(name, &text, base) {
                Err(Refused::Because(said)) => assert!(said.contains(why), "{said}"),
                other => panic!("{name} {text}: {other:?}"),
            }
        }
        assert!(matches!(describe("tides", "a: [", None), Err(Refused::Findings(found)) if !found.is_empty()));
        assert!(matches!(describe("tides", &api(""), Some("ftp://x")), Err(Refused::Findings(_))));
        let private = describe("tides", &api(""), Some("http://127.0.0.1:9")).expect("described");
        assert!(private.private && private.document.contains("network: private"), "{}", private.document);
    }
}
