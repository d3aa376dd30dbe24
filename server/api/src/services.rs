//! Live services and what their operations accept and return.

use kanzlei_lang::document::service as declared;
use kanzlei_lang::types::schema::Reader;

use crate::{Json, api};

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
        /// `public` or `private`.
        pub network: String,
        pub operations: usize,
    }

    /// One service.
    pub struct Service {
        pub name: String,
        pub about: String,
        pub base: String,
        /// `public` or `private`.
        pub network: String,
        /// The name of the secret that it is called with.
        pub secret: Option<String>,
        /// Most calls at the same time.
        pub at_once: Option<u32>,
        /// Most calls in a span: `5 in 10s`.
        pub pace: Option<String>,
        pub operations: Vec<Operation>,
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
