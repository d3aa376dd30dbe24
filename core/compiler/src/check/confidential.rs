//! Confidential values through the steps of a workflow: what is masked where it is shown, and what would
//! show one.
//!
//! The pass runs over steps of the document, for positions, and of the compiled plan, for expressions, in
//! pairs. What a client, a listing or the database would hold in the clear (`reply`, `fail`, `note`, tags,
//! `keep`, notices, ordering keys, inputs of other workflows that do not declare it) must hold no
//! confidential value. Calls and statements may: that is what such values are for.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::steps::Around;
use crate::input::{InputPlan, property_label};
use crate::plan::{self, BlockId, INPUT, Maker, Order, Plan, Shown, StepLabels};
use kanzlei_lang::confidential::{Label, Labels};
use kanzlei_lang::diagnostic::{Place, Report};
use kanzlei_lang::document::reader::Named;
use kanzlei_lang::document::step::file::FileStep;
use kanzlei_lang::document::step::{Action, Call, Enqueue, Step, Target};
use kanzlei_lang::document::workflow::Answer;
use kanzlei_lang::document::yaml::Node;
use kanzlei_lang::document::{Service, Workflow};

/// Finds the labels of all steps, and reports what would show a confidential value.
pub(super) fn labels(
    workflow: &Workflow,
    around: &Around,
    input: &InputPlan,
    queue: &plan::Queue,
    (blocks, on_failure): (&[Vec<plan::Step>], Option<BlockId>),
    report: &mut Report,
) -> StepLabels {
    let mut pass = Pass {
        around,
        blocks,
        labels: Labels::default(),
        found: StepLabels::default(),
        results: Vec::new(),
        reaches_clients: !workflow.entries.is_empty()
            || workflow.webhooks.iter().any(|webhook| webhook.answer == Answer::Now),
        report,
    };
    pass.labels.set(INPUT, input.label.clone());
    pass.queue(workflow, queue);
    pass.block(&workflow.steps, 0);
    if let Some(block) = on_failure {
        pass.block(&workflow.on_failure, block);
    }
    let result = pass.results.into_iter().fold(Label::Clear, Label::or);
    let mut found = pass.found;
    found.any |= input.label.any() || !found.steps.is_empty();
    found.result = result;
    found
}

/// Reports jobs of workflows whose reply holds confidential values: every client that polls the job could read them.
pub(super) fn queued_results(
    workflows: &[(usize, Arc<Workflow>)],
    plans: &BTreeMap<String, Arc<Plan>>,
    reports: &mut [Report],
) {
    let shown: BTreeSet<&str> =
        plans.values().filter(|plan| plan.labels.result.any()).map(|plan| plan.name.as_str()).collect();
    for (index, workflow) in workflows.iter().filter(|_| !shown.is_empty()) {
        let mut queued = Vec::new();
        workflow.lists().for_each(|steps| enqueued(steps, &mut queued));
        for name in queued.into_iter().filter(|name| shown.contains(name.text.as_str())) {
            let message = format!(
                "the reply of `{}` holds a confidential value, and whoever polls its job would see it",
                name.text
            );
            reports[*index].error("shows-confidential", name.at, message);
            reports[*index].help(format!("leave it out of the reply of `{}`, or use `invoke`", name.text));
        }
    }
}

fn enqueued<'w>(steps: &'w [Step], into: &mut Vec<&'w Named>) {
    for step in steps {
        if let Action::Enqueue(enqueue) = &step.action {
            into.push(&enqueue.workflow);
        }
        step.inside().into_iter().for_each(|steps| enqueued(steps, into));
    }
}

struct Pass<'p, 'r, 's> {
    around: &'p Around<'p>,
    blocks: &'p [Vec<plan::Step>],
    labels: Labels,
    found: StepLabels,
    /// What the replies hold, where only other workflows see them.
    results: Vec<Label>,
    /// Whether clients see the replies.
    reaches_clients: bool,
    report: &'r mut Report<'s>,
}

impl Pass<'_, '_, '_> {
    fn of(&self, maker: &Maker) -> Label {
        match maker {
            Maker::Const(_) => Label::Clear,
            Maker::Text(template) => self.labels.of_template(template),
            Maker::List(items) => items.iter().fold(Label::Clear, |label, item| label.or(Label::list(self.of(item)))),
            Maker::Object(members) => self.members(members),
        }
    }

    fn members<K: AsRef<str>>(&self, members: &[(K, Maker)]) -> Label {
        Label::object(members.iter().map(|(name, maker)| (name.as_ref(), self.of(maker))), Label::Clear)
    }

    /// Reports a value that would be shown, in `place` of the document.
    fn shown(&mut self, label: &Label, at: Place, place: &str) {
        if label.any() {
            self.report.error("shows-confidential", at, format!("{place} would show a confidential value"));
            self.report.help("leave it out, or write `reveal(…)` around it where it is meant to be seen");
        }
    }

    fn shown_maker(&mut self, maker: Option<&Maker>, node: Option<&Node>, place: &str) {
        if let (Some(maker), Some(node)) = (maker, node) {
            let label = self.of(maker);
            self.shown(&label, node.at, place);
        }
    }

    fn queue(&mut self, workflow: &Workflow, queue: &plan::Queue) {
        self.shown_maker(queue.tag.as_ref(), workflow.queue.tag.as_ref(), "the tag");
        let notify = workflow.queue.notify.as_ref();
        self.shown_maker(queue.notify.as_ref().map(|n| &n.to), notify.map(|n| &n.to), "the address of the notice");
        self.lanes(workflow.queue.lane.as_ref(), queue.lane.as_ref(), &self.labels.get(INPUT));
    }

    /// The ordering key of a lane stands in the queue in the clear.
    fn lanes(&mut self, node: Option<&Node>, choice: Option<&plan::LaneChoice>, input: &Label) {
        let (Some(node), Some(choice)) = (node, choice) else { return };
        let label = self.of(&choice.by);
        self.shown(&label, node.at, "the choice of the lane");
        for lane in &choice.lanes {
            let Some(Order::Per(key)) = self.around.lanes.get(lane).map(|lane| &lane.order) else { continue };
            let mut labels = Labels::default();
            labels.set(INPUT, input.clone());
            let label = labels.of(key);
            self.shown(&label, node.at, &format!("the ordering key of the lane `{lane}`"));
        }
    }

    /// The steps of a block; returns the label of what its last step returns.
    fn block(&mut self, steps: &[Step], block: BlockId) -> Label {
        let blocks = self.blocks;
        let mut result = Label::Clear;
        let compiled = blocks.get(block as usize).map(Vec::as_slice).unwrap_or_default();
        for (position, (step, compiled)) in steps.iter().zip(compiled).enumerate() {
            let shown = self.action(&step.action, &compiled.action);
            if let Some(slot) = compiled.id {
                self.labels.set(slot, self.labels.get(slot).or(shown.outcome.clone()));
            }
            if let Some(catch) = compiled.catch {
                self.block(&step.catch, catch);
            }
            if !step.off {
                result = shown.outcome.clone();
            }
            if shown != Shown::default() {
                self.found.steps.insert((block, position), shown);
            }
        }
        result
    }

    fn action(&mut self, step: &Action, compiled: &plan::Action) -> Shown {
        use plan::Action as Plan;
        let nothing = Shown::default();
        let result = |outcome: Label| Shown { sent: Label::Clear, outcome };
        match (step, compiled) {
            (Action::Call(call), Plan::Call(compiled)) => self.call(call, compiled),
            (Action::Let(_), Plan::Let(values)) => {
                let mut made = Vec::with_capacity(values.len());
                for (slot, maker) in values {
                    let label = self.of(maker);
                    self.labels.set(*slot, self.labels.get(*slot).or(label.clone()));
                    made.push(label);
                }
                let Action::Let(names) = step else { return nothing };
                result(Label::object(names.iter().map(|(name, _)| name.text.as_str()).zip(made), Label::Clear))
            }
            (Action::Script(node), Plan::Script(script)) => {
                self.shown(&self.labels.thrown(script), node.at, "what this script throws");
                // Where it fails, the values of all its names are recorded.
                let names = if self.labels.used(script) { Label::Whole } else { Label::Clear };
                Shown { sent: Label::object([("names", names)], Label::Clear), outcome: self.labels.of(script) }
            }
            (Action::If { then, otherwise, .. }, Plan::If { then: first, otherwise: second, .. }) => {
                self.block(then, *first);
                if let Some(second) = second {
                    self.block(otherwise, *second);
                }
                nothing
            }
            (Action::Match { arms, otherwise, .. }, Plan::Match { subject, arms: blocks, otherwise: last, .. }) => {
                for (arm, (_, block)) in arms.iter().zip(blocks) {
                    self.block(&arm.steps, *block);
                }
                if let Some(last) = last {
                    self.block(otherwise, *last);
                }
                result(self.labels.of(subject))
            }
            (Action::Each(each), Plan::Each(compiled)) => {
                self.labels.set(compiled.item, self.labels.of(&compiled.list).item());
                let last = self.block(&each.steps, compiled.block);
                let kept = compiled.collect.as_ref().map_or(last, |maker| self.of(maker));
                result(Label::list(if compiled.settle { settled(kept) } else { kept }))
            }
            (Action::Together { branches, .. }, Plan::Together { branches: compiled, settle }) => {
                let mut results = Vec::with_capacity(branches.len());
                for (branch, compiled) in branches.iter().zip(compiled) {
                    let label = self.block(&branch.steps, compiled.block);
                    let label = if *settle { settled(label) } else { label };
                    self.labels.set(compiled.slot, label.clone());
                    results.push((branch.name.text.as_str(), label));
                }
                result(Label::object(results, Label::Clear))
            }
            (Action::Invoke { workflow, send }, Plan::Invoke(invoke)) => {
                self.passed_on(workflow, send, &invoke.send, &invoke.plan.input.label);
                self.found.any |= invoke.plan.labels.any;
                // The input is masked by its own declaration where it is recorded.
                result(invoke.plan.labels.result.clone())
            }
            (Action::Sql(_), Plan::Sql(sql)) => {
                let bound = sql.statements.iter().fold(Label::Clear, |label, (_, bound)| label.or(self.members(bound)));
                let statement = Label::object([("bind", bound)], Label::Clear);
                Shown { sent: if sql.transaction { Label::list(statement) } else { statement }, outcome: Label::Clear }
            }
            (Action::File(step), Plan::File(compiled)) => self.file(step, compiled),
            (Action::Render(_), Plan::Render(compiled)) => {
                let files = compiled.files.as_ref().map_or(Label::Clear, |files| self.of(files));
                let with = self.members(&compiled.with);
                let whole = if with.any() || files.any() { Label::Whole } else { Label::Clear };
                Shown { sent: Label::object([("with", with)], Label::Clear), outcome: whole }
            }
            (Action::Mail(_), Plan::Mail(compiled)) => {
                Shown { sent: self.members(&compiled.parts), outcome: Label::Clear }
            }
            (Action::Keep(nodes), Plan::Keep(values)) => {
                for ((_, node), (name, maker)) in nodes.iter().zip(values) {
                    self.shown_maker(Some(maker), Some(node), &format!("what the workflow keeps as `{name}`"));
                }
                nothing
            }
            (Action::Enqueue(enqueue), Plan::Enqueue(compiled)) => self.enqueue(enqueue, compiled),
            (Action::Cancel(_), Plan::Cancel(plan::Cancel::Ids(maker) | plan::Cancel::Tag(maker))) => {
                Shown { sent: self.of(maker), outcome: Label::Clear }
            }
            (Action::Await(wait), Plan::Await(compiled)) => {
                self.block(&wait.steps, compiled.block);
                self.shown_maker(compiled.by.as_ref(), wait.by.as_ref(), "the key by which it waits");
                result(wait.schema.as_ref().map_or(Label::Clear, |(schema, _)| Label::of_schema(schema)))
            }
            (Action::Wake(wake), Plan::Wake(compiled)) => {
                self.shown_maker(Some(&compiled.by), Some(&wake.by), "the key");
                // It is kept as it is until the other run reads it.
                self.shown_maker(compiled.body.as_ref(), wake.body.as_ref(), "what the other run is woken with");
                nothing
            }
            (Action::Note(node), Plan::Note(maker)) => {
                self.shown_maker(Some(maker), Some(node), "the note");
                nothing
            }
            (Action::Progress(node), Plan::Progress(maker)) => {
                self.shown_maker(Some(maker), Some(node), "the progress");
                nothing
            }
            _ => {
                self.answer(step, compiled);
                nothing
            }
        }
    }

    /// Paths in a place are visible to all who can list it, so they must not be confidential; files may be.
    fn file(&mut self, step: &FileStep, compiled: &plan::file::FileStep) -> Shown {
        use plan::file::Work;
        let paths: &[plan::file::InPlace] = match &compiled.work {
            Work::Store { to, .. } => to,
            Work::Fetch(from) | Work::Remove(from) | Work::List { from, .. } | Work::Link { from, .. } => {
                std::slice::from_ref(from)
            }
            Work::Zip { .. } | Work::Unzip(_) | Work::Read { .. } | Work::Write { .. } => &[],
        };
        for ((_, maker), (_, node)) in paths.iter().zip(step.work.places()) {
            self.shown_maker(Some(maker), Some(node), "the path in a place");
        }
        match &compiled.work {
            Work::Store { of, .. } => {
                Shown { sent: Label::object([("of", self.of(of))], Label::Clear), outcome: Label::Clear }
            }
            Work::Zip { of, .. } | Work::Unzip(of) | Work::Read { of, .. } | Work::Write { of, .. } => {
                let label = self.of(of);
                let whole = if label.any() { Label::Whole } else { Label::Clear };
                Shown { sent: Label::object([("of", label)], Label::Clear), outcome: whole }
            }
            _ => Shown::default(),
        }
    }

    fn enqueue(&mut self, enqueue: &Enqueue, compiled: &plan::Enqueue) -> Shown {
        if let Some((list, item)) = &compiled.each {
            self.labels.set(*item, self.labels.of(list).item());
        }
        let known = self.around.workflows.get(enqueue.workflow.text.as_str()).copied();
        let declared = known.map(|known| {
            let inputs = known.input.iter();
            Label::object(inputs.map(|p| (p.name.text.as_str(), property_label(&p.schema, p.secret))), Label::Clear)
        });
        let declared = declared.unwrap_or_default();
        self.passed_on(&enqueue.workflow, &enqueue.send, &compiled.send, &declared);
        self.shown_maker(compiled.tag.as_ref(), enqueue.tag.as_ref(), "the tag");
        self.lanes(enqueue.lane.as_ref(), compiled.lane.as_ref(), &declared);
        let job = Label::object([("input", declared.or(self.members(&compiled.send)))], Label::Clear);
        let sent = match compiled.each {
            Some(_) => Label::object([("first", Label::list(job))], Label::Clear),
            None => job,
        };
        Shown { sent, outcome: Label::Clear }
    }

    /// What a reply or a problem would show to clients.
    fn answer(&mut self, step: &Action, compiled: &plan::Action) {
        match (step, compiled) {
            (Action::Reply { headers, body, .. }, plan::Action::Reply(reply)) => {
                let made = reply.body.as_ref().map_or(Label::Clear, |body| self.of(body));
                for ((_, node), (name, maker)) in headers.iter().zip(&reply.headers) {
                    self.shown_maker(Some(maker), Some(node), &format!("the header `{name}` of the reply"));
                }
                match body {
                    Some(body) if self.reaches_clients => self.shown(&made, body.at, "the reply"),
                    _ => self.results.push(Label::object([("body", made)], Label::Clear)),
                }
            }
            (Action::Fail { title, detail, problem_type, with, .. }, plan::Action::Fail(fail)) => {
                for (maker, node) in [
                    (&fail.title, title),
                    (&fail.detail, detail),
                    (&fail.problem_type, problem_type),
                    (&fail.with, with),
                ] {
                    self.shown_maker(maker.as_ref(), node.as_ref(), "the problem");
                }
            }
            _ => {}
        }
    }

    fn call(&mut self, call: &Call, compiled: &plan::Call) -> Shown {
        let host = compiled.host.as_ref().is_some_and(|(maker, _)| self.of(maker).any());
        let variables = host || compiled.variables.iter().any(|(_, maker)| self.of(maker).any());
        let sent = Label::object(
            [
                ("target", if variables { Label::Whole } else { Label::Clear }),
                ("host", if host { Label::Whole } else { Label::Clear }),
                ("body", compiled.body.as_ref().map_or(Label::Clear, |body| self.of(body))),
            ],
            Label::Clear,
        );
        let outcome = match &call.target {
            Target::Operation { service, operation, .. } => {
                self.around.services.get(service).map_or(Label::Clear, |service| answer(service, operation))
            }
            Target::Url { .. } => Label::Clear,
        };
        let asked = call.unless.as_ref().zip(compiled.unless.as_ref());
        let known = asked.map(|(unless, compiled)| self.block(std::slice::from_ref(&unless.step), compiled.block));
        Shown { sent, outcome: outcome.or(known.unwrap_or_default()) }
    }

    /// Values for the input of another workflow, which must declare those that are confidential.
    fn passed_on(
        &mut self,
        workflow: &Named,
        nodes: &[(Named, Node)],
        made: &[(kanzlei_model::value::Str, Maker)],
        declared: &Label,
    ) {
        for ((name, node), (_, maker)) in nodes.iter().zip(made) {
            let label = self.of(maker);
            if label.any() && !declared.member(&name.text).covers(&label) {
                let message = format!(
                    "`{}` does not declare `{}` as confidential, and its records would show it",
                    workflow.text, name.text
                );
                self.report.error("shows-confidential", node.at, message);
                self.report.help(format!(
                    "declare it in `{}` with `secret: true`, or write `reveal(…)` around the value",
                    workflow.text
                ));
            }
        }
    }
}

/// What `settle: all` makes of a result.
fn settled(label: Label) -> Label {
    Label::object([("value", label)], Label::Clear)
}

/// What the answers of an operation declare as confidential.
fn answer(service: &Service, operation: &str) -> Label {
    let responses = service.operations.get(operation).map(|operation| operation.responses.as_slice());
    let schemas = responses.unwrap_or_default().iter().flat_map(|response| &response.content).map(|(_, schema)| schema);
    let body = schemas.fold(Label::Clear, |label, schema| label.or(Label::of_schema_in(schema, &service.api)));
    Label::object([("body", body)], Label::Clear)
}
