//! What assistants read: the handbook, schemas, findings and examples of this version, live workflows and services of the service.

use kanzlei_lang::document::{KINDS, schema};
use rmcp::model::{ReadResourceResult, Resource, ResourceContents, ResourceTemplate};
use serde_json::Value as Json;

use crate::{Session, segment};

/// The chapters of the handbook.
pub const CHAPTERS: &[(&str, &str)] = include!(concat!(env!("OUT_DIR"), "/chapters.rs"));

const MARKDOWN: &str = "text/markdown";
const YAML: &str = "application/yaml";
const JSON: &str = "application/json";

fn resource(uri: String, name: &str, about: &str, media: &str) -> Resource {
    Resource::new(uri, name).with_description(about).with_mime_type(media)
}

/// All resources; without those of the service where it does not answer.
pub async fn list(session: &Session<'_>) -> Vec<Resource> {
    let mut out: Vec<Resource> = CHAPTERS
        .iter()
        .map(|(name, text)| {
            let title = text.lines().next().unwrap_or_default().trim_start_matches('#').trim();
            resource(format!("kanzlei://handbook/{name}"), name, &format!("Handbook: {title}"), MARKDOWN)
        })
        .collect();
    out.extend(KINDS.iter().map(|kind| {
        resource(format!("kanzlei://schema/{kind}"), kind, &format!("JSON Schema of documents of kind `{kind}`"), JSON)
    }));
    out.extend(kanzlei_gallery::EXAMPLES.iter().map(|example| {
        resource(
            format!("kanzlei://example/{}", example.name),
            example.name,
            &format!("Example: {}", example.about),
            YAML,
        )
    }));
    for (path, key, kind) in [("/workflows", "workflows", "workflow"), ("/services", "services", "service")] {
        let found = session.get(path).await.unwrap_or_default();
        for one in found[key].as_array().into_iter().flatten() {
            let text = |name: &str| one[name].as_str().unwrap_or_default().to_owned();
            let about = format!("Live {kind}: {}", text("about"));
            out.push(resource(
                format!("kanzlei://{kind}/{}", text("name")),
                &text("name"),
                &about,
                if kind == "workflow" { YAML } else { JSON },
            ));
        }
    }
    out
}

/// The forms of addresses.
pub fn templates() -> Vec<ResourceTemplate> {
    [
        ("kanzlei://handbook/{chapter}", "handbook", "A chapter of the handbook"),
        ("kanzlei://schema/{kind}", "schema", "The JSON Schema of a kind of document"),
        ("kanzlei://example/{name}", "example", "A worked example with its cases"),
        ("kanzlei://finding/{code}", "finding", "What a finding means, with a wrong example and a corrected one"),
        ("kanzlei://workflow/{name}", "workflow", "The document of a live workflow"),
        ("kanzlei://service/{name}", "service", "The operations of a live service, with what they take and return"),
    ]
    .into_iter()
    .map(|(uri, name, about)| ResourceTemplate::new(uri, name).with_description(about))
    .collect()
}

/// Reads a resource; returns why it cannot be read.
pub async fn read(session: &Session<'_>, uri: &str) -> Result<ReadResourceResult, String> {
    let (text, media) = text(session, uri).await?;
    Ok(ReadResourceResult::new(vec![ResourceContents::text(text, uri).with_mime_type(media)]))
}

pub async fn text(session: &Session<'_>, uri: &str) -> Result<(String, &'static str), String> {
    let unknown = || format!("there is no resource `{uri}`");
    let (kind, name) = uri.strip_prefix("kanzlei://").and_then(|rest| rest.split_once('/')).ok_or_else(unknown)?;
    Ok(match kind {
        "handbook" => {
            let chapter = CHAPTERS.iter().find(|(known, _)| *known == name).ok_or_else(unknown)?;
            (chapter.1.to_owned(), MARKDOWN)
        }
        "schema" => (pretty(&schema::of(name).ok_or_else(unknown)?), JSON),
        "example" => {
            let example = kanzlei_gallery::example(name).ok_or_else(unknown)?;
            (format!("{}\n---\n{}", example.workflow(), example.cases()), YAML)
        }
        "finding" => (finding(name).ok_or_else(unknown)?, MARKDOWN),
        "workflow" => {
            let found = session.get(format!("/workflows/{}", segment(name))).await?;
            (found["source"].as_str().unwrap_or_default().to_owned(), YAML)
        }
        "service" => (pretty(&session.get(format!("/services/{}", segment(name))).await?), JSON),
        _ => return Err(unknown()),
    })
}

/// What a finding means, as Markdown.
pub fn finding(code: &str) -> Option<String> {
    kanzlei_analysis::explain::of(code).map(|known| format!("# {code}\n\n{}", known.text))
}

fn pretty(value: &Json) -> String {
    serde_json::to_string_pretty(value).unwrap_or_default()
}
