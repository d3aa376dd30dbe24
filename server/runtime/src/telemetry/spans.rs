//! Spans of runs, steps, calls and callbacks, with the attributes of the semantic conventions where these have a name.

use std::borrow::Cow;
use std::time::SystemTime;

use kanzlei_model::run::RunState;
use kanzlei_model::time::Timestamp;
use kanzlei_model::trace::Trace;
use opentelemetry::trace::{Link, SpanContext, SpanId, SpanKind, Status, TraceFlags, TraceId, TraceState};
use opentelemetry::{InstrumentationScope, KeyValue, StringValue, Value};
use opentelemetry_sdk::trace::{SpanData, SpanLinks};
use uuid::Uuid;

use super::span_of_step;
use crate::journal::Finished;

/// Steps of a run that become spans; the others are counted in an attribute.
const MOST_STEPS: usize = 512;
/// Characters of a name or an attribute.
const LONGEST: usize = 200;

/// A call of a service that has ended.
#[derive(Clone, Copy, Debug)]
pub struct Called<'c> {
    /// The trace of its run, continued from the span of its step.
    pub trace: Trace,
    /// Its own span.
    pub span: u64,
    /// The service.
    pub service: &'c str,
    /// The operation, where the service is described.
    pub operation: Option<&'c str>,
    /// The method.
    pub method: &'c str,
    /// Which attempt it was, from 1.
    pub attempt: u32,
    /// The status of the answer, or the kind of failure.
    pub became: Result<u16, &'c str>,
    /// When it began.
    pub began: Timestamp,
    /// When it ended.
    pub ended: Timestamp,
}

/// A message that arrived for a waiting job.
#[derive(Clone, Copy, Debug)]
pub struct Callback<'c> {
    /// The trace of the sender, or that of the job.
    pub trace: Trace,
    /// Its own span.
    pub span: u64,
    /// The trace of the job that waits, and the span of its run.
    pub waits: (Trace, u64),
    /// The job.
    pub job: Uuid,
    /// The method.
    pub method: &'c str,
    /// When it came, and when it was answered.
    pub times: (Timestamp, Timestamp),
}

/// The approximate size of a span in bytes.
pub fn weight(span: &SpanData) -> usize {
    let attributes = span.attributes.iter().map(|pair| 64 + pair.key.as_str().len() + pair.value.as_str().len());
    size_of::<SpanData>() + span.name.len() + attributes.sum::<usize>()
}

/// The spans of an ended run and its steps.
pub fn of_run(run: &Finished) -> Vec<SpanData> {
    let machine = &run.machine;
    let plan = machine.plan();
    let records = machine.records();
    let mut attributes = vec![
        text("kanzlei.workflow", &plan.name),
        KeyValue::new("kanzlei.revision", i64::from(run.revision)),
        text("kanzlei.run.id", &run.id.to_string()),
        text("kanzlei.request.id", &run.request_id),
        text("kanzlei.state", run.ended.state.name()),
    ];
    let status = machine.reply().map(|reply| reply.status);
    // `POST /quotes` of an endpoint; what queued a job otherwise.
    let endpoint = run
        .entry
        .split_once(' ')
        .filter(|(method, path)| path.starts_with('/') && method.bytes().all(|letter| letter.is_ascii_uppercase()));
    let (name, kind) = match endpoint {
        _ if run.job => (plan.name.clone(), SpanKind::Consumer),
        Some((method, route)) => {
            attributes.push(text("http.request.method", method));
            attributes.push(text("http.route", route));
            attributes.extend(status.map(|status| KeyValue::new("http.response.status_code", i64::from(status))));
            (run.entry.to_string(), SpanKind::Server)
        }
        None => (plan.name.clone(), SpanKind::Internal),
    };
    if records.len() > MOST_STEPS {
        attributes.push(KeyValue::new("kanzlei.steps.left_out", (records.len() - MOST_STEPS) as i64));
    }
    let failure = run.ended.failure.as_ref().map(|failure| failure.kind.name());
    attributes.extend(failure.map(|kind| text("error.type", kind)));
    // Who sends what does not fit is at fault, not the run (conventions of HTTP spans).
    let outcome = match run.ended.state {
        RunState::Succeeded | RunState::Rejected => Status::Unset,
        _ => Status::error(failure.unwrap_or("failed")),
    };
    let times = (run.started, run.ended.at);
    let mut spans = Vec::with_capacity(1 + records.len().min(MOST_STEPS));
    spans.push(span(&run.trace, run.span, (name, kind), times, attributes, outcome));
    for (at, record) in records.iter().enumerate().take(MOST_STEPS) {
        let paragraph = machine.plan_of(record).sheet.get(record.paragraph as usize);
        let number = machine.number(record);
        let (kind, title) = paragraph.map_or(("", ""), |paragraph| (paragraph.kind.as_str(), &*paragraph.title));
        let mut attributes = vec![
            text("kanzlei.step.number", &number),
            text("kanzlei.step.kind", kind),
            text("kanzlei.step.state", record.state.name()),
        ];
        let items = machine.items(record);
        if !items.is_empty() {
            let items = items.iter().map(u32::to_string).collect::<Vec<_>>().join(".");
            attributes.push(text("kanzlei.step.items", &items));
        }
        if record.attempts > 0 {
            attributes.push(KeyValue::new("kanzlei.step.attempts", i64::from(record.attempts)));
        }
        let failure = record.failure.as_ref().map(|failure| failure.kind.name());
        attributes.extend(failure.map(|kind| text("error.type", kind)));
        let outcome = match record.state {
            kanzlei_engine::machine::State::Failed => Status::error(failure.unwrap_or("failed")),
            _ => Status::Unset,
        };
        let around = record.owner.map_or(run.span, |owner| span_of_step(run.span, owner as usize));
        let name = format!("{number} {title}");
        let within = run.trace.within(around);
        let times = (record.started, record.ended);
        let own = span_of_step(run.span, at);
        spans.push(span(&within, own, (name, SpanKind::Internal), times, attributes, outcome));
    }
    spans
}

/// The span of a call.
pub fn of_call(call: &Called<'_>) -> SpanData {
    let mut attributes = vec![
        text("kanzlei.service", call.service),
        text("http.request.method", call.method),
        KeyValue::new("http.request.resend_count", i64::from(call.attempt.saturating_sub(1))),
    ];
    attributes.extend(call.operation.map(|operation| text("kanzlei.operation", operation)));
    let outcome = match call.became {
        Ok(status) => {
            attributes.push(KeyValue::new("http.response.status_code", i64::from(status)));
            if status >= 400 { Status::error(status.to_string()) } else { Status::Unset }
        }
        Err(kind) => Status::error(kind.to_owned()),
    };
    if let Status::Error { description } = &outcome {
        attributes.push(text("error.type", description));
    }
    let name = format!("{} {}", call.method, call.operation.unwrap_or(call.service));
    span(&call.trace, call.span, (name, SpanKind::Client), (call.began, call.ended), attributes, outcome)
}

/// The span of a message that arrived, linked with the run that waits for it.
pub fn of_callback(callback: &Callback<'_>) -> SpanData {
    let attributes = vec![
        text("http.request.method", callback.method),
        text("http.route", "/~/callbacks/{token}"),
        text("kanzlei.run.id", &callback.job.to_string()),
    ];
    let name = format!("{} /~/callbacks/{{token}}", callback.method);
    let kind = (name, SpanKind::Server);
    let mut span = span(&callback.trace, callback.span, kind, callback.times, attributes, Status::Unset);
    let (trace, run) = &callback.waits;
    let link = Link::new(context(trace, *run), Vec::new(), 0);
    let mut links = SpanLinks::default();
    links.links.push(link);
    span.links = links;
    span
}

fn text(key: &'static str, value: &str) -> KeyValue {
    KeyValue::new(key, Value::String(StringValue::from(short(value))))
}

fn short(value: &str) -> String {
    value.chars().take(LONGEST).collect()
}

fn context(trace: &Trace, span: u64) -> SpanContext {
    let flags = if trace.sampled { TraceFlags::SAMPLED } else { TraceFlags::default() };
    let (trace, span) = (TraceId::from_bytes(trace.id.to_be_bytes()), SpanId::from_bytes(span.to_be_bytes()));
    SpanContext::new(trace, span, flags, false, TraceState::NONE)
}

fn span(
    trace: &Trace,
    own: u64,
    (name, kind): (String, SpanKind),
    (began, ended): (Timestamp, Timestamp),
    attributes: Vec<KeyValue>,
    status: Status,
) -> SpanData {
    let parent = trace.parent.unwrap_or(0);
    SpanData {
        span_context: context(trace, own),
        parent_span_id: SpanId::from_bytes(parent.to_be_bytes()),
        parent_span_is_remote: false,
        span_kind: kind,
        name: Cow::Owned(short(&name)),
        start_time: time(began),
        end_time: time(ended.max(began)),
        attributes,
        dropped_attributes_count: 0,
        events: Default::default(),
        links: Default::default(),
        status,
        instrumentation_scope: InstrumentationScope::builder("kanzlei").build(),
    }
}

fn time(at: Timestamp) -> SystemTime {
    SystemTime::UNIX_EPOCH + std::time::Duration::from_micros(at.as_micros().max(0) as u64)
}
