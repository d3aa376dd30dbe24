//! Steps that have to do with jobs, with answers given by hand: what they ask for, and what comes of it.

use std::sync::Arc;

use kanzlei_compiler::check::{Bundle, check};
use kanzlei_compiler::plan::Plan;
use kanzlei_engine::driver::on_virtual_clock;
use kanzlei_engine::machine::{
    Address, Arrival, Cancellation, Cancelling, Effect, EffectError, Enqueue, Machine, Outcome, Queued, Start,
};
use kanzlei_model::run::FailureKind;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_model::value::Value;

/// 2027-03-04T06:00:00Z.
const BEGINS: Timestamp = Timestamp::from_micros(1_804_140_000_000_000);

fn plan(steps: &str) -> Arc<Plan> {
    let child = "workflow: bill\ninput: {n: {type: integer, default: 1}, who: {type: string, optional: true}}\nqueue: {lane: berths}\nsteps: [{note: '${input.n} ${input.who ?? 1}'}]\n";
    let input = "input: {n: {type: integer}, text: {type: string}, list: {type: array, items: {type: integer}}}";
    let endpoint = "entries: [{endpoint: POST /w, access: open, answer: later}]";
    let mut bundle = Bundle::default();
    bundle.add("bill.yaml", child);
    bundle.add("lane.yaml", "lane: berths\n");
    bundle.add("w.yaml", &format!("workflow: w\n{input}\n{endpoint}\nsteps:\n{steps}  - note: '${{input}}'\n"));
    let checked = check(&bundle);
    assert_eq!(checked.errors(), 0, "{:?}", checked.diagnostics);
    checked.workflows.iter().find(|(_, plan)| plan.name == "w").expect("it is compiled").1.clone()
}

/// Runs to the end; returns how it ended: the body of its reply, or the failure.
fn run(steps: &str, text: &str, mut answer: impl FnMut(&Effect) -> Outcome) -> Result<String, String> {
    let list = Value::list(vec![Value::Int(5), Value::Int(6), Value::Int(7)]);
    let input = Value::object([("n", Value::Int(2)), ("text", Value::text(text)), ("list", list)]);
    let start = Start::new("r", input, BEGINS);
    let mut machine = Machine::new(plan(steps), start);
    on_virtual_clock(&mut machine, BEGINS, |effect, _| (Span::from_secs(1), answer(effect)));
    let ended = machine.ended().expect("it ends");
    match &ended.failure {
        Some(failure) => Err(format!("{}: {}", failure.kind, failure.detail)),
        None => Ok(machine.reply().map(|reply| reply.body.to_json()).unwrap_or_default()),
    }
}

/// What an `enqueue` step asks for: `lane priority group`, and its jobs as `input due tag`.
fn asked(steps: &str, text: &str) -> Result<String, String> {
    let mut seen = None;
    run(steps, text, |effect| {
        let Effect::Enqueue(asked) = effect else { panic!("{effect:?}") };
        seen = Some(shown(asked));
        Outcome::Queued(Ok(Queued::default()))
    })?;
    seen.ok_or_else(|| "nothing was queued".into())
}

fn shown(asked: &Enqueue) -> String {
    let job = |job: &kanzlei_engine::machine::JobRequest| {
        let due = job.due.map_or("at once".into(), |due| due.to_string());
        format!("{} {due} {}", job.input.to_json(), job.tags.as_ref().map_or("-".into(), |tags| tags.join("+")))
    };
    let lane = asked.jobs.first().and_then(|job| job.lane.as_deref());
    let jobs: Vec<String> = asked.jobs.iter().map(job).collect();
    format!("{:?} {:?} {} | {}", lane, asked.priority, asked.group, jobs.join(" | "))
}

#[test]
fn a_job_is_asked_for_with_its_time_tag_and_place() {
    for (more, text, wanted) in [
        ("", "", "None None false | {} at once -"),
        (", send: {n: 3, who: \"${undefined}\"}", "", "None None false | {\"n\":3} at once -"),
        (", after: 2 days", "", "None None false | {} 2027-03-06T06:00:00Z -"),
        (", after: \"${input.n} h\"", "", "None None false | {} 2027-03-04T08:00:00Z -"),
        (", at: \"${input.text}\"", "2027-05-01T00:00:00+02:00", "None None false | {} 2027-04-30T22:00:00Z -"),
        (", at: \"${input.text}\"", "2001-01-01T00:00:00Z", "None None false | {} 2001-01-01T00:00:00Z -"),
        (", tag: \"n-${input.n}\"", "", "None None false | {} at once n-2"),
        (", tag: \"${null}\"", "", "None None false | {} at once -"),
        (", tag: [\"n-${input.n}\", \"${null}\", all, all]", "", "None None false | {} at once n-2+all"),
        (", tag: \"${input.list.map(n => `n-${n}`)}\"", "", "None None false | {} at once n-5+n-6+n-7"),
        (", lane: \"${input.n > 1 ? 'berths' : 'main'}\"", "", "Some(\"berths\") None false | {} at once -"),
        (", lane: berths, priority: 1", "", "Some(\"berths\") Some(1) false | {} at once -"),
    ] {
        assert_eq!(asked(&format!("  - {{enqueue: bill{more}}}\n"), text).as_deref(), Ok(wanted), "{more} {text}");
    }
}

#[test]
fn a_list_is_one_group_in_its_order() {
    let each = "  - {enqueue: bill, each: one, in: input.list, send: {n: \"${one}\"}";
    for (more, wanted) in [
        ("", "{\"n\":5} at once - | {\"n\":6} at once - | {\"n\":7} at once -"),
        (", spacing: 2s", "{\"n\":5} at once - | {\"n\":6} 2027-03-04T06:00:02Z - | {\"n\":7} 2027-03-04T06:00:04Z -"),
        (
            ", spacing: 1h, after: 1 day, tag: \"t${one}\"",
            "{\"n\":5} 2027-03-05T06:00:00Z t5 | {\"n\":6} 2027-03-05T07:00:00Z t6 | {\"n\":7} 2027-03-05T08:00:00Z t7",
        ),
    ] {
        let wanted = format!("None None true | {wanted}");
        assert_eq!(asked(&format!("{each}{more}}}\n"), ""), Ok(wanted), "{more}");
    }
    let empty = "  - {enqueue: bill, each: one, in: 'input.list.filter(n => n > 9)', send: {n: \"${one}\"}}\n";
    assert_eq!(asked(empty, "").as_deref(), Ok("None None true | "));
}

#[test]
fn a_time_that_cannot_be_read_fails_the_step() {
    for (more, text, says) in [
        (", at: \"${input.text}\"", "soon", "expression: `soon` is not an instant"),
        (", after: \"${input.text}\"", "a while", "expression: "),
        (", each: one, in: input.list, spacing: \"${input.text}\"", "-1s", "expression: "),
        (
            ", tag: \"${[...input.list, ...input.list.map(n => n * 10), 1, 2, 3]}\"",
            "",
            "expression: a job has at most 8 tags",
        ),
    ] {
        let failed = asked(&format!("  - {{enqueue: bill{more}}}\n"), text).expect_err(more);
        assert!(failed.starts_with(says), "{more} {text}: {failed}");
    }
}

#[test]
fn what_was_queued_is_the_result() {
    let reply = "  - {reply: 200, body: \"${j}\"}\n";
    let queued = |ids: &[&str], group: Option<&str>| Queued {
        ids: ids.iter().map(|id| (*id).to_owned()).collect(),
        group: group.map(str::to_owned),
        base: "http://k".into(),
    };
    for (step, queued, wanted) in [
        ("{id: j, enqueue: bill}", queued(&["a"], None), r#"{"job":"a","url":"http://k/~/jobs/a"}"#),
        (
            "{id: j, enqueue: bill, each: one, in: input.list}",
            queued(&["a", "b"], Some("g")),
            r#"{"jobs":["a","b"],"group":"g","count":2}"#,
        ),
        (
            "{id: j, enqueue: bill, each: one, in: input.list}",
            queued(&[], None),
            r#"{"jobs":[],"group":null,"count":0}"#,
        ),
    ] {
        let given = run(&format!("  - {step}\n{reply}"), "", |_| Outcome::Queued(Ok(queued.clone())));
        assert_eq!(given.as_deref(), Ok(wanted), "{step}");
    }
    let full = || EffectError { kind: FailureKind::Full, detail: "the lane `berths` is full".into() };
    let failed = run("  - {id: j, enqueue: bill}\n", "", |_| Outcome::Queued(Err(full())));
    assert_eq!(failed, Err("full: the lane `berths` is full".into()));
    let caught = "  - {id: j, enqueue: bill, catch: [{let: {j: \"${failure.kind}\"}}]}\n";
    assert_eq!(run(&format!("{caught}{reply}"), "", |_| Outcome::Queued(Err(full()))).as_deref(), Ok("\"full\""));
}

#[test]
fn jobs_are_cancelled_by_id_or_tag() {
    for (what, wanted) in [
        ("\"${input.text}\"", Cancelling::Ids(vec!["x".into()])),
        ("[\"${input.text}\", y]", Cancelling::Ids(vec!["x".into(), "y".into()])),
        ("\"${input.list}\"", Cancelling::Ids(vec!["5".into(), "6".into(), "7".into()])),
        ("{tag: \"t-${input.n}\"}", Cancelling::Tag("t-2".into())),
    ] {
        let steps = format!("  - {{id: c, cancel: {what}}}\n  - {{reply: 200, body: \"${{c}}\"}}\n");
        let given = run(&steps, "x", |effect| {
            assert_eq!(*effect, Effect::Cancel(Box::new(wanted.clone())), "{what}");
            let (cancelled, done) = (vec!["x".to_owned()], vec!["y".to_owned()]);
            Outcome::Cancelled(Ok(Cancellation { cancelled, done, ..Cancellation::default() }))
        });
        assert_eq!(given.as_deref(), Ok(r#"{"cancelled":["x"],"begun":[],"done":["y"],"unknown":[]}"#), "{what}");
    }
}

/// Waits for a callback until the given time; returns what the step asks for, and how the run ends.
fn awaited(until: &str, arrival: Option<Arrival>) -> (Option<Timestamp>, Result<String, String>) {
    let steps = format!(
        "  - {{id: word, await: verdict{until}, steps: [{{note: \"${{verdict.url}}\"}}]}}\n  - {{reply: 200, body: \"${{word}}\"}}\n"
    );
    let mut asked = None;
    let ended = run(&steps, "2027-03-04T07:00:00Z", |effect| match effect {
        Effect::Open { .. } => Outcome::Opened(Ok(Address { id: "cb".into(), url: "http://k/~/callbacks/t".into() })),
        Effect::Await { callback, until, .. } => {
            assert_eq!(callback, "cb");
            asked = *until;
            Outcome::Arrived(arrival.clone())
        }
        other => panic!("{other:?}"),
    });
    (asked, ended)
}

#[test]
fn a_callback_is_waited_for_until_its_time() {
    let hour = "2027-03-04T07:00:00Z".parse::<Timestamp>().ok();
    for (until, wanted) in [("", None), (", until: \"${input.text}\"", hour), (", until: 1h", hour)] {
        let (asked, ended) = awaited(until, None);
        assert_eq!(asked, wanted, "{until}: a span counts from when the step began");
        assert_eq!(ended, Err("timeout: nothing came to the address in time".into()), "{until}");
    }
}

#[test]
fn what_arrives_is_read_by_its_media_type() {
    for (media, body, wanted) in [
        ("application/json", r#"{"ok": true}"#, Ok(r#"{"ok":true}"#)),
        ("Application/JSON; charset=utf-8", "[1]", Ok("[1]")),
        ("text/plain", "hei", Ok("\"hei\"")),
        ("text/csv", "a,b\n1,2\n", Ok(r#"[{"a":"1","b":"2"}]"#)),
        ("application/json", "{oops", Err("unreadable")),
    ] {
        let (_, ended) = awaited("", Some(Arrival { media: media.into(), body: body.as_bytes().to_vec() }));
        match (ended, wanted) {
            (Err(failed), Err(kind)) => assert!(failed.starts_with(kind), "{media} {body}: {failed}"),
            (ended, wanted) => assert_eq!(ended, wanted.map(str::to_owned).map_err(str::to_owned), "{media} {body}"),
        }
    }
}

#[test]
fn an_address_that_cannot_be_made_fails_the_step() {
    let steps = "  - {id: word, await: verdict, steps: [{note: \"${verdict.url}\"}], catch: [{let: {word: \"${failure.kind}\"}}]}\n  - {reply: 200, body: \"${word}\"}\n";
    let given = run(steps, "", |effect| {
        assert!(matches!(effect, Effect::Open { .. }), "it neither waits nor passes the address on");
        Outcome::Opened(Err(EffectError { kind: FailureKind::Database, detail: "unavailable".into() }))
    });
    assert_eq!(given.as_deref(), Ok("\"database\""));
}
