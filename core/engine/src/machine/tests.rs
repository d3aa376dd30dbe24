//! Runs of small workflows and of the demo office, with answers given by hand.

use super::*;
use kanzlei_compiler::check::{Bundle, check};
use kanzlei_model::run::FailureKind;
use kanzlei_model::time::Span;

fn plan(steps: &str) -> Arc<Plan> {
    let mut bundle = Bundle::default();
    bundle.add("s.yaml", "service: s\nbase: http://s\nopenapi: o.yaml\nidempotency_key: true\n");
    bundle.files.insert("o.yaml".into(), "openapi: 3.1.0\npaths: {\"/x/{id}\": {post: {operationId: op, parameters: [{name: id, in: path, required: true}, {name: q, in: query}], requestBody: {content: {application/json: {}}}}}}".into());
    bundle.add("w.yaml", &format!("workflow: w\ninput: {{n: {{type: integer}}}}\nsteps:\n{steps}"));
    let mut checked = check(&bundle);
    assert_eq!(checked.errors(), 0, "{:?}", checked.diagnostics);
    checked.workflows.remove(0).1
}

fn start(plan: Arc<Plan>, n: i64) -> Box<Machine> {
    let input = Value::object([("n", Value::Int(n))]);
    Machine::new(plan, Start::new("run-1", input, Timestamp::from_micros(1_000_000)))
}

fn answer(status: u16, body: &str) -> Outcome {
    let headers = vec![("Content-Type".into(), "application/json".into())];
    Outcome::Called(Ok(Answer { status, headers, body: body.into() }))
}

fn fault(kind: FailureKind) -> Outcome {
    Outcome::Called(Err(EffectError { kind, detail: "unavailable".into() }))
}

/// Runs to the end with these outcomes of calls, in the order they are asked for; returns the reply and
/// the states by paragraph number.
fn run(machine: &mut Machine, outcomes: Vec<Outcome>) -> (Option<Reply>, String) {
    let mut outcomes = outcomes.into_iter();
    let result = drive(machine, |_| (Span::from_micros(1000), outcomes.next().expect("an outcome for each call")));
    assert!(outcomes.next().is_none(), "all outcomes are used");
    result
}

/// Runs to the end; `answer` says when each effect but a wait is done, in microseconds from then, and how.
fn drive(machine: &mut Machine, mut answer: impl FnMut(&Effect) -> (Span, Outcome)) -> (Option<Reply>, String) {
    crate::driver::on_virtual_clock(machine, Timestamp::from_micros(1_000_000), |effect, _| answer(effect));
    let items = |r: &StepRecord| match machine.items(r).as_slice() {
        [] => String::new(),
        items => format!("{items:?}"),
    };
    let states: Vec<String> =
        machine.records().iter().map(|r| format!("{}{} {}", machine.number(r), items(r), r.state.name())).collect();
    (machine.reply().cloned(), states.join(", "))
}

#[test]
fn branches_are_taken_and_recorded() {
    let steps = "  - if: input.n > 1\n    then: [{let: {size: big}}]\n    else: [{let: {size: small}}]\n  - match: input.n\n    arms: {1: [{let: {word: one}}], 2: [{let: {word: two}}]}\n    else: [{let: {word: many}}]\n  - note: skipped\n    when: input.n > 100\n  - note: off\n    off: true\n  - reply: 200\n    body: ${size} ${word}\n";
    for (n, body, states) in [
        (1, "small one", "1 succeeded, 1.2 succeeded, 2 succeeded, 2.1 succeeded, 3 skipped, 5 succeeded"),
        (2, "big two", "1 succeeded, 1.1 succeeded, 2 succeeded, 2.2 succeeded, 3 skipped, 5 succeeded"),
        (9, "big many", "1 succeeded, 1.1 succeeded, 2 succeeded, 2.3 succeeded, 3 skipped, 5 succeeded"),
    ] {
        let (reply, got) = run(&mut start(plan(steps), n), vec![]);
        assert_eq!(reply.expect("reply").body, Value::text(body));
        assert_eq!(got, states);
    }
}

#[test]
fn steps_on_failure_run_when_nothing_catches_a_failure() {
    let called = "  - keep: {seen: true}\n  - call: s.op\n    send: {id: x}\n";
    let noted =
        "on_failure:\n  - note: \"${failure.kind} ${failure.status} ${kept.seen}\"\n  - reply: 503\n    body: soon\n";
    let unreachable = || fault(FailureKind::Unreachable);
    for (steps, outcomes, status, state, kind, states) in [
        (format!("{called}{noted}"), vec![unreachable()], 503, RunState::Failed, Some(FailureKind::Unreachable), "1 succeeded, 2 failed, 3 succeeded, 4 succeeded"),
        (format!("{called}{noted}"), vec![answer(200, "1")], 204, RunState::Succeeded, None, "1 succeeded, 2 succeeded"),
        // A `fail` replaces the failure; other failures do not.
        (format!("{called}on_failure:\n  - fail: 409\n"), vec![unreachable()], 409, RunState::Rejected, Some(FailureKind::Fail), "1 succeeded, 2 failed, 3 failed"),
        (format!("{called}on_failure:\n  - {{call: s.op, send: {{id: y}}}}\n  - note: x\n"), vec![answer(500, "1"), unreachable()], 502, RunState::Failed, Some(FailureKind::Status), "1 succeeded, 2 failed, 3 failed"),
        ("  - fail: 422\non_failure: [{note: x}]\n".to_owned(), vec![], 422, RunState::Rejected, Some(FailureKind::Fail), "1 failed"),
        // What is still under way is cancelled.
        ("  - together: {a: {call: s.op, send: {id: x}}, b: {pause: 1h}}\non_failure: [{note: \"${failure.detail}\"}]\n".to_owned(), vec![unreachable()], 502, RunState::Failed, Some(FailureKind::Unreachable), "1 failed, 1.1 failed, 1.2 cancelled, 2 succeeded"),
    ] {
        let mut machine = start(plan(&steps), 1);
        let mut outcomes = outcomes.into_iter();
        let (reply, got) = drive(&mut machine, |effect| {
            let kept = Kept { version: 1, values: Value::object([("seen", Value::Bool(true))]), stored: true };
            (Span::from_micros(1000), match effect {
                Effect::Recall { .. } | Effect::Keep(_) => Outcome::Kept(Ok(kept)),
                _ => outcomes.next().expect("an outcome for each call"),
            })
        });
        assert_eq!((got.as_str(), reply.map_or(204, |reply| reply.status)), (states, status), "{steps}");
        let ended = machine.ended().expect("an end");
        assert_eq!((ended.state, ended.failure.as_ref().map(|failure| failure.kind)), (state, kind), "{steps}");
    }
    // A run that is retried ends at once.
    let mut machine = start(
        plan(&format!("{called}{noted}").replace("  - keep: {seen: true}\n", "").replace(" ${kept.seen}", "")),
        1,
    );
    let Next::Do(id, _) = machine.next() else { panic!("a call") };
    machine.feed(id, unreachable(), Timestamp::from_micros(2_000_000));
    assert!(matches!(machine.next(), Next::Failing));
    assert_eq!(machine.failing().map(|failure| failure.kind), Some(FailureKind::Unreachable));
    machine.close_with(false);
    assert_eq!((machine.records().len(), machine.ended().map(|ended| ended.state)), (1, Some(RunState::Failed)));
}

#[test]
fn the_first_arm_that_fits_is_taken() {
    let arms = "[{in: [1, '2'], steps: [{let: {w: few}}]}, {from: 2, below: 5, steps: [{let: {w: some}}]}, {above: 9, to: 12, steps: [{let: {w: many}}]}, {from: '2026-01-01', to: '2026-12-31', steps: [{let: {w: this year}}]}]";
    for (subject, word) in [
        ("input.n", "few"),
        ("input.n + 1", "some"),
        ("String(input.n + 1)", "few"),
        ("input.n + 3.5", "some"),
        ("input.n + 4", "none"),
        ("input.n + 8", "none"),
        ("input.n + 11", "many"),
        ("'2026-11-28'", "this year"),
        ("'2027-01-01'", "none"),
        ("null", "none"),
        ("[3]", "none"),
        ("0 / 0", "none"),
    ] {
        let steps = format!(
            "  - let: {{it: \"${{{subject}}}\"}}\n  - match: it\n    arms: {arms}\n    else: [{{let: {{w: none}}}}]\n  - reply: 200\n    body: ${{w}}\n"
        );
        let (reply, _) = run(&mut start(plan(&steps), 1), vec![]);
        assert_eq!(reply.expect("reply").body, Value::text(word), "{subject}");
    }
}

#[test]
fn requests_carry_what_the_step_says_and_are_the_same_on_each_attempt() {
    let steps = "  - call: s.op\n    send: {id: \"a b/${input.n}\", q: x&y, name: Tare}\n    headers: {X-N: \"${input.n}\"}\n    retry: {attempts: 2, first: 1s}\n  - reply: 204\n";
    let mut machine = start(plan(steps), 7);
    let Next::Do(id, Effect::Call(first)) = machine.next() else { panic!() };
    assert_eq!(first.target, "/x/a%20b%2F7?q=x%26y");
    assert_eq!(first.body, Some(vec![r#"{"name":"Tare"}"#.into()]));
    assert!(first.headers.contains(&("X-N".into(), "7".into())));
    assert!(first.headers.contains(&("idempotency-key".into(), "\"run-1-0\"".into())));
    machine.feed(id, answer(503, "{}"), Timestamp::from_micros(2_000_000));
    let Next::Do(id, Effect::Wait { until }) = machine.next() else { panic!() };
    assert!((2_500_000..=3_000_000).contains(&until.as_micros()), "{until}");
    machine.feed(id, Outcome::Waited, until);
    let Next::Do(_, Effect::Call(second)) = machine.next() else { panic!() };
    assert_eq!((second.attempt, &second.headers), (2, &first.headers));
}

#[test]
fn a_value_cannot_begin_another_header() {
    let call = "  - call: s.op\n    send: {id: a}\n    headers: {X-N: \"${v}\"}\n";
    let reply = "  - reply: 200\n    headers: {X-N: \"${v}\"}\n";
    for step in [call, reply] {
        for (value, kind) in [
            ("a\\r\\nSet-Cookie: b", Some(FailureKind::Expression)),
            ("a\\nb", Some(FailureKind::Expression)),
            ("a\\u0000", Some(FailureKind::Expression)),
            ("\\u0085", Some(FailureKind::Expression)),
            ("Südkai\\t1", None),
        ] {
            let steps = format!("  - let: {{v: \"${{'{}'}}\"}}\n{step}", value.replace('\\', "\\\\"));
            let mut machine = start(plan(&steps), 1);
            let sent = step == call && kind.is_none();
            run(&mut machine, if sent { vec![answer(200, "{}")] } else { vec![] });
            let failure = machine.ended().and_then(|ended| ended.failure.as_ref());
            assert_eq!(failure.map(|failure| failure.kind), kind, "{steps}");
            assert!(failure.is_none_or(|failure| failure.detail.contains("the header `X-N`")), "{failure:?}");
        }
    }
}

#[test]
fn a_call_names_the_host_where_the_service_has_none() {
    let mut bundle = Bundle::default();
    bundle.add("s.yaml", "service: s\nbase: \"https://{host}/v1\"\nhosts: [\"*.lindvik.example\"]\n");
    bundle.add("w.yaml", "workflow: w\ninput: {h: {type: string}}\nsteps: [{call: \"GET https://{host}/v1/x\", send: {host: \"${input.h}\"}}]\n");
    let plan = check(&bundle).workflows.remove(0).1;
    for (host, wanted) in
        [("Board.Lindvik.example", Some("board.lindvik.example")), ("nesholm.example", None), ("127.0.0.1", None)]
    {
        let input = Value::object([("h", Value::text(host))]);
        let mut machine = Machine::new(plan.clone(), Start::new("r", input, Timestamp::EPOCH));
        match machine.next() {
            Next::Do(_, Effect::Call(request)) => {
                assert_eq!((request.host.as_deref(), request.target.as_str()), (wanted, "/x"));
            }
            _ => {
                let failure = machine.ended().and_then(|ended| ended.failure.as_ref()).expect("a failure");
                assert_eq!((failure.kind, wanted), (FailureKind::BlockedAddress, None), "{host}");
            }
        }
    }
}

#[test]
fn a_value_cannot_lead_a_path_elsewhere() {
    let steps = "  - let: {p: \"${input.n === 1 ? '..' : input.n === 2 ? '.' : 'a..b'}\"}\n  - call: s.op\n    send: {id: \"${p}\"}\n";
    for n in [1, 2] {
        let mut machine = start(plan(steps), n);
        run(&mut machine, vec![]);
        assert_eq!(machine.ended().and_then(|e| e.failure.as_ref()).map(|f| f.kind), Some(FailureKind::BlockedAddress));
    }
    run(&mut start(plan(steps), 3), vec![answer(200, "{}")]);
}

#[test]
fn failures_have_kinds_and_end_the_run() {
    let steps = "  - call: s.op\n    send: {id: x}\n  - reply: 204\n";
    let with_type = |media: &str, body: &[u8]| {
        Outcome::Called(Ok(Answer {
            status: 200,
            headers: vec![("content-type".into(), media.into())],
            body: body.into(),
        }))
    };
    for (outcome, kind, status) in [
        (fault(FailureKind::Unreachable), FailureKind::Unreachable, 502),
        (fault(FailureKind::Timeout), FailureKind::Timeout, 504),
        (fault(FailureKind::Broken), FailureKind::Broken, 502),
        (fault(FailureKind::TooLarge), FailureKind::TooLarge, 502),
        (fault(FailureKind::Redirected), FailureKind::Redirected, 502),
        (fault(FailureKind::BlockedAddress), FailureKind::BlockedAddress, 502),
        (answer(404, r#"{"detail":"no such"}"#), FailureKind::Status, 502),
        (with_type("application/json", b"{oops"), FailureKind::Unreadable, 502),
        (with_type("text/plain", b"\xff\xfe"), FailureKind::Unreadable, 502),
    ] {
        let mut machine = start(plan(steps), 1);
        let (reply, states) = run(&mut machine, vec![outcome]);
        let ended = machine.ended().expect("ended");
        assert_eq!(ended.failure.as_ref().map(|f| f.kind), Some(kind));
        assert_eq!(reply.expect("reply").status, status, "{kind}");
        assert_eq!(states, "1 failed");
    }
}

#[test]
fn only_what_retry_names_is_tried_again() {
    let steps = "  - call: s.op\n    send: {id: x}\n    retry: {attempts: 3, first: 10ms, on: [timeout, 5xx]}\n  - reply: 204\n";
    for (outcomes, attempts, succeeded) in [
        (vec![fault(FailureKind::Timeout), answer(500, ""), answer(200, "{}")], 3, true),
        (vec![fault(FailureKind::Unreachable)], 1, false),
        (vec![answer(500, ""), answer(501, ""), answer(502, "")], 3, false),
        (vec![answer(400, "")], 1, false),
    ] {
        let mut machine = start(plan(steps), 1);
        run(&mut machine, outcomes);
        assert_eq!(machine.records()[0].attempts, attempts);
        assert_eq!(machine.ended().expect("ended").state == RunState::Succeeded, succeeded);
    }
}

#[test]
fn a_question_is_asked_before_a_call_is_repeated() {
    let call = |more: &str| {
        format!(
            "  - id: made\n    call: s.op\n    send: {{id: x}}\n    retry: {{attempts: 3, first: 1s}}\n    unless: {{call: GET http://s/x, id: known{more}}}\n  - reply: 200\n    body: ${{made.body.n}}\n"
        )
    };
    let done = ", done: known.body.n > 1";
    let lost = || fault(FailureKind::Timeout);
    for (more, outcomes, body, states) in [
        ("", vec![answer(201, "{\"n\": 1}")], "1", "1 succeeded, 2 succeeded"),
        // What was done in spite of the failure is not done again.
        ("", vec![lost(), answer(200, "{\"n\": 2}")], "2", "1 succeeded, 1.1 succeeded, 2 succeeded"),
        (
            "",
            vec![lost(), answer(404, "{}"), answer(201, "{\"n\": 3}")],
            "3",
            "1 succeeded, 1.1 succeeded, 2 succeeded",
        ),
        (done, vec![lost(), answer(200, "{\"n\": 2}")], "2", "1 succeeded, 1.1 succeeded, 2 succeeded"),
        (
            done,
            vec![lost(), answer(200, "{\"n\": 1}"), answer(201, "{\"n\": 3}")],
            "3",
            "1 succeeded, 1.1 succeeded, 2 succeeded",
        ),
        (", accept: [404]", vec![lost(), answer(404, "{\"n\": 2}")], "2", "1 succeeded, 1.1 succeeded, 2 succeeded"),
        (
            "",
            vec![lost(), answer(410, "{}"), lost(), answer(200, "{\"n\": 2}")],
            "2",
            "1 succeeded, 1.1 succeeded, 1.1 succeeded, 2 succeeded",
        ),
        // Without an answer nobody knows, and the call is not repeated.
        (", retry: {attempts: 1}", vec![lost(), answer(500, "{}")], "none", "1 failed, 1.1 failed"),
    ] {
        let (reply, got) = run(&mut start(plan(&call(more)), 1), outcomes);
        let reply = reply.map(|reply| reply.body.to_json()).filter(|body| !body.contains("status"));
        assert_eq!((reply.as_deref().unwrap_or("none"), got.as_str()), (body, states), "{more}");
    }
    // A call whose end nobody saw is asked about too, and its attempts are counted.
    let mut machine = start(plan(&call("")), 1);
    let Next::Do(id, Effect::Call(_)) = machine.next() else { panic!("a call") };
    assert!(machine.asks_before(id));
    machine.feed(id, Outcome::Interrupted, Timestamp::from_micros(2_000_000));
    let Next::Do(asked, Effect::Call(question)) = machine.next() else { panic!("a question") };
    assert_eq!((question.method.as_str(), machine.asks_before(asked)), ("GET", false));
    machine.feed(asked, answer(404, "{}"), Timestamp::from_micros(3_000_000));
    let Next::Do(_, Effect::Call(again)) = machine.next() else { panic!("the call") };
    assert_eq!((again.method.as_str(), again.attempt), ("POST", 2));
    assert_eq!(*machine.records()[0].earlier_attempts, ["interrupted"]);
}

#[test]
fn a_uuid_is_the_same_for_a_name_in_a_run_and_nobody_can_compute_it() {
    let steps = "  - reply: 200\n    body: \"${[digest.uuid('a'), digest.uuid('b'), digest.uuid('a')].concat(list.range(2).map(i => digest.uuid(`${i}`)))}\"\n";
    let plan = plan(steps);
    assert!(plan.uses_run);
    let made = |key: &str| -> Vec<String> {
        let (reply, _) = run(&mut start(plan.clone(), 1).with_key(key.to_owned()), vec![]);
        let body = reply.expect("reply").body;
        body.as_list().expect("a list").iter().filter_map(Value::as_text).map(str::to_owned).collect()
    };
    let (one, other) = (made("k1"), made("k2"));
    assert_eq!((one.clone(), one[0] == one[2]), (made("k1"), true));
    let mut all: Vec<&String> = one.iter().chain(&other).collect();
    all.sort();
    all.dedup();
    assert_eq!(all.len(), 8, "{all:?}");
    for uuid in all {
        let parts: Vec<usize> = uuid.split('-').map(str::len).collect();
        assert!(parts == [8, 4, 4, 4, 12] && &uuid[14..15] == "4" && "89ab".contains(&uuid[19..20]), "{uuid}");
    }
}

#[test]
fn catch_takes_over_where_it_stands() {
    let own = "  - id: v\n    call: s.op\n    send: {id: x}\n    catch: [{let: {v: \"${failure.kind} ${failure.status}\"}}]\n  - reply: 200\n    body: ${v}\n";
    let (reply, states) = run(&mut start(plan(own), 1), vec![answer(500, "")]);
    assert_eq!(
        (reply.expect("reply").body, states.as_str()),
        (Value::text("status 500"), "1 caught, 1.1 succeeded, 2 succeeded")
    );

    let around = "  - if: input.n\n    then: [{call: s.op, send: {id: x}}, {note: never}]\n    catch: [{note: \"${failure.detail}\"}]\n  - reply: 200\n";
    let (_, states) = run(&mut start(plan(around), 1), vec![answer(500, "")]);
    assert_eq!(states, "1 caught, 1.1 failed, 1.3 succeeded, 2 succeeded");

    let failing = "  - call: s.op\n    send: {id: x}\n    catch: [{call: s.op, send: {id: y}}]\n  - reply: 200\n";
    let (reply, states) = run(&mut start(plan(failing), 1), vec![answer(500, ""), answer(501, "")]);
    assert_eq!((reply.expect("reply").status, states.as_str()), (502, "1 failed, 1.1 failed"));

    let expression =
        "  - let: {a: \"${list.chunk([1], input.n - 1)}\"}\n    catch: [{reply: 200, body: \"${failure.kind}\"}]\n";
    let (reply, _) = run(&mut start(plan(expression), 1), vec![]);
    assert_eq!(reply.expect("reply").body, Value::text("expression"));
}

#[test]
fn fail_gives_problem_details_and_cannot_be_caught() {
    let steps = "  - if: input.n\n    then: [{fail: 422, title: Unknown vessel, detail: \"No ${input.n}\", type: \"https://lindvik.example/p\", with: {imo: \"${input.n}\", status: 1}}]\n    catch: [{note: never}]\n";
    let mut machine = start(plan(steps), 3);
    let (reply, states) = run(&mut machine, vec![]);
    let reply = reply.expect("reply");
    assert_eq!((reply.status, reply.problem), (422, true));
    assert_eq!(
        reply.body.to_json(),
        r#"{"type":"https://lindvik.example/p","title":"Unknown vessel","status":422,"detail":"No 3","imo":3}"#
    );
    assert_eq!(states, "1 failed, 1.1 failed");
}

#[test]
fn steps_behind_the_reply_still_run() {
    let steps = "  - reply: 202\n  - call: s.op\n    send: {id: x}\n";
    let mut machine = start(plan(steps), 1);
    assert!(matches!(machine.next(), Next::Answer(_)));
    let Next::Do(id, Effect::Call(_)) = machine.next() else { panic!() };
    machine.feed(id, answer(200, "{}"), Timestamp::from_micros(2_000_000));
    let (_, states) = run(&mut machine, vec![]);
    assert_eq!(states, "1 succeeded, 2 succeeded");
}

#[test]
fn a_long_run_yields_between_its_steps() {
    let mut machine = start(plan("  - {each: x, in: list.range(2500), steps: [{note: x}]}\n  - reply: 200\n"), 1);
    let (mut yields, mut remarks) = (0, 0);
    loop {
        match machine.next() {
            Next::Yield => yields += 1,
            Next::Remark(_) => remarks += 1,
            Next::Answer(_) => assert_eq!(remarks, 2500),
            Next::Finished => break,
            other => panic!("{other:?}"),
        }
    }
    assert_eq!((yields, machine.records().len()), (2, 2502));
}

#[test]
fn the_same_outcomes_give_the_same_run() {
    let demo = check(&Bundle::of(kanzlei_samples::demo()));
    let (_, plan) = demo.workflows.into_iter().find(|(_, plan)| plan.name == "berth-quote").expect("berth-quote");
    let input: Value = serde_json::from_str(
        r#"{"harbour": "LIN", "imo": "9074720", "arrives": "2027-03-04T06:00:00Z", "nights": 2, "currency": "NOK"}"#,
    )
    .expect("input");
    let once = || {
        let mut machine = Machine::new(plan.clone(), Start::new("r", input.clone(), Timestamp::EPOCH));
        let outcomes = vec![
            answer(200, r#"{"name": "Havbris", "length_m": 132, "draught_m": 6.2}"#),
            fault(FailureKind::Timeout),
            answer(200, r#"{"window": {"from": "2027-03-04T07:10:00Z", "to": "2027-03-04T09:40:00Z"}}"#),
            answer(200, r#"{"rate": 11.62}"#),
        ];
        let (reply, states) = run(&mut machine, outcomes);
        (reply.expect("reply").body.to_json(), states, format!("{:?}", machine.records()))
    };
    let (body, states, records) = once();
    assert_eq!(
        body,
        r#"{"vessel":"Havbris","dues":{"amount":9816.58,"currency":"NOK"},"tide":{"from":"2027-03-04T07:10:00Z","to":"2027-03-04T09:40:00Z"}}"#
    );
    assert_eq!(states, "1 succeeded, 2 succeeded, 3 succeeded, 4 succeeded, 5 succeeded, 6 succeeded");
    assert_eq!(once(), (body, states, records));
}

/// The plan of the last of these documents.
fn plans(documents: &[&str]) -> Arc<Plan> {
    let mut bundle = Bundle::default();
    bundle.add("s.yaml", "service: s\nbase: http://s\n");
    for (index, text) in documents.iter().enumerate() {
        bundle.add(&format!("{index}.yaml"), text);
    }
    let checked = check(&bundle);
    assert_eq!(checked.errors(), 0, "{:?}", checked.diagnostics);
    checked.workflows.last().expect("a plan").1.clone()
}

/// Answers `GET /{n}` with `{"n": n}` after n ms; `/fail/{n}` with 500.
fn by_path(effect: &Effect) -> (Span, Outcome) {
    let Effect::Call(request) = effect else { panic!("{effect:?}") };
    let parts: Vec<&str> = request.target.trim_start_matches('/').split('/').collect();
    let n: i64 = parts.last().and_then(|n| n.parse().ok()).expect("a number");
    match parts[0] {
        "fail" => (Span::from_micros(n * 1000), answer(500, "{}")),
        _ => (Span::from_micros(n * 1000), answer(200, &format!("{{\"n\": {n}}}"))),
    }
}

const W: &str = "workflow: w\ninput: {n: {type: integer}, list: {type: array, optional: true}}\nsteps:\n";

#[test]
fn loops_keep_the_order_of_their_items_and_the_bound() {
    for at_once in [1, 2, 5] {
        let text = format!(
            "{W}  - each: ms\n    in: input.list ?? []\n    position: i\n    at_once: {at_once}\n    id: all\n    steps:\n      - {{id: r, call: \"GET http://s/x/{{ms}}\", send: {{ms: \"${{ms}}\"}}}}\n    collect: \"${{i}}:${{r.body.n}}\"\n  - reply: 200\n    body: ${{all}}\n"
        );
        let input = serde_json::from_str(r#"{"n": 1, "list": [30, 10, 20, 5]}"#).expect("input");
        let mut machine = Machine::new(plans(&[&text]), Start::new("r", input, Timestamp::from_micros(1_000_000)));
        let (mut most, mut now_running) = (0, 0);
        let (reply, _) = {
            let under_way = std::cell::RefCell::new((0u32, 0u32));
            let result = drive(&mut machine, |effect| {
                under_way.borrow_mut().0 += 1;
                by_path(effect)
            });
            now_running += under_way.borrow().0;
            result
        };
        assert_eq!(reply.expect("reply").body.to_json(), r#"["0:30","1:10","2:20","3:5"]"#);
        // How many were at work at the same time shows in the times of the records.
        let calls: Vec<_> = machine.records().iter().filter(|r| r.attempts > 0).collect();
        for call in &calls {
            most = most.max(calls.iter().filter(|o| o.started <= call.started && o.ended > call.started).count());
        }
        assert_eq!((now_running, most), (4, at_once.min(4)), "at once {at_once}");
    }
}

#[test]
fn forks_join_fail_and_settle() {
    let tail = "  - reply: 200\n    when: a && b\n    body: ${a.body.n}+${b.d}\n";
    let together = |rest: &str| {
        format!(
            "{W}  - together:\n      a: {{call: \"GET http://s/x/30\"}}\n      b:\n        - {{id: c, call: \"GET http://s/{rest}\"}}\n        - note: here\n        - let: {{d: \"${{c.body.n}}\"}}\n"
        )
    };
    let settle = "    settle: all\n  - reply: 200\n    body: \"${a.ok} ${b.ok} ${b.ok ? '' : b.failure.status}\"\n";
    let caught = "    catch: [{reply: 200, body: \"${failure.detail}\"}]\n";
    for (text, body, states) in [
        (
            together("x/10") + "  - reply: 200\n    body: ${a.body.n}+${b.d}\n",
            "30+10",
            "1 succeeded, 1.1 succeeded, 1.2 succeeded, 1.3 succeeded, 1.4 succeeded, 2 succeeded",
        ),
        (together("fail/10") + caught + tail, "s answered 500", "1 caught, 1.1 cancelled, 1.2 failed, 1.5 succeeded"),
        (together("fail/10") + settle, "true false 500", "1 succeeded, 1.1 succeeded, 1.2 failed, 2 succeeded"),
    ] {
        let (reply, got) = drive(&mut start(plans(&[&text]), 1), by_path);
        assert!(got.starts_with(states), "{got}");
        assert_eq!(reply.expect("reply").body, Value::text(body), "{text}");
    }
    // A failure in one item cancels the others and what they wait for.
    let text = format!(
        "{W}  - each: p\n    in: \"['x/50', 'fail/10', 'x/60']\"\n    at_once: 3\n    steps:\n      - {{call: \"GET http://s/{{+p}}\", send: {{p: \"${{p}}\"}}}}\n"
    );
    let mut machine = start(plans(&[&text]), 1);
    let (reply, states) = drive(&mut machine, by_path);
    assert_eq!(states, "1 failed, 1.1[0] cancelled, 1.1[1] failed, 1.1[2] cancelled");
    assert_eq!((reply.expect("reply").status, machine.ended().expect("ended").at.as_micros()), (502, 1_010_000));
}

#[test]
fn an_invoked_workflow_has_its_numbers_below_the_caller_and_gives_its_reply() {
    let child = "workflow: child\ninput: {n: {type: integer}, kind: {type: string, default: cargo}}\nsteps:\n  - if: input.n > 5\n    then: [{fail: 409, title: Too many}]\n  - {id: r, call: \"GET http://s/x/{n}\", send: {n: \"${input.n}\"}}\n  - reply: 201\n    body: {n: \"${r.body.n}\", kind: \"${input.kind}\"}\n  - note: after the reply\n";
    let parent = format!(
        "{W}  - note: first\n  - id: one\n    invoke: child\n    send: {{n: \"${{input.n}}\"}}\n  - reply: 200\n    body: ${{one}}\n"
    );
    let (reply, states) = drive(&mut start(plans(&[child, &parent]), 3), by_path);
    assert_eq!(reply.expect("reply").body.to_json(), r#"{"status":201,"body":{"n":3,"kind":"cargo"},"headers":{}}"#);
    assert_eq!(
        states,
        "1 succeeded, 2 succeeded, 2.1 succeeded, 2.2 succeeded, 2.3 succeeded, 2.4 succeeded, 3 succeeded"
    );
    // A problem of the invoked workflow is the caller's, unless it catches it.
    let (reply, states) = drive(&mut start(plans(&[child, &parent]), 9), by_path);
    assert_eq!(
        (reply.map(|r| r.status), states.as_str()),
        (Some(409), "1 succeeded, 2 failed, 2.1 failed, 2.1.1 failed")
    );
    let rescuing = parent
        .replace("  - reply", "    catch: [{reply: 200, body: \"${failure.kind} ${failure.body.title}\"}]\n  - reply");
    let (reply, _) = drive(&mut start(plans(&[child, &rescuing]), 9), by_path);
    assert_eq!(reply.expect("reply").body, Value::text("fail Too many"));
}

#[test]
fn what_is_kept_is_made_anew_when_another_run_was_faster() {
    let text = format!(
        "{W}  - each: s\n    in: input.list ?? []\n    steps: [{{keep: {{seen: \"${{[...(kept.seen ?? []), s]}}\"}}}}]\n  - reply: 200\n    body: ${{kept.seen}}\n"
    );
    let input = serde_json::from_str(r#"{"n": 1, "list": ["a", "b"]}"#).expect("input");
    let mut machine = Machine::new(plans(&[&text]), Start::new("r", input, Timestamp::EPOCH));
    // Another run keeps `x` just before this one's first attempt.
    let mut stored = Kept { version: 3, values: Value::object([("old", Value::Bool(true))]), stored: false };
    let mut faster = true;
    let (reply, states) = drive(&mut machine, |effect| {
        if let Effect::Keep(keep) = effect {
            if std::mem::take(&mut faster) {
                stored = Kept {
                    version: 4,
                    values: serde_json::from_str(r#"{"old":true,"seen":["x"]}"#).expect("json"),
                    stored: false,
                };
            } else if keep.version == stored.version {
                stored = Kept { version: keep.version + 1, values: keep.values.clone(), stored: true };
            }
        }
        let stored_now = stored.stored;
        (Span::from_micros(1), Outcome::Kept(Ok(Kept { stored: stored_now, ..stored.clone() })))
    });
    assert_eq!(reply.expect("reply").body.to_json(), r#"["x","a","b"]"#, "nothing is lost: {states}");
    assert_eq!((stored.version, stored.values.to_json().as_str()), (6, r#"{"old":true,"seen":["x","a","b"]}"#));
}

#[test]
fn statements_take_values_only_in_their_places() {
    let text = format!(
        "{W}  - id: v\n    sql: harbour\n    statement: SELECT ':no', name FROM v WHERE imo = :imo AND kind IN (:kinds) AND x IN (:none)\n    bind: {{imo: \"'; DROP TABLE v\", kinds: [a, b], none: []}}\n  - id: t\n    sql: harbour\n    statements: [{{statement: \"INSERT INTO v VALUES (:o)\", bind: {{o: {{k: 1}}}}}}, {{statement: DELETE FROM v}}]\n  - reply: 200\n    body: {{one: \"${{v.rows[0]?.name}}\", id: \"${{t[0]?.id}}\", count: \"${{t[1]?.count}}\"}}\n"
    );
    let mut queries = Vec::new();
    let (reply, _) = drive(&mut start(plans(&[&text]), 1), |effect| {
        let Effect::Query(query) = effect else { panic!() };
        queries.push((**query).clone());
        let row = Value::object([("name", Value::text("Havbris"))]);
        let rows = match query.transaction {
            false => vec![Rows { rows: vec![row], count: 1, id: None }],
            true => vec![Rows { rows: vec![], count: 1, id: Some(7) }, Rows { rows: vec![], count: 2, id: None }],
        };
        (Span::from_micros(1), Outcome::Queried(Ok(rows)))
    });
    assert_eq!(reply.expect("reply").body.to_json(), r#"{"one":"Havbris","id":7,"count":2}"#);
    let first = &queries[0].statements[0];
    assert_eq!(first.text, "SELECT ':no', name FROM v WHERE imo = ? AND kind IN (?, ?) AND x IN (NULL)");
    assert_eq!(Value::list(first.values.clone()).to_json(), r#"["'; DROP TABLE v","a","b"]"#);
    assert_eq!(queries[1].statements[0].values, [Value::text("{\"k\":1}")]);
    let (reply, _) = drive(&mut start(plans(&[&text]), 1), |_| {
        (
            Span::from_micros(1),
            Outcome::Queried(Err(EffectError { kind: FailureKind::Database, detail: "unavailable".into() })),
        )
    });
    assert_eq!(reply.expect("reply").status, 503);
}

#[test]
fn pauses_and_functions() {
    let text = "workflow: w\ninput: {n: {type: integer}}\nfunctions:\n  dues: \"(length, nights = 2) => length * 3 * nights\"\n  total: \"list => list.map(dues).reduce((a, b) => a + b, 0) + dues(1)\"\nsteps:\n  - pause: ${input.n}s\n  - pause: {until: \"1970-01-01T00:00:10Z\"}\n  - reply: 200\n    body: ${total([1, 2])}\n";
    let mut machine = start(plans(&[text]), 3);
    let (reply, _) = drive(&mut machine, |_| panic!());
    assert_eq!(reply.expect("reply").body, Value::Int(12));
    let ends: Vec<i64> = machine.records().iter().map(|r| r.ended.as_micros()).collect();
    assert_eq!(ends, [4_000_000, 10_000_000, 10_000_000]);
}

#[test]
fn a_loop_ends_behind_the_item_for_which_until_holds() {
    for (at_once, until, wanted) in [
        (1, "n === 3", "[10,20,30]"),
        (1, "double > 20 && n > 1", "[10,20,30]"),
        // The items that began beside it are finished.
        (2, "n === 3", "[10,20,30,40]"),
        (1, "false", "[10,20,30,40,50]"),
    ] {
        let text = format!(
            "workflow: w\ninput: {{n: {{type: integer}}}}\nsteps:\n  - id: made\n    each: n\n    in: list.range(1, input.n + 1)\n    at_once: {at_once}\n    until: {until}\n    steps:\n      - let: {{double: \"${{n * 10}}\"}}\n    collect: ${{double}}\n  - reply: 200\n    body: ${{made}}\n"
        );
        let mut machine = start(plans(&[&text]), 5);
        let (reply, _) = drive(&mut machine, |_| panic!());
        assert_eq!(reply.expect("reply").body.to_json(), wanted, "{until}, {at_once} at once");
    }
}

#[test]
fn scripts_return_throw_and_show_their_names() {
    let text = "workflow: w\ninput: {n: {type: integer}}\nsteps:\n  - id: sums\n    script: |\n      const out = [];\n      let sum = 0;\n      for (let i = 1; i <= input.n; i++) {\n        sum += i;\n        out.push(sum);\n      }\n      if (out.length > 3) {\n        throw {code: 'many', sum};\n      }\n      return out;\n    catch:\n      - reply: 409\n        body: \"${failure.kind} ${failure.body.code} ${failure.detail.slice(0, 7)}\"\n  - reply: 200\n    body: ${sums}\n";
    for (n, status, body, names) in
        [(3, 200, "[1,3,6]", ""), (4, 409, "\"thrown many line 8:\"", r#"{"names":{"out":[1,3,6,10],"sum":10}}"#)]
    {
        let mut machine = start(plans(&[text]), n);
        machine.mark_points();
        let (reply, _) = drive(&mut machine, |_| panic!());
        let reply = reply.expect("reply");
        assert_eq!((reply.status, reply.body.to_json().as_str()), (status, body));
        let sent = &machine.records()[0].sent;
        assert_eq!(if *sent == Value::Undefined { String::new() } else { sent.to_json() }, names);
        // Every statement but the way out that was not taken.
        let marks = machine.marks(0).expect("marks");
        assert_eq!(marks.iter().filter(|reached| !**reached).count(), if n == 3 { 1 } else { 2 }, "{marks:?}");
    }
}

/// A workflow whose first step needs more than the work of one evaluation, and whose second does not.
const HEAVY: &str = "  - let: {sum: \"${list.sum(list.range(input.n).map(i => i % 7))}\"}\n  - note: ${sum}\n  - reply: 200\n    body: ${sum}\n";

#[test]
fn an_evaluation_that_needs_more_work_is_left_to_be_computed() {
    // The last is charged for as a whole before it begins.
    for (n, computations) in [(10, 0), (100_000, 1), (400_000, 1)] {
        let mut machine = start(plan(HEAVY), n);
        let mut seen = Vec::new();
        let reply = loop {
            match machine.next() {
                Next::Compute(id) => {
                    assert!(matches!(machine.next(), Next::Compute(again) if again == id), "it waits");
                    seen.push(id);
                    machine.compute();
                }
                Next::Answer(reply) => break reply,
                Next::Yield | Next::Remark(_) => {}
                other => panic!("{other:?}"),
            }
        };
        assert_eq!(reply.body, Value::Int((0..n).map(|i| i % 7).sum()));
        assert_eq!(seen.len(), computations, "{n}");
        assert!(seen.iter().all(|id| *id >= 1 << 63), "apart from ids of effects: {seen:?}");
        assert_eq!(machine.records().len(), 3, "a step that began again has one record");
    }
}

#[test]
fn every_evaluation_can_be_begun_again() {
    let heavy = "list.range(50000).map(i => i).length";
    for steps in [
        format!("  - {{note: x, when: '{heavy} > 0'}}\n"),
        format!("  - if: {heavy} > 0\n    then: [{{note: x}}]\n"),
        format!("  - match: {heavy}\n    arms: {{50000: [{{note: x}}]}}\n"),
        format!(
            "  - each: one\n    in: list.range(input.n + {heavy} - 49999)\n    steps: [{{note: '${{one}}'}}]\n    collect: ${{{heavy}}}\n"
        ),
        format!("  - call: s.op\n    send: {{id: \"${{{heavy}}}\"}}\n    retry: {{attempts: 2, first: 1ms}}\n"),
        format!("  - pause: ${{{heavy}}}ms\n"),
        format!("  - keep: {{n: \"${{{heavy}}}\"}}\n"),
        format!("  - sql: d\n    statement: SELECT :n AS n\n    bind: {{n: \"${{{heavy}}}\"}}\n"),
        format!("  - fail: 422\n    title: ${{{heavy}}}\n"),
    ] {
        let hurried = driven(&steps, false);
        let at_once = driven(&steps, true);
        assert!(hurried.1 >= 1 && at_once.1 == 0, "{steps}: {} computations", hurried.1);
        assert_eq!(hurried.0, at_once.0, "{steps}");
    }
}

/// Runs to the end; returns effects, records and end, and how often something was computed.
fn driven(steps: &str, unhurried: bool) -> (String, usize) {
    let mut machine = start(plan(&format!("{steps}  - note: ${{input.n}}\n")), 1);
    machine.unhurried = unhurried;
    let (mut now, mut computed, mut effects) = (1_000_000, 0, Vec::new());
    loop {
        match machine.next() {
            Next::Compute(_) => {
                machine.compute();
                computed += 1;
            }
            Next::Do(id, effect) => {
                now += 1_000;
                let outcome = match &effect {
                    Effect::Call(request) if request.attempt == 1 => answer(503, "{}"),
                    Effect::Call(_) => answer(200, "{}"),
                    Effect::Wait { .. } => Outcome::Waited,
                    Effect::Keep(keep) => {
                        // Another run is faster the first time.
                        let (version, stored) = (7, keep.version == 7);
                        Outcome::Kept(Ok(Kept { version, values: keep.values.clone(), stored }))
                    }
                    Effect::Recall { .. } => Outcome::Kept(Ok(Kept {
                        version: 1,
                        values: Value::object([("n", Value::Null)]),
                        stored: false,
                    })),
                    Effect::Query(_) => Outcome::Queried(Ok(vec![Rows::default()])),
                    other => panic!("{other:?}"),
                };
                effects.push(format!("{effect:?}"));
                machine.feed(id, outcome, Timestamp::from_micros(now));
            }
            Next::Finished => break,
            Next::Idle => panic!("{steps}: nothing comes"),
            Next::Failing => machine.close_with(true),
            Next::Yield | Next::Answer(_) | Next::Remark(_) | Next::Cancel(_) => {}
        }
    }
    (format!("{effects:?} {:?} {:?}", machine.records(), machine.ended()), computed)
}

#[test]
fn an_interrupted_computation_leaves_the_run_where_it_stood() {
    let mut machine = start(plan(HEAVY), 100_000);
    let Next::Compute(id) = machine.next() else { panic!() };
    machine.watch().interrupt();
    machine.compute();
    assert!(matches!(machine.next(), Next::Compute(again) if again == id), "it was not completed");
    machine.time_is_up(std::time::Duration::from_secs(1), Timestamp::from_micros(2_000_000));
    assert!(matches!(machine.next(), Next::Answer(reply) if reply.status == 504));
    assert_eq!(machine.records().iter().map(|record| record.state).collect::<Vec<_>>(), [State::Failed]);
}

#[test]
fn what_passes_through_the_driver_is_small() {
    let sizes = |sizes: &[(&'static str, usize)]| -> Vec<&'static str> {
        sizes.iter().filter(|(_, size)| *size > 256).map(|(name, _)| *name).collect()
    };
    macro_rules! of { ($($kind:ty),*) => { &[$((stringify!($kind), size_of::<$kind>())),*] } }
    use crate::driver::Event;
    let all: &[(&str, usize)] = of!(
        Effect,
        Outcome,
        Event,
        super::Next,
        Answer,
        Batch,
        Kept,
        Reply,
        Failure,
        Remark,
        Ended,
        Rows,
        StepRecord,
        Fibre,
        Value
    );
    assert_eq!(sizes(all), Vec::<&str>::new(), "no struct over 256 bytes is moved by value");
    assert_eq!(sizes(of!(Machine)), ["Machine"], "which is why it is boxed");
}
