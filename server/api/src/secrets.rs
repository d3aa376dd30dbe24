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
    /// What it may be used for: `signing`, or addresses below which it is sent. Without any it is never used.
    #[serde(default, rename = "for")]
    pub purposes: Vec<String>,
}

api! {
    /// All secrets.
    pub struct Secrets {
        pub secrets: Vec<Secret>,
    }

    /// A rotation of the key: everything is sealed with the key of today.
    pub struct Rotation {
        pub begun: Timestamp,
        pub ended: bool,
        /// Why it ended before its end.
        pub failure: Option<String>,
        /// Values that were sealed anew.
        pub sealed: u64,
        /// Values that were looked at.
        pub examined: u64,
        /// Values that neither key opens.
        pub unopened: u64,
    }

    /// A secret, without its value.
    pub struct Secret {
        pub name: String,
        pub set: Timestamp,
        /// What it may be used for: `signing`, or addresses below which it is sent.
        #[serde(rename = "for")]
        pub purposes: Vec<String>,
        /// Whether the service's key opens it.
        pub readable: bool,
        /// Services that are called with it.
        pub services: Vec<String>,
    }
}
