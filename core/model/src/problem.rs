//! Problem details for HTTP APIs (RFC 9457), with the list of input errors this service adds.

use serde::{Deserialize, Serialize};

use crate::value::{ObjectBuilder, Value};

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
/// A problem as it is answered (RFC 9457 §3).
pub struct Problem {
    /// A URI for the kind of problem; `about:blank` by default.
    #[serde(rename = "type", default, skip_serializing_if = "Option::is_none")]
    pub problem_type: Option<String>,
    /// What kind of problem it is, in a few words; the same for each occurrence.
    pub title: String,
    /// The HTTP status of the answer.
    pub status: u16,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    /// What went wrong this time, and what to do.
    pub detail: Option<String>,
    /// Everything that is wrong with the input.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub errors: Vec<InputError>,
    /// Members the workflow adds.
    #[serde(flatten, default)]
    pub with: serde_json::Map<String, serde_json::Value>,
}

/// One thing wrong with a request.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct InputError {
    /// `path`, `query`, `header` or `body`.
    #[serde(rename = "in")]
    pub within: String,
    /// JSON Pointer (RFC 6901) into the body, or `/name` of the parameter.
    pub pointer: String,
    /// What is wrong with it.
    pub detail: String,
}

impl Problem {
    /// A problem with a status and a title.
    pub fn new(status: u16, title: impl Into<String>) -> Self {
        Problem { status, title: title.into(), ..Problem::default() }
    }

    /// The same with a detail.
    pub fn detail(mut self, detail: impl Into<String>) -> Self {
        self.detail = Some(detail.into());
        self
    }

    /// The body of the answer.
    pub fn to_json(&self) -> String {
        serde_json::to_string(self).unwrap_or_default()
    }

    /// As a value for the journal.
    pub fn to_value(&self) -> Value {
        serde_json::to_value(self)
            .map(|json| Value::from_json(&json))
            .unwrap_or_else(|_| ObjectBuilder::default().finish())
    }
}

/// The reason phrase of a status (RFC 9110 §15), as title of a problem without one.
pub fn phrase(status: u16) -> &'static str {
    match status {
        400 => "Bad request",
        401 => "Unauthorized",
        403 => "Forbidden",
        404 => "Not found",
        405 => "Method not allowed",
        406 => "Not acceptable",
        409 => "Conflict",
        410 => "Gone",
        412 => "Precondition failed",
        413 => "Content too large",
        415 => "Unsupported media type",
        422 => "Unprocessable content",
        429 => "Too many requests",
        500 => "Internal server error",
        501 => "Not implemented",
        502 => "Bad gateway",
        503 => "Service unavailable",
        504 => "Gateway timeout",
        _ => "Problem",
    }
}
