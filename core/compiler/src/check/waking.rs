//! `await` and `wake`: a run that waits for a callback or by a key, and another that passes a value on to it.
//!
//! Both ends are checked against each other by the documents alone: the workflow that is named must wait by a key, and what it is
//! woken with must be what it accepts.

use std::sync::Arc;
use std::time::Duration;

use super::actions::{At, Compiled};
use super::steps::{End, Walk};
use crate::input::validator;
use crate::plan::{self, sheet};
use kanzlei_lang::document::step::{Action, Await, Step, Wake};
use kanzlei_lang::types::{Text, Type, contradiction, schema};

/// How long a value is kept for a run that does not wait yet, by default.
const KEEPS: Duration = Duration::from_secs(86_400);
/// The most bytes of a schema of what may come: it is kept with each address.
const MOST_OF_SCHEMA: usize = 32 * 1024;

impl Walk<'_, '_, '_> {
    /// `await`: an address that its steps pass on, or a key, and what arrives.
    pub(super) fn awaited(&mut self, wait: &Await, at: At) -> Compiled {
        let At { paragraph, inside, answered } = at;
        let mut end = End { ends: false, answered };
        let what = match &wait.by {
            Some(by) => format!("{} by {}", wait.name.text, sheet::inline(by)),
            None => "callback".to_owned(),
        };
        let title = wait.until.as_ref().map_or(what.clone(), |until| format!("{what} until {}", sheet::inline(until)));
        self.show(paragraph, "await", title, Vec::new());
        self.durable = true;
        let around = self.env.clone();
        let ((slot, block), names) = self.apart(|walk| {
            let slot = walk.define(&wait.name);
            if let Some(slot) = slot {
                walk.env.set(slot, Type::object([("url", Type::TEXT), ("id", Type::TEXT)]));
            }
            let (block, inner) = walk.branch(&wait.steps, inside, "send out", answered);
            end = inner;
            (slot, block)
        });
        // The address is of no use any more; the results of the steps are.
        self.know(names.into_iter().filter(|name| *name != wait.name.text));
        if end.ends {
            self.env = around;
        }
        let by = wait.by.as_ref().map(|node| self.key(node)).map_or(Some(None), |maker| maker.map(Some));
        let until = wait.until.as_ref().map(|node| self.timed(node, &[Text::Span, Text::Instant]));
        let until = until.map_or(Some(None), |maker| maker.map(Some));
        let accepts = self.accepts(wait);
        let of = accepts.as_ref().map_or(Type::Unknown, |accepts| accepts.of.clone());
        let action = (|| {
            let wait = plan::Await { slot: slot?, block, by: by?, accepts, until: until? };
            Some(plan::Action::Await(Box::new(wait)))
        })();
        (action, end, of)
    }

    /// A key by which a run is found: never a value that may be missing.
    fn key(&mut self, node: &kanzlei_lang::document::yaml::Node) -> Option<plan::Maker> {
        let (maker, of) = self.typed(node);
        let missing = of.keep(Type::is_nullish);
        if missing != Type::Never {
            let message = format!("this may be {}, and nothing is found by it then", missing.what());
            self.report.error("maybe-missing", node.at, message);
            self.report.help("name a value that is always there");
            return None;
        }
        maker
    }

    /// What a callback may bring, by the schema of its step.
    fn accepts(&mut self, wait: &Await) -> Option<plan::Accepts> {
        let (document, at) = wait.schema.as_ref()?;
        let text = document.to_string();
        if text.len() > MOST_OF_SCHEMA {
            let message = format!("the schema has {} bytes; at most {MOST_OF_SCHEMA} are allowed", text.len());
            self.report.error("bad-schema", *at, message);
            return None;
        }
        match validator(document) {
            Ok(validator) => Some(plan::Accepts { schema: Arc::from(text), validator, of: schema::read(document) }),
            Err(error) => {
                self.report.error("bad-schema", *at, format!("not a JSON Schema: {error}"));
                None
            }
        }
    }

    /// `wake`: the run of another workflow that waits by a key.
    pub(super) fn wake(&mut self, wake: &Wake, at: At) -> Compiled {
        let end = End { ends: false, answered: at.answered };
        let mut rows = vec![("by".to_owned(), sheet::inline(&wake.by))];
        rows.extend(wake.body.iter().map(|body| ("body".to_owned(), sheet::inline(body))));
        self.show(at.paragraph, "wake", wake.workflow.text.clone(), rows);
        let by = self.key(&wake.by);
        let body = wake.body.as_ref().map(|node| (node, self.typed(node)));
        let mut awaited = Vec::new();
        match self.workflows.get(wake.workflow.text.as_str()).copied() {
            None => self.unknown_workflow(&wake.workflow),
            Some(known) => {
                waits_by_key(&known.steps, &mut awaited);
                waits_by_key(&known.on_failure, &mut awaited);
                if awaited.is_empty() {
                    let message = format!("no step of `{}` waits by a key", wake.workflow.text);
                    self.report.error("wakes-nothing", wake.workflow.at, message);
                    self.report.help("an `await` with `by` waits by a key");
                }
            }
        }
        let accepted = awaited.iter().map(|wait| match &wait.schema {
            Some((document, _)) => schema::read(document),
            None => Type::Unknown,
        });
        let accepted = Type::union(accepted);
        let (at, given) = body.as_ref().map_or((wake.workflow.at, Type::Null), |(node, (_, of))| (node.at, of.clone()));
        if !awaited.is_empty()
            && let Some((pointer, why)) = contradiction(&given, &accepted)
        {
            let pointer = if pointer.is_empty() { String::new() } else { format!(" at `{pointer}`") };
            let message = format!("what waits in `{}` does not accept this{pointer}: {why}", wake.workflow.text);
            self.report.error("wrong-argument", at, message);
        }
        if !self.wakes.contains(&wake.workflow.text) {
            self.wakes.push(wake.workflow.text.clone());
        }
        let body = body.map(|(_, (maker, _))| maker).map_or(Some(None), |maker| maker.map(Some));
        let action = (|| {
            let (workflow, keeps) = (wake.workflow.text.clone(), wake.keeps.unwrap_or(KEEPS));
            Some(plan::Action::Wake(Box::new(plan::Wake { workflow, by: by?, body: body?, keeps })))
        })();
        (action, end, Type::object([("woken", Type::BOOL), ("job", Type::TEXT.or(Type::Null))]))
    }
}

/// The steps that wait by a key.
fn waits_by_key<'d>(steps: &'d [Step], found: &mut Vec<&'d Await>) {
    for step in steps {
        if let Action::Await(wait) = &step.action
            && wait.by.is_some()
        {
            found.push(wait);
        }
        step.inside().into_iter().for_each(|steps| waits_by_key(steps, found));
    }
}
