//! SQL statements of `sql` steps: what they do, and which of them are sent.
//!
//! Connections are shared by all workflows, so a statement must leave nothing in one: no variable, no lock, no
//! setting, no open transaction. Every statement is parsed, and what cannot be parsed is refused. Whether its tables and
//! columns exist is for its database to say, when it is deployed.
//!
//! ```
//! use kanzlei_compiler::sql::{Class, judge};
//! let judged = judge("SELECT name FROM vessel WHERE imo = ?", 1, false).expect("a query");
//! assert_eq!(judged.class, Class::Reads);
//! let refused = judge("SET autocommit = 0", 0, false).expect_err("a setting");
//! assert_eq!(refused.message, "`SET` is not sent to databases");
//! ```

pub mod columns;
mod functions;
mod text;

use std::collections::BTreeSet;
use std::ops::ControlFlow;

use serde::{Deserialize, Serialize};
use sqlparser::ast::{
    Expr, Function, FunctionArguments, ObjectName, ObjectNamePart, ObjectType, Query, SetExpr, Statement, TableFactor,
    TableObject, Visit, Visitor,
};
use sqlparser::dialect::MySqlDialect;
use sqlparser::parser::Parser;

use text::{Piece, pieces};
pub(crate) use text::{parameters, tuple, words};

/// The most bytes of a statement.
pub const MAX_TEXT: usize = 64 << 10;
/// The most words, signs and strings of a statement.
pub const MAX_PIECES: usize = 8_000;
/// Statements with fewer parts are parsed on the stack there is.
const FEW_PIECES: usize = 200;
/// The stack for others: a chain of operators is a tree as deep as it is long.
const STACK: usize = 128 << 20;

/// What a statement does to the database.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Class {
    /// Reads.
    Reads,
    /// Changes rows.
    Writes,
    /// Calls a procedure, which may do anything.
    Calls,
    /// Changes tables, views or indexes, and commits the transaction around it.
    Defines,
}

/// What is known of a statement that may be sent.
#[derive(Clone, Debug, PartialEq)]
pub struct Judged {
    /// What it does.
    pub class: Class,
    /// The functions it calls that are not among the usual ones, in lower case.
    pub functions: BTreeSet<String>,
}

/// What statements need that a database's settings must allow.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Needs {
    /// `CALL`.
    pub calls: bool,
    /// Definitions of tables, views and indexes.
    pub definitions: bool,
    /// Functions that are not among the usual ones, in lower case.
    pub functions: BTreeSet<String>,
}

/// What the settings of a database allow beside statements that read and change rows.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Allowed {
    /// `CALL`.
    pub calls: bool,
    /// Definitions of tables, views and indexes.
    pub definitions: bool,
    /// Functions, in lower case.
    pub functions: BTreeSet<String>,
}

/// Why a statement is not sent, and what to write instead.
#[derive(Clone, Debug, PartialEq)]
pub struct Refusal {
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub help: String,
}

impl Needs {
    /// Adds what a statement needs.
    pub fn add(&mut self, judged: &Judged) {
        self.calls |= judged.class == Class::Calls;
        self.definitions |= judged.class == Class::Defines;
        self.functions.extend(judged.functions.iter().cloned());
    }

    /// Whether the statements may leave something in their connection, so that it is used for nothing else.
    pub fn own_connection(&self) -> bool {
        self.calls || self.definitions
    }

    /// The first thing that the settings of the database of this name do not allow.
    pub fn refused_by(&self, name: &str, allowed: &Allowed) -> Option<Refusal> {
        let setting = |what: &str, word: &str| Refusal {
            message: format!("the settings of the database `{name}` do not allow {what}"),
            help: format!("set `databases.{name}.allow` to a list with `{word}` in the service's configuration"),
        };
        if self.calls && !allowed.calls {
            return Some(setting("CALL", "call"));
        }
        if self.definitions && !allowed.definitions {
            return Some(setting("definitions of tables, views and indexes", "define"));
        }
        self.functions.iter().find(|name| !allowed.functions.contains(*name)).map(|function| {
            let near = kanzlei_lang::suggest::nearest(function, functions::FUNCTIONS.iter().copied());
            let help = format!(
                "name it under `databases.{name}.functions` in the service's configuration, if it leaves nothing in the connection"
            );
            Refusal {
                message: format!("statements may not call `{function}` in the database `{name}`"),
                help: near.map_or(help.clone(), |near| format!("did you mean `{near}`? Otherwise {help}")),
            }
        })
    }
}

/// What a statement does, with `?` in place of each of its `parameters`; `transaction` says whether it is one of
/// several in a transaction.
///
/// # Errors
/// Statements that cannot be parsed, and those that are never sent.
pub fn judge(text: &str, parameters: usize, transaction: bool) -> Result<Judged, Refusal> {
    let pieces = pieces(text);
    if text.len() > MAX_TEXT || pieces.len() > MAX_PIECES {
        return Err(Refusal {
            message: format!("a statement has at most {} KiB and {MAX_PIECES} words and signs", MAX_TEXT >> 10),
            help: "bind its values as parameters, or divide it".into(),
        });
    }
    faults(&pieces)?;
    let placeholders = pieces.iter().filter(|(_, piece)| *piece == Piece::Other("?")).count();
    if placeholders != parameters {
        return Err(Refusal {
            message: "`?` stands for no value here".into(),
            help: "name a parameter, `:name`, and set its value under `bind`".into(),
        });
    }
    on_stack(pieces.len(), || parsed(text, transaction))
}

/// Runs work that is as deep as a statement is long.
fn with_stack<T>(text: &str, work: impl FnOnce() -> T) -> T {
    on_stack(pieces(text).len(), work)
}

fn on_stack<T>(pieces: usize, work: impl FnOnce() -> T) -> T {
    if pieces < FEW_PIECES { stacker::maybe_grow(1 << 20, 4 << 20, work) } else { stacker::grow(STACK, work) }
}

/// What must not stand in any statement, however it is parsed.
fn faults(pieces: &[(usize, Piece<'_>)]) -> Result<(), Refusal> {
    let refused = |message: &str, help: &str| Err(Refusal { message: message.into(), help: help.into() });
    let words = || {
        pieces.iter().filter_map(|(_, piece)| match piece {
            Piece::Word(word) => Some(word.to_ascii_uppercase()),
            _ => None,
        })
    };
    let inserts = words().next().is_some_and(|first| first == "INSERT" || first == "REPLACE");
    let mut before = "";
    for (_, piece) in pieces {
        match piece {
            Piece::Comment { executable: true, .. } => {
                return refused(
                    "the database would run this comment",
                    "write its text without `/*!` and `*/`, or remove it",
                );
            }
            Piece::Comment { whole: false, .. } => return refused("a comment has no end", "end it with `*/`"),
            Piece::Other("@") => {
                return refused(
                    "variables of the connection are shared with other runs",
                    "bind a value with `:name`, or read it in an earlier step",
                );
            }
            Piece::Other("-") if before == "-" => {
                return refused("`--` begins no comment here", "write `-- ` with a space, or `- -`");
            }
            _ => {}
        }
        before = if let Piece::Other(sign) = piece { sign } else { "" };
    }
    let into = words().filter(|word| word == "INTO").count();
    if into > usize::from(inserts) || words().any(|word| word == "OUTFILE" || word == "DUMPFILE") {
        return refused("a statement writes into no file or variable", "return the rows, and use them in a later step");
    }
    Ok(())
}

fn parsed(text: &str, transaction: bool) -> Result<Judged, Refusal> {
    let mut statements = Parser::parse_sql(&MySqlDialect {}, text).map_err(|error| {
        let why = error.to_string();
        let why = why.strip_prefix("sql parser error: ").unwrap_or(&why);
        Refusal {
            message: format!("the statement cannot be parsed: {why}"),
            help: "only statements that can be parsed are sent; write this one in a simpler form".into(),
        }
    })?;
    let statement = match (statements.pop(), statements.is_empty()) {
        (Some(statement), true) => statement,
        _ => {
            let help = "write a list, `statements:`, for several; they are one transaction".into();
            return Err(Refusal { message: "a statement is one statement".into(), help });
        }
    };
    let class = class(&statement).ok_or_else(|| {
        let first = words(text).first().map(|word| word.to_uppercase()).unwrap_or_default();
        Refusal {
            message: format!("`{first}` is not sent to databases"),
            help: "SELECT, INSERT, UPDATE, DELETE and REPLACE are; CALL and definitions of tables, views and indexes where `databases.NAME.allow` in the service's configuration says so".into(),
        }
    })?;
    let mut seen = Calls { functions: BTreeSet::new(), transaction };
    if let ControlFlow::Break(message) = statement.visit(&mut seen) {
        return Err(Refusal { message, help: "write the statement in a simpler form".into() });
    }
    Ok(Judged { class, functions: seen.functions })
}

/// What a statement does; nothing for one that is never sent.
fn class(statement: &Statement) -> Option<Class> {
    let defines = |kind: &ObjectType| matches!(kind, ObjectType::Table | ObjectType::View | ObjectType::Index);
    match statement {
        Statement::Query(query) => Some(body_class(&query.body)),
        Statement::Insert(insert) => matches!(insert.table, TableObject::TableName(_)).then_some(Class::Writes),
        Statement::Update(_) | Statement::Delete(_) => Some(Class::Writes),
        Statement::Call(_) => Some(Class::Calls),
        Statement::CreateTable(_)
        | Statement::CreateIndex(_)
        | Statement::CreateView(_)
        | Statement::AlterTable(_)
        | Statement::Truncate(_)
        | Statement::RenameTable(_) => Some(Class::Defines),
        Statement::Drop { object_type, .. } => defines(object_type).then_some(Class::Defines),
        _ => None,
    }
}

/// A query writes when its body, behind `WITH`, does.
fn body_class(body: &SetExpr) -> Class {
    match body {
        SetExpr::Insert(_) | SetExpr::Update(_) | SetExpr::Delete(_) | SetExpr::Merge(_) => Class::Writes,
        SetExpr::Query(query) => body_class(&query.body),
        SetExpr::SetOperation { left, right, .. } => body_class(left).max(body_class(right)),
        SetExpr::Select(_) | SetExpr::Values(_) | SetExpr::Table(_) => Class::Reads,
    }
}

/// Collects the functions that a statement calls.
struct Calls {
    functions: BTreeSet<String>,
    transaction: bool,
}

impl Calls {
    fn call(&mut self, function: &Function) {
        let name = plain(&function.name);
        let usual = name.as_deref().is_some_and(|name| functions::FUNCTIONS.binary_search(&name).is_ok());
        // The id that an earlier statement of the same transaction made.
        let made = self.transaction && name.as_deref() == Some("last_insert_id") && has_no_arguments(function);
        if !usual && !made {
            self.functions.insert(name.unwrap_or_else(|| function.name.to_string().to_lowercase()));
        }
    }
}

impl Visitor for Calls {
    type Break = String;

    fn pre_visit_expr(&mut self, expr: &Expr) -> ControlFlow<String> {
        if let Expr::Function(function) = expr {
            self.call(function);
        }
        ControlFlow::Continue(())
    }

    fn pre_visit_query(&mut self, query: &Query) -> ControlFlow<String> {
        let foreign = query.for_clause.is_some()
            || query.settings.is_some()
            || query.format_clause.is_some()
            || !query.pipe_operators.is_empty();
        if foreign {
            ControlFlow::Break("this clause belongs to another database".into())
        } else {
            ControlFlow::Continue(())
        }
    }

    fn pre_visit_table_factor(&mut self, factor: &TableFactor) -> ControlFlow<String> {
        match factor {
            TableFactor::Table { args: None, .. }
            | TableFactor::Derived { .. }
            | TableFactor::JsonTable { .. }
            | TableFactor::NestedJoin { .. } => ControlFlow::Continue(()),
            _ => ControlFlow::Break("rows come from tables, queries and JSON_TABLE only".into()),
        }
    }
}

/// A name of one part, in lower case.
fn plain(name: &ObjectName) -> Option<String> {
    match name.0.as_slice() {
        [ObjectNamePart::Identifier(one)] if one.quote_style.is_none() => Some(one.value.to_lowercase()),
        _ => None,
    }
}

fn has_no_arguments(function: &Function) -> bool {
    match &function.args {
        FunctionArguments::None => true,
        FunctionArguments::List(list) => list.args.is_empty() && list.clauses.is_empty(),
        FunctionArguments::Subquery(_) => false,
    }
}

#[cfg(test)]
mod tests;
