//! Nothing that comes from outside makes the core panic, hang or contradict itself: damaged documents,
//! odd requests, services that answer anything.

use std::sync::Arc;

use kanzlei_compiler::check::{Bundle, check};
use kanzlei_compiler::input::{Body, Parts, form_pairs};
use kanzlei_compiler::plan::Plan;
use kanzlei_engine::machine::{
    Address, Answer, Arrival, Cancellation, Effect, EffectError, Kept, Machine, Next, Outcome, Queued, Remark, Rows,
    Start, State,
};
use kanzlei_lang::diagnostic::line_and_column;
use kanzlei_model::run::{FailureKind, RunState};
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_model::value::Value;
use kanzlei_samples::{Dice, with_dice};

/// Damages a text: characters lost, doubled, replaced; lines moved, indented; parts pasted elsewhere.
fn damage(text: &str, dice: &mut Dice) -> String {
    const BITS: [&str; 24] = [
        "${",
        "}",
        "{",
        "[",
        "]",
        ":",
        "- ",
        "\"",
        "'",
        "\n",
        "\t",
        "&a ",
        "*a",
        "!!",
        "|",
        ">",
        "#",
        "%",
        "\u{0}",
        "\u{feff}",
        "😀",
        "steps:",
        "${input.imo}",
        "999999999999999999999999999999",
    ];
    let mut chars: Vec<char> = text.chars().collect();
    for _ in 0..=dice.below(4) {
        let at = dice.below(chars.len());
        match dice.below(6) {
            0 => {
                let end = (at + 1 + dice.below(12)).min(chars.len());
                chars.drain(at..end);
            }
            1 => {
                let bit: Vec<char> = dice.pick(&BITS).chars().collect();
                chars.splice(at..at, bit);
            }
            2 => {
                let end = (at + dice.below(60)).min(chars.len());
                let copy: Vec<char> = chars[at..end].to_vec();
                let to = dice.below(chars.len());
                chars.splice(to..to, copy);
            }
            3 => chars.truncate(at),
            4 => {
                if let Some(place) = chars.get_mut(at) {
                    *place = char::from_u32(32 + dice.below(95) as u32).unwrap_or('x');
                }
            }
            _ => {
                let line = chars[..at].iter().rposition(|c| *c == '\n').map_or(0, |p| p + 1);
                chars.splice(line..line, "  ".chars());
            }
        }
        if chars.is_empty() {
            chars.push('a');
        }
    }
    chars.into_iter().collect()
}

#[test]
fn damaged_documents_give_diagnostics_with_true_positions() {
    let whole = Bundle::of(kanzlei_samples::demo());
    let (mut clean, mut faulty) = (0, 0);
    with_dice(600, 40, |dice| {
        let mut bundle = whole.clone();
        let index = dice.below(bundle.documents.len());
        bundle.documents[index].text = damage(&bundle.documents[index].text, dice);
        if dice.one_in(4) {
            let name = bundle.files.keys().nth(dice.below(bundle.files.len())).expect("a file").clone();
            let damaged = damage(&bundle.files[&name], dice);
            bundle.files.insert(name, damaged);
        }
        let checked = check(&bundle);
        for found in &checked.diagnostics {
            let text = &bundle.documents.iter().find(|d| d.path == found.path).expect("a document").text;
            assert!(found.start <= found.end && found.end as usize <= text.len() + 1, "{found:?}");
            assert_eq!(line_and_column(text, found.start as usize), (found.line, found.column), "{found:?}");
            assert!(!found.message.is_empty());
        }
        if checked.errors() == 0 { clean += 1 } else { faulty += 1 }
    });
    assert!(clean > 20 && faulty > 200, "the damage is no damage: {clean} clean, {faulty} faulty");
}

fn plans() -> Vec<Arc<Plan>> {
    let mut bundle = Bundle::of(kanzlei_samples::demo());
    // Every kind of step, nested, with catches that fail themselves.
    bundle.add(
        "workflows/odd.yaml",
        "workflow: odd\ninput: {n: {type: integer, default: 1}, list: {}}\nentries: [{endpoint: GET /odd, access: open}]\nsteps:\n  - match: input.n % 3\n    arms:\n      0: [{call: rates.latest, id: a, send: {to: EUR}, retry: {attempts: 3, first: 1ms}}]\n      1: [{let: {b: \"${input.list.map(x => x.y)}\"}, catch: [{note: \"${failure.detail}\"}]}]\n    else: [{fail: 409, title: Two}]\n    catch: [{call: rates.latest, send: {to: EUR}}]\n  - if: (a?.body.rate ?? 0) > 1\n    then: [{reply: 200, body: \"${a?.body}\"}]\n    else: [{note: \"${b ?? a ?? 0}\"}]\n  - call: registry.getVessel\n    id: c\n    when: input.n > 4\n    send: {imo: \"${input.n}\"}\n    accept: [2xx, 404, 5xx]\n    catch: [{fail: 503}]\n  - reply: \"${c?.status ?? 204}\"\n    when: input.n > 6\n    body: \"${c?.body?.name}\"\n",
    );
    // Forks inside forks, invoked workflows that fail, what is kept, statements.
    bundle.add(
        "workflows/forks.yaml",
        "workflow: forks\ninput: {n: {type: integer, default: 1}, list: {type: array, optional: true}, extra: {type: string, optional: true}}\nextra: allow\nentries: [{endpoint: GET /forks, access: open}]\nsteps:\n  - together:\n      a: {invoke: part, send: {n: \"${input.n}\"}}\n      b:\n        - each: x\n          in: \"[3, 1, 2]\"\n          position: i\n          at_once: 2\n          id: xs\n          steps:\n            - {id: r, call: rates.latest, send: {to: EUR}, retry: {attempts: 2, first: 1ms}}\n            - {invoke: part, send: {n: \"${x + i}\"}, catch: [{note: \"${failure.kind}\"}]}\n            - keep: {seen: \"${[...(kept.seen ?? []), x]}\"}\n          collect: ${r.status}\n    catch: [{each: y, in: \"[1]\", steps: [{pause: 1s}, {sql: harbour, statement: SELECT 1}], settle: all}]\n  - together: {c: {sql: harbour, statements: [{statement: SELECT 1}]}, d: [{pause: 5ms}, {if: input.n > 5, then: [{fail: 409}]}]}\n    settle: all\n  - reply: 200\n    body: {a: \"${a}\", c: \"${c}\"}\n",
    );
    bundle.add(
        "workflows/part.yaml",
        "workflow: part\ninput: {n: {type: integer}}\nsteps:\n  - if: input.n === 3\n    then: [{fail: 422, title: Three}]\n  - together: {a: {call: rates.latest, send: {to: EUR}}, b: {pause: 3ms}}\n  - reply: 200\n    body: ${a.body}\n  - keep: {last: \"${input.n}\"}\n",
    );
    bundle.add(
        "workflows/queues.yaml",
        "workflow: queues\ninput: {n: {type: integer, default: 1}, list: {type: array, optional: true}}\nextra: allow\nsteps:\n  - {enqueue: part, id: one, send: {n: \"${input.n}\"}, after: 2 days, tag: \"t-${input.n}\", catch: [{note: \"${failure.kind}\"}]}\n  - {enqueue: part, id: all, each: x, in: \"[1, 2, input.n]\", send: {n: \"${x}\"}, spacing: \"${input.n}s\", catch: [{progress: \"${input.n / 4}\"}]}\n  - together:\n      a: {await: callback, until: 2 days, steps: [{call: rates.latest, send: {to: \"${callback.url}\"}}, {progress: 0.5}], catch: [{note: \"${failure.kind}\"}]}\n      b: [{cancel: \"${all?.jobs ?? []}\"}, {cancel: {tag: x}, id: gone}, {note: \"${gone.cancelled}\"}]\n    settle: all\n  - {await: late, steps: [{note: \"${late.id}\"}]}\n  - reply: 200\n    body: {a: \"${a}\", one: \"${one}\"}\n",
    );
    let checked = check(&bundle);
    assert_eq!(checked.errors(), 0, "{:?}", checked.diagnostics);
    checked.workflows.into_iter().map(|(_, plan)| plan).collect()
}

fn any_outcome(dice: &mut Dice) -> Outcome {
    const BODIES: [&str; 9] = [
        "",
        "{",
        "{}",
        "null",
        "[1,2]",
        "\"text\"",
        r#"{"rate": 2, "window": {"from": "soon"}}"#,
        r#"{"name": "Tare", "length_m": 1e308, "draught_m": -0.0}"#,
        "\u{1}",
    ];
    match dice.below(4) {
        0 => {
            let kind = *dice.pick(&[
                FailureKind::Unreachable,
                FailureKind::Timeout,
                FailureKind::Broken,
                FailureKind::TooLarge,
            ]);
            Outcome::Called(Err(EffectError { kind, detail: "unavailable".into() }))
        }
        _ => {
            let status = *dice.pick(&[200, 200, 200, 204, 404, 429, 500, 503]);
            let media = *dice.pick(&["application/json", "application/json", "text/plain", "image/png", ""]);
            let headers = vec![("Content-Type".into(), media.into()), ("Retry-After".into(), "99999999999".into())];
            Outcome::Called(Ok(Answer {
                status,
                headers,
                body: kanzlei_engine::machine::Data::Bytes(dice.pick(&BODIES).as_bytes().to_vec()),
            }))
        }
    }
}

/// What a run was fed: which effect, what came of it, when.
type Journal = Vec<(u64, Outcome, Timestamp)>;

fn start(dice: &mut Dice) -> Start {
    let input = Value::object([
        ("n", Value::Int(dice.below(9) as i64)),
        ("list", Value::Null),
        ("currency", Value::text("NOK")),
        ("after", Value::text("x")),
    ]);
    Start {
        id: "run".into(),
        input,
        now: Timestamp::from_micros(1_000_000),
        caller: Default::default(),
        attempt: 1,
        generation: 0,
        settings: None,
    }
}

/// Feeds a new run from a journal alone; returns what its steps did.
fn replay(plan: &Arc<Plan>, mut dice: Dice, journal: &Journal) -> String {
    let mut machine = Machine::new(plan.clone(), start(&mut dice));
    let mut left = journal.iter();
    loop {
        match machine.next() {
            Next::Idle => {
                let (id, outcome, now) = left.next().expect("the journal goes on");
                // As the queue does: by way of what is written down.
                let written = outcome.to_json().to_string();
                let read = serde_json::from_str(&written).ok().and_then(|json| Outcome::from_json(&json));
                machine.feed(*id, read.expect("an outcome"), *now);
            }
            Next::Finished => return format!("{:?}", machine.records()),
            Next::Compute(_) => machine.compute(),
            Next::Failing => machine.close_with(true),
            Next::Do(..) | Next::Cancel(_) | Next::Answer(_) | Next::Remark(_) | Next::Yield => {}
        }
    }
}

/// One run on dice: everything that can be seen of it, what its steps did, and its journal.
fn run(plan: &Arc<Plan>, mut dice: Dice) -> (String, String, Journal) {
    let start = start(&mut dice);
    let mut journal = Journal::new();
    let mut machine = Machine::new(plan.clone(), start);
    let mut now = Timestamp::from_micros(1_000_000);
    let mut seen = String::new();
    let mut under_way: Vec<(u64, Effect)> = Vec::new();
    for _ in 0..2000 {
        let next = machine.next();
        seen.push_str(&format!("{next:?}\n"));
        now = now + Span::from_micros(dice.below(1000) as i64);
        match next {
            Next::Compute(_) => machine.compute(),
            Next::Failing => machine.close_with(true),
            Next::Do(id, effect) => under_way.push((id, effect)),
            Next::Cancel(id) => {
                let before = under_way.len();
                under_way.retain(|(known, _)| *known != id);
                assert_eq!(under_way.len() + 1, before, "only what is under way is cancelled");
            }
            Next::Idle => {
                // Outcomes come in any order, some of a kind nobody asked for, some for nobody.
                assert!(!under_way.is_empty(), "a run that waits for nothing");
                let (id, effect) = under_way.swap_remove(dice.below(under_way.len()));
                let outcome = match effect {
                    _ if dice.one_in(40) => Outcome::Waited,
                    Effect::Wait { until } => {
                        assert!(until - now < Span::from_secs(3600), "a pause is never longer than its bound");
                        now = now.max(until);
                        Outcome::Waited
                    }
                    Effect::Call(_) => any_outcome(&mut dice),
                    Effect::Query(query) if dice.below(3) > 0 => {
                        let rows = Rows { rows: vec![Value::object([("n", Value::Int(1))])], count: 1, id: None };
                        Outcome::Queried(Ok(vec![rows; query.statements.len()]))
                    }
                    Effect::Query(_) => {
                        Outcome::Queried(Err(EffectError { kind: FailureKind::Sql, detail: "no such table".into() }))
                    }
                    Effect::File(_) | Effect::Mail(_) => Outcome::Filed(Err(full())),
                    Effect::Rows(_) => Outcome::Rows(Err(full())),
                    Effect::Recall { .. } => kept(&mut dice),
                    Effect::Keep(_) => kept(&mut dice),
                    Effect::Enqueue(enqueue) if dice.below(4) > 0 => {
                        let ids = (0..enqueue.jobs.len()).map(|n| format!("j{n}")).collect();
                        Outcome::Queued(Ok(Queued { ids, group: None, base: "http://h".into() }))
                    }
                    Effect::Enqueue(_) => Outcome::Queued(Err(full())),
                    Effect::Cancel(_) if dice.below(4) > 0 => Outcome::Cancelled(Ok(Cancellation::default())),
                    Effect::Cancel(_) => Outcome::Cancelled(Err(full())),
                    Effect::Open { .. } if dice.below(4) > 0 => {
                        Outcome::Opened(Ok(Address { id: "c".into(), url: "http://h/c".into() }))
                    }
                    Effect::Open { .. } => Outcome::Opened(Err(full())),
                    Effect::Wake(_) if dice.below(4) == 0 => Outcome::Woken(Err(full())),
                    Effect::Wake(_) => Outcome::Woken(Ok((dice.below(2) == 0).then(|| "j".into()))),
                    Effect::Await { .. } => Outcome::Arrived((dice.below(2) == 0).then(|| Arrival {
                        media: dice.pick(&["application/json", "text/plain", "image/png"]).to_string(),
                        body: dice.pick(&["{}", "{", "\"x\"", ""]).as_bytes().to_vec(),
                    })),
                };
                machine.feed(id + 1000, Outcome::Waited, now);
                journal.push((id, outcome.clone(), now));
                machine.feed(id, outcome, now);
            }
            Next::Yield => {}
            Next::Remark(remark) => {
                assert!(!matches!(remark, Remark::Progress(p) if !(0.0..=1.0).contains(&p)), "{remark:?}")
            }
            Next::Answer(reply) => assert!((200..600).contains(&reply.status)),
            Next::Finished => {
                let ended = machine.ended().expect("ended");
                let open = machine.records().iter().filter(|r| r.state == State::Running).count();
                assert_eq!(open, 0, "no step is left running");
                assert_eq!(ended.state != RunState::Succeeded, ended.failure.is_some());
                return (seen, format!("{:?}", machine.records()), journal);
            }
        }
    }
    panic!("the run does not end");
}

fn full() -> EffectError {
    EffectError { kind: FailureKind::Full, detail: "no more".into() }
}

fn kept(dice: &mut Dice) -> Outcome {
    if dice.below(5) == 0 {
        return Outcome::Kept(Err("unavailable".into()));
    }
    let values = Value::object([("seen", Value::list(vec![Value::Int(dice.below(3) as i64)]))]);
    Outcome::Kept(Ok(Kept { version: dice.below(9) as u64, values, stored: dice.below(3) > 0 }))
}

#[test]
fn runs_end_whatever_services_answer_and_are_the_same_again() {
    for plan in plans() {
        with_dice(800, 200, |dice| {
            let (seen, records, journal) = run(&plan, dice.clone());
            assert_eq!(run(&plan, dice.clone()).0, seen, "{}", plan.name);
            assert_eq!(replay(&plan, dice.clone(), &journal), records, "{}: replayed from its journal", plan.name);
        });
    }
}

#[test]
fn odd_requests_become_input_or_problems() {
    const TEXTS: [&str; 12] =
        ["", "LIN", "9074720", "-1", "1e9", "null", "true", "%00", "😀", "2027-03-04T06:00:00Z", "{}", "NaN"];
    const KEYS: [&str; 8] = ["harbour", "imo", "arrives", "nights", "currency", "draught", "after", "bogus/~"];
    let (mut good, mut bad) = (0, 0);
    for plan in plans().into_iter().filter(|plan| !plan.endpoints.is_empty()) {
        with_dice(1500, 40, |dice| {
            let pairs: Vec<String> =
                (0..dice.below(5)).map(|_| format!("{}={}", dice.pick(&KEYS), dice.pick(&TEXTS))).collect();
            let members: Vec<String> = (0..dice.below(5))
                .map(|_| {
                    format!(
                        "{:?}: {}",
                        dice.pick(&KEYS),
                        dice.pick(&[
                            "1",
                            "31",
                            "null",
                            "\"9074720\"",
                            "\"EUR\"",
                            "[[[]]]",
                            "{\"a\":1}",
                            "1e400",
                            "\"2027-03-04T06:00:00Z\""
                        ])
                    )
                })
                .collect();
            let (media, body) = match dice.below(4) {
                0 => ("application/json", format!("{{{}}}", members.join(","))),
                1 => ("application/x-www-form-urlencoded", pairs.join("&")),
                2 => ("application/json", dice.pick(&["[]", "{", "3", "\"x\""]).to_string()),
                _ => ("", String::new()),
            };
            let Ok(body) = Body::read(media, body.as_bytes()) else {
                bad += 1;
                return;
            };
            let parts = Parts {
                path: vec![("harbour", dice.pick(&TEXTS).to_string())],
                query: form_pairs(pairs.join("&").as_bytes()),
                body,
                files: Vec::new(),
            };
            match plan.input.gather(&plan.endpoints[0].input, parts, &|_| None) {
                Ok(input) => {
                    good += 1;
                    let json = input.to_serde();
                    assert!(jsonschema::is_valid(&plan.input.schema, &json), "{json} does not fit");
                }
                Err(problem) => {
                    bad += 1;
                    assert!(problem.status == 422 && !problem.errors.is_empty(), "{problem:?}");
                    assert!(
                        problem.errors.iter().all(|e| e.pointer.is_empty() || e.pointer.starts_with('/')),
                        "{problem:?}"
                    );
                }
            }
        });
    }
    assert!(good > 100 && bad > 1000, "{good} good, {bad} bad");
}
