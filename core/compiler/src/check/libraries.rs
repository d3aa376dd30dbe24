//! Libraries: in which order they are read, what each shares, and which versions their users ask for.
//!
//! A library sees the functions and types of those it uses and shares its own alone. Its groups of steps become workflows without
//! entries, which are compiled and invoked like any other; see `kanzlei_lang::document::library`.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use kanzlei_lang::diagnostic::Report;
use kanzlei_lang::document::library::{NamedType, Use, resolved};
use kanzlei_lang::document::step::{Action, Step, each_schema};
use kanzlei_lang::document::{Library, Workflow};
use kanzlei_lang::expr::{Counted, Scope};
use kanzlei_lang::suggest;
use kanzlei_lang::types::schema;
use semver::Version;
use serde_json::Value as Json;

use super::steps::{counted, define_functions};
use super::watch::{Sight, look_at_functions};

/// What a library shares with its users.
#[derive(Debug, Default)]
pub(super) struct Shared {
    /// Its functions and types.
    pub scope: Scope,
    /// The schemas of its types, without references to others.
    pub schemas: BTreeMap<String, Json>,
    /// The functions whose statements coverage counts, each with its line.
    pub counted: Vec<(Counted, u32)>,
    version: Option<Version>,
    /// The libraries that it uses, itself and through others.
    uses: BTreeSet<String>,
}

/// The libraries by name; those with faults are left out, and their users report that.
pub(super) type Libraries = BTreeMap<String, Shared>;

/// Reads the libraries in the order of their use.
pub(super) fn read(
    libraries: &[(usize, Arc<Library>)],
    watched: Option<(usize, u32)>,
    sight: &mut Option<Sight>,
    reports: &mut [Report],
) -> Libraries {
    let by_name: BTreeMap<&str, usize> =
        libraries.iter().enumerate().map(|(at, (_, library))| (library.name.text.as_str(), at)).collect();
    let mut done = Libraries::new();
    let mut open: BTreeSet<usize> = (0..libraries.len()).collect();
    loop {
        let waits = |at: usize| {
            let uses = libraries[at].1.uses.iter().filter_map(|one| by_name.get(one.name.text.as_str()));
            uses.clone().any(|used| open.contains(used))
        };
        let Some(at) = open.iter().copied().find(|at| !waits(*at)) else { break };
        open.remove(&at);
        let (index, library) = &libraries[at];
        let at = watched.filter(|(document, _)| document == index).map(|(_, at)| at);
        let shared = one(library, &done, (at, &mut *sight), &mut reports[*index]);
        done.insert(library.name.text.clone(), shared);
    }
    for at in open.iter().copied() {
        let (index, library) = &libraries[at];
        let used =
            library.uses.iter().find(|one| by_name.get(one.name.text.as_str()).is_some_and(|at| open.contains(at)));
        if let Some(used) = used {
            let message = format!("`{}` uses itself, by `{}`", library.name.text, used.name.text);
            reports[*index].error("library-cycle", used.name.at, message);
            reports[*index].help("move what both need into a library of its own");
        }
    }
    done
}

fn one(
    library: &Library,
    done: &Libraries,
    (at, sight): (Option<u32>, &mut Option<Sight>),
    report: &mut Report,
) -> Shared {
    let (mut scope, mut schemas) = imported(&library.uses, done, report);
    types(&library.types, &mut scope, &mut schemas, report);
    let outside = scope.clone();
    for (name, node) in &library.functions {
        define_functions(&mut scope, name, node, report);
    }
    look_at_functions(&library.functions, &scope, at, sight);
    let names = |named: &[NamedType]| named.iter().map(|one| one.name.text.clone()).collect::<BTreeSet<_>>();
    let own = names(&library.types);
    schemas.retain(|name, _| own.contains(name));
    let mut uses = BTreeSet::new();
    for used in &library.uses {
        uses.extend(done.get(&used.name.text).into_iter().flat_map(|shared| shared.uses.clone()));
        uses.insert(used.name.text.clone());
    }
    let functions = library.functions.iter().map(|(name, _)| name.text.as_str());
    Shared {
        scope: scope.part(functions, own.iter().map(String::as_str)),
        schemas,
        counted: counted(&library.functions, &scope, &outside, report),
        version: library.version.clone(),
        uses,
    }
}

/// What a document knows from the libraries that it uses.
fn imported(uses: &[Use], libraries: &Libraries, report: &mut Report) -> (Scope, BTreeMap<String, Json>) {
    let mut scope = Scope::default();
    let mut schemas = BTreeMap::new();
    for one in uses {
        let Some(shared) = libraries.get(&one.name.text) else {
            report.error("unknown-library", one.name.at, format!("there is no library `{}`", one.name.text));
            match suggest::nearest(&one.name.text, libraries.keys().map(String::as_str)) {
                Some(near) => report.did_you_mean(near),
                None => report.help(format!("a library is a document of its own: `library: {}`", one.name.text)),
            };
            continue;
        };
        if let Some(wanted) = &one.wanted {
            let fits = shared.version.as_ref().is_some_and(|version| wanted.matches(version));
            if !fits {
                let found = shared.version.as_ref().map_or("has no version".into(), |version| format!("is {version}"));
                let message = format!("`{}` {found}, and {} is asked for", one.name.text, wanted);
                report.error("library-version", one.name.at, message);
                report.help("take another version of the library, or ask for the one that is there");
            }
        }
        for taken in scope.import(&shared.scope) {
            let message = format!("`{taken}` of `{}` is also that of another library", one.name.text);
            report.error("name-taken", one.name.at, message);
        }
        schemas.extend(shared.schemas.clone());
    }
    (scope, schemas)
}

/// Adds named types, each without references to others.
fn types(named: &[NamedType], scope: &mut Scope, schemas: &mut BTreeMap<String, Json>, report: &mut Report) {
    let own: BTreeMap<&str, &Json> = named.iter().map(|one| (one.name.text.as_str(), &one.schema)).collect();
    let outside = schemas.clone();
    for one in named {
        if scope.named_type(&one.name.text).is_some() {
            report.error("name-taken", one.name.at, format!("there is already a type `{}`", one.name.text));
            continue;
        }
        let found = |name: &str| own.get(name).copied().or_else(|| outside.get(name)).cloned();
        let whole = serde_json::json!({"$ref": format!("#/types/{}", one.name.text)});
        match resolved(&whole, &found) {
            Ok(schema) => {
                if let Err(error) = jsonschema::meta::validate(&schema) {
                    report.error("bad-schema", one.at, format!("not a JSON Schema: {error}"));
                }
                scope.define_type(&one.name.text, schema::read(&schema));
                schemas.insert(one.name.text.clone(), schema);
            }
            Err(why) => _ = report.error("bad-schema", one.at, why),
        }
    }
}

/// What a workflow knows before its own functions.
pub(super) fn known(workflow: &Workflow, libraries: &Libraries, report: &mut Report) -> Scope {
    let (mut scope, mut schemas) = imported(&workflow.uses, libraries, report);
    types(&workflow.types, &mut scope, &mut schemas, report);
    scope
}

/// A workflow whose inputs, replies and callbacks have named types in place of references to them.
pub(super) fn with_types<'w>(
    workflow: &'w Arc<Workflow>,
    libraries: &Libraries,
    report: &mut Report,
) -> Cow<'w, Arc<Workflow>> {
    fn refers(schema: &Json) -> bool {
        match schema {
            Json::Object(members) => members.iter().any(|(key, value)| {
                key == "$ref" && value.as_str().is_some_and(|to| to.starts_with("#/types/")) || refers(value)
            }),
            Json::Array(items) => items.iter().any(refers),
            _ => false,
        }
    }
    fn waits(steps: &[Step]) -> bool {
        let schema = |step: &Step| matches!(&step.action, Action::Await(wait) if wait.schema.as_ref().is_some_and(|(schema, _)| refers(schema)));
        steps.iter().any(|step| schema(step) || step.inside().into_iter().any(waits))
    }
    let inputs = workflow.input.iter().any(|property| refers(&property.schema));
    let steps = waits(&workflow.steps) || waits(&workflow.on_failure);
    if !inputs && !steps && !workflow.replies.iter().any(|(_, schema, _)| refers(schema)) {
        return Cow::Borrowed(workflow);
    }
    let found = |name: &str| {
        let own = workflow.types.iter().find(|one| one.name.text == name).map(|one| one.schema.clone());
        let used = || workflow.uses.iter().find_map(|one| libraries.get(&one.name.text)?.schemas.get(name).cloned());
        own.or_else(used)
    };
    let mut made = Workflow::clone(workflow);
    for property in &mut made.input {
        match resolved(&property.schema, &found) {
            Ok(schema) => property.schema = schema,
            Err(why) => _ = report.error("bad-schema", property.name.at, why),
        }
    }
    for (_, schema, at) in &mut made.replies {
        match resolved(schema, &found) {
            Ok(found) => *schema = found,
            Err(why) => _ = report.error("bad-schema", *at, why),
        }
    }
    for steps in [&mut made.steps, &mut made.on_failure] {
        each_schema(steps, &mut |schema, at| match resolved(schema, &found) {
            Ok(found) => *schema = found,
            Err(why) => _ = report.error("bad-schema", at, why),
        });
    }
    Cow::Owned(Arc::new(made))
}

/// The libraries that a workflow uses, itself and through others.
pub(super) fn used(workflow: &Workflow, libraries: &Libraries) -> BTreeSet<String> {
    let mut out = BTreeSet::new();
    for one in &workflow.uses {
        out.extend(libraries.get(&one.name.text).into_iter().flat_map(|shared| shared.uses.clone()));
        out.insert(one.name.text.clone());
    }
    out
}
