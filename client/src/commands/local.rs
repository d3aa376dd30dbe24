//! `eval` and `schema`: what needs no service.

use std::io::Read;
use std::path::Path;

use kanzlei_lang::diagnostic::{Diagnostic, Severity};
use kanzlei_lang::document::{KINDS, schema as schemas};
use kanzlei_lang::expr::{Expression, Limits, Scope};
use kanzlei_model::value::Value;

use crate::{Done, Failure, draw};

pub fn eval(text: &str, with: Option<&Path>, json: bool) -> Done {
    let mut scope = Scope::default();
    let mut slots = Vec::new();
    if let Some(path) = with {
        let read = if path == Path::new("-") {
            let mut text = String::new();
            std::io::stdin().read_to_string(&mut text).map(|_| text)
        } else {
            std::fs::read_to_string(path)
        };
        let read = read.map_err(|error| Failure::Usage(format!("{}: {error}", path.display())))?;
        let value: Value = serde_json::from_str(&read)
            .map_err(|error| Failure::Usage(format!("{} is not JSON: {error}", path.display())))?;
        let Value::Object(names) = value else {
            return Err(Failure::Usage(format!(
                "{} holds no object; its members are the names in scope",
                path.display()
            )));
        };
        for (name, value) in names.iter() {
            scope.define(name);
            slots.push(value.clone());
        }
    }
    let expression = match Expression::compile(text, &scope) {
        Ok(expression) => expression,
        Err(faults) => {
            let found: Vec<Diagnostic> = faults
                .into_iter()
                .map(|fault| Diagnostic {
                    code: fault.code.into(),
                    severity: Severity::Error,
                    path: "expression".into(),
                    line: 1,
                    column: fault.at.start + 1,
                    start: fault.at.start,
                    end: fault.at.end,
                    message: fault.message,
                    help: fault.help,
                })
                .collect();
            draw::diagnostics(&found, &|_| Some(text.to_owned()));
            return Err(Failure::Bad);
        }
    };
    match expression.eval(&slots, Limits::default()) {
        Ok(Value::Undefined) => println!("undefined"),
        Ok(value) if json => println!("{}", value.to_json()),
        Ok(value) => println!("{}", serde_json::to_string_pretty(&value).unwrap_or_else(|_| value.to_json())),
        Err(failure) => return Err(Failure::Told(failure.to_string())),
    }
    Ok(())
}

pub fn schema(kind: &str) -> Done {
    match schemas::of(kind) {
        Some(schema) => {
            println!("{}", serde_json::to_string_pretty(&schema).unwrap_or_default());
            Ok(())
        }
        None => Err(Failure::Usage(format!("there is no kind of document `{kind}`; kinds: {}", KINDS.join(", ")))),
    }
}
