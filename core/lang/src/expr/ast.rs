//! The compiled form of an expression: names are slots, methods and functions are looked up, patterns
//! are built. It is what [`super::syntax`] makes and [`super::eval`] runs; it holds no text of its own
//! but positions into the expression it came from.

use std::sync::Arc;

use super::functions::{Change, Method, Static};
use super::pattern::Pattern;
pub use super::script::{Assign, Assignee, Body, Inline, Point, Statement, StatementKind, Update};
use crate::types::Type;
use kanzlei_model::value::{Str, Value};

/// Byte range in the expression's text.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Span {
    /// Byte offset of the start.
    pub start: u32,
    /// Byte offset of the end.
    pub end: u32,
}

/// An expression.
#[derive(Clone, Debug)]
pub struct Expr {
    /// What it is.
    pub kind: Kind,
    /// Where it stands in the text.
    pub at: Span,
}

/// What an expression is.
#[derive(Clone, Debug)]
pub enum Kind {
    /// A constant.
    Const(Value),
    /// A name of the workflow: `input`, `run`, a step's id, a `let` name.
    Slot(u32),
    /// A parameter of an arrow function. Arrow functions exist only as arguments, so each parameter
    /// has one fixed place for as long as the function can be running.
    Local(u32),
    /// A name of a script whose text may be in a buffer, as it is appended to.
    Growing(u32),
    /// Texts and what stands between them; always one more text than expressions.
    Template(Vec<Str>, Vec<Expr>),
    /// A list literal.
    List(Vec<Item>),
    /// An object literal.
    Object(Vec<Property>),
    /// A member by name: `a.b`.
    Member {
        /// The value that is read.
        of: Box<Expr>,
        /// Name of the member.
        name: Str,
        /// Whether it is `?.`.
        optional: bool,
    },
    /// A member by a computed key: `a[b]`.
    Index {
        /// The value that is read.
        of: Box<Expr>,
        /// The key.
        key: Box<Expr>,
        /// Whether it is `?.[`.
        optional: bool,
    },
    /// The extent of an optional chain: where `?.` meets nothing, all of it is `undefined`.
    Chain(Box<Expr>),
    /// `a as T`: the value, which must be of the type.
    As(Box<Expr>, Arc<Wanted>),
    /// An operator with one operand.
    Unary(UnaryOp, Box<Expr>),
    /// An operator with two operands, both evaluated.
    Binary(BinaryOp, Box<(Expr, Expr)>),
    /// An operator that evaluates its second operand only where needed.
    Logical(LogicalOp, Box<(Expr, Expr)>),
    /// `a ? b : c`.
    Conditional(Box<(Expr, Expr, Expr)>),
    /// A method call.
    Method(Box<MethodCall>),
    /// `/pattern/.test(text)` and `/pattern/.exec(text)`.
    Match {
        /// The pattern.
        pattern: Arc<Pattern>,
        /// The text.
        text: Box<Expr>,
        /// Whether only a boolean is wanted.
        test: bool,
    },
    /// A function of a namespace: `Math.max(a, b)`.
    Static(Static, Vec<Arg>),
    /// A function of the document.
    Call(Arc<Named>, Vec<Arg>),
    /// Statements; what they return, else `undefined`.
    Body(Arc<Body>),
    /// An assignment; what was assigned.
    Assign(Box<Assign>),
    /// `++` or `--`.
    Update(Box<Update>),
    /// `delete a.b`: whether there is no such member afterwards, which is always so.
    Delete(Box<(Expr, Expr)>),
    /// A method that changes the list it is called on, or only looks at it for its effect.
    Change(Box<ChangeCall>),
    /// A function that the statements around it define.
    Inline(Arc<Inline>, Vec<Arg>),
    /// `new Error(text)`: an object with the name of the error and its message.
    Error(&'static str, Box<Expr>),
    /// Expressions one after another; the value of the last.
    Sequence(Vec<Expr>),
}

/// The type that `as` asks for.
#[derive(Clone, Debug)]
pub struct Wanted {
    /// As it is written.
    pub name: Str,
    /// What it stands for.
    pub of: crate::types::Type,
}

/// An item of a list literal.
#[derive(Clone, Debug)]
pub enum Item {
    /// A single item.
    One(Expr),
    /// `...a`.
    Spread(Expr),
}

/// A member of an object literal.
#[derive(Clone, Debug)]
pub enum Property {
    /// `name: a`.
    Named(Str, Expr),
    /// `[name]: a`.
    Computed(Expr, Expr),
    /// `...a`.
    Spread(Expr),
}

/// Operators with one operand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum UnaryOp {
    /// `+`.
    Plus,
    /// `-`.
    Minus,
    /// `!`.
    Not,
    /// `~`.
    BitNot,
    /// `typeof`.
    TypeOf,
    /// `void`.
    Void,
}

/// Operators with two operands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum BinaryOp {
    /// `==`.
    LooseEq,
    /// `!=`.
    LooseNe,
    /// `===`.
    Eq,
    /// `!==`.
    Ne,
    /// `<`.
    Lt,
    /// `<=`.
    Le,
    /// `>`.
    Gt,
    /// `>=`.
    Ge,
    /// `+`.
    Add,
    /// `-`.
    Sub,
    /// `*`.
    Mul,
    /// `/`.
    Div,
    /// `%`.
    Rem,
    /// `**`.
    Pow,
    /// `<<`.
    Shl,
    /// `>>`.
    Shr,
    /// `>>>`.
    UShr,
    /// `|`.
    BitOr,
    /// `^`.
    BitXor,
    /// `&`.
    BitAnd,
    /// `in`.
    In,
}

impl BinaryOp {
    /// Whether it compares: what it returns is a boolean.
    pub fn compares(self) -> bool {
        use BinaryOp::*;
        matches!(self, LooseEq | LooseNe | Eq | Ne | Lt | Le | Gt | Ge)
    }
}

/// Operators that may skip their second operand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LogicalOp {
    /// `&&`.
    And,
    /// `||`.
    Or,
    /// `??`.
    Coalesce,
}

/// A call of a method.
#[derive(Clone, Debug)]
pub struct MethodCall {
    /// The value it is called on.
    pub on: Expr,
    /// The method.
    pub method: Method,
    /// The arguments.
    pub args: Vec<Arg>,
    /// `on?.method()`
    pub optional: bool,
}

/// A call of a method that changes a list.
#[derive(Clone, Debug)]
pub struct ChangeCall {
    /// The list.
    pub on: Expr,
    /// The method.
    pub change: Change,
    /// The arguments.
    pub args: Vec<Arg>,
    /// `on?.method()`
    pub optional: bool,
}

/// An argument.
#[derive(Clone, Debug)]
pub enum Arg {
    /// A value.
    Value(Expr),
    /// `...a`.
    Spread(Expr),
    /// A function.
    Function(Function),
    /// A regular expression.
    Pattern(Arc<Pattern>),
}

/// Something callable that a method was given.
#[derive(Clone, Debug)]
pub enum Function {
    /// An arrow function written in place.
    Arrow(Arc<Arrow>),
    /// A function of a namespace, passed by name.
    Static(Static),
    /// A function of the workflow.
    Named(Arc<Named>),
    /// A function that the statements around it define.
    Inline(Arc<Inline>),
}

/// A function of the document: an arrow function with a name, which sees its parameters and the
/// functions before it, and nothing else. So none can call itself.
#[derive(Debug)]
pub struct Named {
    /// The name of the function.
    pub name: Str,
    /// Its text.
    pub text: Str,
    /// The function.
    pub arrow: Arrow,
    /// Slots of its parameters and of those of the arrow functions in it.
    pub locals: u32,
    /// How deep its evaluation nests, the functions it calls included.
    pub height: u32,
    /// The functions it calls, each with the place of its name in the text.
    pub calls: Vec<(Str, Span)>,
}

impl Named {
    /// What can be run in it, where its body is statements.
    pub fn points(&self) -> Option<&[Point]> {
        match &self.arrow.body.kind {
            Kind::Body(body) => Some(&body.points),
            _ => None,
        }
    }
}

/// An arrow function.
#[derive(Clone, Debug)]
pub struct Arrow {
    /// The parameters.
    pub params: Vec<Param>,
    /// The expression it returns.
    pub body: Expr,
    /// The type that it is declared to return.
    pub returns: Option<Type>,
    /// Its one parameter, where what it returns may be computed without an evaluation.
    pub quick: Option<u32>,
}

impl Arrow {
    /// The least and the most arguments.
    pub fn arity(&self) -> (usize, usize) {
        let least = self.params.iter().position(|param| param.default.is_some() || param.rest);
        let most = if self.params.last().is_some_and(|param| param.rest) { usize::MAX } else { self.params.len() };
        (least.unwrap_or(self.params.len()), most)
    }
}

/// A parameter.
#[derive(Clone, Debug)]
pub struct Param {
    /// What the argument is bound to.
    pub target: Target,
    /// Value of a missing argument.
    pub default: Option<Expr>,
    /// Whether it accepts all further arguments.
    pub rest: bool,
    /// The type it is declared to have.
    pub wanted: Option<Type>,
}

/// What a parameter binds.
#[derive(Clone, Debug)]
pub enum Target {
    /// A local name, by slot.
    Local(u32),
    /// An object pattern.
    Object {
        /// Keys, targets and defaults.
        members: Vec<(Expr, Target, Option<Expr>)>,
        /// Whether it accepts all further arguments.
        rest: Option<u32>,
    },
    /// A list pattern.
    List {
        /// Targets and defaults; nothing where an item is skipped.
        items: Vec<Option<(Target, Option<Expr>)>>,
        /// Whether it accepts all further arguments.
        rest: Option<Box<Target>>,
    },
}
