//! What can go wrong in the service, and what a client of the control API gets.

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
    #[error(transparent)]
    Store(#[from] kanzlei_store::Error),
    /// A task ended that the process cannot do without.
    #[error("{0}; the process cannot go on")]
    Fatal(String),
    /// What came of something that several waited for.
    #[error(transparent)]
    Shared(#[from] std::sync::Arc<Error>),
    /// An answer to the client of the control API.
    #[error("{}", text(.0))]
    Problem(Box<Problem>),
}

/// A problem in one line.
fn text(problem: &Problem) -> String {
    match &problem.detail {
        Some(detail) => format!("{}: {detail}", problem.title),
        None => problem.title.clone(),
    }
}

impl Error {
    pub fn problem(status: u16, title: &str, detail: impl Into<String>) -> Self {
        Error::Problem(Box::new(Problem::new(status, title).detail(detail)))
    }

    pub fn not_found(what: impl Into<String>) -> Self {
        Error::problem(404, "Not found", what)
    }

    pub fn as_problem(&self) -> Problem {
        match self {
            Error::Problem(problem) => (**problem).clone(),
            Error::Store(error) if error.is_unreachable() => {
                Problem::new(503, "The database is unavailable").detail("nothing was changed; try again in a moment")
            }
            Error::Store(error) if error.is_contention() => {
                Problem::new(409, "Conflicting change").detail("nothing was changed; try again in a moment")
            }
            Error::Store(error) if error.is_too_slow() => Problem::new(422, "The search takes too long")
                .detail("narrow it: by tag, group or request id, or by state and lane"),
            Error::Shared(error) => error.as_problem(),
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
