//! Calls in the machine: the request to send, what the answer means, whether to try again and when.

use std::time::Duration;

use iri_string::spec::UriSpec;
use iri_string::template::UriTemplateStr;
use iri_string::template::simple_context::{SimpleContext, Value as Variable};

use super::{Failure, Machine, Micros, State};
use crate::document::workflow::{Retry, RetryOn};
use crate::expr::ops;
use crate::plan::{Action, Call};
use crate::value::{ObjectBuilder, Value};

/// One HTTP request, to be sent to a service.
#[derive(Clone, Debug, PartialEq)]
pub struct Request {
    pub service: String,
    pub method: String,
    /// Path and query relative to the service's base address.
    pub target: String,
    pub headers: Vec<(String, String)>,
    pub body: Option<Vec<u8>>,
    /// How long this attempt may take.
    pub within: Duration,
    pub attempt: u32,
}

/// An answer as it came.
#[derive(Clone, Debug, PartialEq)]
pub struct Answer {
    pub status: u16,
    pub headers: Vec<(String, String)>,
    pub body: Vec<u8>,
}

/// Why there is no answer.
#[derive(Clone, Debug, PartialEq)]
pub struct CallFault {
    pub kind: CallError,
    pub detail: String,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CallError {
    /// No connection: nobody listens, the name is unknown.
    Unreachable,
    Timeout,
    /// The connection broke before the answer was whole.
    Broken,
    TooLarge,
    /// A redirect to somewhere else.
    Redirected,
    /// The address may not be called.
    Refused,
}

impl CallError {
    pub fn name(self) -> &'static str {
        match self {
            CallError::Unreachable => "unreachable",
            CallError::Timeout => "timeout",
            CallError::Broken => "broken",
            CallError::TooLarge => "too-large",
            CallError::Redirected => "redirected",
            CallError::Refused => "refused",
        }
    }
}

impl Machine {
    fn pending_call(&self) -> Option<(&Call, usize, u32)> {
        let pending = self.pending.as_ref()?;
        match &self.step_of(pending.record)?.action {
            Action::Call(call) => Some((call, pending.record, pending.attempt)),
            _ => None,
        }
    }

    /// The request of the pending call, the same for each attempt but for its number.
    pub(super) fn request(&mut self) -> Result<Request, Failure> {
        let Some((call, record, attempt)) = self.pending_call() else {
            return Err(Failure { kind: "expression", status: None, detail: "no call".into(), body: Value::Undefined });
        };
        let make = |maker| self.make(maker).map_err(|failure| Failure::expression(&failure));
        let mut sent = ObjectBuilder::default();
        let mut context = SimpleContext::new();
        for (name, maker) in &call.variables {
            let value = make(maker)?;
            match &value {
                Value::Undefined | Value::Null => {}
                Value::List(list) => {
                    let items: Vec<String> = list.items().iter().map(|item| ops::to_text(item).to_string()).collect();
                    context.insert(name.as_str(), Variable::List(items));
                }
                other => {
                    context.insert(name.as_str(), ops::to_text(other).to_string());
                }
            }
        }
        let target = UriTemplateStr::new(&call.template)
            .and_then(|template| template.expand::<UriSpec, _>(&context))
            .map(|target| target.to_string())
            .map_err(|error| Failure {
                kind: "expression",
                status: None,
                detail: format!("the address cannot be made: {error}"),
                body: Value::Undefined,
            })?;
        if leaves_its_path(&target) {
            return Err(Failure {
                kind: "refused",
                status: None,
                detail: format!("a value makes the path `{target}` lead elsewhere"),
                body: Value::Undefined,
            });
        }
        let mut headers = Vec::with_capacity(call.headers.len() + 3);
        for (name, maker) in &call.headers {
            let value = make(maker)?;
            if !value.is_nullish() {
                headers.push((name.clone(), ops::to_text(&value).to_string()));
            }
        }
        let body = call.body.as_ref().map(make).transpose()?;
        sent.insert("target".into(), Value::text(format!("{} {target}", call.method)));
        let given = |headers: &[(String, String)], wanted: &str| {
            headers.iter().any(|(name, _)| name.eq_ignore_ascii_case(wanted))
        };
        if let Some(body) = &body
            && !given(&headers, "content-type")
        {
            let media = if body.as_text().is_some() { "text/plain; charset=utf-8" } else { "application/json" };
            headers.push(("content-type".into(), media.into()));
        }
        if !given(&headers, "accept") {
            headers.push(("accept".into(), "application/json, */*;q=0.5".into()));
        }
        if !given(&headers, "idempotency-key") && !matches!(call.method.as_str(), "GET" | "HEAD") {
            headers.push(("idempotency-key".into(), format!("{}-{record}", self.id)));
        }
        if let Some(body) = &body {
            sent.insert("body".into(), body.clone());
        }
        let request = Request {
            service: call.service.clone(),
            method: call.method.clone(),
            target,
            headers,
            body: body.map(|body| match &body {
                Value::Text(text) => text.as_bytes().to_vec(),
                other => other.to_json().into_bytes(),
            }),
            within: call.within,
            attempt,
        };
        self.records[record].sent = sent.finish();
        Ok(request)
    }

    /// Takes the answer to the pending call, or why there is none.
    pub(super) fn called(&mut self, result: Result<Answer, CallFault>) {
        let Some((call, record, attempt)) = self.pending_call() else { return };
        let retry_after = result.as_ref().ok().and_then(retry_after);
        let judged = match result {
            Err(fault) => {
                Err(Failure { kind: fault.kind.name(), status: None, detail: fault.detail, body: Value::Undefined })
            }
            Ok(answer) => judge(call, answer),
        };
        match judged {
            Ok(value) => {
                let id = self.step_of(record).and_then(|step| step.id);
                if let Some(slot) = id {
                    self.slots[slot as usize] = value.clone();
                }
                self.pending = None;
                self.close(record, State::Succeeded, value, None);
            }
            Err(failure) => {
                let again = call.retry.as_ref().filter(|retry| attempt < retry.times && wants(retry, &failure));
                let pause = again.map(|retry| pause(retry, attempt, retry_after, &self.id, record));
                match pause {
                    Some(pause) => {
                        self.records[record].failure = Some(failure);
                        self.records[record].resumes = self.now + pause.as_micros() as Micros;
                        if let Some(pending) = &mut self.pending {
                            pending.waiting = true;
                        }
                    }
                    None => {
                        self.pending = None;
                        self.step_failed(record, failure);
                    }
                }
            }
        }
    }
}

/// Whether a path has a part that stands for the folder above or for itself (RFC 3986 §3.3), also
/// percent-encoded: with it a value of the input could reach another operation.
fn leaves_its_path(target: &str) -> bool {
    let path = target.split(['?', '#']).next().unwrap_or_default();
    path.split(['/', '\\']).any(|part| {
        let plain = part.replace("%2e", ".").replace("%2E", ".");
        plain == "." || plain == ".."
    })
}

/// What an answer means: the call's result, or a failure.
fn judge(call: &Call, answer: Answer) -> Result<Value, Failure> {
    let accepted = call.accept.iter().any(|(from, to)| (*from..=*to).contains(&answer.status));
    let header = |wanted: &str| {
        answer.headers.iter().find(|(name, _)| name.eq_ignore_ascii_case(wanted)).map(|(_, v)| v.as_str())
    };
    let media = header("content-type").unwrap_or_default().to_ascii_lowercase();
    let body = match parse(&media, &answer.body) {
        Ok(body) => body,
        Err(detail) if accepted => {
            return Err(Failure { kind: "unreadable", status: Some(answer.status), detail, body: Value::Undefined });
        }
        Err(_) => Value::Undefined,
    };
    if !accepted {
        let said = ["detail", "title", "message"].iter().find_map(|key| body.member(key).and_then(Value::as_text));
        let said = said.map(|said| format!(": {said}")).unwrap_or_default();
        let detail = format!("{} answered {}{said}", call.service, answer.status);
        return Err(Failure { kind: "status", status: Some(answer.status), detail, body });
    }
    let headers = answer.headers.into_iter().map(|(name, value)| (name.to_ascii_lowercase(), Value::text(value)));
    Ok(Value::object([
        ("status", Value::Int(answer.status.into())),
        ("body", body),
        ("headers", Value::object(headers)),
    ]))
}

/// A body by its media type: JSON, text, or nothing.
fn parse(media: &str, body: &[u8]) -> Result<Value, String> {
    if body.is_empty() {
        return Ok(Value::Null);
    }
    let essence = media.split(';').next().unwrap_or_default().trim();
    if essence == "application/json" || essence.ends_with("+json") {
        return serde_json::from_slice(body).map_err(|error| format!("the answer says it is JSON and is not: {error}"));
    }
    match std::str::from_utf8(body) {
        Ok(text) => Ok(Value::text(text)),
        Err(_) => Err(format!(
            "the answer is neither JSON nor text ({})",
            if essence.is_empty() { "no Content-Type" } else { essence }
        )),
    }
}

fn wants(retry: &Retry, failure: &Failure) -> bool {
    retry.on.iter().any(|on| match on {
        RetryOn::Failure(kind) => kind == failure.kind,
        RetryOn::Status(from, to) => {
            failure.kind == "status" && failure.status.is_some_and(|s| (*from..=*to).contains(&s))
        }
    })
}

/// The pause before the next attempt: growing, jittered between half and whole, and no shorter than
/// the service asked for, all bounded by `most`.
fn pause(retry: &Retry, attempt: u32, asked: Option<Duration>, seed: &str, record: usize) -> Duration {
    let grown = retry.first.as_secs_f64() * retry.factor.powi(attempt as i32 - 1);
    let jitter = 0.5 + 0.5 * fraction(seed, record, attempt);
    let pause = (grown.min(retry.most.as_secs_f64()) * jitter).max(asked.map_or(0.0, |asked| asked.as_secs_f64()));
    Duration::from_secs_f64(pause.min(retry.most.as_secs_f64()))
}

/// A number in 0..1 that looks random and is the same for the same run, step and attempt (FNV-1a).
fn fraction(seed: &str, record: usize, attempt: u32) -> f64 {
    let mut hash: u64 = 0xcbf2_9ce4_8422_2325;
    for byte in seed.bytes().chain(record.to_le_bytes()).chain(attempt.to_le_bytes()) {
        hash = (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3);
    }
    (hash >> 11) as f64 / (1u64 << 53) as f64
}

/// `Retry-After` in seconds (RFC 9110 §10.2.3).
fn retry_after(answer: &Answer) -> Option<Duration> {
    let (_, value) = answer.headers.iter().find(|(name, _)| name.eq_ignore_ascii_case("retry-after"))?;
    value.trim().parse().ok().map(Duration::from_secs)
}
