//! Databases of authors that `sql` steps name.

use std::collections::BTreeMap;

use crate::api;

api! {
    /// All databases that the configuration names.
    pub struct Databases {
        pub databases: Vec<Database>,
    }

    /// One database, and whether jobs can perform writing steps once in it.
    pub struct Database {
        pub name: String,
        pub prepared: bool,
        /// What it lacks, each in a sentence.
        pub missing: Vec<String>,
        /// The statement that makes the table of markers.
        pub statement: String,
    }

    /// The tables of a database.
    pub struct Description {
        /// The number of tables and views.
        pub tables: usize,
        /// A document of kind `database` that describes them.
        pub document: String,
        /// Their columns, by table.
        #[serde(default)]
        pub columns: BTreeMap<String, Vec<TableColumn>>,
    }

    /// A column of a table.
    pub struct TableColumn {
        pub name: String,
        /// Its type, as the database reports it.
        #[serde(rename = "type")]
        pub of: String,
        pub nullable: bool,
    }
}
