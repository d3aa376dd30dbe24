//! What the fuzz targets share: the demo office as documents to refer to, and dull outcomes for effects.

pub mod requests;

use std::sync::OnceLock;

use kanzlei_compiler::check::Bundle;
use kanzlei_compiler::plan::Plan;
use kanzlei_engine::driver::on_virtual_clock;
use kanzlei_engine::machine::{
    Address, Answer, Arrival, Batch, Cancellation, Effect, Kept, Machine, Outcome, Queued, Rows, Start,
};
use kanzlei_lang::document::{self, Source};
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_model::value::Value;

/// Workflows that others of the demo invoke or queue.
const CHILDREN: [&str; 4] = ["vessel-dues", "hold-watch", "dues-reminder", "arrival-follow-up"];

/// A bundle in which the demo's services, lanes, settings and these workflows can be referred to.
pub fn office(workflows: &[&str]) -> Bundle {
    static READ: OnceLock<Bundle> = OnceLock::new();
    let all = READ.get_or_init(|| {
        let root = concat!(env!("CARGO_MANIFEST_DIR"), "/../demo/harbour");
        let mut bundle = Bundle::default();
        for folder in ["services", "lanes", "settings", "databases", "workflows"] {
            for entry in std::fs::read_dir(format!("{root}/{folder}")).expect("the demo office") {
                let path = entry.expect("an entry").path();
                if path.is_dir() {
                    continue;
                }
                let name = format!("{folder}/{}", path.file_name().expect("a name").to_string_lossy());
                let text = std::fs::read_to_string(&path).expect("text");
                if document::kind_of(&text).is_some() {
                    bundle.context.push(Source::new(name, text));
                } else {
                    bundle.files.insert(name, text);
                }
            }
        }
        bundle
    });
    let mut bundle = all.clone();
    let wanted = |path: &str| match path.strip_prefix("workflows/") {
        Some(file) => workflows.iter().any(|name| file.strip_suffix(".yaml") == Some(*name)),
        None => true,
    };
    bundle.context.retain(|source| wanted(&source.path));
    bundle
}

/// As much of the demo office as a document speaks of; all of it each time would be slow.
pub fn office_around(text: &str) -> Bundle {
    let spoken_of = |name: &str| text.contains(name);
    let children: Vec<&str> =
        CHILDREN.into_iter().filter(|name| spoken_of(name) && !text.contains(&format!("workflow: {name}"))).collect();
    let mut bundle = office(&children);
    let own = |source: &Source| {
        let file = source.path.rsplit('/').next().unwrap_or_default();
        !source.path.starts_with("services/") || !children.is_empty() || spoken_of(file.trim_end_matches(".yaml"))
    };
    bundle.context.retain(own);
    bundle
}

/// Runs a plan to its end on outcomes that are as plain as can be.
pub fn run_dully(plan: &std::sync::Arc<Plan>) {
    let input = Value::object([("imo", Value::text("9074720")), ("n", Value::Int(1))]);
    let start = Start::new("fuzz", input, Timestamp::EPOCH);
    let mut machine = Machine::new(plan.clone(), start);
    on_virtual_clock(&mut machine, Timestamp::EPOCH, |effect, _| (Span::from_micros(1000), dull(effect)));
    assert!(machine.ended().is_some(), "a run that does not end");
}

fn dull(effect: &Effect) -> Outcome {
    match effect {
        Effect::Call(_) => Outcome::Called(Ok(Answer {
            status: 200,
            headers: vec![("content-type".into(), "application/json".into())],
            body: b"{\"name\":\"x\",\"length_m\":1,\"window\":{},\"pages\":2,\"items\":[{\"id\":1}]}".to_vec().into(),
        })),
        Effect::Query(query) => {
            let row = Value::object([("id", Value::Int(1)), ("state", Value::text("held"))]);
            Outcome::Queried(Ok(vec![Rows { rows: vec![row], count: 1, id: Some(1) }; query.statements.len()]))
        }
        Effect::File(_) | Effect::Mail(_) => Outcome::Filed(Ok(Value::list(Vec::new()))),
        Effect::Rows(_) => {
            let rows = vec![Value::object([("id", Value::Int(1))])];
            Outcome::Rows(Ok(Batch { rows, count: 1, last: true }))
        }
        Effect::Wait { .. } => Outcome::Waited,
        Effect::Recall { .. } => {
            Outcome::Kept(Ok(Kept { version: 0, values: Value::object::<&str>([]), stored: false }))
        }
        Effect::Keep(keep) => {
            Outcome::Kept(Ok(Kept { version: keep.version + 1, values: keep.values.clone(), stored: true }))
        }
        Effect::Enqueue(enqueue) => {
            let ids = (0..enqueue.jobs.len()).map(|at| format!("j{at}")).collect();
            Outcome::Queued(Ok(Queued { ids, group: None, base: "http://localhost/~/jobs".into() }))
        }
        Effect::Cancel(_) => Outcome::Cancelled(Ok(Cancellation::default())),
        Effect::Wake(_) => Outcome::Woken(Ok(None)),
        Effect::Open { .. } => Outcome::Opened(Ok(Address { id: "c".into(), url: "http://localhost/c".into() })),
        Effect::Await { until, .. } => Outcome::Arrived(
            until
                .is_none()
                .then(|| Arrival { media: "application/json".into(), body: b"{\"decision\":\"granted\"}".to_vec() }),
        ),
    }
}
