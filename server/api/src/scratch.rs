//! Databases lent to rehearsals.

use serde::{Deserialize, Serialize};

use crate::{Json, api};

/// What came of statements: rows, or why the database refused them.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(untagged)]
#[allow(missing_docs)]
pub enum Ran {
    Returned { returned: Vec<Rows> },
    Refused { kind: String, detail: String },
}

api! {
    /// What a lent database begins with.
    pub struct Seed {
        /// Statements that make its tables and rows.
        pub seed: String,
    }

    /// A database that was lent.
    pub struct Lent {
        pub database: String,
    }

    /// Statements to be run.
    pub struct Statements {
        pub statements: Vec<Statement>,
        /// All or none of them.
        pub transaction: bool,
        pub within_ms: u64,
    }

    /// A statement with `?` for each value.
    pub struct Statement {
        pub text: String,
        pub values: Vec<Json>,
    }

    /// What one statement returned.
    pub struct Rows {
        /// Objects by column name.
        pub rows: Vec<Json>,
        /// Rows returned, or changed.
        pub count: u64,
        /// The id that the database made for an inserted row.
        pub id: Option<i64>,
    }
}
