//! Errors of the service, and their answers to clients of the control API.

use actix_web::http::StatusCode;
use actix_web::{HttpResponse, ResponseError};
use kanzlei_model::problem::Problem;

pub type Result<T> = std::result::Result<T, Error>;

#[derive(Debug, thiserror::Error)]
pub enum Error {
    #[error("{0}")]
    Config(String),
    #[error("{what}: {source}")]
    Io { what: String, source: std::io::Error },
    /// A task ended that the process depends on.
    #[error("{0}; the process cannot go on")]
    Fatal(String),
    /// Of the records, of runs and jobs, and answers to the client of the control API.
    #[error(transparent)]
    Runtime(#[from] kanzlei_runtime::Error),
}

impl From<kanzlei_store::Error> for Error {
    fn from(error: kanzlei_store::Error) -> Self {
        Error::Runtime(error.into())
    }
}

impl Error {
    pub fn problem(status: u16, title: &str, detail: impl Into<String>) -> Self {
        Error::Runtime(kanzlei_runtime::Error::problem(status, title, detail))
    }

    pub fn not_found(what: impl Into<String>) -> Self {
        Error::problem(404, "Not found", what)
    }

    pub fn as_problem(&self) -> Problem {
        match self {
            Error::Runtime(error) => error.as_problem(),
            _ => Problem::new(500, "Internal server error"),
        }
    }
}

impl ResponseError for Error {
    fn status_code(&self) -> StatusCode {
        StatusCode::from_u16(self.as_problem().status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
    }

    fn error_response(&self) -> HttpResponse {
        let problem = self.as_problem();
        if problem.status >= 500 {
            tracing::error!(error = %self, "a control request failed");
        }
        problem_response(&problem)
    }
}

/// A problem as an HTTP answer (RFC 9457 §3).
pub fn problem_response(problem: &Problem) -> HttpResponse {
    let status = StatusCode::from_u16(problem.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
    let mut response = HttpResponse::build(status);
    if problem.status == 503 {
        response.insert_header(("Retry-After", "1"));
    }
    response.content_type("application/problem+json").body(problem.to_json())
}
