//! Runs of small workflows and of the demo office, with answers given by hand.

use super::*;
use crate::check::{Bundle, check};

fn plan(steps: &str) -> Arc<Plan> {
    let mut bundle = Bundle::default();
    bundle.add("s.yaml", "service: s\nbase: http://s\nopenapi: o.yaml\nidempotency_key: true\n");
    bundle.files.insert("o.yaml".into(), "openapi: 3.1.0\npaths: {\"/x/{id}\": {post: {operationId: op, parameters: [{name: id, in: path, required: true}, {name: q, in: query}], requestBody: {content: {application/json: {}}}}}}".into());
    bundle.add("w.yaml", &format!("workflow: w\ninput: {{n: {{type: integer}}}}\nsteps:\n{steps}"));
    let mut checked = check(&bundle);
    assert_eq!(checked.errors(), 0, "{:?}", checked.diagnostics);
    checked.workflows.remove(0).1.into()
}

fn start(plan: Arc<Plan>, n: i64) -> Machine {
    let input = Value::object([("n", Value::Int(n))]);
    Machine::new(plan, Start { id: "run-1".into(), input, now: 1_000_000, caller: None })
}

fn answer(status: u16, body: &str) -> Outcome {
    let headers = vec![("Content-Type".into(), "application/json".into())];
    Outcome::Called(Ok(Answer { status, headers, body: body.into() }))
}

fn fault(kind: CallError) -> Outcome {
    Outcome::Called(Err(CallFault { kind, detail: "away".into() }))
}

/// Runs to the end with these outcomes; gives the reply and the states by paragraph number.
fn run(machine: &mut Machine, outcomes: Vec<Outcome>) -> (Option<Reply>, String) {
    let mut outcomes = outcomes.into_iter();
    let mut now = 1_000_000;
    loop {
        now += 1000;
        match machine.next() {
            Next::Call(_) => machine.feed(outcomes.next().expect("an outcome for each call"), now),
            Next::Wait { until } => {
                now = until;
                machine.feed(Outcome::Waited, now);
            }
            Next::Answer(_) => {}
            Next::Finished => break,
        }
    }
    assert!(outcomes.next().is_none(), "all outcomes are used");
    let sheet = &machine.plan().sheet;
    let states: Vec<String> = machine
        .records()
        .iter()
        .map(|r| format!("{} {}", sheet[r.paragraph as usize].number, r.state.name()))
        .collect();
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
fn requests_carry_what_the_step_says_and_are_the_same_on_each_attempt() {
    let steps = "  - call: s.op\n    send: {id: \"a b/${input.n}\", q: x&y, name: Tare}\n    headers: {X-N: \"${input.n}\"}\n    retry: {times: 2, first: 1s}\n  - reply: 204\n";
    let mut machine = start(plan(steps), 7);
    let Next::Call(first) = machine.next() else { panic!() };
    assert_eq!(first.target, "/x/a%20b%2F7?q=x%26y");
    assert_eq!(first.body.as_deref(), Some(br#"{"name":"Tare"}"#.as_slice()));
    assert!(first.headers.contains(&("X-N".into(), "7".into())));
    assert!(first.headers.contains(&("idempotency-key".into(), "run-1-0".into())));
    machine.feed(answer(503, "{}"), 2_000_000);
    let Next::Wait { until } = machine.next() else { panic!() };
    assert!((2_500_000..=3_000_000).contains(&until), "{until}");
    machine.feed(Outcome::Waited, until);
    let Next::Call(second) = machine.next() else { panic!() };
    assert_eq!((second.attempt, &second.headers), (2, &first.headers));
}

#[test]
fn a_value_cannot_lead_a_path_elsewhere() {
    let steps = "  - let: {p: \"${input.n === 1 ? '..' : input.n === 2 ? '.' : 'a..b'}\"}\n  - call: s.op\n    send: {id: \"${p}\"}\n";
    for n in [1, 2] {
        let mut machine = start(plan(steps), n);
        run(&mut machine, vec![]);
        assert_eq!(machine.ended().and_then(|e| e.failure.as_ref()).map(|f| f.kind), Some("refused"));
    }
    run(&mut start(plan(steps), 3), vec![answer(200, "{}")]);
}

#[test]
fn failures_are_told_apart_and_end_the_run() {
    let steps = "  - call: s.op\n    send: {id: x}\n  - reply: 204\n";
    let with_type = |media: &str, body: &[u8]| {
        Outcome::Called(Ok(Answer {
            status: 200,
            headers: vec![("content-type".into(), media.into())],
            body: body.into(),
        }))
    };
    for (outcome, kind, status) in [
        (fault(CallError::Unreachable), "unreachable", 502),
        (fault(CallError::Timeout), "timeout", 504),
        (fault(CallError::Broken), "broken", 502),
        (fault(CallError::TooLarge), "too-large", 502),
        (fault(CallError::Redirected), "redirected", 502),
        (fault(CallError::Refused), "refused", 502),
        (answer(404, r#"{"detail":"no such"}"#), "status", 502),
        (with_type("application/json", b"{oops"), "unreadable", 502),
        (with_type("image/png", b"\xff\xfe"), "unreadable", 502),
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
    let steps =
        "  - call: s.op\n    send: {id: x}\n    retry: {times: 3, first: 10ms, on: [timeout, 5xx]}\n  - reply: 204\n";
    for (outcomes, attempts, succeeded) in [
        (vec![fault(CallError::Timeout), answer(500, ""), answer(200, "{}")], 3, true),
        (vec![fault(CallError::Unreachable)], 1, false),
        (vec![answer(500, ""), answer(501, ""), answer(502, "")], 3, false),
        (vec![answer(400, "")], 1, false),
    ] {
        let mut machine = start(plan(steps), 1);
        run(&mut machine, outcomes);
        assert_eq!(machine.records()[0].attempts, attempts);
        assert_eq!(machine.ended().expect("ended").state == State::Succeeded, succeeded);
    }
}

#[test]
fn rescue_takes_over_where_it_stands() {
    let own = "  - id: v\n    call: s.op\n    send: {id: x}\n    rescue: [{let: {v: \"${failure.kind} ${failure.status}\"}}]\n  - reply: 200\n    body: ${v}\n";
    let (reply, states) = run(&mut start(plan(own), 1), vec![answer(500, "")]);
    assert_eq!(
        (reply.expect("reply").body, states.as_str()),
        (Value::text("status 500"), "1 rescued, 1.1 succeeded, 2 succeeded")
    );

    let around = "  - if: input.n\n    then: [{call: s.op, send: {id: x}}, {note: never}]\n    rescue: [{note: \"${failure.detail}\"}]\n  - reply: 200\n";
    let (_, states) = run(&mut start(plan(around), 1), vec![answer(500, "")]);
    assert_eq!(states, "1 rescued, 1.1 failed, 1.3 succeeded, 2 succeeded");

    let failing = "  - call: s.op\n    send: {id: x}\n    rescue: [{call: s.op, send: {id: y}}]\n  - reply: 200\n";
    let (reply, states) = run(&mut start(plan(failing), 1), vec![answer(500, ""), answer(501, "")]);
    assert_eq!((reply.expect("reply").status, states.as_str()), (502, "1 failed, 1.1 failed"));

    let expression = "  - let: {a: \"${input.n.x.y}\"}\n    rescue: [{reply: 200, body: \"${failure.kind}\"}]\n";
    let (reply, _) = run(&mut start(plan(expression), 1), vec![]);
    assert_eq!(reply.expect("reply").body, Value::text("expression"));
}

#[test]
fn fail_gives_problem_details_and_cannot_be_rescued() {
    let steps = "  - if: input.n\n    then: [{fail: 422, title: Unknown vessel, detail: \"No ${input.n}\", type: \"https://lindvik.example/p\", with: {imo: \"${input.n}\", status: 1}}]\n    rescue: [{note: never}]\n";
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
    assert!(matches!(machine.next(), Next::Call(_)));
    let (_, states) = run(&mut machine, vec![answer(200, "{}")]);
    assert_eq!(states, "1 succeeded, 2 succeeded");
}

#[test]
fn the_same_outcomes_give_the_same_run() {
    let demo = check(&crate::check::tests::demo());
    let (_, plan) = demo.workflows.into_iter().find(|(_, plan)| plan.name == "berth-quote").expect("berth-quote");
    let plan = Arc::new(plan);
    let input: Value = serde_json::from_str(
        r#"{"harbour": "LIN", "imo": "9074729", "arrives": "2027-03-04T06:00:00Z", "nights": 2, "currency": "NOK"}"#,
    )
    .expect("input");
    let once = || {
        let mut machine =
            Machine::new(plan.clone(), Start { id: "r".into(), input: input.clone(), now: 0, caller: None });
        let outcomes = vec![
            answer(200, r#"{"name": "Havbris", "length_m": 132, "draught_m": 6.2}"#),
            fault(CallError::Timeout),
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
