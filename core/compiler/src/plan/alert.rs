//! A compiled alert: whether its condition holds for measures.

use std::time::Duration;

use kanzlei_lang::document::alert::{Alert as Document, Quiet, Subject};
use kanzlei_lang::expr::{Expression, Limits, ops};
use kanzlei_model::time::Timestamp;
use kanzlei_model::value::Value;

use super::Plan;

/// The input of a workflow that is a notice.
pub const INPUT: &str = "alerts";

/// An alert as a notice has it.
#[derive(Clone, Copy, Debug)]
pub struct Announced<'a> {
    /// Its name.
    pub name: &'a str,
    /// What it means.
    pub about: &'a str,
    /// The kind of what it looks at.
    pub subject: Subject,
    /// The name of that.
    pub of: &'a str,
    /// The group it is announced with.
    pub group: Option<&'a str>,
    /// `began`, `lasts` or `ended`.
    pub state: &'static str,
    /// When it began.
    pub since: Timestamp,
    /// When it ended.
    pub until: Option<Timestamp>,
    /// Its measures.
    pub measures: &'a [(&'static str, f64)],
}

/// The input of a notice about these alerts, as far as the workflow declares it.
pub fn notice(plan: &Plan, alerts: &[Announced<'_>]) -> Value {
    let one = |alert: &Announced<'_>| {
        let measures = alert.measures.iter().map(|(name, value)| (*name, number(*value)));
        let mut members = vec![
            ("alert", Value::text(alert.name)),
            ("about", Value::text(alert.about)),
            ("state", Value::text(alert.state)),
            ("kind", Value::text(alert.subject.name())),
            ("of", Value::text(alert.of)),
            ("since", Value::text(alert.since.to_string())),
            ("measures", Value::object(measures)),
        ];
        members.extend(alert.until.map(|until| ("until", Value::text(until.to_string()))));
        members.extend(alert.group.map(|group| ("group", Value::text(group))));
        Value::object(members)
    };
    match plan.input.properties.iter().any(|input| input.name == INPUT) {
        true => Value::object([(INPUT, Value::list(alerts.iter().map(one).collect::<Vec<_>>()))]),
        false => Value::object::<&str>([]),
    }
}

/// Counts are whole numbers.
fn number(value: f64) -> Value {
    if value.fract() == 0.0 && value.abs() < 9e15 { Value::Int(value as i64) } else { Value::Num(value) }
}

/// A compiled alert.
#[derive(Debug)]
pub struct Alert {
    /// Its name.
    pub name: String,
    /// What it means, in the author's words.
    pub about: String,
    /// The kind of what it looks at.
    pub subject: Subject,
    /// The name of what it looks at.
    pub of: String,
    /// The span that measures cover.
    pub over: Duration,
    /// The condition; the measures are in the first slots.
    pub when: Expression,
    /// How long it must hold before the alert begins.
    pub lasting: Duration,
    /// How long it must not hold before the alert ends.
    pub calm: Duration,
    /// The workflow that is its notice.
    pub run: Option<String>,
    /// After how long it is announced again.
    pub repeat: Option<Duration>,
    /// Alerts that are announced together.
    pub group: Option<String>,
    /// The hours in which nothing is announced.
    pub quiet: Option<Quiet>,
}

impl Alert {
    /// A compiled alert, with the condition that its document has as a text.
    pub fn of(document: &Document, when: Expression) -> Self {
        Alert {
            name: document.name.text.clone(),
            about: document.about.clone(),
            subject: document.subject,
            of: document.of.text.clone(),
            over: document.over,
            when,
            lasting: document.lasting,
            calm: document.calm,
            run: document.run.as_ref().map(|run| run.text.clone()),
            repeat: document.repeat,
            group: document.group.clone(),
            quiet: document.quiet.clone(),
        }
    }

    /// Whether the condition holds for measures; those without a value are 0.
    ///
    /// # Errors
    /// An expression that fails, in a sentence.
    pub fn holds(&self, measure: impl Fn(&str) -> Option<f64>) -> Result<bool, String> {
        let slots: Vec<Value> =
            self.subject.measures().iter().map(|(name, _)| number(measure(name).unwrap_or(0.0))).collect();
        let value = self.when.eval(&slots, Limits::default()).map_err(|error| error.to_string())?;
        Ok(ops::truthy(&value))
    }

    /// The condition as its author wrote it.
    pub fn condition(&self) -> &str {
        self.when.text()
    }
}
