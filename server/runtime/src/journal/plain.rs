//! Ended runs that are recorded as they are: most succeed, have nothing confidential and mention no secret. Their bytes are made
//! from the machine at once; [`row`](super::row) makes text of all others.

use std::borrow::Cow;

use kanzlei_model::run::RunState;
use kanzlei_model::value::Value;
use kanzlei_store::journal::RunLine;
use kanzlei_store::journal::codec::{Encoded, Head, Part, Source, StepHead, TraceId};

use super::Finished;
use super::row::step_head;
use crate::secrets::Secrets;

/// The bytes of a run; nothing where something of it is to be masked, or it has more than so many bytes.
pub(super) fn encoded(run: &Finished, most: usize, secrets: &Secrets, process: &str) -> Option<Encoded> {
    if run.ended.state != RunState::Succeeded || run.machine.plan().labels.any {
        return None;
    }
    let encoded = Encoded::of(&Plain { run, process });
    // Names and ids are searched, too; what is found in them alone is recorded the other way for nothing.
    (encoded.bytes().len() <= most && !secrets.occur_in(encoded.bytes())).then_some(encoded)
}

struct Plain<'r> {
    run: &'r Finished,
    process: &'r str,
}

impl Source for Plain<'_> {
    fn head(&self) -> Head<'_> {
        let run = self.run;
        let plan = run.machine.plan();
        let line = RunLine {
            id: run.id,
            workflow: plan.name.clone(),
            revision: run.revision,
            state: run.ended.state.name().into(),
            entry: run.entry.to_string(),
            status: run.machine.reply().map(|reply| reply.status),
            started: run.started,
            duration: run.ended.at - run.started,
            failed_at: None,
            kind: None,
            detail: None,
        };
        Head {
            line,
            request_id: &run.request_id,
            trace: TraceId::Digits(run.trace.id),
            caller: match plan.uses_caller {
                true => Cow::Borrowed(&run.caller),
                false => Cow::Owned(run.caller.kept(false)),
            },
            process: Some(self.process),
            incomplete: false,
            sealed: None,
        }
    }

    fn steps(&self) -> usize {
        self.run.machine.records().len()
    }

    fn step(&self, at: usize) -> StepHead<'_> {
        let machine = &self.run.machine;
        machine.records().get(at).map(|record| step_head(machine, record)).unwrap_or_default()
    }

    fn value(&self, part: Part, into: &mut String) -> bool {
        let machine = &self.run.machine;
        let of_step = |at: usize| machine.records().get(at);
        let some = |value: &&Value| !matches!(value, Value::Undefined);
        let outcome;
        let value = match part {
            Part::Input => Some(&self.run.input),
            Part::Kept => machine.remembered(),
            Part::Settings => machine.settings(),
            Part::Reply => machine.reply().map(|reply| &reply.body).filter(some),
            Part::Failure => None,
            Part::Sent(at) => of_step(at).map(|record| &record.sent).filter(some),
            Part::Outcome(at) => {
                outcome = of_step(at).map(|record| record.outcome(machine.plan_of(record)));
                outcome.as_deref().filter(some)
            }
            Part::StepFailure(at) => {
                let failure = of_step(at).and_then(|record| record.failure.as_ref());
                return failure.inspect(|failure| failure.to_value().write_json(into)).is_some();
            }
        };
        value.inspect(|value| value.write_json(into)).is_some()
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use kanzlei_compiler::check::{Bundle, check};
    use kanzlei_engine::driver::on_virtual_clock;
    use kanzlei_engine::machine::{Machine, Start};
    use kanzlei_model::caller::Caller;
    use kanzlei_model::time::Timestamp;
    use kanzlei_model::trace::Trace;
    use uuid::Uuid;

    use super::*;

    const WORKFLOW: &str = "workflow: w
input: {n: {type: integer}, note: {type: string}}
steps:
  - each: item
    in: '[1, input.n]'
    steps: [{let: {twice: '${item * 2}'}}]
  - let: {sizes: '${list.chunk([1], input.n - 7)}'}
    catch: [{note: '${failure.kind}'}]
  - {reply: 201, body: {note: '${input.note}'}}
";

    /// A run that has ended, with an input.
    fn finished(text: &str, note: &str) -> Finished {
        let mut bundle = Bundle::default();
        bundle.add("w.yaml", text);
        let checked = check(&bundle);
        assert_eq!(checked.errors(), 0, "{:?}", checked.diagnostics);
        let input = Value::object([("n", Value::Int(7)), ("note", Value::text(note))]);
        let start = Start::new("r", input.clone(), Timestamp::EPOCH);
        let mut machine = Machine::new(Arc::clone(&checked.workflows[0].1), start);
        on_virtual_clock(&mut machine, Timestamp::EPOCH, |_, _| unreachable!());
        Finished {
            id: Uuid::from_u128(7),
            revision: 3,
            entry: "GET /w".into(),
            started: Timestamp::EPOCH,
            request_id: "of the client".into(),
            trace: Trace { id: 12, ..Trace::default() },
            span: 0,
            caller: Caller { key: Some("bridge".into()), ..Caller::named("bridge") },
            input,
            ended: machine.ended().expect("an end").clone(),
            machine,
            sent: 0,
            job: false,
            listed: true,
        }
    }

    /// What is recorded as it is reads like what is made text first.
    #[test]
    fn both_ways_record_the_same() {
        let secrets = Secrets::holding(&[("key", "s3cret-value", "https://registry.example")]);
        let confidential = WORKFLOW.replace("n: {type: integer}", "n: {type: integer, secret: true}");
        let failing = WORKFLOW.replace("    catch: [{note: '${failure.kind}'}]\n", "");
        let asking = WORKFLOW.replace("'${input.note}'", "'${input.note} ${caller.key}'");
        for (text, note, most, plain) in [
            (WORKFLOW, "quiet", 10_000, true),
            (&asking, "quiet", 10_000, true),
            (WORKFLOW, "quiet", 400, false),
            (WORKFLOW, "S3cret-Value", 10_000, false),
            (&confidential, "quiet", 10_000, false),
            (&failing, "quiet", 10_000, false),
        ] {
            let run = finished(text, note);
            let own = encoded(&run, most, &secrets, "a:7080");
            assert_eq!(own.is_some(), plain, "{text} {note} {most}");
            if let Some(own) = own {
                let by_text = Encoded::of(&crate::journal::row(&run, usize::MAX, &secrets, "a:7080"));
                assert_eq!(own.bytes(), by_text.bytes());
                assert_eq!(own.size(), by_text.size());
            }
        }
    }
}
