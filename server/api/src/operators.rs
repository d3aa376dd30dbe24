//! Operator tokens: who may use the control API. Tokens are shown once, when they are made.

use kanzlei_model::role::Role;
use kanzlei_model::time::Timestamp;
use serde::{Deserialize, Serialize};

use crate::api;

/// A token to be made.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewOperator {
    /// Whose token it is: lower-case letters, digits and hyphens.
    pub name: String,
    /// Days until it expires; without it never.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub days: Option<u32>,
    /// What it allows; `operator` by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub role: Option<Role>,
}

/// What a rotated token gets.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Rotation {
    /// Days until the new one expires; without it never.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub days: Option<u32>,
}

api! {
    /// A token that was made; it is shown only now.
    pub struct Issued {
        pub name: String,
        pub token: String,
        pub expires: Option<Timestamp>,
    }

    /// All operator tokens.
    pub struct Operators {
        pub operators: Vec<Operator>,
    }

    /// An operator token, without the token.
    pub struct Operator {
        pub name: String,
        /// How the token begins.
        pub prefix: String,
        pub created: Timestamp,
        pub expires: Option<Timestamp>,
        pub role: Role,
        /// When it was last used, to a minute.
        pub used: Option<Timestamp>,
        /// Whether this request shows it.
        pub yours: bool,
    }
}
