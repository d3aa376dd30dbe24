//! `runs` and `run`.

use kanzlei_compiler::plan::Paragraph;
use serde_json::Value as Json;

use super::live::heading;
use super::{filtered, print_json, segment};
use crate::api::Api;
use crate::{Done, Failure, draw};

pub fn list(api: &Api, filters: [(&str, Option<String>); 3], limit: u32, json: bool) -> Done {
    let answer = api.get(&filtered("runs", limit, &filters))?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    let none = Vec::new();
    let runs = answer["runs"].as_array().unwrap_or(&none);
    if runs.is_empty() {
        let filtered = filters.iter().any(|(_, value)| value.is_some());
        println!(
            "{}",
            if filtered { "No such runs." } else { "No runs yet. Send one with: kanzlei call NAME key=value …" }
        );
        return Ok(());
    }
    let rows: Vec<Vec<String>> = runs
        .iter()
        .map(|run| {
            vec![
                run["id"].as_str().unwrap_or_default().to_owned(),
                draw::time(&run["started"]),
                run["workflow"].as_str().unwrap_or_default().to_owned(),
                draw::state(run["state"].as_str().unwrap_or_default()),
                if run["status"].is_null() { String::new() } else { run["status"].to_string() },
                draw::took(&run["duration_us"]),
                run["failure"].as_str().map(|text| text.chars().take(60).collect()).unwrap_or_default(),
            ]
        })
        .collect();
    draw::table(&["run", "started (UTC)", "workflow", "state", "status", "took", "why"], &rows);
    if let Some(dropped) = answer["dropped"].as_u64().filter(|n| *n > 0) {
        println!("{}", draw::dim(&format!("details of {dropped} more runs were dropped under load")));
    }
    Ok(())
}

pub fn show(api: &Api, id: &str, full: bool, json: bool) -> Done {
    let id = if id == "last" {
        let answer = api.get("/runs?limit=1")?;
        match answer["runs"][0]["id"].as_str() {
            Some(id) => id.to_owned(),
            None => return Err(Failure::Told("there are no runs yet".into())),
        }
    } else {
        id.to_owned()
    };
    let run = api.get(&format!("/runs/{}", segment(&id)))?;
    if json {
        print_json(&run);
        return Ok(());
    }
    let text = |key: &str| run[key].as_str().unwrap_or_default();
    println!(
        "{} · revision {} · {} · {}",
        draw::bold(text("workflow")),
        run["revision"],
        draw::state(text("state")),
        draw::took(&run["duration_us"])
    );
    println!("{} {}", draw::dim("run     "), text("id"));
    println!("{} {}", draw::dim("entry   "), text("entry"));
    println!("{} {} UTC", draw::dim("started "), draw::time(&run["started"]));
    println!("{} {}", draw::dim("request "), text("request_id"));
    println!("{} {}", draw::dim("trace   "), text("trace_id"));
    println!("{} {}", draw::dim("process "), text("process"));
    if !text("curl").is_empty() {
        println!("{} {}", draw::dim("job     "), text("curl"));
    }
    println!();
    print_steps(&run, full);
    println!();
    println!(
        "  {} {}",
        draw::dim("answer"),
        run["status"].as_u64().map_or_else(|| "none".into(), |status| status.to_string())
    );
    print_value("body  ", &run["reply"], 2, full);
    if run["state"] == "failed" || run["state"] == "rejected" { Err(Failure::Bad) } else { Ok(()) }
}

fn print_value(label: &str, value: &Json, indent: usize, full: bool) {
    if value.is_null() {
        return;
    }
    let shown = if full {
        serde_json::to_string_pretty(value).unwrap_or_default()
    } else {
        draw::short_json(value, 100 - indent)
    };
    let gap = " ".repeat(indent);
    println!("{gap}{} {}", draw::dim(label), shown.replace('\n', &format!("\n{gap}")));
}

/// The input of a run or job and what each of its steps did.
pub fn print_steps(run: &Json, full: bool) {
    let value = |label: &str, value: &Json, indent: usize| print_value(label, value, indent, full);
    println!("  §   {}", draw::bold("Input"));
    value("in ", &run["input"], 6);
    let sheet: Vec<Paragraph> = serde_json::from_value(run["sheet"].clone()).unwrap_or_default();
    let none = Vec::new();
    let steps = run["steps"].as_array().unwrap_or(&none);
    for paragraph in &sheet {
        let taken: Vec<&Json> = steps.iter().filter(|step| step["number"] == paragraph.number.as_str()).collect();
        let indent = 2 + 4 * paragraph.depth as usize;
        let gap = " ".repeat(indent);
        // In a loop the one that failed tells most, else the last.
        let failed = taken.iter().position(|step| step["state"] == "failed");
        let Some(step) = failed.or(taken.len().checked_sub(1)).map(|at| taken[at]) else {
            println!(
                "{gap}{}",
                draw::dim(&format!(
                    "{} — {}",
                    plain_heading(paragraph),
                    if paragraph.off { "off" } else { "not reached" }
                ))
            );
            continue;
        };
        let mut marks = vec![draw::state(step["state"].as_str().unwrap_or_default()), draw::took(&step["duration_us"])];
        if let Some(items) = step["items"].as_str() {
            let item = items.split('.').map(|item| format!("[{item}]")).collect::<String>();
            marks.insert(0, format!("{}{}", draw::dim(&format!("{} times; ", taken.len())), draw::dim(&item)));
        }
        if let Some(attempts) = step["attempts"].as_u64().filter(|n| *n > 1) {
            let tries: Vec<&str> = step["tries"].as_array().into_iter().flatten().filter_map(Json::as_str).collect();
            let before = if tries.is_empty() { String::new() } else { format!(", before: {}", tries.join(", ")) };
            marks.push(draw::paint("33", &format!("{attempts} attempts{before}")));
        }
        println!("{gap}{} — {}", heading(paragraph), marks.join(" · "));
        value("in ", &step["sent"], indent + 4);
        value("out", &step["outcome"], indent + 4);
        if let Some(detail) = step["failure"]["detail"].as_str() {
            let label =
                if step["state"] == "succeeded" { draw::dim("earlier attempt") } else { draw::paint("31", "why") };
            println!("{gap}    {label} {}: {detail}", step["failure"]["kind"].as_str().unwrap_or_default());
        }
    }
}

fn plain_heading(paragraph: &Paragraph) -> String {
    format!("{:<3} {} {}", paragraph.number, paragraph.kind, paragraph.title)
}
