//! Documents of kind `alert`: a condition over what a workflow, a lane, a service, a timetable or an allowance did lately.
//!
//! The condition is an expression over the measures of its subject ([`Subject::measures`]), which are numbers. `examples` say for which
//! measures it holds, and the checker tries them.
//!
//! ```
//! use kanzlei_lang::document::{self, Document, Source};
//! let text = "alert: quotes-fail\nworkflow: berth-quote\nwhen: failed >= 5 && failed / runs > 0.05\nover: 10 min\nrun: tell-the-office\n";
//! let (document, findings) = document::read(&Source::new("quotes-fail.yaml", text), &|_| None);
//! assert!(findings.is_empty());
//! assert!(matches!(document, Some(Document::Alert(one)) if one.over.as_secs() == 600));
//! ```

use std::time::Duration;

use jiff::civil::Time;
use jiff::tz::TimeZone;

use super::keys::keys;
use super::reader::{KeySpec, Members, Named, is_document_name};
use super::yaml::{Kind, Node};
use crate::calendar;
use crate::diagnostic::{Place, Report};
use crate::suggest;

/// The longest span that is measured: counts of minutes are read for it.
const MOST_OVER: Duration = Duration::from_secs(86_400);
/// The longest of the other spans.
const MOST_SPAN: Duration = Duration::from_secs(7 * 86_400);
/// The most examples.
const MOST_EXAMPLES: usize = 50;

/// An alert document.
#[derive(Clone, Debug)]
pub struct Alert {
    /// Its name.
    pub name: Named,
    /// What it means, in the author's words.
    pub about: String,
    /// The kind of what it looks at.
    pub subject: Subject,
    /// The name of what it looks at.
    pub of: Named,
    /// The span that measures cover, up to now.
    pub over: Duration,
    /// The condition: an expression over the measures.
    pub when: Node,
    /// How long the condition must hold before the alert begins; zero for at once.
    pub lasting: Duration,
    /// How long it must not hold before the alert ends; zero for at once.
    pub calm: Duration,
    /// The workflow that is queued as its notice; without one the alert is only shown.
    pub run: Option<Named>,
    /// After how long it is announced again while it lasts.
    pub repeat: Option<Duration>,
    /// Alerts of one group that are announced together share a notice.
    pub group: Option<String>,
    /// The hours of the day in which nothing is announced.
    pub quiet: Option<Quiet>,
    /// For which measures it holds.
    pub examples: Vec<Example>,
}

/// What an alert looks at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Subject {
    /// Runs of a workflow.
    Workflow,
    /// Jobs of a lane.
    Lane,
    /// Calls of a service.
    Service,
    /// Due instants of a workflow's timetables.
    Timetable,
    /// Callers of an allowance.
    Allowance,
}

/// A measure: its name and what it is.
pub type Measure = (&'static str, &'static str);

impl Subject {
    /// All of them.
    pub const ALL: [Subject; 5] =
        [Subject::Workflow, Subject::Lane, Subject::Service, Subject::Timetable, Subject::Allowance];

    /// The key that names it.
    pub fn name(self) -> &'static str {
        match self {
            Subject::Workflow => "workflow",
            Subject::Lane => "lane",
            Subject::Service => "service",
            Subject::Timetable => "timetable",
            Subject::Allowance => "allowance",
        }
    }

    /// The measures that its condition can name.
    pub fn measures(self) -> &'static [Measure] {
        match self {
            Subject::Workflow => &[
                ("runs", "runs that ended in the span"),
                ("succeeded", "those that succeeded"),
                ("rejected", "those that were rejected"),
                ("failed", "those that failed"),
                ("p50", "the time in seconds that half of them did not exceed; 0 without runs"),
                ("p95", "the time that 95 of a hundred did not exceed"),
                ("p99", "the time that 99 of a hundred did not exceed"),
                ("denied", "requests to it that were refused for their key, token or proof (401, 403)"),
                ("since_success", "seconds since the last minute with a run that succeeded, at most a week"),
            ],
            Subject::Lane => &[
                ("scheduled", "jobs that are due later"),
                ("queued", "jobs that are due and wait for their turn"),
                ("running", "jobs that run"),
                ("waiting", "jobs that wait for something else"),
                ("oldest", "seconds that the job which waits longest is due"),
                ("begun", "jobs that began in the span"),
                ("succeeded", "jobs that succeeded in the span"),
                ("rejected", "jobs that were rejected"),
                ("failed", "jobs that failed"),
                ("delay", "mean seconds between the due time and the beginning of jobs"),
                ("most_delay", "the longest such time in seconds"),
            ],
            Subject::Service => &[
                ("calls", "steps that called it and ended in the span"),
                ("failed", "those that failed, after their retries"),
                ("p50", "the time in seconds that half of them did not exceed; 0 without calls"),
                ("p95", "the time that 95 of a hundred did not exceed"),
                ("p99", "the time that 99 of a hundred did not exceed"),
            ],
            Subject::Timetable => &[
                ("queued", "due instants in the span that queued a job"),
                ("missed", "due instants that passed while no process worked"),
                ("skipped", "due instants that were skipped because the job before had not ended"),
                ("refused", "due instants whose job was refused"),
                ("failed", "jobs of the workflow's timetables that failed in the span"),
            ],
            Subject::Allowance => &[
                ("callers", "callers that it counts"),
                ("used", "the largest share of its quota that a caller has used in the current period, from 0 to 1"),
            ],
        }
    }
}

/// Hours of the day.
#[derive(Clone, Debug, PartialEq)]
pub struct Quiet {
    /// When they begin.
    pub from: Time,
    /// When they end; on the next day where that is before they begin.
    pub until: Time,
    /// The zone of these times.
    pub zone: TimeZone,
}

/// Measures, and whether the condition holds for them.
#[derive(Clone, Debug)]
pub struct Example {
    /// Where it stands.
    pub at: Place,
    /// The measures; others are 0.
    pub measures: Vec<(Named, f64)>,
    /// Whether the condition holds.
    pub holds: bool,
}

/// Keys of an alert document.
pub const ALERT: &[KeySpec] = keys! {
    "alert", r#"{"type":"string","pattern":"^[a-z][a-z0-9-]*$"}"#, "The name of the alert.";
    "about", r#"{"type":"string"}"#, "What it means and what to do, in a sentence.";
    "workflow", r#"{"type":"string"}"#, "The workflow whose runs it looks at: `runs`, `succeeded`, `rejected`, `failed`, `p50`, `p95`, `p99`, `denied`, `since_success`.";
    "lane", r#"{"type":"string"}"#, "The lane whose jobs it looks at: `queued`, `running`, `oldest`, `delay`, `failed` and others.";
    "service", r#"{"type":"string"}"#, "The service whose calls it looks at: `calls`, `failed`, `p50`, `p95`, `p99`.";
    "timetable", r#"{"type":"string"}"#, "The workflow whose timetables it looks at: `queued`, `missed`, `skipped`, `refused`, `failed`.";
    "allowance", r#"{"type":"string"}"#, "The allowance whose callers it looks at: `used`, `callers`.";
    "over", r#"{"type":["string","integer"]}"#, "The span that is measured, up to now: from `1 min` to `1 d`; default: `5 min`.";
    "when", r#"{"type":["string","boolean"]}"#, "The condition over the measures: `failed >= 5 && failed / runs > 0.05`. Times are in seconds.";
    "lasting", r#"{"type":["string","integer"]}"#, "How long the condition must hold before the alert begins; default: it begins at once.";
    "calm", r#"{"type":["string","integer"]}"#, "How long the condition must not hold before the alert ends; default: it ends at once.";
    "run", r#"{"type":"string"}"#, "The workflow that is queued when the alert begins and ends; it has the inputs `alerts`, or none.";
    "repeat", r#"{"type":["string","integer"]}"#, "After how long it is announced again while it lasts; default: never.";
    "group", r#"{"type":"string","pattern":"^[a-z][a-z0-9-]*$"}"#, "Alerts of one group that are announced at the same time share one notice.";
    "quiet", r##"{"$ref":"#/$defs/quiet"}"##, "The hours of the day in which nothing is announced: `{from: 22:00, until: 06:00, zone: Europe/Oslo}`.";
    "examples", r##"{"type":"array","maxItems":50,"items":{"$ref":"#/$defs/example"}}"##, "Measures, and whether the condition holds for them; the checker tries them.";
};

/// Keys of quiet hours.
pub const QUIET: &[KeySpec] = keys! {
    "from", r#"{"type":"string","pattern":"^[0-2][0-9]:[0-5][0-9]$"}"#, "When they begin: `22:00`.";
    "until", r#"{"type":"string","pattern":"^[0-2][0-9]:[0-5][0-9]$"}"#, "When they end, on the next day where that is earlier.";
    "zone", r#"{"type":"string"}"#, "The time zone, as the IANA names it; default: `UTC`.";
};

/// Keys of an example.
pub const EXAMPLE: &[KeySpec] = keys! {
    "measures", r#"{"type":"object","additionalProperties":{"type":"number"}}"#, "The measures by name; others are 0.";
    "holds", r#"{"type":"boolean"}"#, "Whether the condition holds.";
};

/// Reads an alert.
pub fn read(root: &Node, report: &mut Report) -> Option<Alert> {
    let members = Members::new(root, "an alert", &[ALERT], report)?;
    let name = members.text("alert", report)?;
    if !is_document_name(&name.text) {
        report.error("bad-name", name.at, format!("`{}` cannot be the name of an alert", name.text));
        report.help("lower-case letters, digits and hyphens, beginning with a letter: `quotes-fail`");
    }
    let mut subjects = Subject::ALL.into_iter().filter_map(|subject| Some((subject, members.get(subject.name())?)));
    let subject = subjects.next();
    if let Some((second, node)) = subjects.next() {
        report.error(
            "wrong-value",
            node.at,
            format!("an alert looks at one thing, and `{}` is a second one", second.name()),
        );
        report.help("write an alert for each; `group` announces them together");
    }
    if subject.is_none() {
        report.error(
            "missing-key",
            name.at,
            "an alert looks at something: `workflow`, `lane`, `service`, `timetable` or `allowance`",
        );
        report.help("for example `workflow: berth-quote`");
    }
    let when = members.get("when");
    if when.is_none() {
        report.error("missing-key", name.at, "an alert has a condition: `when`");
        report.help("for example `when: failed > 0`");
    }
    let span = |key: &str, most: Duration, report: &mut Report| members.duration(key, most, report);
    let over = span("over", MOST_OVER, report).unwrap_or(Duration::from_secs(300));
    if over < Duration::from_secs(60)
        && let Some(node) = members.get("over")
    {
        report.error("wrong-value", node.at, "`over` is at least 1 min: runs are counted by minutes");
    }
    let (lasting, calm) = (span("lasting", MOST_SPAN, report), span("calm", MOST_SPAN, report));
    let repeat = span("repeat", MOST_SPAN, report);
    if repeat.is_some_and(|repeat| repeat < Duration::from_secs(60))
        && let Some(node) = members.get("repeat")
    {
        report.error("wrong-value", node.at, "`repeat` is at least 1 min");
    }
    let run = members.constant_text("run", report);
    let group = members.constant_text("group", report);
    if let Some(group) = group.as_ref().filter(|group| !is_document_name(&group.text)) {
        report.error("bad-name", group.at, format!("`{}` cannot be the name of a group", group.text));
        report.help("lower-case letters, digits and hyphens, beginning with a letter: `harbour`");
    }
    for key in ["repeat", "group", "quiet"] {
        if let (Some(node), None) = (members.get(key), &run) {
            report.error("wrong-value", node.at, format!("`{key}` is about notices, and the alert has none"));
            report.help("name the workflow that is its notice under `run`");
        }
    }
    let quiet = members.get("quiet").and_then(|node| quiet(node, report));
    let examples = members.list("examples", report);
    if examples.len() > MOST_EXAMPLES {
        report.error("wrong-value", name.at, format!("an alert has at most {MOST_EXAMPLES} examples"));
    }
    let examples = examples.iter().take(MOST_EXAMPLES).filter_map(|node| example(node, report)).collect();
    let about = members.text("about", report).map(|about| about.text).unwrap_or_default();
    let (subject, _) = subject?;
    let of = members.constant_text(subject.name(), report)?;
    let zero = Duration::ZERO;
    Some(Alert {
        name,
        about,
        subject,
        of,
        over,
        when: when?.clone(),
        lasting: lasting.unwrap_or(zero),
        calm: calm.unwrap_or(zero),
        run,
        repeat,
        group: group.map(|group| group.text),
        quiet,
        examples,
    })
}

fn quiet(node: &Node, report: &mut Report) -> Option<Quiet> {
    let members = Members::new(node, "quiet hours", &[QUIET], report)?;
    let mut time = |key: &str| {
        let found = members.constant_text(key, report);
        let Some(text) = found else {
            if members.get(key).is_none() {
                report.error("missing-key", node.at, format!("quiet hours have `{key}`"));
                report.help("for example `{from: 22:00, until: 06:00, zone: Europe/Oslo}`");
            }
            return None;
        };
        let parsed = (text.text.len() == 5).then(|| Time::strptime("%H:%M", &text.text).ok()).flatten();
        if parsed.is_none() {
            report.error("wrong-value", text.at, format!("`{}` is no time of the day", text.text));
            report.help("hours and minutes: `22:00`");
        }
        parsed
    };
    let (from, until) = (time("from"), time("until"));
    let zone = match members.text("zone", report) {
        None => TimeZone::UTC,
        Some(zone) => calendar::zone(&zone.text).unwrap_or_else(|error| {
            report.error("unknown-zone", zone.at, error.to_string());
            TimeZone::UTC
        }),
    };
    let (from, until) = (from?, until?);
    if from == until {
        report.error("wrong-value", node.at, "quiet hours begin and end at different times");
        report.help("an alert that is never announced has no `run`");
    }
    Some(Quiet { from, until, zone })
}

fn example(node: &Node, report: &mut Report) -> Option<Example> {
    let members = Members::new(node, "an example", &[EXAMPLE], report)?;
    let mut measures = Vec::new();
    for (name, node) in members.mapping("measures", report) {
        match node.kind {
            Kind::Int(int) => measures.push((name, int as f64)),
            Kind::Float(float) => measures.push((name, float)),
            _ => {
                report.error("wrong-type", node.at, format!("`{}` is a number, not {}", name.text, node.what()));
            }
        }
    }
    if members.get("holds").is_none() {
        report.error("missing-key", node.at, "an example says whether the condition `holds`");
        report.help("`holds: true` or `holds: false`");
        return None;
    }
    Some(Example { at: node.at, measures, holds: members.boolean("holds", report) })
}

/// Reports a name that is no measure of a subject.
pub fn unknown_measure(name: &str, at: Place, subject: Subject, report: &mut Report) {
    let known = subject.measures().iter().map(|(name, _)| *name);
    report.error("unknown-name", at, format!("a {} has no measure `{name}`", subject.name()));
    match suggest::nearest(name, known.clone()) {
        Some(near) => report.did_you_mean(near),
        None => report.help(format!("its measures are {}", known.collect::<Vec<_>>().join(", "))),
    };
}
