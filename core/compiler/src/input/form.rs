//! Forms as objects: names with brackets are members and positions, and values become what their schemas ask for.
//!
//! `stay[from]=2027-03-04&crew[0][name]=Alda&ports[]=LIN` is `{stay: {from: …}, crew: [{name: …}], ports: [LIN]}`. A value may
//! also be JSON where an object or a list is wanted: `stay={"from":"2027-03-04"}`.

use std::collections::HashMap;

use serde_json::{Map, Value as Json};

use super::texts::{coerce, types};

/// How deep names nest; deeper ones stay names.
const MOST_DEPTH: usize = 8;

/// What a form says under one name.
#[derive(Debug)]
pub(super) enum Part {
    Texts(Vec<String>),
    Members(Members),
}

/// Parts by name, in the order in which they came.
#[derive(Debug, Default)]
pub(super) struct Members {
    parts: Vec<(String, Part)>,
    at: HashMap<String, usize>,
}

impl Members {
    /// Gathers the pairs of a form; `whole` says which names are no paths. Returns what contradicts itself, by pointers.
    pub fn of(pairs: Vec<(String, String)>, whole: &dyn Fn(&str) -> bool) -> (Self, Vec<(String, String)>) {
        let mut members = Members::default();
        let mut faults = Vec::new();
        for (name, text) in pairs {
            let path = if whole(&name) { vec![name.as_str()] } else { path(&name) };
            if let Err(detail) = members.add(&path, text) {
                let pointer = path.iter().map(|key| format!("/{}", super::escape(key))).collect();
                faults.push((pointer, detail.to_owned()));
            }
        }
        (members, faults)
    }

    fn add(&mut self, path: &[&str], text: String) -> Result<(), &'static str> {
        let Some((name, rest)) = path.split_first() else { return Ok(()) };
        if name.is_empty() && !rest.is_empty() {
            return Err("has members without a position: write `crew[0][name]`");
        }
        let index = match self.at.get(*name) {
            Some(index) => *index,
            None => {
                let part = if rest.is_empty() || rest == [""] {
                    Part::Texts(Vec::new())
                } else {
                    Part::Members(Members::default())
                };
                self.at.insert((*name).to_owned(), self.parts.len());
                self.parts.push(((*name).to_owned(), part));
                self.parts.len() - 1
            }
        };
        match (&mut self.parts[index].1, rest) {
            (Part::Texts(texts), [] | [""]) => texts.push(text),
            (Part::Members(members), [_, ..]) if rest != [""] => return members.add(rest, text),
            _ => return Err("is a value, and has members too"),
        }
        Ok(())
    }

    /// The parts by their names.
    pub fn into_parts(self) -> Vec<(String, Part)> {
        self.parts
    }
}

/// The keys of a name: of `crew[0][name]` they are `crew`, `0` and `name`.
fn path(name: &str) -> Vec<&str> {
    let keys = || {
        let (first, rest) = name.split_once('[')?;
        let inner = rest.strip_suffix(']')?;
        let mut keys = vec![first];
        keys.extend(inner.split("]["));
        let sound = !first.is_empty() && keys.iter().all(|key| !key.contains(['[', ']']));
        (sound && keys.len() <= MOST_DEPTH).then_some(keys)
    };
    keys().unwrap_or_else(|| vec![name])
}

impl Part {
    /// The value as a schema wants it.
    pub fn fit(self, schema: &Json) -> Json {
        let wants = |what: &str| types(schema).contains(&what);
        let items = || schema.get("items").unwrap_or(&Json::Null);
        match self {
            Part::Texts(texts) if wants("array") => {
                // One value may be the whole list, but for lists of texts.
                if let ([only], false) = (texts.as_slice(), types(items()).contains(&"string"))
                    && let Some(list) = serde_json::from_str(only).ok().filter(Json::is_array)
                {
                    return list;
                }
                texts.into_iter().map(|text| Part::Texts(vec![text]).fit(items())).collect()
            }
            Part::Texts(texts) => coerce(schema, texts.into_iter().next().unwrap_or_default()),
            Part::Members(members)
                if wants("array") && members.parts.iter().all(|(key, _)| key.parse::<u32>().is_ok()) =>
            {
                let mut parts = members.parts;
                parts.sort_by_key(|(key, _)| key.parse::<u32>().unwrap_or_default());
                parts.into_iter().map(|(_, part)| part.fit(items())).collect()
            }
            Part::Members(members) => {
                let of = |name: &str| {
                    let own = schema.get("properties").and_then(|all| all.get(name));
                    own.or_else(|| schema.get("additionalProperties")).unwrap_or(&Json::Null)
                };
                let fit = members.parts.into_iter().map(|(name, part)| {
                    let value = part.fit(of(&name));
                    (name, value)
                });
                Json::Object(fit.collect::<Map<_, _>>())
            }
        }
    }
}
