//! Bodies with files, as the OpenAPI document describes them: parts of a multipart body, a body that is one file, and
//! tokens of uploads in a JSON body (OpenAPI 3.1, section 4.8.15).

use serde_json::{Map, Value as Json, json};

use crate::input::Declared;

/// The files of one operation.
#[derive(Default)]
pub struct Files<'p> {
    parts: Vec<(&'p str, &'p Declared)>,
    raw: Option<&'p Declared>,
}

impl<'p> Files<'p> {
    /// A file that is a part of the body.
    pub fn add(&mut self, name: &'p str, declared: &'p Declared) {
        self.parts.push((name, declared));
    }

    /// A file that is the body.
    pub fn raw(&mut self, declared: &'p Declared) {
        self.raw = Some(declared);
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.parts.is_empty() && self.raw.is_none()
    }

    /// The request body; `members` are the other inputs in it.
    pub fn body(&self, members: Map<String, Json>, mut required: Vec<Json>, extra: bool) -> Json {
        if let Some(declared) = self.raw {
            let content: Map<String, Json> = media(declared).into_iter().map(|media| (media, json!({}))).collect();
            return json!({"required": declared.required, "content": content});
        }
        required.extend(self.parts.iter().filter(|(_, one)| one.required).map(|(name, _)| Json::from(*name)));
        let form = |part: Json| {
            let mut properties = members.clone();
            for (name, declared) in &self.parts {
                let most = declared.file.as_ref().and_then(|file| file.list);
                let mut schema =
                    most.map_or(part.clone(), |most| json!({"type": "array", "items": part, "maxItems": most}));
                if let Some(about) = declared.schema.get("description") {
                    schema["description"] = about.clone();
                }
                properties.insert((*name).to_owned(), schema);
            }
            json!({"type": "object", "properties": properties, "required": required, "additionalProperties": extra})
        };
        let encoding: Map<String, Json> = self
            .parts
            .iter()
            .map(|(name, declared)| ((*name).to_owned(), json!({"contentType": media(declared).join(", ")})))
            .collect();
        let token = json!({"type": "string", "description": "The token of an upload: `POST /~/uploads`."});
        json!({"required": !required.is_empty(), "content": {
            // Bytes have no schema (OpenAPI 3.1, section 4.8.14.5).
            "multipart/form-data": {"schema": form(json!({})), "encoding": encoding},
            "application/json": {"schema": form(token)},
        }})
    }
}

fn media(declared: &Declared) -> Vec<String> {
    match declared.file.as_ref().map(|file| file.media.clone()) {
        Some(media) if !media.is_empty() => media,
        _ => vec!["*/*".to_owned()],
    }
}
