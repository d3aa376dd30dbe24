//! Compiled cases: what a case begins with, what its stubs answer, and what it expects. Made by [`crate::prepare`],
//! run against stubs and judged by others.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use kanzlei_compiler::plan::watch::Change;
use kanzlei_compiler::plan::{Maker, Plan};
use kanzlei_lang::document::service::Operation;
use kanzlei_lang::expr::Expression;
use kanzlei_model::caller::Caller;
use kanzlei_model::file::File;
use kanzlei_model::time::Timestamp;
use kanzlei_model::value::Value;

/// The names of stubs that stand for no service.
pub(super) const QUEUE: &str = "queue";
/// The stub that makes mails fail.
pub(super) const MAIL: &str = "mail";
pub(super) const CANCEL: &str = "cancel";
/// The stub of `wake` steps.
pub(super) const WAKE: &str = "wake";
pub(super) const CALLBACK: &str = "callback";
/// The address of the service that a rehearsed run believes in.
pub(super) const PUBLIC: &str = "http://127.0.0.1:7080";

/// Cases of one workflow, compiled.
#[derive(Debug)]
pub struct Prepared {
    /// The document of cases.
    pub path: String,
    pub(super) plan: Arc<Plan>,
    /// Databases that are real, and what makes their tables and rows.
    pub(super) databases: Vec<(String, String)>,
    /// Stubs of all cases.
    pub(super) stubs: Vec<Stub>,
    pub(super) cases: Vec<Case>,
    /// Operations of the services that are called, for what a stub could answer.
    pub(super) services: BTreeMap<String, Arc<Described>>,
}

#[derive(Debug)]
pub(super) struct Described {
    pub operations: BTreeMap<String, Operation>,
    pub api: Arc<serde_json::Value>,
}

#[derive(Debug)]
pub(super) struct Case {
    pub name: String,
    pub line: u32,
    pub entered: Entered,
    pub clock: Timestamp,
    pub caller: Caller,
    pub kept: Value,
    /// Files in places when it begins: place, path, file.
    pub places: Vec<(String, String, File)>,
    /// The settings, where the case has others than the workflow was compiled with.
    pub settings: Option<Value>,
    pub stubs: Vec<Stub>,
    pub expect: Expect,
}

#[derive(Debug)]
pub(super) enum Entered {
    Input(Value),
    /// A changed row, for an entry by its place.
    Change(usize, Change),
    Request {
        endpoint: usize,
        path: Vec<(String, String)>,
        query: String,
        headers: Vec<(String, String)>,
        body: Option<Value>,
    },
}

#[derive(Debug)]
pub(super) struct Stub {
    pub name: String,
    pub answers: Vec<Answer>,
}

#[derive(Debug)]
pub(super) struct Answer {
    pub when: Option<Expression>,
    pub times: Option<u32>,
    pub takes: Duration,
    pub outcome: CompiledOutcome,
}

#[derive(Debug)]
pub(super) enum CompiledOutcome {
    Answer { status: u16, headers: Vec<(String, String)>, body: Option<Maker> },
    Rows { rows: Option<Maker>, count: Option<u64>, id: Option<i64> },
    Fails { kind: String, detail: String },
}

/// A place in the document, for differences.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct At {
    pub line: u32,
    pub column: u32,
}

#[derive(Debug, Default)]
pub(super) struct Expect {
    pub at: At,
    pub state: Option<(String, At)>,
    pub failure: Option<Expected>,
    pub reply: Option<Reply>,
    /// Number or id, as written.
    pub steps: Vec<(String, Step)>,
    pub calls: Vec<(String, Calls)>,
    pub jobs: Vec<(String, Calls)>,
    pub mails: Option<Calls>,
    pub kept: Option<Expected>,
    pub places: Option<Expected>,
    pub took: Option<Expected>,
}

#[derive(Debug)]
pub(super) struct Reply {
    pub at: At,
    pub status: Option<(u16, At)>,
    pub headers: Vec<(String, Expected)>,
    pub body: Option<Expected>,
    pub exactly: bool,
}

#[derive(Debug)]
pub(super) struct Step {
    pub at: At,
    pub state: Option<String>,
    pub times: Option<usize>,
    pub attempts: Option<u32>,
}

#[derive(Debug)]
pub(super) enum Calls {
    Times(usize, At),
    Each(Vec<Expected>, At),
}

/// A value, a test of it, or lists and objects of these.
#[derive(Debug)]
pub(super) enum Expected {
    Value(Value, At),
    /// An expression over `it` that must hold.
    Holds(Box<Expression>, At),
    List(Vec<Expected>, At),
    Object(Vec<(String, Expected)>, At),
}
