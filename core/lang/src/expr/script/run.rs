//! Executes statements, and reads and writes the lists and objects of a script.

use std::collections::HashMap;
use std::sync::Arc;

use super::super::ast::{Arg, Assign, Assignee, BinaryOp, Expr, Inline, Kind, LogicalOp, Span, Update};
use super::super::eval::{ErrorKind, Eval, EvalError, Res, Stop, range_failure, type_failure};
use super::super::ops;
use super::heap::{Content, Heap};
use super::{AssignOp, Body, ForOf, Loop, Statement, StatementKind, Switch, Try};
use kanzlei_model::value::{MAX_DEPTH, ObjectBuilder, Str, Value};

/// How a statement ends.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Flow {
    /// The next one follows.
    Next,
    /// The statement of a number is left.
    Break(u32),
    /// The loop of a number goes on with its next round.
    Continue(u32),
    /// The body is left; the value is in [`Eval::returned`].
    Return,
}

/// Names whose values a failure shows, and items and members of each; a quarter of it further inside.
const MOST_SHOWN: usize = 40;
/// Characters of a text that a failure shows.
const MOST_TEXT: usize = 400;
/// How deep a failure shows lists and objects.
const DEEPEST_SHOWN: usize = 3;

/// Arguments that are evaluated in place.
const FEW: usize = 4;

/// What a write to something that cannot change reports.
const FROZEN: &str =
    "comes from outside of the script and cannot change; copy it first, with `structuredClone(…)` or `{...value}`";

impl Eval<'_> {
    /// Runs statements, and returns what they return. Where no statements run around them, that is settled.
    pub(in crate::expr) fn enter(&mut self, body: &Body) -> Res {
        if self.script {
            return self.body(body);
        }
        self.script = true;
        let result = self.body(body).and_then(|value| self.settled_as(&value, true)).map_err(|stop| match stop {
            Stop::Failed(mut failure) => {
                self.describe(&mut failure, body);
                Stop::Failed(failure)
            }
            Stop::Nothing => Stop::Nothing,
        });
        self.script = false;
        self.growing.clear();
        self.heap = Heap::default();
        result
    }

    /// Settles what was thrown, and adds the values of the names.
    fn describe(&mut self, failure: &mut EvalError, body: &Body) {
        failure.thrown = failure.thrown.take().and_then(|thrown| self.settled(&thrown).ok());
        if !failure.kind.is_outcome() {
            return;
        }
        let at = failure.at.map_or(u32::MAX, |at| at.start);
        for shown in &body.names {
            let seen = shown.at.end <= at && (at == u32::MAX || at < shown.within.end);
            if !seen || failure.locals.len() >= MOST_SHOWN {
                continue;
            }
            if let Ok(value) = self.local(shown.slot) {
                failure.locals.push((shown.name.clone(), self.sample(&value, 0)));
            }
        }
    }

    /// The beginning of a value, to be shown: of lists the first items, of long texts the first characters.
    fn sample(&self, value: &Value, depth: usize) -> Value {
        let most = if depth == 0 { MOST_SHOWN } else { MOST_SHOWN / 4 };
        match value {
            Value::Text(text) if text.len() > MOST_TEXT => {
                Value::text(text.chars().take(MOST_TEXT).chain(['…']).collect::<String>())
            }
            Value::List(_) | Value::Object(_) if depth > DEEPEST_SHOWN => Value::text("…"),
            Value::List(_) => {
                let Some(items) = self.items(value) else { return Value::Undefined };
                let shown = items.iter().take(most).map(|item| self.sample(item, depth + 1));
                let more = (items.len() > most).then(|| Value::text(format!("… {} more", items.len() - most)));
                Value::list(shown.chain(more).collect())
            }
            Value::Object(object) => {
                let members = match object.open().and_then(|number| self.heap.members(number)) {
                    Some(members) => members.iter(),
                    None => object.iter(),
                };
                let members = members.take(most);
                Value::object(members.map(|(name, member)| (name.clone(), self.sample(member, depth + 1))))
            }
            other => other.clone(),
        }
    }

    fn body(&mut self, body: &Body) -> Res {
        match self.block(&body.statements)? {
            Flow::Return => Ok(std::mem::take(&mut self.returned)),
            _ => Ok(Value::Undefined),
        }
    }

    fn block(&mut self, statements: &[Statement]) -> Res<Flow> {
        for statement in statements {
            match self.statement(statement)? {
                Flow::Next => {}
                other => return Ok(other),
            }
        }
        Ok(Flow::Next)
    }

    /// Notes that a point of the script is reached.
    #[inline]
    fn reach(&mut self, point: u32) {
        if let Some(reached) = &mut self.reached
            && let Some(reached) = reached.get_mut(point as usize)
        {
            *reached = true;
        }
    }

    fn statement(&mut self, statement: &Statement) -> Res<Flow> {
        self.meter.work(1)?;
        if self.reached.is_some() {
            self.reach(statement.point);
        }
        match &statement.kind {
            StatementKind::Define(target, value, _) => {
                let value = match value {
                    Some(value) => self.expr(value)?,
                    None => Value::Undefined,
                };
                self.bind(target, None, value)?;
            }
            StatementKind::Run(expr) => {
                self.effect(expr)?;
            }
            StatementKind::Block(statements) => return self.block(statements),
            StatementKind::If(parts, otherwise) => {
                let (test, then, or) = &**parts;
                if self.holds(test)? {
                    return self.statement(then);
                }
                match or {
                    Some(or) => return self.statement(or),
                    None => self.reach(*otherwise),
                }
            }
            StatementKind::Loop(inner) => return self.rounds(inner),
            StatementKind::ForOf(inner) => return self.for_of(inner),
            StatementKind::Switch(inner) => return self.switch(inner),
            StatementKind::Break(number) => return Ok(Flow::Break(*number)),
            StatementKind::Continue(number) => return Ok(Flow::Continue(*number)),
            StatementKind::Return(value) => {
                self.returned = match value {
                    Some(value) => self.expr(value)?,
                    None => Value::Undefined,
                };
                return Ok(Flow::Return);
            }
            StatementKind::Throw(value) => {
                let thrown = self.expr(value)?;
                return Err(Stop::Failed(self.thrown(thrown, value.at)?));
            }
            StatementKind::Try(inner) => return self.attempt(inner),
        }
        Ok(Flow::Next)
    }

    fn rounds(&mut self, inner: &Loop) -> Res<Flow> {
        match self.block(&inner.first)? {
            Flow::Next => {}
            other => return Ok(other),
        }
        let mut first = inner.body_first;
        loop {
            if !std::mem::take(&mut first)
                && let Some(test) = &inner.test
                && !self.holds(test)?
            {
                return Ok(Flow::Next);
            }
            match self.statement(&inner.body)? {
                Flow::Break(number) if number == inner.number => return Ok(Flow::Next),
                Flow::Continue(number) if number == inner.number => {}
                Flow::Next => {}
                other => return Ok(other),
            }
            if let Some(update) = &inner.update {
                self.effect(update)?;
            }
        }
    }

    fn for_of(&mut self, inner: &ForOf) -> Res<Flow> {
        let of = self.expr(&inner.of)?;
        let mut characters = Vec::new();
        match &of {
            Value::List(_) => {}
            Value::Text(_) => self.spread(&of, &mut characters, inner.of.at)?,
            other => {
                let message = format!("`{}` is {}, which has no items", self.source(inner.of.at), other.kind());
                return failure_at(message, inner.of.at);
            }
        }
        let mut index = 0;
        loop {
            // A list may grow while it is walked through, as in ECMAScript.
            let item = match (&of, of.open()) {
                (_, Some(number)) => self.heap.items(number).and_then(|items| items.get(index)).cloned(),
                (Value::List(list), None) => list.items().get(index).cloned(),
                _ => characters.get(index).cloned(),
            };
            let Some(item) = item else { return Ok(Flow::Next) };
            index += 1;
            self.meter.work(1)?;
            self.bind(&inner.target, None, item)?;
            match self.statement(&inner.body)? {
                Flow::Break(number) if number == inner.number => return Ok(Flow::Next),
                Flow::Continue(number) if number == inner.number => {}
                Flow::Next => {}
                other => return Ok(other),
            }
        }
    }

    fn switch(&mut self, inner: &Switch) -> Res<Flow> {
        let on = self.expr(&inner.on)?;
        let mut chosen = None;
        for (index, (value, _)) in inner.cases.iter().enumerate() {
            if let Some(value) = value {
                let value = self.expr(value)?;
                self.meter.work(super::super::eval::compared(&on, &value))?;
                if ops::strict_equal(&on, &value) {
                    chosen = Some(index);
                    break;
                }
            }
        }
        let chosen = chosen.or_else(|| inner.cases.iter().position(|(value, _)| value.is_none()));
        for (_, statements) in inner.cases.iter().skip(chosen.unwrap_or(inner.cases.len())) {
            match self.block(statements)? {
                Flow::Break(number) if number == inner.number => return Ok(Flow::Next),
                Flow::Next => {}
                other => return Ok(other),
            }
        }
        Ok(Flow::Next)
    }

    fn attempt(&mut self, inner: &Try) -> Res<Flow> {
        let mut result = self.block(&inner.body);
        if let (Err(Stop::Failed(failure)), Some((target, statements))) = (&mut result, &inner.catch)
            && failure.kind.is_caught()
        {
            let caught = match failure.thrown.take() {
                Some(thrown) => thrown,
                None => {
                    let name = if failure.kind == ErrorKind::Range { "RangeError" } else { "TypeError" };
                    self.error_value(name, failure.message.as_str().into())?
                }
            };
            result = match target {
                Some(target) => self.bind(target, None, caught),
                None => Ok(()),
            }
            .and_then(|()| self.block(statements));
        }
        if inner.last.is_empty() || matches!(&result, Err(Stop::Failed(failure)) if !failure.kind.is_caught()) {
            return result;
        }
        let returned = std::mem::take(&mut self.returned);
        match self.block(&inner.last)? {
            Flow::Next => {
                self.returned = returned;
                result
            }
            other => Ok(other),
        }
    }

    fn thrown(&mut self, thrown: Value, at: Span) -> Res<Box<EvalError>> {
        let settled = self.settled(&thrown)?;
        self.work(settled.weight() / 16)?;
        let message = match &settled {
            Value::Object(object) => match object.get("message") {
                Some(message) => self.text_of(message)?.to_string(),
                None => settled.to_json(),
            },
            Value::List(_) => settled.to_json(),
            other => self.text_of(other)?.to_string(),
        };
        let mut failure = EvalError::new(ErrorKind::Thrown, message);
        failure.at = Some(at);
        failure.thrown = Some(thrown);
        Ok(failure)
    }

    /// The object of an error.
    pub(in crate::expr) fn error_value(&mut self, name: &'static str, message: Str) -> Res {
        let mut members = ObjectBuilder::with_capacity(2);
        members.insert("name".into(), Value::text(name));
        members.insert("message".into(), Value::Text(message));
        self.make_object(members, 2)
    }

    /// Calls a function that the statements define, by its name. A few arguments need no memory of their own.
    pub(in crate::expr) fn call_inline(&mut self, function: &Inline, args: &[Arg]) -> Res {
        let mut few: [Value; FEW] = Default::default();
        if args.len() <= FEW && args.iter().all(|arg| matches!(arg, Arg::Value(_))) {
            for (place, arg) in few.iter_mut().zip(args) {
                if let Arg::Value(arg) = arg {
                    *place = self.expr(arg)?;
                }
            }
            return self.inline(function, &few[..args.len()]);
        }
        let args = self.arg_values(args)?;
        self.inline(function, &args)
    }

    /// Calls a function that the statements define.
    pub(in crate::expr) fn inline(&mut self, function: &Inline, args: &[Value]) -> Res {
        self.meter.work(2)?;
        self.call_arrow(&function.arrow, args)
    }

    /// Runs an expression for its effect; its value is not read.
    #[inline]
    fn effect(&mut self, expr: &Expr) -> Res<()> {
        match &expr.kind {
            Kind::Update(update) => self.update(update, false).map(drop),
            Kind::Assign(assign) => self.assign(assign, false).map(drop),
            _ => self.expr(expr).map(drop),
        }
    }

    /// Runs `++` and `--`.
    pub(in crate::expr) fn update(&mut self, update: &Update, wanted: bool) -> Res {
        self.meter.work(1)?;
        if let Assignee::Local(local, _) = &update.to {
            if let Value::Int(int) = &mut self.locals[*local as usize]
                && int.unsigned_abs() < (1 << 53) - 1
            {
                let before = *int;
                *int += update.by;
                return Ok(Value::Int(if update.prefix { before + update.by } else { before }));
            }
            let before = self.local(*local)?;
            let before = self.numeric(&before)?;
            let after = ops::binary(BinaryOp::Add, &before, &Value::Int(update.by));
            self.set_local(*local, after.clone());
            return Ok(if !wanted || update.prefix { after } else { before });
        }
        let Assignee::Member(of, key) = &update.to else { return Ok(Value::Undefined) };
        let object = self.expr(of)?;
        let key = self.key(key)?;
        self.check_place(&object, &key, of)?;
        let before = self.index(&object, &key)?;
        let before = self.numeric(&before)?;
        let after = ops::binary(BinaryOp::Add, &before, &Value::Int(update.by));
        self.write(&object, &key, after.clone(), of)?;
        Ok(if update.prefix { after } else { before })
    }

    /// ToNumeric.
    fn numeric(&mut self, value: &Value) -> Res {
        match value {
            Value::Int(int) => Ok(Value::Int(*int)),
            Value::Num(num) => Ok(Value::Num(*num)),
            other => Ok(Value::Num(self.number_of(other)?)),
        }
    }

    /// Runs an assignment; returns what was assigned where that is wanted.
    pub(in crate::expr) fn assign(&mut self, assign: &Assign, wanted: bool) -> Res {
        match &assign.to {
            Assignee::Local(local, grows) => {
                if assign.op.is_none()
                    && !wanted
                    && let Kind::Binary(op, sides) = &assign.value.kind
                    && let Some(int) = self.whole(*op, sides)?
                {
                    self.meter.work(1)?;
                    self.set_local(*local, Value::Int(int));
                    return Ok(Value::Undefined);
                }
                let value = match assign.op {
                    None => self.expr(&assign.value)?,
                    Some(AssignOp::Binary(op)) => match self.locals[*local as usize] {
                        // Numbers are never in a buffer, unless the name is.
                        ref number @ (Value::Int(_) | Value::Num(_)) => {
                            let before = number.clone();
                            let value = self.expr(&assign.value)?;
                            self.combine(op, &before, &value)?
                        }
                        _ if *grows && op == BinaryOp::Add => return self.append(*local, &assign.value, wanted),
                        _ => {
                            let before = self.local(*local)?;
                            let value = self.expr(&assign.value)?;
                            self.combine(op, &before, &value)?
                        }
                    },
                    Some(AssignOp::Logical(op)) => {
                        let before = self.local(*local)?;
                        match keeps(op, &before) {
                            true => return Ok(before),
                            false => self.expr(&assign.value)?,
                        }
                    }
                };
                if !wanted {
                    self.set_local(*local, value);
                    return Ok(Value::Undefined);
                }
                self.set_local(*local, value.clone());
                Ok(value)
            }
            Assignee::Member(of, key) => {
                let object = self.expr(of)?;
                let made;
                let key = match &key.kind {
                    Kind::Const(key) => key,
                    _ => {
                        made = self.key(key)?;
                        &made
                    }
                };
                let value = match assign.op {
                    None => self.expr(&assign.value)?,
                    Some(op) => {
                        self.check_there(&object, key, of)?;
                        let before = self.index(&object, key)?;
                        match op {
                            AssignOp::Binary(op) => {
                                let value = self.expr(&assign.value)?;
                                self.combine(op, &before, &value)?
                            }
                            AssignOp::Logical(op) if keeps(op, &before) => return Ok(before),
                            AssignOp::Logical(_) => self.expr(&assign.value)?,
                        }
                    }
                };
                if !wanted {
                    self.write(&object, key, value, of)?;
                    return Ok(Value::Undefined);
                }
                self.write(&object, key, value.clone(), of)?;
                Ok(value)
            }
            Assignee::Pattern(target) => {
                let value = self.expr(&assign.value)?;
                self.bind(target, None, value.clone())?;
                Ok(value)
            }
        }
    }

    fn combine(&mut self, op: BinaryOp, before: &Value, value: &Value) -> Res {
        match op {
            BinaryOp::Add => self.add(before, value),
            _ => self.operate(op, before, value),
        }
    }

    /// A key as it is written: numbers stay numbers, all else is text.
    fn key(&mut self, key: &Expr) -> Res {
        let key = self.expr(key)?;
        Ok(match key {
            Value::Int(_) | Value::Text(_) => key,
            other => Value::Text(self.text_of(&other)?),
        })
    }

    /// Refuses to read a member of nothing before it is changed.
    fn check_there(&self, object: &Value, key: &Value, of: &Expr) -> Res<()> {
        match object.is_nullish() {
            true => {
                let name = shown(key);
                failure_at(
                    format!("`{}` is {}, which has no member `{name}` to set", self.source(of.at), object.kind()),
                    of.at,
                )
            }
            false => Ok(()),
        }
    }

    /// Refuses to write where nothing can be written, before the value is computed further.
    fn check_place(&self, object: &Value, key: &Value, of: &Expr) -> Res<()> {
        self.check_there(object, key, of)?;
        match (object, object.open()) {
            (_, Some(_)) => Ok(()),
            (Value::List(_) | Value::Object(_), None) => {
                failure_at(format!("`{}` {FROZEN}", self.source(of.at)), of.at)
            }
            (other, None) => {
                let message = format!("`{}` is {}, which has no members to set", self.source(of.at), other.kind());
                failure_at(message, of.at)
            }
        }
    }

    /// Writes a member or an item.
    fn write(&mut self, object: &Value, key: &Value, value: Value, of: &Expr) -> Res<()> {
        let Some(number) = object.open() else { return self.check_place(object, key, of) };
        self.meter.work(1)?;
        if let Value::Text(text) = &value {
            self.heap.grow(text.len() as u64)?;
        }
        if let Value::Object(_) = object {
            if let Value::Text(name) = key {
                return self.write_member(number, name, value, of);
            }
            let name = self.text_of(key)?;
            return self.write_member(number, &name, value, of);
        }
        let position = match key {
            Value::Int(int) => usize::try_from(*int).ok(),
            Value::Text(text) => kanzlei_model::value::array_index(text).map(|index| index as usize),
            _ => None,
        };
        let length = self.heap.items(number).map_or(0, |items| items.len());
        match position {
            Some(position) if position <= length => {
                let Some(items) = self.heap.items_mut(number) else { return Ok(()) };
                if let Some(item) = items.get_mut(position) {
                    *item = value;
                    return Ok(());
                }
                items.push(value);
                self.heap.grow(24)
            }
            Some(position) => failed(
                range_failure(format!(
                    "`{}` has {length} items; item {position} would leave a gap",
                    self.source(of.at)
                )),
                of.at,
            ),
            None if key.as_text() == Some("length") => self.set_length(number, &value, of),
            None => {
                let message =
                    format!("`{}` is an array, which has no member `{}` to set", self.source(of.at), shown(key));
                failure_at(message, of.at)
            }
        }
    }

    fn write_member(&mut self, number: u32, name: &Str, value: Value, of: &Expr) -> Res<()> {
        self.meter.work(name.len() as u64 / 16)?;
        let Some(members) = self.heap.members_mut(number) else { return Ok(()) };
        if let Some(member) = members.get_mut(name) {
            *member = value;
            return Ok(());
        }
        if &**name == "__proto__" {
            return failure_at("`__proto__` is not the name of a member that can be set".into(), of.at);
        }
        members.insert(name.clone(), value);
        self.heap.grow(64 + name.len() as u64)
    }

    fn set_length(&mut self, number: u32, value: &Value, of: &Expr) -> Res<()> {
        let wanted = self.number_of(value)?;
        let length = self.heap.items(number).map_or(0, |items| items.len());
        if !(wanted >= 0.0 && wanted.fract() == 0.0 && wanted <= length as f64) {
            let message = format!("`{}` has {length} items; its length can only be set to fewer", self.source(of.at));
            return failed(range_failure(message), of.at);
        }
        self.meter.work((length as u64 - wanted as u64) / 8)?;
        if let Some(items) = self.heap.items_mut(number) {
            items.truncate(wanted as usize);
        }
        Ok(())
    }

    /// Deletes a member.
    pub(in crate::expr) fn delete(&mut self, of: &Expr, key: &Expr) -> Res {
        let object = self.expr(of)?;
        let key = self.key(key)?;
        self.check_place(&object, &key, of)?;
        let (Value::Object(_), Some(number)) = (&object, object.open()) else {
            let message = format!("`{}` is an array; use `splice` to remove items", self.source(of.at));
            return failed(type_failure(message), of.at);
        };
        let name = self.text_of(&key)?;
        let members = self.heap.members(number).map_or(0, ObjectBuilder::len);
        self.meter.work(1 + members as u64 / 8)?;
        if let Some(members) = self.heap.members_mut(number) {
            members.remove(&name);
        }
        Ok(Value::Bool(true))
    }

    /// The items of a list, open or not.
    pub(in crate::expr) fn items(&self, value: &Value) -> Option<super::heap::Items> {
        match (value, value.open()) {
            (Value::List(list), None) => Some(super::heap::Items::Plain(list.clone())),
            (Value::List(_), Some(number)) => {
                self.heap.items(number).map(|items| super::heap::Items::Open(items.clone()))
            }
            _ => None,
        }
    }

    /// A list or object as a plain one, whose items and members may still be open; other values as they are.
    pub(in crate::expr) fn shallow(&mut self, value: &Value) -> Res {
        let Some(number) = value.open() else { return Ok(value.clone()) };
        if let Some(items) = self.heap.items(number) {
            self.meter.work(items.len() as u64 / 8)?;
            return Ok(Value::list(items.to_vec()));
        }
        let Some(members) = self.heap.members_mut(number) else { return Ok(Value::Undefined) };
        members.arrange();
        let members = members.clone();
        self.meter.work(members.len() as u64 / 4)?;
        Ok(members.finish())
    }

    /// A value as it is now, all the way down, that no script changes any more.
    ///
    /// # Errors
    /// When it is nested too deep, holds itself, or weighs too much.
    pub(in crate::expr) fn settled(&mut self, value: &Value) -> Res {
        self.settled_as(value, false)
    }

    /// The same; where the script ends, nothing is copied.
    fn settled_as(&mut self, value: &Value, ends: bool) -> Res {
        if value.open().is_none() {
            return Ok(value.clone());
        }
        let settled = self.settle(value, 0, ends, &mut HashMap::new())?;
        EvalError::check_size(&settled)?;
        Ok(settled)
    }

    /// `known` has what is settled, and nothing for what is being settled.
    fn settle(&mut self, value: &Value, depth: u16, ends: bool, known: &mut HashMap<u32, Option<Value>>) -> Res {
        let Some(number) = value.open() else { return Ok(value.clone()) };
        match known.get(&number) {
            Some(Some(known)) => return Ok(known.clone()),
            None if depth <= MAX_DEPTH => {}
            _ => return too_deep(),
        }
        known.insert(number, None);
        let mut inside = |this: &mut Self, value: &mut Value| -> Res<()> {
            if value.open().is_some() {
                *value = this.settle(value, depth + 1, ends, known)?;
            }
            Ok(())
        };
        let settled = match self.heap.content(number, ends) {
            Content::Free => Value::Undefined,
            Content::List(items) => {
                self.meter.work(1 + items.len() as u64)?;
                let mut items = Arc::unwrap_or_clone(items);
                items.iter_mut().try_for_each(|item| inside(self, item))?;
                Value::list(items)
            }
            Content::Object(mut members) => {
                self.meter.work(1 + members.len() as u64)?;
                members.each_value(|member| inside(self, member))?;
                members.finish()
            }
        };
        known.insert(number, Some(settled.clone()));
        Ok(settled)
    }

    /// Makes a value that was read or copied one that the script can change, all the way down.
    pub(in crate::expr) fn opened(&mut self, value: &Value) -> Res {
        if !self.script {
            return Ok(value.clone());
        }
        let mut known = HashMap::new();
        self.open(value, 0, &mut known)
    }

    fn open(&mut self, value: &Value, depth: u16, known: &mut HashMap<u32, Value>) -> Res {
        if depth > MAX_DEPTH {
            return too_deep();
        }
        if let Some(number) = value.open() {
            // A copy keeps what is shared inside it shared.
            if let Some(known) = known.get(&number) {
                return Ok(known.clone());
            }
        }
        let copy = match value {
            Value::List(_) => {
                let Some(items) = self.items(value) else { return Ok(Value::Undefined) };
                self.meter.work(1 + items.len() as u64)?;
                let mut out = Vec::with_capacity(items.len());
                for item in items.iter() {
                    out.push(self.open(item, depth + 1, known)?);
                }
                self.heap.list(out)?
            }
            Value::Object(object) if object.file().is_none() => {
                let plain = self.shallow(value)?;
                let Value::Object(object) = &plain else { return Ok(Value::Undefined) };
                self.meter.work(1 + object.len() as u64)?;
                let mut out = ObjectBuilder::with_capacity(object.len());
                for (name, member) in object.iter() {
                    let member = self.open(member, depth + 1, known)?;
                    out.insert(name.clone(), member);
                }
                self.heap.object(out)?
            }
            other => return Ok(other.clone()),
        };
        if let Some(number) = value.open() {
            known.insert(number, copy.clone());
        }
        Ok(copy)
    }
}

/// A key in a message.
fn shown(key: &Value) -> String {
    match key {
        Value::Text(text) => text.chars().take(40).collect(),
        other => other.to_json(),
    }
}

fn too_deep<T>() -> Res<T> {
    range_failure(format!("a value that holds itself, or is nested deeper than {MAX_DEPTH} levels"))
}

/// Whether an assignment leaves what is there.
fn keeps(op: LogicalOp, before: &Value) -> bool {
    match op {
        LogicalOp::And => !ops::truthy(before),
        LogicalOp::Or => ops::truthy(before),
        LogicalOp::Coalesce => !before.is_nullish(),
    }
}

fn failure_at<T>(message: String, at: Span) -> Res<T> {
    failed(type_failure(message), at)
}

/// Puts the place on a failure.
fn failed<T>(result: Res<T>, at: Span) -> Res<T> {
    result.map_err(|stop| match stop {
        Stop::Failed(mut failure) => {
            failure.at.get_or_insert(at);
            Stop::Failed(failure)
        }
        Stop::Nothing => Stop::Nothing,
    })
}
