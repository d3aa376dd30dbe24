//! Declarations, uses and renames over the documents of the demo office.

use kanzlei_lang::edit::apply;

use super::office;
use crate::{Workspace, symbols};

fn lines(workspace: &Workspace, found: &[symbols::Location]) -> Vec<String> {
    let line = |one: &symbols::Location| {
        let text = workspace.text(&one.path).expect("its text");
        let start = text[..one.range.start as usize].rfind('\n').map_or(0, |at| at + 1);
        let line = text[start..].lines().next().unwrap_or_default().trim();
        format!("{}: {line}", one.path)
    };
    found.iter().map(line).collect()
}

#[test]
fn names_lead_to_their_declarations() {
    let head = "workflow: w\ninput:\n  imo: {type: string}\nfunctions:\n  double: \"n => n * 2\"\nsteps:\n  - id: vessel\n    call: registry.getVessel\n    send: {imo: \"${input.imo}\"}\n";
    for (typed, wanted) in [
        ("  - note: ${ves|sel.status}\n", "workflows/w.yaml: - id: vessel"),
        ("  - note: ${input.i|mo}\n", "workflows/w.yaml: imo: {type: string}"),
        ("  - note: ${dou|ble(2)}\n", "workflows/w.yaml: double: \"n => n * 2\""),
        ("  - invoke: vessel-d|ues\n    send: {imo: \"1\"}\n", "workflows/vessel-dues.yaml: workflow: vessel-dues"),
        (
            "  - invoke: vessel-dues\n    send: {i|mo: \"1\"}\n",
            "workflows/vessel-dues.yaml: imo:    {type: string, pattern: \"^[0-9]{7}$\"}",
        ),
        (
            "  - call: registry.getV|essel\n    send: {imo: \"1\"}\n",
            "services/registry.openapi.yaml: operationId: getVessel",
        ),
        ("  - call: regi|stry.getVessel\n    send: {imo: \"1\"}\n", "services/registry.yaml: service: registry"),
        ("  - enqueue: dues-reminder\n    lane: remin|ders\n", "lanes/reminders.yaml: lane: reminders"),
        (
            "  - note: ${settings.remind_f|rom}\n",
            "settings/office.yaml: remind_from:    {type: number, minimum: 0, default: 0, description: Open bills below this many euros are not reminded of}",
        ),
    ] {
        let (workspace, at) = office("workflows/w.yaml", &format!("{head}{typed}"));
        let found = symbols::definition(&workspace, "workflows/w.yaml", at);
        assert_eq!(lines(&workspace, &found), [wanted], "{typed}");
    }
    // Into a library, and within it.
    let user = "workflow: w\nuse: [harbour-rules]\nsteps:\n";
    for (path, text, wanted) in [
        ("workflows/w.yaml", format!("{user}  - note: ${{du|es(2, 1)}}\n"), "libraries/harbour-rules.yaml: dues: \"(length, nights) => Math.round(length * 3.2 * nights * 100) / 100\""),
        ("workflows/w.yaml", format!("{user}  - {{invoke: harbour-rules.known|Vessel, send: {{imo: '1'}}}}\n"), "libraries/harbour-rules.yaml: knownVessel:"),
        ("workflows/w.yaml", format!("{user}  - {{invoke: harbour-ru|les.knownVessel, send: {{imo: '1'}}}}\n"), "libraries/harbour-rules.yaml: library: harbour-rules"),
        ("workflows/w.yaml", format!("{user}  - {{invoke: harbour-rules.knownVessel, send: {{i|mo: '1'}}}}\n"), "libraries/harbour-rules.yaml: imo: {type: string}"),
        ("workflows/w.yaml", format!("{}  - note: a\n", user.replace("harbour-r", "harbour-r|")), "libraries/harbour-rules.yaml: library: harbour-rules"),
        ("libraries/l.yaml", "library: l\nfunctions: {twice: n => n * 2}\ngroups: {g: {input: {n: {type: number}}, steps: [{note: \"${tw|ice(input.n)}\"}]}}\n".to_owned(), "libraries/l.yaml: functions: {twice: n => n * 2}"),
    ] {
        let (workspace, at) = office(path, &text);
        let found = symbols::definition(&workspace, path, at);
        assert_eq!(lines(&workspace, &found), [wanted], "{text}");
    }
}

#[test]
fn uses_are_found_in_all_documents() {
    let workspace = Workspace::of(kanzlei_samples::demo());
    let at = |path: &str, text: &str| workspace.text(path).expect("a text").find(text).expect(text) + 1;
    let path = "workflows/vessel-dues.yaml";
    let found = symbols::references(&workspace, path, at(path, "vessel-dues"), false);
    let paths: Vec<&str> = found.iter().map(|one| one.path.as_str()).collect();
    assert!(paths.contains(&"workflows/stay-bill.yaml") && paths.contains(&"cases/vessel-dues.yaml"), "{paths:?}");
    let tide = symbols::references(
        &workspace,
        "workflows/berth-quote.yaml",
        at("workflows/berth-quote.yaml", "tide\n    call"),
        true,
    );
    let shown = lines(&workspace, &tide).join("\n");
    assert!(shown.contains("- id: tide") && shown.contains("tide: ${tide.body.window}"), "{shown}");
}

#[test]
fn renames_reach_every_use_and_break_nothing() {
    let workspace = Workspace::of(kanzlei_samples::demo());
    let at = |path: &str, text: &str| workspace.text(path).expect("a text").find(text).expect(text) + 1;
    for (path, text, new, changed, left) in [
        ("workflows/vessel-dues.yaml", "vessel-dues", "ship-dues", "workflows/stay-bill.yaml", "invoke: vessel-dues"),
        ("workflows/berth-quote.yaml", "tide\n    call", "window", "workflows/berth-quote.yaml", "${tide."),
        ("workflows/berth-quote.yaml", "imo:  ", "number", "cases/berth-quote.yaml", "body: {imo: \"9074720\", arr"),
        ("workflows/berth-quote.yaml", "harbour:  {", "port", "workflows/berth-quote.yaml", "{harbour}"),
        ("workflows/harbour-tides.yaml", "draught: ", "depth", "cases/harbour-tides.yaml", "?draught="),
        ("services/registry.yaml", "registry", "vessels", "workflows/berth-quote.yaml", "registry.getVessel"),
        ("lanes/reminders.yaml", "reminders", "mails", "lanes/reminders.yaml", "lane: reminders"),
        ("settings/office.yaml", "reminders_pace", "pace_of_mails", "lanes/reminders.yaml", "settings.reminders_pace"),
        ("libraries/harbour-rules.yaml", "validIban", "soundIban", "workflows/bank-statement.yaml", "validIban"),
        ("libraries/harbour-rules.yaml", "knownVessel", "found", "workflows/berth-quote-v2.yaml", "knownVessel"),
        ("libraries/harbour-rules.yaml", "harbour-rules", "rules", "workflows/berth-quote-v2.yaml", "harbour-rules"),
        ("settings/office.yaml", "remind_from", "least", "workflows/dues-reminder.yaml", "settings.remind_from"),
    ] {
        let edits = symbols::rename(&workspace, path, at(path, text), new)
            .unwrap_or_else(|why| panic!("{path} {text}: {why:?}"));
        let mut renamed = Workspace::of(kanzlei_samples::demo());
        for (path, edits) in &edits {
            renamed.set(path, &apply(workspace.text(path).expect("a text"), edits).expect("edits"));
        }
        let after = renamed.text(changed).expect("a text");
        assert!(edits.contains_key(changed) && !after.contains(left), "{path} {text}:\n{after}");
        let errors: Vec<String> =
            renamed.all_diagnostics().iter().map(|one| format!("{}: {}", one.path, one.message)).collect();
        assert_eq!(
            errors,
            workspace.all_diagnostics().iter().map(|one| format!("{}: {}", one.path, one.message)).collect::<Vec<_>>()
        );
    }
    for (path, text, new, says) in [
        ("workflows/berth-quote.yaml", "tide\n    call", "vessel", "it would break"),
        ("workflows/berth-quote.yaml", "tide\n    call", "a-b", "cannot be its name"),
        ("workflows/berth-quote.yaml", "getVessel", "get", "change in its description"),
        ("workflows/berth-quote.yaml", "about", "x", "nothing with a name"),
    ] {
        let refused = symbols::rename(&workspace, path, at(path, text), new).expect_err(says);
        assert!(refused.0.contains(says), "{refused:?}");
    }
}
