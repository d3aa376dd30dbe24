//! Prompts to begin with: each brings what an assistant needs for one task, so that it need not guess.

use rmcp::model::{GetPromptResult, Prompt, PromptArgument, PromptMessage, Role};
use serde_json::{Value as Json, json};

use crate::{Session, cut, resources, segment};

fn prompt(name: &str, about: &str, argument: &str, says: &str) -> Prompt {
    let argument = PromptArgument::new(argument).with_description(says).with_required(true);
    Prompt::new(name, Some(about), Some(vec![argument]))
}

/// The prompts.
pub fn list() -> Vec<Prompt> {
    vec![
        prompt("draft_workflow", "Draft a workflow from a wish", "wish", "What it should do, in a few sentences"),
        prompt("explain_failure", "Explain why a run failed and what would mend it", "run", "The id of the run"),
        prompt(
            "write_cases",
            "Write cases for the branches of a workflow that none takes",
            "workflow",
            "The workflow, live or a draft",
        ),
    ]
}

/// Makes a prompt; returns why it cannot be made.
pub async fn make(session: &Session<'_>, name: &str, given: &Json) -> Result<GetPromptResult, String> {
    let needed =
        |name: &str| given[name].as_str().filter(|text| !text.is_empty()).ok_or_else(|| format!("`{name}` is missing"));
    let text = match name {
        "draft_workflow" => draft(session, needed("wish")?).await?,
        "explain_failure" => failure(session, needed("run")?).await?,
        "write_cases" => cases(session, needed("workflow")?).await?,
        name => return Err(format!("there is no prompt `{name}`")),
    };
    Ok(GetPromptResult::new(vec![PromptMessage::new_text(Role::User, cut(text))]))
}

async fn draft(session: &Session<'_>, wish: &str) -> Result<String, String> {
    let mut text = format!(
        "Draft a Kanzlei workflow that does this:\n\n> {}\n\nWrite one YAML document. Use only the operations of the services below. Check it with the tool `check` until there are no findings, write cases for each of its branches, rehearse them, then save both as drafts with `save_draft`. Do not deploy.\n",
        wish.replace('\n', "\n> ")
    );
    let services = session.get("/services").await?;
    text.push_str("\n## Services that are live\n");
    for service in services["services"].as_array().into_iter().flatten() {
        let name = service["name"].as_str().unwrap_or_default();
        text.push_str(&format!("\n- `{name}`: {}", service["about"].as_str().unwrap_or_default()));
        let shown = session.get(format!("/services/{}", segment(name))).await?;
        for operation in shown["operations"].as_array().into_iter().flatten() {
            let id = operation["id"].as_str().unwrap_or_default();
            text.push_str(&format!("\n  - `{name}.{id}`: {}", operation["about"].as_str().unwrap_or_default()));
        }
    }
    text.push_str("\n\n## Examples near it\n");
    for example in kanzlei_gallery::search(wish).into_iter().take(2) {
        text.push_str(&format!("\n{}:\n\n```yaml\n{}```\n", example.about, example.workflow()));
    }
    let (language, _) = resources::text(session, "kanzlei://handbook/language").await?;
    text.push_str(&format!("\n## The language\n\n{language}"));
    Ok(text)
}

async fn failure(session: &Session<'_>, id: &str) -> Result<String, String> {
    let run = session.get(format!("/runs/{}", segment(id))).await?;
    let workflow = run["workflow"].as_str().unwrap_or_default();
    let document = resources::text(session, &format!("kanzlei://workflow/{workflow}")).await.map(|(text, _)| text);
    Ok(format!(
        "Explain why this run of `{workflow}` ended as it did: which step, what it was given, what came back, and what would mend it. If the workflow should change, show the change as a draft that passes `check`; if the cause lies outside, say where. Masked values (•••) are confidential: do not ask for them.\n\n## The run\n\n```json\n{}\n```\n\n## The workflow as it is live\n\n```yaml\n{}\n```\n",
        serde_json::to_string_pretty(&run).unwrap_or_default(),
        document.unwrap_or_else(|why| format!("# {why}"))
    ))
}

async fn cases(session: &Session<'_>, workflow: &str) -> Result<String, String> {
    let of_draft = |kind: &str| format!("/drafts/{kind}/{}", segment(workflow));
    let drafts = session.get("/drafts").await?;
    let has = |kind: &str| {
        drafts["drafts"]
            .as_array()
            .is_some_and(|all| all.iter().any(|one| one["kind"] == kind && one["name"] == workflow))
    };
    let document = match has("workflow") {
        true => session.get(of_draft("workflow")).await?["text"].as_str().unwrap_or_default().to_owned(),
        false => resources::text(session, &format!("kanzlei://workflow/{workflow}")).await?.0,
    };
    let seen: Vec<Json> = ["workflow", "cases"]
        .into_iter()
        .filter(|kind| has(kind))
        .map(|kind| json!({"kind": kind, "name": workflow}))
        .collect();
    let (own, coverage) = match has("cases") {
        true => {
            let text = session.get(of_draft("cases")).await?["text"].as_str().unwrap_or_default().to_owned();
            let rehearsal =
                session.ask("POST", "/rehearsals", Some(json!({"workflow": workflow, "drafts": seen}))).await?;
            (text, serde_json::to_string_pretty(&rehearsal["coverage"]).unwrap_or_default())
        }
        false => {
            (format!("cases: {workflow}\nexamples: []\n"), "there are no cases yet: every branch is missing".to_owned())
        }
    };
    let (chapter, _) = resources::text(session, "kanzlei://handbook/cases").await?;
    Ok(format!(
        "Write cases for the steps and branches of `{workflow}` that no case takes yet. Keep those that are there. Stub every call; invent no members that its service does not return. Rehearse until all pass and nothing is missing, then save the cases with `save_draft`.\n\n## The workflow\n\n```yaml\n{document}\n```\n\n## Its cases\n\n```yaml\n{own}\n```\n\n## What they reach\n\n```json\n{coverage}\n```\n\n## How cases are written\n\n{chapter}"
    ))
}
