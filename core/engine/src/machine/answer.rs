//! How a run answers, and how it fails.

use std::sync::Arc;

use super::EffectError;
use kanzlei_compiler::plan::rows::Reading;
use kanzlei_lang::expr;
use kanzlei_lang::expr::ops;
use kanzlei_model::problem::Problem;
use kanzlei_model::run::FailureKind;
use kanzlei_model::value::Value;

/// The answer to the client.
#[derive(Clone, Debug, PartialEq)]
pub struct Reply {
    /// The HTTP status.
    pub status: u16,
    /// Header names and values.
    pub headers: Vec<(String, String)>,
    /// `undefined` for no body, text as it is, anything else as JSON.
    pub body: Value,
    /// How the rows are read that the client gets, where the body is their files.
    pub rows: Option<Arc<Reading>>,
    /// Set when the answer is a problem (RFC 9457).
    pub problem: bool,
}

/// Why a step failed; what `failure` is in a catch.
#[derive(Clone, Debug, PartialEq)]
pub struct Failure {
    /// The kind that `failure.kind` shows.
    pub kind: FailureKind,
    /// The status of the answer, where there was one.
    pub status: Option<u16>,
    /// What happened, for people.
    pub detail: String,
    /// The body of the answer, where there was one.
    pub body: Value,
    /// What the client gets where no step catches it; what the kind says where there is none.
    pub problem: Option<Box<Problem>>,
    /// Why an expression failed.
    pub cause: Option<expr::ErrorKind>,
    /// How long the service asks to be left alone: its `Retry-After`.
    pub retry_after: Option<std::time::Duration>,
}

impl Failure {
    /// A failure of work with files. What cannot be read is as a rule what a client sent: where no step catches it, the client gets 422.
    pub(super) fn of_files(fault: EffectError) -> Self {
        let problem = match fault.kind {
            FailureKind::Unreadable => Some(Problem::new(422, "A file cannot be read")),
            FailureKind::TooLarge => Some(Problem::new(422, "A file is too large")),
            _ => None,
        };
        Failure { problem: problem.map(Box::new), ..Failure::new(fault.kind, fault.detail) }
    }

    /// A failure of a kind, with its detail.
    pub fn new(kind: FailureKind, detail: impl Into<String>) -> Self {
        Failure {
            kind,
            status: None,
            detail: detail.into(),
            body: Value::Undefined,
            problem: None,
            cause: None,
            retry_after: None,
        }
    }

    pub(super) fn expression(failure: &expr::EvalError) -> Self {
        let kind = match failure.kind {
            expr::ErrorKind::Thrown => FailureKind::Thrown,
            _ => FailureKind::Expression,
        };
        let body = failure.thrown.clone().unwrap_or_default();
        Failure { cause: Some(failure.kind), body, ..Failure::new(kind, failure.message.clone()) }
    }

    /// As expressions and the journal see it.
    pub fn to_value(&self) -> Value {
        Value::object([
            ("kind", Value::text(self.kind.name())),
            ("status", self.status.map_or(Value::Null, |status| Value::Int(status.into()))),
            ("detail", Value::text(self.detail.as_str())),
            ("body", self.body.clone()),
        ])
    }
}

/// A status that an expression computed.
pub(super) fn status_code(value: &Value, least: u16) -> Result<u16, Box<expr::EvalError>> {
    let number = ops::to_number(value);
    if number.fract() == 0.0 && (f64::from(least)..=599.0).contains(&number) {
        return Ok(number as u16);
    }
    Err(expr::EvalError::new(
        expr::ErrorKind::Range,
        format!("{} is not a status from {least} to 599", ops::to_text(value)),
    ))
}

/// The text of a header field. Line breaks would begin another field (RFC 9110, section 5.5).
pub(super) fn header_value(name: &str, value: &Value) -> Result<String, Box<expr::EvalError>> {
    let text = ops::to_text(value);
    if !text.chars().any(|c| c.is_control() && c != '\t') {
        return Ok(text.to_string());
    }
    Err(expr::EvalError::new(
        expr::ErrorKind::Range,
        format!("the value of the header `{name}` holds a line break or another control character"),
    ))
}

/// What the client gets when a step fails and nothing catches it (never what was inside).
pub(super) fn problem_of(failure: &Failure) -> Problem {
    if let Some(problem) = &failure.problem {
        return (**problem).clone();
    }
    match failure.kind {
        FailureKind::Timeout => Problem::new(504, "A service did not answer in time"),
        FailureKind::Full => Problem::new(503, "The queue is full"),
        FailureKind::Database | FailureKind::Conflict => Problem::new(503, "A database is not available"),
        FailureKind::Place => Problem::new(503, "A place for files is not available"),
        FailureKind::Mail => Problem::new(503, "The mail server is not available"),
        FailureKind::Expression
        | FailureKind::Thrown
        | FailureKind::Input
        | FailureKind::Sql
        | FailureKind::Missing
        | FailureKind::Exists
        | FailureKind::Refused
        | FailureKind::Print
        | FailureKind::Internal => Problem::new(500, "The workflow failed"),
        _ => Problem::new(502, "A service failed"),
    }
}
