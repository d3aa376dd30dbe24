//! `list`, `show`, `retire`.

use kanzlei_compiler::plan::Paragraph;
use serde_json::Value as Json;

use super::{print_json, segment};
use crate::api::Api;
use crate::{Done, Failure, draw};

pub fn list(api: &Api, json: bool) -> Done {
    let answer = api.get("/workflows")?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    let none = Vec::new();
    let workflows = answer["workflows"].as_array().unwrap_or(&none);
    if workflows.is_empty() {
        println!("Nothing is live yet. Put something live with: kanzlei deploy PATH");
        return Ok(());
    }
    let known = answer["counts_known"] != false;
    let rows: Vec<Vec<String>> = workflows
        .iter()
        .map(|w| {
            let first = &w["endpoints"][0];
            let address = match first["url"].as_str() {
                Some(url) => format!("{} {url}", first["method"].as_str().unwrap_or_default()),
                None => "no entry".into(),
            };
            vec![
                draw::bold(w["name"].as_str().unwrap_or_default()),
                w["revision"].to_string(),
                if known { w["day"]["runs"].to_string() } else { "?".into() },
                if known { w["day"]["rejected"].to_string() } else { "?".into() },
                match w["day"]["failed"].as_u64() {
                    _ if !known => "?".into(),
                    Some(0) | None => "0".into(),
                    Some(failed) => draw::paint("31", &failed.to_string()),
                },
                draw::took(&w["day"]["mean_us"]),
                address,
            ]
        })
        .collect();
    draw::table(&["workflow", "rev", "runs 24h", "rejected", "failed", "mean", "address"], &rows);
    if !known {
        println!(
            "{}",
            draw::dim("the database is unavailable: counts are not known now; workflows are served all the same")
        );
    }
    Ok(())
}

pub fn show(api: &Api, name: &str, source: bool, json: bool) -> Done {
    let answer = api.get(&format!("/workflows/{}", segment(name)))?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    if source {
        print!("{}", answer["source"].as_str().unwrap_or_default());
        return Ok(());
    }
    println!("{} · revision {} · live since {}", draw::bold(name), answer["revision"], draw::time(&answer["since"]));
    println!("{}", answer["about"].as_str().unwrap_or_default());
    let none = Vec::new();
    for endpoint in answer["endpoints"].as_array().unwrap_or(&none) {
        println!(
            "\n{} {}",
            draw::bold(endpoint["method"].as_str().unwrap_or_default()),
            endpoint["url"].as_str().unwrap_or_default()
        );
        println!("{}", draw::dim(endpoint["curl"].as_str().unwrap_or_default()));
    }
    println!();
    let inputs: Vec<String> = answer["input"]
        .as_array()
        .unwrap_or(&none)
        .iter()
        .map(|input| {
            let name = input["name"].as_str().unwrap_or_default();
            match &input["schema"]["default"] {
                Json::Null if input["required"] == false => format!("{name}?"),
                Json::Null => name.to_owned(),
                default => format!("{name} = {}", draw::short_json(default, 30)),
            }
        })
        .collect();
    println!("  §   Input {}", inputs.join(", "));
    let sheet: Vec<Paragraph> =
        serde_json::from_value(answer["sheet"].clone()).map_err(|e| Failure::Told(e.to_string()))?;
    for paragraph in &sheet {
        print_paragraph(paragraph);
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
    // An expression over several lines goes on below its beginning.
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
