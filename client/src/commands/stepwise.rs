//! `try --interactive`: asks before each effect of a trial what is to come of it.

use std::io::{BufRead, Write};

use kanzlei_api::Json;
use kanzlei_api::runs::NamedValue;
use kanzlei_api::trials::{Trial, TrialDecision, TrialStop};

use super::runs::print_value;
use super::segment;
use crate::api::Api;
use crate::{Error, draw};

const HELP: &str = "  Enter          go on as usual: perform it, or simulate it where it changes something
  p              perform it
  s              simulate it
  a [STATUS] [JSON]   answer it by hand: a 404 {\"title\": \"Unknown\"}; for statements the rows: a [{\"n\": 1}]
  f [KIND]       let it fail: f timeout
  k              skip it: nothing is performed, nothing comes back
  v [NAME]       show the names that the step knows
  NAME = JSON    give a name another value for the steps that follow
  g              go on to the end without stopping
  q              end the trial";

/// Asks at each stop, until the trial has ended.
pub fn to_its_end(api: &Api, mut trial: Trial) -> Result<Trial, Error> {
    let mut lines = std::io::stdin().lock().lines();
    let mut performed = 0;
    while let Some(stop) = trial.stop.take() {
        print_new(&trial, &mut performed);
        print_stop(&trial, &stop);
        let decision = loop {
            print!("{} ", draw::bold(">"));
            let _ = std::io::stdout().flush();
            // Who says no more ends the trial.
            let line = lines.next().and_then(Result::ok).unwrap_or_else(|| "q".to_owned());
            match read(line.trim()) {
                Ok(Said::Decision(decision)) => break *decision,
                Ok(Said::Names(name)) => print_names(&stop.names, &name),
                Ok(Said::Help) => println!("{}", draw::dim(HELP)),
                Err(why) => println!("{why}; `?` lists what can be said"),
            }
        };
        trial = api.post(&format!("/trials/{}/decisions", segment(&trial.id.to_string())), &decision)?;
    }
    println!();
    Ok(trial)
}

enum Said {
    Decision(Box<TrialDecision>),
    /// Show names, all where it is empty.
    Names(String),
    Help,
}

/// What a line says.
fn read(line: &str) -> Result<Said, String> {
    let json = |text: &str| serde_json::from_str::<Json>(text).map_err(|error| format!("`{text}` is no JSON: {error}"));
    let decision = |name: &str| TrialDecision {
        decision: name.to_owned(),
        status: None,
        headers: Default::default(),
        body: Json::Null,
        kind: String::new(),
        values: Default::default(),
    };
    let said = |decision| Ok(Said::Decision(Box::new(decision)));
    if let Some((name, value)) = line.split_once('=')
        && name.trim().chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
        && !name.trim().is_empty()
    {
        let mut set = decision("set");
        set.values.insert(name.trim().to_owned(), json(value.trim())?);
        return said(set);
    }
    let (word, rest) = line.split_once(' ').map_or((line, ""), |(word, rest)| (word, rest.trim()));
    match word {
        "" => said(decision("usual")),
        "p" => said(decision("perform")),
        "s" => said(decision("simulate")),
        "k" => said(decision("skip")),
        "g" => said(decision("finish")),
        "q" => said(decision("end")),
        "v" => Ok(Said::Names(rest.to_owned())),
        "?" | "h" | "help" => Ok(Said::Help),
        "f" => said(TrialDecision { kind: rest.to_owned(), ..decision("fail") }),
        "a" => {
            let (status, body) = match rest.split_once(' ').unwrap_or((rest, "")) {
                (first, rest) if first.parse::<u16>().is_ok() => (first.parse().ok(), rest.trim()),
                _ => (None, rest),
            };
            let body = if body.is_empty() { Json::Null } else { json(body)? };
            said(TrialDecision { status, body, ..decision("answer") })
        }
        other => Err(format!("`{other}` means nothing here")),
    }
}

/// The steps that ended since the last stop.
fn print_new(trial: &Trial, performed: &mut usize) {
    let ended = trial.steps.iter().filter(|step| step.state != kanzlei_model::run::StepState::Running);
    let ended: Vec<_> = ended.collect();
    for step in ended.iter().skip(*performed) {
        let title = trial.sheet.iter().find(|paragraph| paragraph.number == step.number);
        let title = title.map(|paragraph| format!("{} {}", paragraph.kind, paragraph.title)).unwrap_or_default();
        println!("{}", draw::dim(&format!("{:<6} {title} — {}", step.number, step.state.name())));
        print_value("out", &step.outcome, 7, false);
    }
    *performed = ended.len();
}

fn print_stop(trial: &Trial, stop: &TrialStop) {
    let items = stop.items.iter().flat_map(|items| items.split('.')).map(|item| format!("[{item}]"));
    let title = trial.sheet.iter().find(|paragraph| paragraph.number == stop.step);
    let title = title.map(|paragraph| format!("{} {}", paragraph.kind, paragraph.title)).unwrap_or_default();
    if let Some(refused) = &stop.refused {
        println!("{} {refused}", draw::paint("33", "not possible:"));
    }
    println!("\n{} {title}", draw::bold(&format!("step {}{}", stop.step, items.collect::<String>())));
    println!("       {}", stop.effect.what);
    let own = trial.steps.iter().rev().find(|step| step.number == stop.step && step.items == stop.items);
    if let Some(body) = own.and_then(|step| step.sent.get("body").or(step.sent.get("bind"))) {
        print_value("with", body, 7, false);
    }
    let usual = if stop.effect.mode == "real" { "performs it" } else { "simulates it" };
    let usual = format!("{usual} where no stub answers");
    println!(
        "{}",
        draw::dim(&format!(
            "       Enter {usual} · p perform · s simulate · a answer · f fail · k skip · v names · NAME = JSON · g go on · q end · ? help"
        ))
    );
}

fn print_names(names: &[NamedValue], name: &str) {
    let wanted: Vec<_> = names.iter().filter(|known| name.is_empty() || known.name == name).collect();
    if wanted.is_empty() {
        println!("there is no `{name}` here");
    }
    wanted.iter().for_each(|known| print_value(&known.name, &known.value, 2, !name.is_empty()));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_decisions() {
        for (line, expected) in [
            ("", "usual   null "),
            ("p", "perform   null "),
            ("a 404 {\"title\": \"No\"}", "answer 404  {\"title\":\"No\"} "),
            ("a [1]", "answer   [1] "),
            ("a 204", "answer 204  null "),
            ("f", "fail   null "),
            ("f unreachable", "fail  unreachable null "),
            ("rate = {\"a\": 1}", "set   null rate={\"a\":1}"),
        ] {
            let Ok(Said::Decision(decision)) = read(line) else { panic!("{line}") };
            let status = decision.status.map(|status| status.to_string()).unwrap_or_default();
            let values: Vec<String> = decision.values.iter().map(|(name, value)| format!("{name}={value}")).collect();
            let shown =
                format!("{} {status} {} {} {}", decision.decision, decision.kind, decision.body, values.join(" "));
            assert_eq!(shown, expected, "{line}");
        }
        for line in ["x", "a {", "rate = ?"] {
            assert!(read(line).is_err(), "{line}");
        }
    }
}
