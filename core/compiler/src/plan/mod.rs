//! The compiled form of a workflow: what the checker makes of a document and the machine runs.
//!
//! Steps stand in numbered blocks, names are slots, texts are templates. Beside it stands the *sheet*:
//! one [`Paragraph`] per step, numbered as on a deed, for showing the workflow or a run of it.
//! A plan holds no address: the performer of a call knows the base of its service.

pub mod alert;
pub mod allowance;
pub mod file;
pub mod issuer;
pub mod queue;
pub mod render;
pub mod rows;
pub mod sheet;
pub mod steps;
pub mod watch;
pub mod webhook;

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

pub use alert::Alert;
pub use allowance::Allowance;
pub use issuer::Issuer;
pub use queue::{Lane, LaneChoice, Notify, Order, Queue, Timetable};
pub use sheet::Paragraph;
pub use steps::{
    Accepts, Action, Addressed, Await, BlockId, Bound, Branch, Call, Cancel, Due, Each, Enqueue, Fail, From, Invoke,
    Maker, Reply, Sql, Statement, Step, Unless, Wake,
};
pub use watch::Watch;
pub use webhook::Webhook;

use crate::input::{EndpointInput, InputPlan};
use kanzlei_lang::confidential::Label;
use kanzlei_lang::document::access::Access;
use kanzlei_lang::document::address::Address;
use kanzlei_lang::document::proof::Proof;
use kanzlei_lang::document::reader::Named;
use kanzlei_lang::document::web::Web;
use kanzlei_lang::document::workflow::{Answer, Beyond};
use kanzlei_lang::expr::{Counted, Expression, Limits, Scope};
use kanzlei_lang::types::Type;
use kanzlei_model::caller::Caller;
use kanzlei_model::value::{Str, Value};

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
    pub slots: Vec<Str>,
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
