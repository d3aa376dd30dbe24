//! Statements: what the body of a script and of a function with braces is made of.
//!
//! They are ECMAScript's, with its semantics: lists and objects that a script makes have an identity and can be
//! changed; two names of the same list see the same items. What comes from outside of the script never changes,
//! as if it were frozen, and writing to it is an error. What a script returns is a value like all others again.
//! There is no input or output, no clock, and no recursion: a script ends, or its budget ends it.
//!
//! The compiled form stands here; `syntax::statements` makes it, [`run`](self) executes it, `heap` holds the lists and objects that
//! can still change, `change` has the methods that change lists. This module may not know documents or steps.
//!
//! ```
//! use kanzlei_lang::expr::{Expression, Limits, Scope};
//!
//! let text = "const sums = []; let sum = 0; for (const n of [3, 4, 5]) { sum += n; sums.push(sum); } return sums;";
//! let script = Expression::script(text, &Scope::default()).unwrap();
//! assert_eq!(script.eval(&[], Limits::script()).unwrap().to_json(), "[3,7,12]");
//! ```

mod change;
pub(super) mod grow;
pub(super) mod heap;
mod run;

use std::collections::{HashMap, HashSet};

use super::ast::{Arrow, BinaryOp, Expr, LogicalOp, Span, Target};
use crate::types::Type;
use kanzlei_model::value::Str;

/// The statements of a script or of a function.
#[derive(Clone, Debug)]
pub struct Body {
    /// The statements.
    pub statements: Vec<Statement>,
    /// Its names, for showing their values where it fails.
    pub names: Vec<Shown>,
    /// Whether it has a `return` with a value.
    pub returns: bool,
    /// What can be run in it: statements, and the ways out of conditions that have no statement.
    pub points: Vec<Point>,
}

impl Body {
    /// The name of each point: `line 3`, with its column behind another of that line, and `line 3, not` where a condition does not
    /// hold. Columns count characters from 1.
    pub fn point_names(&self, text: &str) -> Vec<String> {
        let places = places(text, self.points.iter().map(|point| point.at.start));
        let mut seen = HashSet::new();
        let name = |point: &Point| {
            let (line, column) = places.get(&point.at.start).copied().unwrap_or((1, 1));
            let column = match seen.insert((line, point.kind)) {
                true => String::new(),
                false => format!(", column {column}"),
            };
            let not = if point.kind == PointKind::Otherwise { ", not" } else { "" };
            format!("line {line}{column}{not}")
        };
        self.points.iter().map(name).collect()
    }
}

/// Line and column of byte positions, both from 1, in one walk through the text.
fn places(text: &str, wanted: impl Iterator<Item = u32>) -> HashMap<u32, (usize, usize)> {
    let mut wanted: Vec<u32> = wanted.collect();
    wanted.sort_unstable();
    let mut wanted = wanted.into_iter().peekable();
    let (mut out, mut line, mut column) = (HashMap::new(), 1, 1);
    for (at, c) in text.char_indices() {
        while let Some(known) = wanted.next_if(|known| *known as usize <= at) {
            out.insert(known, (line, column));
        }
        (line, column) = if c == '\n' { (line + 1, 1) } else { (line, column + 1) };
    }
    out
}

/// A name whose value can be shown.
#[derive(Clone, Debug)]
pub struct Shown {
    /// Its slot.
    pub slot: u32,
    /// The name.
    pub name: Str,
    /// Where it is declared.
    pub at: Span,
    /// Where it can be read.
    pub within: Span,
}

/// A place in a script that a run reaches or not.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Point {
    /// Where it stands in the text.
    pub at: Span,
    /// What it is.
    pub kind: PointKind,
}

/// What a point of a script is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum PointKind {
    /// A statement.
    Statement,
    /// The condition of an `if` without `else` does not hold.
    Otherwise,
}

/// A statement.
#[derive(Clone, Debug)]
pub struct Statement {
    /// What it is.
    pub kind: StatementKind,
    /// Where it stands in the text.
    pub at: Span,
    /// Its point in the body.
    pub point: u32,
}

/// What a statement is.
#[derive(Clone, Debug)]
pub enum StatementKind {
    /// `const` or `let` with what it is given, `undefined` without, and the type it is declared to have.
    Define(Target, Option<Expr>, Option<Box<Type>>),
    /// An expression that is run for its effect.
    Run(Expr),
    /// `{ … }`.
    Block(Vec<Statement>),
    /// `if (a) b else c`, and the point of the missing `else`.
    If(Box<(Expr, Statement, Option<Statement>)>, u32),
    /// `while (a) b`, `do b while (a)` and `for (…; a; c) b`.
    Loop(Box<Loop>),
    /// `for (const a of b) c`.
    ForOf(Box<ForOf>),
    /// `switch (a) { … }`.
    Switch(Box<Switch>),
    /// `break`, with the number of the statement that it ends.
    Break(u32),
    /// `continue`, with the number of the loop.
    Continue(u32),
    /// `return a`.
    Return(Option<Expr>),
    /// `throw a`.
    Throw(Expr),
    /// `try { … } catch (e) { … } finally { … }`.
    Try(Box<Try>),
}

/// A loop with a condition.
#[derive(Clone, Debug)]
pub struct Loop {
    /// What runs before it.
    pub first: Vec<Statement>,
    /// Whether the body runs once before the condition is read.
    pub body_first: bool,
    /// The condition; without one it runs until it is ended.
    pub test: Option<Expr>,
    /// What runs behind each round.
    pub update: Option<Expr>,
    /// The body.
    pub body: Statement,
    /// Its number.
    pub number: u32,
}

/// A loop over items.
#[derive(Clone, Debug)]
pub struct ForOf {
    /// What each item is bound to.
    pub target: Target,
    /// The list or the text.
    pub of: Expr,
    /// The body.
    pub body: Statement,
    /// Its number.
    pub number: u32,
}

/// A choice among values.
#[derive(Clone, Debug)]
pub struct Switch {
    /// The value.
    pub on: Expr,
    /// The cases in order; the one without a value is `default`.
    pub cases: Vec<(Option<Expr>, Vec<Statement>)>,
    /// Its number.
    pub number: u32,
}

/// A statement whose errors are caught.
#[derive(Clone, Debug)]
pub struct Try {
    /// What is tried.
    pub body: Vec<Statement>,
    /// What the error is bound to, and what runs then.
    pub catch: Option<(Option<Target>, Vec<Statement>)>,
    /// What runs in any case.
    pub last: Vec<Statement>,
}

/// A function that is defined within statements. It sees the names around it, and shares their values.
#[derive(Debug)]
pub struct Inline {
    /// Its name.
    pub name: Str,
    /// The function.
    pub arrow: Arrow,
    /// How deep its evaluation nests.
    pub height: u32,
}

/// What a value is assigned to.
#[derive(Clone, Debug)]
pub enum Assignee {
    /// A local name, and whether it may be a text that is appended to.
    Local(u32, bool),
    /// A member of an object, or an item of a list.
    Member(Expr, Expr),
    /// Local names, by a pattern.
    Pattern(Target),
}

/// An assignment.
#[derive(Clone, Debug)]
pub struct Assign {
    /// What is assigned to.
    pub to: Assignee,
    /// `+=`, `??=` and others.
    pub op: Option<AssignOp>,
    /// The value.
    pub value: Expr,
    /// Where that stands which is assigned to.
    pub at: Span,
}

/// What an assignment does with the value that was there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AssignOp {
    /// Computes with it.
    Binary(BinaryOp),
    /// Assigns only where the operator reads its second operand.
    Logical(LogicalOp),
}

/// `++` or `--`.
#[derive(Clone, Debug)]
pub struct Update {
    /// What is changed.
    pub to: Assignee,
    /// 1 or -1.
    pub by: i64,
    /// Whether the new value is the result.
    pub prefix: bool,
    /// Where that stands which is changed.
    pub at: Span,
}
