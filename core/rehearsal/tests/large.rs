//! Large and deep things are answered or refused clearly. Run with `--nocapture` for figures.

use std::time::Instant;

use kanzlei_compiler::check::{Bundle, Checked, check};
use kanzlei_compiler::input::{Body, Parts};
use kanzlei_engine::driver::on_virtual_clock;
use kanzlei_engine::machine::{Machine, Start};
use kanzlei_model::run::RunState;
use kanzlei_model::time::Timestamp;
use kanzlei_model::value::Value;

fn checked(text: &str) -> Checked {
    let mut bundle = Bundle::default();
    bundle.add("w.yaml", text);
    check(&bundle)
}

fn codes(checked: &Checked) -> Vec<&str> {
    checked.diagnostics.iter().map(|d| d.code.as_str()).collect()
}

fn timed<T>(what: &str, work: impl FnOnce() -> T) -> T {
    let begun = Instant::now();
    let result = work();
    println!("{what}: {:.0} ms", begun.elapsed().as_secs_f64() * 1000.0);
    result
}

#[test]
fn long_documents() {
    let steps = |count: usize| {
        let mut text = String::from("workflow: w\ninput: {n: {type: integer}}\nsteps:\n");
        for at in 0..count {
            text.push_str(&format!("  - let: {{x{at}: \"${{input.n + {at}}}\"}}\n"));
        }
        text
    };
    let good = timed("check 5,000 steps", || checked(&steps(5000)));
    assert_eq!(codes(&good), Vec::<&str>::new());
    let plan = good.workflows[0].1.clone();
    let input = Value::object([("n", Value::Int(1))]);
    let mut machine = Machine::new(plan, Start::new("r", input, Timestamp::EPOCH));
    timed("run 5,000 steps", || on_virtual_clock(&mut machine, Timestamp::EPOCH, |_, _| unreachable!()));
    assert_eq!((machine.records().len(), machine.ended().map(|e| e.state)), (5000, Some(RunState::Succeeded)));
    assert_eq!(codes(&checked(&steps(5001))), ["too-many-steps"]);
    let large = format!("workflow: w\nabout: {}\nsteps: [{{note: x}}]\n", "x".repeat(2 << 20));
    assert_eq!(codes(&checked(&large)), ["document-too-large"]);
}

#[test]
fn long_lists() {
    let text = "workflow: w\ninput: {n: {type: integer}}\nsteps:\n  - each: x\n    in: list.range(input.n)\n    id: all\n    at_once: 8\n    steps: [{let: {y: \"${x * 2}\"}}]\n    collect: ${y}\n  - reply: 200\n    body: ${all.length}\n";
    let plan = checked(text).workflows[0].1.clone();
    for (n, status, says) in [(100_000, 200, "100000"), (100_001, 500, "The workflow failed")] {
        let input = Value::object([("n", Value::Int(n))]);
        let mut machine = Machine::new(plan.clone(), Start::new("r", input, Timestamp::EPOCH));
        timed(&format!("a loop over {n} items"), || {
            on_virtual_clock(&mut machine, Timestamp::EPOCH, |_, _| unreachable!())
        });
        let reply = machine.reply().expect("a reply");
        assert_eq!(reply.status, status);
        assert!(reply.body.to_json().contains(says), "{:?}", reply.body);
    }
    let failure = {
        let input = Value::object([("n", Value::Int(100_001))]);
        let mut machine = Machine::new(plan, Start::new("r", input, Timestamp::EPOCH));
        on_virtual_clock(&mut machine, Timestamp::EPOCH, |_, _| unreachable!());
        machine.ended().and_then(|e| e.failure.clone()).expect("a failure")
    };
    assert_eq!(failure.detail, "the list has 100001 items; a loop takes at most 100000");
    // More steps than one run may take.
    let nested = "workflow: w\nsteps:\n  - each: x\n    in: list.range(1000)\n    steps: [{each: y, in: list.range(1000), steps: [{note: x}]}]\n";
    let plan = checked(nested).workflows[0].1.clone();
    let mut machine = Machine::new(plan, Start::new("r", Value::object::<&str>([]), Timestamp::EPOCH));
    timed("a million steps, ended at the bound", || {
        on_virtual_clock(&mut machine, Timestamp::EPOCH, |_, _| unreachable!())
    });
    assert_eq!(
        machine.reply().map(|r| r.body.to_json()).as_deref(),
        Some(r#"{"title":"The workflow ran too many steps","status":500}"#)
    );
}

#[test]
fn large_bodies() {
    let text = "workflow: w\ninput: {items: {type: array, items: {type: object, required: [k], properties: {k: {type: string}, n: {type: number}}}}}\nentries: [{endpoint: POST /w, access: open, limits: {body: 16 MiB}}]\nsteps:\n  - reply: 200\n    body: {count: \"${input.items.filter(i => (i.n ?? 0) > 5).length}\"}\n";
    let good = checked(text);
    assert_eq!(codes(&good), Vec::<&str>::new(), "{:?}", good.diagnostics);
    let plan = good.workflows[0].1.clone();
    let item = format!("{{\"k\":\"{}\",\"n\":7}}", "x".repeat(80));
    let body = format!("{{\"items\":[{}]}}", vec![item; 100_000].join(","));
    assert!(body.len() > 9_000_000);
    let input = timed(&format!("read and validate {} MB", body.len() / 1_000_000), || {
        let body = Body::read("application/json", body.as_bytes()).expect("json");
        let parts = Parts { body, ..Parts::default() };
        plan.input.gather(&plan.endpoints[0].input, parts, &|_| None).expect("fits")
    });
    let mut machine = Machine::new(plan, Start::new("r", input, Timestamp::EPOCH));
    timed("run on it", || on_virtual_clock(&mut machine, Timestamp::EPOCH, |_, _| unreachable!()));
    assert_eq!(machine.reply().map(|r| r.body.to_json()).as_deref(), Some(r#"{"count":100000}"#));
}

#[test]
fn deep_nesting() {
    let deep = format!("{}1{}", "[".repeat(200), "]".repeat(200));
    assert!(Body::read("application/json", deep.as_bytes()).is_err(), "JSON deeper than 127 levels");
    // Steps inside steps: as deep as documents nest, then refused.
    let nested = |depth: usize| {
        let mut text = String::from("workflow: w\ninput: {n: {type: integer}}\nsteps:\n");
        for at in 0..depth {
            let gap = "  ".repeat(at * 2 + 1);
            text.push_str(&format!("{gap}- if: input.n > {at}\n{gap}  then:\n"));
        }
        text.push_str(&format!("{}- note: deep\n", "  ".repeat(depth * 2 + 1)));
        text
    };
    let good = checked(&nested(18));
    assert_eq!(codes(&good), Vec::<&str>::new());
    let input = Value::object([("n", Value::Int(100))]);
    let mut machine = Machine::new(good.workflows[0].1.clone(), Start::new("r", input, Timestamp::EPOCH));
    on_virtual_clock(&mut machine, Timestamp::EPOCH, |_, _| unreachable!());
    assert_eq!(machine.records().len(), 19);
    let refused = checked(&nested(200));
    assert!(refused.errors() > 0 && refused.workflows.is_empty(), "{:?}", codes(&refused));
    // Branches inside branches.
    let mut together = String::from("workflow: w\nsteps:\n  - ");
    for _ in 0..14 {
        together.push_str("{together: {a: ");
    }
    together.push_str("{note: deep}");
    together.push_str(&"}}".repeat(14));
    together.push('\n');
    let good = checked(&together);
    assert_eq!(codes(&good), Vec::<&str>::new());
    let start = Start::new("r", Value::object::<&str>([]), Timestamp::EPOCH);
    let mut machine = Machine::new(good.workflows[0].1.clone(), start);
    on_virtual_clock(&mut machine, Timestamp::EPOCH, |_, _| unreachable!());
    assert_eq!(machine.ended().map(|e| e.state), Some(RunState::Succeeded));
}

#[test]
fn long_chains_of_workflows() {
    let mut bundle = Bundle::default();
    for at in 0..20 {
        let next = if at == 0 { "{note: end}".to_owned() } else { format!("{{invoke: w{}}}", at - 1) };
        bundle.add(&format!("{at}.yaml"), &format!("workflow: w{at}\nsteps: [{next}]\n"));
    }
    let checked = check(&bundle);
    assert_eq!(codes(&checked).first(), Some(&"invoke-depth"));
}
