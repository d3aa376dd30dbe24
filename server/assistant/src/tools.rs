//! What assistants do. Only `save_draft`, `discard_draft` and `deploy` change something on the service; a trial performs nothing.

use std::sync::Arc;

use rmcp::model::{Tool, ToolAnnotations};
use serde_json::{Value as Json, json};

use crate::{Request, Session, resources, segment, success};

fn tool(name: &'static str, about: &'static str, read_only: bool, properties: Json, required: &[&str]) -> Tool {
    let schema =
        json!({"type": "object", "properties": properties, "required": required, "additionalProperties": false});
    let members = schema.as_object().cloned().unwrap_or_default();
    let hints = ToolAnnotations::new()
        .read_only(read_only)
        .destructive(name == "deploy" || name == "discard_draft")
        .open_world(false);
    Tool::new(name, about, Arc::new(members)).annotate(hints)
}

/// The tools; `deploy` only where that is allowed.
pub fn list(deploys: bool) -> Vec<Tool> {
    let document = json!({"type": "array", "description": "Documents that are worked on; each stands in place of the live one of its kind and name, beside all others that are live", "items": {"type": "object", "properties": {"path": {"type": "string", "description": "workflows/NAME.yaml"}, "text": {"type": "string"}}, "required": ["path", "text"]}});
    let drafts = json!({"type": "array", "description": "Drafts that are seen too", "items": {"type": "object", "properties": {"kind": {"type": "string"}, "name": {"type": "string"}}, "required": ["kind", "name"]}});
    let text = |about: &str| json!({"type": "string", "description": about});
    let mut out = vec![
        tool(
            "search_examples",
            "Finds worked examples by what is needed, the best first; read one as kanzlei://example/NAME.",
            true,
            json!({"need": text("What is needed, in words")}),
            &["need"],
        ),
        tool(
            "check",
            "Checks documents beside what is live: findings with code, line and fixes; an empty list means that they are sound.",
            true,
            json!({"documents": document, "drafts": drafts}),
            &[],
        ),
        tool(
            "complete",
            "Lists what can stand at a place of a document: keys, operations, names with their types.",
            true,
            json!({"text": text("The document"), "path": text("Its path; default: workflows/draft.yaml"), "line": {"type": "integer", "minimum": 1}, "column": {"type": "integer", "minimum": 1}}),
            &["text", "line", "column"],
        ),
        tool(
            "explain_finding",
            "Explains a finding by its code, with a wrong example and a corrected one.",
            true,
            json!({"code": text("The code: maybe-missing")}),
            &["code"],
        ),
        tool(
            "rehearse",
            "Runs the cases of a workflow with stubs: what passed, what differs, which steps and branches no case takes.",
            true,
            json!({"workflow": text("The workflow"), "documents": document, "drafts": drafts, "only": text("The name of one case, with what each step did")}),
            &["workflow"],
        ),
        tool(
            "try",
            "Runs a workflow once with an input. Nothing outside is asked: services and databases answer from stubs and examples, and nothing is changed.",
            true,
            json!({"workflow": text("The workflow"), "input": {"type": "object", "description": "Its input; what is missing comes from a sample"}, "stubs": text("Stubs as YAML, as documents of cases have them"), "documents": document, "drafts": drafts}),
            &["workflow"],
        ),
        tool("list_drafts", "Lists the drafts on the service.", true, json!({}), &[]),
        tool(
            "read_draft",
            "Reads a draft with its version.",
            true,
            json!({"kind": text("workflow, cases, service, library or another kind"), "name": text("Its name")}),
            &["kind", "name"],
        ),
        tool(
            "save_draft",
            "Saves a document as a draft and returns its findings. A draft that exists is replaced only with the version that was read.",
            false,
            json!({"text": text("The document; its first key names kind and name"), "version": {"type": "integer", "description": "The version of the draft that was read; left out for a new one"}}),
            &["text"],
        ),
        tool(
            "discard_draft",
            "Discards a draft.",
            false,
            json!({"kind": text("Its kind"), "name": text("Its name"), "version": {"type": "integer", "description": "The version that was read"}}),
            &["kind", "name", "version"],
        ),
        tool(
            "list_runs",
            "Lists past runs, newest first.",
            true,
            json!({"workflow": text("Only of this workflow"), "state": text("succeeded, rejected, failed or cancelled"), "since": text("An instant, or a span such as 2h"), "limit": {"type": "integer", "minimum": 1, "maximum": 100}}),
            &[],
        ),
        tool(
            "read_run",
            "Reads a run: its input, what each step did, its failure. Confidential values are masked.",
            true,
            json!({"id": text("The id of the run")}),
            &["id"],
        ),
    ];
    if deploys {
        out.push(tool(
            "deploy",
            "Puts drafts live, all or none, after their cases passed.",
            false,
            json!({
                "drafts": {"type": "array", "items": drafts["items"], "minItems": 1},
                "gradual": {
                    "type": "object",
                    "description": "The live revision of a workflow stays, and the new one serves a part beside it: a share of requests in percent. It is taken back by itself when its failures are above those of the live one by more than `margin` points, or its times by more than `slower` percent",
                    "properties": {"share": {"type": "number", "minimum": 0, "maximum": 100}, "margin": {"type": "number"}, "slower": {"type": "number"}},
                    "required": ["share"]
                }
            }),
            &["drafts"],
        ));
    }
    out
}

/// Calls a tool; returns its result, or why there is none.
pub async fn call(session: &Session<'_>, name: &str, given: &Json) -> Result<Json, String> {
    let text = |name: &str| given[name].as_str().unwrap_or_default();
    let needed = |name: &str| match given[name].as_str() {
        Some(text) if !text.is_empty() => Ok(text),
        _ => Err(format!("`{name}` is missing")),
    };
    let list = |name: &str| given.get(name).cloned().unwrap_or_else(|| json!([]));
    match name {
        "search_examples" => {
            let found = kanzlei_gallery::search(text("need")).into_iter().take(8);
            let one = |one: &kanzlei_gallery::Example| json!({"name": one.name, "shows": one.about, "kinds": one.kinds(), "resource": format!("kanzlei://example/{}", one.name)});
            Ok(found.map(one).collect())
        }
        "check" => {
            let asked = json!({"documents": list("documents"), "drafts": list("drafts")});
            session.ask("POST", "/check", Some(asked)).await
        }
        "complete" => {
            let document = needed("text")?;
            let path = match text("path") {
                "" => "workflows/draft.yaml",
                path => path,
            };
            let position =
                position(document, given["line"].as_u64().unwrap_or(1), given["column"].as_u64().unwrap_or(1));
            let asked = json!({"documents": [{"path": path, "text": document}], "path": path, "position": position});
            session.ask("POST", "/language/completion", Some(asked)).await
        }
        "explain_finding" => {
            let code = needed("code")?;
            resources::finding(code).map(Json::from).ok_or_else(|| format!("there is no finding `{code}`"))
        }
        "rehearse" => {
            let asked = json!({"workflow": needed("workflow")?, "documents": list("documents"), "drafts": list("drafts"), "only": text("only")});
            session.ask("POST", "/rehearsals", Some(asked)).await
        }
        "try" => {
            let input = given.get("input").cloned().unwrap_or(Json::Null);
            // What only reads is performed by default; here nothing is.
            let asked = json!({
                "workflow": needed("workflow")?, "documents": list("documents"), "drafts": list("drafts"),
                "input": input, "stubs": text("stubs"), "simulated": outside(session, given).await?, "live": false, "real": [],
            });
            session.ask("POST", "/trials", Some(asked)).await
        }
        "list_drafts" => session.get("/drafts").await,
        "read_draft" => session.get(draft_path(needed("kind")?, needed("name")?)).await,
        "save_draft" => save(session, needed("text")?, given["version"].as_u64()).await,
        "discard_draft" => {
            let version = given["version"].as_u64().ok_or("`version` is missing: read the draft first")?;
            let request = Request {
                method: "DELETE",
                path: draft_path(needed("kind")?, needed("name")?),
                body: None,
                condition: Some(("if-match", format!("\"{version}\""))),
                authorization: None,
            };
            success(session.send(request).await?).map(|_| "The draft is discarded.".into())
        }
        "list_runs" => {
            let mut query: Vec<String> = ["workflow", "state", "since"]
                .into_iter()
                .filter(|name| !text(name).is_empty())
                .map(|name| format!("{name}={}", segment(text(name))))
                .collect();
            query.push(format!("limit={}", given["limit"].as_u64().unwrap_or(20).clamp(1, 100)));
            session.get(format!("/runs?{}", query.join("&"))).await
        }
        "read_run" => session.get(format!("/runs/{}", segment(needed("id")?))).await,
        "deploy" => deploy(session, list("drafts"), given.get("gradual")).await,
        name => Err(format!("there is no tool `{name}`")),
    }
}

fn draft_path(kind: &str, name: &str) -> String {
    format!("/drafts/{}/{}", segment(kind), segment(name))
}

/// The byte of a text at a line and a column, both from 1; its end where it has no such place.
fn position(text: &str, line: u64, column: u64) -> usize {
    let mut at = 0;
    for (number, found) in text.split_inclusive('\n').enumerate() {
        if number as u64 + 1 == line {
            let own = found.trim_end_matches('\n');
            let within = own.char_indices().nth((column as usize).saturating_sub(1)).map_or(own.len(), |(at, _)| at);
            return at + within;
        }
        at += found.len();
    }
    text.len()
}

/// All that a run could ask for outside: every service, those of the given documents too, and every database.
async fn outside(session: &Session<'_>, given: &Json) -> Result<Vec<String>, String> {
    let mut names = Vec::new();
    for (path, key, prefix) in [("/services", "services", ""), ("/databases", "databases", "sql.")] {
        let found = session.get(path).await?;
        let listed = found[key].as_array().into_iter().flatten();
        names.extend(listed.filter_map(|one| Some(format!("{prefix}{}", one["name"].as_str()?))));
    }
    let texts = given["documents"].as_array().into_iter().flatten().filter_map(|one| one["text"].as_str());
    names.extend(texts.filter_map(|text| {
        let line = text.lines().find(|line| line.starts_with("service:"))?;
        Some(line.trim_start_matches("service:").split('#').next()?.trim().to_owned())
    }));
    Ok(names)
}

/// Kind and name of a document, by its first key.
fn named(text: &str) -> Result<(&'static str, String), String> {
    let unnamed = || "the first key of a document names its kind and its name: `workflow: NAME`".to_owned();
    let kind = kanzlei_lang::document::kind_of(text).ok_or_else(unnamed)?;
    let line = text.lines().find(|line| line.starts_with(kind)).ok_or_else(unnamed)?;
    let name = line[kind.len()..].trim_start_matches(':').split(" #").next().unwrap_or_default();
    let name = name.trim().trim_matches(['"', '\'']).to_owned();
    match kanzlei_lang::document::reader::is_document_name(&name) {
        true => Ok((kind, name)),
        false => Err(format!("`{name}` cannot be the name of a document; lower-case letters, digits and hyphens")),
    }
}

async fn save(session: &Session<'_>, text: &str, version: Option<u64>) -> Result<Json, String> {
    let (kind, name) = named(text)?;
    let condition = match version {
        Some(version) => ("if-match", format!("\"{version}\"")),
        None => ("if-none-match", "*".to_owned()),
    };
    let folder = if kind == "cases" { "cases".to_owned() } else { format!("{kind}s") };
    let request = Request {
        method: "PUT",
        path: draft_path(kind, &name),
        body: Some(json!({"path": format!("{folder}/{name}.yaml"), "text": text})),
        condition: Some(condition),
        authorization: None,
    };
    let answer = session.send(request).await?;
    if answer.status == 412 || answer.status == 409 {
        return Err(format!(
            "another version of the draft of the {kind} `{name}` is there: read it with read_draft, and pass its version"
        ));
    }
    let saved = success(answer)?;
    let checked =
        session.ask("POST", "/check", Some(json!({"documents": [], "drafts": [{"kind": kind, "name": name}]}))).await?;
    Ok(json!({"kind": kind, "name": name, "version": saved["line"]["version"], "diagnostics": checked["diagnostics"]}))
}

/// Deploys drafts whose cases pass.
async fn deploy(session: &Session<'_>, drafts: Json, gradual: Option<&Json>) -> Result<Json, String> {
    for draft in drafts.as_array().into_iter().flatten().filter(|draft| draft["kind"] == "workflow") {
        let known = session.get("/drafts").await?;
        let has_cases = |one: &Json| one["kind"] == "cases" && one["name"] == draft["name"];
        if !known["drafts"].as_array().is_some_and(|all| all.iter().any(has_cases)) {
            continue;
        }
        let asked = json!({"workflow": draft["name"], "drafts": drafts});
        let rehearsal = session.ask("POST", "/rehearsals", Some(asked)).await?;
        let failed: Vec<&Json> =
            rehearsal["cases"].as_array().into_iter().flatten().filter(|one| one["passed"] != true).collect();
        if !failed.is_empty() {
            return Err(format!(
                "nothing was deployed: {} cases of {} fail: {}",
                failed.len(),
                draft["name"],
                json!(failed)
            ));
        }
    }
    // Cases stay beside the documents.
    let live: Vec<Json> =
        drafts.as_array().into_iter().flatten().filter(|one| one["kind"] != "cases").cloned().collect();
    let mut asked = json!({"documents": [], "drafts": live});
    if let Some(rules) = gradual {
        asked["gradual"] = rules.clone();
    }
    session.ask("POST", "/deploys", Some(asked)).await
}

#[cfg(test)]
mod tests {
    use super::{named, position};

    #[test]
    fn documents_say_what_they_are() {
        for (text, wanted) in [
            ("workflow: a-b\nsteps: []\n", Some(("workflow", "a-b"))),
            ("# mine\ncases: \"x\"  # of it\n", Some(("cases", "x"))),
            ("steps: []\n", None),
            ("workflow: ../x\n", None),
        ] {
            assert_eq!(named(text).ok(), wanted.map(|(kind, name)| (kind, name.to_owned())), "{text}");
        }
    }

    #[test]
    fn places_are_bytes_of_a_text() {
        for (line, column, wanted) in [(1, 1, 0), (1, 99, 2), (2, 2, 5), (2, 3, 6), (9, 1, 9)] {
            assert_eq!(position("ab\nåcde\n", line, column), wanted, "{line}:{column}");
        }
    }
}
