//! The walk over a workflow's steps: names in scope, expressions compiled, paragraphs numbered.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use super::actions::At;
use super::libraries::{self, Libraries};
use super::settings::Settings;
use super::watch::{self, Mention, Sight, Watch};
use super::{Known, confidential, entries, scope};
use crate::input::InputPlan;
use crate::plan::sheet::{self, Paragraph};
use crate::plan::{self, BlockId, CALLER, FAILURE, FIXED, INPUT, KEPT, Maker, Plan, RUN, SETTINGS, StepLabels};
use kanzlei_lang::diagnostic::{Place, Report};
use kanzlei_lang::document::access::Access;
use kanzlei_lang::document::reader::{self, Named};
use kanzlei_lang::document::step::{Action, Step};
use kanzlei_lang::document::yaml::{self, Kind, Node};
use kanzlei_lang::document::{Database, Service, Workflow};
use kanzlei_lang::edit::steps::ON_FAILURE;
use kanzlei_lang::expr::template::Template;
use kanzlei_lang::expr::{Counted, Expression, Fault, Scope, Span, Use};
use kanzlei_lang::suggest;
use kanzlei_lang::types::{Env, Finding, Type};
use kanzlei_model::value::{Str, Value};

/// What a workflow may refer to.
pub(super) struct Around<'a> {
    pub services: &'a BTreeMap<String, Arc<Service>>,
    /// The workflows it may invoke, compiled before it.
    pub plans: &'a BTreeMap<String, Arc<Plan>>,
    /// All workflows, for their inputs; those it queues may come after it.
    pub workflows: &'a BTreeMap<&'a str, &'a Workflow>,
    pub libraries: &'a Libraries,
    pub lanes: &'a BTreeMap<String, Arc<plan::Lane>>,
    pub allowances: &'a BTreeMap<String, Arc<plan::Allowance>>,
    pub issuers: &'a BTreeMap<String, Arc<plan::Issuer>>,
    pub settings: &'a Settings,
    /// Databases that documents describe.
    pub databases: &'a BTreeMap<String, Arc<Database>>,
    pub known: Option<&'a Known>,
    pub watch: Watch,
    /// Texts of files beside the document.
    pub text_beside: &'a dyn Fn(&str) -> Option<String>,
}

/// Compiles a workflow; the plan is of use only when the report has no errors.
pub(super) fn compile(
    workflow: &Workflow,
    around: &Around,
    sight: &mut Option<Sight>,
    mentions: &mut Vec<Mention>,
    report: &mut Report,
) -> Option<Plan> {
    let mut scope = libraries::known(workflow, around.libraries, report);
    let shared = scope.clone();
    for (name, node) in &workflow.functions {
        define_functions(&mut scope, name, node, report);
    }
    let (functions, counted) = (scope.clone(), counted(&workflow.functions, &scope, &shared, report));
    watch::look_at_functions(&workflow.functions, &scope, around.watch.at, sight);
    // What is queued knows no run yet.
    for (name, slot) in [(0, INPUT), (4, SETTINGS), (5, CALLER)] {
        scope.define_at(FIXED[name], slot);
    }
    let mut walk = Walk {
        workflow,
        services: around.services,
        plans: around.plans,
        workflows: around.workflows,
        lanes: around.lanes,
        issuers: around.issuers,
        settings: around.settings,
        databases: around.databases,
        known: around.known,
        text_beside: around.text_beside,
        scope,
        slots: FIXED.map(Str::from).to_vec(),
        by_name: HashMap::new(),
        blocks: Vec::new(),
        sheet: Vec::new(),
        used_inputs: BTreeSet::new(),
        uses_whole_input: false,
        uses_run: false,
        uses_kept: false,
        uses_caller: false,
        used_settings: BTreeSet::new(),
        used_services: BTreeSet::new(),
        invokes: Vec::new(),
        enqueues: Vec::new(),
        wakes: Vec::new(),
        durable: false,
        statements: Vec::new(),
        once: Vec::new(),
        addressed: Vec::new(),
        replies: Vec::new(),
        fails: Vec::new(),
        apart_from_client: 0,
        no_answer: Vec::new(),
        readings: HashMap::new(),
        consumed: BTreeSet::new(),
        consumed_in_branches: BTreeSet::new(),
        env: scope::at_the_start(workflow, around.settings, around.issuers),
        result: Type::Undefined,
        last: Type::Unknown,
        told_constant: false,
        watch: around.watch,
        sight,
        mentions,
        report,
    };
    walk.note_functions();
    let queue = walk.queue();
    walk.scope.close(0);
    for (name, slot) in [(0, INPUT), (1, RUN), (3, KEPT), (4, SETTINGS), (5, CALLER)] {
        walk.scope.define_at(FIXED[name], slot);
    }
    walk.blocks.push(Vec::new());
    let mut numbers = Numbers { prefix: String::new(), next: 0, depth: 0 };
    let (steps, end) = walk.steps(&workflow.steps, &mut numbers, None, Answered::No);
    walk.blocks[0] = steps;
    let on_failure = walk.on_failure(&mut numbers, end.answered);
    walk.unused_inputs();
    let input = match InputPlan::new(&workflow.input, workflow.extra) {
        Ok(input) => Some(input),
        Err(faults) => {
            for (index, message) in faults {
                let at = workflow.input.get(index).map_or(workflow.name.at, |p| p.at);
                walk.report.error("bad-schema", at, message);
            }
            None
        }
    };
    for name in workflow.entries.iter().filter_map(|endpoint| endpoint.allowance.as_ref()) {
        entries::known_allowance(name, around.allowances, walk.report);
    }
    for issuer in workflow.entries.iter().filter_map(|endpoint| endpoint.access.issuer()) {
        entries::known_issuer(issuer, around.issuers, walk.report);
    }
    let mut endpoints: Vec<plan::Endpoint> = Vec::new();
    for entry in &workflow.entries {
        let needs = entry.needs.as_ref().map(|needs| walk.needs(needs, &entry.access));
        let compiled = entries::compile(entry, &workflow.input, walk.report);
        endpoints.extend(compiled.map(|compiled| plan::Endpoint { needs: needs.flatten(), ..compiled }));
    }
    for entry in &workflow.entries {
        entries::columns(&entry.web.formats, &walk.replies, walk.report);
    }
    workflow.webhooks.iter().for_each(|webhook| endpoints.extend(walk.webhook(webhook)));
    entries::without_files(workflow, walk.report);
    walk.durable_entries();
    let watches = workflow.watches.iter().filter_map(|watch| walk.watch_of(watch)).collect();
    let timetables = workflow.timetables.iter().filter_map(|timetable| walk.timetable(timetable)).collect();
    let input = input?;
    // The pass walks steps of the document and of the plan in pairs, so there must be one for each.
    let labels = match walk.report.has_errors() {
        true => StepLabels::default(),
        false => confidential::labels(workflow, around, &input, &queue, (&walk.blocks, on_failure), walk.report),
    };
    for plan in walk.invokes.iter().filter_map(|name| around.plans.get(name)) {
        let of_invoked = plan.settings.as_ref().and_then(Value::as_object);
        walk.used_settings.extend(of_invoked.into_iter().flat_map(|own| own.iter()).map(|(name, _)| name.to_string()));
        walk.uses_caller |= plan.uses_caller;
    }
    let settings = (!walk.used_settings.is_empty()).then(|| around.settings.only(&walk.used_settings));
    Some(Plan {
        labels,
        watches,
        timetables,
        queue,
        durable: walk.durable,
        enqueues: walk.enqueues,
        wakes: walk.wakes,
        name: workflow.name.text.clone(),
        tags: workflow.tags.clone(),
        about: workflow.about.clone(),
        input,
        endpoints,
        blocks: walk.blocks,
        on_failure,
        slots: walk.slots,
        functions,
        counted,
        libraries: libraries::used(workflow, around.libraries).into_iter().collect(),
        sheet: walk.sheet,
        uses_run: walk.uses_run,
        uses_kept: walk.uses_kept,
        uses_caller: walk.uses_caller,
        settings,
        services: walk.used_services.into_iter().collect(),
        invokes: walk.invokes,
        statements: walk.statements,
        once: walk.once,
        addressed: walk.addressed,
        replies: walk.replies,
        fails: walk.fails,
        may_end_silent: !end.ends && end.answered != Answered::Yes,
    })
}

/// Adds a function of the document to the names that expressions know.
pub(super) fn define_functions(scope: &mut Scope, name: &Named, node: &Node, report: &mut Report) {
    let Some(text) = node.as_text() else {
        report.error("wrong-type", node.at, format!("a function is text, not {}", node.what()));
        report.help("for example `total: \"(length, nights) => length * 3.2 * nights\"`");
        return;
    };
    if scope.function(&name.text).is_some() {
        report.error("name-taken", name.at, format!("there is already a function `{}`", name.text));
    }
    super::report_faults(report, node, scope.define_function(&name.text, text).err().unwrap_or_default());
}

/// The functions of a document whose statements coverage counts, without those of libraries.
pub(super) fn counted(
    functions: &[(Named, Node)],
    scope: &Scope,
    libraries: &Scope,
    report: &Report,
) -> Vec<(Counted, u32)> {
    let line = |one: &Counted| {
        let at = functions.iter().find(|(name, _)| *name.text == **one.name()).map(|(name, _)| name.at);
        at.map_or(0, |at| report.line(at.start))
    };
    scope.counted(libraries).into_iter().map(|one| (one.clone(), line(&one))).collect()
}

/// Whether the client already has its answer when a step begins.
#[derive(Clone, Copy, PartialEq)]
pub(super) enum Answered {
    No,
    Maybe,
    Yes,
}

/// What is known at the end of a block.
#[derive(Clone, Copy)]
pub(super) struct End {
    /// Every way through the block ends the run.
    pub ends: bool,
    pub answered: Answered,
}

/// Numbers the steps of one step's branches one after another.
pub(super) struct Numbers {
    prefix: String,
    next: u32,
    depth: u8,
}

impl Numbers {
    fn take(&mut self) -> String {
        self.next += 1;
        format!("{}{}", self.prefix, self.next)
    }

    fn inside(&self, number: &str) -> Numbers {
        Numbers { prefix: format!("{number}."), next: 0, depth: self.depth + 1 }
    }
}

pub(super) struct Walk<'w, 'r, 's> {
    pub workflow: &'w Workflow,
    pub services: &'w BTreeMap<String, Arc<Service>>,
    pub plans: &'w BTreeMap<String, Arc<Plan>>,
    pub workflows: &'w BTreeMap<&'w str, &'w Workflow>,
    pub lanes: &'w BTreeMap<String, Arc<plan::Lane>>,
    pub issuers: &'w BTreeMap<String, Arc<plan::Issuer>>,
    settings: &'w Settings,
    pub databases: &'w BTreeMap<String, Arc<Database>>,
    pub known: Option<&'w Known>,
    pub text_beside: &'w dyn Fn(&str) -> Option<String>,
    pub scope: Scope,
    pub slots: Vec<Str>,
    by_name: HashMap<String, u32>,
    blocks: Vec<Vec<plan::Step>>,
    pub sheet: Vec<Paragraph>,
    used_inputs: BTreeSet<String>,
    uses_whole_input: bool,
    pub uses_run: bool,
    pub uses_kept: bool,
    pub uses_caller: bool,
    used_settings: BTreeSet<String>,
    pub used_services: BTreeSet<String>,
    pub invokes: Vec<String>,
    pub enqueues: Vec<String>,
    pub wakes: Vec<String>,
    /// Whether a step waits longer than a client can.
    pub durable: bool,
    pub statements: Vec<(String, Arc<plan::Statement>)>,
    /// Databases in which a job performs steps once, at their first places.
    pub once: Vec<Named>,
    pub addressed: Vec<plan::Addressed>,
    pub replies: Vec<plan::ReplyShape>,
    pub fails: Vec<(u16, Option<String>)>,
    /// What is known of the names here.
    pub env: Env,
    /// What the latest step of the block returns.
    pub result: Type,
    /// What the condition or status read last returns.
    pub last: Type,
    /// Whether it was reported already that it is always the same.
    pub told_constant: bool,
    /// How many loops and parallel branches are around.
    pub apart_from_client: u32,
    /// Why no step may answer the client, for each loop and parallel branch around in which none may.
    pub no_answer: Vec<&'static str>,
    /// How rows are read, by the paragraphs of their steps, and how many loops and parallel branches are around each.
    pub readings: HashMap<u32, (Arc<plan::rows::Reading>, u32)>,
    /// Rows that a step before this one has read.
    pub consumed: BTreeSet<u32>,
    /// Those that some branch of the step has read.
    pub consumed_in_branches: BTreeSet<u32>,
    pub watch: Watch,
    pub sight: &'r mut Option<Sight>,
    pub mentions: &'r mut Vec<Mention>,
    pub report: &'r mut Report<'s>,
}

impl Walk<'_, '_, '_> {
    fn steps(
        &mut self,
        steps: &[Step],
        numbers: &mut Numbers,
        branch: Option<&str>,
        answered: Answered,
    ) -> (Vec<plan::Step>, End) {
        let mut out = Vec::with_capacity(steps.len());
        let mut end = End { ends: false, answered };
        let mut reported = false;
        for (index, step) in steps.iter().enumerate() {
            if end.ends && !reported && !step.off {
                self.report.warning(
                    "unreachable-step",
                    step.at,
                    "this step is never reached: the one before always ends the run",
                );
                reported = true;
            }
            let branch = if index == 0 { branch } else { None };
            let (compiled, step_end) = self.step(step, numbers, branch, end.answered);
            if !step.off {
                end = End { ends: end.ends || step_end.ends, answered: step_end.answered };
            }
            out.extend(compiled);
        }
        (out, end)
    }

    /// The steps that run when a step fails and nothing catches it: any step may have, so they know no results.
    fn on_failure(&mut self, numbers: &mut Numbers, answered: Answered) -> Option<BlockId> {
        let steps = &self.workflow.on_failure;
        if steps.is_empty() {
            return None;
        }
        self.scope.close(0);
        for (name, slot) in [(0, INPUT), (1, RUN), (2, FAILURE), (3, KEPT), (4, SETTINGS), (5, CALLER)] {
            self.scope.define_at(FIXED[name], slot);
        }
        self.env = scope::at_the_start(self.workflow, self.settings, self.issuers);
        self.env.set(FAILURE, scope::failure());
        let answered = if answered == Answered::No { Answered::No } else { Answered::Maybe };
        Some(self.branch(steps, numbers, ON_FAILURE, answered).0)
    }

    /// Compiles the steps of a branch into a block of their own. Names defined in it stay known.
    pub(super) fn branch(
        &mut self,
        steps: &[Step],
        numbers: &mut Numbers,
        label: &str,
        answered: Answered,
    ) -> (BlockId, End) {
        let id = self.blocks.len() as BlockId;
        self.blocks.push(Vec::new());
        let consumed = self.consumed.clone();
        let (compiled, end) = self.steps(steps, numbers, Some(label), answered);
        let after = std::mem::replace(&mut self.consumed, consumed);
        self.consumed_in_branches.extend(after);
        self.blocks[id as usize] = compiled;
        (id, end)
    }

    /// The steps of a block that is compiled.
    pub(super) fn block(&self, block: BlockId) -> &[plan::Step] {
        self.blocks.get(block as usize).map(Vec::as_slice).unwrap_or_default()
    }

    /// Runs `inner` and removes the names it defined from the scope; returns them.
    pub(super) fn apart<T>(&mut self, inner: impl FnOnce(&mut Self) -> T) -> (T, Vec<String>) {
        let open = self.scope.open();
        let result = inner(self);
        let names = self.scope.names().skip(open).map(str::to_owned).collect();
        self.scope.close(open);
        (result, names)
    }

    /// Adds the paragraph of a step to the sheet; returns its index and the numbers inside it.
    fn paragraph(&mut self, step: &Step, numbers: &mut Numbers, branch: Option<&str>) -> (usize, Numbers) {
        let number = numbers.take();
        let inside = numbers.inside(&number);
        let line = self.report.line(step.begins);
        self.sheet.push(Paragraph {
            number,
            depth: numbers.depth,
            kind: String::new(),
            title: String::new(),
            name: step.id.as_ref().map(|id| id.text.clone()),
            branch: branch.map(str::to_owned),
            rows: Vec::new(),
            about: step.about.clone(),
            when: step.when.as_ref().map(sheet::inline),
            off: step.off,
            line,
        });
        (self.sheet.len() - 1, inside)
    }

    /// Defines the name of a step's result; steps that have none are reported.
    fn name_of_result(&mut self, id: &Named, action: &Action, paragraph: usize) -> Option<u32> {
        match action {
            Action::Call(_)
            | Action::Each(_)
            | Action::Together { .. }
            | Action::Invoke { .. }
            | Action::Sql(_)
            | Action::File(_)
            | Action::Render(_)
            | Action::Mail(_)
            | Action::Script(_)
            | Action::Enqueue(_)
            | Action::Cancel(_)
            | Action::Await(_)
            | Action::Wake(_) => self.define(id),
            _ => {
                let kind = &self.sheet[paragraph].kind;
                self.report.error("no-result", id.at, format!("the step `{}` has no result to name", kind));
                None
            }
        }
    }

    fn step(
        &mut self,
        step: &Step,
        numbers: &mut Numbers,
        branch: Option<&str>,
        answered: Answered,
    ) -> (Option<plan::Step>, End) {
        let (paragraph, mut inside) = self.paragraph(step, numbers, branch);
        self.look_at_step(step.begins, paragraph);
        // What is known here counts again only where the step may be left out or fail.
        let keeps = step.when.is_some() || step.off || !step.catch.is_empty();
        let around = if keeps { self.env.clone() } else { Env::default() };
        let when = step.when.as_ref().and_then(|node| self.condition("when", node));
        if let Some(when) = &when {
            self.env = around.assuming(when, true);
        }
        let result_before = std::mem::replace(&mut self.result, Type::Undefined);
        let before = self.scope.open();
        let (action, mut end, mut result) = self.action(step, At { paragraph, inside: &mut inside, answered });
        let id = step.id.as_ref().and_then(|id| self.name_of_result(id, &step.action, paragraph));
        if let Some(slot) = id {
            self.env.set(slot, result.clone());
        }
        let mut catch = None;
        if !step.catch.is_empty() {
            // A step that failed defines no names; its catch steps may.
            let own: Vec<String> = self.scope.names().skip(before).map(str::to_owned).collect();
            self.scope.close(before);
            self.scope.define_at(FIXED[2], FAILURE);
            let succeeded = std::mem::replace(&mut self.env, around.clone());
            self.env.set(FAILURE, scope::failure());
            let ((block, catch_end), names) =
                self.apart(|walk| walk.branch(&step.catch, &mut inside, "catch", Answered::Maybe.min(answered)));
            self.scope.close(before);
            self.know(own.into_iter().chain(names));
            self.env = scope::meet(succeeded, end.ends, self.env.clone(), catch_end.ends);
            result = result.or(Type::Undefined);
            catch = Some(block);
            end = End { ends: end.ends && catch_end.ends, answered: end.answered.join(catch_end.answered) };
        }
        self.consumed.append(&mut self.consumed_in_branches);
        if let Some(when) = &when {
            let skipped = around.assuming(when, false);
            self.env = scope::meet(self.env.clone(), end.ends, skipped, false);
            result = result.or(Type::Undefined);
        }
        if step.off {
            self.env = around;
            result = result_before;
        }
        self.result = result;
        if step.when.is_some() {
            end = End { ends: false, answered: end.answered.join(answered) };
        }
        let compiled =
            action.map(|action| plan::Step { paragraph: paragraph as u32, id, when, off: step.off, catch, action });
        (compiled, end)
    }

    pub(super) fn show(&mut self, paragraph: usize, kind: &str, title: String, rows: Vec<(String, String)>) {
        let shown = &mut self.sheet[paragraph];
        shown.kind = kind.into();
        shown.title = title;
        shown.rows = rows;
    }

    /// Assigns a name its slot; the same name on another branch shares it.
    pub(super) fn define(&mut self, name: &Named) -> Option<u32> {
        if self.scope.slot(&name.text).is_some() {
            self.report.error("name-taken", name.at, format!("`{}` already has a value here", name.text));
            self.report.help("values never change; choose another name");
            return None;
        }
        let slot = *self.by_name.entry(name.text.clone()).or_insert_with(|| {
            self.slots.push(name.text.as_str().into());
            self.slots.len() as u32 - 1
        });
        self.scope.define_at(&name.text, slot);
        Some(slot)
    }

    /// Brings names that branches defined into scope, once each.
    pub(super) fn know(&mut self, names: impl IntoIterator<Item = String>) {
        for name in names {
            if self.scope.slot(&name).is_none()
                && let Some(slot) = self.by_name.get(&name)
            {
                self.scope.define_at(&name, *slot);
            }
        }
    }

    /// What must hold of the caller of an endpoint: an expression that knows `caller` alone.
    fn needs(&mut self, node: &Node, access: &Access) -> Option<Expression> {
        let caller = scope::shown(access, self.issuers);
        // Records keep the caller, so that a case of a past run is let in as it was.
        self.uses_caller = true;
        self.condition_outside("needs", node, [(CALLER, FIXED[CALLER as usize], caller)])
    }

    /// A slot outside of the steps that holds a bare expression over these names alone, each in its slot.
    pub(super) fn condition_outside<const N: usize>(
        &mut self,
        what: &str,
        node: &Node,
        names: [(u32, &str, Type); N],
    ) -> Option<Expression> {
        let mut around = (Scope::default(), Env::default(), vec![Str::default(); FIXED.len() + N]);
        for (slot, name, of) in names {
            around.0.define_at(name, slot);
            around.1.set(slot, of);
            if let Some(known) = around.2.get_mut(slot as usize) {
                *known = name.into();
            }
        }
        let mut exchange = |walk: &mut Self| {
            std::mem::swap(&mut walk.scope, &mut around.0);
            std::mem::swap(&mut walk.env, &mut around.1);
            std::mem::swap(&mut walk.slots, &mut around.2);
        };
        let used = self.uses_caller;
        exchange(self);
        let condition = self.condition(what, node);
        exchange(self);
        self.uses_caller = used;
        condition
    }

    /// A slot that holds a bare expression.
    pub(super) fn condition(&mut self, what: &str, node: &Node) -> Option<Expression> {
        let text = match &node.kind {
            Kind::Text(text) => text.text.clone(),
            Kind::Bool(_) | Kind::Int(_) | Kind::Float(_) => node.to_value().to_json(),
            Kind::List(_) if what == "in" && !node.to_value().to_json().contains("${") => node.to_value().to_json(),
            _ => {
                self.report.error("wrong-type", node.at, format!("`{what}` takes an expression, not {}", node.what()));
                return None;
            }
        };
        if text.trim_start().starts_with("${") && text.trim_end().ends_with('}') {
            self.report.error("expression-syntax", node.at, format!("`{what}` takes the bare expression"));
            let bare = text.trim().trim_start_matches("${").trim_end_matches('}').trim();
            self.report.help(format!("write `{bare}`")).fix("write the bare expression", node.at, yaml::quoted(bare));
            return None;
        }
        self.look_at(node, true);
        let compiled = Expression::compile(&text, &self.scope);
        self.last = Type::Unknown;
        match compiled {
            Ok(expression) => {
                self.last = self.compiled(&expression, node);
                Some(expression)
            }
            Err(faults) => {
                self.faults(faults, node);
                None
            }
        }
    }

    /// Notes what an expression uses, and reports what cannot work in it; returns its type.
    pub(super) fn compiled(&mut self, expression: &Expression, node: &Node) -> Type {
        self.note_uses(expression.uses().to_vec(), node);
        self.note_calls(expression, node);
        self.note_shadows(expression, node);
        let (of, findings) = self.env.infer(expression);
        self.findings(findings, node);
        of
    }

    /// Any value with templates in its texts.
    pub fn maker(&mut self, node: &Node) -> Option<Maker> {
        self.typed(node).0
    }

    /// The same with the type of what it makes.
    pub fn typed(&mut self, node: &Node) -> (Option<Maker>, Type) {
        super::maker(node, &mut |node, text| match self.template(node, text) {
            Ok(Template::Text(text)) => {
                let of = Type::text(text.clone());
                (Some(Maker::Const(Value::Text(text))), of)
            }
            Ok(template) => {
                let uses = template.expressions().iter().flat_map(|e| e.uses().to_vec()).collect();
                self.note_uses(uses, node);
                for expression in template.expressions() {
                    self.note_calls(expression, node);
                    self.note_shadows(expression, node);
                }
                let (of, findings) = self.env.template(&template);
                self.findings(findings, node);
                (Some(Maker::Text(template)), of)
            }
            Err(faults) => {
                self.faults(faults, node);
                (None, Type::Unknown)
            }
        })
    }

    fn template(&mut self, node: &Node, text: &str) -> Result<Template, Vec<Fault>> {
        self.look_at(node, false);
        Template::compile(text, &self.scope)
    }

    pub(super) fn findings(&mut self, findings: Vec<Finding>, node: &Node) {
        self.told_constant = findings.iter().any(|f| matches!(f.code, "constant-condition" | "never-equal"));
        super::report_findings(self.report, node, findings);
    }

    fn note_shadows(&mut self, expression: &Expression, node: &Node) {
        for binding in expression.bindings().iter().filter(|binding| binding.hides) {
            let (name, offset) = (&binding.name, expression.offset());
            let at = self.place_of(node, binding.at, offset);
            self.report.warning("shadowed-name", at, format!("`{name}` hides the `{name}` around it"));
            self.report.help("rename the parameter");
        }
    }

    /// The place in the document of a range in a node's text.
    pub(super) fn place_of(&self, node: &Node, at: Span, offset: u32) -> Place {
        node.place_in(self.report.text(), (at.start + offset) as usize, (at.end + offset) as usize)
    }

    pub fn named_makers(&mut self, members: &[(Named, Node)]) -> Vec<(String, Maker)> {
        members.iter().filter_map(|(name, node)| Some((name.text.clone(), self.maker(node)?))).collect()
    }

    pub(super) fn status(&mut self, node: &Node, least: i64, most: i64) -> Option<Maker> {
        let (maker, of) = self.typed(node);
        let never = |one: &Type| match one {
            Type::Number(Some(number)) => !(least as f64..=most as f64).contains(number),
            Type::Object(_) | Type::Bool(_) | Type::Null | Type::Undefined => true,
            _ => false,
        };
        let is_none = !of.alternatives().is_empty() && of.alternatives().iter().all(never);
        self.last = of;
        let maker = maker?;
        let fits = match &maker {
            Maker::Const(Value::Int(status)) => (least..=most).contains(status),
            Maker::Const(_) => false,
            _ => !is_none,
        };
        if !fits {
            self.report.error("wrong-value", node.at, format!("a status from {least} to {most} belongs here"));
            if let Kind::Map(_) = node.kind {
                let beside = if least < 400 { "`reply: 200` and `body: …`" } else { "`fail: 422` and `title: …`" };
                self.report.help(format!("what is answered stands beside it: {beside}"));
            }
            return None;
        }
        Some(maker)
    }

    pub fn faults(&mut self, faults: Vec<Fault>, node: &Node) {
        super::report_faults(self.report, node, faults);
    }

    pub(super) fn note_uses(&mut self, uses: Vec<Use>, node: &Node) {
        self.mention(&uses, node);
        for used in uses {
            match (used.slot, used.member) {
                (INPUT, Some(member)) => {
                    let known = self.workflow.input.iter().any(|p| p.name.text == *member);
                    if !known && !self.workflow.extra {
                        let at = self.place_of(node, used.member_at, 0);
                        self.report.error("unknown-input", at, format!("the input has no `{member}`"));
                        match suggest::nearest(&member, self.workflow.input.iter().map(|p| p.name.text.as_str())) {
                            Some(near) => self.report.did_you_mean(near),
                            None => self.report.help(format!("declare it under `input`: `{member}: {{type: string}}`")),
                        };
                    }
                    self.used_inputs.insert(member.to_string());
                }
                (INPUT, None) => self.uses_whole_input = true,
                (RUN, _) => self.uses_run = true,
                (KEPT, _) => self.uses_kept = true,
                (CALLER, _) => self.uses_caller = true,
                (SETTINGS, member) => {
                    let known = &self.settings.in_force;
                    match member {
                        Some(member) if known.contains_key(&*member) => {
                            _ = self.used_settings.insert(member.to_string())
                        }
                        Some(member) => {
                            let at = self.place_of(node, used.member_at, 0);
                            reader::unknown_setting(&member, at, known, self.report);
                        }
                        None => self.used_settings.extend(known.keys().cloned()),
                    }
                }
                _ => {}
            }
        }
    }

    fn unused_inputs(&mut self) {
        if self.uses_whole_input || self.report.has_errors() {
            return;
        }
        for property in &self.workflow.input {
            if !self.used_inputs.contains(&property.name.text) {
                self.report.warning(
                    "unused-input",
                    property.name.at,
                    format!("the input `{}` is never used", property.name.text),
                );
            }
        }
    }
}

impl Answered {
    /// What is known after either of two branches.
    pub(super) fn join(self, other: Answered) -> Answered {
        if self == other { self } else { Answered::Maybe }
    }

    /// In a catch the failed step may have answered or not.
    fn min(self, before: Answered) -> Answered {
        if before == Answered::Yes { Answered::Yes } else { self }
    }
}
