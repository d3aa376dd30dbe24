//! Whether a value is of a type, as `as` asks when it is evaluated. Members that a type does not list are no fault, as everywhere
//! where a value comes from outside.

use super::Type;
use kanzlei_model::value::Value;

/// How deep values are looked at; what lies deeper is taken as it is.
const DEEPEST: usize = 60;

/// Where and why a value is not of a type; nothing where it is. Adds how many parts were looked at.
pub fn misplaced(value: &Value, of: &Type, parts: &mut u64) -> Option<(String, String)> {
    at("", value, of, 0, parts)
}

fn at(path: &str, value: &Value, of: &Type, depth: usize, parts: &mut u64) -> Option<(String, String)> {
    *parts += 1;
    if depth > DEEPEST {
        return None;
    }
    let alternatives = of.alternatives();
    let mut first = None;
    for one in alternatives {
        match single(path, value, one, depth, parts) {
            None => return None,
            // What lies deeper says more than that the whole is something else.
            Some(found) if found.0.len() > path.len() => first = first.or(Some(found)),
            Some(_) => {}
        }
    }
    first.or_else(|| {
        let (found, wanted) = (value.kind(), of.what());
        let why = if found == wanted { format!("is not {of}") } else { format!("is {found}, not {wanted}") };
        Some((path.to_owned(), why))
    })
}

fn single(path: &str, value: &Value, of: &Type, depth: usize, parts: &mut u64) -> Option<(String, String)> {
    let no = || Some((path.to_owned(), String::new()));
    match (of, value) {
        (Type::Unknown, _) | (Type::Undefined, Value::Undefined) | (Type::Null, Value::Null) => None,
        (Type::Bool(wanted), Value::Bool(found)) if wanted.is_none_or(|wanted| wanted == *found) => None,
        (Type::Number(None), Value::Int(_) | Value::Num(_)) => None,
        (Type::Number(Some(wanted)), Value::Int(found)) if *wanted == *found as f64 => None,
        (Type::Number(Some(wanted)), Value::Num(found)) if wanted == found => None,
        (Type::Text(wanted), found) if found.as_text().is_some_and(|text| wanted.holds(text)) => None,
        (Type::List(items), found) => match found.as_list() {
            Some(list) => list
                .iter()
                .enumerate()
                .find_map(|(index, item)| at(&format!("{path}/{index}"), item, &items.of, depth + 1, parts)),
            None => no(),
        },
        (Type::Object(shape), found) if shape.file => {
            if found.is_file() {
                None
            } else {
                no()
            }
        }
        (Type::Object(shape), found) => match found.as_object() {
            Some(object) => shape.members.iter().find_map(|member| {
                let inner = format!("{path}/{}", member.name);
                match object.get(&member.name) {
                    None | Some(Value::Undefined) if member.optional => None,
                    None if !member.value.alternatives().contains(&Type::Undefined) => {
                        Some((inner, "is not there".into()))
                    }
                    None => None,
                    Some(value) => at(&inner, value, &member.value, depth + 1, parts),
                }
            }),
            None => no(),
        },
        _ => no(),
    }
}

#[cfg(test)]
mod tests {
    use crate::expr::{Expression, Limits, Scope};
    use crate::types::schema;
    use kanzlei_model::value::Value;
    use serde_json::json;

    #[test]
    fn as_picks_what_is_of_a_type_and_fails_for_the_rest() {
        let mut scope = Scope::default();
        scope.define("v");
        let stay = json!({"type": "object", "required": ["nights"], "properties": {"nights": {"type": "integer"}, "at": {"enum": ["LIN", "NES"]}, "crew": {"type": "array", "items": {"type": "string"}}}});
        scope.define_type("Stay", schema::read(&stay));
        let value: Value = serde_json::from_str(
            r#"{"a":{"nights":2,"at":"LIN","crew":["x"],"more":1},"b":{"nights":"2"},"c":{"nights":1,"at":"OSL"},"d":{"nights":1,"crew":["x",null]},"e":{"at":"LIN"},"n":null,"list":[{"nights":1},{"nights":2}]}"#,
        )
        .expect("json");
        for (text, wanted) in [
            ("(v.a as Stay).nights", "2"),
            ("(v['list'] as Stay[])[1].nights", "2"),
            ("(v.list[1] as {nights: number}).nights + 1", "3"),
            ("(v.n as Stay | null)?.nights", "undefined"),
            ("v.x?.y as undefined", "undefined"),
            ("v.b as Stay", "this is not `Stay`: `/nights` is a string, not a number"),
            ("v.c as Stay", "this is not `Stay`: `/at` is not 'LIN' | 'NES'"),
            ("v.d as Stay", "this is not `Stay`: `/crew/1` is null, not a string"),
            ("v.e as Stay", "this is not `Stay`: `/nights` is not there"),
            ("v.n as Stay", "this is not `Stay`: it is null, not an object"),
            ("v.list as Stay", "this is not `Stay`: it is an array, not an object"),
        ] {
            let compiled = Expression::compile(text, &scope).expect(text);
            let got = match compiled.eval(std::slice::from_ref(&value), Limits::default()) {
                Ok(Value::Undefined) => "undefined".to_owned(),
                Ok(value) => value.to_json(),
                Err(error) => error.message,
            };
            assert_eq!(got, wanted, "{text}");
        }
        for text in ["v as const", "v as Ship", "v satisfies Stay", "<Stay>v", "v!"] {
            assert!(Expression::compile(text, &scope).is_err(), "{text}");
        }
        // In scripts too, where what was made there is checked as it stands.
        for (text, wanted) in [
            ("const s = v.a as Stay; return s.nights;", "2"),
            (
                "const l: unknown[] = [1]; l.push('x'); try { return l as number[]; } catch (e) { return e.message; }",
                "\"this is not `number[]`: `/1` is a string, not a number\"",
            ),
        ] {
            let script = Expression::script(text, &scope).expect(text);
            let got = script.eval(std::slice::from_ref(&value), Limits::script());
            assert_eq!(
                got.map(|value| value.to_json()).map_err(|error| error.message),
                Ok(wanted.to_owned()),
                "{text}"
            );
        }
    }
}
