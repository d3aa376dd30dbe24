//! Errors of performing runs and jobs.

use kanzlei_model::problem::Problem;

/// Result of something that the runtime does.
pub type Result<T> = std::result::Result<T, Error>;

/// An error of the runtime.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// A setting is wrong.
    #[error("{0}")]
    Config(String),
    /// A file cannot be read or written.
    #[error("{what}: {source}")]
    Io {
        /// What the file is, with its path.
        what: String,
        /// Why.
        source: std::io::Error,
    },
    /// The records.
    #[error(transparent)]
    Store(#[from] kanzlei_store::Error),
    /// The error of work that several callers waited for.
    #[error(transparent)]
    Shared(#[from] std::sync::Arc<Error>),
    /// An answer to a client.
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
    /// An answer with a status, a title and a detail (RFC 9457).
    pub fn problem(status: u16, title: &str, detail: impl Into<String>) -> Self {
        Error::Problem(Box::new(Problem::new(status, title).detail(detail)))
    }

    /// A 404 answer.
    pub fn not_found(what: impl Into<String>) -> Self {
        Error::problem(404, "Not found", what)
    }

    /// The answer for a client; it contains no details of internal errors.
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
