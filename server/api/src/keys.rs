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
    /// The workflows it is for; without one, and without a tag, for all.
    pub workflows: Vec<String>,
    /// Tags of workflows that it is for too.
    pub tags: Vec<String>,
    /// How much it may ask for, by the name of an allowance; without one as entries say.
    pub allowance: Option<String>,
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

/// Whose usage is asked for, and how far back.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct UsageFilter {
    /// The name of a key; without one of all.
    pub key: Option<String>,
    /// 1 to 400; 7 by default.
    pub days: Option<u32>,
    /// Whether pseudonyms stand in the place of names of keys.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pseudonyms: Option<bool>,
}

api! {
    /// A name and what stands in its place in lists with pseudonyms.
    pub struct Pseudonym {
        pub name: String,
        pub pseudonym: String,
    }

    /// What keys asked for, and what they have left.
    pub struct UsageReport {
        /// By key, workflow and hour, in the order of the hours.
        pub usage: Vec<UsageRow>,
        pub meters: Vec<MeterRow>,
        /// Whether the answer leaves rows out.
        pub cut: bool,
    }

    /// Requests of a key to a workflow in an hour.
    pub struct UsageRow {
        pub key: String,
        pub workflow: String,
        /// When the hour began.
        pub hour: Timestamp,
        pub requests: u64,
        /// Of these: refused for its allowance.
        pub refused: u64,
        /// Of these: answered with 500 to 599.
        pub failed: u64,
    }

    /// What a key has left of an allowance.
    pub struct MeterRow {
        pub key: String,
        pub allowance: String,
        pub left: Vec<PolicyLeft>,
        /// When it last took a portion.
        pub used: Timestamp,
    }

    /// What is left of one policy, beside the portions that processes hold.
    pub struct PolicyLeft {
        pub policy: String,
        pub left: u64,
        pub of: u64,
    }

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
        /// The workflows it is for. Without any, and without tags, it is for all that ask for a key.
        pub workflows: Vec<String>,
        /// Tags of workflows that it is for too.
        pub tags: Vec<String>,
        /// How much it may ask for; null as entries say.
        pub allowance: Option<String>,
        pub created: Timestamp,
        pub expires: Option<Timestamp>,
        /// When it was last used, to a minute.
        pub used: Option<Timestamp>,
        /// Until when the one before it is valid too.
        pub former_until: Option<Timestamp>,
    }
}
