//! Runs compiled expressions over shared values.
//!
//! Evaluation is a walk over the compiled form. It reads slots (the workflow's names) by reference, so
//! that `vessel.body.length_m` touches no counter but the last one. Everything is metered; the depth of
//! the walk is bounded by [`super::syntax::MAX_NESTING`], that of values by
//! [`kanzlei_model::value::MAX_DEPTH`].

use std::fmt;

use super::ast::*;
use super::meter::Meter;
use super::methods::Cursor;
use super::ops;
use super::quick::{self, Names};
use super::script::grow::Growing;
use super::script::heap::Heap;
use kanzlei_model::value::{MAX_DEPTH, MAX_WEIGHT, ObjectBuilder, Str, Value};

/// Why an evaluation failed.
#[derive(Clone, Debug, PartialEq)]
pub struct EvalError {
    /// Why it failed.
    pub kind: ErrorKind,
    /// What failed, in a sentence.
    pub message: String,
    /// Where in the expression, as far as known.
    pub at: Option<Span>,
    /// What a script threw.
    pub thrown: Option<Value>,
    /// The values of the script's names where it failed, the innermost last.
    pub locals: Vec<(Str, Value)>,
}

/// Why an evaluation fails.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ErrorKind {
    /// An operation on a value of the wrong type, as ECMAScript's TypeError.
    Type,
    /// A value out of range, or a text that is not what a function reads.
    Range,
    /// The evaluation used up its budget.
    Budget,
    /// It needs more work than it may do at once: nothing came of it yet, and it can be begun again elsewhere.
    Deferred,
    /// It was interrupted from outside: its run's time is up, or the run is stopped.
    Interrupted,
    /// A script threw a value.
    Thrown,
}

impl ErrorKind {
    /// Whether it is an outcome of the expression itself, the same each time.
    pub fn is_outcome(self) -> bool {
        !matches!(self, ErrorKind::Deferred | ErrorKind::Interrupted)
    }

    /// Whether `catch` of a script catches it.
    pub fn is_caught(self) -> bool {
        matches!(self, ErrorKind::Type | ErrorKind::Range | ErrorKind::Thrown)
    }
}

impl EvalError {
    /// A failure of a kind, with its message.
    pub fn new(kind: ErrorKind, message: impl Into<String>) -> Box<Self> {
        Box::new(EvalError { kind, message: message.into(), at: None, thrown: None, locals: Vec::new() })
    }

    /// Refuses a value that is nested too deep or weighs too much.
    pub fn check_size(value: &Value) -> Result<(), Box<Self>> {
        if value.depth() > MAX_DEPTH {
            return Err(EvalError::new(ErrorKind::Range, format!("a value nested deeper than {MAX_DEPTH} levels")));
        }
        if value.weight() > MAX_WEIGHT {
            let most = MAX_WEIGHT >> 20;
            return Err(EvalError::new(ErrorKind::Budget, format!("a value that has more than {most} MiB as JSON")));
        }
        Ok(())
    }
}

impl fmt::Display for EvalError {
    fn fmt(&self, f: &mut fmt::Formatter) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for EvalError {}

/// What ends an evaluation early: a failure, or an optional chain that met nothing.
pub(super) enum Stop {
    Nothing,
    Failed(Box<EvalError>),
}

impl From<Box<EvalError>> for Stop {
    fn from(failure: Box<EvalError>) -> Self {
        Stop::Failed(failure)
    }
}

/// Units of a call beside what it does: finding its arguments a place, and its result.
const CALL: u64 = 2;
/// Units of a text, list or object that is made, beside its bytes: memory of its own.
const MADE: u64 = 2;

pub(super) type Res<T = Value> = Result<T, Stop>;

pub(super) fn type_failure<T>(message: impl Into<String>) -> Res<T> {
    Err(EvalError::new(ErrorKind::Type, message).into())
}

pub(super) fn range_failure<T>(message: impl Into<String>) -> Res<T> {
    Err(EvalError::new(ErrorKind::Range, message).into())
}

pub(super) struct Eval<'a> {
    text: &'a str,
    /// The text of the function of the document that is running.
    inner_text: Option<Str>,
    slots: &'a [Value],
    pub(super) locals: Vec<Value>,
    pub(super) meter: Meter<'a>,
    /// Whether statements are running: lists and objects that are made can be changed.
    pub(super) script: bool,
    pub(super) heap: Heap,
    /// Texts that are appended to.
    pub(super) growing: Vec<Growing>,
    /// What `return` returns, on its way out.
    pub(super) returned: Value,
    /// Which points of the script were reached, where that is wanted.
    pub(super) reached: Option<Vec<bool>>,
    /// The text that was looked into last.
    pub(super) cursor: Cursor,
}

/// Evaluates a compiled expression.
///
/// `slots` are the workflow's values in the order of the scope it was compiled with; one that is
/// missing reads as `undefined`. The meter comes back with what is left of it.
pub(super) fn run<'a>(
    text: &'a str,
    expr: &Expr,
    locals: u32,
    slots: &'a [Value],
    meter: Meter<'a>,
    reached: Option<&mut Vec<bool>>,
) -> (Result<Value, Box<EvalError>>, Meter<'a>) {
    let mut eval = Eval {
        text,
        inner_text: None,
        slots,
        locals: Vec::new(),
        meter,
        script: false,
        heap: Heap::default(),
        growing: Vec::new(),
        returned: Value::Undefined,
        reached: reached.as_deref().cloned(),
        cursor: Cursor::default(),
    };
    eval.locals.resize(locals as usize, Value::Undefined);
    let result = match eval.expr(expr) {
        Ok(value) => Ok(value),
        Err(Stop::Nothing) => Ok(Value::Undefined),
        Err(Stop::Failed(failure)) => Err(failure),
    };
    if let (Some(reached), Some(found)) = (reached, eval.reached) {
        *reached = found;
    }
    (result, eval.meter)
}

impl Eval<'_> {
    /// The value of a name or a constant.
    #[inline(always)]
    fn simple<'e>(&'e self, expr: &'e Expr) -> Option<&'e Value> {
        match &expr.kind {
            Kind::Local(local) => self.locals.get(*local as usize),
            Kind::Const(value) => Some(value),
            Kind::Slot(slot) => self.slots.get(*slot as usize),
            _ => None,
        }
    }

    /// The integer that an expression is, where that takes no more than reading names, and one operator at most.
    #[inline]
    fn integer(&mut self, expr: &Expr) -> Res<Option<i64>> {
        if let Kind::Binary(op, sides) = &expr.kind {
            return match (self.simple(&sides.0), self.simple(&sides.1)) {
                (Some(Value::Int(a)), Some(Value::Int(b))) => {
                    let result = ops::whole(*op, *a, *b);
                    self.meter.work(u64::from(result.is_some()))?;
                    Ok(result)
                }
                _ => Ok(None),
            };
        }
        match self.simple(expr) {
            Some(Value::Int(int)) => Ok(Some(*int)),
            _ => Ok(None),
        }
    }

    /// The integer that an operator makes of two; nothing where anything else is involved. Loops are made of this.
    #[inline]
    pub(super) fn whole(&mut self, op: BinaryOp, sides: &(Expr, Expr)) -> Res<Option<i64>> {
        let Some(a) = self.integer(&sides.0)? else { return Ok(None) };
        let Some(b) = self.integer(&sides.1)? else { return Ok(None) };
        Ok(ops::whole(op, a, b))
    }

    /// Whether a condition holds.
    #[inline]
    pub(super) fn holds(&mut self, test: &Expr) -> Res<bool> {
        if let Kind::Binary(op, sides) = &test.kind
            && let Some(a) = self.integer(&sides.0)?
            && let Some(b) = self.integer(&sides.1)?
            && let Some(holds) = ops::compared(*op, a, b)
        {
            self.meter.work(1)?;
            return Ok(holds);
        }
        Ok(ops::truthy(&self.expr(test)?))
    }

    /// The value that an expression names, where it exists without being computed.
    fn place<'e>(&'e self, expr: &'e Expr) -> Option<&'e Value> {
        match &expr.kind {
            Kind::Slot(_) | Kind::Local(_) | Kind::Const(_) => self.simple(expr),
            Kind::Member { of, name, .. } => match self.place(of)? {
                Value::Object(object) => match object.open() {
                    None => object.get(name),
                    Some(number) => self.heap.members(number)?.get(name),
                },
                _ => None,
            },
            Kind::Index { of, key, .. } => {
                let Value::List(list) = self.place(of)? else { return None };
                let Value::Int(index) = self.place(key)? else { return None };
                match list.open() {
                    None => list.items().get(usize::try_from(*index).ok()?),
                    Some(number) => self.heap.items(number)?.get(usize::try_from(*index).ok()?),
                }
            }
            _ => None,
        }
    }

    pub(super) fn expr(&mut self, expr: &Expr) -> Res {
        self.meter.work(1)?;
        match &expr.kind {
            Kind::Const(value) => Ok(value.clone()),
            Kind::Slot(slot) => Ok(self.slots.get(*slot as usize).cloned().unwrap_or_default()),
            Kind::Local(local) => Ok(self.locals[*local as usize].clone()),
            Kind::Binary(op, sides) => self.binary(*op, &sides.0, &sides.1, expr.at),
            Kind::Member { .. } | Kind::Index { .. } => match self.place(expr) {
                Some(value) => Ok(value.clone()),
                None => self.read(expr),
            },
            Kind::Logical(op, sides) => {
                let left = self.expr(&sides.0)?;
                let take_right = match op {
                    LogicalOp::And => ops::truthy(&left),
                    LogicalOp::Or => !ops::truthy(&left),
                    LogicalOp::Coalesce => left.is_nullish(),
                };
                if take_right { self.expr(&sides.1) } else { Ok(left) }
            }
            Kind::Conditional(parts) => {
                let holds = self.holds(&parts.0)?;
                self.expr(if holds { &parts.1 } else { &parts.2 })
            }
            _ => self.other(expr),
        }
    }

    /// Reads a member or an element that must be computed.
    #[inline(never)]
    fn read(&mut self, expr: &Expr) -> Res {
        match &expr.kind {
            Kind::Member { of, name, optional } => {
                if let Kind::Growing(local) = of.kind
                    && &**name == "length"
                    && let Some(length) = self.length_of_local(local)
                {
                    return Ok(Value::Int(length as i64));
                }
                let object = self.expr(of)?;
                self.member(&object, name, *optional, of, expr.at)
            }
            Kind::Index { of, key, optional } => {
                let object = self.expr(of)?;
                if object.is_nullish() {
                    return self.nothing(&object, *optional, of, "an element", expr.at);
                }
                let key = self.expr(key)?;
                self.index(&object, &key)
            }
            _ => Ok(Value::Undefined),
        }
    }

    /// Evaluates what is not read, compared or computed with.
    #[inline(never)]
    fn other(&mut self, expr: &Expr) -> Res {
        match &expr.kind {
            // These are evaluated where they are met.
            Kind::Const(_)
            | Kind::Slot(_)
            | Kind::Local(_)
            | Kind::Binary(..)
            | Kind::Member { .. }
            | Kind::Index { .. }
            | Kind::Logical(..)
            | Kind::Conditional(_) => Ok(Value::Undefined),
            Kind::Growing(local) => self.local(*local),
            Kind::Template(texts, parts) => self.template(texts, parts),
            Kind::List(items) => self.list(items),
            Kind::Object(properties) => self.object(properties),
            Kind::Chain(inner) => match self.expr(inner) {
                Err(Stop::Nothing) => Ok(Value::Undefined),
                other => other,
            },
            Kind::As(inner, wanted) => {
                let value = self.expr(inner)?;
                let looked = if value.open().is_some() { self.settled(&value)? } else { value.clone() };
                let mut parts = 0;
                let fault = crate::types::misplaced(&looked, &wanted.of, &mut parts);
                self.meter.work(parts)?;
                match fault {
                    None => Ok(value),
                    Some((pointer, why)) => {
                        let place = if pointer.is_empty() { "it".to_owned() } else { format!("`{pointer}`") };
                        let message = format!("this is not `{}`: {place} {why}", wanted.name);
                        // What came in is not what was asked for: no fault of the expression.
                        let mut failure = EvalError::new(ErrorKind::Range, message);
                        failure.at = Some(expr.at);
                        Err(failure.into())
                    }
                }
            }
            Kind::Unary(op, operand) => self.unary(*op, operand),
            Kind::Method(call) => {
                let on = self.expr(&call.on)?;
                if on.is_nullish() {
                    return self.nothing(&on, call.optional, &call.on, &format!("`{}`", call.method.name()), expr.at);
                }
                self.meter.work(CALL)?;
                let result = self.method(call, on);
                self.made(result, expr.at)
            }
            Kind::Match { pattern, text, test } => {
                let text = self.expr(text)?;
                let text = self.text_of(&text)?;
                self.meter.work(pattern.work(text.len()))?;
                if *test {
                    Ok(Value::Bool(pattern.regex.is_match(&text)))
                } else {
                    let result = self.captures(pattern, &text);
                    self.made(result, expr.at)
                }
            }
            Kind::Call(function, args) => {
                let args = self.arg_values(args)?;
                self.call_named(function, &args, expr.at)
            }
            Kind::Static(function, args) => {
                self.meter.work(CALL)?;
                let result = self.static_call(*function, args);
                self.made(result, expr.at)
            }
            Kind::Body(body) => self.enter(body),
            Kind::Assign(assign) => self.assign(assign, true),
            Kind::Update(update) => self.update(update, true),
            Kind::Delete(parts) => self.delete(&parts.0, &parts.1),
            Kind::Change(call) => self.change(call, expr.at),
            Kind::Inline(function, args) => self.call_inline(function, args),
            Kind::Error(name, message) => {
                let message = self.expr(message)?;
                let message = self.text_of(&message)?;
                self.error_value(name, message)
            }
            Kind::Sequence(parts) => {
                let mut last = Value::Undefined;
                for part in parts {
                    last = self.expr(part)?;
                }
                Ok(last)
            }
        }
    }

    /// Puts the place on a failure that has none, and bounds the size of what a call made.
    fn made(&mut self, result: Res, at: Span) -> Res {
        match result {
            Ok(value) => match EvalError::check_size(&value) {
                Ok(()) => Ok(value),
                Err(mut failure) => {
                    failure.at = Some(at);
                    Err(failure.into())
                }
            },
            Err(Stop::Failed(mut failure)) => {
                failure.at.get_or_insert(at);
                Err(Stop::Failed(failure))
            }
            other => other,
        }
    }

    /// Charges for looking through a text.
    pub(super) fn text_work(&mut self, bytes: usize) -> Res<()> {
        Ok(self.meter.work(bytes as u64 / 16)?)
    }

    /// The secret of the run, where there is one.
    pub(super) fn seed(&self) -> Option<&str> {
        self.meter.seed()
    }

    /// Charges for looking through items.
    pub(super) fn item_work(&mut self, items: usize) -> Res<()> {
        Ok(self.meter.work(items as u64)?)
    }

    /// Charges for units of work.
    pub(super) fn work(&mut self, units: u64) -> Res<()> {
        Ok(self.meter.work(units)?)
    }

    /// Charges for text about to be made.
    pub(super) fn will_make(&mut self, bytes: usize) -> Res<()> {
        self.meter.bytes(bytes as u64)?;
        Ok(self.meter.work(bytes as u64 / 64)?)
    }

    pub(super) fn make_text(&mut self, text: impl Into<Str>) -> Res {
        let text = text.into();
        self.meter.work(MADE)?;
        self.will_make(text.len())?;
        Ok(Value::Text(text))
    }

    pub(super) fn make_list(&mut self, items: Vec<Value>) -> Res {
        self.meter.work(MADE)?;
        if self.script {
            self.meter.work(items.len() as u64 / 3)?;
            return self.heap.list(items);
        }
        self.will_make(items.len() * size_of::<Value>())?;
        Ok(Value::list(items))
    }

    /// Makes a list of lists, which are made already.
    pub(super) fn make_rows(&mut self, mut rows: Vec<Value>) -> Res {
        self.meter.work(MADE * rows.len() as u64)?;
        if self.script {
            for row in &mut rows {
                if let Value::List(list) = row {
                    *row = self.heap.list(list.items().to_vec())?;
                }
            }
        }
        self.make_list(rows)
    }

    pub(super) fn make_object(&mut self, builder: ObjectBuilder, members: usize) -> Res {
        self.meter.work(MADE)?;
        if self.script {
            self.meter.work(members as u64)?;
            return self.heap.object(builder);
        }
        self.will_make(members * 64)?;
        Ok(builder.finish())
    }

    pub(super) fn source(&self, at: Span) -> &str {
        let text = self
            .inner_text
            .as_deref()
            .unwrap_or(self.text)
            .get(at.start as usize..at.end as usize)
            .unwrap_or("the value");
        if text.len() > 60 { "the value" } else { text }
    }

    pub(super) fn nothing(&self, value: &Value, optional: bool, of: &Expr, wanted: &str, at: Span) -> Res {
        if optional {
            return Err(Stop::Nothing);
        }
        let mut failure = EvalError::new(
            ErrorKind::Type,
            format!("`{}` is {}, which has no {}", self.source(of.at), value.kind(), wanted.trim_start_matches("an ")),
        );
        failure.at = Some(at);
        Err(failure.into())
    }

    fn member(&mut self, object: &Value, name: &str, optional: bool, of: &Expr, at: Span) -> Res {
        if let Some(number) = object.open() {
            return Ok(match (self.heap.members(number), self.heap.items(number)) {
                (Some(members), _) => members.get(name).cloned().unwrap_or_default(),
                (_, Some(items)) if name == "length" => Value::Int(items.len() as i64),
                _ => Value::Undefined,
            });
        }
        match object {
            Value::Object(object) => Ok(object.get(name).cloned().unwrap_or_default()),
            Value::Text(text) if name == "length" => Ok(Value::Int(self.length_of(text)? as i64)),
            Value::List(list) if name == "length" => Ok(Value::Int(list.items().len() as i64)),
            Value::List(list) => Ok(list.named().and_then(|named| named.get(name)).cloned().unwrap_or_default()),
            Value::Undefined | Value::Null => self.nothing(object, optional, of, &format!("member `{name}`"), at),
            _ => Ok(Value::Undefined),
        }
    }

    pub(super) fn index(&mut self, object: &Value, key: &Value) -> Res {
        let position = match key {
            Value::Int(int) => u32::try_from(*int).ok(),
            Value::Num(num) if num.fract() == 0.0 && (0.0..4_294_967_295.0).contains(num) => Some(*num as u32),
            Value::Text(text) => kanzlei_model::value::array_index(text),
            _ => None,
        };
        match (object, position) {
            (Value::List(list), Some(position)) => {
                let items = match list.open() {
                    None => list.items(),
                    Some(number) => self.heap.items(number).map_or(&[][..], |items| items),
                };
                Ok(items.get(position as usize).cloned().unwrap_or_default())
            }
            (Value::Text(text), Some(position)) => {
                Ok(self.unit_text(text, position as usize)?.map_or(Value::Undefined, Value::Text))
            }
            _ => {
                let name = self.text_of(key)?;
                self.member(
                    object,
                    &name,
                    false,
                    &Expr { kind: Kind::Const(Value::Null), at: Span::default() },
                    Span::default(),
                )
            }
        }
    }

    fn template(&mut self, texts: &[Str], parts: &[Expr]) -> Res {
        let mut out = String::from(&*texts[0]);
        for (part, text) in parts.iter().zip(&texts[1..]) {
            let value = self.expr(part)?;
            self.append_text(&value, &mut out)?;
            out.push_str(text);
        }
        self.make_text(out)
    }

    fn list(&mut self, items: &[Item]) -> Res {
        let mut out = Vec::with_capacity(items.len());
        for item in items {
            match item {
                Item::One(expr) => out.push(self.expr(expr)?),
                Item::Spread(expr) => {
                    let value = self.expr(expr)?;
                    self.spread(&value, &mut out, expr.at)?;
                }
            }
        }
        let list = self.make_list(out);
        self.made(list, Span::default())
    }

    /// Adds what `...value` stands for in a list or in arguments.
    pub(super) fn spread(&mut self, value: &Value, out: &mut Vec<Value>, at: Span) -> Res<()> {
        match value {
            Value::List(_) => {
                let Some(items) = self.items(value) else { return Ok(()) };
                self.item_work(items.len())?;
                self.will_make(size_of_val(&*items))?;
                out.extend_from_slice(&items);
            }
            Value::Text(text) => {
                self.item_work(text.len() * 4)?;
                self.will_make(text.len() * size_of::<Value>())?;
                out.extend(text.chars().map(|c| Value::Text(super::methods::character(c))));
            }
            other => {
                let message = format!("`{}` is {}, which cannot be spread into a list", self.source(at), other.kind());
                let mut failure = EvalError::new(ErrorKind::Type, message);
                failure.at = Some(at);
                return Err(failure.into());
            }
        }
        Ok(())
    }

    fn object(&mut self, properties: &[Property]) -> Res {
        let mut builder = ObjectBuilder::with_capacity(properties.len());
        let mut members = 0;
        for property in properties {
            match property {
                Property::Named(name, expr) => {
                    let value = self.expr(expr)?;
                    builder.insert(name.clone(), value);
                    members += 1;
                }
                Property::Computed(key, expr) => {
                    let key = self.expr(key)?;
                    let value = self.expr(expr)?;
                    builder.insert(self.text_of(&key)?, value);
                    members += 1;
                }
                Property::Spread(expr) => match self.spread_source(expr)? {
                    Value::Object(object) => {
                        self.item_work(object.len() * 4)?;
                        members += object.len();
                        builder.extend(&object);
                    }
                    Value::List(list) => {
                        self.item_work(list.items().len())?;
                        members += list.items().len();
                        for (index, item) in list.items().iter().enumerate() {
                            builder.insert(index.to_string().into(), item.clone());
                        }
                    }
                    Value::Text(text) => {
                        self.item_work(text.len() * 4)?;
                        self.will_make(text.len() * 64)?;
                        for (index, unit) in super::methods::units(&text).enumerate() {
                            builder.insert(index.to_string().into(), Value::Text(unit));
                            members += 1;
                        }
                    }
                    _ => {}
                },
            }
        }
        let object = self.make_object(builder, members);
        self.made(object, Span::default())
    }

    /// What `{...a}` reads members from.
    fn spread_source(&mut self, expr: &Expr) -> Res {
        let value = self.expr(expr)?;
        self.shallow(&value)
    }

    fn unary(&mut self, op: UnaryOp, operand: &Expr) -> Res {
        let value = self.expr(operand)?;
        Ok(match op {
            UnaryOp::Plus => match value {
                Value::Int(_) => value,
                other => Value::Num(self.number_of(&other)?),
            },
            UnaryOp::Minus => match value {
                Value::Int(int) if int != 0 && int != i64::MIN => Value::Int(-int),
                other => Value::Num(-self.number_of(&other)?),
            },
            UnaryOp::Not => Value::Bool(!ops::truthy(&value)),
            UnaryOp::BitNot => Value::Int((!ops::to_int32(self.number_of(&value)?)).into()),
            UnaryOp::TypeOf => Value::text(ops::type_of(&value)),
            UnaryOp::Void => Value::Undefined,
        })
    }

    fn binary(&mut self, op: BinaryOp, left: &Expr, right: &Expr, at: Span) -> Res {
        // Two numbers are what loops are made of.
        if let (Some(a), Some(b)) = (self.simple(left), self.simple(right))
            && let Some(result) = ops::plain(op, a, b)
        {
            return Ok(result);
        }
        // Values that are only read are not cloned.
        if op != BinaryOp::Add && op != BinaryOp::In {
            let made = match self.place(left) {
                Some(_) => None,
                None => Some(self.expr(left)?),
            };
            if let Some(b) = self.place(right)
                && let Some(a) = made.as_ref().or_else(|| self.place(left))
            {
                if let Some(result) = ops::plain(op, a, b) {
                    return Ok(result);
                }
                if a.depth() + b.depth() == 0 {
                    let work = compared(a, b);
                    let result = ops::binary(op, a, b);
                    self.meter.work(work)?;
                    return Ok(result);
                }
            }
            let a = match made {
                Some(a) => a,
                None => self.expr(left)?,
            };
            let b = self.expr(right)?;
            return self.operate(op, &a, &b);
        }
        let a = self.expr(left)?;
        if let Some(b) = self.simple(right)
            && let Some(result) = ops::plain(op, &a, b)
        {
            return Ok(result);
        }
        let b = self.expr(right)?;
        match op {
            BinaryOp::Add => self.add(&a, &b),
            BinaryOp::In => {
                let name = self.text_of(&a)?;
                match &b {
                    Value::Object(object) => Ok(Value::Bool(match object.open() {
                        None => object.get(&name).is_some(),
                        Some(number) => self.heap.members(number).is_some_and(|of| of.get(&name).is_some()),
                    })),
                    Value::List(_) => Ok(Value::Bool(
                        kanzlei_model::value::array_index(&name)
                            .is_some_and(|i| self.items(&b).is_some_and(|items| (i as usize) < items.len()))
                            || &*name == "length",
                    )),
                    other => {
                        let mut failure = EvalError::new(
                            ErrorKind::Type,
                            format!("`{}` is {}; `in` needs an object", self.source(right.at), other.kind()),
                        );
                        failure.at = Some(at);
                        Err(failure.into())
                    }
                }
            }
            _ => self.operate(op, &a, &b),
        }
    }

    pub(super) fn operate(&mut self, op: BinaryOp, a: &Value, b: &Value) -> Res {
        if let Some(result) = ops::plain(op, a, b) {
            return Ok(result);
        }
        if a.open().is_some() || b.open().is_some() {
            let identity = matches!(op, BinaryOp::Eq | BinaryOp::Ne)
                || matches!(op, BinaryOp::LooseEq | BinaryOp::LooseNe) && a.depth() > 0 && b.depth() > 0;
            if identity {
                return Ok(ops::binary(op, a, b));
            }
            let (a, b) = (self.settled(a)?, self.settled(b)?);
            return self.operate(op, &a, &b);
        }
        if a.depth() + b.depth() > 0 {
            self.writes(a)?;
            self.writes(b)?;
        } else {
            self.meter.work(compared(a, b))?;
        }
        Ok(ops::binary(op, a, b))
    }

    pub(super) fn add(&mut self, a: &Value, b: &Value) -> Res {
        if let Some(result) = ops::plain(BinaryOp::Add, a, b) {
            return Ok(result);
        }
        let is_text = |v: &Value| matches!(v, Value::Text(_) | Value::List(_) | Value::Object(_));
        if !is_text(a) && !is_text(b) {
            return Ok(ops::binary(BinaryOp::Add, a, b));
        }
        let mut out = String::new();
        self.append_text(a, &mut out)?;
        self.append_text(b, &mut out)?;
        self.make_text(out)
    }

    /// Calls a function with one argument; the usual case, `item => …`, makes no list of arguments.
    pub(super) fn apply_one(&mut self, function: &Function, item: &Value) -> Res {
        if let Function::Arrow(arrow) = function
            && let Some(parameter) = arrow.quick
        {
            let mut work = 1;
            if let Some(found) = quick::value(&arrow.body, &Names::of(self.slots).and(parameter, item), &mut work) {
                self.meter.work(work)?;
                return Ok(found.into_value());
            }
        }
        self.apply(function, std::slice::from_ref(item))
    }

    /// Calls a function of the document, whose parameters have slots of their own.
    fn call_named(&mut self, function: &Named, args: &[Value], at: Span) -> Res {
        let locals = std::mem::replace(&mut self.locals, vec![Value::Undefined; function.locals as usize]);
        let growing = std::mem::take(&mut self.growing);
        let marks = self.meter.marks().zip(function.points());
        let reached = std::mem::replace(&mut self.reached, marks.map(|(_, points)| vec![false; points.len()]));
        let text = self.inner_text.replace(function.text.clone());
        let result = self.call_arrow(&function.arrow, args);
        self.locals = locals;
        self.growing = growing;
        let found = std::mem::replace(&mut self.reached, reached);
        if let Some(((marks, _), found)) = marks.zip(found) {
            marks.add(&function.text, &found);
        }
        self.inner_text = text;
        result.map_err(|stop| match stop {
            Stop::Failed(mut failure) => {
                failure.at = Some(at);
                failure.message = format!("in `{}`: {}", function.name, failure.message);
                Stop::Failed(failure)
            }
            Stop::Nothing => Stop::Nothing,
        })
    }

    pub(super) fn call_arrow(&mut self, arrow: &Arrow, args: &[Value]) -> Res {
        for (index, param) in arrow.params.iter().enumerate() {
            match (&param.target, &param.default, param.rest) {
                (Target::Local(local), None, false) => {
                    self.set_local(*local, args.get(index).cloned().unwrap_or_default());
                }
                (target, default, rest) => {
                    let value = if rest {
                        self.make_list(args.get(index..).unwrap_or_default().to_vec())?
                    } else {
                        args.get(index).cloned().unwrap_or_default()
                    };
                    self.bind(target, default.as_ref(), value)?;
                }
            }
        }
        match self.expr(&arrow.body) {
            Err(Stop::Nothing) => Ok(Value::Undefined),
            other => other,
        }
    }

    /// Calls a function that a method was given.
    pub(super) fn apply(&mut self, function: &Function, args: &[Value]) -> Res {
        match function {
            Function::Arrow(arrow) => self.call_arrow(arrow, args),
            Function::Static(function) => self.static_values(*function, args),
            Function::Named(function) => self.call_named(function, args, Span::default()),
            Function::Inline(function) => self.inline(function, args),
        }
    }

    pub(super) fn bind(&mut self, target: &Target, default: Option<&Expr>, mut value: Value) -> Res<()> {
        if let (Value::Undefined, Some(default)) = (&value, default) {
            value = self.expr(default)?;
        }
        match target {
            Target::Local(local) => self.set_local(*local, value),
            Target::Object { members, rest } => {
                if value.is_nullish() {
                    return type_failure(format!("{} cannot be destructured", value.kind()));
                }
                let mut taken: Vec<Str> = Vec::with_capacity(members.len());
                for (key, target, default) in members {
                    let key = self.expr(key)?;
                    let member = self.index(&value, &key)?;
                    taken.push(self.text_of(&key)?);
                    self.bind(target, default.as_ref(), member)?;
                }
                if let Some(rest) = rest {
                    let mut builder = ObjectBuilder::default();
                    let mut count = 0;
                    if let Value::Object(object) = &self.shallow(&value)? {
                        self.item_work(object.len() * (1 + taken.len()))?;
                        for (key, member) in object.iter().filter(|(key, _)| !taken.contains(key)) {
                            builder.insert(key.clone(), member.clone());
                            count += 1;
                        }
                    }
                    let rest_value = self.make_object(builder, count)?;
                    self.set_local(*rest, rest_value);
                }
            }
            Target::List { items, rest } => {
                let mut values = Vec::new();
                self.spread(&value, &mut values, Span::default())?;
                let mut values = values.into_iter();
                for item in items {
                    let value = values.next().unwrap_or_default();
                    if let Some((target, default)) = item {
                        self.bind(target, default.as_ref(), value)?;
                    }
                }
                if let Some(rest) = rest {
                    let list = self.make_list(values.collect())?;
                    self.bind(rest, None, list)?;
                }
            }
        }
        Ok(())
    }

    /// The values of arguments; a function or pattern among them leaves its place `undefined`.
    pub(super) fn arg_values(&mut self, args: &[Arg]) -> Res<Vec<Value>> {
        let mut values = Vec::with_capacity(args.len());
        for arg in args {
            match arg {
                Arg::Value(expr) => values.push(self.expr(expr)?),
                Arg::Spread(expr) => {
                    let value = self.expr(expr)?;
                    self.spread(&value, &mut values, expr.at)?;
                }
                Arg::Function(_) | Arg::Pattern(_) => values.push(Value::Undefined),
            }
        }
        Ok(values)
    }
}

/// The work of an operator on two plain values: bytes that are compared, or read as a number.
pub(super) fn compared(a: &Value, b: &Value) -> u64 {
    match (a, b) {
        (Value::Text(a), Value::Text(b)) => a.len().min(b.len()) as u64 / 16,
        (Value::Text(text), _) | (_, Value::Text(text)) => text.len() as u64 / 8,
        _ => 0,
    }
}
