//! Labels through expressions.

use super::statements::Script;
use super::{DEEPEST, Label};
use crate::expr::Expression;
use crate::expr::ast::{Arg, Arrow, Assignee, BinaryOp, Expr, Function, Item, Kind, Named, Property, Target, UnaryOp};
use crate::expr::functions::{Method, Static};
use crate::expr::template::Template;

/// How often the label of an accumulator is tried before it counts as confidential as a whole.
const ROUNDS: usize = 4;

/// The labels of the names at one place of a workflow, by slot.
#[derive(Clone, Debug, Default)]
pub struct Labels {
    slots: Vec<Label>,
}

impl Labels {
    /// Sets the label of a name.
    pub fn set(&mut self, slot: u32, label: Label) {
        let slot = slot as usize;
        if self.slots.len() <= slot {
            self.slots.resize(slot + 1, Label::Clear);
        }
        self.slots[slot] = label;
    }

    /// The label of a name.
    pub fn get(&self, slot: u32) -> Label {
        self.slots.get(slot as usize).cloned().unwrap_or_default()
    }

    /// Whether an expression reads a name that has something confidential.
    pub fn used(&self, expression: &Expression) -> bool {
        expression.uses().iter().any(|used| self.get(used.slot).any())
    }

    /// The label of what an expression returns.
    pub fn of(&self, expression: &Expression) -> Label {
        // Labels come from names only.
        if !self.used(expression) {
            return Label::Clear;
        }
        self.flow().expr(expression.ast())
    }

    fn flow(&self) -> Flow<'_> {
        Flow { slots: self, locals: Vec::new(), inside: 0, script: Script::default(), mentioned: Vec::new() }
    }

    /// The label of what a script throws.
    pub fn thrown(&self, script: &Expression) -> Label {
        let mut flow = self.flow();
        if self.used(script) {
            flow.expr(script.ast());
        }
        flow.script.thrown
    }

    /// The label of a text with expressions in it.
    pub fn of_template(&self, template: &Template) -> Label {
        match (template, template.expressions()) {
            (Template::Mixed(..), parts) => Label::scalar(parts.iter().any(|part| self.of(part).any())),
            (_, [single]) => self.of(single),
            _ => Label::Clear,
        }
    }
}

pub(super) struct Flow<'l> {
    slots: &'l Labels,
    pub locals: Vec<Label>,
    /// Functions of the document that are being followed.
    inside: u32,
    /// What is known of the script around.
    pub script: Script,
    /// Local names that were read.
    pub mentioned: Vec<u32>,
}

impl Flow<'_> {
    pub(super) fn expr(&mut self, expr: &Expr) -> Label {
        match &expr.kind {
            Kind::Const(_) => Label::Clear,
            Kind::Slot(slot) => self.slots.get(*slot),
            Kind::Local(local) | Kind::Growing(local) => {
                self.mentioned.push(*local);
                self.locals.get(*local as usize).cloned().unwrap_or_default()
            }
            Kind::Template(_, parts) => Label::scalar(self.any(parts)),
            Kind::List(items) => items.iter().fold(Label::Clear, |label, item| {
                label.or(match item {
                    Item::One(one) => Label::list(self.expr(one)),
                    Item::Spread(of) => Label::list(self.expr(of).item()),
                })
            }),
            Kind::Object(properties) => self.object(properties),
            Kind::Member { of, name, .. } => self.expr(of).member(name),
            Kind::Index { of, key, .. } => {
                let label = self.expr(of);
                match &key.kind {
                    Kind::Const(kanzlei_model::value::Value::Text(name)) => label.member(name),
                    _ => label.item(),
                }
            }
            Kind::Chain(inner) | Kind::As(inner, _) => self.expr(inner),
            Kind::Unary(op, operand) => {
                let label = self.expr(operand);
                match op {
                    UnaryOp::Not | UnaryOp::TypeOf | UnaryOp::Void => Label::Clear,
                    UnaryOp::Plus | UnaryOp::Minus | UnaryOp::BitNot => Label::scalar(label.any()),
                }
            }
            Kind::Binary(op, sides) => {
                let any = self.expr(&sides.0).any() | self.expr(&sides.1).any();
                use BinaryOp::*;
                match op {
                    LooseEq | LooseNe | Eq | Ne | Lt | Le | Gt | Ge | In => Label::Clear,
                    Add | Sub | Mul | Div | Rem | Pow | Shl | Shr | UShr | BitOr | BitXor | BitAnd => {
                        Label::scalar(any)
                    }
                }
            }
            Kind::Logical(_, sides) => self.expr(&sides.0).or(self.expr(&sides.1)),
            Kind::Conditional(parts) => self.expr(&parts.1).or(self.expr(&parts.2)),
            Kind::Method(call) => {
                let on = self.expr(&call.on);
                self.method(call.method, &on, &call.args)
            }
            Kind::Match { text, test, .. } => {
                let any = self.expr(text).any() && !test;
                Label::list(Label::scalar(any))
            }
            Kind::Static(function, args) => {
                let labels = self.args(args);
                self.function(*function, &labels, args)
            }
            Kind::Call(function, args) => {
                let labels = self.args(args);
                self.named(function, &labels)
            }
            Kind::Body(body) => self.body(body),
            Kind::Assign(assign) => self.assign(assign),
            Kind::Update(update) => match &update.to {
                Assignee::Local(local, _) => {
                    let any = self.locals.get(*local as usize).is_some_and(Label::any);
                    Label::scalar(any)
                }
                Assignee::Member(of, _) => Label::scalar(self.expr(of).any()),
                Assignee::Pattern(_) => Label::Clear,
            },
            Kind::Delete(_) => Label::Clear,
            Kind::Change(call) => self.change(call),
            Kind::Inline(function, args) => self.inline(function, args),
            Kind::Error(_, message) => {
                let any = self.expr(message).any();
                Label::object([("message", Label::scalar(any))], Label::Clear)
            }
            Kind::Sequence(parts) => parts.iter().fold(Label::Clear, |_, part| self.expr(part)),
        }
    }

    fn any(&mut self, parts: &[Expr]) -> bool {
        parts.iter().any(|part| self.expr(part).any())
    }

    fn object(&mut self, properties: &[Property]) -> Label {
        let mut named: Vec<(kanzlei_model::value::Str, Label)> = Vec::new();
        let mut all = Label::Clear;
        for property in properties {
            match property {
                Property::Named(name, value) => {
                    let label = self.expr(value);
                    named.retain(|(known, _)| known != name);
                    named.push((name.clone(), label));
                }
                // It may be any member, also an existing one.
                Property::Computed(_, value) => all = all.or(self.expr(value)),
                Property::Spread(of) => match self.expr(of) {
                    Label::Object(members) => {
                        for (name, label) in &members.named {
                            let before = named.iter().position(|(known, _)| known == name);
                            let before = before.map(|at| named.swap_remove(at).1).unwrap_or_default();
                            named.push((name.clone(), before.or(label.clone())));
                        }
                        all = all.or(members.rest.clone());
                    }
                    other => all = all.or(other.item()),
                },
            }
        }
        let named: Vec<_> = named.into_iter().map(|(name, label)| (name, label.or(all.clone()))).collect();
        Label::object(named, all)
    }

    /// Labels of arguments; functions and patterns among them have none.
    pub(super) fn args(&mut self, args: &[Arg]) -> Vec<Label> {
        let mut labels = Vec::with_capacity(args.len());
        for arg in args {
            match arg {
                Arg::Value(expr) => labels.push(self.expr(expr)),
                Arg::Spread(expr) => {
                    let item = self.expr(expr).item();
                    labels.extend(std::iter::repeat_n(item, 4));
                }
                Arg::Function(_) | Arg::Pattern(_) => labels.push(Label::Clear),
            }
        }
        labels
    }

    pub(super) fn apply(&mut self, function: &Function, args: &[Label]) -> Label {
        match function {
            Function::Arrow(arrow) => self.arrow(arrow, args),
            Function::Named(named) => self.named(named, args),
            Function::Inline(inline) => self.arrow(&inline.arrow, args),
            Function::Static(function) => self.function(*function, args, &[]),
        }
    }

    fn named(&mut self, function: &Named, args: &[Label]) -> Label {
        if self.inside > DEEPEST {
            return Label::Whole;
        }
        let locals = std::mem::take(&mut self.locals);
        let script = std::mem::take(&mut self.script);
        let mentioned = std::mem::take(&mut self.mentioned);
        self.inside += 1;
        let label = self.arrow(&function.arrow, args);
        self.inside -= 1;
        self.locals = locals;
        self.mentioned = mentioned;
        let inner = std::mem::replace(&mut self.script, script);
        self.script.thrown = std::mem::take(&mut self.script.thrown).or(inner.thrown);
        if inner.written {
            // It may be written into what the arguments hold.
            self.script.written = true;
            self.locals.iter_mut().for_each(|label| *label = Label::Whole);
        }
        label
    }

    pub(super) fn arrow(&mut self, arrow: &Arrow, args: &[Label]) -> Label {
        for (index, param) in arrow.params.iter().enumerate() {
            let mut label = match param.rest {
                true => Label::list(args.iter().skip(index).cloned().fold(Label::Clear, Label::or)),
                false => args.get(index).cloned().unwrap_or_default(),
            };
            if let Some(default) = &param.default {
                label = label.or(self.expr(default));
            }
            self.bind(&param.target, label);
        }
        self.expr(&arrow.body)
    }

    pub(super) fn bind(&mut self, target: &Target, label: Label) {
        match target {
            Target::Local(local) => self.set_local(*local, label),
            Target::Object { members, rest } => {
                for (key, target, default) in members {
                    let mut member = match &key.kind {
                        Kind::Const(kanzlei_model::value::Value::Text(name)) => label.member(name),
                        _ => label.item(),
                    };
                    if let Some(default) = default {
                        member = member.or(self.expr(default));
                    }
                    self.bind(target, member);
                }
                if let Some(rest) = rest {
                    self.set_local(*rest, label);
                }
            }
            Target::List { items, rest } => {
                for (target, default) in items.iter().flatten() {
                    let mut item = label.item();
                    if let Some(default) = default {
                        item = item.or(self.expr(default));
                    }
                    self.bind(target, item);
                }
                if let Some(rest) = rest {
                    self.bind(rest, Label::list(label.item()));
                }
            }
        }
    }

    /// Sets the label of a local name; in a script it keeps what it had before too.
    pub(super) fn set_local(&mut self, local: u32, label: Label) {
        let local = local as usize;
        if self.locals.len() <= local {
            self.locals.resize(local + 1, Label::Clear);
        }
        self.locals[local] = match self.script.in_body() {
            true => std::mem::take(&mut self.locals[local]).or(label),
            false => label,
        };
    }

    fn method(&mut self, method: Method, on: &Label, args: &[Arg]) -> Label {
        use Method::*;
        let labels = self.args(args);
        let function =
            args.iter().find_map(|arg| if let Arg::Function(function) = arg { Option::Some(function) } else { None });
        let item = on.item();
        let each = [item.clone(), Label::Clear, on.clone()];
        let any = on.any() || labels.iter().any(Label::any);
        let joined = labels.iter().cloned().fold(item.clone(), |label, arg| label.or(arg.clone()).or(arg.item()));
        match (method, function) {
            // Questions about a value.
            (
                Includes | IndexOf | LastIndexOf | FindIndex | FindLastIndex | Every | Some | HasOwnProperty | Keys
                | StartsWith | EndsWith | IsWellFormed | LocaleCompare | Search,
                _,
            ) => Label::Clear,
            (Map, Option::Some(function)) => Label::list(self.apply(function, &each)),
            (FlatMap, Option::Some(function)) => {
                let label = self.apply(function, &each);
                Label::list(label.item().or(label))
            }
            (Filter | ToSorted | Slice | ToReversed | Values, _) if matches!(on, Label::List(_)) => on.clone(),
            (Find | FindLast | At, _) => item,
            (Concat | With | ToSpliced, _) if matches!(on, Label::List(_) | Label::Clear) => {
                // A text is concatenated too.
                let parts = if method == Concat { joined } else { labels.into_iter().fold(item, Label::or) };
                match (on, &parts) {
                    (Label::Clear, Label::Scalar) => Label::Whole,
                    _ => Label::list(parts),
                }
            }
            (Entries, _) => Label::list(Label::list(item)),
            (Flat, _) => Label::list(item.item().or(item)),
            (Reduce | ReduceRight, Option::Some(function)) => {
                let mut label = labels.into_iter().next_back().unwrap_or_default();
                if args.len() < 2 {
                    label = item.clone();
                }
                for _ in 0..ROUNDS {
                    let next = self.apply(function, &[label.clone(), item.clone(), Label::Clear, on.clone()]);
                    let next = label.clone().or(next);
                    if next == label {
                        return label;
                    }
                    label = next;
                }
                Label::Whole
            }
            (Split | Match, _) => Label::list(Label::scalar(any)),
            (MatchAll, _) => Label::list(Label::list(Label::scalar(any))),
            (Replace | ReplaceAll, Option::Some(function)) => {
                let text = Label::scalar(on.any());
                let made = self.apply(function, &[text.clone(), text.clone(), text.clone(), text]);
                Label::scalar(any || made.any())
            }
            (ValueOf, _) => on.clone(),
            // Of a value that may be a list as well as a text.
            (Filter | ToSorted | Slice | ToReversed | Values | Concat | With | ToSpliced, _) => {
                if any && *on != Label::Scalar { Label::Whole } else { Label::scalar(any) }
            }
            _ => Label::scalar(any),
        }
    }

    fn function(&mut self, function: Static, labels: &[Label], args: &[Arg]) -> Label {
        use Static::*;
        let first = labels.first().cloned().unwrap_or_default();
        let any = labels.iter().any(Label::any);
        let item = first.item();
        let callback =
            args.iter().find_map(|arg| if let Arg::Function(function) = arg { Some(function) } else { None });
        match function {
            Reveal | DigestSha256 | DigestHmacSha256 | Boolean | IsNaN | IsFinite | ArrayIsArray | NumberIsFinite
            | NumberIsInteger | NumberIsNaN | NumberIsSafeInteger | ObjectHasOwn | ObjectIs | ObjectKeys
            | TimeCompare | TimeIsWorkingDay | DigestHash | DigestHmac | DigestUuid => Label::Clear,
            ListScan => {
                let mut label = labels.last().cloned().unwrap_or_default();
                for _ in 0..ROUNDS {
                    let next = match callback {
                        Some(callback) => self.apply(callback, &[label.clone(), item.clone(), Label::Clear]),
                        None => Label::Clear,
                    };
                    let next = label.clone().or(next);
                    if next == label {
                        return Label::list(label);
                    }
                    label = next;
                }
                Label::Whole
            }
            ArrayOf => Label::list(labels.iter().cloned().fold(Label::Clear, Label::or)),
            ArrayFrom => match callback {
                Some(callback) => Label::list(self.apply(callback, &[item, Label::Clear])),
                None => Label::list(item),
            },
            ObjectValues | ListSortBy | ListUnique => Label::list(item),
            ObjectEntries | ListChunk => Label::list(Label::list(item)),
            ListZip => {
                let items = labels.iter().map(Label::item).fold(Label::Clear, Label::or);
                Label::list(Label::list(items))
            }
            ListGroup => Label::object::<&str>([], Label::list(item)),
            ObjectFromEntries => Label::object::<&str>([], item.item()),
            JsonParse if any => Label::Whole,
            StructuredClone => first,
            _ => Label::scalar(any),
        }
    }
}
