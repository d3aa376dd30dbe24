//! Entries of kind `change`: their tables, and the expressions over `before` and `after`.

use super::jobs::Outside;
use super::steps::Walk;
use super::{Column, statements};
use crate::plan::{self, watch};
use kanzlei_lang::document::change::{Operation, Watch};
use kanzlei_lang::suggest;
use kanzlei_lang::types::{Type, row};

/// What a database reported of a table that is to be watched.
#[derive(Clone, Debug, Default)]
pub struct Watched {
    /// Its columns as changes have them.
    pub columns: Vec<Column>,
    /// Why it cannot be watched, each in a sentence.
    pub faults: Vec<String>,
}

impl Walk<'_, '_, '_> {
    /// Compiles an entry of kind `change`.
    pub(super) fn watch_of(&mut self, watch: &Watch) -> Option<plan::Watch> {
        statements::known_database(&watch.database, self.known, self.report);
        let row = self.row_of(watch);
        let or_null = |missing: Operation| match watch.of.contains(&missing) {
            false => row.clone(),
            true => row.clone().or(Type::Null),
        };
        let of = Type::union(watch.of.iter().map(|of| Type::text(of.name())));
        let change = Type::object([("of", of), ("at", Type::INSTANT)]);
        let types = [or_null(Operation::Insert), or_null(Operation::Delete), change];
        let names = [0, 1, 2].map(|at: usize| (watch::SLOT + at as u32, watch::NAMES[at], types[at].clone()));
        let mut outside = Outside::default();
        for (slot, name, of) in &names {
            outside.knows_at(name, *slot, of.clone());
        }
        let when = watch.when.as_ref().map(|when| self.condition_outside("when", when, names));
        let send = watch.send.as_ref().map(|send| self.sent_in(watch.at, send, &outside));
        Some(plan::Watch {
            table: watch.table.text.clone(),
            database: watch.database.text.clone(),
            of: watch.of.clone(),
            when: when.map_or(Some(None), |when| when.map(Some))?,
            send: send.map_or(Some(None), |send| send.map(Some))?,
        })
    }

    /// The type of a row: as its database reports the table, else as a document describes it.
    fn row_of(&mut self, watch: &Watch) -> Type {
        let (database, table) = (&watch.database.text, &watch.table);
        let of = |columns: &[Column]| {
            row(columns.iter().map(|one| (one.name.as_str(), one.type_name.as_str(), one.nullable)))
        };
        if let Some(known) = self.known {
            let Some(found) = known.watched.get(&(database.clone(), table.text.clone())) else { return Type::Unknown };
            for fault in &found.faults {
                self.report.error(
                    "unwatchable-table",
                    table.at,
                    format!("`{}` cannot be watched: {fault}", table.text),
                );
            }
            return if found.columns.is_empty() { Type::Unknown } else { of(&found.columns) };
        }
        let Some(described) = self.databases.get(database) else { return Type::Unknown };
        match described.tables.get(&table.text) {
            Some(columns) => of(columns),
            None => {
                let message = format!("`{database}` has no table `{}`", table.text);
                self.report.error("unknown-table", table.at, message);
                match suggest::nearest(&table.text, described.tables.keys().map(String::as_str)) {
                    Some(near) => self.report.did_you_mean(near),
                    None => self.report.help(format!(
                        "where it has changed, describe it again: `kanzlei databases describe {database}`"
                    )),
                };
                Type::Unknown
            }
        }
    }
}
