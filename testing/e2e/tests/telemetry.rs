//! Traces and logs as a collector receives them.

use std::collections::BTreeMap;
use std::time::Duration;

use kanzlei_e2e::peer::{self, Peer};
use kanzlei_e2e::*;
use kanzlei_harness::wait;
use opentelemetry_proto::tonic::collector::logs::v1::ExportLogsServiceRequest;
use opentelemetry_proto::tonic::collector::trace::v1::ExportTraceServiceRequest;
use opentelemetry_proto::tonic::common::v1::{AnyValue, KeyValue, any_value};
use opentelemetry_proto::tonic::logs::v1::LogRecord;
use opentelemetry_proto::tonic::trace::v1::Span;
use prost::Message;

const TRACE: &str = "0af7651916cd43dd8448eb211c80319c";
const PARENT: &str = "b7ad6b7169203331";
const OTHER: &str = "1af7651916cd43dd8448eb211c80319c";

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

fn text(value: Option<&AnyValue>) -> String {
    match value.and_then(|value| value.value.as_ref()) {
        Some(any_value::Value::StringValue(text)) => text.clone(),
        Some(any_value::Value::IntValue(number)) => number.to_string(),
        _ => String::new(),
    }
}

fn attribute(all: &[KeyValue], name: &str) -> String {
    text(all.iter().find(|pair| pair.key == name).and_then(|pair| pair.value.as_ref()))
}

/// What a collector has received, whose answer is a fixed one.
struct Received(Peer);

impl Received {
    fn bodies(&self, path: &str) -> Vec<Vec<u8>> {
        let all = self.0.received();
        all.into_iter().filter(|(head, _)| head.starts_with(&format!("POST {path} "))).map(|(_, body)| body).collect()
    }

    fn spans(&self) -> Vec<Span> {
        let read = |body: &Vec<u8>| ExportTraceServiceRequest::decode(&body[..]).expect("spans");
        let all = self.bodies("/v1/traces");
        all.iter()
            .flat_map(|body| read(body).resource_spans)
            .flat_map(|of| of.scope_spans)
            .flat_map(|of| of.spans)
            .collect()
    }

    fn lines(&self) -> Vec<LogRecord> {
        let read = |body: &Vec<u8>| ExportLogsServiceRequest::decode(&body[..]).expect("lines");
        let all = self.bodies("/v1/logs");
        all.iter()
            .flat_map(|body| read(body).resource_logs)
            .flat_map(|of| of.scope_logs)
            .flat_map(|of| of.log_records)
            .collect()
    }

    /// The spans of a trace by their names, once so many have come.
    fn trace(&self, trace: &str, wanted: usize) -> BTreeMap<String, Span> {
        let found = wait::until(Duration::from_secs(30), || {
            let of: Vec<Span> = self.spans().into_iter().filter(|span| hex(&span.trace_id) == trace).collect();
            (of.len() >= wanted).then_some(of)
        });
        let names = |spans: &[Span]| spans.iter().map(|span| span.name.clone()).collect::<Vec<_>>();
        let found = found.unwrap_or_else(|| panic!("{wanted} spans of {trace}: {:?}", names(&self.spans())));
        assert_eq!(found.len(), wanted, "{:?}", names(&found));
        let own = format!("http://127.0.0.1:{}", self.0.port);
        found.into_iter().map(|span| (span.name.replace(&own, "peer"), span)).collect()
    }
}

const FRONT: &str = "workflow: front
input: {n: {type: integer}}
entries: [{endpoint: POST /front, access: open}]
steps:
  - call: GET http://127.0.0.1:PEER/ships
  - {if: 'input.n > 1', then: [{call: 'POST http://127.0.0.1:PEER/broken', safe: true, retry: {attempts: 2, first: 10 ms}}]}
  - {id: later, enqueue: back}
  - {reply: 202, body: {job: '${later.job}'}}
";
const BACK: &str = "workflow: back
steps:
  - {id: word, await: verdict, until: 1h, steps: [{note: '${verdict.url}'}]}
  - {reply: 204}
";

#[test]
fn a_trace_crosses_calls_jobs_and_callbacks() {
    let collector = Received(Peer::start(|path, stream| match path {
        "/broken" => peer::answer(stream, "503 Service Unavailable", "application/json", b"{}"),
        _ => peer::answer(stream, "200 OK", "application/json", b"{}"),
    }));
    let port = collector.0.port.to_string();
    let (to, key) = (format!("telemetry.endpoint=http://127.0.0.1:{port}"), "telemetry.headers=x-key=harbour");
    let office = office("telemetry", &[&to, key, "log.level=info"]);
    let service = format!("service: peer\nbase: http://127.0.0.1:{port}\nnetwork: private\n");
    let front = FRONT.replace("PEER", &port);
    let deployed = deploy_texts(&office, &[("peer.yaml", &service), ("front.yaml", &front), ("back.yaml", BACK)]);
    assert_eq!(deployed.status, 200, "{deployed:?}");
    let send = |traceparent: &str, n: u32| {
        let headers = [("traceparent", traceparent), ("content-type", "application/json"), ("x-request-id", "r-7")];
        http("POST", &format!("{}/front", office.public()), &headers, format!("{{\"n\":{n}}}").as_bytes())
    };
    // One that is not kept leaves nothing, and passes that on.
    assert_eq!(send(&format!("00-{OTHER}-{PARENT}-00"), 1).status, 202);
    let answer = send(&format!("00-{TRACE}-{PARENT}-01"), 1);
    assert_eq!(answer.status, 202, "{answer:?}");
    let job = answer.json()["job"].as_str().expect("an id").to_owned();
    let address = wait::until(Duration::from_secs(20), || {
        let bearer = format!("Bearer {}", office.token);
        let shown = http("GET", &format!("{}/api/v1/jobs/{job}", office.control()), &[("authorization", &bearer)], b"");
        let at = shown.body.find("/~/callbacks/")?;
        shown.body[at..].split('"').next().map(str::to_owned)
    });
    let address = format!("{}{}", office.public(), address.expect("an address").trim_end_matches('\\'));
    let called = http("POST", &address, &[("traceparent", &format!("00-{OTHER}-{PARENT}-01"))], b"{}");
    assert_eq!(called.status, 202, "{called:?}");

    let spans = collector.trace(TRACE, 10);
    let names: Vec<&str> = spans.keys().map(String::as_str).collect();
    let id = |name: &str| hex(&spans.get(name).unwrap_or_else(|| panic!("{name} of {names:?}")).span_id);
    let run = &spans["POST /front"];
    assert_eq!((hex(&run.parent_span_id), run.kind), (PARENT.to_owned(), 2));
    for (name, wanted) in [
        ("kanzlei.workflow", "front"),
        ("kanzlei.state", "succeeded"),
        ("kanzlei.request.id", "r-7"),
        ("http.route", "/front"),
        ("http.response.status_code", "202"),
    ] {
        assert_eq!(attribute(&run.attributes, name), wanted, "{name}");
    }
    for (span, parent) in [
        ("1 GET peer/ships", "POST /front"),
        ("GET peer", "1 GET peer/ships"),
        ("back", "POST /front"),
        ("1 callback until 1h", "back"),
    ] {
        assert_eq!(hex(&spans[span].parent_span_id), id(parent), "{span} of {names:?}");
        assert!(spans[span].end_time_unix_nano >= spans[span].start_time_unix_nano);
    }
    // The service received the span of the call.
    let sent = collector.0.requests().into_iter().filter(|one| one.starts_with("GET /ships")).collect::<Vec<_>>();
    assert!(sent[1].contains(&format!("traceparent: 00-{TRACE}-{}-01", id("GET peer"))), "{sent:?}");
    assert!(sent[0].contains(&format!("traceparent: 00-{OTHER}-")) && sent[0].contains("-00\r\n"), "{sent:?}");
    // The callback belongs to the trace of its sender, and names the run that waited.
    let callback = &collector.trace(OTHER, 1)["POST /~/callbacks/{token}"];
    assert_eq!(hex(&callback.links[0].trace_id), TRACE);
    assert_eq!(hex(&callback.links[0].span_id), id("back"));

    // Attempts of a call are spans of their own, with what came of them.
    let third = "2af7651916cd43dd8448eb211c80319c";
    assert_eq!(send(&format!("00-{third}-{PARENT}-01"), 2).status, 502);
    let found = wait::until(Duration::from_secs(30), || {
        let all = collector.spans().into_iter().filter(|span| hex(&span.trace_id) == third).collect::<Vec<_>>();
        all.iter().any(|span| span.name == "POST /front").then_some(all)
    });
    let found = found.expect("the run");
    let broken: Vec<&Span> = found.iter().filter(|span| span.name == "POST peer").collect();
    let again: Vec<String> =
        broken.iter().map(|span| attribute(&span.attributes, "http.request.resend_count")).collect();
    assert_eq!(again, ["0", "1"]);
    for span in broken {
        assert_eq!(attribute(&span.attributes, "error.type"), "503");
        assert_eq!(span.status.as_ref().map(|status| status.code), Some(2));
    }
    let run = found.iter().find(|span| span.name == "POST /front").expect("the run");
    assert_eq!(attribute(&run.attributes, "error.type"), "status");

    // Requests carry the header fields of the settings, and lines of the log come with their names.
    assert!(
        collector
            .0
            .requests()
            .iter()
            .filter(|one| one.starts_with("POST /v1/"))
            .all(|one| one.contains("x-key: harbour"))
    );
    let deployed = wait::until(Duration::from_secs(10), || {
        collector.lines().into_iter().find(|line| text(line.body.as_ref()) == "deployed")
    });
    let line = deployed.expect("a line of the log");
    assert_eq!((line.severity_text.as_str(), attribute(&line.attributes, "kind").is_empty()), ("INFO", false));
}

/// Without a collector that receives, requests are answered and what waits is dropped in the end.
#[test]
fn a_collector_that_fails_holds_nothing_up() {
    let collector = Received(Peer::start(|_, stream| peer::answer(stream, "500 Broken", "text/plain", b"no")));
    let office = office("telemetry_fails", &[&format!("telemetry.endpoint=http://127.0.0.1:{}", collector.0.port)]);
    let quick = "workflow: quick\nentries: [{endpoint: GET /quick, access: open}]\nsteps: [{reply: 204}]\n";
    assert_eq!(deploy_texts(&office, &[("quick.yaml", quick)]).status, 200);
    for _ in 0..20 {
        assert_eq!(http("GET", &format!("{}/quick", office.public()), &[], b"").status, 204);
    }
    wait::until(Duration::from_secs(20), || (!collector.bodies("/v1/traces").is_empty()).then_some(())).expect("spans");
    assert_eq!(http("GET", &format!("{}/quick", office.public()), &[], b"").status, 204);
}
