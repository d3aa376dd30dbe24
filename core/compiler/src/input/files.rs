//! Files of an input: parts of a body, tokens of uploads in their place, and descriptions of them in cases and trials.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use kanzlei_model::file::File;
use kanzlei_model::problem::InputError;
use kanzlei_model::value::Value;

use super::{Body, Declared, EndpointInput, From, InputPlan, error, escape};

impl InputPlan {
    /// Tokens of uploads that stand in a body in place of files, by the names of their inputs. They leave the body.
    pub fn tokens(&self, endpoint: &EndpointInput, body: &mut Body) -> Vec<(String, String)> {
        let mut tokens = Vec::new();
        for name in endpoint.sources.iter().filter_map(|from| match from {
            From::File(name) => Some(name),
            _ => None,
        }) {
            match body {
                Body::Json(json) => {
                    let Some(given) = json.member(name) else { continue };
                    let several = given.as_list().unwrap_or(std::slice::from_ref(given));
                    let text = |one: &Value| one.as_text().map_or_else(|| one.to_json(), str::to_owned);
                    tokens.extend(several.iter().map(|one| (name.clone(), text(one))));
                    *json = without(json, name);
                }
                Body::Form(pairs) => {
                    let (own, others) = std::mem::take(pairs).into_iter().partition(|(known, _)| known == name);
                    *pairs = others;
                    tokens.extend::<Vec<_>>(own);
                }
                Body::None => {}
            }
        }
        tokens
    }

    /// Whether some input is a file.
    pub fn has_files(&self) -> bool {
        self.properties.iter().any(|declared| declared.file.is_some())
    }

    /// The files that a body describes, as a case has them, and what is left of the body.
    pub fn described(&self, endpoint: &EndpointInput, body: Option<&Value>) -> (Option<Value>, Vec<(String, File)>) {
        let mut files = Vec::new();
        let mut left = body.cloned();
        let mut take = |part: &str, value: &Value| {
            let several = value.as_list().unwrap_or(std::slice::from_ref(value));
            let made: Option<Vec<Value>> = several.iter().map(described).collect();
            let made: Vec<File> = made.iter().flatten().filter_map(|value| File::of(value).cloned()).collect();
            files.extend(made.iter().map(|file| (part.to_owned(), file.clone())));
            !made.is_empty()
        };
        for (declared, source) in self.properties.iter().zip(&endpoint.sources) {
            match source {
                From::Body if declared.file.is_some() => {
                    left = left.filter(|body| !take("", body));
                }
                From::File(name) => {
                    let Some(Value::Object(members)) = &left else { continue };
                    if members.get(name).is_some_and(|value| take(name, value)) {
                        left = left.map(|body| without(&body, name));
                    }
                }
                _ => {}
            }
        }
        (left, files)
    }

    /// A value in which the files of the input are described, as cases and trials do it: `{name, media, text}` or
    /// `{…, base64}` becomes a file that is held in memory.
    pub fn hold(&self, given: &Value) -> Value {
        let mut held = given.clone();
        for declared in self.properties.iter().filter(|declared| declared.file.is_some()) {
            let pointer = format!("/{}", escape(&declared.name));
            let made = match given.member(&declared.name) {
                Some(Value::List(list)) => {
                    Value::list(list.items().iter().map(|one| described(one).unwrap_or_else(|| one.clone())).collect())
                }
                Some(one) => described(one).unwrap_or_else(|| one.clone()),
                None => continue,
            };
            held = held.with_at(&pointer, made).unwrap_or(held);
        }
        held
    }
}

/// A file that an object describes: its `text` or its bytes in `base64`, with `media` and `name` where they matter. One that is
/// known by its `size` and `digest` alone, as the journal has it, is a file without bytes.
pub fn described(value: &Value) -> Option<Value> {
    let text = |name: &str| value.member(name).and_then(Value::as_text);
    if value.is_file() {
        return None;
    }
    if let (Some(Value::Int(size)), Some(digest), None, None) =
        (value.member("size"), text("digest"), text("text"), text("base64"))
    {
        let hex = digest.len() == 64 && digest.bytes().all(|byte| byte.is_ascii_hexdigit());
        let size = u64::try_from(*size).ok().filter(|_| hex)?;
        let known = File::of_bytes(text("name"), text("media").unwrap_or(kanzlei_model::file::ANY), [].into());
        return Some(Value::from(File { id: digest.into(), size, digest: digest.into(), held: None, ..known }));
    }
    let (bytes, usual) = match (text("text"), text("base64")) {
        (Some(text), None) => (text.as_bytes().to_vec(), "text/plain"),
        // Long texts are folded (RFC 2045).
        (None, Some(encoded)) => {
            let encoded: String = encoded.split_ascii_whitespace().collect();
            (STANDARD.decode(encoded).ok()?, kanzlei_model::file::ANY)
        }
        _ => return None,
    };
    let file = File::of_bytes(text("name"), text("media").unwrap_or(usual), bytes.into());
    Some(Value::from(file))
}

/// The files of an input; what is wrong with them is added to the errors.
pub(super) fn placed(
    declared: &Declared,
    part: &str,
    files: &[(String, File)],
    errors: &mut Vec<InputError>,
) -> Option<Value> {
    let wanted = declared.file.as_ref()?;
    let own: Vec<&File> = files.iter().filter(|(name, _)| name == part).map(|(_, file)| file).collect();
    let pointer = if part.is_empty() { String::new() } else { format!("/{}", escape(part)) };
    for file in &own {
        if !wanted.allows(&file.media) {
            let allowed = wanted.media.join(", ");
            let detail = format!("is {}; allowed media types are {allowed}", file.media);
            errors.push(error("body", pointer.clone(), detail));
        }
    }
    match wanted.list {
        Some(_) if own.is_empty() => None,
        Some(most) if own.len() > most as usize => {
            errors.push(error("body", pointer, format!("are {} files; at most {most} are allowed", own.len())));
            None
        }
        Some(_) => Some(Value::list(own.into_iter().map(|file| Value::from(file.clone())).collect())),
        None if own.len() > 1 => {
            errors.push(error("body", pointer, format!("is one file; {} were sent", own.len())));
            None
        }
        None => own.first().map(|file| Value::from((*file).clone())),
    }
}

/// An object without one of its members.
fn without(object: &Value, name: &str) -> Value {
    let members = object.as_object().into_iter().flat_map(|object| object.iter());
    Value::object(members.filter(|(known, _)| ***known != *name).map(|(name, value)| (name.clone(), value.clone())))
}
