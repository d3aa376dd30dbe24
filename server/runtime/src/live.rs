//! What is live: compiled workflows, services with their addresses, and the routes to them.
//!
//! The table is built whole from the live documents and swapped in one step, so a request sees either
//! all of a deploy or none of it. A run keeps the plan it began with.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use kanzlei_compiler::check::{Bundle, Checked, Settings, check, relative};
use kanzlei_compiler::plan::{Allowance, Issuer, Lane, Plan};
use kanzlei_lang::diagnostic::Severity;
use kanzlei_lang::document::lane::MAIN;
use kanzlei_lang::document::service::{Credentials, Operation};
use kanzlei_lang::document::{self, Source};
use kanzlei_model::time::Timestamp;
use kanzlei_store::documents::LiveDocument;
use kanzlei_store::names::{self, Called, FormerName};
use uuid::Uuid;

use crate::journal::{Counters, Journal};
use crate::limiter::Limiter;

/// What is deployed at one generation.
#[derive(Debug, Default)]
pub struct Live {
    /// Workflows by name.
    pub workflows: BTreeMap<String, Arc<Workflow>>,
    /// Services by name.
    pub services: HashMap<String, Arc<Service>>,
    /// Settings with their values.
    pub settings: Settings,
    /// Lanes that have a document, by name.
    pub lanes: BTreeMap<String, Arc<Lane>>,
    /// Allowances by name.
    pub allowances: BTreeMap<String, Arc<Allowance>>,
    /// Issuers of tokens by name.
    pub issuers: BTreeMap<String, Arc<Issuer>>,
    /// Counts deploys and retirements; the documents of each generation stay available.
    pub generation: u64,
    /// Names that workflows had.
    pub former: Vec<FormerName>,
    /// All live documents, against which later ones are checked.
    pub documents: Vec<LiveDocument>,
    /// The OpenAPI document of all endpoints, as it is sent.
    pub openapi: Bytes,
    routes: matchit::Router<Route>,
}

/// How clients see the public listener.
#[derive(Clone, Debug, Default)]
pub struct Public {
    /// Its address, without a slash at its end.
    pub url: String,
    /// The header field with the id of the run; empty where answers have none.
    pub run_header: String,
}

/// A live workflow.
#[derive(Debug)]
pub struct Workflow {
    /// Its compiled form.
    pub plan: Arc<Plan>,
    /// The number of the revision.
    pub revision: u32,
    /// When the revision was deployed.
    pub since: Timestamp,
    /// The text of the document.
    pub source: String,
    /// Counts of its runs since they were last written.
    pub counters: Arc<Counters>,
    /// `POST /harbours/{harbour}/quotes`, one per endpoint.
    pub entries: Vec<Arc<str>>,
}

/// A live service.
#[derive(Debug)]
pub struct Service {
    /// Its name.
    pub name: String,
    /// What it is, from its document.
    pub about: String,
    /// The address that paths of operations are appended to.
    pub base: String,
    /// The base parsed once; parsing it for each call would cost more than the rest of the call.
    pub url: Option<reqwest::Url>,
    /// Whether it may have a private address.
    pub private: bool,
    /// The credentials of its calls.
    pub credentials: Option<Credentials>,
    /// Headers of every call.
    pub headers: Vec<(String, String)>,
    /// Its limits, kept from deploy to deploy while they stay the same.
    pub limiter: Arc<Limiter>,
    /// Operations by id.
    pub operations: BTreeMap<String, Operation>,
    /// Its OpenAPI document.
    pub api: Arc<serde_json::Value>,
    /// How many calls may run at once.
    pub at_once: Option<u32>,
    /// So many calls in so long.
    pub pace: Option<(u32, Duration)>,
}

/// Endpoints of one path, by method.
#[derive(Clone, Debug, Default)]
pub struct Route {
    endpoints: Vec<(String, Arc<Workflow>, usize)>,
}

/// What a request's method and path lead to.
pub enum Found<'l> {
    /// An endpoint.
    Endpoint {
        /// The workflow behind it.
        workflow: &'l Arc<Workflow>,
        /// The index of its entry.
        endpoint: usize,
        /// Parameters of the path, decoded.
        path: Vec<(&'l str, String)>,
    },
    /// The path exists; these methods are allowed.
    OtherMethods(Vec<&'l str>),
    /// A part of the path is no percent-encoded UTF-8.
    Malformed,
    /// No endpoint has this path.
    Nothing,
}

impl Live {
    /// Builds the table. Workflows that no longer pass the check are left out and logged.
    ///
    /// `before` is the table in force until now: services whose limits stay the same keep count.
    pub fn build(
        documents: Vec<LiveDocument>,
        generation: u64,
        bases: &BTreeMap<String, String>,
        journal: &Journal,
        before: &Live,
        public: &Public,
        former: Vec<FormerName>,
    ) -> Self {
        let checked = check(&bundle(&documents));
        for diagnostic in checked.diagnostics.iter().filter(|d| d.severity == Severity::Error) {
            tracing::error!(path = diagnostic.path, line = diagnostic.line, "not served: {}", diagnostic.message);
        }
        let mut live = Live::from_checked(checked, documents, bases, journal, before, public);
        live.generation = generation;
        live.former = former;
        live
    }

    /// A workflow by its name, or by the one that it had last.
    pub fn workflow(&self, name: &str) -> Option<&Arc<Workflow>> {
        self.workflows.get(name).or_else(|| {
            let renamed = self.former.iter().rfind(|one| one.former == name)?;
            self.workflows.get(&renamed.workflow)
        })
    }

    /// All names under which records of a workflow are found.
    pub fn names_of(&self, workflow: &str) -> Vec<Called> {
        names::names_of(workflow, &self.former)
    }

    /// The name of today of the workflow that had this name when a run or a job was made.
    pub fn name_now<'n>(&'n self, name: &'n str, id: Uuid) -> &'n str {
        names::name_now(name, id, &self.former)
    }

    /// A lane's rules; `main` and lanes whose document is gone have none.
    pub fn lane(&self, name: &str) -> Arc<Lane> {
        self.lanes.get(name).cloned().unwrap_or_else(|| Arc::new(Lane::plain(name)))
    }

    /// The lane that jobs of a workflow wait in.
    pub fn lane_of(&self, plan: &Plan) -> Arc<Lane> {
        self.lane(plan.queue.lane.as_deref().unwrap_or(MAIN))
    }

    /// Builds the table of documents that were checked in this order; those with errors are left out.
    pub fn from_checked(
        checked: Checked,
        documents: Vec<LiveDocument>,
        bases: &BTreeMap<String, String>,
        journal: &Journal,
        before: &Live,
        public: &Public,
    ) -> Self {
        let mut live = Live {
            lanes: checked.lanes,
            allowances: checked.allowances,
            issuers: checked.issuers,
            settings: checked.settings,
            ..Live::default()
        };
        for (name, service) in checked.services {
            let service = Arc::unwrap_or_clone(service);
            let base = bases.get(&name).cloned().unwrap_or(service.base);
            let (at_once, pace) = (service.at_once, service.pace);
            let limiter = before.services.get(&name).map(|known| known.limiter.clone());
            let entry = Service {
                name: name.clone(),
                about: service.about,
                url: base.parse().ok(),
                base,
                private: service.private,
                credentials: service.credentials,
                headers: service.headers,
                limiter: limiter
                    .filter(|l| l.is(at_once, pace))
                    .unwrap_or_else(|| Arc::new(Limiter::new(at_once, pace))),
                operations: service.operations,
                api: service.api,
                at_once,
                pace,
            };
            live.services.insert(name, Arc::new(entry));
        }
        let mut routes: BTreeMap<String, Route> = BTreeMap::new();
        for (index, plan) in checked.workflows {
            let document = &documents[index];
            let entries = plan.endpoints.iter().map(|e| format!("{} {}", e.method, e.path).into()).collect();
            let workflow = Arc::new(Workflow {
                counters: journal.counters(&plan.name),
                revision: document.number,
                since: document.since,
                source: document.source.clone(),
                entries,
                plan,
            });
            for (endpoint, entry) in workflow.plan.endpoints.iter().enumerate() {
                let route = routes.entry(by_position(&entry.path)).or_default();
                route.endpoints.push((entry.method.clone(), workflow.clone(), endpoint));
            }
            live.workflows.insert(workflow.plan.name.clone(), workflow);
        }
        for (path, route) in routes {
            if let Err(error) = live.routes.insert(&path, route) {
                tracing::error!(path, "not served: {error}");
            }
        }
        live.documents = documents;
        let plans = live.workflows.values().map(|workflow| &*workflow.plan);
        live.openapi = kanzlei_compiler::openapi::document(plans, &public.url, &public.run_header).to_string().into();
        live
    }

    /// Looks up a request. HEAD is served by GET where there is no HEAD (RFC 9110 §9.3.2).
    /// Whether any endpoint has the first segment of a path.
    pub fn serves_below(&self, path: &str) -> bool {
        let first = |path: &str| path.split('/').nth(1).unwrap_or_default().to_owned();
        let wanted = first(path);
        let endpoints = self.workflows.values().flat_map(|workflow| &workflow.plan.endpoints);
        !wanted.is_empty() && endpoints.into_iter().any(|endpoint| first(&endpoint.path) == wanted)
    }

    /// The endpoint of a method and path.
    pub fn find(&self, method: &str, path: &str) -> Found<'_> {
        let Ok(matched) = self.routes.at(path) else { return Found::Nothing };
        let by_method = |wanted: &str| matched.value.endpoints.iter().find(|(known, _, _)| known == wanted);
        let found = by_method(method).or_else(|| if method == "HEAD" { by_method("GET") } else { None });
        let Some((_, workflow, endpoint)) = found else {
            let mut methods: Vec<&str> = matched.value.endpoints.iter().map(|(method, _, _)| method.as_str()).collect();
            if methods.contains(&"GET") && !methods.contains(&"HEAD") {
                methods.push("HEAD");
            }
            methods.push("OPTIONS");
            return Found::OtherMethods(methods);
        };
        let template = &workflow.plan.endpoints[*endpoint].path;
        let names = template.split('/').filter_map(|part| part.strip_prefix('{')?.strip_suffix('}'));
        let mut params = Vec::new();
        for (name, (_, raw)) in names.zip(matched.params.iter()) {
            match percent_decode(raw) {
                Some(value) => params.push((name, value)),
                None => return Found::Malformed,
            }
        }
        Found::Endpoint { workflow, endpoint: *endpoint, path: params }
    }
}

/// Live documents as a bundle, in their order, with files where the documents name them.
pub fn bundle(documents: &[LiveDocument]) -> Bundle {
    let mut bundle = Bundle::default();
    for document in documents {
        // Paths of different deploys may be equal; the name distinguishes them.
        let path = format!(
            "live/{}/{}/{}",
            document.kind,
            document.name,
            document.path.rsplit('/').next().unwrap_or_default()
        );
        if let Some(file) = &document.file
            && let Some(name) = named_file(&document.source)
        {
            bundle.files.insert(relative(&path, &name), file.clone());
        }
        bundle.documents.push(Source::new(path, document.source.clone()));
    }
    bundle
}

/// The file that belongs to a document: the one that a service names, the values that an installation sets.
pub fn named_file(source: &str) -> Option<String> {
    let mut report = kanzlei_lang::diagnostic::Report::new("", source);
    let root = document::yaml::parse(&mut report)?;
    document::service::openapi_file(&root).map(str::to_owned).or_else(|| document::settings::values_file(&root))
}

/// A path template with its names replaced by their positions, so that endpoints of one shape share a
/// route whatever they call its parts.
fn by_position(path: &str) -> String {
    let parts = path
        .split('/')
        .enumerate()
        .map(|(at, part)| if part.starts_with('{') { format!("{{p{at}}}") } else { part.to_owned() });
    parts.collect::<Vec<_>>().join("/")
}

/// Percent-decoding of one path segment (RFC 3986 §2.1).
fn percent_decode(raw: &str) -> Option<String> {
    if !raw.contains('%') {
        return Some(raw.to_owned());
    }
    let mut bytes = Vec::with_capacity(raw.len());
    let mut rest = raw.as_bytes();
    while let Some((&first, tail)) = rest.split_first() {
        if first == b'%' {
            let hex = std::str::from_utf8(tail.get(..2)?).ok()?;
            bytes.push(u8::from_str_radix(hex, 16).ok()?);
            rest = &tail[2..];
        } else {
            bytes.push(first);
            rest = tail;
        }
    }
    String::from_utf8(bytes).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn segments_are_decoded_and_shapes_meet() {
        for (raw, wanted) in
            [("a%20b", Some("a b")), ("%C3%A5", Some("å")), ("%ff", None), ("%2", None), ("x", Some("x"))]
        {
            assert_eq!(percent_decode(raw).as_deref(), wanted, "{raw}");
        }
        assert_eq!(by_position("/a/{x}/b/{y}"), by_position("/a/{q}/b/{z}"));
    }
}
