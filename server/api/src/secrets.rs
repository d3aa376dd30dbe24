//! Secrets by name. Values go in and never come out.

use kanzlei_model::time::Timestamp;
use serde::{Deserialize, Serialize};

use crate::api;

/// The value of a secret.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSecret {
    /// One line.
    pub value: String,
}

api! {
    /// All secrets.
    pub struct Secrets {
        pub secrets: Vec<Secret>,
    }

    /// A secret, without its value.
    pub struct Secret {
        pub name: String,
        pub set: Timestamp,
        /// Whether the service's key opens it.
        pub readable: bool,
        /// Services that are called with it.
        pub services: Vec<String>,
    }
}
