//! `gradual`: two revisions of a workflow side by side.

use kanzlei_api::gradual::{EndGradual, Gradual, GradualEnd, GradualLine, Graduals, NewRules, Side};
use kanzlei_model::gradual::{Per, Rules, percent};

use super::{print_json, segment};
use crate::api::Api;
use crate::args::{GradualAction, Share};
use crate::{Done, Error, draw};

/// Lists gradual deploys, or does something with one.
pub fn run(api: &Api, what: Option<GradualAction>, json: bool) -> Done {
    match what {
        None => list(api, json),
        Some(GradualAction::Show { name }) => show(api, &name, json),
        Some(GradualAction::Change { name, share }) => change(api, &name, share, json),
        Some(GradualAction::Finish { name }) => {
            let revision = end(api, &name, "finish", String::new())?;
            println!("Revision {revision} of {name} is live and serves everything.");
            Ok(())
        }
        Some(GradualAction::TakeBack { name, reason }) => {
            let revision = end(api, &name, "take-back", reason)?;
            println!("Revision {revision} of {name} serves nothing any more; its jobs keep it.");
            println!("{}", draw::dim(&format!("kanzlei diff {name}@{revision} {name}")));
            Ok(())
        }
    }
}

fn path(name: &str) -> String {
    format!("/workflows/{}/gradual", segment(name))
}

fn list(api: &Api, json: bool) -> Done {
    let found: Graduals = api.get("/gradual")?;
    if json {
        print_json(&found);
        return Ok(());
    }
    if found.graduals.is_empty() {
        println!("No gradual deploy is under way. Begin one with: kanzlei deploy FILE --share 10%");
        return Ok(());
    }
    let rows = found.graduals.iter().map(|one| {
        vec![
            draw::bold(&one.workflow),
            one.live.to_string(),
            one.revision.to_string(),
            one.fault.as_ref().map_or_else(|| serves(&one.rules), |fault| draw::paint("31", fault)),
            draw::time(one.since),
            one.by.clone(),
        ]
    });
    draw::table(&["workflow", "live", "new", "the new one serves", "since (UTC)", "by"], rows);
    Ok(())
}

/// What the new revision serves, in words.
pub fn serves(rules: &Rules) -> String {
    let mut parts = Vec::new();
    if rules.share > 0.0 {
        let of = if rules.per == Per::Caller { " of callers" } else { "" };
        parts.push(format!("{}{of}", percent(rules.share)));
    }
    parts.extend(rules.header.iter().map(|header| format!("{}: {}", header.name, header.value)));
    parts.extend(rules.keys.iter().map(|key| format!("key {key}")));
    parts.extend(rules.tags.iter().map(|tag| format!("tag {tag}")));
    parts.join(", ")
}

/// When it is taken back by itself, in words.
fn margins(rules: &Rules) -> String {
    let mut parts = Vec::new();
    if let Some(margin) = rules.margin {
        parts.push(format!("its share of failures or rejections is {margin} points higher"));
    }
    if let Some(slower) = rules.slower {
        parts.push(format!("its 95 % quantile of times is {} higher", percent(slower)));
    }
    if parts.is_empty() { "never".into() } else { format!("when {}", parts.join(", or when ")) }
}

fn show(api: &Api, name: &str, json: bool) -> Done {
    let found: Gradual = api.get(&path(name))?;
    if json {
        print_json(&found);
        return Ok(());
    }
    let GradualLine { revision, since, by, rules, fault, .. } = &found.line;
    println!("{}", draw::bold(&format!("{name}: revision {revision} beside {}", found.old.revision)));
    println!("since {} by {by}", draw::utc(*since));
    match &found.end {
        Some(end) => {
            let reason = if end.reason.is_empty() { String::new() } else { format!(": {}", end.reason) };
            println!("{} {} by {}{reason}", end.outcome.replace('-', " "), draw::utc(end.at), end.by);
        }
        None => {
            println!("serves {}", serves(rules));
            println!("taken back by itself {}", margins(rules));
        }
    }
    if let Some(fault) = fault {
        println!("{}", draw::paint("31", fault));
    }
    println!();
    draw::table(
        &["revision", "runs", "failed", "rejected", "p50", "p95", "p99"],
        [("old", &found.old), ("new", &found.new)].map(|(word, side)| row(word, side)),
    );
    println!();
    let mut answers: Vec<(&str, Option<u16>)> = Vec::new();
    for one in found.old.answers.iter().chain(&found.new.answers) {
        let answer = (one.state.as_str(), one.status);
        if !answers.contains(&answer) {
            answers.push(answer);
        }
    }
    let rows = answers.iter().map(|(state, status)| {
        let of = |side: &Side| {
            let count = side.answers.iter().find(|one| (one.state.as_str(), one.status) == (*state, *status));
            share(count.map_or(0, |one| one.count), side.runs)
        };
        let status = status.map_or_else(|| "no answer".to_owned(), |status| status.to_string());
        vec![status, draw::state(state), of(&found.old), of(&found.new)]
    });
    if !answers.is_empty() {
        draw::table(&["answer", "run", "old", "new"], rows);
    }
    if let Some(worse) = found.worse.as_ref().filter(|_| found.end.is_none()) {
        println!("\n{}", draw::paint("31", worse));
    }
    if found.end.is_none() {
        let next = format!(
            "\nkanzlei gradual change {name} --share 50%\nkanzlei gradual finish {name}\nkanzlei gradual take-back {name}"
        );
        println!("{}", draw::dim(&next));
    }
    Ok(())
}

fn row(word: &str, side: &Side) -> Vec<String> {
    let took = |span| Option::map_or(span, "—".to_owned(), draw::took);
    vec![
        format!("{word} {}", side.revision),
        side.runs.to_string(),
        share(side.failed, side.runs),
        share(side.rejected, side.runs),
        took(side.p50_us),
        took(side.p95_us),
        took(side.p99_us),
    ]
}

/// A count with its share: `12 (1.5 %)`.
fn share(count: u64, of: u64) -> String {
    if count == 0 { "0".into() } else { format!("{count} ({})", percent(count as f64 * 100.0 / of.max(1) as f64)) }
}

/// The gradual deploy of a workflow that is under way.
fn under_way(api: &Api, name: &str) -> Result<GradualLine, Error> {
    let found: Gradual = api.get(&path(name))?;
    match found.end {
        None => Ok(found.line),
        Some(end) => Err(Error::Failed(format!(
            "the gradual deploy of {name} has ended: revision {} was {}",
            found.line.revision,
            end.outcome.replace('-', " ")
        ))),
    }
}

fn change(api: &Api, name: &str, share: Share, json: bool) -> Done {
    if share.is_empty() {
        return Err(Error::Usage("name what changes: --share 50%, --header, --key, --tag, --margin, --slower".into()));
    }
    let GradualLine { revision, rules, .. } = under_way(api, name)?;
    let line: GradualLine = api.put_for(&path(name), &NewRules { revision, rules: share.over(rules) })?;
    if json {
        print_json(&line);
    } else {
        println!("Revision {revision} of {name} serves {}.", serves(&line.rules));
    }
    Ok(())
}

/// Ends a gradual deploy; returns its revision.
fn end(api: &Api, name: &str, how: &str, reason: String) -> Result<u32, Error> {
    let GradualLine { revision, .. } = under_way(api, name)?;
    let _: GradualEnd = api.post(&format!("{}/{how}", path(name)), &EndGradual { revision, reason })?;
    Ok(revision)
}
