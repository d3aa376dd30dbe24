//! `eval`, `schema`, `timetables preview`, `completions` and the man pages: what needs no service.

use std::io::Read;
use std::path::Path;

use kanzlei_analysis::explain;
use kanzlei_lang::calendar::{self, Calendar, Pattern, When};
use kanzlei_lang::diagnostic::{Diagnostic, Severity};
use kanzlei_lang::document::{KINDS, schema as schemas};
use kanzlei_lang::expr::{Expression, Limits, Scope};
use kanzlei_lang::suggest;
use kanzlei_model::value::Value;

use crate::args::Args;
use crate::{Done, Error, draw};

pub fn eval(expression: Option<&str>, script: Option<&Path>, with: Option<&Path>, json: bool) -> Done {
    let text = match (expression, script) {
        (_, Some(path)) => {
            std::fs::read_to_string(path).map_err(|error| Error::Usage(format!("{}: {error}", path.display())))?
        }
        (text, None) => text.unwrap_or_default().to_owned(),
    };
    let mut scope = Scope::default();
    let mut slots = Vec::new();
    if let Some(path) = with {
        let read = if path == Path::new("-") {
            let mut text = String::new();
            std::io::stdin().read_to_string(&mut text).map(|_| text)
        } else {
            std::fs::read_to_string(path)
        };
        let read = read.map_err(|error| Error::Usage(format!("{}: {error}", path.display())))?;
        let value: Value = serde_json::from_str(&read)
            .map_err(|error| Error::Usage(format!("{} is not JSON: {error}", path.display())))?;
        let Value::Object(names) = value else {
            return Err(Error::Usage(format!(
                "{} holds no object; its members are the names in scope",
                path.display()
            )));
        };
        for (name, value) in names.iter() {
            scope.define(name);
            slots.push(value.clone());
        }
    }
    let compiled = match script {
        Some(_) => Expression::script(&text, &scope),
        None => Expression::compile(&text, &scope),
    };
    let compiled = match compiled {
        Ok(compiled) => compiled,
        Err(faults) => {
            let name = script.map_or("expression".to_owned(), |path| path.display().to_string());
            let found: Vec<Diagnostic> = faults
                .into_iter()
                .map(|fault| Diagnostic {
                    code: fault.code.into(),
                    severity: Severity::Error,
                    path: name.clone(),
                    line: 1,
                    column: fault.at.start + 1,
                    start: fault.at.start,
                    end: fault.at.end,
                    message: fault.message,
                    help: fault.help,
                    fixes: Vec::new(),
                })
                .collect();
            draw::diagnostics(&found, &|_| Some(text.to_owned()));
            return Err(Error::Bad);
        }
    };
    let limits = if script.is_some() { Limits::script() } else { Limits::default() };
    match compiled.eval(&slots, limits) {
        Ok(Value::Undefined) => println!("undefined"),
        Ok(value) if json => println!("{}", value.to_json()),
        Ok(value) => println!("{}", serde_json::to_string_pretty(&value).unwrap_or_else(|_| value.to_json())),
        Err(failure) => {
            for (name, value) in &failure.locals {
                eprintln!("  {name} = {}", value.to_json());
            }
            return Err(Error::Failed(failure.to_string()));
        }
    }
    Ok(())
}

/// `timetables preview`: the next due times of a pattern, or of a fixed grid.
pub fn preview(pattern: &str, zone: &str, from: Option<&str>, count: u16, json: bool) -> Done {
    let usage = |error: calendar::Error| Error::Usage(error.to_string());
    let zone = calendar::zone(zone).map_err(usage)?;
    let after = match from {
        None => jiff::Timestamp::now(),
        Some(text) => text
            .parse()
            .map_err(|_| Error::Usage(format!("`{text}` is not an instant; write one such as 2027-03-04T06:00:00Z")))?,
    };
    let when = match kanzlei_model::duration::parse(pattern) {
        Ok(every) if !every.is_zero() => When::Every(every),
        _ => When::Patterns(vec![Pattern::parse(pattern).map_err(usage)?]),
    };
    let calendar = Calendar { when, zone: zone.clone(), from: None, until: None };
    let due = calendar.between(after, jiff::Timestamp::MAX, usize::from(count));
    if json {
        let due: Vec<String> = due.iter().map(ToString::to_string).collect();
        super::print_json(&serde_json::json!({"words": calendar.words(), "zone": calendar.zone_name(), "due": due}));
        return Ok(());
    }
    println!("{}", draw::bold(&calendar.words()));
    let rows: Vec<Vec<String>> = due
        .iter()
        .map(|at| vec![at.to_string(), at.to_zoned(zone.clone()).strftime("%a %Y-%m-%d %H:%M:%S %:z").to_string()])
        .collect();
    draw::table(&["due (UTC)", calendar.zone_name()], rows);
    Ok(())
}

/// `explain`: what a code means, or all codes with their first sentences.
pub fn explain(code: Option<&str>, json: bool) -> Done {
    let Some(code) = code else {
        let sentence = |about: &str| about.split_inclusive(". ").next().unwrap_or(about).trim().replace('\n', " ");
        if json {
            let all = explain::all().iter().map(|one| (one.code.to_owned(), one.about.into()));
            super::print_json(&serde_json::Value::Object(all.collect()));
            return Ok(());
        }
        let rows = explain::all().iter().map(|one| vec![one.code.to_owned(), sentence(one.about)]);
        draw::table(&["code", "meaning"], rows);
        return Ok(());
    };
    let Some(found) = explain::of(code) else {
        let near = suggest::nearest(code, explain::all().iter().map(|one| one.code));
        let hint =
            near.map_or_else(|| "; `kanzlei explain` lists all".to_owned(), |near| format!("; did you mean `{near}`?"));
        return Err(Error::Usage(format!("there is no finding `{code}`{hint}")));
    };
    if json {
        let (wrong, corrected) = (found.wrong, found.corrected);
        super::print_json(
            &serde_json::json!({"code": code, "about": found.about, "wrong": wrong, "corrected": corrected}),
        );
        return Ok(());
    }
    println!("{}\n{}", draw::bold(found.code), found.about);
    let example = |title: &str, text: Option<&str>| {
        if let Some(text) = text {
            println!("\n{title}");
            text.lines().for_each(|line| println!("  {line}"));
        }
    };
    example("Wrong:", found.wrong);
    example("Corrected:", found.corrected);
    Ok(())
}

pub fn schema(kind: &str) -> Done {
    match schemas::of(kind) {
        Some(schema) => {
            println!("{}", serde_json::to_string_pretty(&schema).unwrap_or_default());
            Ok(())
        }
        None => Err(Error::Usage(format!("there is no kind of document `{kind}`; kinds: {}", KINDS.join(", ")))),
    }
}

/// Prints completions for a shell.
pub fn completions(shell: clap_complete::Shell) -> Done {
    let mut made = Vec::new();
    clap_complete::generate(shell, &mut <Args as clap::CommandFactory>::command(), "kanzlei", &mut made);
    // A pipe that closes early is no fault.
    let _ = std::io::Write::write_all(&mut std::io::stdout().lock(), &made);
    Ok(())
}

/// Writes a man page for each command into a folder.
pub fn manual(folder: &Path) -> Done {
    let command = <Args as clap::CommandFactory>::command();
    clap_mangen::generate_to(command, folder).map_err(|error| Error::Usage(format!("{}: {error}", folder.display())))
}
