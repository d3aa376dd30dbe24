//! Steps that differ between two texts, and what clients see of it.

use kanzlei_compiler::check::{Bundle, check};

use crate::compare::{self, Changed};

const BEFORE: &str = "workflow: w
input: {imo: {type: string}, nights: {type: integer, maximum: 30, default: 1}}
entries: [{endpoint: POST /quotes, access: open}]
steps:
  - note: first
  - id: a
    call: GET http://s.example/a
  - if: input.nights > 1
    then:
      - note: inner
  - reply: 200
    body: {imo: \"${input.imo}\", nights: \"${input.nights}\"}
";

#[test]
fn steps_are_compared_by_what_they_are() {
    for (from, to, wanted) in [
        ("note: first", "note: another", "changed 1>1 note: first>another"),
        (
            "GET http://s.example/a",
            "GET http://s.example/b",
            "changed 2>2 call: GET http://s.example/a>GET http://s.example/b",
        ),
        ("      - note: inner\n", "      - note: inner\n      - note: more\n", "added >3.2"),
        ("  - note: first\n", "", "removed 1>"),
        ("http://s.example/a\n", "http://s.example/a\n    within: 2s\n", "changed 2>2 within: >2s"),
        (
            "  - note: first\n  - id: a\n    call: GET http://s.example/a\n",
            "  - id: a\n    call: GET http://s.example/a\n  - note: first\n",
            "moved 2>1",
        ),
        ("# nothing", "", ""),
    ] {
        let after = BEFORE.replace(from, to);
        let found = compare::steps_of(BEFORE, &after);
        let shown: Vec<String> = found
            .iter()
            .map(|one| {
                let change = match one.change {
                    Changed::Added => "added",
                    Changed::Removed => "removed",
                    Changed::Changed => "changed",
                    Changed::Moved => "moved",
                };
                let rows: Vec<String> =
                    one.rows.iter().map(|row| format!(" {}: {}>{}", row.key, row.before, row.after)).collect();
                format!("{change} {}>{}{}", one.before, one.after, rows.concat())
            })
            .collect();
        assert_eq!(shown.join(", "), wanted, "{from} to {to}");
    }
}

#[test]
fn what_breaks_clients_is_told_from_what_does_not() {
    let plan = |text: &str| {
        let mut bundle = Bundle::default();
        bundle.add("s.yaml", "service: s\nbase: http://s.example\n");
        bundle.add("w.yaml", text);
        let checked = check(&bundle);
        checked.plan("w").unwrap_or_else(|| panic!("{:?}", checked.diagnostics)).clone()
    };
    for (from, to, breaking, says) in [
        ("/quotes", "/offers", true, "`POST /quotes` is no longer there"),
        ("access: open}", "access: open}, {endpoint: GET /quotes, access: open}", false, "`GET /quotes` is new"),
        ("access: open}", "access: key}", true, "`POST /quotes` wants a key now"),
        ("{type: string}", "{type: integer}", true, "`imo` does not accept what it did"),
        ("maximum: 30", "maximum: 20", true, "`nights` accepts less"),
        (", default: 1", "", true, "`nights` is required now"),
        (
            "{type: string}",
            "{type: string}, flag: {type: string, optional: true}",
            false,
            "`flag` is new, and optional",
        ),
        ("{type: string}", "{type: string}, flag: {type: string}", true, "`flag` is new, and required"),
        (", nights: \"${input.nights}\"", "", true, "no longer has `/nights`"),
        ("{imo: \"${input.imo}\"", "{more: 1, imo: \"${input.imo}\"", false, "the body of 200 is"),
        ("reply: 200", "reply: 201", true, "200 is no longer answered"),
        ("nights: \"${input.nights}\"}", "nights: \"${input.imo}\"}", true, "may be a string now at `/nights`"),
    ] {
        assert!(BEFORE.contains(from), "{from}");
        let found = compare::clients(&plan(BEFORE), &plan(&BEFORE.replace(from, to)));
        let fits = found.iter().any(|one| one.breaking == breaking && one.text.contains(says));
        assert!(fits, "{from} to {to}: {found:?}");
    }
    assert_eq!(compare::clients(&plan(BEFORE), &plan(BEFORE)), []);
}

#[test]
fn long_texts_are_compared_too() {
    let steps = |word: &str| -> String { (0..20_000).map(|n| format!("- note: {word} {n}\n")).collect() };
    let keys = |value: u32| -> String { (0..20_000).map(|n| format!("  k{n}: {value}\n")).collect() };
    let of = |steps: String| format!("workflow: w\nsteps:\n{steps}");
    // Nothing is left, all is new; one half went away; one step with very many keys.
    for (before, after, wanted) in [
        (of(steps("a")), of("- {reply: 200}\n".into()), 20_001),
        (of(steps("a") + &steps("b")), of(steps("b")), 20_000),
        (of(format!("- note: x\n{}", keys(1))), of(format!("- note: x\n{}", keys(2))), 1),
    ] {
        assert_eq!(compare::steps_of(&before, &after).len(), wanted);
    }
}
