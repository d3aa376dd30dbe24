//! A workflow's input: where each part of a request goes, and what is wrong with it.
//!
//! The same declaration serves however a workflow is entered. For an endpoint the parts of a request
//! are assigned by convention (path, query or body, as the design of entries says), text becomes the
//! type its schema asks for, defaults fill what is missing, and JSON Schema has the last word. All
//! faults of a request are reported together.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use jsonschema::Validator;
use jsonschema::error::ValidationErrorKind;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, percent_decode_str, utf8_percent_encode};
use serde_json::{Map, Value as Json, json};

use kanzlei_lang::confidential::Label;
use kanzlei_lang::document::file::FileInput;
use kanzlei_lang::document::workflow::Property;
use kanzlei_lang::suggest;
use kanzlei_model::file::File;
use kanzlei_model::problem::{InputError, Problem};
use kanzlei_model::value::{ObjectBuilder, Value};

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
    default: Option<Json>,
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
    /// A JSON value.
    Json(Json),
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
            return serde_json::from_slice(bytes).map(Body::Json).map_err(|error| {
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

/// Pairs of a query or form (application/x-www-form-urlencoded, as the URL standard reads it).
pub fn form_pairs(bytes: &[u8]) -> Vec<(String, String)> {
    form_urlencoded::parse(bytes).into_owned().collect()
}

/// A part of a path without its percent-encoding (RFC 3986 §2.1).
pub fn decoded(part: &str) -> String {
    percent_decode_str(part).decode_utf8_lossy().into_owned()
}

/// What stands in a part of a path or query as it is, beside letters and digits (RFC 3986 §2.3).
const RESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// A text as a part of a path or query: everything but unreserved characters is percent-encoded.
pub fn encoded(text: &str) -> String {
    utf8_percent_encode(text, RESERVED).to_string()
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
            body: body.clone().map_or(Body::None, Body::Json),
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
                    if let Some(default) = property.default.as_ref().map(Value::to_serde)
                        && let Err(error) = validator.validate(&default)
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
                default: property.default.as_ref().map(Value::to_serde),
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
        let mut input = Map::new();
        let mut body = match parts.body {
            Body::None => None,
            Body::Json(json) => Some(json),
            Body::Form(pairs) => Some(self.form_members(endpoint, pairs)),
        };
        let whole_body = endpoint.sources.contains(&From::Body);
        if let (Some(json), false) = (&body, whole_body)
            && !json.is_object()
        {
            errors.push(error("body", String::new(), format!("the body is {}, not an object", json_kind(json))));
            body = None;
        }
        for (declared, from) in self.properties.iter().zip(&endpoint.sources) {
            let text = |text: String| coerce(&declared.schema, text);
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
                From::Member(name) => body.as_mut().and_then(|body| body.as_object_mut()?.shift_remove(name)),
                From::Body if declared.file.is_none() => body.take(),
                From::Body => placed(declared, "", &parts.files, &mut errors),
                From::File(name) => placed(declared, name, &parts.files, &mut errors),
            };
            if let Some(value) = value.or_else(|| declared.default.clone()) {
                input.insert(declared.name.clone(), value);
            }
        }
        // Undeclared members.
        for (name, value) in &parts.query {
            let known = endpoint.sources.iter().any(|from| matches!(from, From::Query(known) if known == name));
            if !known && self.extra {
                input.entry(name.clone()).or_insert_with(|| value.as_str().into());
            } else if !known {
                errors.push(self.unknown("query", name, endpoint));
            }
        }
        if let Some(Json::Object(left)) = body {
            for (name, value) in left {
                if self.extra {
                    input.entry(name).or_insert(value);
                } else {
                    errors.push(self.unknown("body", &name, endpoint));
                }
            }
        }
        let input = Json::Object(input);
        if !self.validator.is_valid(&input) {
            self.explain(&input, |name| endpoint.sources[name].clone(), &mut errors);
        }
        if errors.is_empty() {
            return Ok(self.with_files(&input, endpoint, &parts.files));
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
        let mut input = match given.to_serde() {
            Json::Object(members) => members,
            Json::Null => Map::new(),
            other => {
                errors.push(error("input", String::new(), format!("is {}, not an object", json_kind(&other))));
                Map::new()
            }
        };
        for declared in &self.properties {
            if let (false, Some(default)) = (input.contains_key(&declared.name), &declared.default) {
                input.insert(declared.name.clone(), default.clone());
            }
        }
        if !self.extra {
            for name in input.keys().filter(|name| !self.properties.iter().any(|p| p.name == **name)) {
                let known = self.properties.iter().map(|p| p.name.as_str());
                let hint = suggest::nearest(name, known).map(|near| format!("; did you mean `{near}`?"));
                let detail = format!("is not an input{}", hint.unwrap_or_default());
                errors.push(error("input", format!("/{}", escape(name)), detail));
            }
        }
        let input = Json::Object(input);
        if errors.is_empty() && !self.validator.is_valid(&input) {
            self.explain(&input, |index| From::Member(self.properties[index].name.clone()), &mut errors);
        }
        if errors.is_empty() {
            // Files stay files; their JSON is an object like any other.
            let is_file =
                |own: &Value| own.is_file() || own.as_list().is_some_and(|list| list.iter().all(Value::is_file));
            let mut accepted = ObjectBuilder::default();
            for (name, value) in input.as_object().into_iter().flatten() {
                let own = given.member(name).filter(|own| is_file(own)).cloned();
                let declared = self.properties.iter().find(|declared| declared.name == *name);
                if own.is_none() && declared.is_some_and(|declared| declared.file.is_some()) {
                    errors.push(error("input", format!("/{}", escape(name)), "is not a file".to_owned()));
                }
                accepted.insert(name.as_str().into(), own.unwrap_or_else(|| Value::from_json(value)));
            }
            if errors.is_empty() {
                return Ok(accepted.finish());
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

    /// The input with the files themselves in place of what JSON says of them.
    fn with_files(&self, input: &Json, endpoint: &EndpointInput, files: &[(String, File)]) -> Value {
        let mut made = ObjectBuilder::default();
        for (name, value) in input.as_object().into_iter().flatten() {
            let at = self.properties.iter().position(|one| one.name == *name && one.file.is_some());
            let part = at.map(|at| match &endpoint.sources[at] {
                From::File(part) => part.as_str(),
                _ => "",
            });
            let own = part.map(|part| files.iter().filter(move |(known, _)| known == part).map(|(_, file)| file));
            let value = match (own, value) {
                (Some(own), Json::Array(_)) => Value::list(own.map(|file| Value::from(file.clone())).collect()),
                (Some(mut own), _) => own.next().map_or(Value::Undefined, |file| Value::from(file.clone())),
                (None, value) => Value::from_json(value),
            };
            made.insert(name.as_str().into(), value);
        }
        made.finish()
    }

    /// Tokens of uploads that stand in a body in place of files, by the names of their inputs. They leave the body.
    pub fn tokens(&self, endpoint: &EndpointInput, body: &mut Body) -> Vec<(String, String)> {
        let mut tokens = Vec::new();
        for name in endpoint.sources.iter().filter_map(|from| match from {
            From::File(name) => Some(name),
            _ => None,
        }) {
            match body {
                Body::Json(json) => {
                    let given = json.as_object_mut().and_then(|members| members.shift_remove(name));
                    let several = match given {
                        Some(Json::Array(several)) => several,
                        Some(one) => vec![one],
                        None => Vec::new(),
                    };
                    let text = |one: Json| one.as_str().map_or_else(|| one.to_string(), str::to_owned);
                    tokens.extend(several.into_iter().map(|one| (name.clone(), text(one))));
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
                        let others = members.iter().filter(|(known, _)| ***known != **name);
                        left = Some(Value::object(others.map(|(name, value)| (name.clone(), value.clone()))));
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

    fn form_members(&self, endpoint: &EndpointInput, pairs: Vec<(String, String)>) -> Json {
        let mut members = Map::new();
        let mut names: Vec<&String> = pairs.iter().map(|(name, _)| name).collect();
        names.dedup();
        for name in names {
            let given = pairs.iter().filter(|(known, _)| known == name).map(|(_, v)| v).collect();
            let index = endpoint.sources.iter().position(|from| matches!(from, From::Member(known) if known == name));
            let schema = index.map_or(&Json::Null, |index| &self.properties[index].schema);
            if let Some(value) = from_texts(schema, given) {
                members.insert(name.clone(), value);
            }
        }
        Json::Object(members)
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
    fn explain(&self, input: &Json, from: impl Fn(usize) -> From, errors: &mut Vec<InputError>) {
        for found in self.validator.iter_errors(input) {
            let path = found.instance_path().to_string();
            let (pointer, detail) = match found.kind() {
                ValidationErrorKind::Required { property } => {
                    let name = property.as_str().unwrap_or_default();
                    (format!("{path}/{}", escape(name)), "is required".to_owned())
                }
                _ => (path, found.masked_with("the value").to_string()),
            };
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

/// What JSON says of the files of an input, with what is wrong with them.
fn placed(declared: &Declared, part: &str, files: &[(String, File)], errors: &mut Vec<InputError>) -> Option<Json> {
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
        Some(_) => Some(own.into_iter().map(|file| Value::from(file.clone()).to_serde()).collect()),
        None if own.len() > 1 => {
            errors.push(error("body", pointer, format!("is one file; {} were sent", own.len())));
            None
        }
        None => own.first().map(|file| Value::from((*file).clone()).to_serde()),
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

fn json_kind(json: &Json) -> &'static str {
    Value::from_json(json).kind()
}

fn validator(schema: &Json) -> Result<Validator, jsonschema::ValidationError<'static>> {
    jsonschema::options()
        .with_draft(jsonschema::Draft::Draft202012)
        .should_validate_formats(true)
        .with_pattern_options(jsonschema::PatternOptions::regex())
        .build(schema)
}

/// The types a schema names; all of them when it names none.
fn types(schema: &Json) -> Vec<&str> {
    match schema.get("type") {
        Some(Json::String(one)) => vec![one],
        Some(Json::Array(several)) => several.iter().filter_map(Json::as_str).collect(),
        _ => Vec::new(),
    }
}

/// Turns text into the type a schema asks for; text it stays when it cannot be that.
fn coerce(schema: &Json, text: String) -> Json {
    for wanted in types(schema) {
        let value = match wanted {
            "integer" => text.parse::<i64>().ok().map(Json::from),
            "number" => text.parse::<i64>().ok().map(Json::from).or_else(|| {
                let number = kanzlei_lang::expr::ops::text_to_number(&text);
                (!text.is_empty() && number.is_finite()).then(|| Json::from(number))
            }),
            "boolean" => match text.as_str() {
                "true" => Some(true.into()),
                "false" => Some(false.into()),
                _ => None,
            },
            "null" if text.is_empty() => Some(Json::Null),
            "object" => serde_json::from_str(&text).ok().filter(Json::is_object),
            _ => None,
        };
        if let Some(value) = value {
            return value;
        }
    }
    Json::String(text)
}

/// What stands in a file as text, as a schema wants it; one value where a list is wanted is a list of it.
fn fitted(schema: &Json, value: Json) -> Json {
    let wants = |what: &str| types(schema).contains(&what);
    match value {
        Json::String(text) if wants("array") && !wants("string") => {
            let items = schema.get("items").unwrap_or(&Json::Null);
            if text.is_empty() { Json::Array(Vec::new()) } else { Json::Array(vec![fitted(items, text.into())]) }
        }
        Json::String(text) if text.is_empty() && wants("object") => Json::Object(Map::new()),
        Json::String(text) => coerce(schema, text),
        Json::Array(items) => {
            let schema = schema.get("items").unwrap_or(&Json::Null);
            items.into_iter().map(|item| fitted(schema, item)).collect()
        }
        Json::Object(_) if wants("array") => {
            Json::Array(vec![fitted(schema.get("items").unwrap_or(&Json::Null), value)])
        }
        Json::Object(members) => {
            let of = |name: &str| schema.get("properties").and_then(|all| all.get(name)).unwrap_or(&Json::Null);
            let fit = members.into_iter().map(|(name, value)| {
                let value = fitted(of(&name), value);
                (name, value)
            });
            Json::Object(fit.collect())
        }
        other => other,
    }
}

/// A parameter given several times is a list where the schema says so; else the first counts.
fn from_texts(schema: &Json, given: Vec<&String>) -> Option<Json> {
    if types(schema).contains(&"array") && !given.is_empty() {
        let items = schema.get("items").unwrap_or(&Json::Null);
        return Some(given.into_iter().map(|text| coerce(items, text.clone())).collect());
    }
    given.first().map(|text| coerce(schema, (*text).clone()))
}
