//! How a workflow runs as a job, compiled: its lane, tags, key and attempts, who is notified, and its timetables.

use std::time::Duration;

use super::Maker;
use kanzlei_lang::calendar::Calendar;
use kanzlei_lang::document::retry::Retry;
use kanzlei_lang::document::workflow::{Missed, Overlap};
use kanzlei_lang::expr::{EvalError, Expression, Limits};
use kanzlei_model::value::{ObjectBuilder, Str, Value};

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
