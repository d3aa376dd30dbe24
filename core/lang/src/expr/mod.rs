//! The expression language: a total subset of ECMAScript expressions.
//!
//! What is in it reads and behaves as in ECMA-262; what is not is refused by name and position when it
//! is compiled. Expressions have no side effects and always terminate: there are no
//! loops or recursion, and every evaluation has a budget ([`Limits`]).
//!
//! The rooms, in the order an expression passes through them: [`template`] finds the `${…}` in a text,
//! `syntax` turns ECMAScript text into the compiled form of [`ast`], `eval`, `methods` and `script` run it,
//! metered by `meter`, with `ops` for conversions and operators and `pattern` for regular expressions.
//! This module may not know documents, steps, clocks or sockets.
//!
//! ```
//! use kanzlei_lang::expr::{Expression, Limits, Scope};
//! use kanzlei_model::value::Value;
//!
//! let mut scope = Scope::default();
//! scope.define("vessels");
//! let longest = Expression::compile("Math.max(...vessels.map(v => v.length_m))", &scope).unwrap();
//! let vessels = serde_json::from_str(r#"[{"length_m": 87}, {"length_m": 132}]"#).unwrap();
//! assert_eq!(longest.eval(&[vessels], Limits::default()), Ok(Value::Int(132)));
//! ```

pub mod about;
pub mod ast;
mod eval;
pub mod functions;
pub mod marks;
mod meter;
mod methods;
pub mod ops;
pub mod pattern;
mod quick;
pub mod script;
mod syntax;
pub mod template;

#[cfg(test)]
mod tests;

pub use ast::{Named, Span};
pub use eval::{ErrorKind, EvalError};
pub use marks::{Counted, Marks};
pub use meter::{Limits, Watch};
pub use methods::{ADDRESS, LOCALES, pattern_has_time};
pub use syntax::{MAX_NESTING, MAX_TEXT};

use std::collections::HashMap;
use std::sync::Arc;

use crate::types::Type;
use kanzlei_model::value::{Str, Value};
use meter::Meter;

/// Something wrong with the text of an expression.
#[derive(Clone, Debug, PartialEq)]
pub struct Fault {
    /// The code of the finding.
    pub code: &'static str,
    /// What is wrong, in a sentence.
    pub message: String,
    /// What to do about it.
    pub help: Option<String>,
    /// Where it stands in the text.
    pub at: Span,
    /// What to write in its place, where a known name is near.
    pub instead: Option<String>,
}

impl Fault {
    pub(crate) fn new(code: &'static str, message: impl Into<String>, at: Span) -> Self {
        Fault { code, message: message.into(), help: None, at, instead: None }
    }

    pub(crate) fn help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }
}

/// The names an expression may use, each with its slot. A later name hides an earlier one.
#[derive(Clone, Debug, Default)]
pub struct Scope {
    names: Vec<(String, u32)>,
    /// The places of each name in `names`, the innermost last.
    by_name: HashMap<String, Vec<usize>>,
    functions: Vec<Arc<ast::Named>>,
    types: Vec<(Str, Type)>,
}

impl Scope {
    /// Adds a name in the next free slot and returns the slot.
    pub fn define(&mut self, name: &str) -> u32 {
        let slot = self.names.iter().map(|(_, slot)| slot + 1).max().unwrap_or(0);
        self.define_at(name, slot);
        slot
    }

    /// Adds a name for a slot that is already there.
    pub fn define_at(&mut self, name: &str, slot: u32) {
        self.by_name.entry(name.to_owned()).or_default().push(self.names.len());
        self.names.push((name.to_owned(), slot));
    }

    /// Returns the slot of a name.
    pub fn slot(&self, name: &str) -> Option<u32> {
        let innermost = *self.by_name.get(name)?.last()?;
        self.names.get(innermost).map(|(_, slot)| *slot)
    }

    /// Returns the names that can be read.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.names.iter().map(|(name, _)| name.as_str())
    }

    /// Adds a function of the document: an arrow function that may use those added before it.
    pub fn define_function(&mut self, name: &str, text: &str) -> Result<(), Vec<Fault>> {
        let function = syntax::lower_function(name, text, self)?;
        self.functions.push(Arc::new(function));
        Ok(())
    }

    /// Adds a named type.
    pub fn define_type(&mut self, name: &str, of: Type) {
        self.types.push((name.into(), of));
    }

    /// Returns a named type.
    pub fn named_type(&self, name: &str) -> Option<&Type> {
        self.types.iter().find(|(known, _)| &**known == name).map(|(_, of)| of)
    }

    /// Returns the names of the types.
    pub fn type_names(&self) -> impl Iterator<Item = &str> {
        self.types.iter().map(|(name, _)| &**name)
    }

    /// A scope with these of its functions and types.
    pub fn part<'n>(
        &self,
        functions: impl IntoIterator<Item = &'n str>,
        types: impl IntoIterator<Item = &'n str>,
    ) -> Scope {
        let functions = functions.into_iter().filter_map(|name| self.function(name).cloned()).collect();
        let of = |name: &str| Some((name.into(), self.named_type(name)?.clone()));
        Scope { functions, types: types.into_iter().filter_map(of).collect(), ..Scope::default() }
    }

    /// Adds the functions and types of another scope; returns the names that are there already.
    pub fn import(&mut self, other: &Scope) -> Vec<String> {
        let mut taken = Vec::new();
        for function in &other.functions {
            match self.function(&function.name) {
                None => self.functions.push(function.clone()),
                Some(known) if Arc::ptr_eq(known, function) => {}
                Some(_) => taken.push(function.name.to_string()),
            }
        }
        for (name, of) in &other.types {
            match self.named_type(name) {
                None => self.types.push((name.clone(), of.clone())),
                Some(known) if known == of => {}
                Some(_) => taken.push(name.to_string()),
            }
        }
        taken
    }

    /// Returns a function of the workflow.
    pub fn function(&self, name: &str) -> Option<&Arc<ast::Named>> {
        self.functions.iter().find(|function| &*function.name == name)
    }

    /// Returns the names of the workflow's functions.
    pub fn function_names(&self) -> impl Iterator<Item = &str> {
        self.functions.iter().map(|function| &*function.name)
    }

    /// The functions whose bodies are statements, except those of `other`.
    pub fn counted(&self, other: &Scope) -> Vec<Counted> {
        let own = self.functions.iter().filter(|function| other.function(&function.name).is_none());
        own.filter(|function| function.points().is_some()).map(|function| Counted(function.clone())).collect()
    }

    /// Returns the number of names in scope; pass it to [`Scope::close`] to leave an inner scope.
    pub fn open(&self) -> usize {
        self.names.len()
    }

    /// Removes the names defined since `open`.
    pub fn close(&mut self, open: usize) {
        for (name, _) in self.names.drain(open.min(self.names.len())..) {
            if let Some(places) = self.by_name.get_mut(&name) {
                places.pop();
            }
        }
    }
}

/// One use of a workflow name in an expression.
#[derive(Clone, Debug, PartialEq)]
pub struct Use {
    /// Slot of the name.
    pub slot: u32,
    /// The member read directly from it, where it is known: `imo` of `input.imo`.
    pub member: Option<Str>,
    /// Where it stands in the text.
    pub at: Span,
    /// Where the member stands; empty without one.
    pub member_at: Span,
}

/// A parameter of an arrow function.
#[derive(Clone, Debug, PartialEq)]
pub struct Binding {
    /// The name.
    pub name: Str,
    /// Where it is bound.
    pub at: Span,
    /// The arrow function, in which it can be read.
    pub within: Span,
    /// Whether it hides a name around it.
    pub hides: bool,
}

/// A compiled expression with the text it came from.
#[derive(Clone, Debug)]
pub struct Expression {
    text: Str,
    expr: ast::Expr,
    /// Whether it may have a value without an evaluation.
    quick: bool,
    locals: u32,
    uses: Vec<Use>,
    bindings: Vec<Binding>,
    calls: Vec<(Str, Span)>,
    /// Where it begins in the text of the document's value it is part of.
    offset: u32,
}

impl Expression {
    /// Compiles an expression, or reports every fault found in it.
    pub fn compile(text: &str, scope: &Scope) -> Result<Self, Vec<Fault>> {
        Ok(Expression::of(text, syntax::lower(text, scope)?))
    }

    /// Compiles a script: statements, whose value is what they return.
    pub fn script(text: &str, scope: &Scope) -> Result<Self, Vec<Fault>> {
        Ok(Expression::of(text, syntax::lower_script(text, scope)?))
    }

    fn of(text: &str, lowered: syntax::Lowered) -> Self {
        Expression {
            text: text.into(),
            quick: quick::suits(&lowered.expr, None),
            expr: lowered.expr,
            locals: lowered.locals,
            uses: lowered.uses,
            bindings: lowered.bindings,
            calls: lowered.calls,
            offset: 0,
        }
    }

    /// Evaluates over the values of the scope it was compiled with.
    #[inline]
    pub fn eval(&self, slots: &[Value], limits: Limits<'_>) -> Result<Value, Box<EvalError>> {
        let mut work = 1;
        if self.quick
            && let Some(found) = quick::value(&self.expr, &quick::Names::of(slots), &mut work)
            && limits.spend(work)
        {
            return Ok(found.into_value());
        }
        self.eval_metered(slots, Meter::new(limits)).0
    }

    /// Evaluates a script and marks the [points](Expression::points) that it reaches, beside those that are marked.
    pub fn eval_marking(
        &self,
        slots: &[Value],
        limits: Limits<'_>,
        reached: &mut Vec<bool>,
    ) -> Result<Value, Box<EvalError>> {
        reached.resize(self.points().len(), false);
        self.eval_whole(slots, Meter::new(limits), Some(reached)).0
    }

    /// Evaluates with what a meter has left, and returns the meter.
    fn eval_metered<'a>(&'a self, slots: &'a [Value], meter: Meter<'a>) -> (Result<Value, Box<EvalError>>, Meter<'a>) {
        self.eval_whole(slots, meter, None)
    }

    fn eval_whole<'a>(
        &'a self,
        slots: &'a [Value],
        meter: Meter<'a>,
        reached: Option<&mut Vec<bool>>,
    ) -> (Result<Value, Box<EvalError>>, Meter<'a>) {
        let mut work = 1;
        if self.quick
            && reached.is_none()
            && let Some(found) = quick::value(&self.expr, &quick::Names::of(slots), &mut work)
        {
            let mut meter = meter;
            return (meter.work(work).map(|()| found.into_value()), meter);
        }
        let (result, meter) = eval::run(&self.text, &self.expr, self.locals, slots, meter, reached);
        let result = result.map_err(|mut failure| {
            if let (ast::Kind::Body(_), Some(at)) = (&self.expr.kind, failure.at) {
                let line = self.text.get(..at.start as usize).unwrap_or_default().matches('\n').count() + 1;
                failure.message = format!("line {line}: {}", failure.message);
            }
            failure
        });
        (result, meter)
    }

    /// The text.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Returns the parameters of the arrow functions in it.
    pub fn bindings(&self) -> &[Binding] {
        &self.bindings
    }

    /// Returns the functions of the document that it uses, each with the place of its name.
    pub fn calls(&self) -> &[(Str, Span)] {
        &self.calls
    }

    /// Byte offset of the expression in its document.
    pub fn offset(&self) -> u32 {
        self.offset
    }

    /// Whether a script returns something somewhere.
    pub fn returns(&self) -> bool {
        match &self.expr.kind {
            ast::Kind::Body(body) => body.returns,
            _ => true,
        }
    }

    fn body(&self) -> Option<&script::Body> {
        match &self.expr.kind {
            ast::Kind::Body(body) => Some(body),
            _ => None,
        }
    }

    /// The points of a script that a run reaches or not.
    pub fn points(&self) -> &[script::Point] {
        self.body().map_or(&[], |body| &body.points)
    }

    /// The name of each of them; see [`script::Body::point_names`].
    pub fn point_names(&self) -> Vec<String> {
        self.body().map_or_else(Vec::new, |body| body.point_names(&self.text))
    }

    /// The compiled form, for inferring types.
    pub(crate) fn ast(&self) -> &ast::Expr {
        &self.expr
    }

    /// Returns the names that it reads.
    pub fn uses(&self) -> &[Use] {
        &self.uses
    }

    /// The value, when it is the same whatever the names stand for.
    pub fn constant(&self) -> Option<&Value> {
        match &self.expr.kind {
            ast::Kind::Const(value) => Some(value),
            _ => None,
        }
    }
}
