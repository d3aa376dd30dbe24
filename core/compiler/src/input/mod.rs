//! A workflow's input: where each part of a request goes, and what is wrong with it.
//!
//! The same declaration serves however a workflow is entered. For an endpoint the parts of a request
//! are assigned by convention (path, query or body, as the design of entries says), text becomes the
//! type its schema asks for, defaults fill what is missing, and JSON Schema has the last word. All
//! faults of a request are reported together.

mod files;
mod form;
mod schema;
mod texts;

use std::collections::HashMap;

use jsonschema::error::ValidationErrorKind;
use serde_json::{Map, Value as Json, json};

use kanzlei_lang::confidential::Label;
use kanzlei_lang::document::file::FileInput;
use kanzlei_lang::document::workflow::Property;
use kanzlei_lang::suggest;
use kanzlei_model::file::File;
use kanzlei_model::problem::{InputError, Problem};
use kanzlei_model::value::{Object, ObjectBuilder, Value, key};

pub use files::described;
use files::placed;
pub use schema::{Validator, validator};
pub use texts::{decoded, encoded, form_pairs};
use texts::{fitted, from_texts, types};

/// How the input of a workflow is checked.
#[derive(Debug)]
pub struct InputPlan {
    /// The declared inputs.
    pub properties: Vec<Declared>,
    /// Whether undeclared members are allowed.
    pub extra: bool,
    /// The schema of the whole input, as an object.
    pub schema: Json,
    /// Which parts of it are confidential.
    pub label: Label,
    validator: Validator,
}

/// A declared input.
#[derive(Clone, Debug)]
pub struct Declared {
    /// The name of the input.
    pub name: String,
    /// JSON Schema of its value.
    pub schema: Json,
    /// Whether it must be present.
    pub required: bool,
    /// Whether its value is confidential.
    pub secret: bool,
    /// What files it accepts, where it is one.
    pub file: Option<FileInput>,
    default: Option<Value>,
}

impl Declared {
    /// What of it is confidential: all of it, or what its schema says further in.
    fn label(&self) -> Label {
        property_label(&self.schema, self.secret)
    }
}

/// The label of an input property; `secret` is its own flag.
pub fn property_label(schema: &Json, secret: bool) -> Label {
    if !secret {
        return Label::of_schema(schema);
    }
    Label::of_schema(&json!({"secret": true, "type": schema.get("type").cloned().unwrap_or_default()}))
}

/// Where each input comes from at one endpoint, in the order of the declarations.
#[derive(Clone, Debug, PartialEq)]
pub struct EndpointInput {
    /// Where each declared input comes from, in order.
    pub sources: Vec<From>,
}

/// Where an input comes from.
#[derive(Clone, Debug, PartialEq)]
pub enum From {
    /// A parameter of the path template.
    Path(String),
    /// A query parameter.
    Query(String),
    /// A header field.
    Header(String),
    /// A member of the JSON or form body.
    Member(String),
    /// The whole body.
    Body,
    /// A part of a multipart body, or the token of an upload in a JSON or form body.
    File(String),
}

impl From {
    fn within(&self) -> &'static str {
        match self {
            From::Path(_) => "path",
            From::Query(_) => "query",
            From::Header(_) => "header",
            From::Member(_) | From::Body | From::File(_) => "body",
        }
    }
}

/// A request in its parts.
#[derive(Debug, Default)]
pub struct Parts<'r> {
    /// Parameters of the path template.
    pub path: Vec<(&'r str, String)>,
    /// Query parameters, in order.
    pub query: Vec<(String, String)>,
    /// The body.
    pub body: Body,
    /// Files by the names of their parts; one without a name is the whole body.
    pub files: Vec<(String, File)>,
}

/// The body of a request, parsed.
#[derive(Debug, Default, PartialEq)]
pub enum Body {
    /// No body.
    #[default]
    None,
    /// A JSON value, read as far as it is asked for.
    Json(Value),
    /// Names and values of a form.
    Form(Vec<(String, String)>),
}

impl Body {
    /// Reads a body by its media type (RFC 9110 §8.3); an empty body is none.
    pub fn read(media: &str, bytes: &[u8]) -> Result<Self, Box<Problem>> {
        if bytes.is_empty() {
            return Ok(Body::None);
        }
        let media = media.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
        if media == "application/json" || (media.starts_with("application/") && media.ends_with("+json")) {
            return Value::read(bytes.into()).map(Body::Json).map_err(|error| {
                Box::new(Problem::new(400, "Malformed body").detail(format!("the body is not JSON: {error}")))
            });
        }
        if media == "application/x-www-form-urlencoded" {
            return Ok(Body::Form(form_pairs(bytes)));
        }
        let what = if media.is_empty() { "no Content-Type".to_owned() } else { format!("`{media}`") };
        Err(Box::new(
            Problem::new(415, "Unsupported media type")
                .detail(format!("the body has {what}; send `application/json` or `application/x-www-form-urlencoded`")),
        ))
    }
}

/// A request as it is sent: path with query, headers, JSON body.
pub type Sent = (String, Vec<(String, String)>, Option<Json>);

impl InputPlan {
    /// The request to an endpoint that leads to this input: the reverse of [`InputPlan::gather`].
    /// Nothing where no request leads to exactly this.
    pub fn request(&self, path: &str, endpoint: &EndpointInput, input: &Value) -> Option<Sent> {
        let given = input.to_serde();
        let given = given.as_object()?;
        let (mut target, mut query, mut headers) = (path.to_owned(), Vec::new(), Vec::new());
        let (mut members, mut body) = (Map::new(), None);
        for (name, value) in given {
            let at = self.properties.iter().position(|declared| declared.name == *name);
            let text = |value: &Json| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
            match at.map(|at| &endpoint.sources[at]) {
                Some(From::Path(part)) => target = target.replace(&format!("{{{part}}}"), &encoded(&text(value))),
                Some(From::Query(name)) => {
                    let several = value.as_array().map_or(std::slice::from_ref(value), Vec::as_slice);
                    let pair = |value| format!("{}={}", encoded(name), encoded(&text(value)));
                    query.extend(several.iter().map(pair));
                }
                Some(From::Header(name)) => headers.push((name.clone(), text(value))),
                Some(From::Member(name)) => _ = members.insert(name.clone(), value.clone()),
                Some(From::Body) => body = Some(value.clone()),
                // Files are no JSON.
                Some(From::File(_)) | None => return None,
            }
        }
        let body = body.or_else(|| (!members.is_empty()).then(|| members.into()));
        // The request is read back and compared, because some inputs cannot be expressed as text.
        let path: Vec<(&str, String)> = path
            .split('/')
            .zip(target.split('/'))
            .filter_map(|(part, given)| Some((part.strip_prefix('{')?.strip_suffix('}')?, decoded(given))))
            .collect();
        let parts = Parts {
            path,
            query: form_pairs(query.join("&").as_bytes()),
            body: body.as_ref().map_or(Body::None, |body| Body::Json(Value::from_json(body))),
            files: Vec::new(),
        };
        let header = |name: &str| headers.iter().find(|(known, _)| known == name).map(|(_, value)| value.clone());
        let gathered = self.gather(endpoint, parts, &header).ok()?;
        let target = if query.is_empty() { target } else { format!("{target}?{}", query.join("&")) };
        (gathered == *input).then_some((target, headers, body))
    }

    /// Compiles the declarations; an invalid schema is returned with its property and what is wrong.
    pub fn new(properties: &[Property], extra: bool) -> Result<Self, Vec<(usize, String)>> {
        let mut faults = Vec::new();
        let mut declared = Vec::new();
        let mut schemas = Map::new();
        let mut required = Vec::new();
        for (index, property) in properties.iter().enumerate() {
            if let Err(error) = jsonschema::meta::validate(&property.schema) {
                faults.push((
                    index,
                    format!("not a JSON Schema: {error}{}", at_path(&error.instance_path().to_string())),
                ));
                continue;
            }
            match validator(&property.schema) {
                Err(error) => faults.push((index, format!("not a usable JSON Schema: {error}"))),
                Ok(validator) => {
                    if let Some(default) = &property.default
                        && let Err(error) = validator.validate(default)
                    {
                        faults.push((index, format!("the default does not fit its schema: {error}")));
                    }
                }
            }
            let is_required = property.default.is_none() && !property.optional;
            if is_required {
                required.push(Json::from(property.name.text.as_str()));
            }
            schemas.insert(property.name.text.clone(), property.schema.clone());
            declared.push(Declared {
                name: property.name.text.clone(),
                schema: property.schema.clone(),
                required: is_required,
                secret: property.secret,
                file: FileInput::of(&property.schema),
                default: property.default.clone(),
            });
        }
        if !faults.is_empty() {
            return Err(faults);
        }
        let schema =
            json!({"type": "object", "properties": schemas, "required": required, "additionalProperties": extra});
        match validator(&schema) {
            Ok(validator) => {
                let label = Label::object(declared.iter().map(|one| (one.name.as_str(), one.label())), Label::Clear);
                Ok(InputPlan { properties: declared, extra, schema, label, validator })
            }
            Err(error) => Err(vec![(0, format!("not a usable JSON Schema: {error}"))]),
        }
    }

    /// Takes the input of one endpoint out of a request.
    ///
    /// `header` returns a request header by name.
    pub fn gather(
        &self,
        endpoint: &EndpointInput,
        parts: Parts,
        header: &dyn Fn(&str) -> Option<String>,
    ) -> Result<Value, Box<Problem>> {
        let mut errors = Vec::new();
        let mut input = ObjectBuilder::with_capacity(self.properties.len());
        let mut body = match parts.body {
            Body::None => None,
            Body::Json(json) => Some(json),
            Body::Form(pairs) => Some(self.form_members(endpoint, pairs, &mut errors)),
        };
        let whole_body = endpoint.sources.contains(&From::Body);
        if let (Some(json), false) = (&body, whole_body)
            && json.as_object().is_none()
        {
            errors.push(error("body", String::new(), format!("the body is {}, not an object", json.kind())));
            body = None;
        }
        for (declared, from) in self.properties.iter().zip(&endpoint.sources) {
            let text = |text: String| texts::value(&declared.schema, text);
            let value = match from {
                From::Path(name) => {
                    parts.path.iter().find(|(known, _)| known == name).map(|(_, value)| text(value.clone()))
                }
                From::Header(name) => header(name).map(text),
                From::Query(name) => {
                    let given: Vec<&String> =
                        parts.query.iter().filter(|(known, _)| known == name).map(|(_, v)| v).collect();
                    from_texts(&declared.schema, given)
                }
                From::Member(name) => body.as_ref().and_then(|body| body.member(name).cloned()),
                From::Body if declared.file.is_none() => body.take(),
                From::Body => placed(declared, "", &parts.files, &mut errors),
                From::File(name) => placed(declared, name, &parts.files, &mut errors),
            };
            if let Some(value) = value.or_else(|| declared.default.clone()) {
                input.insert(key(&declared.name), value);
            }
        }
        // Undeclared members.
        for (name, value) in &parts.query {
            let known = endpoint.sources.iter().any(|from| matches!(from, From::Query(known) if known == name));
            if !known && self.extra {
                input.add(key(name), || Value::text(value.as_str()));
            } else if !known {
                errors.push(self.unknown("query", name, endpoint));
            }
        }
        for (name, value) in body.as_ref().and_then(Value::as_object).into_iter().flat_map(Object::iter) {
            if endpoint.sources.iter().any(|from| matches!(from, From::Member(known) if **known == **name)) {
                continue;
            }
            if self.extra {
                input.add(name.clone(), || value.clone());
            } else {
                errors.push(self.unknown("body", name, endpoint));
            }
        }
        let input = input.finish();
        if !self.validator.is_valid(&input) {
            self.explain(&input, |name| endpoint.sources[name].clone(), &mut errors);
        }
        if errors.is_empty() {
            return Ok(input);
        }
        let mut problem = Problem::new(422, "Invalid input");
        problem.detail = Some(match errors.len() {
            1 => "1 invalid value".into(),
            n => format!("{n} invalid values"),
        });
        problem.errors = errors;
        Err(Box::new(problem))
    }

    /// Takes an input as it is given to a workflow that is not entered through an endpoint: defaults
    /// are filled in, and what does not fit is reported.
    pub fn accept(&self, given: &Value) -> Result<Value, Box<Problem>> {
        let mut errors = Vec::new();
        let mut input = ObjectBuilder::default();
        match given.plain() {
            Value::Object(members) => input.extend(&members),
            Value::Undefined | Value::Null => {}
            other => errors.push(error("input", String::new(), format!("is {}, not an object", other.kind()))),
        }
        for declared in &self.properties {
            if let Some(default) = &declared.default {
                input.add(key(&declared.name), || default.clone());
            }
        }
        let input = input.finish();
        let members = || input.as_object().into_iter().flat_map(Object::iter);
        if !self.extra {
            for (name, _) in members().filter(|(name, _)| !self.properties.iter().any(|p| *p.name == ***name)) {
                let known = self.properties.iter().map(|p| p.name.as_str());
                let hint = suggest::nearest(name, known).map(|near| format!("; did you mean `{near}`?"));
                let detail = format!("is not an input{}", hint.unwrap_or_default());
                errors.push(error("input", format!("/{}", escape(name)), detail));
            }
        }
        if errors.is_empty() && !self.validator.is_valid(&input) {
            self.explain(&input, |index| From::Member(self.properties[index].name.clone()), &mut errors);
        }
        if errors.is_empty() {
            // What looks like a file is none.
            let is_file =
                |own: &Value| own.is_file() || own.as_list().is_some_and(|list| list.iter().all(Value::is_file));
            for declared in self.properties.iter().filter(|declared| declared.file.is_some()) {
                if input.member(&declared.name).is_some_and(|own| !is_file(own)) {
                    errors.push(error("input", format!("/{}", escape(&declared.name)), "is not a file".to_owned()));
                }
            }
            if errors.is_empty() {
                return Ok(input);
            }
        }
        let mut problem = Problem::new(422, "Invalid input");
        problem.errors = errors;
        Err(Box::new(problem))
    }

    /// Takes what is declared out of a row of a file; `of_texts` says whether all of it is text, which becomes what the schemas want.
    pub fn fit(&self, row: &Value, of_texts: bool) -> Result<Value, Box<Problem>> {
        let Value::Object(members) = row else { return self.accept(row) };
        let mut wanted = ObjectBuilder::with_capacity(self.properties.len());
        for declared in &self.properties {
            let Some(value) = members.get(&declared.name) else { continue };
            let value = match of_texts {
                true => match fitted(&declared.schema, value.to_serde()) {
                    // A field without text is one that is not there, where it need not be text.
                    Json::String(text) if text.is_empty() && !types(&declared.schema).contains(&"string") => continue,
                    fitted => Value::from_json(&fitted),
                },
                false => value.clone(),
            };
            wanted.insert(declared.name.as_str().into(), value);
        }
        self.accept(&wanted.finish())
    }

    fn form_members(
        &self,
        endpoint: &EndpointInput,
        pairs: Vec<(String, String)>,
        errors: &mut Vec<InputError>,
    ) -> Value {
        let by_name: HashMap<&str, usize> = (endpoint.sources.iter().enumerate())
            .filter_map(|(index, from)| match from {
                From::Member(name) => Some((name.as_str(), index)),
                _ => None,
            })
            .collect();
        let (found, faults) = form::Members::of(pairs, &|name| by_name.contains_key(name));
        errors.extend(faults.into_iter().map(|(pointer, detail)| error("body", pointer, detail)));
        let mut members = ObjectBuilder::default();
        for (name, part) in found.into_parts() {
            let index = by_name.get(name.as_str());
            let schema = index.map_or(&Json::Null, |index| &self.properties[*index].schema);
            members.insert(key(&name), Value::from_json(&part.fit(schema)));
        }
        members.finish()
    }

    fn unknown(&self, within: &str, name: &str, endpoint: &EndpointInput) -> InputError {
        let known = endpoint.sources.iter().filter(|from| from.within() == within).filter_map(|from| match from {
            From::Query(name) | From::Member(name) => Some(name.as_str()),
            _ => None,
        });
        let hint = suggest::nearest(name, known).map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
        error(within, format!("/{}", escape(name)), format!("is not an input{hint}"))
    }

    /// Turns what JSON Schema found into errors with place and pointer.
    fn explain(&self, input: &Value, from: impl Fn(usize) -> From, errors: &mut Vec<InputError>) {
        for found in self.validator.iter_errors(input) {
            let (pointer, detail) = found_at(&found);
            let first = pointer.split('/').nth(1).unwrap_or_default().replace("~1", "/").replace("~0", "~");
            let Some(index) = self.properties.iter().position(|declared| declared.name == first) else { continue };
            let source = from(index);
            // Inside the whole body the pointer starts at the body; a parameter is named by itself.
            let rest = pointer.get(1 + escape(&first).len()..).unwrap_or_default();
            let pointer = match &source {
                From::Body => rest.to_owned(),
                // What of a file does not fit is the file's fault.
                From::File(name) => format!("/{}", escape(name)),
                From::Path(name) | From::Query(name) | From::Header(name) | From::Member(name) => {
                    format!("/{}{rest}", escape(name))
                }
            };
            errors.push(error(source.within(), pointer, detail));
        }
    }

    /// The input with confidential values masked, for journals.
    pub fn masked(&self, input: &Value) -> Value {
        self.label.mask(input)
    }
}

/// Checks a value against a schema.
///
/// # Errors
/// A problem with status 422 that lists what does not fit.
pub fn fits(validator: &Validator, value: &Value) -> Result<(), Box<Problem>> {
    let errors: Vec<InputError> = validator
        .iter_errors(value)
        .take(MOST_FAULTS)
        .map(|found| {
            let (pointer, detail) = found_at(&found);
            error("body", pointer, detail)
        })
        .collect();
    if errors.is_empty() { Ok(()) } else { Err(Box::new(Problem { errors, ..Problem::new(422, "Invalid input") })) }
}

/// The most faults that are listed of one value.
const MOST_FAULTS: usize = 20;

/// Where a fault is, and what it is; the value is left out.
fn found_at(found: &jsonschema::ValidationError) -> (String, String) {
    let path = found.instance_path().to_string();
    match found.kind() {
        ValidationErrorKind::Required { property } => {
            let name = property.as_str().unwrap_or_default();
            (format!("{path}/{}", escape(name)), "is required".to_owned())
        }
        _ => (path, found.masked_with("the value").to_string()),
    }
}

fn error(within: &str, pointer: String, detail: String) -> InputError {
    InputError { within: within.into(), pointer, detail }
}

/// A reference token of a JSON Pointer (RFC 6901 §3).
fn escape(name: &str) -> String {
    name.replace('~', "~0").replace('/', "~1")
}

fn at_path(path: &str) -> String {
    if path.is_empty() { String::new() } else { format!(" (at {path})") }
}
