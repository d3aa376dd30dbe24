//! Steps of a workflow: typed, with their positions. `read` makes them from nodes.

pub mod arms;
pub mod file;
pub mod mail;
mod read;
pub mod render;
pub mod rows;

use std::time::Duration;

use super::proof::Proof;
use super::reader::Named;
use super::retry::Retry;
use super::yaml::Node;
use crate::diagnostic::Place;
pub use arms::Arm;

pub(super) use read::{is_header_name, steps, valid_name};

/// A step of a workflow.
#[derive(Clone, Debug)]
pub struct Step {
    /// The place of the key that says what the step does.
    pub at: Place,
    /// Where the step begins, in bytes.
    pub begins: u32,
    /// Name by which later steps read its result.
    pub id: Option<Named>,
    /// What it does, in the author's words.
    pub about: Option<String>,
    /// Condition under which it runs.
    pub when: Option<Node>,
    /// Whether the step is switched off.
    pub off: bool,
    /// Steps that run when it fails.
    pub catch: Vec<Step>,
    /// What it does.
    pub action: Action,
}

/// What a step does.
#[derive(Clone, Debug)]
pub enum Action {
    /// Calls a service.
    Call(Box<Call>),
    /// Names values.
    Let(Vec<(Named, Node)>),
    /// Runs statements.
    Script(Node),
    /// Branches on a condition.
    If {
        /// The condition.
        condition: Node,
        /// Steps for a true condition.
        then: Vec<Step>,
        /// Steps for all other cases.
        otherwise: Vec<Step>,
    },
    /// Branches on a value.
    Match {
        /// The value that is compared.
        subject: Node,
        /// The alternatives.
        arms: Vec<Arm>,
        /// Steps for all other cases.
        otherwise: Vec<Step>,
    },
    /// Runs steps for each item of a list.
    Each(Box<Each>),
    /// Runs branches concurrently.
    Together {
        /// The branches.
        branches: Vec<Branch>,
        /// Whether all are finished even when one fails.
        settle: bool,
    },
    /// Runs another workflow.
    Invoke {
        /// The workflow to run.
        workflow: Named,
        /// Input by name.
        send: Vec<(Named, Node)>,
    },
    /// Runs statements in a database.
    Sql(Box<Sql>),
    /// Works with files.
    File(Box<file::FileStep>),
    /// Fills a template.
    Render(Box<render::Render>),
    /// Sends a mail.
    Mail(Box<mail::Mail>),
    /// Keeps values for later runs.
    Keep(Vec<(Named, Node)>),
    /// Waits.
    Pause(Pause),
    /// Queues jobs.
    Enqueue(Box<Enqueue>),
    /// Cancels jobs.
    Cancel(Cancel),
    /// Waits for a callback.
    Await(Box<Await>),
    /// Passes a value on to a run that waits for it.
    Wake(Box<Wake>),
    /// Writes a line to the journal.
    Note(Node),
    /// Reports the progress of a job.
    Progress(Node),
    /// Ends the run with a reply.
    Reply {
        /// The HTTP status.
        status: Node,
        /// Header fields by name.
        headers: Vec<(Named, Node)>,
        /// The body.
        body: Option<Node>,
    },
    /// Ends the run with a failure.
    Fail {
        /// The HTTP status.
        status: Node,
        /// Title of the problem.
        title: Option<Node>,
        /// Detail of the problem.
        detail: Option<Node>,
        /// Type of the problem, a URI.
        problem_type: Option<Node>,
        /// Further members of the problem.
        with: Option<Node>,
    },
}

/// A loop over a list.
#[derive(Clone, Debug)]
pub struct Each {
    /// Name of the item.
    pub item: Named,
    /// The list.
    pub list: Node,
    /// Name of the position, counted from 0.
    pub position: Option<Named>,
    /// The steps, in order.
    pub steps: Vec<Step>,
    /// Most items that run at the same time.
    pub at_once: u32,
    /// What each item contributes to the result.
    pub collect: Option<Node>,
    /// Behind which item no further ones begin.
    pub until: Option<Node>,
    /// Whether all are finished even when one fails.
    pub settle: bool,
}

/// One branch of `together`, by the name of its result.
#[derive(Clone, Debug)]
pub struct Branch {
    /// The name of the branch.
    pub name: Named,
    /// The steps, in order.
    pub steps: Vec<Step>,
}

/// A `sql` step.
#[derive(Clone, Debug)]
pub struct Sql {
    /// Name of the database.
    pub database: Named,
    /// The statements, in order.
    pub statements: Vec<Statement>,
    /// Whether they were given as a list: one transaction.
    pub transaction: bool,
    /// Timeout of the statements.
    pub within: Option<Duration>,
    /// Whether a job performs it once, however often it is asked for.
    pub once: bool,
    /// The rows for each of which the statement is performed.
    pub from: Option<Node>,
    /// How the rows that it returns become a file.
    pub into: Option<rows::Write>,
}

/// One statement.
#[derive(Clone, Debug)]
pub struct Statement {
    /// The node of the text, for places in it.
    pub text: Node,
    /// Values by parameter name.
    pub bind: Vec<(Named, Node)>,
}

/// Jobs of another workflow.
#[derive(Clone, Debug)]
pub struct Enqueue {
    /// The workflow to queue.
    pub workflow: Named,
    /// Input by name.
    pub send: Vec<(Named, Node)>,
    /// When the jobs are due.
    pub due: Option<Pause>,
    /// The lane they wait in.
    pub lane: Option<Node>,
    /// The tag to find them by.
    pub tag: Option<Node>,
    /// 1, the highest, to 9.
    pub priority: Option<u8>,
    /// The list and the name of its items.
    pub each: Option<(Node, Named)>,
    /// Span between the due times of two jobs.
    pub spacing: Option<Node>,
}

/// Which jobs a `cancel` step cancels.
#[derive(Clone, Debug)]
pub enum Cancel {
    /// Jobs by id, one or a list.
    Ids(Node),
    /// Jobs by tag.
    Tag(Node),
}

/// Waits for what comes to an address that its steps send out, or by a key.
#[derive(Clone, Debug)]
pub struct Await {
    /// Name of the callback.
    pub name: Named,
    /// Steps that pass the address on.
    pub steps: Vec<Step>,
    /// The key by which a `wake` step finds it.
    pub by: Option<Node>,
    /// The JSON Schema of what may come, and where it stands.
    pub schema: Option<(serde_json::Value, Place)>,
    /// How long, or until when, it waits.
    pub until: Option<Node>,
}

/// Passes a value on to the run of a workflow that awaits it by a key.
#[derive(Clone, Debug)]
pub struct Wake {
    /// The workflow that waits.
    pub workflow: Named,
    /// The key.
    pub by: Node,
    /// What the step that waits returns.
    pub body: Option<Node>,
    /// How long it is kept for a run that does not wait yet.
    pub keeps: Option<Duration>,
}

impl Step {
    /// The steps inside it, branch by branch, its catch last.
    pub fn inside(&self) -> Vec<&[Step]> {
        let mut out: Vec<&[Step]> = match &self.action {
            Action::If { then, otherwise, .. } => vec![then, otherwise],
            Action::Match { arms, otherwise, .. } => {
                arms.iter().map(|arm| arm.steps.as_slice()).chain([otherwise.as_slice()]).collect()
            }
            Action::Each(each) => vec![&each.steps],
            Action::Together { branches, .. } => branches.iter().map(|branch| branch.steps.as_slice()).collect(),
            Action::Await(wait) => vec![&wait.steps],
            Action::Call(call) => call.unless.iter().map(|unless| std::slice::from_ref(&unless.step)).collect(),
            _ => Vec::new(),
        };
        out.push(&self.catch);
        out
    }
}

/// Changes the schemas of steps and of those inside them, each with its place.
pub fn each_schema(steps: &mut [Step], change: &mut dyn FnMut(&mut serde_json::Value, Place)) {
    for step in steps {
        match &mut step.action {
            Action::If { then, otherwise, .. } => {
                each_schema(then, change);
                each_schema(otherwise, change);
            }
            Action::Match { arms, otherwise, .. } => {
                arms.iter_mut().for_each(|arm| each_schema(&mut arm.steps, change));
                each_schema(otherwise, change);
            }
            Action::Each(each) => each_schema(&mut each.steps, change),
            Action::Together { branches, .. } => {
                branches.iter_mut().for_each(|branch| each_schema(&mut branch.steps, change));
            }
            Action::Await(wait) => {
                wait.schema.iter_mut().for_each(|(schema, at)| change(schema, *at));
                each_schema(&mut wait.steps, change);
            }
            _ => {}
        }
        each_schema(&mut step.catch, change);
    }
}

/// How long a step waits.
#[derive(Clone, Debug)]
pub enum Pause {
    /// For a span.
    For(Node),
    /// Until an instant.
    Until(Node),
}

/// How a body is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Encoding {
    /// JSON.
    Json,
    /// `application/x-www-form-urlencoded`.
    Form,
    /// The same, with nested values by names in brackets: `stay[from]=…`.
    Brackets,
    /// Plain text.
    Text,
    /// `multipart/form-data` (RFC 7578).
    Multipart,
}

impl Encoding {
    /// Names as documents write them.
    pub const NAMES: &[(&str, Encoding)] = &[
        ("json", Encoding::Json),
        ("form", Encoding::Form),
        ("form-brackets", Encoding::Brackets),
        ("text", Encoding::Text),
        ("multipart", Encoding::Multipart),
    ];
}

/// A `call` step.
#[derive(Clone, Debug)]
pub struct Call {
    /// What it calls.
    pub target: Target,
    /// Input by name.
    pub send: Vec<(Named, Node)>,
    /// Header fields to send.
    pub headers: Vec<(Named, Node)>,
    /// Body to send.
    pub body: Option<Node>,
    /// Encoding of the body.
    pub encoding: Option<Encoding>,
    /// Accepted status ranges, both ends included; empty for 200 to 299.
    pub accept: Vec<(u16, u16)>,
    /// Timeout of each attempt.
    pub within: Option<Duration>,
    /// When failures are retried.
    pub retry: Option<Retry>,
    /// Whether repeating it does no harm, whatever its method.
    pub safe: bool,
    /// How the message is signed.
    pub sign: Option<Proof>,
    /// How it is found out whether an earlier attempt did its work.
    pub unless: Option<Box<Unless>>,
}

/// A question that is asked before a call is repeated: where the work is done already, the answer is its result.
#[derive(Clone, Debug)]
pub struct Unless {
    /// The call that asks.
    pub step: Step,
    /// What must hold of an accepted answer; nothing where each means that the work is done.
    pub done: Option<Node>,
}

impl Unless {
    /// The call that asks.
    pub fn call(&self) -> Option<&Call> {
        match &self.step.action {
            Action::Call(call) => Some(call),
            _ => None,
        }
    }
}

/// What a `call` step calls.
#[derive(Clone, Debug)]
pub enum Target {
    /// An operation of a service.
    Operation {
        /// Name of the service.
        service: String,
        /// Id of the operation.
        operation: String,
        /// Where it stands in the text.
        at: Place,
    },
    /// A URL below the base of a service.
    Url {
        /// HTTP method.
        method: String,
        /// Template of the URL.
        template: String,
        /// The service that is meant, where several have its base address.
        service: Option<Named>,
        /// Where it stands in the text.
        at: Place,
    },
}
