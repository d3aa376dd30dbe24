//! `list`, `show`, `retire`.

use kanzlei_api::Json;
use kanzlei_api::statistics::{Counted, Statistics, StatisticsQuery};
use kanzlei_api::workflows::{NewName, Renamed, Workflow, WorkflowLine, Workflows};
use kanzlei_compiler::plan::Paragraph;

use super::{listing, print_json, segment};
use crate::api::Api;
use crate::{Done, draw};

/// Lists live workflows.
pub fn list(api: &Api, tag: Option<&str>, json: bool) -> Done {
    let mut answer: Workflows = api.get("/workflows")?;
    if let Some(tag) = tag {
        answer.workflows.retain(|workflow| workflow.tags.iter().any(|known| known == tag));
    }
    if json {
        print_json(&answer);
        return Ok(());
    }
    if let (true, Some(tag)) = (answer.workflows.is_empty(), tag) {
        println!("No live workflow has the tag `{tag}`. Its document names it: tags: [{tag}]");
        return Ok(());
    }
    if answer.workflows.is_empty() {
        println!("Nothing is live yet. Put something live with: kanzlei deploy PATH");
        return Ok(());
    }
    // Where nothing has tags, the column would only take room.
    let tagged = answer.workflows.iter().any(|workflow| !workflow.tags.is_empty());
    let rows = answer.workflows.iter().map(|workflow| row(workflow, answer.counts_known, tagged));
    let mut columns = vec!["workflow", "rev", "runs 24h", "rejected", "failed", "mean", "address"];
    columns.extend(tagged.then_some("tags"));
    draw::table(&columns, rows);
    if !answer.counts_known {
        let why = "the database is unavailable: counts are not known now; workflows are served all the same";
        println!("{}", draw::dim(why));
    }
    Ok(())
}

fn row(workflow: &WorkflowLine, counted: bool, tagged: bool) -> Vec<String> {
    let count = |n: u64| if counted { n.to_string() } else { "?".into() };
    let failed = match workflow.day.failed {
        failed if counted && failed > 0 => draw::paint("31", &failed.to_string()),
        failed => count(failed),
    };
    let address = workflow.endpoints.first().map(|first| format!("{} {}", first.method, first.url));
    let mut cells = vec![
        draw::bold(&workflow.name),
        workflow.revision.to_string(),
        count(workflow.day.runs),
        count(workflow.day.rejected),
        failed,
        workflow.day.mean_us.map(draw::took).unwrap_or_default(),
        address.unwrap_or_else(|| "no entry".into()),
    ];
    cells.extend(tagged.then(|| workflow.tags.join(", ")));
    cells
}

/// Shows a live workflow as a sheet, or its source.
pub fn show(api: &Api, name: &str, source: bool, json: bool) -> Done {
    let workflow: Workflow = api.get(&format!("/workflows/{}", segment(name)))?;
    if json {
        print_json(&workflow);
        return Ok(());
    }
    if source {
        print!("{}", workflow.source);
        return Ok(());
    }
    println!("{} · revision {} · live since {}", draw::bold(name), workflow.revision, draw::time(workflow.since));
    println!("{}", workflow.about);
    for endpoint in &workflow.endpoints {
        println!("\n{} {}", draw::bold(&endpoint.method), endpoint.url);
        println!("{}", draw::dim(&endpoint.curl));
    }
    println!();
    let inputs = workflow.input.iter().map(|input| {
        let secret = if input.secret { draw::dim(" (confidential)") } else { String::new() };
        match &input.schema["default"] {
            Json::Null if !input.required => format!("{}?{secret}", input.name),
            Json::Null => format!("{}{secret}", input.name),
            default => format!("{} = {}{secret}", input.name, draw::short_json(default, 30)),
        }
    });
    println!("  §   Input {}", inputs.collect::<Vec<_>>().join(", "));
    workflow.sheet.iter().for_each(print_paragraph);
    Ok(())
}

/// Shows how often each step ran and failed over a span, and how long it took.
pub fn statistics(api: &Api, name: &str, since: String, revision: Option<u32>, json: bool) -> Done {
    let query = StatisticsQuery { since: Some(since), revision };
    let found: Statistics = api.get(&listing(&format!("workflows/{}/statistics", segment(name)), &query))?;
    if json {
        print_json(&found);
        return Ok(());
    }
    println!("{} · revision {} · since {} UTC", draw::bold(name), found.revision, draw::time(found.since));
    if found.runs.runs == 0 {
        println!("No run of this revision has ended since then.");
    } else {
        let row = |number: &str, step: String, counted: &Counted| {
            let took = |span: Option<_>| span.map(draw::took).unwrap_or_else(|| "—".into());
            let (runs, failures) = (counted.runs.to_string(), counted.failures.to_string());
            vec![number.to_owned(), step, runs, failures, took(counted.p50_us), took(counted.p95_us)]
        };
        let steps = found.steps.iter().map(|step| {
            let title = format!("{}{} {}", "  ".repeat(step.depth.into()), step.kind, step.title);
            row(&step.number, title, &step.counted)
        });
        let whole = std::iter::once(row("", "the run".into(), &found.runs));
        draw::table(&["§", "step", "runs", "failed", "p50", "p95"], whole.chain(steps));
    }
    for other in &found.others {
        let (runs, revision) = (other.runs, other.revision);
        let plural = if runs == 1 { "" } else { "s" };
        let line =
            format!("{runs} run{plural} of revision {revision}: kanzlei show {name} --stats --revision {revision}");
        println!("{}", draw::dim(&line));
    }
    Ok(())
}

/// `3.1  Call tides.nextWindow as tide`, with its rows below.
fn print_paragraph(paragraph: &Paragraph) {
    let indent = "    ".repeat(paragraph.depth as usize);
    if let Some(branch) = &paragraph.branch {
        println!("{indent}  {}", draw::dim(&format!("{branch}:")));
    }
    println!("{indent}  {}", heading(paragraph));
    if let Some(when) = &paragraph.when {
        println!("{indent}      {} {when}", draw::dim("when"));
    }
    let width = paragraph.rows.iter().map(|(name, _)| name.chars().count()).max().unwrap_or(0);
    // An expression over several lines continues below its beginning.
    let below = format!("\n{indent}{}", " ".repeat(7 + width));
    for (name, value) in &paragraph.rows {
        println!("{indent}      {} {}", draw::dim(&format!("{name:<width$}")), value.trim_end().replace('\n', &below));
    }
}

/// Number, kind, title and name of a paragraph.
pub fn heading(paragraph: &Paragraph) -> String {
    let mut kind = paragraph.kind.clone();
    if let Some(first) = kind.get_mut(..1) {
        first.make_ascii_uppercase();
    }
    let name = paragraph.name.as_ref().map(|name| format!(" {} {name}", draw::dim("as"))).unwrap_or_default();
    let off = if paragraph.off { draw::dim(" (off)") } else { String::new() };
    let title = if paragraph.title.is_empty() { String::new() } else { format!(" {}", paragraph.title) };
    format!("{:<3} {}{title}{name}{off}", paragraph.number, draw::bold(&kind))
}

/// Gives a live workflow another name.
pub fn rename(api: &Api, from: &str, to: &str, dry_run: bool, json: bool) -> Done {
    let new = NewName { to: to.to_owned(), preview: dry_run };
    let done: Renamed = api.post(&format!("/workflows/{}/rename", segment(from)), &new)?;
    if json {
        print_json(&done);
        return Ok(());
    }
    let (is, state) = if dry_run { ("would be", "would be live") } else { ("is", "live") };
    println!("{} {is} {} now; its address, runs, jobs and revisions follow.", draw::bold(from), draw::bold(to));
    for document in &done.deployed {
        println!("{:<26} revision {} · {state}", format!("{} {}", document.kind, document.name), document.revision);
        super::drafts::print_steps(&document.steps, "  ");
    }
    if !done.drafts.is_empty() {
        println!("These drafts still name {from}: {}", done.drafts.join(", "));
    }
    Ok(())
}

pub fn retire_service(api: &Api, name: &str, json: bool) -> Done {
    api.delete(&format!("/services/{}", segment(name)))?;
    if json {
        print_json(&serde_json::json!({"retired": name}));
    } else {
        println!("The service {name} is retired; its revisions are kept. To put it live again, deploy its document.");
    }
    Ok(())
}

pub fn retire(api: &Api, name: &str, json: bool) -> Done {
    api.delete(&format!("/workflows/{}", segment(name)))?;
    if json {
        print_json(&serde_json::json!({"retired": name}));
    } else {
        println!("{name} is retired; its revisions are kept. To put it live again, deploy its document.");
    }
    Ok(())
}
