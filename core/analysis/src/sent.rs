//! What can be sent: parameters and body members of operations, inputs of workflows, parameters of statements.
//!
//! Completion suggests them as keys, forms have a field for each, and steps that are offered fill them in.

use kanzlei_lang::document::workflow::Property;
use kanzlei_lang::types::Type;
use kanzlei_lang::types::schema::{self, Reader};
use serde_json::Value as Json;

use crate::{Workspace, symbols};

/// Something that is sent: a parameter, a member of a body, an input.
pub(crate) struct Parameter {
    pub name: String,
    pub of: Type,
    pub required: bool,
    pub about: String,
    pub schema: Json,
}

/// Parameters and body members of an operation, by `service.operation`; those of a URI template.
pub(crate) fn parameters(workspace: &Workspace, target: &str) -> Vec<Parameter> {
    let plain = |name: &str| Parameter {
        name: name.to_owned(),
        of: Type::Unknown,
        required: false,
        about: String::new(),
        schema: Json::Null,
    };
    let Some((service, operation)) =
        target.split_once('.').and_then(|(service, id)| symbols::operation(workspace, service, id))
    else {
        let variables =
            target.split('{').skip(1).filter_map(|part| part.split_once('}')).flat_map(|(names, _)| names.split(','));
        return variables
            .map(|name| plain(name.trim_matches(|c: char| !c.is_ascii_alphanumeric() && c != '_')))
            .collect();
    };
    let mut reader = Reader::new(&service.api);
    let described = |schema: &Json| schema.get("description").and_then(Json::as_str).unwrap_or_default().to_owned();
    let mut out: Vec<Parameter> = operation
        .parameters
        .iter()
        .map(|parameter| Parameter {
            name: parameter.name.clone(),
            of: reader.read(&parameter.schema),
            required: parameter.required,
            about: described(&parameter.schema),
            schema: parameter.schema.clone(),
        })
        .collect();
    if let Some(body) = &operation.body {
        let properties = reader.resolve(body).get("properties").cloned().unwrap_or_default();
        if let Type::Object(shape) = reader.read(body) {
            out.extend(shape.members.iter().map(|member| {
                let schema = properties.get(&*member.name).cloned().unwrap_or_default();
                let required = !member.optional && operation.body_required;
                let (name, of) = (member.name.to_string(), member.value.clone());
                Parameter { name, of, required, about: described(&schema), schema }
            }));
        }
    }
    out
}

/// The inputs of a workflow.
pub(crate) fn inputs(workspace: &Workspace, name: &str) -> Vec<Parameter> {
    let Some(found) = symbols::workflow(workspace, name) else { return Vec::new() };
    let one = |property: &Property| Parameter {
        name: property.name.text.clone(),
        of: schema::read(&property.schema),
        required: !property.optional && property.default.is_none(),
        about: property.schema.get("description").and_then(Json::as_str).unwrap_or_default().to_owned(),
        schema: property.schema.clone(),
    };
    found.input.iter().map(one).collect()
}

/// The parameters of a statement.
pub(crate) fn bound(statement: &str) -> Vec<Parameter> {
    let mut out: Vec<Parameter> = Vec::new();
    for part in statement.split(':').skip(1) {
        let name: String = part.chars().take_while(|c| c.is_ascii_alphanumeric() || *c == '_').collect();
        if name.starts_with(|c: char| c.is_ascii_alphabetic()) && !out.iter().any(|known| known.name == name) {
            out.push(Parameter { name, of: Type::Unknown, required: true, about: String::new(), schema: Json::Null });
        }
    }
    out
}
