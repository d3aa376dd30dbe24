use super::super::Prepared;
use super::*;
use crate::check;
use kanzlei_compiler::check::Bundle;
use kanzlei_engine::machine::Machine;

/// What the journal would hold of a run.
pub(crate) fn past(machine: &Machine, prepared: &Prepared, index: usize) -> Past {
    let reply = machine.reply();
    let ended = machine.ended().expect("ended");
    let (input, _) = prepared.input(&prepared.cases[index]).expect("input");
    let steps = machine.records().iter().map(|record| {
        let paragraph = &machine.plan_of(record).sheet[record.paragraph as usize];
        let items = machine.items(record).iter().map(u32::to_string).collect::<Vec<_>>().join(".");
        PastStep {
            number: machine.number(record),
            items: (!items.is_empty()).then_some(items),
            kind: paragraph.kind.clone(),
            title: paragraph.title.clone(),
            state: record.state.name().into(),
            attempts: record.attempts.into(),
            earlier_attempts: record.earlier_attempts.to_vec(),
            started_us: (record.started - prepared.cases[index].clock).as_micros(),
            duration_us: (record.ended - record.started).as_micros(),
            sent: record.sent.to_serde(),
            outcome: record.outcome(machine.plan_of(record)).to_serde(),
            failure: record.failure.as_ref().map(|failure| failure.to_value().to_serde()).unwrap_or_default(),
        }
    });
    Past {
        key: String::new(),
        id: format!("case-{}", prepared.cases[index].line),
        caller: prepared.caller(index).clone(),
        workflow: machine.plan().name.clone(),
        name: "again".into(),
        started: prepared.cases[index].clock.to_string(),
        request: prepared.request(index),
        delivered: prepared.is_delivery(index),
        input: input.to_serde(),
        settings: machine.settings().map(|settings| settings.to_serde()).unwrap_or_default(),
        kept: machine.remembered().map(|kept| kept.to_serde()).unwrap_or_default(),
        state: ended.state.name().into(),
        status: reply.map(|reply| reply.status),
        reply: reply.map(|reply| reply.body.to_serde()).unwrap_or_default(),
        failure: ended.failure.as_ref().map(|failure| failure.to_value().to_serde()).unwrap_or_default(),
        steps: steps.collect(),
    }
}

/// Records every case of a bundle and runs what was recorded: nothing differs, and each step is performed
/// as it was.
fn again(bundle: &Bundle, rehearsals: &[Prepared]) -> Vec<String> {
    let mut texts = Vec::new();
    for prepared in rehearsals {
        for index in 0..prepared.len() {
            let (first, Some(machine)) = prepared.play(index, None) else { continue };
            let recorded = record(&past(&machine, prepared, index));
            let mut bundle = bundle.clone();
            bundle.context = std::mem::take(&mut bundle.documents);
            bundle.add("cases/again.yaml", &recorded.text);
            let (checked, rehearsals) = check(&bundle);
            assert_eq!(checked.errors(), 0, "{:?}\n{}", checked.diagnostics, recorded.text);
            let second = rehearsals[0].run(0);
            let steps = |result: &crate::CaseResult| {
                let mut steps: Vec<String> =
                    result.steps.iter().map(|s| format!("{} {} {}", s.number, s.state, s.attempts)).collect();
                steps.sort();
                steps
            };
            assert!(second.passed(), "{:?} {:?}\n{}", second.differences, second.missing_stubs, recorded.text);
            assert_eq!(steps(&first), steps(&second), "{}", recorded.text);
            texts.push(recorded.text);
        }
    }
    texts
}

#[test]
fn what_the_demo_office_did_can_be_recorded_and_rehearsed() {
    let bundle = Bundle::of(kanzlei_samples::demo());
    let texts = again(&bundle, &check(&bundle).1);
    assert!(texts.len() > 35, "{}", texts.len());
}

#[test]
fn runs_of_every_kind_of_step_can_be_recorded() {
    const WORKFLOW: &str = r#"workflow: w
input: {imo: {type: string}, n: {type: integer, default: 1}}
entries: [{endpoint: "GET /w/{imo}", access: open, answer: later}]
queue: {tag: w}
steps:
  - {id: at, call: "GET http://s/v/{imo}{?q}", send: {imo: "${input.imo}", q: a b}, accept: [2xx, 404], retry: {attempts: 4, first: 1s, on: [503, timeout, unreadable]}}
  - each: x
    in: "[1, 2, 3, 2]"
    at_once: 2
    id: each
    steps:
      - {id: got, call: s.add, send: {name: "n${x}"}, catch: [{note: "${failure.kind} ${failure.status}"}]}
      - {id: row, sql: harbour, statement: "SELECT a FROM t WHERE x = :x", bind: {x: "${x}"}}
    collect: ${[got?.headers['x-left'] ?? '-', row.rows.length]}
  - {sql: harbour, id: both, statements: [{statement: "INSERT INTO t (a) VALUES (1)"}, {statement: "SELECT COUNT(*) AS n FROM t"}]}
  - {id: late, enqueue: child, send: {url: "${at.body}"}, after: 1h}
  - {id: many, enqueue: child, each: i, in: "['a', 'b']", send: {url: "${i}"}, catch: [{note: full}]}
  - {id: gone, cancel: "${late.job}"}
  - together:
      fast: [{id: one, call: s.get, send: {imo: fast}}]
      slow: [{id: two, call: s.get, send: {imo: slow}}]
    settle: all
    id: race
  - {id: news, await: callback, until: 1h, steps: [{call: s.add, send: {name: "${callback.url}"}}], catch: [{note: none}]}
  - keep: {seen: "${(kept.seen ?? 0) + input.n}"}
  - reply: 200
    body: {at: "${at.body}", each: "${each}", n: "${both[1]?.rows[0]?.n ?? null}", id: "${both[0]?.id}", job: "${late.url}", many: "${many?.jobs ?? null}", gone: "${gone.cancelled.length}", slow: "${race.slow.ok}", fast: "${race.fast.ok}", news: "${news ?? null}", seen: "${kept.seen}"}
"#;
    const API: &str = r#"openapi: 3.1.0
paths:
  /v/{imo}: {get: {operationId: get, parameters: [{name: imo, in: path, required: true, schema: {type: string}}], responses: {"200": {description: ok}}}}
  /v: {post: {operationId: add, requestBody: {content: {application/json: {schema: {type: object}}}}, responses: {"201": {description: made}}}}
"#;
    let cases = r#"cases: w
examples:
  - name: all goes well
    request: GET /w/a%20b?n=2
    kept: {seen: 40}
    stubs:
      s GET /v/{imo}: {headers: {content-type: text/plain}, body: "it's $${costly} \"\n"}
      s.add: [{when: "request.body.name === 'n2'", times: 1, status: 201, headers: {X-Left: 7}}, {body: {}, takes: 300ms}]
      sql.harbour: [{when: "request.bind?.x === 2", rows: [{a: 1}, {a: 2}]}, {when: "request.statement.startsWith('INSERT')", id: 12, count: 1}, {when: "request.statement.includes('COUNT')", rows: [{n: 5}]}, {rows: []}]
      s.get: {body: {}}
      callback: {takes: 2s, body: {is: here}}
    expect: {state: succeeded, reply: {status: 200, body: {gone: 1, id: 12, seen: 42}}}
  - name: much fails
    input: {imo: x}
    stubs:
      s GET /v/x: [{status: 503}, {fails: timeout}, {status: 404, body: [1]}]
      s.add: [{when: "request.body.name === 'n3'", fails: broken, detail: it broke}, {when: "request.body.name === 'n2'", status: 500, body: {title: No}}, {body: {}}]
      sql.harbour: {rows: []}
      queue: [{when: "request.workflow === 'none'", fails: full}, {times: 1, fails: full}]
      s.get: [{when: "request.params.imo === 'slow'", status: 500}, {body: {}}]
    expect: {state: failed}
  - name: the second of many is not taken
    input: {imo: x}
    stubs:
      s GET /v/x: [{headers: {content-type: application/json}, body: "{"}, {}]
      s.add: {}
      sql.harbour: {rows: [{a: 1.5, n: null}], count: 0}
      s.get: [{when: "request.params.imo === 'slow'", takes: 3s}, {takes: 1ms, body: "text"}]
    expect: {state: succeeded}
  - name: a database is unavailable
    input: {imo: x}
    stubs:
      s GET /v/x: {}
      s.add: {}
      sql.harbour: [{when: "request.bind?.x === 3", fails: database, detail: unavailable}, {rows: []}]
    expect: {state: failed}
"#;
    let mut bundle = Bundle::default();
    bundle.add("s.yaml", "service: s\nbase: http://s\nopenapi: o.yaml\nidempotency_key: true\n");
    bundle.files.insert("o.yaml".into(), API.into());
    bundle.add("w.yaml", WORKFLOW);
    bundle.add("child.yaml", "workflow: child\ninput: {url: {}}\nsteps: [{note: \"${input.url}\"}]\n");
    bundle.add("c.yaml", cases);
    let (checked, rehearsals) = check(&bundle);
    assert_eq!(checked.errors(), 0, "{:?}", checked.diagnostics);
    for index in 0..4 {
        let result = rehearsals[0].run(index);
        assert!(result.passed(), "{:?} {:?} {:?}", result.case, result.differences, result.missing_stubs);
    }
    let texts = again(&bundle, &rehearsals);
    for (text, lines) in [
        (&texts[0], &["request: \"GET /w/a%20b?n=2\"", "kept: {seen: 40}", "request.bind.x === 2"][..]),
        (&texts[1], &["{status: 503}", "failure: {kind: \"full\"}"]),
    ] {
        lines.iter().for_each(|line| assert!(text.contains(line), "{line} is not in\n{text}"));
    }
}
