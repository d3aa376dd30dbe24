//! What a step of a past run knew when it began: the run is made again from what it recorded, up to that step.
//!
//! Values that were masked or cut when the run was recorded are masked or cut here too, and so is what is evaluated over
//! them.
//!
//! ```
//! use kanzlei_compiler::check::{Bundle, check};
//! use kanzlei_rehearsal::{known::known_at, record::Past};
//! let text = "workflow: w\nsteps: [{let: {dues: 3}}, {reply: 200, body: \"${dues}\"}]\n";
//! let checked = check(&Bundle::of([("w.yaml".to_owned(), text.to_owned())]));
//! let past = Past { workflow: "w".into(), state: "succeeded".into(), ..Past::default() };
//! let seen = known_at(&past, &checked, "2", None).unwrap();
//! assert_eq!(seen.evaluate("dues + 1").unwrap().to_json(), "4");
//! ```

use kanzlei_compiler::check::Checked;
use kanzlei_engine::machine::Seen;
use kanzlei_lang::document::{self, Document, Source};

use super::prepare_stubs;
use super::record::{self, Past};

/// What the step of this number knew; `items` are its positions in the loops around it, the first time by default. The
/// workflows must be those that the run was made of. An error says why that is not known.
pub fn known_at(past: &Past, checked: &Checked, number: &str, items: Option<Vec<u32>>) -> Result<Seen, String> {
    let source = Source::new("past.yaml", record::for_retrace(past));
    let (read, _) = document::read(&source, &|_| None);
    let prepared = match &read {
        Some(Document::Cases(cases)) => prepare_stubs(&source, cases, checked).0,
        _ => None,
    };
    let prepared = prepared.filter(|prepared| !prepared.is_empty());
    let prepared = prepared.ok_or("the run cannot be made again from what is recorded of it")?;
    let (result, machine) = prepared.play_past(0, past, Some((number, items)));
    let machine = machine.ok_or("its input is not accepted any more")?;
    if let Some(seen) = machine.seen() {
        return Ok(seen.clone());
    }
    Err(match result.missing_stubs.is_empty() {
        true => format!("the run did not get to a step {number} there"),
        false => format!("the run cannot be made again up to step {number}: what it recorded does not fit its text"),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check;
    use crate::record::tests::past;
    use kanzlei_compiler::check::Bundle;

    const WORKFLOW: &str = r#"workflow: w
input: {nights: {type: integer}}
functions: {twice: "n => n * 2"}
steps:
  - let: {dues: "${twice(input.nights)}"}
  - each: x
    in: "['a', 'b', 'c']"
    at_once: 2
    steps:
      - {let: {sum: "${x + dues}"}}
      - {note: "${sum}"}
  - {id: child, invoke: inner, send: {n: "${input.nights}"}}
  - call: s.get
    catch: [{note: "${failure.kind}"}]
  - {when: false, note: never}
  - {reply: 200, body: "${child}"}
"#;
    const INNER: &str = "workflow: inner\ninput: {n: {type: integer}}\nsteps: [{let: {m: \"${input.n + 1}\"}}, {reply: 200, body: \"${m}\"}]\n";
    const CASES: &str = "cases: w\nexamples: [{name: a, input: {nights: 3}, stubs: {s.get: {fails: timeout}}, expect: {state: succeeded}}]\n";

    const SERVICE: &str = "service: s\nbase: http://s\nopenapi: api.yaml\n";
    const API: &str = "openapi: 3.1.0\npaths: {/v: {get: {operationId: get, responses: {'200': {description: ok}}}}}\n";

    #[test]
    fn steps_know_what_they_knew_in_loops_and_invoked_workflows_too() {
        let mut bundle = Bundle::default();
        for (path, text) in [("w.yaml", WORKFLOW), ("inner.yaml", INNER), ("c.yaml", CASES), ("s.yaml", SERVICE)] {
            bundle.add(path, text);
        }
        bundle.files.insert("api.yaml".into(), API.into());
        let (checked, rehearsals) = check(&bundle);
        assert_eq!(checked.errors(), 0, "{:?}", checked.diagnostics);
        let (_, machine) = rehearsals[0].play(0, None);
        let past = past(&machine.expect("a run"), &rehearsals[0], 0);
        // The step, its positions, what is evaluated there, its value or what is said.
        for (number, items, expression, value) in [
            ("1", None, "input.nights", "3"),
            ("1", None, "dues", "`dues`"),
            ("2.2", Some(vec![2]), "[x, sum]", r#"["c","c6"]"#),
            ("2.2", None, "sum + twice(4)", r#""a68""#),
            ("3.2", None, "[m, input]", r#"[4,{"n":3}]"#),
            ("4", None, "dues", "6"),
            ("4", None, "child.body ?? child", "4"),
            ("4.1", None, "failure.kind", "timeout"),
            ("5", None, "failure", "no `failure` here"),
            ("5", None, "1 +", "expression"),
            ("2.2", Some(vec![9]), "x", "did not get to"),
            ("7", None, "x", "did not get to"),
        ] {
            let seen = known_at(&past, &checked, number, items.clone());
            let found = seen.and_then(|seen| seen.evaluate(expression)).map(|value| value.to_json());
            let found = found.unwrap_or_else(|why| why);
            assert!(found == value || found.contains(value), "{number} {items:?} {expression}: {found}");
        }
        let seen = known_at(&past, &checked, "2.2", Some(vec![1])).expect("a step");
        let names: Vec<String> = seen.names().map(|(name, value)| format!("{name} {}", value.to_json())).collect();
        assert_eq!(names, [r#"input {"nights":3}"#, "dues 6", r#"x "b""#, r#"sum "b6""#]);
    }
}
