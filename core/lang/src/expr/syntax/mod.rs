//! Text to compiled form. ECMAScript's grammar is oxc's business; what of it belongs to the language,
//! what each name stands for and what is refused is decided here, by name and position.
//!
//! This module may not know documents or steps: it gets the names in scope and returns an [`Expr`],
//! or every fault it found.

mod annotations;
mod calls;
mod guesses;
mod statements;

pub(super) use statements::lower_script;

use oxc_allocator::Allocator;
use oxc_ast::ast as js;
use oxc_diagnostics::OxcDiagnostic;
use oxc_parser::Parser;
use oxc_span::{GetSpan, SourceType};
use oxc_syntax::operator::{BinaryOperator, LogicalOperator, UnaryOperator};

use std::collections::HashSet;
use std::sync::Arc;

use super::ast::*;
use super::functions::{self, Static};
use super::script::Point;
use super::{Binding, Fault, Scope, Use};
use crate::suggest;
use kanzlei_model::value::{Str, Value};

/// The longest expression, in bytes. Bounds what the parser may use of the stack.
pub const MAX_TEXT: usize = 16 * 1024;
/// The deepest nesting of a compiled expression. Bounds what the evaluator may use of the stack.
pub const MAX_NESTING: u32 = 160;

pub(super) struct Lowered {
    pub expr: Expr,
    pub locals: u32,
    pub uses: Vec<Use>,
    pub bindings: Vec<Binding>,
    pub calls: Vec<(Str, Span)>,
}

/// Parses and lowers one expression.
pub(super) fn lower(text: &str, scope: &Scope) -> Result<Lowered, Vec<Fault>> {
    if text.len() > MAX_TEXT {
        let at = Span { start: 0, end: 1 };
        return Err(vec![
            Fault::new(
                "expression-too-long",
                format!("this expression has {} bytes; at most {MAX_TEXT} are allowed", text.len()),
                at,
            )
            .help("split it with `let`"),
        ]);
    }
    if let Some(fault) = guesses::too_many(text) {
        return Err(vec![fault]);
    }
    // oxc descends recursively; the worst text nests once per byte.
    let need = 64 * 1024 + text.len() * 6 * 1024;
    stacker::maybe_grow(need, need + 256 * 1024, || {
        let allocator = Allocator::default();
        let parsed = Parser::new(&allocator, text, SourceType::ts().with_module(true)).parse_expression();
        let tree = match parsed {
            Ok(tree) => tree,
            Err(diagnostics) => return Err(syntax_faults(text, diagnostics.into_vec())),
        };
        let mut lowering = Lowering::new(text, scope);
        let expr = lowering.expr(&tree);
        if lowering.faults.is_empty() { Ok(lowering.finish(expr)) } else { Err(lowering.faults) }
    })
}

/// Parses and lowers a function of a document.
pub(super) fn lower_function(name: &str, text: &str, around: &Scope) -> Result<Named, Vec<Fault>> {
    if text.len() > MAX_TEXT {
        let at = Span { start: 0, end: 1 };
        return Err(vec![Fault::new("expression-too-long", format!("at most {MAX_TEXT} bytes are allowed"), at)]);
    }
    if let Some(fault) = guesses::too_many(text) {
        return Err(vec![fault]);
    }
    let need = 64 * 1024 + text.len() * 6 * 1024;
    stacker::maybe_grow(need, need + 256 * 1024, || {
        let allocator = Allocator::default();
        let parsed = Parser::new(&allocator, text, SourceType::ts().with_module(true)).parse_expression();
        let tree = parsed.map_err(|diagnostics| syntax_faults(text, diagnostics.into_vec()))?;
        let js::Expression::ArrowFunctionExpression(arrow) = tree.without_parentheses() else {
            let at = Span { start: 0, end: text.len() as u32 };
            let fault = Fault::new("expression-syntax", "a function is an arrow function", at);
            return Err(vec![fault.help("for example `(length, nights) => length * 3.2 * nights`")]);
        };
        let (functions, types) = (around.functions.clone(), around.types.clone());
        let scope = Scope { functions, types, ..Scope::default() };
        let mut lowering = Lowering::new(text, &scope);
        lowering.function = true;
        let arrow = lowering.arrow(arrow);
        match arrow {
            Some(arrow) if lowering.faults.is_empty() => Ok(Named {
                name: name.into(),
                text: text.into(),
                arrow,
                locals: lowering.most_locals,
                height: lowering.height + 1,
                calls: lowering.calls,
            }),
            _ => Err(lowering.faults),
        }
    })
}

fn syntax_faults(text: &str, diagnostics: Vec<OxcDiagnostic>) -> Vec<Fault> {
    let mut faults: Vec<Fault> = diagnostics
        .into_iter()
        .map(|diagnostic| {
            let (start, len) =
                diagnostic.labels.first().map_or((0, 1), |label| (label.offset() as usize, label.len() as usize));
            let start = start.min(text.len());
            let end = (start + len).min(text.len());
            let mut message = diagnostic.message.to_string();
            if start >= text.trim_end().len() || message.contains("Unexpected token") && start == end {
                message = "the expression ends too early".into();
            }
            let mut fault =
                Fault::new("expression-syntax", lower_first(&message), Span { start: start as u32, end: end as u32 });
            fault.help = diagnostic.help.as_ref().map(|help| help.to_string());
            fault
        })
        .collect();
    if faults.is_empty() {
        faults.push(Fault::new("expression-syntax", "this is not an expression", Span::default()));
    }
    faults
}

fn lower_first(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |first| first.to_lowercase().chain(chars).collect())
}

struct Lowering<'s> {
    text: &'s str,
    scope: &'s Scope,
    /// Names of arrow functions and statements around, innermost last; the index is the slot.
    locals: Vec<Local>,
    most_locals: u32,
    /// The most locals within the arrow function that is lowered, and how deep it nests below where it is called.
    peak: u32,
    arrow_height: u32,
    /// Where the parameters of the innermost function end.
    parameters_end: usize,
    /// How names are declared that were announced before; they are parameters otherwise.
    declaring: Option<LocalKind>,
    /// Statements around: above 0 there may be assignments.
    statements: u32,
    /// Whether functions may have statements.
    function: bool,
    around: Vec<statements::Around>,
    /// Whether a value is returned somewhere in the body that is lowered.
    returns: bool,
    points: Vec<Point>,
    numbers: u32,
    /// Assignments, and calls of functions that may assign, met so far.
    effects: u32,
    /// Names that something is appended to somewhere.
    appended: HashSet<String>,
    depth: u32,
    /// The deepest nesting met, called functions included.
    height: u32,
    faults: Vec<Fault>,
    uses: Vec<Use>,
    /// Parameters of the arrow functions met.
    bindings: Vec<Binding>,
    /// Their slots; functions have none.
    binding_slots: Vec<Option<u32>>,
    /// Functions of the document, where they are named.
    calls: Vec<(Str, Span)>,
}

/// A name with a slot of its own.
struct Local {
    name: String,
    kind: LocalKind,
}

/// What a name of a script is.
#[derive(Clone, Debug)]
enum LocalKind {
    /// The parameter of a function.
    Parameter,
    /// Declared with `const`.
    Constant,
    /// Declared with `let`.
    Assignable,
    /// A function that the statements define.
    Inline(Arc<Inline>),
    /// Declared further down.
    Later,
    /// Taken by a function that can still be called.
    Reserved,
}

impl PartialEq for LocalKind {
    fn eq(&self, other: &Self) -> bool {
        std::mem::discriminant(self) == std::mem::discriminant(other)
    }
}

/// The names that stand before `+=`: what is not among them is never appended to.
fn appended(text: &str) -> HashSet<String> {
    let name = |before: &str| {
        let before = before.trim_end();
        let from = before.rfind(|c: char| !c.is_alphanumeric() && c != '_' && c != '$').map_or(0, |at| at + 1);
        before.get(from..).unwrap_or_default().to_owned()
    };
    text.match_indices("+=").map(|(at, _)| name(&text[..at])).collect()
}

impl<'s> Lowering<'s> {
    fn new(text: &'s str, scope: &'s Scope) -> Self {
        Lowering {
            text,
            scope,
            locals: Vec::new(),
            most_locals: 0,
            peak: 0,
            arrow_height: 0,
            parameters_end: 0,
            declaring: None,
            statements: 0,
            function: false,
            around: Vec::new(),
            returns: false,
            points: Vec::new(),
            numbers: 0,
            effects: 0,
            appended: appended(text),
            depth: 0,
            height: 0,
            faults: Vec::new(),
            uses: Vec::new(),
            bindings: Vec::new(),
            binding_slots: Vec::new(),
            calls: Vec::new(),
        }
    }

    fn finish(self, expr: Expr) -> Lowered {
        Lowered { expr, locals: self.most_locals, uses: self.uses, bindings: self.bindings, calls: self.calls }
    }
}

impl Lowering<'_> {
    fn refuse(&mut self, what: impl Into<String>, at: &impl GetSpan) -> Expr {
        let language = if self.statements > 0 { "language of scripts" } else { "expression language" };
        self.fault("expression-outside-language", format!("{} not part of the {language}", what.into()), at)
    }

    fn fault(&mut self, code: &'static str, message: impl Into<String>, at: &impl GetSpan) -> Expr {
        let at = span(at);
        self.faults.push(Fault::new(code, message.into(), at));
        Expr { kind: Kind::Const(Value::Undefined), at }
    }

    fn help(&mut self, help: impl Into<String>) {
        if let Some(fault) = self.faults.last_mut() {
            fault.help = Some(help.into());
        }
    }

    /// Suggests a known name, to be written at a place.
    fn did_you_mean(&mut self, near: &str, at: &impl GetSpan) {
        if let Some(fault) = self.faults.last_mut() {
            fault.help = Some(format!("did you mean `{near}`?"));
            fault.instead = Some(near.to_owned());
            fault.at = span(at);
        }
    }

    fn boxed(&mut self, expr: &js::Expression) -> Box<Expr> {
        Box::new(self.expr(expr))
    }

    fn expr(&mut self, expr: &js::Expression) -> Expr {
        if self.depth >= MAX_NESTING {
            self.too_deep(expr);
            return Expr { kind: Kind::Const(Value::Undefined), at: span(expr) };
        }
        self.depth += 1;
        self.height = self.height.max(self.depth);
        let lowered = self.expr_inner(expr);
        self.depth -= 1;
        lowered
    }

    fn too_deep(&mut self, at: &impl GetSpan) {
        if !self.faults.iter().any(|fault| fault.code == "expression-too-deep") {
            self.fault("expression-too-deep", format!("nested deeper than {MAX_NESTING} levels"), at);
            self.help("split it with `let`");
        }
    }

    fn expr_inner(&mut self, expr: &js::Expression) -> Expr {
        use js::Expression as E;
        let at = span(expr);
        let kind = match expr {
            E::BooleanLiteral(literal) => Kind::Const(Value::Bool(literal.value)),
            E::NullLiteral(_) => Kind::Const(Value::Null),
            E::NumericLiteral(literal) => {
                // JSON has 64-bit integers: one that is written out keeps its last digits.
                let whole = literal.raw.as_ref().and_then(|raw| raw.as_str().parse::<i64>().ok());
                match whole.filter(|whole| whole.unsigned_abs() > 1 << 53) {
                    Some(whole) => Kind::Const(Value::Int(whole)),
                    None => Kind::Const(number(literal.value)),
                }
            }
            E::StringLiteral(literal) => {
                if literal.lone_surrogates {
                    return self.refuse("half of a surrogate pair is", expr);
                }
                Kind::Const(Value::text(literal.value.as_str()))
            }
            E::TemplateLiteral(template) => return self.template(template),
            E::Identifier(name) => return self.name(name.name.as_str(), at, None),
            E::ArrayExpression(list) => {
                let items = list.elements.iter().map(|element| self.element(element)).collect();
                Kind::List(items)
            }
            E::ObjectExpression(object) => {
                let members = object.properties.iter().filter_map(|p| self.property(p)).collect();
                Kind::Object(members)
            }
            E::ParenthesizedExpression(inner) => return self.expr(&inner.expression),
            E::UnaryExpression(unary) => {
                let op = match unary.operator {
                    UnaryOperator::UnaryPlus => UnaryOp::Plus,
                    UnaryOperator::UnaryNegation => UnaryOp::Minus,
                    UnaryOperator::LogicalNot => UnaryOp::Not,
                    UnaryOperator::BitwiseNot => UnaryOp::BitNot,
                    UnaryOperator::Typeof => UnaryOp::TypeOf,
                    UnaryOperator::Void => UnaryOp::Void,
                    UnaryOperator::Delete if self.statements > 0 => return self.deletion(&unary.argument, expr),
                    UnaryOperator::Delete => return self.refuse("`delete` is", expr),
                };
                Kind::Unary(op, self.boxed(&unary.argument))
            }
            E::BinaryExpression(binary) => {
                let Some(op) = binary_op(binary.operator) else {
                    return self.refuse("`instanceof` is", expr);
                };
                Kind::Binary(op, Box::new((self.expr(&binary.left), self.expr(&binary.right))))
            }
            E::LogicalExpression(logical) => {
                let op = logical_op(logical.operator);
                Kind::Logical(op, Box::new((self.expr(&logical.left), self.expr(&logical.right))))
            }
            E::ConditionalExpression(c) => {
                Kind::Conditional(Box::new((self.expr(&c.test), self.expr(&c.consequent), self.expr(&c.alternate))))
            }
            E::ChainExpression(chain) => {
                let inner = match &chain.expression {
                    js::ChainElement::CallExpression(call) => self.call(call),
                    js::ChainElement::StaticMemberExpression(member) => self.static_member(member),
                    js::ChainElement::ComputedMemberExpression(member) => self.computed_member(member),
                    _ => return self.refuse("a private member is", expr),
                };
                Kind::Chain(Box::new(inner))
            }
            E::TSAsExpression(cast) => {
                let inner = self.boxed(&cast.expression);
                let Some(of) = self.annotation(&cast.type_annotation) else {
                    return Expr { kind: Kind::Const(Value::Undefined), at };
                };
                let written = span(&cast.type_annotation);
                let name = self.text.get(written.start as usize..written.end as usize).unwrap_or_default();
                Kind::As(inner, Arc::new(Wanted { name: name.into(), of }))
            }
            E::StaticMemberExpression(member) => return self.static_member(member),
            E::ComputedMemberExpression(member) => return self.computed_member(member),
            E::CallExpression(call) => return self.call(call),
            E::AssignmentExpression(assignment) if self.statements > 0 => return self.assignment(assignment),
            E::UpdateExpression(update) if self.statements > 0 => return self.update(update),
            E::NewExpression(made) if self.statements > 0 => {
                return match self.error(&made.callee, &made.arguments, at) {
                    Some(error) => error,
                    None => self.refused(expr),
                };
            }
            _ => return self.refused(expr),
        };
        Expr { kind, at }
    }

    /// Reports what the language leaves out of ECMAScript.
    fn refused(&mut self, expr: &js::Expression) -> Expr {
        use js::Expression as E;
        match expr {
            E::ArrowFunctionExpression(_) => {
                let refused = self.refuse("an arrow function outside the arguments of a method is", expr);
                self.help("pass it to a method, as in `items.map(item => item.name)`");
                refused
            }
            E::RegExpLiteral(_) => {
                let refused = self.refuse("a pattern as a value is", expr);
                self.help("use it as in `/^[A-Z]+$/.test(text)` or `text.replace(/ +/g, '-')`");
                refused
            }
            E::BigIntLiteral(_) => self.refuse("a BigInt is", expr),
            E::AssignmentExpression(_) => {
                let refused = self.refuse("assignment is", expr);
                self.help("name values with a `let` step; compare with `===`");
                refused
            }
            E::UpdateExpression(_) => self.refuse("`++` and `--` are", expr),
            E::NewExpression(_) => {
                let refused = self.refuse("`new` is", expr);
                self.help("for instants and spans see the `time` functions");
                refused
            }
            E::ThisExpression(_) => self.refuse("`this` is", expr),
            E::FunctionExpression(_) => self.refuse("`function` is", expr),
            E::ClassExpression(_) => self.refuse("`class` is", expr),
            E::AwaitExpression(_) => self.refuse("`await` is", expr),
            E::YieldExpression(_) => self.refuse("`yield` is", expr),
            E::SequenceExpression(_) => self.refuse("the comma operator is", expr),
            E::TaggedTemplateExpression(_) => self.refuse("a tagged template is", expr),
            E::ImportExpression(_) | E::ImportMeta(_) => self.refuse("`import` is", expr),
            E::Super(_) => self.refuse("`super` is", expr),
            E::NewTarget(_) => self.refuse("`new.target` is", expr),
            _ => self.refuse("this is", expr),
        }
    }

    fn template(&mut self, template: &js::TemplateLiteral) -> Expr {
        let mut texts = Vec::with_capacity(template.quasis.len());
        for quasi in &template.quasis {
            match &quasi.value.cooked {
                Some(cooked) if !quasi.lone_surrogates => texts.push(Str::from(cooked.as_str())),
                _ => {
                    self.fault("expression-syntax", "invalid escape in a template", quasi);
                }
            }
        }
        let parts = template.expressions.iter().map(|part| self.expr(part)).collect();
        Expr { kind: Kind::Template(texts, parts), at: span(template) }
    }

    /// A name that stands alone, or the start of `name.member`.
    fn name(&mut self, name: &str, at: Span, member: Option<(&str, Span)>) -> Expr {
        let kind = if let Some(local) = self.locals.iter().rposition(|local| local.name == name) {
            match &self.locals[local].kind {
                LocalKind::Later | LocalKind::Reserved => {
                    let js_span = oxc_span::Span::new(at.start, at.end);
                    self.used_early(name, &js_span);
                    Kind::Const(Value::Undefined)
                }
                LocalKind::Inline(_) => {
                    let js_span = oxc_span::Span::new(at.start, at.end);
                    self.fault(
                        "expression-outside-language",
                        format!("the function `{name}` is not a value"),
                        &js_span,
                    );
                    self.help(format!("call it, as in `{name}(…)`, or pass it to a method"));
                    Kind::Const(Value::Undefined)
                }
                LocalKind::Assignable | LocalKind::Parameter if self.appended.contains(name) => {
                    Kind::Growing(local as u32)
                }
                _ => Kind::Local(local as u32),
            }
        } else if let Some(slot) = self.scope.slot(name) {
            let member_at = member.map_or(Span::default(), |(_, at)| at);
            self.uses.push(Use { slot, member: member.map(|(member, _)| Str::from(member)), at, member_at });
            Kind::Slot(slot)
        } else {
            match name {
                "undefined" => Kind::Const(Value::Undefined),
                "NaN" => Kind::Const(Value::Num(f64::NAN)),
                "Infinity" => Kind::Const(Value::Num(f64::INFINITY)),
                _ => return self.unknown_name(name, at),
            }
        };
        Expr { kind, at }
    }

    fn used_early(&mut self, name: &str, at: &impl GetSpan) -> Expr {
        let fault = self.fault("declaration", format!("`{name}` is used before it is declared"), at);
        self.help("move its declaration up; a function cannot call itself");
        fault
    }

    fn unknown_name(&mut self, name: &str, at: Span) -> Expr {
        let js_span = oxc_span::Span::new(at.start, at.end);
        if functions::is_namespace(name) || functions::is_callable(name) {
            self.fault("expression-outside-language", format!("`{name}` is not a value"), &js_span);
            self.help(format!("call it: `{}`", functions::example(name)));
        } else if let Some(reason) = functions::refused(name) {
            self.fault(
                "expression-outside-language",
                format!("`{name}` is not part of the expression language"),
                &js_span,
            );
            self.help(reason);
        } else {
            self.fault("unknown-name", format!("there is no `{name}` here"), &js_span);
            let locals =
                self.locals.iter().filter(|local| !matches!(local.kind, LocalKind::Later | LocalKind::Reserved));
            let mut known: Vec<&str> = locals.map(|local| local.name.as_str()).collect();
            known.extend(self.scope.names());
            if self.scope.function(name).is_some() {
                self.help(format!("`{name}` is a function; call it: `{name}(…)`"));
                return Expr { kind: Kind::Const(Value::Undefined), at };
            }
            if known.is_empty() {
                self.help("a function sees its own parameters only");
                return Expr { kind: Kind::Const(Value::Undefined), at };
            }
            match suggest::nearest(name, known.iter().copied()).map(str::to_owned) {
                Some(near) => self.did_you_mean(&near, &js_span),
                None => self.help(format!("in scope here: {}", known.join(", "))),
            }
        }
        Expr { kind: Kind::Const(Value::Undefined), at }
    }

    fn static_member(&mut self, member: &js::StaticMemberExpression) -> Expr {
        let name = member.property.name.as_str();
        if let js::Expression::Identifier(object) = &member.object {
            let object_name = object.name.as_str();
            if !self.in_scope(object_name) && functions::is_namespace(object_name) {
                if let Some(value) = functions::constant(object_name, name) {
                    return Expr { kind: Kind::Const(Value::Num(value)), at: span(member) };
                }
                return self.unknown_member_of_namespace(object_name, name, member);
            }
            let of = Box::new(self.name(object_name, span(&**object), Some((name, span(&member.property)))));
            return Expr { kind: Kind::Member { of, name: name.into(), optional: member.optional }, at: span(member) };
        }
        let of = self.boxed(&member.object);
        Expr { kind: Kind::Member { of, name: name.into(), optional: member.optional }, at: span(member) }
    }

    fn unknown_member_of_namespace(&mut self, object: &str, name: &str, at: &impl GetSpan) -> Expr {
        let full = format!("{object}.{name}");
        if Static::by_name(&full).is_some() {
            let expr = self.fault("expression-outside-language", format!("`{full}` is not a value"), at);
            self.help(format!("call it: `{full}(…)`"));
            return expr;
        }
        let expr = self.fault("unknown-function", format!("there is no `{full}` in the expression language"), at);
        if let Some(reason) = functions::refused(&full) {
            self.help(reason);
        } else if let Some(near) = suggest::nearest(&full, Static::names()) {
            let start = span(at).start;
            self.did_you_mean(near, &oxc_span::Span::new(start, start + full.len() as u32));
        }
        expr
    }

    fn computed_member(&mut self, member: &js::ComputedMemberExpression) -> Expr {
        let key = self.boxed(&member.expression);
        let of = match (&member.object, &key.kind) {
            (js::Expression::Identifier(object), Kind::Const(Value::Text(name))) => {
                // The name between its quotes.
                let at = span(&member.expression);
                let at = Span { start: at.start + 1, end: at.end.saturating_sub(1).max(at.start + 1) };
                Box::new(self.name(object.name.as_str(), span(&**object), Some((name, at))))
            }
            _ => self.boxed(&member.object),
        };
        Expr { kind: Kind::Index { of, key, optional: member.optional }, at: span(member) }
    }

    fn in_scope(&self, name: &str) -> bool {
        self.locals.iter().any(|local| local.name == name) || self.scope.slot(name).is_some()
    }

    fn element(&mut self, element: &js::ArrayExpressionElement) -> Item {
        match element {
            js::ArrayExpressionElement::SpreadElement(spread) => Item::Spread(self.expr(&spread.argument)),
            js::ArrayExpressionElement::Elision(_) => Item::One(self.refuse("a hole in an array is", element)),
            _ => match element.as_expression() {
                Some(expr) => Item::One(self.expr(expr)),
                None => Item::One(self.refuse("this is", element)),
            },
        }
    }

    fn property(&mut self, property: &js::ObjectPropertyKind) -> Option<Property> {
        let property = match property {
            js::ObjectPropertyKind::SpreadProperty(spread) => {
                return Some(Property::Spread(self.expr(&spread.argument)));
            }
            js::ObjectPropertyKind::ObjectProperty(property) => property,
        };
        if property.kind != js::PropertyKind::Init || property.method {
            self.refuse("a method or accessor in an object is", &**property);
            return None;
        }
        let key = self.property_key(&property.key, property.computed);
        let value = self.expr(&property.value);
        Some(match key.kind {
            Kind::Const(Value::Text(name)) => {
                if &*name == "__proto__" && !property.computed {
                    self.refuse("`__proto__` is", &**property);
                }
                Property::Named(name, value)
            }
            _ => Property::Computed(key, value),
        })
    }

    fn property_key(&mut self, key: &js::PropertyKey, computed: bool) -> Expr {
        let at = span(key);
        match key {
            js::PropertyKey::StaticIdentifier(name) => Expr { kind: Kind::Const(Value::text(name.name.as_str())), at },
            js::PropertyKey::PrivateIdentifier(_) => self.refuse("a private member is", key),
            _ => match key.as_expression() {
                Some(js::Expression::NumericLiteral(literal)) if !computed => {
                    let name = super::ops::number_text(literal.value);
                    Expr { kind: Kind::Const(Value::text(name)), at }
                }
                Some(expr) => self.expr(expr),
                None => {
                    let text = self.text.get(at.start as usize..at.end as usize).unwrap_or_default().to_owned();
                    self.refuse(format!("`{text}` is"), key)
                }
            },
        }
    }
}

fn span(node: &impl GetSpan) -> Span {
    let span = node.span();
    Span { start: span.start, end: span.end }
}

/// A literal without a fraction that a double holds exactly is kept as an integer.
fn number(value: f64) -> Value {
    if value.fract() == 0.0 && value.abs() <= 9_007_199_254_740_991.0 {
        Value::Int(value as i64)
    } else {
        Value::Num(value)
    }
}

fn logical_op(op: LogicalOperator) -> LogicalOp {
    match op {
        LogicalOperator::And => LogicalOp::And,
        LogicalOperator::Or => LogicalOp::Or,
        LogicalOperator::Coalesce => LogicalOp::Coalesce,
    }
}

fn binary_op(op: BinaryOperator) -> Option<BinaryOp> {
    Some(match op {
        BinaryOperator::Equality => BinaryOp::LooseEq,
        BinaryOperator::Inequality => BinaryOp::LooseNe,
        BinaryOperator::StrictEquality => BinaryOp::Eq,
        BinaryOperator::StrictInequality => BinaryOp::Ne,
        BinaryOperator::LessThan => BinaryOp::Lt,
        BinaryOperator::LessEqualThan => BinaryOp::Le,
        BinaryOperator::GreaterThan => BinaryOp::Gt,
        BinaryOperator::GreaterEqualThan => BinaryOp::Ge,
        BinaryOperator::Addition => BinaryOp::Add,
        BinaryOperator::Subtraction => BinaryOp::Sub,
        BinaryOperator::Multiplication => BinaryOp::Mul,
        BinaryOperator::Division => BinaryOp::Div,
        BinaryOperator::Remainder => BinaryOp::Rem,
        BinaryOperator::Exponential => BinaryOp::Pow,
        BinaryOperator::ShiftLeft => BinaryOp::Shl,
        BinaryOperator::ShiftRight => BinaryOp::Shr,
        BinaryOperator::ShiftRightZeroFill => BinaryOp::UShr,
        BinaryOperator::BitwiseOR => BinaryOp::BitOr,
        BinaryOperator::BitwiseXOR => BinaryOp::BitXor,
        BinaryOperator::BitwiseAnd => BinaryOp::BitAnd,
        BinaryOperator::In => BinaryOp::In,
        BinaryOperator::Instanceof => return None,
    })
}
