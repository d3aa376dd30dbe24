//! Live services and what their operations accept and return.

use kanzlei_lang::document::service as declared;
use kanzlei_lang::types::schema::Reader;
use serde::{Deserialize, Serialize};

use crate::sheet::Diagnostic;
use crate::statistics::Counted;
use crate::{Json, api};

/// What is wanted of services.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct ServicesQuery {
    /// Whether their calls of the last 24 hours are counted.
    pub day: bool,
}

api! {
    /// All live services.
    pub struct Services {
        pub services: Vec<ServiceLine>,
    }

    /// A service in a listing.
    pub struct ServiceLine {
        pub name: String,
        pub about: String,
        pub base: String,
        /// Where the base has `{host}` in place of one: the hosts that calls may name, or `any`.
        #[serde(default)]
        pub hosts: Vec<String>,
        /// `public` or `private`.
        pub network: String,
        pub operations: usize,
        /// Names of the live workflows that call it.
        #[serde(default)]
        pub callers: Vec<String>,
        /// The names of the secrets that it is called with.
        #[serde(default)]
        pub secrets: Vec<ServiceSecret>,
        /// The token of its calls, where another service issues it.
        #[serde(default)]
        pub token: Option<ServiceToken>,
        /// Its calls of the last 24 hours, where they are asked for.
        #[serde(default)]
        pub day: Option<Counted>,
    }

    /// One service.
    pub struct Service {
        pub name: String,
        pub about: String,
        pub base: String,
        /// Where the base has `{host}` in place of one: the hosts that calls may name, or `any`.
        #[serde(default)]
        pub hosts: Vec<String>,
        /// `public` or `private`.
        pub network: String,
        /// The names of the secrets that it is called with.
        pub secrets: Vec<ServiceSecret>,
        /// The token of its calls, where another service issues it.
        pub token: Option<ServiceToken>,
        /// Most calls at the same time.
        pub at_once: Option<u32>,
        /// Most calls in a span: `5 in 10s`.
        pub pace: Option<String>,
        /// Whether both hold over all processes.
        pub shared: bool,
        pub operations: Vec<Operation>,
    }

    /// A secret that a service is called with.
    pub struct ServiceSecret {
        pub name: String,
        /// Whether it is set.
        pub set: bool,
        /// What it must be set for: an address, or `signing` for a certificate.
        #[serde(rename = "for")]
        pub purpose: String,
    }

    /// The token of a service's calls (OAuth 2.0 client credentials), as the process that answers has it.
    pub struct ServiceToken {
        /// The service that issues it.
        pub from: String,
        /// Seconds that it is still valid; null before the first call, and where it has expired.
        pub valid_s: Option<u64>,
        /// Why the last request for it failed.
        pub trouble: Option<String>,
    }

    /// A service that is to be described: by its published description, or by answers that were seen.
    pub struct ServiceBeginning {
        /// Its name.
        pub name: String,
        /// The text of its OpenAPI document; leave it empty to describe the service by `samples`.
        #[serde(default)]
        pub description: String,
        /// Its base address; empty for the server that the description names.
        #[serde(default)]
        pub base: String,
        /// Answers that were seen.
        #[serde(default)]
        pub samples: Vec<SeenAnswer>,
    }

    /// An answer that a service gave.
    pub struct SeenAnswer {
        pub method: String,
        /// The path below the base, with `{…}` where it differs from call to call: `/now/{place}`.
        pub path: String,
        pub status: u16,
        /// The body; null for none.
        #[serde(default)]
        pub body: Json,
    }

    /// The documents of a service that is described.
    pub struct ServiceBegun {
        /// The text of its document.
        pub document: String,
        /// The name of the file with its description, beside the document.
        pub beside: String,
        /// The description.
        pub description: String,
        /// Whether its base address is private, so that calls need its network allowed (`network.allow`).
        pub private: bool,
        pub operations: Vec<Operation>,
        /// What the checker warns of.
        pub warnings: Vec<Diagnostic>,
    }

    /// An operation, with types as people read them.
    pub struct Operation {
        pub id: String,
        pub method: String,
        pub path: String,
        pub about: String,
        pub parameters: Vec<Parameter>,
        /// The type of its body.
        pub body: Option<String>,
        pub answers: Vec<Answer>,
    }

    /// A parameter of an operation.
    pub struct Parameter {
        pub name: String,
        pub required: bool,
        #[serde(rename = "type")]
        pub of: String,
    }

    /// What an operation answers with a status.
    pub struct Answer {
        /// `200`, `2XX` or `default`.
        pub status: String,
        #[serde(rename = "type")]
        pub of: String,
    }
}

/// What an operation accepts and returns: its parameters, body and answers with their types.
pub fn described(api: &Json, id: &str, operation: &declared::Operation) -> Operation {
    let mut reader = Reader::new(api);
    let parameters = operation.parameters.iter().map(|p| Parameter {
        name: p.name.clone(),
        required: p.required,
        of: reader.read(&p.schema).to_string(),
    });
    let parameters = parameters.collect();
    let body = operation.body.as_ref().map(|schema| reader.read(schema).to_string());
    let answers = operation.responses.iter().map(|response| {
        let of = response.content.iter().map(|(media, schema)| match media.contains("json") {
            true => reader.read(schema).to_string(),
            false => media.clone(),
        });
        let of: Vec<String> = of.collect();
        Answer { status: response.status.clone(), of: if of.is_empty() { "no body".into() } else { of.join(" or ") } }
    });
    Operation {
        id: id.to_owned(),
        method: operation.method.clone(),
        path: operation.path.clone(),
        about: operation.about.clone(),
        parameters,
        body,
        answers: answers.collect(),
    }
}
