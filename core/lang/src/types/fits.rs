//! Whether a value can be what is asked for. Only what can never fit is reported.

use super::{Text, Type};

/// Why a value of one type contradicts another, with the pointer to where; nothing when it may fit.
///
/// A value that may be missing contradicts a type that excludes null, since the case in which it is
/// missing is possible.
pub fn contradiction(given: &Type, wanted: &Type) -> Option<(String, String)> {
    at("", given, wanted, 0)
}

fn at(path: &str, given: &Type, wanted: &Type, depth: usize) -> Option<(String, String)> {
    if depth > 30 || *given == Type::Unknown || wanted.alternatives().contains(&Type::Unknown) {
        return None;
    }
    for one in given.alternatives() {
        let mut first = None;
        let mut fits = false;
        for alternative in wanted.alternatives() {
            match single(path, one, alternative, depth) {
                None => {
                    fits = true;
                    break;
                }
                Some(found) => first = first.or(Some(found)),
            }
        }
        if !fits {
            // With several alternatives the first one's complaint may mislead.
            let general = || (path.to_owned(), format!("{} is not {}", short(one), short(wanted)));
            return Some(if wanted.alternatives().len() == 1 { first.unwrap_or_else(general) } else { general() });
        }
    }
    None
}

fn single(path: &str, given: &Type, wanted: &Type, depth: usize) -> Option<(String, String)> {
    let no = || Some((path.to_owned(), format!("{} is not {}", short(given), short(wanted))));
    match (given, wanted) {
        (Type::Unknown, _) | (_, Type::Unknown) => None,
        (Type::Bool(a), Type::Bool(b)) if a.is_none() || b.is_none() || a == b => None,
        (Type::Number(a), Type::Number(b)) if a.is_none() || b.is_none() || a == b => None,
        // JSON Schema knows spans of ISO 8601 only.
        (Type::Text(Text::One(text)), Type::Text(Text::Span)) if !text.starts_with('P') => no(),
        (Type::Text(a), Type::Text(b)) if a.meets(b) => None,
        (Type::Null | Type::Undefined, Type::Null) => None,
        (Type::Undefined, Type::Undefined) => None,
        (Type::List(a), Type::List(b)) => at(&format!("{path}/0"), &a.of, &b.of, depth + 1),
        (Type::Object(a), Type::Object(b)) if b.file && !a.file => no(),
        (Type::Object(a), Type::Object(b)) => {
            for member in &b.members {
                let inner = format!("{path}/{}", member.name);
                match a.read(&member.name) {
                    None if member.optional => {}
                    None => return Some((inner, "is not there".into())),
                    // A member that is `undefined` is left out when it is written.
                    Some(value) => {
                        let value = if member.optional { value.keep(|one| *one != Type::Undefined) } else { value };
                        if !member.optional && value.alternatives().contains(&Type::Undefined) {
                            return Some((inner, "may not be there".into()));
                        }
                        if let Some(found) = at(&inner, &value, &member.value, depth + 1) {
                            return Some(found);
                        }
                    }
                }
            }
            for member in a.members.iter().filter(|member| b.get(&member.name).is_none()) {
                match &b.rest {
                    // Schemas that do not say whether they accept more are assumed to accept it.
                    None => {}
                    Some(rest) => {
                        let value = member.value.keep(|one| *one != Type::Undefined);
                        if let Some(found) = at(&format!("{path}/{}", member.name), &value, rest, depth + 1) {
                            return Some(found);
                        }
                    }
                }
            }
            None
        }
        (a, b) if a == b => None,
        _ => no(),
    }
}

fn short(of: &Type) -> String {
    match of {
        Type::Text(Text::One(_)) | Type::Number(Some(_)) | Type::Bool(Some(_)) => of.to_string(),
        Type::Union(several)
            if several.iter().all(|one| matches!(one, Type::Text(Text::One(_)) | Type::Number(Some(_)))) =>
        {
            format!("one of {}", several.iter().map(Type::to_string).collect::<Vec<_>>().join(", "))
        }
        other => other.what(),
    }
}
