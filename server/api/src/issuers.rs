//! Issuers of tokens, and whether their keys are known.

use kanzlei_model::time::{Span, Timestamp};

use crate::api;

api! {
    /// Live issuers, as the process that answers knows them.
    pub struct Issuers {
        pub issuers: Vec<IssuerLine>,
    }

    /// A live issuer.
    pub struct IssuerLine {
        pub name: String,
        pub about: String,
        /// What its tokens have as `iss`.
        pub iss: String,
        pub audience: Vec<String>,
        pub algorithms: Vec<String>,
        /// The claims that workflows know.
        pub claims: Vec<String>,
        /// The service that has its keys; null where they stand in its document.
        pub service: Option<String>,
        pub allowance: Option<String>,
        /// The workflows that ask for its tokens.
        pub workflows: Vec<String>,
        /// How many of its keys are known.
        pub keys: u32,
        /// When they were read; null where they were not, or stand in its document.
        pub read: Option<Timestamp>,
        /// How far its clock may differ.
        pub skew_us: Span,
        /// Why they could not be read when that was last tried.
        pub trouble: Option<String>,
    }
}
