//! The control API: types of its requests and answers, and the OpenAPI document that describes it.
//!
//! The service fills these types and the client reads them, so neither can misspell a member. [`openapi`]
//! makes the document from the same types; the console's TypeScript is generated from the document
//! (`cargo xtask api`). Members that may be missing are null by default.
//!
//! ```
//! let document = kanzlei_api::openapi::document();
//! assert_eq!(document["openapi"], "3.1.0");
//! assert!(document["components"]["schemas"]["JobLine"]["properties"]["state"].is_object());
//! ```

#![warn(missing_docs)]

pub mod alerts;
pub mod audit;
pub mod coming;
pub mod databases;
pub mod deliveries;
pub mod deploys;
pub mod drafts;
pub mod erasures;
pub mod examples;
pub mod gradual;
pub mod issuers;
pub mod jobs;
pub mod keys;
pub mod lanes;
pub mod language;
pub mod libraries;
pub mod log;
pub mod openapi;
pub mod operators;
pub mod overview;
pub mod previews;
pub mod rehearsals;
pub mod requests;
pub mod runs;
pub mod scratch;
pub mod secrets;
pub mod services;
pub mod session;
pub mod settings;
pub mod sheet;
pub mod statistics;
pub mod timetables;
pub mod transfer;
pub mod trials;
pub mod watches;
pub mod workflows;

/// Any JSON value.
pub type Json = serde_json::Value;

/// Derives what every type of the API has.
macro_rules! api {
    ($($(#[$meta:meta])* pub struct $name:ident { $($(#[$about:meta])* pub $member:ident: $of:ty,)* })*) => {
        $(
            $(#[$meta])*
            // The name of a member says what it is, where it has no comment.
            #[allow(missing_docs)]
            #[derive(Clone, Debug, PartialEq, serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
            pub struct $name {
                $($(#[$about])* pub $member: $of,)*
            }
        )*
    };
}

pub(crate) use api;
