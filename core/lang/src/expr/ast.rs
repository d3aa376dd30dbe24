//! The compiled form of an expression: names are slots, methods and functions are looked up, patterns
//! are built. It is what [`super::syntax`] makes and [`super::eval`] runs; it holds no text of its own
//! but positions into the expression it came from.

use std::sync::Arc;

use super::functions::{Method, Static};
use super::pattern::Pattern;
use kanzlei_model::value::{Str, Value};

/// Byte range in the expression's text.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Span {
    pub start: u32,
    pub end: u32,
}

#[derive(Clone, Debug)]
pub struct Expr {
    pub kind: Kind,
    pub at: Span,
}

#[derive(Clone, Debug)]
pub enum Kind {
    Const(Value),
    /// A name of the workflow: `input`, `run`, a step's id, a `let` name.
    Slot(u32),
    /// A parameter of an arrow function. Arrow functions exist only as arguments, so each parameter
    /// has one fixed place for as long as the function can be running.
    Local(u32),
    /// Texts and what stands between them; always one more text than expressions.
    Template(Vec<Str>, Vec<Expr>),
    List(Vec<Item>),
    Object(Vec<Property>),
    Member {
        of: Box<Expr>,
        name: Str,
        optional: bool,
    },
    Index {
        of: Box<Expr>,
        key: Box<Expr>,
        optional: bool,
    },
    /// The extent of an optional chain: where `?.` meets nothing, all of it is `undefined`.
    Chain(Box<Expr>),
    Unary(UnaryOp, Box<Expr>),
    Binary(BinaryOp, Box<(Expr, Expr)>),
    Logical(LogicalOp, Box<(Expr, Expr)>),
    Conditional(Box<(Expr, Expr, Expr)>),
    Method(Box<MethodCall>),
    /// `/pattern/.test(text)` and `/pattern/.exec(text)`.
    Match {
        pattern: Arc<Pattern>,
        text: Box<Expr>,
        test: bool,
    },
    Static(Static, Vec<Arg>),
    /// A function of the document.
    Call(Arc<Named>, Vec<Arg>),
}

#[derive(Clone, Debug)]
pub enum Item {
    One(Expr),
    Spread(Expr),
}

#[derive(Clone, Debug)]
pub enum Property {
    Named(Str, Expr),
    Computed(Expr, Expr),
    Spread(Expr),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum UnaryOp {
    Plus,
    Minus,
    Not,
    BitNot,
    TypeOf,
    Void,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum BinaryOp {
    LooseEq,
    LooseNe,
    Eq,
    Ne,
    Lt,
    Le,
    Gt,
    Ge,
    Add,
    Sub,
    Mul,
    Div,
    Rem,
    Pow,
    Shl,
    Shr,
    UShr,
    BitOr,
    BitXor,
    BitAnd,
    In,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LogicalOp {
    And,
    Or,
    Coalesce,
}

#[derive(Clone, Debug)]
pub struct MethodCall {
    pub on: Expr,
    pub method: Method,
    pub args: Vec<Arg>,
    /// `on?.method()`
    pub optional: bool,
}

#[derive(Clone, Debug)]
pub enum Arg {
    Value(Expr),
    Spread(Expr),
    Function(Function),
    Pattern(Arc<Pattern>),
}

/// Something callable that a method was given.
#[derive(Clone, Debug)]
pub enum Function {
    Arrow(Arc<Arrow>),
    Static(Static),
    Named(Arc<Named>),
}

/// A function of the document: an arrow function with a name, which sees its parameters and the
/// functions before it, and nothing else. So none can call itself.
#[derive(Debug)]
pub struct Named {
    pub name: Str,
    pub text: Str,
    pub arrow: Arrow,
    /// Places its parameters and those of the arrow functions in it take.
    pub locals: u32,
    /// How deep its evaluation nests, the functions it calls included.
    pub height: u32,
}

#[derive(Clone, Debug)]
pub struct Arrow {
    pub params: Vec<Param>,
    pub body: Expr,
}

#[derive(Clone, Debug)]
pub struct Param {
    pub target: Target,
    pub default: Option<Expr>,
    pub rest: bool,
}

/// What a parameter binds.
#[derive(Clone, Debug)]
pub enum Target {
    Local(u32),
    Object { members: Vec<(Expr, Target, Option<Expr>)>, rest: Option<u32> },
    List { items: Vec<Option<(Target, Option<Expr>)>>, rest: Option<Box<Target>> },
}
