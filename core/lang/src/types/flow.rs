//! Types through statements: what is known of the names of a script at each of its places.
//!
//! The walk follows the flow: conditions narrow, assignments set, ways that come together are joined, and loops are walked until
//! nothing changes. Nothing is reported before that. What scripts write into lists and objects is in `sites`.

use super::Type;
use super::infer::Infer;
use super::narrow::{Path, Root};
use super::sites::ROUNDS;
use crate::expr::ast::{Arrow, BinaryOp, Expr, Kind, Span};
use crate::expr::script::{Body, ForOf, Inline, Loop, Statement, StatementKind, Switch, Try};
use kanzlei_model::value::Value;

/// How often a loop is walked before what still changes is unknown.
const WALKS: usize = 6;
/// What is known of parts of names at one place; more is forgotten.
const MOST_FACTS: usize = 80;

/// What is known at a place of a script.
#[derive(Clone, Debug, Default)]
pub(super) struct State {
    pub locals: Vec<Type>,
    pub facts: Vec<(Path, Type)>,
}

/// Where the walk stands among the statements.
#[derive(Debug, Default)]
pub(super) struct Flow {
    /// How many bodies are around: above 0 these are statements.
    pub bodies: u32,
    /// Whether the place can be reached.
    live: bool,
    /// What is returned, and what is known there.
    returned: Vec<(Type, State)>,
    /// What is known where a statement is left, with its number, and whether its loop goes on.
    jumps: Vec<(u32, bool, State)>,
    /// What may be known where an error is caught, for each `try` around.
    trying: Vec<State>,
}

impl Infer<'_> {
    /// The statements of a script or a function: what they return.
    pub(super) fn body(&mut self, body: &Body) -> Type {
        if self.flow.bodies > 0 {
            return self.statements(body);
        }
        self.flow.bodies = 1;
        let parts = self.parts.take();
        let start = self.state();
        for round in 0..ROUNDS {
            self.quietly(|infer| infer.statements(body));
            self.set_state(start.clone());
            if !self.sites.settle(round) {
                break;
            }
        }
        self.parts = parts;
        let of = self.statements(body);
        self.set_state(start);
        self.flow.bodies = 0;
        self.sites.clear();
        of.outside()
    }

    fn statements(&mut self, body: &Body) -> Type {
        let live = std::mem::replace(&mut self.flow.live, true);
        let returned = std::mem::take(&mut self.flow.returned);
        let jumps = std::mem::take(&mut self.flow.jumps);
        self.flow.bodies += 1;
        self.block(&body.statements);
        self.flow.bodies -= 1;
        let mut ways = std::mem::replace(&mut self.flow.returned, returned);
        if self.flow.live {
            let state = self.state();
            ways.push((Type::Undefined, state));
        }
        let of = Type::union(ways.iter().map(|(of, _)| of.clone()));
        let states: Vec<State> = ways.into_iter().map(|(_, state)| state).collect();
        self.meet(states);
        self.flow.live = live;
        self.flow.jumps = jumps;
        of
    }

    pub(super) fn state(&self) -> State {
        State { locals: self.locals.clone(), facts: self.facts.clone() }
    }

    pub(super) fn set_state(&mut self, state: State) {
        (self.locals, self.facts) = (state.locals, state.facts);
    }

    /// Continues where several ways come together; nothing can be reached where there is none.
    fn meet(&mut self, states: Vec<State>) {
        let mut states = states.into_iter();
        let Some(first) = states.next() else {
            self.flow.live = false;
            return;
        };
        let joined = states.fold(first, |all, one| self.join(all, one));
        self.flow.live = true;
        self.set_state(joined);
    }

    fn type_in(&mut self, state: &mut State, path: &Path) -> Type {
        std::mem::swap(&mut self.locals, &mut state.locals);
        std::mem::swap(&mut self.facts, &mut state.facts);
        let of = self.path_type(path);
        std::mem::swap(&mut self.locals, &mut state.locals);
        std::mem::swap(&mut self.facts, &mut state.facts);
        of
    }

    /// What is known after either of two ways.
    pub(super) fn join(&mut self, mut a: State, mut b: State) -> State {
        a.fold();
        b.fold();
        let mut paths: Vec<Path> = Vec::new();
        for (path, _) in a.facts.iter().chain(&b.facts) {
            if paths.len() < MOST_FACTS && !paths.contains(path) {
                paths.push(path.clone());
            }
        }
        let facts = paths
            .into_iter()
            .map(|path| {
                let of = self.type_in(&mut a, &path).or(self.type_in(&mut b, &path));
                (path, of)
            })
            .collect();
        let most = a.locals.len().max(b.locals.len());
        let local = |of: &State, at: usize| of.locals.get(at).cloned().unwrap_or(Type::Never);
        let locals = (0..most).map(|at| local(&a, at).or(local(&b, at))).collect();
        State { locals, facts }
    }

    fn block(&mut self, statements: &[Statement]) {
        for statement in statements {
            if !self.flow.live || self.exhausted() {
                return;
            }
            self.statement(statement);
            self.may_fail();
        }
    }

    /// An error may be caught with what is known here.
    pub(super) fn may_fail(&mut self) {
        if let Some(caught) = self.flow.trying.pop() {
            let now = self.state();
            let joined = self.join(caught, now);
            self.flow.trying.push(joined);
        }
    }

    fn statement(&mut self, statement: &Statement) {
        match &statement.kind {
            StatementKind::Define(target, value, wanted) => {
                let mut of = value.as_ref().map_or(Type::Undefined, |value| self.expr(value));
                if let Some(wanted) = wanted {
                    let at = value.as_ref().map_or(statement.at, |value| value.at);
                    of = match value {
                        Some(_) => self.declared(of, wanted, at),
                        None => (**wanted).clone().or(Type::Undefined),
                    };
                }
                self.bind(target, None, of);
            }
            StatementKind::Run(expr) => {
                self.expr(expr);
            }
            StatementKind::Block(statements) => self.block(statements),
            StatementKind::If(parts, _) => {
                let (test, then, or) = &**parts;
                self.expr(test);
                let base = self.state();
                self.quietly(|infer| infer.assume(test, true));
                self.statement(then);
                let mut ways = self.way();
                self.set_state(base);
                self.flow.live = true;
                self.quietly(|infer| infer.assume(test, false));
                if let Some(or) = or {
                    self.statement(or);
                }
                ways.extend(self.way());
                self.meet(ways);
            }
            StatementKind::Loop(inner) => self.loop_of(inner),
            StatementKind::ForOf(inner) => self.for_of(inner),
            StatementKind::Switch(inner) => self.switch(inner),
            StatementKind::Break(number) => self.jump(*number, false),
            StatementKind::Continue(number) => self.jump(*number, true),
            StatementKind::Return(value) => {
                let of = value.as_ref().map_or(Type::Undefined, |value| self.expr(value));
                let state = self.state();
                self.flow.returned.push((of, state));
                self.flow.live = false;
            }
            StatementKind::Throw(value) => {
                self.expr(value);
                self.may_fail();
                self.flow.live = false;
            }
            StatementKind::Try(inner) => self.attempt(inner),
        }
    }

    /// The way on from here, where there is one.
    fn way(&self) -> Vec<State> {
        if self.flow.live { vec![self.state()] } else { Vec::new() }
    }

    fn jump(&mut self, number: u32, goes_on: bool) {
        let state = self.state();
        self.flow.jumps.push((number, goes_on, state));
        self.flow.live = false;
    }

    /// What is known where jumps to a statement arrive.
    fn arrived(&mut self, number: u32, goes_on: bool) -> Vec<State> {
        let all = std::mem::take(&mut self.flow.jumps);
        let (here, others): (Vec<_>, Vec<_>) = all.into_iter().partition(|(to, on, _)| (*to, *on) == (number, goes_on));
        self.flow.jumps = others;
        here.into_iter().map(|(_, _, state)| state).collect()
    }

    /// Walks something that is repeated until nothing more changes, then once to report; stands before a round afterwards.
    fn repeated(&mut self, round: &mut dyn FnMut(&mut Self)) {
        let mut start = self.state();
        let parts = self.parts.take();
        let (returned, jumps) = (self.flow.returned.len(), self.flow.jumps.len());
        for walk in 0..WALKS {
            self.set_state(start.clone());
            self.flow.live = true;
            self.quietly(|infer| round(infer));
            self.flow.returned.truncate(returned);
            self.flow.jumps.truncate(jumps);
            if !self.flow.live {
                break;
            }
            let end = self.state();
            let next = self.join(start.clone(), end);
            let (next, stable) = start.grown(next, walk);
            start = next;
            if stable || self.exhausted() {
                break;
            }
        }
        self.parts = parts;
        self.set_state(start.clone());
        self.flow.live = true;
        round(self);
        let end = self.way();
        self.meet(std::iter::once(start).chain(end).collect());
    }

    fn loop_of(&mut self, inner: &Loop) {
        self.block(&inner.first);
        if inner.body_first {
            // The first round runs whatever the condition is.
            self.quietly(|infer| {
                let parts = infer.parts.take();
                let (returned, jumps) = (infer.flow.returned.len(), infer.flow.jumps.len());
                infer.statement(&inner.body);
                infer.flow.returned.truncate(returned);
                let ways = infer.arrived(inner.number, true);
                infer.flow.jumps.truncate(jumps);
                let ways: Vec<State> = infer.way().into_iter().chain(ways).collect();
                infer.meet(ways);
                infer.parts = parts;
            });
        }
        let mut broken = Vec::new();
        self.repeated(&mut |infer| {
            broken.clear();
            if let Some(test) = &inner.test {
                infer.expr(test);
                infer.quietly(|infer| infer.assume(test, true));
            }
            infer.statement(&inner.body);
            let mut ways = infer.arrived(inner.number, true);
            ways.extend(infer.way());
            infer.meet(ways);
            if infer.flow.live
                && let Some(update) = &inner.update
            {
                infer.expr(update);
            }
            broken = infer.arrived(inner.number, false);
        });
        // The loop ends where its condition does not hold, or where it is left.
        let mut ways = Vec::new();
        if let Some(test) = &inner.test {
            self.quietly(|infer| {
                infer.expr(test);
                infer.assume(test, false);
            });
            ways = self.way();
        }
        ways.extend(broken);
        self.meet(ways);
    }

    fn for_of(&mut self, inner: &ForOf) {
        let of = self.expr(&inner.of);
        let item = self.items_of(&of, &inner.of);
        let mut broken = Vec::new();
        self.repeated(&mut |infer| {
            infer.bind(&inner.target, None, item.clone());
            infer.statement(&inner.body);
            let mut ways = infer.arrived(inner.number, true);
            ways.extend(infer.way());
            infer.meet(ways);
            broken = infer.arrived(inner.number, false);
        });
        let ways: Vec<State> = self.way().into_iter().chain(broken).collect();
        self.meet(ways);
    }

    fn switch(&mut self, inner: &Switch) {
        self.expr(&inner.on);
        let mut base = self.state();
        let mut through: Vec<State> = Vec::new();
        let equal = |value: &Expr| Expr {
            kind: Kind::Binary(BinaryOp::Eq, Box::new((inner.on.clone(), value.clone()))),
            at: value.at,
        };
        // Where no case fits.
        for value in inner.cases.iter().filter_map(|(value, _)| value.as_ref()) {
            self.expr(&equal(value));
            self.quietly(|infer| infer.assume(&equal(value), false));
        }
        // Where the cases are all that there can be, there is no way past them.
        let past = super::narrow::path(&inner.on).is_none_or(|path| self.path_type(&path) != Type::Never);
        let none = if past { vec![self.state()] } else { Vec::new() };
        for (value, statements) in &inner.cases {
            match value {
                Some(value) => {
                    self.set_state(base.clone());
                    self.flow.live = true;
                    self.quietly(|infer| infer.assume(&equal(value), true));
                    through.push(self.state());
                    self.set_state(base);
                    self.quietly(|infer| infer.assume(&equal(value), false));
                    base = self.state();
                }
                None => through.extend(none.clone()),
            }
            self.meet(std::mem::take(&mut through));
            self.block(statements);
            through = self.way();
        }
        let mut ways = through;
        if inner.cases.iter().all(|(value, _)| value.is_some()) {
            ways.extend(none);
        }
        ways.extend(self.arrived(inner.number, false));
        self.meet(ways);
    }

    fn attempt(&mut self, inner: &Try) {
        let start = self.state();
        self.flow.trying.push(start);
        self.block(&inner.body);
        let mut ways = self.way();
        let mut caught = self.flow.trying.pop().unwrap_or_default();
        if let Some((target, statements)) = &inner.catch {
            self.set_state(caught.clone());
            self.flow.live = true;
            self.flow.trying.push(caught);
            if let Some(target) = target {
                self.bind(target, None, Type::Unknown);
            }
            self.block(statements);
            ways.extend(self.way());
            caught = self.flow.trying.pop().unwrap_or_default();
        }
        if inner.last.is_empty() {
            return self.meet(ways);
        }
        // It also runs where the statement is left, or an error goes on.
        let goes_on = !ways.is_empty();
        let joined = ways.into_iter().fold(caught, |all, one| self.join(all, one));
        self.set_state(joined);
        self.flow.live = true;
        self.block(&inner.last);
        self.flow.live &= goes_on;
    }

    /// Calls a function that statements define: it sees and changes what is around it.
    pub(super) fn inline(&mut self, function: &Inline, args: &[Type]) -> Type {
        self.bind_params(&function.arrow, args);
        self.arrow_body(&function.arrow)
    }

    /// What a function returns whose parameters are bound.
    pub(super) fn arrow_body(&mut self, arrow: &Arrow) -> Type {
        let before = std::mem::replace(&mut self.ends_early, false);
        let of = self.expr(&arrow.body);
        self.ends_early = before;
        match &arrow.returns {
            Some(wanted) => self.declared(of, wanted, arrow.body.at),
            None => of,
        }
    }

    /// A function that is called any number of times.
    pub(super) fn repeatedly(&mut self, arrow: &Arrow, args: &[Type]) -> Type {
        let live = self.flow.live;
        let mut of = Type::Never;
        self.repeated(&mut |infer| {
            infer.bind_params(arrow, args);
            of = infer.arrow_body(arrow);
        });
        self.flow.live = live;
        of
    }

    /// What is declared to be of a type, and is of another one as far as is known.
    pub(super) fn declared(&mut self, of: Type, wanted: &Type, at: Span) -> Type {
        if let Some((pointer, why)) = super::contradiction(&of, wanted) {
            let inside = if pointer.is_empty() { String::new() } else { format!(" at `{pointer}`") };
            let message = format!("this is declared as `{wanted}`{inside}: {why}");
            self.report("annotation", message, at);
        }
        self.sites.declare(&of, wanted)
    }
}

impl State {
    /// Makes what is known of whole names their types. What a script can change stays a fact, which a write forgets.
    fn fold(&mut self) {
        let locals = &mut self.locals;
        self.facts.retain(|(path, of)| match path.root {
            Root::Local(local) if path.members.is_empty() && !of.is_made_here() => {
                // The last one counts.
                if let Some(known) = locals.get_mut(local as usize) {
                    *known = of.clone();
                }
                false
            }
            _ => true,
        });
    }

    /// The next state of a loop, which knows no more than the one before; whether nothing changed.
    fn grown(&self, mut next: State, walk: usize) -> (State, bool) {
        let mut before = self.clone();
        before.fold();
        let mut stable = true;
        for (at, of) in next.locals.iter_mut().enumerate() {
            let known = before.locals.get(at);
            if known.is_none_or(|known| known != of) {
                stable = false;
                *of = match walk {
                    0 => of.clone(),
                    _ if walk + 2 < WALKS => of.widened(),
                    _ => Type::Unknown,
                };
            }
        }
        let count = before.facts.len();
        next.facts.retain(|fact| before.facts.contains(fact));
        stable &= next.facts.len() == count;
        (next, stable)
    }
}

/// A constant key as text.
pub(super) fn constant_key(key: &Expr) -> Option<kanzlei_model::value::Str> {
    match &key.kind {
        Kind::Const(Value::Text(name)) => Some(name.clone()),
        _ => None,
    }
}
