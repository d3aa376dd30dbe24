//! Calls in the machine: the request to send, what the answer means, whether to try again and when.

use std::sync::Arc;
use std::time::Duration;

use iri_string::spec::UriSpec;
use iri_string::template::UriTemplateStr;
use iri_string::template::simple_context::{SimpleContext, Value as Variable};

use super::flow::{Awaits, Begun, Fibre, Flow, Frame, What};
use super::{Data, Effect, EffectError, EffectId, Failure, Machine, State, body};
use kanzlei_compiler::plan::{Action, Call, Maker};
use kanzlei_lang::document::proof::Proof;
use kanzlei_lang::document::purpose::is_dots;
use kanzlei_lang::document::retry::Retry;
use kanzlei_lang::expr::ops;
use kanzlei_model::run::FailureKind;
use kanzlei_model::value::{ObjectBuilder, Value, key};

/// One HTTP request, to be sent to a service.
#[derive(Clone, Debug, PartialEq)]
pub struct Request {
    /// The name of the service.
    pub service: String,
    /// The operation's name, where the call names one.
    pub operation: Option<String>,
    /// The host, where the service has none of its own; it is one of those that the service may be at.
    pub host: Option<String>,
    /// The HTTP method.
    pub method: String,
    /// Path and query relative to the service's base address.
    pub target: String,
    /// Header names and values, without credentials.
    pub headers: Vec<(String, String)>,
    /// The body as it is sent, one part after another.
    pub body: Option<Vec<Data>>,
    /// How long this attempt may take.
    pub within: Duration,
    /// Which attempt it is, from 1.
    pub attempt: u32,
    /// How the message is signed when it is sent.
    pub sign: Option<Arc<Proof>>,
    /// The position of its step among the records of the run.
    pub step: u32,
}

/// An answer as it came.
#[derive(Clone, Debug, PartialEq)]
pub struct Answer {
    /// The HTTP status.
    pub status: u16,
    /// Header names and values.
    pub headers: Vec<(String, String)>,
    /// The body as it came.
    pub body: Data,
}

impl Machine {
    /// Makes the request of a call and asks for it to be sent.
    pub(super) fn start_call(&mut self, at: usize, fibre: &mut Fibre, record: usize, attempt: u32) -> Flow {
        let plan = self.levels[fibre.level as usize].plan.clone();
        let (block, place) = self.records[record].place();
        let step = plan.blocks.get(block as usize).and_then(|block| block.get(place));
        let Some(Action::Call(call)) = step.map(|step| &step.action) else { return Flow::On };
        match self.request(fibre, call, record, attempt) {
            Ok(request) => {
                let id = self.ask(at, Effect::Call(Box::new(request)));
                fibre.awaits = Awaits::Effect { id, record: Some(record), what: What::Call { attempt } };
                Flow::Waits
            }
            Err(failure) if failure.cause.is_some_and(|cause| !cause.is_outcome()) => Flow::Deferred,
            Err(failure) => self.step_failed(fibre, record, failure),
        }
    }

    /// Whether an effect is a call that asks whether its work is done before it is repeated. Where a run is resumed, such a
    /// call may have been performed already: it is fed [`super::Outcome::Interrupted`] instead of being performed.
    pub fn asks_before(&self, id: EffectId) -> bool {
        let fibre = self.waited_for.iter().find(|(known, _)| *known == id).and_then(|(_, at)| self.fibres.get(*at));
        let Some(Awaits::Effect { record: Some(record), what: What::Call { .. }, .. }) =
            fibre.and_then(Option::as_ref).map(|fibre| &fibre.awaits)
        else {
            return false;
        };
        matches!(self.step_of(*record).map(|step| &step.action), Some(Action::Call(call)) if call.unless.is_some())
    }

    /// Begins another attempt of a call: first its question, where it has one.
    pub(super) fn repeat_call(&mut self, fibre: &mut Fibre, record: usize, attempt: u32) -> Flow {
        let block = match self.step_of(record).map(|step| &step.action) {
            Some(Action::Call(call)) => call.unless.as_ref().map(|unless| unless.block),
            _ => None,
        };
        match block {
            Some(block) => fibre.frames.push(Frame { block, at: 0, owner: Some(record) }),
            None => {
                self.records[record].attempts = attempt;
                fibre.begun = Some(Begun::Call { record, attempt });
            }
        }
        Flow::On
    }

    /// The question of a call has its answer: it is the result, or the next attempt begins.
    pub(super) fn asked(&mut self, at: usize, fibre: &mut Fibre, record: usize) -> Flow {
        let plan = self.levels[fibre.level as usize].plan.clone();
        let (block, place) = self.records[record].place();
        let step = plan.blocks.get(block as usize).and_then(|block| block.get(place));
        let Some(Action::Call(call)) = step.map(|step| &step.action) else { return Flow::On };
        let asked = self.records.iter().rposition(|inner| inner.owner == Some(record as u32));
        if let (Some(unless), Some(asked)) = (&call.unless, asked) {
            let answer = self.records[asked].outcome.clone();
            let status = match answer.member("status") {
                Some(Value::Int(status)) => *status,
                _ => 0,
            };
            let known = unless.accept.iter().any(|(from, to)| (i64::from(*from)..=i64::from(*to)).contains(&status));
            let done = match unless.done.as_ref().filter(|_| known) {
                None => known,
                Some(done) => match done.eval(&fibre.slots, self.limits()) {
                    Ok(done) => ops::truthy(&done),
                    Err(failure) => return self.not_evaluated(fibre, record, &failure),
                },
            };
            if done {
                self.close(fibre, record, State::Succeeded, answer);
                return Flow::On;
            }
        }
        let attempt = self.records[record].earlier_attempts.len() as u32 + 1;
        self.records[record].attempts = attempt;
        self.start_call(at, fibre, record, attempt)
    }

    /// The request of a call, the same for each attempt but for its number.
    fn request(&mut self, fibre: &Fibre, call: &Call, record: usize, attempt: u32) -> Result<Request, Failure> {
        let make =
            |maker: &Maker| maker.make(&fibre.slots, self.limits()).map_err(|failure| Failure::expression(&failure));
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
        let host = match &call.host {
            None => None,
            Some((maker, hosts)) => {
                let host = ops::to_text(&make(maker)?).to_string();
                sent.insert("host".into(), Value::text(host.as_str()));
                Some(hosts.admit(&host).map_err(|why| {
                    Failure::new(FailureKind::BlockedAddress, format!("{} is not called: {why}", call.service))
                })?)
            }
        };
        let target = UriTemplateStr::new(&call.template)
            .and_then(|template| template.expand::<UriSpec, _>(&context))
            .map(|target| target.to_string())
            .map_err(|error| Failure::new(FailureKind::Expression, format!("the address cannot be made: {error}")))?;
        if leaves_its_path(&target) {
            return Err(Failure::new(
                FailureKind::BlockedAddress,
                format!("a value makes the path `{target}` lead elsewhere"),
            ));
        }
        let mut headers = Vec::with_capacity(call.headers.len() + 3);
        for (name, maker) in &call.headers {
            let value = make(maker)?;
            if !value.is_nullish() {
                headers.push((
                    name.clone(),
                    super::header_value(name, &value).map_err(|fault| Failure::expression(&fault))?,
                ));
            }
        }
        let body = call.body.as_ref().map(make).transpose()?;
        sent.insert("target".into(), Value::text([call.method.as_str(), " ", target.as_str()].concat()));
        if call.operation.is_none() {
            sent.insert("service".into(), Value::text(call.service.as_str()));
        }
        let given = |headers: &[(String, String)], wanted: &str| {
            headers.iter().any(|(name, _)| name.eq_ignore_ascii_case(wanted))
        };
        let bytes = body.as_ref().map(|body| {
            let (bytes, media) = body::write(call.encoding, body, &format!("{}-{record}", self.key));
            if !given(&headers, "content-type") {
                headers.push(("content-type".into(), media));
            }
            bytes
        });
        if !given(&headers, "accept") {
            headers.push(("accept".into(), "application/json, */*;q=0.5".into()));
        }
        // A quoted string (RFC 8941), as the IETF draft of the field has it.
        if !given(&headers, "idempotency-key") && !matches!(call.method.as_str(), "GET" | "HEAD") {
            headers.push(("idempotency-key".into(), format!("\"{}-{record}\"", self.key)));
        }
        if let Some(body) = body {
            sent.insert("body".into(), body);
        }
        self.records[record].sent = sent.finish();
        Ok(Request {
            service: call.service.clone(),
            operation: call.operation.clone(),
            host,
            method: call.method.clone(),
            target,
            headers,
            body: bytes,
            within: call.within,
            attempt,
            sign: call.sign.clone(),
            step: record as u32,
        })
    }

    /// Takes the answer to a call, or why there is none.
    pub(super) fn called(
        &mut self,
        at: usize,
        fibre: &mut Fibre,
        record: usize,
        attempt: u32,
        result: Result<Answer, EffectError>,
    ) -> Flow {
        let plan = self.levels[fibre.level as usize].plan.clone();
        let (block, place) = self.records[record].place();
        let step = plan.blocks.get(block as usize).and_then(|block| block.get(place));
        let Some(Action::Call(call)) = step.map(|step| &step.action) else { return Flow::On };
        let asked = result.as_ref().ok().and_then(retry_after);
        let judged = match result {
            Err(fault) => Err(Failure::new(fault.kind, fault.detail)),
            Ok(answer) => judge(call, answer).map_err(|failure| Failure { retry_after: asked, ..failure }),
        };
        match judged {
            Ok(value) => {
                self.close(fibre, record, State::Succeeded, value);
                Flow::On
            }
            Err(failure) => match call.retry.as_ref().filter(|r| attempt < r.attempts && retryable(r, &failure)) {
                Some(retry) => {
                    let pause = pause(retry, attempt, failure.retry_after, &self.id, record);
                    let came = match failure.status {
                        Some(status) if failure.kind == FailureKind::Status => status.to_string(),
                        _ => failure.kind.name().to_owned(),
                    };
                    self.records[record].tried(came);
                    self.records[record].failure = Some(Box::new(failure));
                    let until = self.now + pause;
                    self.wait(at, fibre, record, until, What::Again { attempt: attempt + 1 })
                }
                None => self.step_failed(fibre, record, failure),
            },
        }
    }
}

/// Whether a path has a part that stands for the folder above or for itself (RFC 3986 §3.3), also
/// percent-encoded: with it a value of the input could reach another operation.
fn leaves_its_path(target: &str) -> bool {
    let path = target.split(['?', '#']).next().unwrap_or_default();
    path.split(['/', '\\']).any(is_dots)
}

/// What an answer means: the call's result, or a failure.
fn judge(call: &Call, mut answer: Answer) -> Result<Value, Failure> {
    let given = std::mem::take(&mut answer.body);
    let accepted = call.accept.iter().any(|(from, to)| (*from..=*to).contains(&answer.status));
    let header = |wanted: &str| {
        answer.headers.iter().find(|(name, _)| name.eq_ignore_ascii_case(wanted)).map(|(_, v)| v.as_str())
    };
    let media = header("content-type").unwrap_or_default().to_ascii_lowercase();
    let body = match body::parse(&media, header("content-disposition"), given) {
        Ok(body) => body,
        Err(detail) if accepted => {
            return Err(Failure { status: Some(answer.status), ..Failure::new(FailureKind::Unreadable, detail) });
        }
        Err(_) => Value::Undefined,
    };
    if !accepted {
        let said = ["detail", "title", "message"].iter().find_map(|key| body.member(key).and_then(Value::as_text));
        let said = said.map(|said| format!(": {said}")).unwrap_or_default();
        let detail = format!("{} answered {}{said}", call.service, answer.status);
        return Err(Failure { status: Some(answer.status), body, ..Failure::new(FailureKind::Status, detail) });
    }
    let headers = answer.headers.into_iter().map(|(name, value)| (key(&name.to_ascii_lowercase()), Value::text(value)));
    Ok(Value::object([
        (key("status"), Value::Int(answer.status.into())),
        (key("body"), body),
        (key("headers"), Value::object(headers)),
    ]))
}

/// Whether a policy retries a failure; without `on`, what a repetition may mend.
fn retryable(retry: &Retry, failure: &Failure) -> bool {
    let status = failure.status.filter(|_| failure.kind == FailureKind::Status);
    let passing = matches!(failure.kind, FailureKind::Unreachable | FailureKind::Timeout | FailureKind::Broken)
        || status.is_some_and(|status| matches!(status, 429 | 502..=504));
    retry.covers(failure.kind.name(), status, passing)
}

/// The pause before the next attempt: growing, jittered between half and whole, and no shorter than
/// the service asked for, all bounded by `max`.
fn pause(retry: &Retry, attempt: u32, asked: Option<Duration>, seed: &str, record: usize) -> Duration {
    let jitter = 0.5 + 0.5 * fraction(seed, record, attempt);
    let pause = retry.pause_before(attempt + 1).mul_f64(jitter).max(asked.unwrap_or_default());
    pause.min(retry.max)
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
