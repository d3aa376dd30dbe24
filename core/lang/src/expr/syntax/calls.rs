//! Calls: which method or function is meant, and what it is given: values, arrow functions, patterns.

use std::sync::Arc;

use oxc_ast::ast as js;
use oxc_ast::ast::RegExpFlags;
use oxc_span::GetSpan;

use super::{Local, LocalKind, Lowering, span};
use crate::expr::ast::*;
use crate::expr::functions::{self, Change, Method, Static};
use crate::expr::pattern::Pattern;
use crate::expr::{Binding, Use, about};
use crate::suggest;
use kanzlei_model::value::Value;

impl Lowering<'_> {
    pub(super) fn call(&mut self, call: &js::CallExpression) -> Expr {
        let at = span(call);
        let (object, method_name, optional) = match &call.callee {
            js::Expression::Identifier(name) => {
                let name = name.name.as_str();
                if let Some(local) = self.locals.iter().rfind(|local| local.name == name) {
                    if let LocalKind::Inline(function) = &local.kind {
                        let function = function.clone();
                        return self.inline_call(function, call);
                    }
                    if local.kind == LocalKind::Later {
                        return self.used_early(name, &call.callee);
                    }
                }
                if !self.in_scope(name) {
                    if self.statements > 0
                        && let Some(error) = self.error(&call.callee, &call.arguments, at)
                    {
                        return error;
                    }
                    if let Some(function) = self.scope.function(name) {
                        self.calls.push((name.into(), span(&call.callee)));
                        return self.named_call(function.clone(), call);
                    }
                    if let Some(function) = Static::by_name(name) {
                        return self.static_call(function, call);
                    }
                    if let Some(reason) = functions::refused(name) {
                        let expr = self.refuse(format!("`{name}` is"), call);
                        self.help(reason);
                        return expr;
                    }
                    let expr = self.fault("unknown-function", format!("there is no function `{name}`"), call);
                    let known: Vec<String> = self
                        .scope
                        .function_names()
                        .map(str::to_owned)
                        .chain(Static::names().map(str::to_owned))
                        .collect();
                    if let Some(near) = suggest::nearest(name, known.iter().map(String::as_str)) {
                        self.did_you_mean(near, &call.callee);
                    }
                    return expr;
                }
                return self.fault("unknown-function", format!("`{name}` is a value, not a function"), call);
            }
            js::Expression::StaticMemberExpression(member) => {
                (&member.object, member.property.name.as_str(), member.optional)
            }
            js::Expression::ParenthesizedExpression(_) | js::Expression::ChainExpression(_) => {
                return self.refuse("calling the value of an expression is", call);
            }
            _ => return self.refuse("calling a computed function is", call),
        };
        if call.optional {
            return self.refuse("`?.(` is", call);
        }
        if let js::Expression::Identifier(namespace) = object {
            let namespace = namespace.name.as_str();
            if !self.in_scope(namespace) && functions::is_namespace(namespace) {
                return match Static::by_name(&format!("{namespace}.{method_name}")) {
                    Some(function) => self.static_call(function, call),
                    None => self.unknown_member_of_namespace(namespace, method_name, call),
                };
            }
        }
        if let js::Expression::RegExpLiteral(literal) = object {
            return self.pattern_call(literal, method_name, call);
        }
        if self.statements > 0
            && let Some(change) = Change::by_name(method_name)
        {
            if change != Change::ForEach {
                self.check_inside(object);
            }
            let on = self.expr(object);
            let args = self.args(change.name(), change.arity(), change.takes_function(), false, call);
            return Expr { kind: Kind::Change(Box::new(ChangeCall { on, change, args, optional })), at };
        }
        let Some(method) = Method::by_name(method_name) else {
            let callee = call.callee.span();
            let name_span = oxc_span::Span::new(callee.end - method_name.len() as u32, callee.end);
            let expr = self.fault("unknown-function", format!("there is no method `{method_name}`"), &name_span);
            if let Some(reason) = functions::refused_method(method_name) {
                self.help(reason);
            } else if let Some(near) = suggest::nearest(method_name, Method::names()) {
                self.did_you_mean(near, &name_span);
            }
            return expr;
        };
        let on = self.expr(object);
        let args = self.args(method.name(), method.arity(), method.takes_function(), method.takes_pattern(), call);
        Expr { kind: Kind::Method(Box::new(MethodCall { on, method, args, optional })), at }
    }

    fn static_call(&mut self, function: Static, call: &js::CallExpression) -> Expr {
        if function == Static::DigestUuid {
            // It is made from the run, and so its use is one of `run`.
            let Some(slot) = self.scope.slot("run") else {
                let expr = self.fault("unknown-function", "`digest.uuid` is known in steps only", call);
                self.help("outside of a run there is none that it could be the same for; pass it on as an argument");
                return expr;
            };
            let at = span(&call.callee);
            self.uses.push(Use { slot, member: Some("id".into()), at, member_at: at });
        }
        let args = self.args(function.name(), function.arity(), function.takes_function(), false, call);
        Expr { kind: Kind::Static(function, args), at: span(call) }
    }

    fn named_call(&mut self, function: Arc<Named>, call: &js::CallExpression) -> Expr {
        let args = self.args(&function.name, function.arrow.arity(), functions::FunctionArg::No, false, call);
        self.nest(function.height, call);
        Expr { kind: Kind::Call(function, args), at: span(call) }
    }

    fn inline_call(&mut self, function: Arc<Inline>, call: &js::CallExpression) -> Expr {
        self.effects += 1;
        let args = self.args(&function.name, function.arrow.arity(), functions::FunctionArg::No, false, call);
        self.nest(function.height, call);
        Expr { kind: Kind::Inline(function, args), at: span(call) }
    }

    /// Counts how deep a function nests that is called here.
    fn nest(&mut self, height: u32, call: &js::CallExpression) {
        let height = self.depth + height;
        if height > super::MAX_NESTING {
            self.fault(
                "expression-too-deep",
                format!("functions nested deeper than {} levels", super::MAX_NESTING),
                call,
            );
        }
        self.height = self.height.max(height);
    }

    fn pattern_call(&mut self, literal: &js::RegExpLiteral, method: &str, call: &js::CallExpression) -> Expr {
        let test = match method {
            "test" => true,
            "exec" => false,
            _ => {
                let expr = self.fault("unknown-function", format!("a pattern has no method `{method}`"), call);
                self.help("a pattern has `test` and `exec`");
                return expr;
            }
        };
        let pattern = self.pattern(literal);
        let text = match call.arguments.first().and_then(js::Argument::as_expression) {
            Some(argument) if call.arguments.len() == 1 => self.boxed(argument),
            _ => return self.fault("wrong-arguments", format!("`{method}` takes one text"), call),
        };
        match pattern {
            Some(pattern) => Expr { kind: Kind::Match { pattern, text, test }, at: span(call) },
            None => Expr { kind: Kind::Const(Value::Undefined), at: span(call) },
        }
    }

    fn pattern(&mut self, literal: &js::RegExpLiteral) -> Option<Arc<Pattern>> {
        let flags = literal.regex.flags;
        for (flag, name) in [(RegExpFlags::Y, "y"), (RegExpFlags::D, "d"), (RegExpFlags::V, "v")] {
            if flags.contains(flag) {
                self.refuse(format!("the pattern flag `{name}` is"), literal);
                return None;
            }
        }
        let source = literal.regex.pattern.text.as_str();
        match Pattern::new(source, &flags.to_string()) {
            Ok(pattern) => Some(Arc::new(pattern)),
            Err(problem) => {
                self.fault("pattern", problem.message, literal);
                if let Some(help) = problem.help {
                    self.help(help);
                }
                None
            }
        }
    }

    fn args(
        &mut self,
        name: &str,
        (least, most): (usize, usize),
        takes_function: functions::FunctionArg,
        takes_pattern: bool,
        call: &js::CallExpression,
    ) -> Vec<Arg> {
        use functions::FunctionArg;
        let spread = call.arguments.iter().any(|a| matches!(a, js::Argument::SpreadElement(_)));
        let given = call.arguments.len();
        if !spread && (given < least || given > most) {
            let wanted = match (least, most) {
                (a, b) if a == b => format!("{a} argument{}", if a == 1 { "" } else { "s" }),
                (a, usize::MAX) => format!("at least {a} argument{}", if a == 1 { "" } else { "s" }),
                (a, b) => format!("{a} to {b} arguments"),
            };
            self.fault("wrong-arguments", format!("`{name}` expects {wanted}, not {given}"), call);
            if let Some(known) = about::method(name).or_else(|| about::function(name)) {
                self.help(format!("write `{}`", known.signature()));
            }
        }
        let mut args = Vec::with_capacity(given);
        for (index, argument) in call.arguments.iter().enumerate() {
            let function_here = match takes_function {
                FunctionArg::No => false,
                FunctionArg::Required(at) | FunctionArg::Optional(at) => at == index,
            };
            let arg = match argument {
                js::Argument::SpreadElement(spread) => {
                    if !matches!(takes_function, FunctionArg::No) {
                        self.refuse("spreading into a method that takes a function is", argument);
                    }
                    Arg::Spread(self.expr(&spread.argument))
                }
                _ => match argument.as_expression().map(js::Expression::without_parentheses) {
                    Some(js::Expression::ArrowFunctionExpression(arrow)) if function_here => match self.arrow(arrow) {
                        Some(arrow) => Arg::Function(Function::Arrow(Arc::new(arrow))),
                        None => continue,
                    },
                    Some(js::Expression::RegExpLiteral(literal)) if takes_pattern && index == 0 => {
                        match self.pattern(literal) {
                            Some(pattern) => {
                                if matches!(name, "replaceAll" | "matchAll") && !pattern.global {
                                    self.fault("pattern", format!("`{name}` needs the pattern flag `g`"), argument);
                                }
                                Arg::Pattern(pattern)
                            }
                            None => continue,
                        }
                    }
                    Some(expr) => {
                        if function_here && let Some(function) = self.function_name(expr) {
                            args.push(Arg::Function(function));
                            continue;
                        }
                        if function_here && matches!(takes_function, FunctionArg::Required(_)) {
                            self.fault("wrong-arguments", format!("`{name}` takes a function here"), argument);
                            self.help("write one as in `item => item.name`");
                            continue;
                        }
                        Arg::Value(self.expr(expr))
                    }
                    None => continue,
                },
            };
            args.push(arg);
        }
        args
    }

    /// `Number`, `String`, `Math.round` … given where a function is wanted.
    fn function_name(&mut self, expr: &js::Expression) -> Option<Function> {
        let name = match expr {
            js::Expression::Identifier(name) => {
                let name = name.name.as_str();
                if let Some(Local { kind: LocalKind::Inline(function), .. }) =
                    self.locals.iter().rfind(|local| local.name == name)
                {
                    let function = function.clone();
                    self.height = self.height.max(self.depth + function.height);
                    self.effects += 1;
                    return Some(Function::Inline(function));
                }
                if let Some(function) = self.scope.function(name).filter(|_| !self.in_scope(name)) {
                    self.height = self.height.max(self.depth + function.height);
                    self.calls.push((name.into(), span(expr)));
                    return Some(Function::Named(function.clone()));
                }
                name.to_owned()
            }
            js::Expression::StaticMemberExpression(member) => match &member.object {
                js::Expression::Identifier(object) => format!("{}.{}", object.name, member.property.name),
                _ => return None,
            },
            _ => return None,
        };
        let first = name.split('.').next().unwrap_or_default();
        if self.in_scope(first) { None } else { Static::by_name(&name).map(Function::Static) }
    }

    pub(super) fn arrow(&mut self, arrow: &js::ArrowFunctionExpression) -> Option<Arrow> {
        if arrow.r#async {
            self.refuse("an async function is", arrow);
            return None;
        }
        let returns = arrow.return_type.as_ref().and_then(|wanted| self.annotation(&wanted.type_annotation));
        let body = match &arrow.body {
            js::ArrowFunctionBody::FunctionBody(body) if self.statements > 0 || self.function => {
                let lowered =
                    self.function_parts(&arrow.params, span(arrow), |this| this.body(&body.statements, span(&**body)));
                return Some(Arrow { returns, ..lowered });
            }
            js::ArrowFunctionBody::FunctionBody(_) => {
                self.refuse("a function body with statements is", arrow);
                self.help("write the value itself: `item => item.name`, or use a `script` step or `functions`");
                return None;
            }
            body => body.as_expression()?,
        };
        let lowered = self.function_parts(&arrow.params, span(arrow), |this| this.expr(body));
        Some(Arrow { returns, ..lowered })
    }

    /// Parameters and body of a function.
    pub(super) fn function_parts(
        &mut self,
        params: &js::FormalParameters,
        at: Span,
        body: impl FnOnce(&mut Self) -> Expr,
    ) -> Arrow {
        let outer = self.locals.len();
        let first = self.bindings.len();
        let (peak, height, depth) = (self.peak, self.height, self.depth);
        let parameters_end = self.parameters_end;
        let declaring = self.declaring.take();
        (self.peak, self.height) = (outer as u32, depth);
        let mut lowered = Vec::with_capacity(params.items.len());
        for param in &params.items {
            let target = self.target(&param.pattern);
            let default = param.initializer.as_ref().map(|default| self.expr(default));
            let wanted = param.type_annotation.as_ref().and_then(|wanted| self.annotation(&wanted.type_annotation));
            lowered.push(Param { target, default, rest: false, wanted });
        }
        if let Some(rest) = &params.rest {
            let target = self.target(&rest.rest.argument);
            lowered.push(Param { target, default: None, rest: true, wanted: None });
        }
        for binding in &mut self.bindings[first..] {
            binding.within = at;
        }
        self.parameters_end = self.locals.len();
        let body = body(self);
        self.locals.truncate(outer);
        self.parameters_end = parameters_end;
        self.declaring = declaring;
        self.arrow_height = self.height - depth;
        self.height = self.height.max(height);
        self.peak = self.peak.max(peak);
        let quick = crate::expr::quick::parameter(&lowered, &body);
        Arrow { params: lowered, body, returns: None, quick }
    }

    /// Takes a slot for a name.
    pub(super) fn push_local(&mut self, name: &str, kind: LocalKind) -> u32 {
        self.locals.push(Local { name: name.to_owned(), kind });
        let count = self.locals.len() as u32;
        self.most_locals = self.most_locals.max(count);
        self.peak = self.peak.max(count);
        count - 1
    }

    /// Notes where a name is bound.
    pub(super) fn bind_name(&mut self, name: &str, at: Span, slot: Option<u32>) {
        let outer = slot.map_or(self.locals.len(), |slot| slot as usize).min(self.locals.len());
        let hides = self.locals[..outer].iter().any(|local| local.name == name)
            || self.scope.slot(name).is_some()
            || self.scope.function(name).is_some();
        self.bindings.push(Binding { name: name.into(), at, within: at, hides });
        self.binding_slots.push(slot);
    }

    fn bind(&mut self, name: &str, at: &impl GetSpan) -> u32 {
        let at = span(at);
        let slot = match self.declaring.clone() {
            Some(kind) => {
                let announced =
                    self.locals.iter().rposition(|local| local.name == name && local.kind == LocalKind::Later);
                match announced {
                    Some(slot) => {
                        self.locals[slot].kind = kind;
                        slot as u32
                    }
                    None => self.push_local(name, kind),
                }
            }
            None => self.push_local(name, LocalKind::Parameter),
        };
        self.bind_name(name, at, Some(slot));
        slot
    }

    pub(super) fn target(&mut self, pattern: &js::BindingPattern) -> Target {
        match pattern {
            js::BindingPattern::BindingIdentifier(name) => Target::Local(self.bind(name.name.as_str(), &**name)),
            js::BindingPattern::ObjectPattern(object) => {
                let mut members = Vec::with_capacity(object.properties.len());
                for property in &object.properties {
                    let key = self.property_key(&property.key, property.computed);
                    let (target, default) = self.target_with_default(&property.value);
                    members.push((key, target, default));
                }
                let rest = match object.rest.as_ref().map(|rest| &rest.argument) {
                    Some(js::BindingPattern::BindingIdentifier(name)) => Some(self.bind(name.name.as_str(), &**name)),
                    _ => None,
                };
                Target::Object { members, rest }
            }
            js::BindingPattern::ArrayPattern(list) => {
                let items =
                    list.elements.iter().map(|item| item.as_ref().map(|item| self.target_with_default(item))).collect();
                let rest = list.rest.as_ref().map(|rest| Box::new(self.target(&rest.argument)));
                Target::List { items, rest }
            }
            js::BindingPattern::AssignmentPattern(assignment) => self.target(&assignment.left),
        }
    }

    fn target_with_default(&mut self, pattern: &js::BindingPattern) -> (Target, Option<Expr>) {
        match pattern {
            js::BindingPattern::AssignmentPattern(assignment) => {
                let target = self.target(&assignment.left);
                (target, Some(self.expr(&assignment.right)))
            }
            _ => (self.target(pattern), None),
        }
    }
}
