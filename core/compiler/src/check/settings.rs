//! Settings: what the documents declare, and which value of each is in force.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::Parsed;
use crate::example;
use crate::input::InputPlan;
use kanzlei_lang::diagnostic::{Place, Report};
use kanzlei_lang::document::Document;
use kanzlei_lang::document::reader::Named;
use kanzlei_lang::document::settings::InForce;
use kanzlei_lang::document::workflow::Property;
use kanzlei_lang::types::{Member, Shape, Type, schema};
use kanzlei_model::value::Value;

/// The settings of documents that are checked together.
#[derive(Clone, Debug)]
pub struct Settings {
    /// The type of `settings` in expressions.
    pub of: Type,
    /// The values of settings that stand as constants.
    pub in_force: InForce,
    /// What is known of each, by name.
    pub declared: BTreeMap<String, Setting>,
}

/// A declared setting.
#[derive(Clone, Debug, PartialEq)]
pub struct Setting {
    /// The name of the document that declares it.
    pub document: String,
    /// JSON Schema of its value.
    pub schema: serde_json::Value,
    /// The value of installations that set none.
    pub default: Option<Value>,
    /// The value that the installation has set.
    pub set: Option<Value>,
}

impl Setting {
    /// The value in force.
    pub fn value(&self) -> Option<&Value> {
        self.set.as_ref().or(self.default.as_ref())
    }
}

impl Settings {
    /// Some of the settings with their values, as expressions see them.
    pub(super) fn only(&self, names: &BTreeSet<String>) -> Value {
        let values = self.in_force.iter().filter(|(name, _)| names.contains(*name));
        Value::object(values.map(|(name, value)| (name.as_str(), value.clone().unwrap_or_default())))
    }

    /// Why a setting cannot have a value; nothing where it can.
    pub fn misfit(&self, name: &str, value: &Value) -> Option<String> {
        match self.declared.get(name) {
            Some(setting) => misfit(name, &setting.schema, value),
            None => Some(format!("there is no setting `{name}`")),
        }
    }
}

impl Default for Settings {
    fn default() -> Self {
        let of = Type::Object(Arc::new(Shape { members: Vec::new(), rest: Some(Type::Unknown), ..Shape::default() }));
        let (in_force, declared) = Default::default();
        Settings { of, in_force, declared }
    }
}

/// What is wrong with declarations, by document.
#[derive(Default)]
pub(super) struct Faults(Vec<Fault>);

struct Fault {
    document: usize,
    code: &'static str,
    at: Place,
    message: String,
    help: Option<String>,
}

impl Faults {
    /// Adds them to the reports of the documents.
    pub fn report(self, reports: &mut [Report]) {
        for fault in self.0 {
            let Some(report) = reports.get_mut(fault.document) else { continue };
            report.error(fault.code, fault.at, fault.message);
            if let Some(help) = fault.help {
                report.help(help);
            }
        }
    }
}

/// The settings that documents declare. Offline, one that nobody has set and that has no default is worth an example.
pub(super) fn of(parsed: &[&Parsed], installed: bool) -> (Settings, Faults) {
    let mut settings = Settings::default();
    let mut faults = Faults::default();
    let mut members = Vec::new();
    let mut names: Vec<&str> = Vec::new();
    for (index, parsed) in parsed.iter().enumerate() {
        let Some(Document::Settings(document)) = &parsed.document else { continue };
        // The document for context that another one replaces.
        if names.contains(&document.name.text.as_str()) {
            continue;
        }
        names.push(&document.name.text);
        let mut fault = |code, at, message, help| faults.0.push(Fault { document: index, code, at, message, help });
        let plan = InputPlan::new(&document.values, false);
        for (at, message) in plan.err().unwrap_or_default() {
            let at = document.values.get(at).map_or(document.name.at, |property| property.at);
            fault("bad-schema", at, message, None);
        }
        for property in &document.values {
            let name = &property.name.text;
            if let Some(other) = settings.declared.get(name) {
                let message = format!("there is already a setting `{name}`");
                fault("name-taken", property.name.at, message, Some(format!("`{}` declares it", other.document)));
                continue;
            }
            let set = document.set.get(name).cloned();
            if let Some(wrong) = set.as_ref().and_then(|value| misfit(name, &property.schema, value)) {
                let message = format!("`{name}` is set to {wrong}");
                let help = format!("`kanzlei settings set {name} VALUE` or `kanzlei settings unset {name}`");
                fault("wrong-setting", property.name.at, message, Some(help));
            }
            let mut value = document.value(property);
            if value.is_none() && installed {
                let message = format!("`{name}` is not set here and has no default");
                let help = format!("deploy it with `--set {name}=VALUE`, or write a `default`");
                fault("wrong-setting", property.name.at, message, Some(help));
            }
            if value.is_none() {
                value = Some(Value::from_json(&example::of(&property.schema)));
            }
            members.push(Member { name: name.as_str().into(), value: schema::read(&property.schema), optional: false });
            settings.in_force.insert(name.clone(), value);
            let setting = Setting {
                document: document.name.text.clone(),
                schema: property.schema.clone(),
                default: property.default.clone(),
                set,
            };
            settings.declared.insert(name.clone(), setting);
        }
    }
    settings.of = Type::Object(Arc::new(Shape { members, rest: Some(Type::Unknown), ..Shape::default() }));
    (settings, faults)
}

/// Why a value does not fit the schema of a setting; nothing where it does.
fn misfit(name: &str, schema: &serde_json::Value, value: &Value) -> Option<String> {
    let property = Property {
        name: Named { text: name.to_owned(), at: Place::default() },
        schema: schema.clone(),
        default: None,
        optional: false,
        secret: false,
        at: Place::default(),
    };
    let plan = InputPlan::new(&[property], false).ok()?;
    let whole = Value::object([(name, value.clone())]);
    let problem = plan.accept(&whole).err()?;
    let why: Vec<String> = problem.errors.iter().map(|error| error.detail.clone()).collect();
    Some(format!("{}: {}", value.to_json(), why.join("; ")))
}
