//! Entries of kind `change`: rows of a table that were inserted, updated or deleted.
//!
//! ```yaml
//! - change: bill
//!   database: harbour
//!   of: [insert, update]
//!   when: after.paid && !before?.paid
//!   send: {bill: "${after.id}"}
//! ```

use super::keys::CHANGE;
use super::reader::{Members, Named};
use super::yaml::Node;
use crate::diagnostic::{Place, Report};
use crate::suggest;

/// What happened to a row.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Operation {
    /// It is new.
    Insert,
    /// It was changed.
    Update,
    /// It is gone.
    Delete,
}

impl Operation {
    /// All of them with their names.
    pub const ALL: [(&'static str, Operation); 3] =
        [("insert", Operation::Insert), ("update", Operation::Update), ("delete", Operation::Delete)];

    /// Its name, as documents write it.
    pub fn name(self) -> &'static str {
        Self::ALL.iter().find(|(_, one)| *one == self).map_or("", |(name, _)| name)
    }

    /// The operation of a name.
    pub fn of_name(name: &str) -> Option<Self> {
        Self::ALL.iter().find(|(known, _)| *known == name).map(|(_, one)| *one)
    }
}

/// An entry of kind `change`.
#[derive(Clone, Debug)]
pub struct Watch {
    /// The table.
    pub table: Named,
    /// The database, as `sql` steps name it.
    pub database: Named,
    /// What must happen to a row.
    pub of: Vec<Operation>,
    /// What must hold of a change.
    pub when: Option<Node>,
    /// The input, from the change; by convention where there is none.
    pub send: Option<Vec<(Named, Node)>>,
    /// Where it stands in the text.
    pub at: Place,
}

/// Whether a text is a name of a table or a column: what statements can name without quotes.
fn is_table_name(name: &str) -> bool {
    (1..=64).contains(&name.len()) && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"_$".contains(&byte))
}

/// Reads an entry of kind `change`.
pub(super) fn read(node: &Node, report: &mut Report) -> Option<Watch> {
    let members = Members::new(node, "an entry of kind `change`", &[CHANGE], report)?;
    let table = members.text("change", report)?;
    if !is_table_name(&table.text) {
        report.error("wrong-value", table.at, format!("`{}` is no name of a table", table.text));
        report.help("a table of the database alone, without its schema: `bill`");
    }
    let database = members.text("database", report);
    if members.get("database").is_none() {
        report.error("missing-key", table.at, "an entry of kind `change` needs `database`");
        report.help("the name by which `sql` steps know it: `database: harbour`");
    }
    let mut of = Vec::new();
    for node in members.list("of", report) {
        match node.as_text().and_then(Operation::of_name) {
            Some(one) if !of.contains(&one) => of.push(one),
            Some(_) => {}
            None => {
                report.error("wrong-value", node.at, "`of` lists `insert`, `update` and `delete`");
                if let Some(near) = suggest::nearest(node.as_text().unwrap_or_default(), Operation::ALL.map(|(n, _)| n))
                {
                    report.did_you_mean(near);
                }
            }
        }
    }
    if of.is_empty() {
        of = Operation::ALL.map(|(_, one)| one).to_vec();
    }
    of.sort();
    let send = members.get("send").is_some().then(|| members.mapping("send", report));
    let send = send.map(|send| send.into_iter().map(|(name, node)| (name, node.clone())).collect());
    Some(Watch { at: table.at, table, database: database?, of, when: members.get("when").cloned(), send })
}
