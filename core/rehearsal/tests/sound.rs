//! Promise 2: what the check passes does not fail with a name or type error on values that fit.
//!
//! Random schemas, random values that fit them, random expressions over them. Most of what
//! is generated has a fault and is refused; what passes is run. Beside not failing, every value must be
//! one of the type that was inferred for it.

mod maker;

use kanzlei_lang::expr::{ErrorKind, Expression, Limits, Scope};
use kanzlei_lang::types::{Env, Type, schema};
use kanzlei_model::value::Value;
use kanzlei_samples::with_dice;
use maker::{Maker, Place, fitting, object_schema};
use serde_json::Value as Json;

/// Whether a value is of a type.
fn holds(value: &Value, of: &Type) -> bool {
    of.alternatives().iter().any(|one| match (one, value) {
        (Type::Unknown, _) => true,
        (Type::Undefined, Value::Undefined) | (Type::Null, Value::Null) => true,
        (Type::Bool(wanted), Value::Bool(b)) => wanted.is_none_or(|wanted| wanted == *b),
        (Type::Number(wanted), Value::Int(n)) => wanted.is_none_or(|wanted| wanted == *n as f64),
        (Type::Number(wanted), Value::Num(n)) => wanted.is_none_or(|wanted| wanted == *n || wanted.is_nan()),
        (Type::Text(wanted), Value::Text(text)) => wanted.holds(text),
        (Type::List(items), Value::List(list)) => {
            list.items().iter().all(|value| holds(value, &items.of))
                && items.first.len() <= list.items().len()
                && items.first.iter().zip(list.items()).all(|(of, value)| holds(value, of))
        }
        (Type::Object(shape), Value::Object(object)) => {
            shape.members.iter().all(|member| match object.get(&member.name) {
                None => member.optional || holds(&Value::Undefined, &member.value),
                Some(value) => holds(value, &member.value) || (member.optional && matches!(value, Value::Undefined)),
            })
        }
        _ => false,
    })
}

/// Whether all numbers in it can be written as JSON numbers.
fn finite(value: &Value) -> bool {
    match value {
        Value::Num(n) => n.is_finite(),
        Value::List(list) => list.items().iter().all(finite),
        Value::Object(object) => object.iter().all(|(_, value)| finite(value)),
        _ => true,
    }
}

#[test]
fn clean_expressions_give_values_of_their_type() {
    let (mut clean, mut refused) = (0, 0);
    with_dice(12_000, 400, |dice| {
        let schemas: Vec<Json> = (0..3).map(|_| object_schema(dice, 2)).collect();
        let mut scope = Scope::default();
        let mut env = Env::default();
        let mut names = Vec::new();
        for (name, schema) in ["v", "w", "u"].iter().zip(&schemas) {
            let slot = scope.define(name);
            env.set(slot, schema::read(schema));
            names.push(Place { text: (*name).into(), schema: schema.clone(), maybe: false });
        }
        let mut maker = Maker { dice, names, locals: 0, slips: 12 };
        let depth = 1 + maker.dice.below(3);
        let text = maker.anything(depth);
        let Ok(expression) = Expression::compile(&text, &scope) else { panic!("{text}") };
        let (of, findings) = env.infer(&expression);
        if findings.iter().any(|finding| !finding.warning) {
            refused += 1;
            return;
        }
        clean += 1;
        for _ in 0..4 {
            let values: Vec<Value> = schemas.iter().map(|s| Value::from_json(&fitting(dice, s))).collect();
            match expression.eval(&values, Limits::default()) {
                Ok(value) if holds(&value, &of) => {
                    // What is published of the type is true of what goes out as JSON.
                    let written = schema::write(&of);
                    let sent = value.to_serde();
                    assert!(
                        !finite(&value) || jsonschema::is_valid(&written, &sent),
                        "{text}\n gives {sent} which is not {written}"
                    );
                }
                Ok(value) => assert!(
                    holds(&value, &of),
                    "{text}\n gives {} which is not {of}\n over {:?}\n of {schemas:?}",
                    value.to_json(),
                    values.iter().map(Value::to_json).collect::<Vec<_>>()
                ),
                Err(failure) => assert!(
                    failure.kind != ErrorKind::Type,
                    "{text}\n fails: {failure}\n over {:?}\n of {schemas:?}",
                    values.iter().map(Value::to_json).collect::<Vec<_>>()
                ),
            }
        }
    });
    println!("{clean} clean expressions run 4 times each, {refused} refused");
    assert!(clean > 3000 && refused > 500, "{clean} clean, {refused} refused");
}
