//! What is live: compiled workflows, services with their addresses, and the routes to them.
//!
//! The table is built whole from the live documents and swapped in one step, so a request sees either
//! all of a deploy or none of it. A run keeps the plan it began with.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, OnceLock};

use bytes::Bytes;
use kanzlei_compiler::beside;
use kanzlei_compiler::check::{Bundle, Checked, Settings, check, relative};
use kanzlei_compiler::plan::{Alert, Allowance, Issuer, Lane, Plan};
use kanzlei_lang::diagnostic::Severity;
use kanzlei_lang::document::Source;
use kanzlei_lang::document::credentials::{Credentials, Tls};
use kanzlei_lang::document::hosts::{HOST, Hosts};
use kanzlei_lang::document::lane::MAIN;
use kanzlei_lang::document::purpose::Purpose;
use kanzlei_lang::document::reader::Named;
use kanzlei_lang::document::service::Operation;
use kanzlei_model::time::Timestamp;
use kanzlei_model::value::Value;
use kanzlei_store::documents::LiveDocument;
use kanzlei_store::names::{self, Called, FormerName};
use uuid::Uuid;

use crate::effects::client::Base;
use crate::effects::oauth::Grant;
use crate::gradual::Gradual;
use crate::journal::{Counters, Journal};
use crate::limiter::{Limiter, Limits};
use crate::metrics::Timed;

/// What is deployed at one generation.
#[derive(Debug, Default)]
pub struct Live {
    /// Workflows by name.
    pub workflows: BTreeMap<String, Arc<Workflow>>,
    /// Revisions that serve a share beside the live ones, by workflow.
    pub graduals: BTreeMap<String, Arc<Gradual>>,
    /// Groups of steps of libraries, by `library.group`.
    pub groups: BTreeMap<String, Arc<Plan>>,
    /// Services by name.
    pub services: HashMap<String, Arc<Service>>,
    /// Settings with their values.
    pub settings: Settings,
    /// Lanes that have a document, by name.
    pub lanes: BTreeMap<String, Arc<Lane>>,
    /// Allowances by name.
    pub allowances: BTreeMap<String, Arc<Allowance>>,
    /// Alerts by name.
    pub alerts: BTreeMap<String, Arc<Alert>>,
    /// Issuers of tokens by name.
    pub issuers: BTreeMap<String, Arc<Issuer>>,
    /// Counts deploys and retirements; the documents of each generation stay available.
    pub generation: u64,
    /// Names that workflows had.
    pub former: Vec<FormerName>,
    /// All live documents, against which later ones are checked.
    pub documents: Vec<LiveDocument>,
    /// How clients see it, for the OpenAPI documents.
    public: Public,
    /// The OpenAPI documents as they are sent, made when first asked for: by host, and of all endpoints below the empty name.
    openapi: HashMap<String, OnceLock<Bytes>>,
    /// By host; below the empty name those that every host leads to.
    routes: HashMap<String, matchit::Router<Route>, ahash::RandomState>,
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
    /// The base parsed once; nothing where it is no address of HTTP.
    pub at: Option<Base>,
    /// The hosts that it may be at, where its base names none.
    pub hosts: Option<Hosts>,
    /// Whether it may have a private address.
    pub private: bool,
    /// The credentials of its calls.
    pub credentials: Option<Credentials>,
    /// The token of its calls, where another service issues it; the token is kept from deploy to deploy while it is requested in the same way.
    pub oauth: Option<Arc<Grant>>,
    /// The certificates of its connections.
    pub tls: Option<Tls>,
    /// Headers of every call.
    pub headers: Vec<(String, String)>,
    /// Its limits, kept from deploy to deploy while they stay the same.
    pub limiter: Arc<Limiter>,
    /// Its calls, by the class of the status or the kind of failure; kept from deploy to deploy.
    pub calls: Arc<Timed>,
    /// Operations by id.
    pub operations: BTreeMap<String, Operation>,
    /// Its OpenAPI document.
    pub api: Arc<serde_json::Value>,
}

impl Service {
    /// The names of the secrets that its calls need, and what each is used for.
    pub fn secrets(&self) -> impl Iterator<Item = (&Named, Purpose)> {
        let certificate = self.tls.as_ref().and_then(|tls| tls.certificate.as_ref());
        // The secret of a client id is sent to the service that issues the token.
        let base = self.oauth.as_ref().map_or(self.base.as_str(), |grant| grant.base());
        let sent = self.credentials.iter().map(move |credentials| (credentials.secret(), Purpose::address(base)));
        sent.chain(certificate.map(|name| (name, Purpose::Signing)))
    }
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

    /// The lane that a job of a workflow waits in, over the fixed slots of its run.
    pub fn lane_of(&self, plan: &Plan, slots: &[Value]) -> Arc<Lane> {
        match &plan.queue.lane {
            Some(lane) => self.lane(&lane.over(slots)),
            None => self.lane(MAIN),
        }
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
            alerts: checked.alerts,
            issuers: checked.issuers,
            settings: checked.settings,
            groups: checked.plans.into_iter().filter(|(_, plan)| plan.is_group()).collect(),
            ..Live::default()
        };
        // Those that issue tokens come before those that need one.
        let (needy, others): (Vec<_>, Vec<_>) =
            checked.services.into_iter().partition(|(_, service)| service.issuer().is_some());
        for (name, service) in others.into_iter().chain(needy) {
            let service = Arc::unwrap_or_clone(service);
            let base = bases.get(&name).cloned().unwrap_or(service.base);
            let shared = service.shared.then(|| format!("service {name}"));
            let limits = Limits { at_once: service.at_once, pace: service.pace, shared };
            let known = before.services.get(&name);
            let limiter = known.map(|known| known.limiter.clone()).filter(|limiter| *limiter.limits() == limits);
            let oauth = service.credentials.as_ref().and_then(Credentials::oauth).and_then(|declared| {
                let from = live.services.get(&declared.from.text)?;
                let before = known.and_then(|known| known.oauth.as_deref());
                Some(Arc::new(Grant::new(declared.clone(), from.clone(), before)))
            });
            let entry = Service {
                name: name.clone(),
                about: service.about,
                at: Base::of(&base),
                hosts: service.hosts.filter(|_| base.contains(HOST)),
                base,
                private: service.private,
                credentials: service.credentials,
                oauth,
                tls: service.tls,
                headers: service.headers,
                calls: known.map(|known| known.calls.clone()).unwrap_or_default(),
                limiter: limiter.unwrap_or_else(|| Arc::new(Limiter::new(limits))),
                operations: service.operations,
                api: service.api,
            };
            live.services.insert(name, Arc::new(entry));
        }
        let mut routes: BTreeMap<(String, String), Route> = BTreeMap::new();
        for (index, plan) in checked.workflows {
            let document = &documents[index];
            let entries = plan.endpoints.iter().map(|endpoint| endpoint.label().into()).collect();
            let workflow = Arc::new(Workflow {
                counters: journal.counters(&plan.name),
                revision: document.number,
                since: document.since,
                source: document.source.clone(),
                entries,
                plan,
            });
            for (endpoint, entry) in workflow.plan.endpoints.iter().enumerate() {
                let address = (entry.address.host.clone().unwrap_or_default(), by_position(&entry.address.path));
                let route = routes.entry(address).or_default();
                route.endpoints.push((entry.method.clone(), workflow.clone(), endpoint));
            }
            live.workflows.insert(workflow.plan.name.clone(), workflow);
        }
        for ((host, path), route) in routes {
            if let Err(error) = live.routes.entry(host).or_default().insert(&path, route) {
                tracing::error!(path, "not served: {error}");
            }
        }
        live.documents = documents;
        let hosts = live.routes.keys().filter(|host| !host.is_empty());
        live.openapi = hosts.cloned().chain([String::new()]).map(|host| (host, OnceLock::new())).collect();
        live.public = public.clone();
        live
    }

    /// The OpenAPI document of what clients of a host reach; of all endpoints where no endpoint names the host. The first call
    /// writes it, in a time that grows with the number of endpoints; [`Live::openapi_made`] never does.
    pub fn openapi(&self, host: &str) -> Bytes {
        let (host, place) = match self.openapi.get_key_value(host) {
            Some((host, place)) if !host.is_empty() => (Some(host.as_str()), place),
            _ => match self.openapi.get("") {
                Some(place) => (None, place),
                None => return Bytes::new(),
            },
        };
        let plans = || self.workflows.values().map(|workflow| &*workflow.plan);
        let Public { url, run_header } = &self.public;
        let make = || kanzlei_compiler::openapi::document(plans(), url, host, run_header).to_string().into();
        place.get_or_init(make).clone()
    }

    /// The same document, where an earlier call wrote it.
    pub fn openapi_made(&self, host: &str) -> Option<Bytes> {
        self.openapi.get(host).or_else(|| self.openapi.get(""))?.get().cloned()
    }

    /// Whether any endpoint has the first segment of a path.
    pub fn serves_below(&self, path: &str) -> bool {
        let first = |path: &str| path.split('/').nth(1).unwrap_or_default().to_owned();
        let wanted = first(path);
        let endpoints = self.workflows.values().flat_map(|workflow| &workflow.plan.endpoints);
        !wanted.is_empty() && endpoints.into_iter().any(|endpoint| first(&endpoint.address.path) == wanted)
    }

    /// The endpoint of a request: one of its host, else one that every host leads to. HEAD is served by GET where there is no HEAD
    /// (RFC 9110 §9.3.2).
    pub fn find(&self, host: &str, method: &str, path: &str) -> Found<'_> {
        let routers = [host, ""].into_iter().skip(usize::from(host.is_empty()));
        let mut others: Vec<&str> = Vec::new();
        for matched in routers.filter_map(|host| self.routes.get(host)?.at(path).ok()) {
            let endpoints = &matched.value.endpoints;
            let by_method = |wanted: &str| endpoints.iter().find(|(known, _, _)| known == wanted);
            match by_method(method).or_else(|| if method == "HEAD" { by_method("GET") } else { None }) {
                Some((_, workflow, endpoint)) => return Live::found(workflow, *endpoint, &matched.params),
                None => others.extend(endpoints.iter().map(|(method, _, _)| method.as_str())),
            }
        }
        if others.is_empty() {
            return Found::Nothing;
        }
        if others.contains(&"GET") && !others.contains(&"HEAD") {
            others.push("HEAD");
        }
        others.push("OPTIONS");
        others.dedup();
        Found::OtherMethods(others)
    }

    /// A host that leads to an endpoint with this method and path; empty where none does, or every one.
    pub fn host_of(&self, method: &str, path: &str) -> &str {
        let leads = |host: &&String| matches!(self.find(host, method, path), Found::Endpoint { .. });
        self.routes.keys().find(leads).map(String::as_str).unwrap_or_default()
    }

    fn found<'l>(workflow: &'l Arc<Workflow>, endpoint: usize, params: &matchit::Params<'l, '_>) -> Found<'l> {
        let names = workflow.plan.endpoints[endpoint].address.names();
        let mut found = Vec::new();
        for (name, (_, raw)) in names.zip(params.iter()) {
            match percent_decode(raw) {
                Some(value) => found.push((name, value)),
                None => return Found::Malformed,
            }
        }
        Found::Endpoint { workflow, endpoint, path: found }
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
        for (name, text) in document.file.iter().flat_map(|kept| beside::unpack(&document.source, kept)) {
            bundle.files.insert(relative(&path, &name), text);
        }
        bundle.documents.push(Source::new(path, document.source.clone()));
    }
    bundle
}

/// A path template with its names replaced by their positions, so that endpoints of one shape share a
/// route whatever they call its parts.
pub(crate) fn by_position(path: &str) -> String {
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
