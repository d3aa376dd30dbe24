//! The compiled steps, and [`Maker`]: what makes the values in them.

use std::sync::Arc;
use std::time::Duration;

use super::{LaneChoice, Plan, file, render, rows};
use crate::input::Validator;
use crate::sql::Needs;
use kanzlei_lang::document::hosts::Hosts;
use kanzlei_lang::document::proof::Proof;
use kanzlei_lang::document::retry::Retry;
use kanzlei_lang::document::step::Encoding;
use kanzlei_lang::document::step::arms::Test;
use kanzlei_lang::expr::template::Template;
use kanzlei_lang::expr::{EvalError, Expression, Limits};
use kanzlei_lang::types::Type;
use kanzlei_model::value::{ObjectBuilder, Str, Value};

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
        self.made(slots, &limits)
    }

    fn made(&self, slots: &[Value], limits: &Limits<'_>) -> Result<Value, Box<EvalError>> {
        let value = match self {
            Maker::Const(value) => return Ok(value.clone()),
            Maker::Text(template) => template.eval(slots, *limits)?,
            Maker::List(items) => {
                Value::list(items.iter().map(|item| item.made(slots, limits)).collect::<Result<_, _>>()?)
            }
            Maker::Object(members) => {
                let mut builder = ObjectBuilder::with_capacity(members.len());
                for (key, maker) in members {
                    builder.insert(key.clone(), maker.made(slots, limits)?);
                }
                builder.finish()
            }
        };
        EvalError::check_size(&value)?;
        Ok(value)
    }
}
