//! The compiled form of a workflow: what the checker makes of a document and the machine runs.
//!
//! Steps stand in numbered blocks, names are slots, texts are templates. Beside it stands the *sheet*:
//! one [`Paragraph`] per step, numbered as on a deed, for showing the workflow or a run of it.
//! A plan holds no address: the performer of a call knows the base of its service.

pub mod allowance;
pub mod file;
pub mod issuer;
pub mod render;
pub mod rows;
pub mod sheet;
pub mod watch;
pub mod webhook;

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

pub use allowance::Allowance;
pub use issuer::Issuer;
pub use sheet::Paragraph;
pub use watch::Watch;
pub use webhook::Webhook;

use crate::input::{EndpointInput, InputPlan, Validator};
use crate::sql::Needs;
use kanzlei_lang::calendar::Calendar;
use kanzlei_lang::confidential::Label;
use kanzlei_lang::document::access::Access;
use kanzlei_lang::document::address::Address;
use kanzlei_lang::document::hosts::Hosts;
use kanzlei_lang::document::proof::Proof;
use kanzlei_lang::document::reader::Named;
use kanzlei_lang::document::retry::Retry;
use kanzlei_lang::document::step::Encoding;
use kanzlei_lang::document::step::arms::Test;
use kanzlei_lang::document::web::Web;
use kanzlei_lang::document::workflow::{Answer, Beyond, Missed, Overlap};
use kanzlei_lang::expr::template::Template;
use kanzlei_lang::expr::{Counted, EvalError, Expression, Limits, Scope};
use kanzlei_lang::types::Type;
use kanzlei_model::caller::Caller;
use kanzlei_model::value::{ObjectBuilder, Str, Value};

/// Slots that every workflow has.
pub const INPUT: u32 = 0;
/// Slot of `run`.
pub const RUN: u32 = 1;
/// Slot of `failure`.
pub const FAILURE: u32 = 2;
/// Slot of `kept`.
pub const KEPT: u32 = 3;
/// Slot of `settings`.
pub const SETTINGS: u32 = 4;
/// Slot of `caller`.
pub const CALLER: u32 = 5;
/// Their names, in order.
pub const FIXED: [&str; 6] = ["input", "run", "failure", "kept", "settings", "caller"];

/// The title of the answer to a caller for whom what an endpoint needs does not hold.
pub const NOT_ALLOWED: &str = "The caller is not allowed";

/// A compiled workflow.
#[derive(Debug)]
pub struct Plan {
    /// The name.
    pub name: String,
    /// What it does, in the author's words.
    pub about: String,
    /// What it belongs to.
    pub tags: Vec<String>,
    /// How its input is checked.
    pub input: InputPlan,
    /// The endpoints.
    pub endpoints: Vec<Endpoint>,
    /// Tables whose rows it watches.
    pub watches: Vec<Watch>,
    /// The timetables.
    pub timetables: Vec<Timetable>,
    /// How its jobs are queued.
    pub queue: Queue,
    /// Whether it waits longer than a client can: it runs as a job only.
    pub durable: bool,
    /// Names of the workflows it queues.
    pub enqueues: Vec<String>,
    /// Names of the workflows whose runs it wakes.
    pub wakes: Vec<String>,
    /// Block 0 is the workflow itself.
    pub blocks: Vec<Vec<Step>>,
    /// The block that runs when a step fails and nothing catches it.
    pub on_failure: Option<BlockId>,
    /// The names of the slots.
    pub slots: Vec<String>,
    /// The functions that its expressions may call, those of libraries too.
    pub functions: Scope,
    /// Those of its document whose statements coverage counts, each with its line there, from 1.
    pub counted: Vec<(Counted, u32)>,
    /// Names of the libraries it uses, itself and through others.
    pub libraries: Vec<String>,
    /// The numbered steps for people.
    pub sheet: Vec<Paragraph>,
    /// Whether any expression reads `run`.
    pub uses_run: bool,
    /// Whether any expression of it or of what it invokes reads `caller`.
    pub uses_caller: bool,
    /// Whether any step reads or keeps what is remembered between runs.
    pub uses_kept: bool,
    /// The settings that expressions of it and of what it invokes read, with the values of the installation.
    pub settings: Option<Value>,
    /// Names of the services it calls.
    pub services: Vec<String>,
    /// Names of the workflows it invokes; those of groups of steps are `library.group`.
    pub invokes: Vec<String>,
    /// Statements and their databases, in the order of the document.
    pub statements: Vec<(String, Arc<Statement>)>,
    /// Databases in which its jobs perform steps once, each with a place in its document.
    pub once: Vec<Named>,
    /// Its calls by address.
    pub addressed: Vec<Addressed>,
    /// What it can answer with.
    pub replies: Vec<ReplyShape>,
    /// Statuses and titles of its `fail` steps, where they are written down.
    pub fails: Vec<(u16, Option<String>)>,
    /// Whether it may end without a reply; clients see 204 then.
    pub may_end_silent: bool,
    /// What its steps handle that must not be shown.
    pub labels: StepLabels,
}

/// What of the values of each step is confidential.
#[derive(Debug, Default)]
pub struct StepLabels {
    /// By block and position; empty where nothing is.
    pub(crate) steps: BTreeMap<(BlockId, usize), Shown>,
    /// Of what an `invoke` of this workflow returns.
    pub result: Label,
    /// Whether anything of a run is confidential: its records are sealed then.
    pub any: bool,
}

/// What of a step's values is masked where they are shown.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Shown {
    /// What of the sent values is confidential.
    pub sent: Label,
    /// What of the outcome is confidential.
    pub outcome: Label,
}

impl StepLabels {
    /// What is masked of the values of a step.
    pub fn of(&self, block: BlockId, position: usize) -> Option<&Shown> {
        self.steps.get(&(block, position))
    }
}

/// What is known of the answers of one `reply` step.
#[derive(Clone, Debug, PartialEq)]
pub struct ReplyShape {
    /// Nothing when it is worked out by the run.
    pub status: Option<u16>,
    /// The body.
    pub body: Type,
    /// Header fields by name.
    pub headers: Vec<String>,
    /// The schema that the document declares for this status.
    pub declared: Option<serde_json::Value>,
}

impl Plan {
    /// Whether it is a group of steps of a library: it has no entries, and only other workflows invoke it.
    pub fn is_group(&self) -> bool {
        self.name.contains('.')
    }

    /// The fixed slots outside of a run: its input, who calls, and the settings.
    pub fn slots_around(&self, input: &Value, caller: &Caller) -> [Value; FIXED.len()] {
        let mut slots = [const { Value::Undefined }; FIXED.len()];
        slots[INPUT as usize] = input.clone();
        slots[SETTINGS as usize] = self.settings.clone().unwrap_or_default();
        if self.uses_caller {
            slots[CALLER as usize] = caller.value();
        }
        slots
    }

    /// Whether a caller may call an endpoint that it has shown itself to; false also where the expression fails.
    pub fn admits(endpoint: &Endpoint, caller: &Caller) -> bool {
        let Some(needs) = &endpoint.needs else { return true };
        let mut slots = [const { Value::Undefined }; FIXED.len()];
        slots[CALLER as usize] = caller.value();
        needs.eval(&slots, Limits::default()).is_ok_and(|holds| kanzlei_lang::expr::ops::truthy(&holds))
    }

    /// The secrets by which it signs messages and checks them, each once.
    pub fn secrets(&self) -> std::collections::BTreeSet<&str> {
        let webhooks = self.endpoints.iter().filter_map(|endpoint| endpoint.webhook.as_ref());
        let mut all: std::collections::BTreeSet<&str> =
            webhooks.flat_map(|webhook| webhook.proof.secrets()).map(|secret| secret.text.as_str()).collect();
        all.extend(self.queue.notify.iter().map(|notify| notify.secret.as_str()));
        for step in self.blocks.iter().flatten() {
            if let Action::Call(call) = &step.action {
                let signed = call.sign.iter().flat_map(|proof| proof.secrets());
                all.extend(signed.map(|secret| secret.text.as_str()));
            }
        }
        all
    }

    /// Names of the issuers whose tokens it asks for.
    pub fn issuers(&self) -> impl Iterator<Item = &str> {
        let of_entries = self.endpoints.iter().filter_map(|endpoint| endpoint.access.issuer());
        let of_webhooks = self.endpoints.iter().filter_map(|endpoint| match &endpoint.webhook.as_ref()?.proof {
            Proof::Jwt(issuer) => Some(issuer),
            _ => None,
        });
        of_entries.chain(of_webhooks).map(|issuer| issuer.text.as_str())
    }

    /// Whether a run may call services, itself or through workflows that it invokes.
    pub fn may_call(&self) -> bool {
        !self.services.is_empty() || !self.invokes.is_empty()
    }

    /// Whether one of its steps prints a PDF.
    pub fn prints(&self) -> bool {
        let pdf = |step: &Step| matches!(&step.action, Action::Render(render) if render.templates.format() == kanzlei_reports::Format::Pdf);
        self.blocks.iter().flatten().any(pdf)
    }

    /// The plans of the workflows it invokes, each once for each step that does.
    pub fn invoked(&self) -> impl Iterator<Item = &Arc<Plan>> {
        self.blocks.iter().flatten().filter_map(|step| match &step.action {
            Action::Invoke(invoke) => Some(&invoke.plan),
            _ => None,
        })
    }

    /// The type of what an `invoke` of this workflow returns.
    pub fn result(&self) -> Type {
        let one = |status: Option<u16>, body: Type| {
            let status = status.map_or(Type::NUMBER, |status| Type::number(status.into()));
            Type::object([("status", status), ("body", body), ("headers", Type::record(Type::TEXT))])
        };
        let replies = self.replies.iter().map(|reply| one(reply.status, reply.body.clone()));
        let silent = self.may_end_silent.then(|| one(Some(204), Type::Undefined));
        Type::union(replies.chain(silent))
    }
}

/// A compiled endpoint.
#[derive(Debug)]
pub struct Endpoint {
    /// HTTP method.
    pub method: String,
    /// Host and path template.
    pub address: Address,
    /// Who may call it.
    pub access: Access,
    /// What must hold of the caller.
    pub needs: Option<Expression>,
    /// How much each caller may ask for.
    pub allowance: Option<String>,
    /// Where its inputs come from.
    pub input: EndpointInput,
    /// When it answers.
    pub answer: Answer,
    /// How long a request may take.
    pub time: Duration,
    /// The largest body in bytes.
    pub body: usize,
    /// How many of its runs there may be at once over all processes, and what becomes of others.
    pub at_once: Option<(u32, Beyond)>,
    /// What it declares for browsers, caches and the time after it.
    pub web: Web,
    /// What it asks of a message, where it is a webhook.
    pub webhook: Option<Arc<Webhook>>,
}

impl Endpoint {
    /// Method and address, as listings show it: `POST api.lindvik.example/v1/quotes`.
    pub fn label(&self) -> String {
        format!("{} {}", self.method, self.address)
    }
}

/// A lane's own rules, compiled.
#[derive(Debug)]
pub struct Lane {
    /// The name.
    pub name: String,
    /// What it does, in the author's words.
    pub about: String,
    /// Most jobs that run at the same time, over all processes.
    pub at_once: Option<u32>,
    /// Most jobs that start within a span.
    pub pace: Option<(u32, Duration)>,
    /// Which of several due jobs starts first.
    pub order: Order,
    /// Most jobs that wait.
    pub length: Option<u64>,
    /// Status of the answer when it is full.
    pub full: u16,
    /// When failures are retried.
    pub retry: Option<Retry>,
}

/// Which of several due jobs starts first.
#[derive(Debug)]
pub enum Order {
    /// By priority, then by due time.
    Due,
    /// By due time alone.
    Strict,
    /// Over `input`, in slot 0.
    Per(Box<Expression>),
}

impl Lane {
    /// A lane without rules.
    pub fn plain(name: &str) -> Self {
        Lane {
            name: name.to_owned(),
            about: String::new(),
            at_once: None,
            pace: None,
            order: Order::Due,
            length: None,
            full: 503,
            retry: None,
        }
    }

    /// The ordering key of a job with this input: jobs with one key run one after another. Nothing where
    /// the input has no value for it.
    pub fn ordering_key(&self, input: &Value) -> Option<String> {
        match &self.order {
            Order::Due => None,
            Order::Strict => Some(self.name.clone()),
            Order::Per(key) => {
                let value = key.eval(std::slice::from_ref(input), Limits::default()).ok()?;
                let text = if value.is_nullish() { return None } else { kanzlei_lang::expr::ops::to_text(&value) };
                Some(format!("{} {text}", self.name))
            }
        }
    }

    /// Whether there is any limit when its jobs are claimed.
    pub fn is_plain(&self) -> bool {
        self.at_once.is_none() && self.pace.is_none()
    }
}

/// How a workflow runs as a job.
#[derive(Debug, Default)]
pub struct Queue {
    /// Lane of the jobs; an expression is over the fixed slots.
    pub lane: Option<LaneChoice>,
    /// 1, the highest, to 9.
    pub priority: Option<u8>,
    /// Over the fixed slots.
    pub tag: Option<Maker>,
    /// When failures are retried.
    pub retry: Option<Retry>,
    /// How long results are kept.
    pub results: Option<Duration>,
    /// Who is notified at the end.
    pub notify: Option<Notify>,
}

/// The lane of a job: one, or what an expression chooses among some.
#[derive(Debug)]
pub struct LaneChoice {
    /// All that it can be.
    pub lanes: Vec<String>,
    /// Makes the name of the lane.
    pub by: Maker,
}

impl LaneChoice {
    /// The lane over these slots; the first of all where its expression fails.
    pub fn over(&self, slots: &[Value]) -> String {
        let made = self.by.make(slots, Limits::default()).ok().map(|name| kanzlei_lang::expr::ops::to_text(&name));
        let known = made.and_then(|name| self.lanes.iter().find(|lane| lane.as_str() == &*name));
        known.or(self.lanes.first()).cloned().unwrap_or_default()
    }
}

/// Who is notified when a job ends.
#[derive(Debug)]
pub struct Notify {
    /// Over the fixed slots.
    pub to: Maker,
    /// The name of the secret that signs.
    pub secret: String,
    /// Whether the address may be private.
    pub private: bool,
}

/// A timetable entry.
#[derive(Debug)]
pub struct Timetable {
    /// When it is due.
    pub calendar: Calendar,
    /// What happens to due times that were missed.
    pub missed: Missed,
    /// What happens when the previous job has not ended.
    pub overlap: Overlap,
    /// The input; slot 0 is the instant it is due, as text.
    pub send: Vec<(Str, Maker)>,
}

impl Timetable {
    /// The input of the job that is due at an instant.
    pub fn input(&self, due: &str) -> Result<Value, Box<EvalError>> {
        let mut input = ObjectBuilder::with_capacity(self.send.len());
        for (name, maker) in &self.send {
            input.insert(name.clone(), maker.make(&[Value::text(due)], Limits::default())?);
        }
        Ok(input.finish())
    }
}

/// Index of a block of steps in its plan.
pub type BlockId = u32;

/// A compiled step.
#[derive(Debug)]
pub struct Step {
    /// Index in the sheet.
    pub paragraph: u32,
    /// Slot of its result.
    pub id: Option<u32>,
    /// Condition under which it runs.
    pub when: Option<Expression>,
    /// Whether it is switched off.
    pub off: bool,
    /// Steps that run when it fails.
    pub catch: Option<BlockId>,
    /// What it does.
    pub action: Action,
}

/// What a step does.
#[derive(Debug)]
pub enum Action {
    /// Calls a service.
    Call(Box<Call>),
    /// Sets slots to values.
    Let(Vec<(u32, Maker)>),
    /// Runs statements.
    Script(Arc<Expression>),
    /// Branches on a condition.
    If {
        /// The condition.
        condition: Expression,
        /// Steps for a true condition.
        then: BlockId,
        /// Steps for all other cases.
        otherwise: Option<BlockId>,
    },
    /// Branches on a value.
    Match {
        /// The value that is compared.
        subject: Expression,
        /// Tests and their steps; the first that fits is taken.
        arms: Vec<(Test, BlockId)>,
        /// Steps for all other cases.
        otherwise: Option<BlockId>,
        /// Whether there is an arm for each value that the subject can have.
        complete: bool,
    },
    /// Runs a block for each item of a list.
    Each(Box<Each>),
    /// Runs branches concurrently.
    Together {
        /// The branches.
        branches: Vec<Branch>,
        /// Whether all are finished even when one fails.
        settle: bool,
    },
    /// Runs another workflow.
    Invoke(Box<Invoke>),
    /// Runs statements in a database.
    Sql(Box<Sql>),
    /// Works with files.
    File(Box<file::FileStep>),
    /// Fills a template.
    Render(Box<render::Render>),
    /// Sends a mail.
    Mail(Box<render::Mail>),
    /// Keeps values for later runs.
    Keep(Vec<(Str, Maker)>),
    /// Waits for so long.
    Pause(Maker),
    /// Waits until an instant.
    Until(Maker),
    /// Queues jobs.
    Enqueue(Box<Enqueue>),
    /// Cancels jobs.
    Cancel(Cancel),
    /// Waits for a callback.
    Await(Box<Await>),
    /// Passes a value on to a run that waits for it.
    Wake(Box<Wake>),
    /// Writes a line to the journal.
    Note(Maker),
    /// Reports the progress of a job.
    Progress(Maker),
    /// Ends the run with a reply.
    Reply(Box<Reply>),
    /// Ends the run with a failure.
    Fail(Box<Fail>),
}

impl Action {
    /// Whether the step has a result that can be named.
    pub fn has_result(&self) -> bool {
        matches!(
            self,
            Action::Call(_)
                | Action::Each(_)
                | Action::Together { .. }
                | Action::Invoke(_)
                | Action::Sql(_)
                | Action::File(_)
                | Action::Render(_)
                | Action::Mail(_)
                | Action::Let(_)
                | Action::Script(_)
                | Action::Enqueue(_)
                | Action::Cancel(_)
                | Action::Await(_)
                | Action::Wake(_)
        )
    }

    /// The blocks inside, branch by branch; a catch belongs to the step.
    pub fn blocks(&self) -> Vec<BlockId> {
        match self {
            Action::If { then, otherwise, .. } => std::iter::once(*then).chain(*otherwise).collect(),
            Action::Match { arms, otherwise, .. } => arms.iter().map(|(_, block)| *block).chain(*otherwise).collect(),
            Action::Each(each) => vec![each.block],
            Action::Together { branches, .. } => branches.iter().map(|branch| branch.block).collect(),
            Action::Await(wait) => vec![wait.block],
            Action::Call(call) => call.unless.iter().map(|unless| unless.block).collect(),
            _ => Vec::new(),
        }
    }
}

/// A loop: `block` once for each item of the list.
#[derive(Debug)]
pub struct Each {
    /// The list, or the files whose rows are read.
    pub list: Expression,
    /// How they are read.
    pub rows: rows::Source,
    /// Slot of the item.
    pub item: u32,
    /// Slot of the position, counted from 0.
    pub position: Option<u32>,
    /// Steps to run.
    pub block: BlockId,
    /// Most items that run at the same time.
    pub at_once: u32,
    /// What each item contributes to the result.
    pub collect: Option<Maker>,
    /// Behind which item no further ones begin.
    pub until: Option<Expression>,
    /// Whether all are finished even when one fails.
    pub settle: bool,
}

/// Jobs of another workflow: one, or one for each item of a list.
#[derive(Debug)]
pub struct Enqueue {
    /// Name of the workflow to queue.
    pub workflow: String,
    /// Input by name.
    pub send: Vec<(Str, Maker)>,
    /// When the jobs are due.
    pub due: Option<Due>,
    /// The lane they wait in.
    pub lane: Option<LaneChoice>,
    /// The tag to find them by.
    pub tag: Option<Maker>,
    /// 1, the highest, to 9.
    pub priority: Option<u8>,
    /// The list, and the slot of its items.
    pub each: Option<(Expression, u32)>,
    /// Span between the due times of two jobs.
    pub spacing: Option<Maker>,
}

/// When queued jobs are due.
#[derive(Debug)]
pub enum Due {
    /// After a span.
    After(Maker),
    /// At an instant.
    At(Maker),
}

/// Which jobs are cancelled.
#[derive(Debug)]
pub enum Cancel {
    /// Jobs by id, one or a list.
    Ids(Maker),
    /// Jobs by tag.
    Tag(Maker),
}

/// Opens an address, passes it on and waits for what comes to it.
#[derive(Debug)]
pub struct Await {
    /// Holds the address while the steps run.
    pub slot: u32,
    /// Steps to run.
    pub block: BlockId,
    /// The key by which a `wake` step finds it.
    pub by: Option<Maker>,
    /// What may come.
    pub accepts: Option<Accepts>,
    /// An instant, or a span from when the step began.
    pub until: Option<Maker>,
}

/// What a callback may bring.
#[derive(Debug)]
pub struct Accepts {
    /// The JSON Schema, as text.
    pub schema: Arc<str>,
    /// The same, compiled.
    pub validator: Validator,
    /// The type of what fits.
    pub of: Type,
}

/// Passes a value on to the run of a workflow that awaits it by a key.
#[derive(Debug)]
pub struct Wake {
    /// The workflow that waits.
    pub workflow: String,
    /// The key.
    pub by: Maker,
    /// What the step that waits returns.
    pub body: Option<Maker>,
    /// How long it is kept for a run that does not wait yet.
    pub keeps: Duration,
}

/// A branch of a `together` step.
#[derive(Debug)]
pub struct Branch {
    /// The name.
    pub name: Str,
    /// Slot of its result.
    pub slot: u32,
    /// Steps to run.
    pub block: BlockId,
}

/// An `invoke` step.
#[derive(Debug)]
pub struct Invoke {
    /// The invoked workflow as it was when this one was checked.
    pub plan: Arc<Plan>,
    /// Input by name.
    pub send: Vec<(Str, Maker)>,
}

/// A call by address, and the service that has its base.
pub type Addressed = (String, String);

/// A `sql` step.
#[derive(Debug)]
pub struct Sql {
    /// Name of the database.
    pub database: String,
    /// Statements and their values.
    pub statements: Vec<(Arc<Statement>, Bound)>,
    /// Whether all run in one transaction.
    pub transaction: bool,
    /// Timeout of each attempt.
    pub within: Duration,
    /// Whether a job performs it once: it writes, and the document does not turn that off.
    pub once: bool,
    /// What the settings of the database must allow.
    pub needs: Arc<Needs>,
    /// The rows for each of which the statement is performed.
    pub from: Option<From>,
    /// How the rows that it returns become a file, and its name.
    pub into: Option<(Arc<rows::Writing>, Option<Maker>)>,
}

/// Rows for each of which a statement is performed.
#[derive(Debug)]
pub struct From {
    /// The list, or the files whose rows are read.
    pub list: Expression,
    /// How they are read.
    pub rows: rows::Source,
    /// Members of a row, whose values come behind those that are bound.
    pub members: Vec<Str>,
    /// Where the values of one row stand in the prepared text, in parentheses, when it inserts: several rows can be sent together.
    pub tuple: Option<std::ops::Range<usize>>,
}

/// Values by the names of their parameters.
pub type Bound = Vec<(Str, Maker)>;

/// A statement whose named parameters are placeholders.
#[derive(Debug, PartialEq)]
pub struct Statement {
    /// The texts around the parameters: always one more than parameters.
    pub texts: Vec<String>,
    /// For each parameter in the text, which of the bound values it uses.
    pub parameters: Vec<usize>,
}

impl Statement {
    /// The text with one `?` for each parameter, as a database prepares it.
    pub fn prepared(&self) -> String {
        self.texts.join("?")
    }
}

/// A `reply` step.
#[derive(Debug)]
pub struct Reply {
    /// The HTTP status.
    pub status: Maker,
    /// Header fields by name.
    pub headers: Vec<(String, Maker)>,
    /// The body.
    pub body: Option<Maker>,
    /// How the rows are read that are its body.
    pub rows: rows::Source,
}

/// A `fail` step.
#[derive(Debug)]
pub struct Fail {
    /// The HTTP status.
    pub status: Maker,
    /// Title of the problem.
    pub title: Option<Maker>,
    /// Detail of the problem.
    pub detail: Option<Maker>,
    /// Type of the problem, a URI.
    pub problem_type: Option<Maker>,
    /// Further members of the problem.
    pub with: Option<Maker>,
}

/// A `call` step.
#[derive(Debug)]
pub struct Call {
    /// Name of the service.
    pub service: String,
    /// Id of the operation; nothing for a URL.
    pub operation: Option<String>,
    /// HTTP method.
    pub method: String,
    /// The host, and those that the service may be at, where its base names none.
    pub host: Option<(Maker, Hosts)>,
    /// URI template (RFC 6570) relative to the service's base.
    pub template: String,
    /// Variables of the template.
    pub variables: Vec<(String, Maker)>,
    /// Header fields by name.
    pub headers: Vec<(String, Maker)>,
    /// The body.
    pub body: Option<Maker>,
    /// Encoding of the body.
    pub encoding: Option<Encoding>,
    /// Ranges of statuses that count as success.
    pub accept: Vec<(u16, u16)>,
    /// Timeout of each attempt.
    pub within: Duration,
    /// When failures are retried.
    pub retry: Option<Retry>,
    /// How the message is signed.
    pub sign: Option<Arc<Proof>>,
    /// How it is found out whether an earlier attempt did its work.
    pub unless: Option<Unless>,
}

/// The question that is asked before a call is repeated.
#[derive(Debug)]
pub struct Unless {
    /// The call that asks. It accepts 404 and 410 too, which mean that the work is not done.
    pub block: BlockId,
    /// Statuses that mean that it is done.
    pub accept: Vec<(u16, u16)>,
    /// What must hold of such an answer.
    pub done: Option<Expression>,
}

/// Makes a value: a constant, a text with expressions, or a list or object of such.
#[derive(Clone, Debug)]
pub enum Maker {
    /// A constant.
    Const(Value),
    /// A text with expressions.
    Text(Template),
    /// A list of values.
    List(Vec<Maker>),
    /// An object of values.
    Object(Vec<(Str, Maker)>),
}

impl Maker {
    /// Evaluates it over the slots of a run.
    pub fn make(&self, slots: &[Value], limits: Limits<'_>) -> Result<Value, Box<EvalError>> {
        let value = match self {
            Maker::Const(value) => return Ok(value.clone()),
            Maker::Text(template) => template.eval(slots, limits)?,
            Maker::List(items) => {
                Value::list(items.iter().map(|item| item.make(slots, limits)).collect::<Result<_, _>>()?)
            }
            Maker::Object(members) => {
                let mut builder = ObjectBuilder::with_capacity(members.len());
                for (key, maker) in members {
                    builder.insert(key.clone(), maker.make(slots, limits)?);
                }
                builder.finish()
            }
        };
        EvalError::check_size(&value)?;
        Ok(value)
    }
}
