//! Documents of kind `alert` through the checker.

use kanzlei_compiler::check::{Bundle, check};

const WORK: &str = "workflow: work\nentries: [{endpoint: POST /work, access: open}]\nsteps: [{reply: 204}]\n";
const NOTICE: &str = "workflow: notice\ninput: {alerts: {type: array}}\nsteps: [{reply: 200, body: '${input}'}]\n";

/// The codes of the findings of an alert beside these workflows.
fn found(notice: &str, rest: &str) -> Vec<String> {
    let alert = format!("alert: a\nrun: notice\n{rest}\n");
    let texts = [("work.yaml", WORK), ("notice.yaml", notice), ("a.yaml", alert.as_str())];
    let checked = check(&Bundle::of(texts.map(|(path, text)| (path.to_owned(), text.to_owned()))));
    checked.diagnostics.into_iter().map(|one| one.code).collect()
}

#[test]
fn conditions_are_over_the_measures_of_what_is_there() {
    for (rest, code) in [
        ("workflow: work\nwhen: failed > 0", ""),
        (
            "lane: main\nwhen: oldest > 60 && queued > 0\nover: 10 min\nlasting: 2 min\ncalm: 5 min\nrepeat: 1 h\ngroup: g",
            "",
        ),
        ("workflow: other\nwhen: failed > 0", "unknown-workflow"),
        ("lane: mian\nwhen: queued > 0", "unknown-lane"),
        ("service: registry\nwhen: failed > 0", "unknown-service"),
        ("allowance: few\nwhen: used > 0.9", "unknown-allowance"),
        ("timetable: work\nwhen: missed > 0", "unknown-name"),
        ("workflow: work\nwhen: queued > 0", "unknown-name"),
        ("workflow: work\nwhen: failed.length > 0", "unknown-member"),
        ("workflow: work\nwhen: failed >", "expression-syntax"),
        ("workflow: work\nwhen: ${failed > 0}", "expression-syntax"),
        ("workflow: work\nlane: main\nwhen: failed > 0", "wrong-value"),
        ("when: failed > 0", "missing-key"),
        ("workflow: work", "missing-key"),
        ("workflow: work\nwhen: failed > 0\nover: 30s", "wrong-value"),
        ("workflow: notice\nwhen: failed > 0", "wrong-value"),
        ("workflow: work\nwhen: failed > 0\nexamples: [{measures: {failed: 1}, holds: true}, {holds: false}]", ""),
        ("workflow: work\nwhen: failed > 0\nexamples: [{measures: {failed: 1}, holds: false}]", "example-differs"),
        ("workflow: work\nwhen: failed > 0\nexamples: [{measures: {fialed: 1}, holds: false}]", "unknown-name"),
        ("workflow: work\nwhen: failed > 0\nquiet: {from: '06:00', until: '06:00'}", "wrong-value"),
        (
            "workflow: work\nwhen: failed > 0\nquiet: {from: '22:00', until: '06:00', zone: Nowhere/Land}",
            "unknown-zone",
        ),
    ] {
        let wanted: Vec<&str> = if code.is_empty() { Vec::new() } else { vec![code] };
        assert_eq!(found(NOTICE, rest), wanted, "{rest}");
    }
}

#[test]
fn a_notice_fits_the_input_of_its_workflow() {
    let rest = "workflow: work\nwhen: failed > 0";
    for (input, fits) in [
        ("{alerts: {type: array}}", true),
        ("{alerts: {type: array, items: {type: object, required: [alert, state, measures, since]}}}", true),
        ("{n: {type: integer, default: 1}}", true),
        ("{n: {type: integer}}", false),
        ("{alerts: {type: object}}", false),
        ("{alerts: {type: array, items: {type: object, required: [why]}}}", false),
    ] {
        let notice = NOTICE.replace("{alerts: {type: array}}", input);
        assert_eq!(found(&notice, rest).is_empty(), fits, "{input}: {:?}", found(&notice, rest));
    }
}
