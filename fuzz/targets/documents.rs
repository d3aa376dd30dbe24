//! Any bytes as a workflow beside the demo's services: never a panic, positions inside the text, and what
//! passes the check runs to an end on dull answers.
#![no_main]

use kanzlei_core::check::{Bundle, check};
use kanzlei_core::machine::{Answer, Effect, Kept, Machine, Outcome, Rows, Start};
use kanzlei_core::rehearse::drive;
use kanzlei_core::value::Value;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let mut bundle = Bundle::default();
    for (name, service, api) in [
        ("registry", include_str!("../../demo/harbour/services/registry.yaml"), include_str!("../../demo/harbour/services/registry.openapi.yaml")),
        ("tides", include_str!("../../demo/harbour/services/tides.yaml"), include_str!("../../demo/harbour/services/tides.openapi.yaml")),
    ] {
        bundle.add(&format!("services/{name}.yaml"), service);
        bundle.files.insert(format!("services/{name}.openapi.yaml"), api.to_owned());
    }
    bundle.add("w.yaml", text);
    let checked = check(&bundle);
    for found in &checked.diagnostics {
        assert!(found.start <= found.end && found.line > 0 && found.column > 0);
    }
    let _ = kanzlei_core::openapi::document(checked.workflows.iter().map(|(_, plan)| &**plan), "http://localhost");
    for (_, plan) in &checked.workflows {
        let input = Value::object([("imo", Value::text("9074729")), ("n", Value::Int(1))]);
        let start = Start { id: "fuzz".into(), input, now: 0, caller: None, attempt: 1 };
        let mut machine = Machine::new(plan.clone(), start);
        drive(&mut machine, 0, |effect, _| {
            let outcome = match effect {
                Effect::Call(_) => Outcome::Called(Ok(Answer {
                    status: 200,
                    headers: vec![("content-type".into(), "application/json".into())],
                    body: b"{\"name\":\"x\",\"length_m\":1,\"window\":{}}".to_vec(),
                })),
                Effect::Query(query) => Outcome::Queried(Ok(vec![Rows::default(); query.statements.len()])),
                Effect::Wait { .. } => Outcome::Waited,
                Effect::Recall { .. } => {
                    Outcome::Kept(Ok(Kept { version: 0, values: Value::object::<&str>([]), stored: false }))
                }
                Effect::Keep(keep) => {
                    Outcome::Kept(Ok(Kept { version: keep.version + 1, values: keep.values.clone(), stored: true }))
                }
            };
            (1000, outcome)
        });
        assert!(machine.ended().is_some(), "a run that does not end");
    }
});
