//! Finding the endpoint that a request is for.

use std::sync::Arc;

use actix_web::HttpResponse;
use actix_web::http::header::{ALLOW, HeaderValue};
use kanzlei_compiler::plan::Endpoint;
use kanzlei_model::problem::Problem;
use kanzlei_runtime::live::{Found, Live, Workflow};

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
