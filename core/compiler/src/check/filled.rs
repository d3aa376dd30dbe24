//! Templates are filled when they are checked: with values of the types that the step passes.
//!
//! Names alone do not show that a chart finds its numbers, or that a filter is passed what it works on. Two values are made of each
//! type: one in which everything is there, and one in which whatever may be missing or empty is. Where nothing is known of some
//! part of a value, nothing is filled.

use std::collections::BTreeMap;

use kanzlei_lang::types::{Text, Type};
use kanzlei_model::value::{ObjectBuilder, Value};
use kanzlei_reports::Templates;

/// How deep values are made.
const DEEPEST: usize = 16;

/// Why a template cannot be filled.
pub(super) struct Unfilled {
    /// What is wrong.
    pub why: String,
    /// Whether it happens only where something is missing or empty.
    pub without: bool,
}

/// Fills a template with values of these types.
pub(super) fn fill(templates: &Templates, types: &[(&str, Type)]) -> Option<Unfilled> {
    for full in [true, false] {
        let mut made = BTreeMap::new();
        for (name, of) in types {
            made.insert(*name, sample(of, full, 0)?);
        }
        if let Err(fault) = templates.render(&Value::object(made)) {
            return Some(Unfilled { why: fault.to_string(), without: !full });
        }
    }
    None
}

/// A value of a type; nothing where nothing is known of it or of some part.
fn sample(of: &Type, full: bool, depth: usize) -> Option<Value> {
    if depth > DEEPEST {
        return None;
    }
    Some(match of {
        Type::Unknown | Type::Never => return None,
        Type::Undefined => Value::Undefined,
        Type::Null => Value::Null,
        Type::Bool(one) => Value::Bool(one.unwrap_or(full)),
        Type::Number(Some(number)) => Value::Num(*number),
        Type::Number(None) => Value::Int(2),
        Type::Text(Text::One(text)) => Value::Text(text.clone()),
        Type::Text(Text::Date) => Value::text("2027-03-04"),
        Type::Text(Text::Instant) => Value::text("2027-03-04T06:00:00Z"),
        Type::Text(Text::Span) => Value::text("2h"),
        Type::Text(Text::Any) => Value::text("text"),
        Type::List(items) => {
            // Of items of which nothing is known there may be none, but that shows nothing.
            let one = sample(&items.of, full, depth + 1)?;
            Value::list(if full { vec![one.clone(), one] } else { Vec::new() })
        }
        Type::Object(shape) => {
            if shape.rows.is_some() || shape.rest.as_ref().is_some_and(|rest| *rest == Type::Unknown) {
                return None;
            }
            let mut out = ObjectBuilder::with_capacity(shape.members.len());
            for member in &shape.members {
                let value = sample(&member.value, full, depth + 1)?;
                if full || !member.optional {
                    out.insert(member.name.clone(), value);
                }
            }
            out.finish()
        }
        Type::Union(alternatives) => {
            // All must be known, whichever is made.
            let made = alternatives.iter().map(|one| sample(one, full, depth + 1)).collect::<Option<Vec<_>>>()?;
            let missing = made.iter().find(|value| value.is_nullish()).filter(|_| !full);
            missing.or_else(|| made.iter().find(|value| !value.is_nullish())).or(made.first())?.clone()
        }
    })
}
