//! `cargo xtask bench language`: checking, loops and rehearsal, in this process.

use std::hint::black_box;
use std::time::Instant;

use kanzlei_analysis::{Workspace, complete, hover};
use kanzlei_compiler::check::{Bundle, check};
use kanzlei_engine::driver::on_virtual_clock;
use kanzlei_engine::machine::{Machine, Start};
use kanzlei_model::time::Timestamp;
use kanzlei_model::value::Value;
use serde_json::{Value as Json, json};

/// Milliseconds: the median of `rounds`.
fn time<T>(rounds: usize, mut round: impl FnMut() -> T) -> f64 {
    let mut times: Vec<f64> = (0..rounds)
        .map(|_| {
            let begun = Instant::now();
            black_box(round());
            begun.elapsed().as_secs_f64() * 1000.0
        })
        .collect();
    times.sort_by(f64::total_cmp);
    times[times.len() / 2]
}

/// The services of the demo office, three of them.
fn services() -> Bundle {
    let mut bundle = Bundle::default();
    for (name, service, api) in [
        (
            "registry",
            include_str!("../../../../demo/harbour/services/registry.yaml"),
            include_str!("../../../../demo/harbour/services/registry.openapi.yaml"),
        ),
        (
            "tides",
            include_str!("../../../../demo/harbour/services/tides.yaml"),
            include_str!("../../../../demo/harbour/services/tides.openapi.yaml"),
        ),
        (
            "pilots",
            include_str!("../../../../demo/harbour/services/pilots.yaml"),
            include_str!("../../../../demo/harbour/services/pilots.openapi.yaml"),
        ),
    ] {
        bundle.add(&format!("services/{name}.yaml"), service);
        bundle.files.insert(format!("services/{name}.openapi.yaml"), api.to_owned());
    }
    bundle.add("services/identity.yaml", include_str!("../../../../demo/harbour/services/identity.yaml"));
    bundle
}

/// A workflow of `groups` times five steps, with calls, branches and loops.
fn long(groups: usize) -> String {
    let mut text = String::from(
        "workflow: long\ninput: {imo: {type: string}, n: {type: integer}}\nentries: [{endpoint: GET /long, access: open}]\nsteps:\n",
    );
    for at in 0..groups {
        text.push_str(&format!(
            "  - {{id: v{at}, call: registry.getVessel, send: {{imo: \"${{input.imo}}\"}}, accept: [200, 404]}}\n  - if: v{at}.status === 404\n    then: [{{fail: 422, detail: \"${{v{at}.body.title ?? ''}}\"}}]\n  - let: {{d{at}: \"${{Math.round(v{at}.body.length_m * 3.2 * input.n) / 100}}\"}}\n  - each: r{at}\n    in: list.range(3)\n    steps: [{{let: {{x{at}: \"${{r{at} * d{at}}}\"}}}}]\n"
        ));
    }
    text.push_str("  - reply: 200\n    body: ${d0}\n");
    text
}

/// What editors ask about a workflow of 200 steps beside three OpenAPI documents, each time behind a change of the text.
fn editing() {
    let text = long(40);
    let mut texts: Vec<(String, String)> = services().files.into_iter().collect();
    texts.extend(services().documents.into_iter().map(|source| (source.path, source.text)));
    texts.push(("long.yaml".into(), text.clone()));
    let mut workspace = Workspace::of(texts);
    let marked = text.replace("body: ${d0}", "body: ${v20.body.}");
    let at = marked.find("v20.body.}").map_or(0, |at| at + 9);
    let mut turn = 0;
    let mut typed = |workspace: &mut Workspace| {
        turn += 1;
        workspace.set("long.yaml", &format!("{marked}# {turn}\n"));
    };
    let completion = time(15, || {
        typed(&mut workspace);
        complete::at(&workspace, "long.yaml", at)
    });
    let hovered = time(15, || hover::at(&workspace, "long.yaml", at - 2));
    let found = time(15, || {
        typed(&mut workspace);
        workspace.diagnostics("long.yaml")
    });
    let names = time(15, || {
        typed(&mut workspace);
        complete::at(&workspace, "long.yaml", at - "v20.body.".len())
    });
    println!("{:<52} {completion:>9.2} ms   (wanted under 15)", "completion of a member in 200 steps, behind a change");
    println!("{:<52} {names:>9.2} ms   (wanted under 15)", "completion of a name, of 200 in scope");
    println!("{:<52} {hovered:>9.2} ms   (wanted under 15)", "hover in 200 steps");
    println!("{:<52} {found:>9.2} ms   (wanted under 30)", "findings of 200 steps, behind a change");
}

fn main() {
    let mut bundle = services();
    bundle.add("long.yaml", &long(33));
    let checked = check(&bundle);
    let steps = checked.workflows.first().map_or(0, |(_, plan)| plan.sheet.len());
    println!(
        "{:<52} {:>9.2} ms   (wanted under 50; {} findings)",
        format!("check, {steps} steps and three OpenAPI documents"),
        time(15, || check(&bundle)),
        checked.diagnostics.len()
    );

    editing();

    let mut many = services();
    for at in 0..500 {
        let text =
            long(2).replace("workflow: long", &format!("workflow: long-{at}")).replace("/long", &format!("/long/{at}"));
        many.add(&format!("{at}.yaml"), &text);
    }
    println!("{:<52} {:>9.2} ms", "check, 500 workflows of 13 steps", time(5, || check(&many)));

    let mut loops = Bundle::default();
    loops.add("w.yaml", "workflow: w\ninput: {list: {type: array, items: {type: object, required: [n], properties: {n: {type: number}}}}}\nsteps:\n  - each: item\n    in: input.list\n    id: all\n    steps: [{let: {square: \"${item.n * item.n}\"}}]\n    collect: {n: \"${item.n}\", square: \"${square}\"}\n  - reply: 200\n    body: {sum: \"${list.sum(all, x => x.square)}\"}\n");
    let checked = check(&loops);
    let Some((_, plan)) = checked.workflows.first() else { return println!("{:?}", checked.diagnostics) };
    let items: Vec<Json> = (0..10_000).map(|n| json!({"n": n})).collect();
    let input = Value::from_json(&json!({"list": items}));
    let ours = time(9, || {
        let mut machine = Machine::new(plan.clone(), Start::new("b", input.clone(), Timestamp::EPOCH));
        on_virtual_clock(&mut machine, Timestamp::EPOCH, |_, _| unreachable!());
        machine.reply().map(|reply| reply.body.to_json())
    });
    let hand = time(9, || {
        let all: Vec<Json> = items
            .iter()
            .map(|item| {
                let n = item["n"].as_f64().unwrap_or(f64::NAN);
                json!({"n": n, "square": n * n})
            })
            .collect();
        json!({"sum": all.iter().filter_map(|x| x["square"].as_f64()).sum::<f64>()}).to_string()
    });
    println!(
        "{:<52} {ours:>9.2} ms   by hand over JSON {hand:.2} ms, ratio {:.1}",
        "each over 10,000 items, recorded step by step",
        ours / hand
    );

    let mut cases = services();
    cases.add("w.yaml", "workflow: w\ninput: {imo: {type: string}}\nsteps:\n  - {id: v, call: registry.getVessel, send: {imo: \"${input.imo}\"}, accept: [200, 404]}\n  - if: v.status === 404\n    then: [{fail: 422}]\n  - reply: 200\n    body: {name: \"${v.body.name}\"}\n");
    let mut text = String::from(
        "cases: w\nstubs:\n  registry.getVessel: {body: {imo: \"1\", name: Havbris, kind: cargo, length_m: 132, draught_m: 6.2, flag: LIN}}\nexamples:\n",
    );
    for at in 0..5000 {
        text.push_str(&format!("  - {{name: c{at}, input: {{imo: \"{at}\"}}, expect: {{reply: {{status: 200, body: {{name: Havbris}}}}}}}}\n"));
    }
    cases.add("one.yaml", &text);
    cases.add("two.yaml", &text);
    let begun = Instant::now();
    let (_, rehearsals) = kanzlei_rehearsal::check(&cases);
    let read = begun.elapsed();
    let passed = rehearsals.iter().flat_map(|p| (0..p.len()).map(|at| p.run(at))).filter(|r| r.passed()).count();
    println!(
        "{:<52} {:>9.2} ms   (wanted under 10,000; reading them {:.0} ms; {passed} passed)",
        "rehearse 10,000 cases on one core",
        begun.elapsed().as_secs_f64() * 1000.0,
        read.as_secs_f64() * 1000.0
    );
}
