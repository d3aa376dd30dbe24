//! Keys of callers: who may call endpoints with `access: key`. A key is shown once, when it is made.

use kanzlei_model::time::Timestamp;
use serde::{Deserialize, Serialize};

use crate::api;

/// A key to be made.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct NewKey {
    /// Its name: lower-case letters, digits and hyphens.
    pub name: String,
    /// Whose it is.
    pub owner: String,
    /// What it is for.
    pub note: String,
    /// The workflows it is for; without one for all.
    pub workflows: Vec<String>,
    /// Days until it expires; without it never.
    pub days: Option<u32>,
}

/// What a rotated key gets.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct KeyRotation {
    /// Days until the new one expires; without it never.
    pub days: Option<u32>,
    /// Hours for which the former one is valid beside it: 0 to 720, 24 by default.
    pub overlap_hours: Option<u32>,
}

api! {
    /// A key that was made; it is shown only now.
    pub struct MadeKey {
        pub name: String,
        pub key: String,
        pub expires: Option<Timestamp>,
        /// Until when the former one is valid.
        pub former_until: Option<Timestamp>,
    }

    /// All keys.
    pub struct Keys {
        pub keys: Vec<Key>,
    }

    /// A key, without the key.
    pub struct Key {
        pub name: String,
        /// How it begins.
        pub prefix: String,
        pub owner: String,
        pub note: String,
        /// The workflows it is for; empty for all that ask for a key.
        pub workflows: Vec<String>,
        pub created: Timestamp,
        pub expires: Option<Timestamp>,
        /// When it was last used, to a minute.
        pub used: Option<Timestamp>,
        /// Until when the one before it is valid too.
        pub former_until: Option<Timestamp>,
    }
}
