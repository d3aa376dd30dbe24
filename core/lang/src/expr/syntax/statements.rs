//! Statements: ECMAScript's, without what could run forever unseen, reach out, or depend on more than the values at hand.
//!
//! Names are resolved here: each declaration has a slot of its own for as long as its block runs, functions that statements
//! define share the slots of what is around them, and a name that is used before it is declared is a fault.

use std::sync::Arc;

use oxc_allocator::Allocator;
use oxc_ast::ast as js;
use oxc_parser::{ParseOptions, Parser};
use oxc_span::{GetSpan, SourceType};
use oxc_syntax::operator::{AssignmentOperator, UpdateOperator};

use super::{LocalKind, Lowered, Lowering, MAX_TEXT, guesses, span, syntax_faults};
use crate::expr::ast::*;
use crate::expr::script::{AssignOp, ForOf, Loop, Point, PointKind, Shown, StatementKind as S, Switch, Try};
use crate::expr::{Fault, Scope};
use kanzlei_model::value::Value;

/// The most bytes of a script.
pub const MAX_SCRIPT: usize = 64 * 1024;

/// A statement around, that `break` and `continue` may leave.
pub(super) struct Around {
    label: Option<String>,
    number: u32,
    is_loop: bool,
}

/// Parses and lowers a script.
pub(in crate::expr) fn lower_script(text: &str, scope: &Scope) -> Result<Lowered, Vec<Fault>> {
    if text.len() > MAX_SCRIPT {
        let message = format!("this script has {} bytes; at most {MAX_SCRIPT} are allowed", text.len());
        let fault = Fault::new("expression-too-long", message, Span { start: 0, end: 1 });
        return Err(vec![fault.help("move parts of it into `functions`")]);
    }
    if let Some(fault) = guesses::too_many(text) {
        return Err(vec![fault]);
    }
    let need = 128 * 1024 + text.len().min(MAX_TEXT) * 8 * 1024;
    stacker::maybe_grow(need, need + 256 * 1024, || {
        let allocator = Allocator::default();
        let options = ParseOptions { allow_return_outside_function: true, ..ParseOptions::default() };
        let parsed = Parser::new(&allocator, text, SourceType::ts().with_module(true)).with_options(options).parse();
        if parsed.panicked || !parsed.diagnostics.is_empty() {
            return Err(syntax_faults(text, parsed.diagnostics.into_iter().collect()));
        }
        let mut lowering = Lowering::new(text, scope);
        let whole = Span { start: 0, end: text.len() as u32 };
        let expr = lowering.body(&parsed.program.body, whole);
        if lowering.faults.is_empty() { Ok(lowering.finish(expr)) } else { Err(lowering.faults) }
    })
}

impl Lowering<'_> {
    /// The statements of a script or of a function.
    pub(super) fn body(&mut self, statements: &[js::Statement], at: Span) -> Expr {
        let outermost = self.statements == 0;
        self.statements += 1;
        let around = std::mem::take(&mut self.around);
        let returns = std::mem::take(&mut self.returns);
        let first = self.bindings.len();
        let statements = self.scoped(at, |this| this.list(statements));
        self.around = around;
        let returns = std::mem::replace(&mut self.returns, returns);
        self.statements -= 1;
        let (mut names, mut points) = (Vec::new(), Vec::new());
        if outermost {
            points = std::mem::take(&mut self.points);
            let shown = self.bindings[first..].iter().zip(&self.binding_slots[first..]);
            names = shown
                .filter_map(|(binding, slot)| {
                    slot.map(|slot| Shown { slot, name: binding.name.clone(), at: binding.at, within: binding.within })
                })
                .collect();
        }
        Expr { kind: Kind::Body(Arc::new(Body { statements, names, returns, points })), at }
    }

    fn point(&mut self, at: Span, kind: PointKind) -> u32 {
        self.points.push(Point { at, kind });
        self.points.len() as u32 - 1
    }

    fn number(&mut self) -> u32 {
        self.numbers += 1;
        self.numbers
    }

    /// Lowers what has names of its own; they end with it.
    fn scoped<T>(&mut self, at: Span, inner: impl FnOnce(&mut Self) -> T) -> T {
        let outer = self.locals.len();
        let first = self.bindings.len();
        let result = inner(self);
        for binding in &mut self.bindings[first..] {
            // What is bound further inside ends earlier.
            if binding.within == binding.at {
                binding.within = Span { start: binding.at.start, end: at.end };
            }
        }
        self.locals.truncate(outer);
        result
    }

    /// Statements of one block, whose names are all known from its start.
    fn list(&mut self, statements: &[js::Statement]) -> Vec<Statement> {
        let first = self.locals.len();
        for statement in statements {
            match statement {
                js::Statement::VariableDeclaration(declaration) => {
                    for declarator in &declaration.declarations {
                        let mut names = Vec::new();
                        names_of(&declarator.id, &mut names);
                        for (name, at) in names {
                            self.announce(first, &name, at);
                        }
                    }
                }
                js::Statement::FunctionDeclaration(function) => {
                    if let Some(id) = &function.id {
                        self.announce(first, id.name.as_str(), span(id));
                    }
                }
                _ => {}
            }
        }
        let mut out = Vec::with_capacity(statements.len());
        for statement in statements {
            out.extend(self.statement(statement));
        }
        out
    }

    /// Reserves a slot for a name that is declared further down.
    fn announce(&mut self, first: usize, name: &str, at: Span) {
        let same_block = self.locals[first..].iter().any(|local| local.name == name);
        let parameter = self.locals[..first].iter().rev().take_while(|local| local.kind == LocalKind::Parameter);
        if same_block || (self.parameters_end == first && parameter.into_iter().any(|local| local.name == name)) {
            let js_span = oxc_span::Span::new(at.start, at.end);
            self.fault("declaration", format!("`{name}` is declared twice in this block"), &js_span);
        }
        self.push_local(name, LocalKind::Later);
    }

    fn nested(&mut self, statement: &js::Statement) -> Statement {
        let at = span(statement);
        let statements = match statement {
            js::Statement::BlockStatement(block) => self.scoped(at, |this| this.list(&block.body)),
            js::Statement::VariableDeclaration(_) | js::Statement::FunctionDeclaration(_) => {
                self.refuse("a declaration without braces around it is", statement);
                Vec::new()
            }
            other => self.statement(other),
        };
        let mut statements = statements;
        match statements.len() {
            1 => statements.remove(0),
            _ => {
                let point = self.point_of_block(&statements, at);
                Statement { kind: S::Block(statements), at, point }
            }
        }
    }

    /// A block is reached with its first statement.
    fn point_of_block(&mut self, statements: &[Statement], at: Span) -> u32 {
        match statements.first() {
            Some(first) => first.point,
            None => self.point(at, PointKind::Statement),
        }
    }

    fn made(&mut self, kind: S, at: Span) -> Vec<Statement> {
        let point = self.point(at, PointKind::Statement);
        vec![Statement { kind, at, point }]
    }

    fn statement(&mut self, statement: &js::Statement) -> Vec<Statement> {
        if self.depth >= super::MAX_NESTING {
            self.too_deep(statement);
            return Vec::new();
        }
        self.depth += 1;
        self.height = self.height.max(self.depth);
        let lowered = self.statement_inner(statement, None);
        self.depth -= 1;
        lowered
    }

    fn statement_inner(&mut self, statement: &js::Statement, label: Option<&str>) -> Vec<Statement> {
        use js::Statement as J;
        let at = span(statement);
        match statement {
            J::EmptyStatement(_) => Vec::new(),
            J::BlockStatement(_) => vec![self.nested(statement)],
            J::ExpressionStatement(run) => {
                // The point comes before those of functions inside.
                let point = self.point(at, PointKind::Statement);
                let expr = self.expr(&run.expression);
                vec![Statement { kind: S::Run(expr), at, point }]
            }
            J::VariableDeclaration(declaration) => self.declaration(declaration),
            J::FunctionDeclaration(function) => {
                self.function_declaration(function);
                Vec::new()
            }
            J::IfStatement(inner) => {
                let point = self.point(at, PointKind::Statement);
                let test = self.expr(&inner.test);
                let then = self.nested(&inner.consequent);
                let or = inner.alternate.as_ref().map(|or| self.nested(or));
                let otherwise = match or {
                    Some(_) => point,
                    None => self.point(test.at, PointKind::Otherwise),
                };
                vec![Statement { kind: S::If(Box::new((test, then, or)), otherwise), at, point }]
            }
            J::WhileStatement(inner) => {
                let point = self.point(at, PointKind::Statement);
                let test = Some(self.expr(&inner.test));
                let first = Vec::new();
                let inner = self.looped(label, |this| this.nested(&inner.body));
                self.loop_of(
                    Loop { first, body_first: false, test, update: None, body: inner.1, number: inner.0 },
                    at,
                    point,
                )
            }
            J::DoWhileStatement(inner) => {
                let point = self.point(at, PointKind::Statement);
                let body = self.looped(label, |this| this.nested(&inner.body));
                let test = Some(self.expr(&inner.test));
                let first = Vec::new();
                self.loop_of(
                    Loop { first, body_first: true, test, update: None, body: body.1, number: body.0 },
                    at,
                    point,
                )
            }
            J::ForStatement(inner) => self.scoped(at, |this| this.for_loop(inner, label)),
            J::ForOfStatement(inner) => self.scoped(at, |this| this.for_of(inner, label)),
            J::ForInStatement(_) => {
                self.refuse("`for … in` is", statement);
                self.help("walk through the names: `for (const name of Object.keys(object))`");
                Vec::new()
            }
            J::LabeledStatement(inner) => {
                let name = inner.label.name.as_str();
                match &inner.body {
                    J::WhileStatement(_) | J::DoWhileStatement(_) | J::ForStatement(_) | J::ForOfStatement(_) => {
                        self.statement_inner(&inner.body, Some(name))
                    }
                    _ => {
                        self.refuse("a label on anything but a loop is", statement);
                        Vec::new()
                    }
                }
            }
            J::BreakStatement(inner) => {
                match self.left(inner.label.as_ref().map(|label| label.name.as_str()), false, statement) {
                    Some(number) => self.made(S::Break(number), at),
                    None => Vec::new(),
                }
            }
            J::ContinueStatement(inner) => {
                match self.left(inner.label.as_ref().map(|label| label.name.as_str()), true, statement) {
                    Some(number) => self.made(S::Continue(number), at),
                    None => Vec::new(),
                }
            }
            J::ReturnStatement(inner) => {
                let point = self.point(at, PointKind::Statement);
                let value = inner.argument.as_ref().map(|value| self.expr(value));
                self.returns |= value.is_some();
                vec![Statement { kind: S::Return(value), at, point }]
            }
            J::ThrowStatement(inner) => {
                let point = self.point(at, PointKind::Statement);
                let value = self.expr(&inner.argument);
                vec![Statement { kind: S::Throw(value), at, point }]
            }
            J::SwitchStatement(inner) => self.switch(inner),
            J::TryStatement(inner) => self.attempt(inner),
            J::ClassDeclaration(_) => self.nothing("`class` is", statement),
            J::DebuggerStatement(_) => self.nothing("`debugger` is", statement),
            J::WithStatement(_) => self.nothing("`with` is", statement),
            J::ImportDeclaration(_) => self.nothing("`import` is", statement),
            J::ExportAllDeclaration(_) | J::ExportDefaultDeclaration(_) | J::ExportNamedDeclaration(_) => {
                self.nothing("`export` is", statement)
            }
            J::TSTypeAliasDeclaration(_) | J::TSInterfaceDeclaration(_) | J::TSEnumDeclaration(_) => {
                self.nothing("a declaration of a type is", statement)
            }
            _ => self.nothing("this statement is", statement),
        }
    }

    fn nothing(&mut self, what: &str, at: &js::Statement) -> Vec<Statement> {
        self.refuse(what, at);
        Vec::new()
    }

    fn loop_of(&mut self, inner: Loop, at: Span, point: u32) -> Vec<Statement> {
        vec![Statement { kind: S::Loop(Box::new(inner)), at, point }]
    }

    /// Lowers the body of a loop, which `break` and `continue` leave.
    fn looped<T>(&mut self, label: Option<&str>, inner: impl FnOnce(&mut Self) -> T) -> (u32, T) {
        let number = self.number();
        self.around.push(Around { label: label.map(str::to_owned), number, is_loop: true });
        let result = inner(self);
        self.around.pop();
        (number, result)
    }

    /// The number of the statement that is left.
    fn left(&mut self, label: Option<&str>, goes_on: bool, at: &js::Statement) -> Option<u32> {
        let found = self.around.iter().rev().find(|around| match label {
            Some(label) => around.label.as_deref() == Some(label),
            None => around.is_loop || !goes_on,
        });
        let number = found.map(|around| around.number);
        if number.is_none() {
            let word = if goes_on { "continue" } else { "break" };
            let message = match label {
                Some(label) => format!("there is no loop with the label `{label}` around this `{word}`"),
                None => format!("there is no loop around this `{word}`"),
            };
            self.fault("expression-syntax", message, at);
        }
        number
    }

    fn for_loop(&mut self, inner: &js::ForStatement, label: Option<&str>) -> Vec<Statement> {
        let at = span(inner);
        let point = self.point(at, PointKind::Statement);
        let mut first = Vec::new();
        match &inner.init {
            Some(js::ForStatementInit::VariableDeclaration(declaration)) => {
                self.announce_all(declaration);
                first = self.declaration(declaration);
            }
            Some(init) => {
                if let Some(expr) = init.as_expression() {
                    let expr = self.expr_or_sequence(expr);
                    first = self.made(S::Run(expr), span(init));
                }
            }
            None => {}
        }
        let test = inner.test.as_ref().map(|test| self.expr(test));
        let update = inner.update.as_ref().map(|update| self.expr_or_sequence(update));
        let (number, body) = self.looped(label, |this| this.nested(&inner.body));
        self.loop_of(Loop { first, body_first: false, test, update, body, number }, at, point)
    }

    fn announce_all(&mut self, declaration: &js::VariableDeclaration) {
        let first = self.locals.len();
        for declarator in &declaration.declarations {
            let mut names = Vec::new();
            names_of(&declarator.id, &mut names);
            for (name, at) in names {
                self.announce(first, &name, at);
            }
        }
    }

    fn expr_or_sequence(&mut self, expr: &js::Expression) -> Expr {
        match expr {
            js::Expression::SequenceExpression(sequence) => {
                let parts = sequence.expressions.iter().map(|part| self.expr(part)).collect();
                Expr { kind: Kind::Sequence(parts), at: span(expr) }
            }
            other => self.expr(other),
        }
    }

    fn for_of(&mut self, inner: &js::ForOfStatement, label: Option<&str>) -> Vec<Statement> {
        let at = span(inner);
        let point = self.point(at, PointKind::Statement);
        if inner.r#await {
            self.refuse("`for await` is", inner);
        }
        // The list is read before the names of the loop exist.
        let of = self.expr(&inner.right);
        let target = match &inner.left {
            js::ForStatementLeft::VariableDeclaration(declaration) => {
                self.announce_all(declaration);
                let kind = self.declared_kind(declaration);
                match declaration.declarations.first() {
                    Some(declarator) => self.declare(&declarator.id, kind),
                    None => return Vec::new(),
                }
            }
            left => {
                self.refuse("a loop over a name that is declared elsewhere is", left);
                self.help("declare it here: `for (const item of items)`");
                return Vec::new();
            }
        };
        let (number, body) = self.looped(label, |this| this.nested(&inner.body));
        let inner = ForOf { target, of, body, number };
        vec![Statement { kind: S::ForOf(Box::new(inner)), at, point }]
    }

    fn switch(&mut self, inner: &js::SwitchStatement) -> Vec<Statement> {
        let at = span(inner);
        let point = self.point(at, PointKind::Statement);
        let on = self.expr(&inner.discriminant);
        let number = self.number();
        self.around.push(Around { label: None, number, is_loop: false });
        let mut cases = Vec::with_capacity(inner.cases.len());
        for case in &inner.cases {
            let value = case.test.as_ref().map(|value| self.expr(value));
            let mut statements = Vec::new();
            for statement in &case.consequent {
                if matches!(statement, js::Statement::VariableDeclaration(_) | js::Statement::FunctionDeclaration(_)) {
                    self.refuse("a declaration in a `case` without braces is", statement);
                    self.help("put braces around the statements of the case: `case 1: { … }`");
                    continue;
                }
                statements.extend(self.statement(statement));
            }
            cases.push((value, statements));
        }
        self.around.pop();
        vec![Statement { kind: S::Switch(Box::new(Switch { on, cases, number })), at, point }]
    }

    fn attempt(&mut self, inner: &js::TryStatement) -> Vec<Statement> {
        let at = span(inner);
        let point = self.point(at, PointKind::Statement);
        let body = self.scoped(span(&*inner.block), |this| this.list(&inner.block.body));
        let catch = inner.handler.as_ref().map(|handler| {
            self.scoped(span(&**handler), |this| {
                let target = handler.param.as_ref().map(|param| {
                    let mut names = Vec::new();
                    names_of(&param.pattern, &mut names);
                    let first = this.locals.len();
                    for (name, at) in names {
                        this.announce(first, &name, at);
                    }
                    this.declare(&param.pattern, LocalKind::Assignable)
                });
                let statements = this.scoped(span(&*handler.body), |this| this.list(&handler.body.body));
                (target, statements)
            })
        });
        let last = match &inner.finalizer {
            Some(last) => self.scoped(span(&**last), |this| this.list(&last.body)),
            None => Vec::new(),
        };
        vec![Statement { kind: S::Try(Box::new(Try { body, catch, last })), at, point }]
    }

    fn declared_kind(&mut self, declaration: &js::VariableDeclaration) -> LocalKind {
        match declaration.kind {
            js::VariableDeclarationKind::Const => LocalKind::Constant,
            js::VariableDeclarationKind::Let => LocalKind::Assignable,
            js::VariableDeclarationKind::Var => {
                self.refuse("`var` is", declaration);
                self.help("use `let`, or `const` for what is assigned once");
                LocalKind::Assignable
            }
            _ => {
                self.refuse("`using` is", declaration);
                LocalKind::Constant
            }
        }
    }

    fn declaration(&mut self, declaration: &js::VariableDeclaration) -> Vec<Statement> {
        let kind = self.declared_kind(declaration);
        let mut out = Vec::with_capacity(declaration.declarations.len());
        for declarator in &declaration.declarations {
            let at = span(declarator);
            if let (js::BindingPattern::BindingIdentifier(name), Some(init)) = (&declarator.id, &declarator.init)
                && let js::Expression::ArrowFunctionExpression(arrow) = init.without_parentheses()
            {
                if kind != LocalKind::Constant {
                    self.refuse("a function that can be assigned is", declarator);
                    self.help("declare it with `const`");
                }
                let lowered = self.arrow(arrow);
                self.define_inline(name.name.as_str(), span(&**name), lowered);
                continue;
            }
            let point = self.point(at, PointKind::Statement);
            let value = declarator.init.as_ref().map(|value| self.expr(value));
            let wanted =
                declarator.type_annotation.as_ref().and_then(|wanted| self.annotation(&wanted.type_annotation));
            let target = self.declare(&declarator.id, kind.clone());
            out.push(Statement { kind: S::Define(target, value, wanted.map(Box::new)), at, point });
        }
        out
    }

    fn function_declaration(&mut self, function: &js::Function) {
        let Some(id) = &function.id else { return };
        if function.r#async || function.generator {
            self.refuse(if function.generator { "a generator is" } else { "an async function is" }, function);
            return;
        }
        let Some(body) = &function.body else { return };
        let returns = function.return_type.as_ref().and_then(|wanted| self.annotation(&wanted.type_annotation));
        let lowered =
            self.function_parts(&function.params, span(function), |this| this.body(&body.statements, span(&**body)));
        let lowered = Some(Arrow { returns, ..lowered });
        self.define_inline(id.name.as_str(), span(id), lowered);
    }

    /// Makes an announced name the name of a function. Its slots stay taken for as long as it can be called.
    fn define_inline(&mut self, name: &str, at: Span, lowered: Option<Arrow>) {
        let peak = self.peak;
        while (self.locals.len() as u32) < peak {
            self.push_local("", LocalKind::Reserved);
        }
        let Some(arrow) = lowered else { return };
        let height = self.arrow_height + 1;
        let inline = Inline { name: name.into(), arrow, height };
        if let Some(local) =
            self.locals.iter_mut().rev().find(|local| local.name == name && local.kind == LocalKind::Later)
        {
            local.kind = LocalKind::Inline(Arc::new(inline));
        }
        self.bind_name(name, at, None);
    }

    /// Binds names that were announced.
    fn declare(&mut self, pattern: &js::BindingPattern, kind: LocalKind) -> Target {
        let before = self.declaring.replace(kind);
        let target = self.target(pattern);
        self.declaring = before;
        target
    }

    /// An assignment, where statements allow it.
    pub(super) fn assignment(&mut self, assignment: &js::AssignmentExpression) -> Expr {
        let at = span(assignment);
        let op = match assignment.operator {
            AssignmentOperator::Assign => None,
            other => match (other.to_binary_operator(), other.to_logical_operator()) {
                (Some(op), _) => super::binary_op(op).map(AssignOp::Binary),
                (None, Some(op)) => Some(AssignOp::Logical(super::logical_op(op))),
                (None, None) => None,
            },
        };
        let to = match &assignment.left {
            js::AssignmentTarget::ArrayAssignmentTarget(_) | js::AssignmentTarget::ObjectAssignmentTarget(_) => {
                self.assigned_pattern(&assignment.left).map(Assignee::Pattern)
            }
            left => left.as_simple_assignment_target().and_then(|left| self.assignee(left)),
        };
        let effects = self.effects;
        let value = self.expr(&assignment.right);
        // Where the value may change the name itself, the text that it had counts.
        let to = match to {
            Some(Assignee::Local(local, grows)) => Some(Assignee::Local(local, grows && self.effects == effects)),
            to => to,
        };
        self.effects += 1;
        match to {
            Some(to) => Expr { kind: Kind::Assign(Box::new(Assign { to, op, value, at: span(&assignment.left) })), at },
            None => Expr { kind: Kind::Const(Value::Undefined), at },
        }
    }

    pub(super) fn update(&mut self, update: &js::UpdateExpression) -> Expr {
        self.effects += 1;
        let at = span(update);
        let by = if update.operator == UpdateOperator::Increment { 1 } else { -1 };
        match self.assignee(&update.argument) {
            Some(to) => Expr {
                kind: Kind::Update(Box::new(Update { to, by, prefix: update.prefix, at: span(&update.argument) })),
                at,
            },
            None => Expr { kind: Kind::Const(Value::Undefined), at },
        }
    }

    fn assignee(&mut self, target: &js::SimpleAssignmentTarget) -> Option<Assignee> {
        match target {
            js::SimpleAssignmentTarget::AssignmentTargetIdentifier(name) => {
                let slot = self.assigned_name(name.name.as_str(), &**name)?;
                Some(Assignee::Local(slot, self.appended.contains(name.name.as_str())))
            }
            js::SimpleAssignmentTarget::StaticMemberExpression(member) => {
                self.check_inside(&member.object);
                let of = self.expr(&member.object);
                let name = &member.property;
                let key = Expr { kind: Kind::Const(Value::text(name.name.as_str())), at: span(name) };
                Some(Assignee::Member(of, key))
            }
            js::SimpleAssignmentTarget::ComputedMemberExpression(member) => {
                self.check_inside(&member.object);
                let of = self.expr(&member.object);
                let key = self.expr(&member.expression);
                Some(Assignee::Member(of, key))
            }
            other => {
                self.refuse("assigning to this is", other);
                None
            }
        }
    }

    /// The slot of a name that is assigned to.
    fn assigned_name(&mut self, name: &str, at: &impl GetSpan) -> Option<u32> {
        let Some(slot) = self.locals.iter().rposition(|local| local.name == name) else {
            if self.scope.slot(name).is_some() || self.scope.function(name).is_some() {
                self.fault("assignment", format!("`{name}` comes from outside of the script and cannot change"), at);
                self.help(format!("copy it first: `let copy = {name}`"));
            } else {
                self.unknown_name(name, span(at));
            }
            return None;
        };
        match &self.locals[slot].kind {
            LocalKind::Assignable | LocalKind::Parameter => Some(slot as u32),
            LocalKind::Constant => {
                self.fault("assignment", format!("`{name}` is a constant"), at);
                self.help("declare it with `let` to assign to it later");
                None
            }
            LocalKind::Inline(_) => {
                self.fault("assignment", format!("`{name}` is a function and cannot be assigned to"), at);
                None
            }
            LocalKind::Later | LocalKind::Reserved => {
                self.used_early(name, at);
                None
            }
        }
    }

    /// Refuses to change a member of a name that comes from outside.
    pub(super) fn check_inside(&mut self, object: &js::Expression) {
        let mut root = object.without_parentheses();
        loop {
            root = match root {
                js::Expression::StaticMemberExpression(member) => member.object.without_parentheses(),
                js::Expression::ComputedMemberExpression(member) => member.object.without_parentheses(),
                _ => break,
            };
        }
        let js::Expression::Identifier(name) = root else { return };
        let name = name.name.as_str();
        if !self.locals.iter().any(|local| local.name == name) && self.scope.slot(name).is_some() {
            self.fault("assignment", format!("`{name}` comes from outside of the script and cannot change"), root);
            self.help(format!("copy it first: `const copy = structuredClone({name})`"));
        }
    }

    /// Names that are assigned to by a pattern: `[a, b] = [b, a]`.
    fn assigned_pattern(&mut self, target: &js::AssignmentTarget) -> Option<Target> {
        match target {
            js::AssignmentTarget::AssignmentTargetIdentifier(name) => {
                Some(Target::Local(self.assigned_name(name.name.as_str(), &**name)?))
            }
            js::AssignmentTarget::ArrayAssignmentTarget(list) => {
                let mut items = Vec::with_capacity(list.elements.len());
                for element in &list.elements {
                    items.push(match element {
                        None => None,
                        Some(element) => Some(self.assigned_with_default(element)?),
                    });
                }
                let rest = match &list.rest {
                    Some(rest) => Some(Box::new(self.assigned_pattern(&rest.target)?)),
                    None => None,
                };
                Some(Target::List { items, rest })
            }
            js::AssignmentTarget::ObjectAssignmentTarget(object) => {
                let mut members = Vec::with_capacity(object.properties.len());
                for property in &object.properties {
                    match property {
                        js::AssignmentTargetProperty::AssignmentTargetPropertyIdentifier(name) => {
                            let text = name.binding.name.as_str();
                            let at = span(&name.binding);
                            let key = Expr { kind: Kind::Const(Value::text(text)), at };
                            let slot = self.assigned_name(text, &name.binding)?;
                            let default = name.init.as_ref().map(|default| self.expr(default));
                            members.push((key, Target::Local(slot), default));
                        }
                        js::AssignmentTargetProperty::AssignmentTargetPropertyProperty(property) => {
                            let key = self.property_key(&property.name, property.computed);
                            let (target, default) = self.assigned_with_default(&property.binding)?;
                            members.push((key, target, default));
                        }
                    }
                }
                let rest = match object.rest.as_ref().map(|rest| &rest.target) {
                    Some(js::AssignmentTarget::AssignmentTargetIdentifier(name)) => {
                        Some(self.assigned_name(name.name.as_str(), &**name)?)
                    }
                    _ => None,
                };
                Some(Target::Object { members, rest })
            }
            other => {
                self.refuse("assigning to a member by a pattern is", other);
                self.help("take the values into names first");
                None
            }
        }
    }

    fn assigned_with_default(&mut self, target: &js::AssignmentTargetMaybeDefault) -> Option<(Target, Option<Expr>)> {
        match target {
            js::AssignmentTargetMaybeDefault::AssignmentTargetWithDefault(with) => {
                let target = self.assigned_pattern(&with.binding)?;
                Some((target, Some(self.expr(&with.init))))
            }
            other => Some((self.assigned_pattern(other.as_assignment_target()?)?, None)),
        }
    }

    /// `delete a.b`.
    pub(super) fn deletion(&mut self, of: &js::Expression, at: &js::Expression) -> Expr {
        let (object, key) = match of.without_parentheses() {
            js::Expression::StaticMemberExpression(member) if !member.optional => {
                self.check_inside(&member.object);
                let name = &member.property;
                let key = Expr { kind: Kind::Const(Value::text(name.name.as_str())), at: span(name) };
                (self.expr(&member.object), key)
            }
            js::Expression::ComputedMemberExpression(member) if !member.optional => {
                self.check_inside(&member.object);
                (self.expr(&member.object), self.expr(&member.expression))
            }
            _ => return self.refuse("deleting anything but a member is", at),
        };
        Expr { kind: Kind::Delete(Box::new((object, key))), at: span(at) }
    }

    /// `new Error(text)`.
    pub(super) fn error(&mut self, callee: &js::Expression, arguments: &[js::Argument], at: Span) -> Option<Expr> {
        let js::Expression::Identifier(name) = callee else { return None };
        let name = match name.name.as_str() {
            "Error" => "Error",
            "TypeError" => "TypeError",
            "RangeError" => "RangeError",
            _ => return None,
        };
        let message = match arguments.first().and_then(js::Argument::as_expression) {
            Some(message) => self.expr(message),
            None => Expr { kind: Kind::Const(Value::text("")), at },
        };
        Some(Expr { kind: Kind::Error(name, Box::new(message)), at })
    }
}

/// The names that a pattern binds.
fn names_of(pattern: &js::BindingPattern, out: &mut Vec<(String, Span)>) {
    match pattern {
        js::BindingPattern::BindingIdentifier(name) => out.push((name.name.to_string(), span(&**name))),
        js::BindingPattern::ObjectPattern(object) => {
            object.properties.iter().for_each(|property| names_of(&property.value, out));
            if let Some(rest) = &object.rest {
                names_of(&rest.argument, out);
            }
        }
        js::BindingPattern::ArrayPattern(list) => {
            list.elements.iter().flatten().for_each(|item| names_of(item, out));
            if let Some(rest) = &list.rest {
                names_of(&rest.argument, out);
            }
        }
        js::BindingPattern::AssignmentPattern(assignment) => names_of(&assignment.left, out),
    }
}
