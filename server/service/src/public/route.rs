//! Finding the endpoint that a request is for, and which of two revisions serves it.

use std::sync::Arc;

use actix_web::http::header::{ALLOW, HeaderValue};
use actix_web::{HttpRequest, HttpResponse};
use kanzlei_compiler::plan::Endpoint;
use kanzlei_model::problem::Problem;
use kanzlei_runtime::live::{Found, Live, Workflow};
use uuid::Uuid;

use super::access::Caller;
use super::refusal::{Refusal, Sent};

/// The endpoint of a request.
pub struct Route<'p> {
    pub live: Arc<Live>,
    pub workflow: Arc<Workflow>,
    /// Its position in the plan.
    pub endpoint: usize,
    /// Path parameters by name.
    pub path: Vec<(&'p str, String)>,
}

impl Route<'_> {
    /// The endpoint as it is declared.
    pub fn declared(&self) -> &Endpoint {
        &self.workflow.plan.endpoints[self.endpoint]
    }
}

/// The same endpoint of the revision that serves a share of the workflow, where this request belongs to it.
pub fn gradual<'p>(
    live: &'p Arc<Live>,
    route: &Route<'p>,
    request: &HttpRequest,
    caller: &Caller,
    id: Uuid,
    sent: &mut Sent,
) -> Option<Route<'p>> {
    let gradual = live.gradual(&route.workflow.plan.name)?;
    let header = |name: &str| request.headers().get(name).and_then(|value| value.to_str().ok());
    if !gradual.serves(&id.to_string(), &caller.known, header) {
        return None;
    }
    let (workflow, endpoint) = (&gradual.workflow, gradual.endpoint(route.endpoint)?);
    sent.routed(workflow, endpoint);
    // Parts of the path have the names of this revision.
    let names = workflow.plan.endpoints[endpoint].address.names();
    let path = names.zip(&route.path).map(|(name, (_, value))| (name, value.clone())).collect();
    Some(Route { live: live.clone(), workflow: workflow.clone(), endpoint, path })
}

/// What a request leads to.
pub enum Routed<'p> {
    Endpoint(Route<'p>),
    /// The answer to `OPTIONS`.
    Methods(HttpResponse),
}

/// Finds the endpoint of a request.
pub fn find<'p>(
    live: &'p Arc<Live>,
    host: &str,
    method: &str,
    path: &str,
    sent: &mut Sent,
) -> Result<Routed<'p>, Refusal> {
    match live.find(host, method, path) {
        Found::Endpoint { workflow, endpoint, path } => {
            sent.routed(workflow, endpoint);
            Ok(Routed::Endpoint(Route { live: live.clone(), workflow: workflow.clone(), endpoint, path }))
        }
        Found::OtherMethods(methods) => {
            sent.expected = true;
            let allow = HeaderValue::from_str(&methods.join(", ")).ok();
            if method == "OPTIONS" {
                let mut response = HttpResponse::NoContent().finish();
                if let Some(allow) = allow {
                    response.headers_mut().insert(ALLOW, allow);
                }
                return Ok(Routed::Methods(response));
            }
            let detail = format!("allowed methods: {}", methods.join(", "));
            Err(Refusal { allow, ..Problem::new(405, "Method not allowed").detail(detail).into() })
        }
        Found::Malformed => {
            sent.expected = true;
            Err(Problem::new(400, "Malformed path").detail("the path is not percent-encoded UTF-8").into())
        }
        Found::Nothing => {
            // Below a deployed path it is a client's mistake; elsewhere anybody may knock.
            sent.expected = live.serves_below(path);
            Err(Problem::new(404, "Not found").detail(format!("nothing is deployed at {path}")).into())
        }
    }
}
