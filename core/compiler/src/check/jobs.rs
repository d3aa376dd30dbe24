//! What has to do with jobs: lanes, `enqueue` steps, timetables, and how a workflow runs as a job.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::actions::Takes;
use super::steps::Walk;
use crate::plan::{self, Maker, sheet};
use kanzlei_lang::diagnostic::{Place, Report};
use kanzlei_lang::document::lane::{self, MAIN};
use kanzlei_lang::document::purpose::Purpose;
use kanzlei_lang::document::reader::Named;
use kanzlei_lang::document::step::{Enqueue, Pause};
use kanzlei_lang::document::workflow::{Answer, Timetable, Workflow};
use kanzlei_lang::document::yaml::Node;
use kanzlei_lang::expr::template::Template;
use kanzlei_lang::expr::{Expression, Scope};
use kanzlei_lang::suggest;
use kanzlei_lang::types::{Env, Text, Type, misfit};
use kanzlei_model::duration;
use kanzlei_model::value::{Str, Value};

/// Compiles a lane.
pub(super) fn lane(lane: &lane::Lane, report: &mut Report) -> Option<plan::Lane> {
    let order = match &lane.order {
        lane::Order::Due => plan::Order::Due,
        lane::Order::Strict => plan::Order::Strict,
        lane::Order::Per(node) => {
            let text = node.as_text().unwrap_or_default();
            let mut scope = Scope::default();
            scope.define("input");
            match Expression::compile(text, &scope) {
                Ok(key) => plan::Order::Per(Box::new(key)),
                Err(faults) => {
                    super::report_faults(report, node, faults);
                    return None;
                }
            }
        }
    };
    Some(plan::Lane {
        name: lane.name.text.clone(),
        about: lane.about.clone(),
        at_once: lane.at_once,
        pace: lane.pace,
        order,
        length: lane.length,
        full: lane.full,
        retry: lane.retry.clone(),
    })
}

/// The input of a workflow, by its document.
fn takes(workflow: &Workflow) -> Vec<Takes<'_>> {
    let declared = workflow.input.iter();
    declared.map(|p| (p.name.text.as_str(), &p.schema, p.default.is_none() && !p.optional)).collect()
}

/// Reports workflows whose jobs queue jobs of the same workflow, directly or through others, and that do not look at how
/// long the chain is.
pub(super) fn chains(
    workflows: &[(usize, Arc<Workflow>)],
    plans: &BTreeMap<String, Arc<plan::Plan>>,
    reports: &mut [Report],
) {
    for (index, workflow) in workflows {
        let name = workflow.name.text.as_str();
        let (mut next, mut seen) = (vec![name], BTreeSet::new());
        let mut chain = false;
        while let Some(plan) = next.pop().and_then(|name| plans.get(name)) {
            chain |= plan.enqueues.iter().any(|queued| queued == name);
            let reached = plan.enqueues.iter().chain(&plan.invokes).map(String::as_str);
            next.extend(reached.filter(|name| seen.insert(*name)));
        }
        let report = &mut reports[*index];
        if chain && !report.text().contains("run.generation") {
            let message =
                format!("jobs of `{name}` queue jobs of `{name}`, and nothing here ends the chain for certain");
            report.warning("endless-chain", workflow.name.at, message);
            report.help("end it with a condition on `run.generation`, the number of jobs before this one");
        }
    }
}

impl Walk<'_, '_, '_> {
    /// How the workflow runs as a job; only its input is known here.
    pub(super) fn queue(&mut self) -> plan::Queue {
        let queue = &self.workflow.queue;
        let notify = queue.notify.as_ref().and_then(|notify| {
            let secret = &notify.secret;
            super::services::secret(secret, &Purpose::Signing, self.known, self.report);
            let (to, secret) = (self.maker(&notify.to)?, secret.text.clone());
            Some(plan::Notify { to, secret, private: notify.private })
        });
        plan::Queue {
            lane: queue.lane.as_ref().and_then(|lane| self.lane_choice(lane)),
            priority: queue.priority,
            tag: queue.tag.as_ref().and_then(|tag| self.maker(tag)),
            retry: queue.retry.clone(),
            results: queue.results,
            notify,
        }
    }

    /// A lane that is named, or chosen by an expression whose every value is a lane.
    fn lane_choice(&mut self, node: &Node) -> Option<plan::LaneChoice> {
        let (by, of) = self.typed(node);
        let mut lanes = Vec::new();
        for one in of.alternatives() {
            match one {
                Type::Text(Text::One(name)) => lanes.push(name.to_string()),
                one => {
                    let names = self.lanes.keys().map(String::as_str).chain([MAIN]).collect::<Vec<_>>().join(", ");
                    let message = format!("this may be {}, and a lane is one of {names}", one.what());
                    self.report.error("unknown-lane", node.at, message);
                    self.report.help("choose among names of lanes: `${input.urgent ? 'express' : 'main'}`");
                    return None;
                }
            }
        }
        for lane in lanes.iter().filter(|lane| *lane != MAIN && !self.lanes.contains_key(*lane)) {
            self.report.error("unknown-lane", node.at, format!("there is no lane `{lane}`"));
            match suggest::nearest(lane, self.lanes.keys().map(String::as_str)) {
                Some(near) if by.as_ref().is_some_and(|by| matches!(by, Maker::Const(_))) => {
                    self.report.did_you_mean(near)
                }
                Some(near) => self.report.help(format!("did you mean `{near}`?")),
                None => self.report.help(format!("a lane is a document of its own: `lane: {lane}`")),
            };
        }
        Some(plan::LaneChoice { lanes, by: by? })
    }

    /// The line of an `enqueue` step on the sheet, and what it returns.
    pub(super) fn enqueued(&mut self, enqueue: &Enqueue, paragraph: usize) -> Type {
        let mut rows: Vec<(String, String)> =
            enqueue.send.iter().map(|(name, node)| (name.text.clone(), sheet::inline(node))).collect();
        let mut row = |label: &str, node: &Node| rows.push((label.to_owned(), sheet::inline(node)));
        match &enqueue.due {
            Some(Pause::For(after)) => row("after", after),
            Some(Pause::Until(at)) => row("at", at),
            None => {}
        }
        enqueue.tag.iter().for_each(|tag| row("tag", tag));
        enqueue.spacing.iter().for_each(|spacing| row("spacing", spacing));
        enqueue.lane.iter().for_each(|lane| row("lane", lane));
        let each =
            enqueue.each.as_ref().map(|(list, item)| format!(" for each {} in {}", item.text, sheet::inline(list)));
        self.show(paragraph, "enqueue", format!("{}{}", enqueue.workflow.text, each.unwrap_or_default()), rows);
        match enqueue.each {
            Some(_) => Type::object([("jobs", Type::list(Type::TEXT)), ("group", Type::TEXT), ("count", Type::NUMBER)]),
            None => Type::object([("job", Type::TEXT), ("url", Type::TEXT)]),
        }
    }

    pub(super) fn enqueue(&mut self, enqueue: &Enqueue) -> Option<plan::Enqueue> {
        let workflow = &enqueue.workflow;
        let list = match &enqueue.each {
            None => None,
            Some((list, item)) => {
                let compiled = self.condition("in", list);
                Some((compiled, item, self.list_item(list)))
            }
        };
        let spacing = self.span(enqueue.spacing.as_ref())?;
        let around = self.env.clone();
        let ((slot, send, due, tag, lane), _) = self.apart(|walk| {
            let slot = list.as_ref().map(|(_, item, of)| {
                let slot = walk.define(item);
                if let Some(slot) = slot {
                    walk.env.set(slot, of.clone());
                }
                slot
            });
            let send: Vec<_> = enqueue.send.iter().map(|(name, node)| (name, node, walk.typed(node))).collect();
            let due = match &enqueue.due {
                Some(Pause::For(node)) => walk.span(Some(node)).map(|maker| maker.map(plan::Due::After)),
                Some(Pause::Until(node)) => walk.timed(node, &[Text::Instant]).map(|maker| Some(plan::Due::At(maker))),
                None => Some(None),
            };
            let tag = match &enqueue.tag {
                Some(node) => walk.maker(node).map(Some),
                None => Some(None),
            };
            let lane = match &enqueue.lane {
                Some(node) => walk.lane_choice(node).map(Some),
                None => Some(None),
            };
            (slot, send, due, tag, lane)
        });
        self.env = around;
        let sent: Vec<(&Named, &Node, Type)> =
            send.iter().map(|(name, node, (_, of))| (*name, *node, of.clone())).collect();
        match self.workflows.get(workflow.text.as_str()).copied() {
            Some(_) if workflow.text.contains('.') => {
                let message = format!("`{}` is a group of steps, and only a workflow runs as a job", workflow.text);
                self.report.error("unknown-workflow", workflow.at, message);
                self.report.help("write a workflow that invokes it");
            }
            None => self.unknown_workflow(workflow),
            Some(known) => self.sent_to(workflow, &takes(known), known.extra, &sent),
        }
        if !self.enqueues.contains(&workflow.text) {
            self.enqueues.push(workflow.text.clone());
        }
        let send = send.into_iter().map(|(name, _, (maker, _))| Some((name.text.as_str().into(), maker?)));
        let each = match (list, slot) {
            (Some((list, _, _)), Some(slot)) => Some((list?, slot?)),
            _ => None,
        };
        Some(plan::Enqueue {
            workflow: workflow.text.clone(),
            send: send.collect::<Option<_>>()?,
            due: due?,
            lane: lane?,
            tag: tag?,
            priority: enqueue.priority,
            each,
            spacing,
        })
    }

    /// A text that is a time of some kind: reported where it can be none.
    pub(super) fn timed(&mut self, node: &Node, wanted: &[Text]) -> Option<Maker> {
        let (maker, of) = self.typed(node);
        let exact =
            |text: &str| !wanted.contains(&Text::Span) || Text::Instant.holds(text) || duration::parse(text).is_ok();
        if let Some((why, help)) = misfit(&of, wanted) {
            self.report.error("wrong-value", node.at, why);
            help.map(|help| self.report.help(help));
        } else if of.may_be_missing() {
            let missing = of.keep(Type::is_nullish).what();
            self.report.error("maybe-missing", node.at, format!("this may be {missing}, and a time is needed"));
            self.report.help("add a default: `?? …`");
        } else if let Type::Text(Text::One(text)) = &of
            && !exact(text)
        {
            let message = format!("`{text}` has no exact length: months and years differ");
            self.report.error("wrong-value", node.at, message);
            self.report.help("write it in days, hours or seconds");
        }
        maker
    }

    /// A span; nothing for one that is wrong.
    fn span(&mut self, node: Option<&Node>) -> Option<Option<Maker>> {
        node.map_or(Some(None), |node| self.timed(node, &[Text::Span]).map(Some))
    }

    /// A workflow that waits longer than a client can is answered later.
    pub(super) fn durable_entries(&mut self) {
        let reported = !self.durable || self.report.has_errors();
        for webhook in self.workflow.webhooks.iter().filter(|webhook| !reported && webhook.answer != Answer::Later) {
            let message = format!("`{}` answers now, and the workflow waits too long for that", webhook.address);
            self.report.error("needs-a-job", webhook.at, message);
            self.report.help("leave `answer` out: the sender gets 202 when the message is kept");
        }
        for endpoint in self.workflow.entries.iter().filter(|_| !reported) {
            if endpoint.answer != Answer::Later {
                let message = format!(
                    "`{} {}` answers now, and the workflow waits too long for that",
                    endpoint.method, endpoint.address
                );
                self.report.error("needs-a-job", endpoint.at, message);
                self.report.help("say `answer: later`: the client gets 202 and the address of a job");
            }
        }
    }

    pub(super) fn timetable(&mut self, timetable: &Timetable) -> Option<plan::Timetable> {
        let mut outside = Outside::default();
        outside.knows("due", Type::INSTANT);
        let send = self.sent_in(timetable.at, &timetable.send, &outside);
        Some(plan::Timetable {
            calendar: timetable.calendar.clone(),
            missed: timetable.missed,
            overlap: timetable.overlap,
            send: send?,
        })
    }

    /// The input that an entry makes of what it knows.
    pub(super) fn sent_in(
        &mut self,
        at: Place,
        send: &[(Named, Node)],
        outside: &Outside,
    ) -> Option<Vec<(Str, Maker)>> {
        let made: Vec<_> = send.iter().map(|(name, node)| (name, node, self.made_outside(node, outside))).collect();
        let sent: Vec<(&Named, &Node, Type)> =
            made.iter().map(|(name, node, (_, of))| (*name, *node, of.clone())).collect();
        let workflow = Named { text: self.workflow.name.text.clone(), at };
        self.sent_to(&workflow, &takes(self.workflow), self.workflow.extra, &sent);
        made.into_iter().map(|(name, _, (maker, _))| Some((name.text.as_str().into(), maker?))).collect()
    }

    /// A value outside of the steps.
    pub(super) fn made_outside(&mut self, node: &Node, outside: &Outside) -> super::Made {
        let mut text = |node: &Node, text: &str| {
            self.look_outside(node, &outside.scope, &outside.env);
            match Template::compile(text, &outside.scope) {
                Ok(Template::Text(text)) => (Some(Maker::Const(Value::Text(text.clone()))), Type::text(text)),
                Ok(template) => {
                    let (of, findings) = outside.env.template(&template);
                    self.findings(findings, node);
                    (Some(Maker::Text(template)), of)
                }
                Err(faults) => {
                    super::report_faults(self.report, node, faults);
                    (None, Type::Unknown)
                }
            }
        };
        super::maker(node, &mut text)
    }
}

/// The names that expressions of an entry know, before there is a run.
#[derive(Default)]
pub(super) struct Outside {
    scope: Scope,
    env: Env,
}

impl Outside {
    /// Adds a name in a slot.
    pub fn knows_at(&mut self, name: &str, slot: u32, of: Type) {
        self.scope.define_at(name, slot);
        self.env.set(slot, of);
    }

    /// Adds a name.
    pub fn knows(&mut self, name: &str, of: Type) {
        self.env.set(self.scope.define(name), of);
    }
}
