//! What each kind of step does when a fibre reaches it.

use std::num::NonZeroU32;

use super::flow::{Awaits, Begun, Fibre, Flow, What};
use super::{
    Effect, Failure, Keep, Kept, MAX_ITEMS, MAX_KEEP_TRIES, Machine, Remark, Reply, State, header_value, status_code,
};
use kanzlei_compiler::plan::{self, Action, KEPT, Maker, Step};
use kanzlei_lang::expr::{self, Limits, ops};
use kanzlei_model::problem::{Problem, phrase};
use kanzlei_model::run::FailureKind;
use kanzlei_model::time::Timestamp;
use kanzlei_model::value::{ObjectBuilder, Str, Value};

type Made<T> = Result<T, Box<expr::EvalError>>;

impl Machine {
    /// Takes a step whose record was just opened.
    pub(super) fn begin_action(&mut self, at: usize, fibre: &mut Fibre, step: &Step, record: usize) -> Flow {
        if let Some(when) = &step.when {
            match when.eval(&fibre.slots, self.limits()) {
                Ok(value) if ops::truthy(&value) => {}
                Ok(_) => {
                    self.close(fibre, record, State::Skipped, Value::Undefined);
                    return Flow::On;
                }
                Err(failure) => return self.not_evaluated(fibre, record, &failure),
            }
        }
        match self.act(at, fibre, step, record) {
            Ok(flow) => flow,
            Err(failure) => self.not_evaluated(fibre, record, &failure),
        }
    }

    /// An evaluation failed, or has to be begun again.
    pub(super) fn not_evaluated(&mut self, fibre: &mut Fibre, record: usize, failure: &expr::EvalError) -> Flow {
        if failure.kind.is_outcome() {
            if !failure.locals.is_empty() {
                let names = failure.locals.iter().map(|(name, value)| (name.clone(), value.clone()));
                self.records[record].sent = Value::object([("names", Value::object(names))]);
            }
            self.step_failed(fibre, record, Failure::expression(failure))
        } else {
            Flow::Deferred
        }
    }

    fn act(&mut self, at: usize, fibre: &mut Fibre, step: &Step, record: usize) -> Made<Flow> {
        Ok(match &step.action {
            Action::Call(_) => {
                self.records[record].attempts = 1;
                self.start_call(at, fibre, record, 1)
            }
            Action::Let(values) => self.name_values(fibre, step, values, record)?,
            Action::Script(script) => {
                let mut marks = self.marks.take();
                let limits = Limits { work: Limits::script().work, bytes: Limits::script().bytes, ..self.limits() };
                let value = match &mut marks {
                    Some(marks) => script.eval_marking(&fibre.slots, limits, marks.entry(record).or_default()),
                    None => script.eval(&fibre.slots, limits),
                };
                self.marks = marks;
                let value = value?;
                self.close(fibre, record, State::Succeeded, value);
                Flow::On
            }
            Action::If { condition, then, otherwise } => {
                let value = condition.eval(&fibre.slots, self.limits())?;
                let truth = ops::truthy(&value);
                self.records[record].outcome = Value::Bool(truth);
                self.enter(fibre, if truth { Some(*then) } else { *otherwise }, record)
            }
            Action::Match { subject, arms, otherwise, .. } => {
                let value = subject.eval(&fibre.slots, self.limits())?;
                let arm = arms.iter().find(|(test, _)| test.fits(&value)).map(|(_, block)| *block);
                self.records[record].outcome = value;
                self.enter(fibre, arm.or(*otherwise), record)
            }
            Action::Each(each) => self.each(at, fibre, step, each, record)?,
            Action::Together { .. } => self.fork_branches(at, fibre, step, record),
            Action::Invoke(invoke) => self.invoke(at, fibre, invoke, record)?,
            Action::Sql(sql) => self.start_query(at, fibre, sql, record)?,
            Action::File(step) => self.start_file(at, fibre, step, record)?,
            Action::Render(step) => self.start_render(at, fibre, step, record)?,
            Action::Mail(step) => self.start_mail(at, fibre, step, record)?,
            Action::Keep(values) => self.keep(at, fibre, values, record, 1)?,
            Action::Pause(span) => self.pause(at, fibre, span, record)?,
            Action::Until(instant) => {
                let value = instant.make(&fibre.slots, self.limits())?;
                self.wait(at, fibre, record, super::queue::instant(&value)?, What::Pause)
            }
            Action::Enqueue(enqueue) => self.start_enqueue(at, fibre, enqueue, record)?,
            Action::Cancel(cancel) => self.start_cancel(at, fibre, cancel, record)?,
            Action::Await(wait) => {
                let accepts = wait.accepts.as_ref().map(|accepts| accepts.schema.clone());
                self.wait_for(at, fibre, record, Effect::Open { accepts }, What::Open)
            }
            Action::Wake(wake) => self.start_wake(at, fibre, wake, record)?,
            Action::Note(maker) => {
                let value = maker.make(&fibre.slots, self.limits())?;
                self.remarks.push_back(Remark::Note(value.clone()));
                self.close(fibre, record, State::Succeeded, value);
                Flow::Yield
            }
            Action::Progress(maker) => self.progress(fibre, maker, record)?,
            Action::Reply(reply) => {
                let reply = self.made_reply(fibre, reply)?;
                self.reply_with(fibre, record, reply)
            }
            Action::Fail(fail) => self.fail(fibre, fail, record)?,
        })
    }

    fn name_values(&mut self, fibre: &mut Fibre, step: &Step, values: &[(u32, Maker)], record: usize) -> Made<Flow> {
        if let ([(slot, maker)], None) = (values, step.id) {
            let value = maker.make(&fibre.slots, self.limits())?;
            fibre.set(*slot, value.clone());
            self.close(fibre, record, State::Succeeded, Value::Undefined);
            let record = &mut self.records[record];
            (record.outcome, record.named) = (value, NonZeroU32::new(*slot));
            return Ok(Flow::On);
        }
        let names = &self.levels[fibre.level as usize].plan.slots;
        let mut out = ObjectBuilder::with_capacity(values.len());
        for (slot, maker) in values {
            let value = maker.make(&fibre.slots, self.limits())?;
            out.insert(names[*slot as usize].clone(), value.clone());
            fibre.set(*slot, value);
        }
        self.close(fibre, record, State::Succeeded, out.finish());
        Ok(Flow::On)
    }

    fn each(&mut self, at: usize, fibre: &mut Fibre, step: &Step, each: &plan::Each, record: usize) -> Made<Flow> {
        let list = each.list.eval(&fibre.slots, self.limits())?;
        if let Some(reading) = &each.rows {
            return Ok(match super::file::files_in(&list) {
                Ok(files) => self.fork_rows(at, fibre, record, files, reading),
                Err(detail) => self.step_failed(fibre, record, Failure::new(FailureKind::Input, detail)),
            });
        }
        Ok(match list.as_list().map(<[Value]>::len) {
            Some(count) if count <= MAX_ITEMS => self.fork_each(at, fibre, step, record, list),
            Some(count) => {
                let detail = format!("the list has {count} items; a loop takes at most {MAX_ITEMS}");
                self.step_failed(fibre, record, Failure::new(FailureKind::Expression, detail))
            }
            None => {
                let detail = format!("`in` is {}, not an array", list.kind());
                self.step_failed(fibre, record, Failure::new(FailureKind::Expression, detail))
            }
        })
    }

    fn invoke(&mut self, at: usize, fibre: &mut Fibre, invoke: &plan::Invoke, record: usize) -> Made<Flow> {
        let mut input = ObjectBuilder::with_capacity(invoke.send.len());
        for (name, maker) in &invoke.send {
            let value = maker.make(&fibre.slots, self.limits())?;
            if !matches!(value, Value::Undefined) {
                input.insert(name.clone(), value);
            }
        }
        let input = input.finish();
        self.records[record].sent = invoke.plan.input.masked(&input);
        Ok(match invoke.plan.input.accept(&input) {
            Ok(input) => self.fork_invoke(at, fibre, &invoke.plan, record, input),
            Err(problem) => {
                let detail = problem.errors.first().map_or(problem.title.clone(), |error| {
                    format!("`{}` does not accept this input: {} {}", invoke.plan.name, error.pointer, error.detail)
                });
                self.step_failed(fibre, record, Failure::new(FailureKind::Input, detail))
            }
        })
    }

    fn pause(&mut self, at: usize, fibre: &mut Fibre, span: &Maker, record: usize) -> Made<Flow> {
        let span = span.make(&fibre.slots, self.limits())?;
        let text = ops::to_text(&span);
        Ok(match kanzlei_model::duration::parse(&text) {
            Ok(span) => {
                let until = self.now + span;
                self.wait(at, fibre, record, until, What::Pause)
            }
            Err(error) => self.step_failed(fibre, record, Failure::new(FailureKind::Expression, error.to_string())),
        })
    }

    fn progress(&mut self, fibre: &mut Fibre, maker: &Maker, record: usize) -> Made<Flow> {
        let value = maker.make(&fibre.slots, self.limits())?;
        let number = ops::to_number(&value);
        if !(0.0..=1.0).contains(&number) {
            let detail = format!("progress is a number from 0 to 1, not {}", ops::to_text(&value));
            return Ok(self.step_failed(fibre, record, Failure::new(FailureKind::Expression, detail)));
        }
        self.remarks.push_back(Remark::Progress(number));
        self.close(fibre, record, State::Succeeded, value);
        Ok(Flow::Yield)
    }

    /// Ends the run, or the workflow that was invoked, with this failure.
    fn fail(&mut self, fibre: &Fibre, fail: &plan::Fail, record: usize) -> Made<Flow> {
        let problem = self.made_problem(fibre, fail)?;
        let mut failure =
            Failure::new(FailureKind::Fail, problem.detail.clone().unwrap_or_else(|| problem.title.clone()));
        failure.status = Some(problem.status);
        failure.body = problem.to_value();
        let entry = &mut self.records[record];
        entry.state = State::Failed;
        entry.ended = self.now;
        entry.outcome = failure.body.clone();
        failure.problem = Some(Box::new(problem));
        // The steps around it fail with it, as far as they belong to this workflow.
        let mut around = entry.owner;
        while let Some(owner) = around.and_then(|owner| self.records.get_mut(owner as usize)) {
            if owner.level != fibre.level {
                break;
            }
            if owner.state == State::Running {
                owner.state = State::Failed;
                owner.ended = self.now;
            }
            around = owner.owner;
        }
        Ok(Flow::Quit(Box::new(failure)))
    }

    fn made_reply(&self, fibre: &Fibre, reply: &plan::Reply) -> Made<Reply> {
        let make = |maker: &Maker| maker.make(&fibre.slots, self.limits());
        let status = status_code(&make(&reply.status)?, 200)?;
        let mut headers = Vec::with_capacity(reply.headers.len());
        for (name, maker) in &reply.headers {
            let value = make(maker)?;
            if !value.is_nullish() {
                headers.push((name.clone(), header_value(name, &value)?));
            }
        }
        let body = reply.body.as_ref().map(make).transpose()?.unwrap_or_default();
        Ok(Reply { status, headers, body, rows: reply.rows.clone(), problem: false })
    }

    /// Sends the reply to the client, or to the step that invoked this workflow.
    fn reply_with(&mut self, fibre: &mut Fibre, record: usize, reply: Reply) -> Flow {
        let status = Value::Int(reply.status.into());
        let run_itself = fibre.level == 0;
        if reply.rows.is_some() && !run_itself {
            let detail = "rows are replied to a client; a workflow that invokes this one has no use for them";
            return self.step_failed(fibre, record, Failure::new(FailureKind::Input, detail));
        }
        let already = match &mut fibre.own {
            _ if run_itself => &mut self.reply,
            Some(own) => &mut own.reply,
            None => match self.fibres.get_mut(fibre.invocation).and_then(Option::as_mut).and_then(|f| f.own.as_mut()) {
                Some(own) => &mut own.reply,
                None => &mut self.reply,
            },
        };
        if already.is_some() {
            let failure = Failure::new(FailureKind::Expression, "the client already had its answer");
            return self.step_failed(fibre, record, failure);
        }
        *already = Some(reply);
        self.close(fibre, record, State::Succeeded, status);
        if run_itself { Flow::Yield } else { Flow::On }
    }

    fn made_problem(&self, fibre: &Fibre, fail: &plan::Fail) -> Made<Problem> {
        let make = |maker: &Maker| maker.make(&fibre.slots, self.limits());
        let text = |maker: &Option<Maker>| -> Made<Option<String>> {
            let value = maker.as_ref().map(make).transpose()?.filter(|v| !v.is_nullish());
            Ok(value.map(|v| ops::to_text(&v).to_string()))
        };
        let code = status_code(&make(&fail.status)?, 400)?;
        let title = text(&fail.title)?;
        let mut problem = Problem::new(code, title.unwrap_or_else(|| phrase(code).to_owned()));
        problem.detail = text(&fail.detail)?;
        problem.problem_type = text(&fail.problem_type)?;
        if let Some(with) = &fail.with
            && let serde_json::Value::Object(members) = make(with)?.to_serde()
        {
            problem.with = members;
            for own in ["type", "title", "status", "detail", "errors"] {
                problem.with.remove(own);
            }
        }
        Ok(problem)
    }

    /// Waits until an instant.
    pub(super) fn wait(&mut self, at: usize, fibre: &mut Fibre, record: usize, until: Timestamp, what: What) -> Flow {
        let id = self.ask(at, Effect::Wait { until });
        fibre.awaits = Awaits::Effect { id, record: Some(record), what };
        Flow::Waits
    }

    /// Makes the values of a `keep` step from what is remembered now, and asks to remember them.
    fn keep(&mut self, at: usize, fibre: &mut Fibre, values: &[(Str, Maker)], record: usize, tries: u32) -> Made<Flow> {
        self.see_kept(fibre);
        let plan = &self.levels[fibre.level as usize].plan;
        let own = match &fibre.own {
            Some(own) => Some(own),
            None => self.fibres.get(fibre.invocation).and_then(Option::as_ref).and_then(|root| root.own.as_ref()),
        };
        let version = own.and_then(|own| own.kept.as_ref()).map_or(0, |kept| kept.version);
        let mut all = ObjectBuilder::default();
        if let Value::Object(before) = &fibre.slots[KEPT as usize] {
            all.extend(before);
        }
        let mut made = ObjectBuilder::with_capacity(values.len());
        for (name, maker) in values {
            let value = maker.make(&fibre.slots, self.limits())?;
            made.insert(name.clone(), value.clone());
            match value {
                Value::Undefined => {
                    all.remove(name);
                }
                value => all.insert(name.clone(), value),
            }
        }
        let keep = Keep { workflow: plan.name.clone(), version, values: all.finish() };
        let entry = &mut self.records[record];
        entry.attempts = tries;
        entry.sent = made.finish();
        let id = self.ask(at, Effect::Keep(Box::new(keep)));
        fibre.awaits = Awaits::Effect { id, record: Some(record), what: What::Keep { tries } };
        Ok(Flow::Waits)
    }

    /// What was remembered: these values, or another run was faster and they are made anew from its.
    pub(super) fn kept(&mut self, fibre: &mut Fibre, record: usize, tries: u32, result: Result<Kept, String>) -> Flow {
        let kept = match result {
            Ok(kept) => kept,
            Err(detail) => return self.step_failed(fibre, record, Failure::new(FailureKind::Database, detail)),
        };
        let stored = kept.stored;
        match &mut fibre.own {
            Some(own) => own.kept = Some(kept),
            None => {
                let root = self.fibres.get_mut(fibre.invocation).and_then(Option::as_mut);
                if let Some(own) = root.and_then(|root| root.own.as_mut()) {
                    own.kept = Some(kept);
                }
            }
        }
        self.see_kept(fibre);
        if stored {
            let made = self.records[record].sent.clone();
            self.close(fibre, record, State::Succeeded, made);
            return Flow::On;
        }
        if tries >= MAX_KEEP_TRIES {
            let detail = format!("other runs were faster {tries} times in a row");
            return self.step_failed(fibre, record, Failure::new(FailureKind::Conflict, detail));
        }
        fibre.begun = Some(Begun::Keep { record, tries: tries + 1 });
        Flow::On
    }

    /// Makes the values of a `keep` step anew.
    pub(super) fn keep_again(&mut self, at: usize, fibre: &mut Fibre, record: usize, tries: u32) -> Flow {
        let plan = self.levels[fibre.level as usize].plan.clone();
        let (block, place) = self.records[record].place();
        let step = plan.blocks.get(block as usize).and_then(|block| block.get(place));
        let Some(Action::Keep(values)) = step.map(|step| &step.action) else { return Flow::On };
        match self.keep(at, fibre, values, record, tries) {
            Ok(flow) => flow,
            Err(failure) => self.not_evaluated(fibre, record, &failure),
        }
    }
}
