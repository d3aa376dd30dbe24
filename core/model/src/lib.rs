//! The model: values and words that every layer above shares.
//!
//! [`value`] is what expressions compute with, [`time`] holds instants and spans, [`duration`] reads and writes
//! the spans of documents, [`problem`] describes a refused request (RFC 9457), [`address`] knows private networks, [`trace`] is a trace that crosses services,
//! [`file`] is what values say of files, [`gradual`] which of two revisions serves a request, [`run`] holds the states of runs and kinds of failures. Nothing here knows a document, a run or an interface.
//!
//! ```
//! use kanzlei_model::{duration, value::Value};
//! assert_eq!(duration::parse("2 days").map(duration::short).as_deref(), Ok("2d00h"));
//! assert_eq!(Value::text("a").as_text(), Some("a"));
//! ```

#![warn(missing_docs)]

pub mod address;
pub mod caller;
pub mod duration;
pub mod file;
pub mod gradual;
pub mod hex;
pub mod histogram;
pub mod problem;
pub mod role;
pub mod run;
pub mod time;
pub mod trace;
pub mod value;
