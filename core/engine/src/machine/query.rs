//! Statements in the machine: values into their places, rows into results. No SQL is read here; the
//! checker replaced the named parameters by placeholders ([`kanzlei_compiler::check`]).

use std::sync::Arc;
use std::time::Duration;

use super::flow::{Awaits, Fibre, Flow, What};
use super::{Effect, EffectError, Failure, FileRows, Machine, State};
use kanzlei_compiler::plan::rows::Writing;
use kanzlei_compiler::plan::{self, Statement};
use kanzlei_compiler::sql::Needs;
use kanzlei_lang::expr::{self, ops};
use kanzlei_model::run::FailureKind;
use kanzlei_model::value::Value;

/// The most values one statement is sent with.
pub const MAX_VALUES: usize = 10_000;

/// Statements for one database.
#[derive(Clone, Debug, PartialEq)]
pub struct Query {
    /// The database's name.
    pub database: String,
    /// The statements, in order.
    pub statements: Vec<Sql>,
    /// All or none of them.
    pub transaction: bool,
    /// How long they may take together.
    pub within: Duration,
    /// Whether a job performs it once, however often it is asked for.
    pub once: bool,
    /// What the settings of the database must allow.
    pub needs: Arc<Needs>,
    /// The rows for each of which the statement is performed, in one transaction.
    pub load: Option<Load>,
    /// The file that the rows become which the statement returns: [`super::Outcome::Filed`].
    pub into: Option<FileInto>,
}

/// Rows that a statement is performed for.
#[derive(Clone, Debug, PartialEq)]
pub struct Load {
    /// The rows.
    pub rows: FileRows,
    /// The value of each placeholder, in order.
    pub values: Vec<Filled>,
    /// Where the values of one row stand in the text, when several can be sent together.
    pub tuple: Option<std::ops::Range<usize>>,
}

/// The value of a placeholder.
#[derive(Clone, Debug, PartialEq)]
pub enum Filled {
    /// The same for all rows.
    Bound(Value),
    /// A member of the row.
    Member(kanzlei_model::value::Str),
}

impl Load {
    /// The values of a row.
    pub fn of(&self, row: &Value) -> Vec<Value> {
        let one = |filled: &Filled| match filled {
            Filled::Bound(value) => value.clone(),
            Filled::Member(name) => row.member(name).map_or(Value::Null, plain),
        };
        self.values.iter().map(one).collect()
    }
}

/// A file of rows.
#[derive(Clone, Debug, PartialEq)]
pub struct FileInto {
    /// How they are written.
    pub writing: Arc<Writing>,
    /// Its name.
    pub name: String,
}

/// A statement with `?` for each value, in order.
#[derive(Clone, Debug, PartialEq)]
pub struct Sql {
    /// The text, with `?` for each value.
    pub text: String,
    /// Null, booleans, numbers and texts.
    pub values: Vec<Value>,
    /// The values by the names of their parameters, for stubs and journals.
    pub bound: Value,
}

/// What one statement returned.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Rows {
    /// Objects by column name; empty for a statement that returns none.
    pub rows: Vec<Value>,
    /// Rows given, or changed.
    pub count: u64,
    /// The id the database made for an inserted row.
    pub id: Option<i64>,
}

impl Rows {
    fn into_value(self) -> Value {
        Value::object([
            ("rows", Value::list(self.rows)),
            ("count", Value::Int(self.count as i64)),
            ("id", self.id.map_or(Value::Null, Value::Int)),
        ])
    }
}

impl Machine {
    pub(super) fn start_query(
        &mut self,
        at: usize,
        fibre: &mut Fibre,
        sql: &plan::Sql,
        record: usize,
    ) -> Result<Flow, Box<expr::EvalError>> {
        let mut statements = Vec::with_capacity(sql.statements.len());
        let mut load = None;
        let into = match &sql.into {
            None => None,
            Some((writing, name)) => {
                let name = match name {
                    Some(name) => ops::to_text(&name.make(&fibre.slots, self.limits())?).to_string(),
                    None => format!("rows.{}", writing.format.word()),
                };
                Some(FileInto { writing: writing.clone(), name })
            }
        };
        for (statement, makers) in &sql.statements {
            let mut values = Vec::with_capacity(makers.len());
            for (name, maker) in makers {
                values.push((name.clone(), maker.make(&fibre.slots, self.limits())?));
            }
            if let Some(from) = &sql.from {
                let list = from.list.eval(&fibre.slots, self.limits())?;
                match loaded(statement, &values, from, list) {
                    Ok((sql, rows)) => {
                        statements.push(sql);
                        load = Some(rows);
                    }
                    Err(detail) => {
                        return Ok(self.step_failed(fibre, record, Failure::new(FailureKind::Input, detail)));
                    }
                }
                continue;
            }
            let filled = fill(statement, &values);
            if filled.values.len() > MAX_VALUES {
                let detail = format!("{} values for one statement; at most {MAX_VALUES}", filled.values.len());
                return Ok(self.step_failed(fibre, record, Failure::new(FailureKind::Sql, detail)));
            }
            statements.push(filled);
        }
        let shown =
            |sql: &Sql| Value::object([("statement", Value::text(sql.text.as_str())), ("bind", sql.bound.clone())]);
        self.records[record].sent = match statements.as_slice() {
            [one] if !sql.transaction => shown(one),
            several => Value::list(several.iter().map(shown).collect()),
        };
        let query = Query {
            database: sql.database.clone(),
            statements,
            transaction: sql.transaction || load.is_some(),
            within: sql.within,
            once: sql.once,
            needs: sql.needs.clone(),
            load,
            into,
        };
        let id = self.ask(at, Effect::Query(Box::new(query)));
        fibre.awaits = Awaits::Effect { id, record: Some(record), what: What::Query };
        Ok(Flow::Waits)
    }

    pub(super) fn queried(&mut self, fibre: &mut Fibre, record: usize, result: Result<Vec<Rows>, EffectError>) -> Flow {
        let several = matches!(
            self.step_of(record).map(|step| &step.action),
            Some(plan::Action::Sql(sql)) if sql.transaction
        );
        match result {
            Ok(mut rows) => {
                let value = if several {
                    Value::list(rows.into_iter().map(Rows::into_value).collect())
                } else {
                    rows.pop().unwrap_or_default().into_value()
                };
                self.close(fibre, record, State::Succeeded, value);
                Flow::On
            }
            Err(fault) => self.step_failed(fibre, record, Failure::of_files(fault)),
        }
    }
}

/// A statement that is performed for each of many rows.
fn loaded(
    statement: &Statement,
    bound: &[(kanzlei_model::value::Str, Value)],
    from: &plan::From,
    list: Value,
) -> Result<(Sql, Load), String> {
    let rows = match &from.rows {
        Some(reading) => FileRows::Read(super::file::files_in(&list)?, reading.clone()),
        None if list.as_list().is_some() => FileRows::List(list),
        None => return Err(format!("`from` is {}, not a list", list.kind())),
    };
    let filled = statement.parameters.iter().map(|parameter| match bound.get(*parameter) {
        Some((_, value)) => Filled::Bound(plain(value)),
        None => match from.members.get(parameter - bound.len()) {
            Some(name) => Filled::Member(name.clone()),
            None => Filled::Bound(Value::Null),
        },
    });
    let values = filled.collect();
    let sql = Sql { text: statement.prepared(), values: Vec::new(), bound: Value::object(bound.iter().cloned()) };
    Ok((sql, Load { rows, values, tuple: from.tuple.clone() }))
}

/// Puts values into a statement: a list fills as many places as it has items, none of them `NULL`.
fn fill(statement: &Statement, bound: &[(kanzlei_model::value::Str, Value)]) -> Sql {
    let mut text = statement.texts[0].clone();
    let mut values = Vec::new();
    for (parameter, after) in statement.parameters.iter().zip(&statement.texts[1..]) {
        match bound.get(*parameter).map(|(_, value)| value) {
            Some(Value::List(list)) if list.items().is_empty() => text.push_str("NULL"),
            Some(Value::List(list)) => {
                text.push_str(&vec!["?"; list.items().len()].join(", "));
                values.extend(list.items().iter().map(plain));
            }
            Some(value) => {
                text.push('?');
                values.push(plain(value));
            }
            None => text.push_str("NULL"),
        }
        text.push_str(after);
    }
    Sql { text, values, bound: Value::object(bound.iter().cloned()) }
}

/// What a database accepts: objects and lists inside lists become JSON text.
fn plain(value: &Value) -> Value {
    match value {
        Value::Undefined => Value::Null,
        Value::List(_) | Value::Object(_) => Value::text(value.to_json()),
        other => other.clone(),
    }
}
