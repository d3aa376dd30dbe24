//! Dates, instants and spans: which of them a place accepts, and what is reported of the others.

use kanzlei_compiler::check::{Bundle, check};

/// What the check says of steps over the inputs `day`, `at`, `span` and `text`.
fn reported(steps: &str) -> Vec<(String, String)> {
    let mut bundle = Bundle::default();
    bundle.add("later.yaml", "workflow: later\ninput: {at: {type: string, format: date-time, default: '2027-03-04T06:00:00Z'}}\nsteps: [{reply: 204}]\n");
    let inputs = "  day: {type: string, format: date}\n  at: {type: string, format: date-time}\n  span: {type: string, format: duration}\n  text: {type: string}\n";
    let head = "entries: [{endpoint: POST /w, access: open, answer: later}]";
    bundle.add("w.yaml", &format!("workflow: w\ninput:\n{inputs}{head}\nsteps:\n{steps}\n"));
    let found = check(&bundle).diagnostics.into_iter().filter(|found| found.code != "unused-input");
    found.map(|found| (found.code, found.message)).collect()
}

#[test]
fn every_place_takes_its_own_kind_of_time() {
    for (steps, says) in [
        ("  - note: ${time.add(input.at, '2 days')}", ""),
        ("  - note: ${time.add(input.at, input.span)}", ""),
        ("  - note: ${time.between(input.at, time.startOf(run.started, 'day'))}", ""),
        ("  - note: ${time.add(`${input.day}T00:00:00Z`, 'P1M')}", ""),
        ("  - note: ${time.add(input.text, input.text)}", ""),
        ("  - note: ${time.week(time.add(input.day, '2 days'))}", ""),
        ("  - note: ${time.in(input.day, 'Europe/Oslo')}", "`input.day`: this is a date, and an instant"),
        ("  - note: ${time.week(input.at)}", "`input.at`: this is an instant, and a date"),
        ("  - note: ${time.toUnix('tomorrow')}", "this is 'tomorrow', and an instant"),
        ("  - note: ${time.add(input.at, 'soon')}", "this is 'soon', and a span"),
        ("  - note: ${time.add(input.at, input.at)}", "this is an instant, and a span"),
        ("  - note: \"${input.day === input.at ? 'a' : 'b'}\"", "a date is compared with an instant"),
        ("  - pause: ${input.span}", ""),
        ("  - pause: ${input.text}", ""),
        ("  - pause: ${input.day}", "this is a date, and a span"),
        ("  - pause: 5", "this is a number, and a span"),
        ("  - pause: soon", "this is 'soon', and a span"),
        ("  - pause: 1 month", "`1 month` has no exact length"),
        ("  - pause: \"${input.text === 'a' ? '2h' : undefined}\"", "this may be undefined"),
        ("  - pause: {until: '${input.at}'}", ""),
        ("  - pause: {until: '${input.day}'}", "this is a date, and an instant"),
        ("  - pause: {until: 2h}", "this is '2h', and an instant"),
        ("  - enqueue: later\n    after: ${input.span}", ""),
        ("  - enqueue: later\n    after: ${input.at}", "this is an instant, and a span"),
        ("  - enqueue: later\n    at: ${input.span}", "this is a span, and an instant"),
        ("  - enqueue: later\n    send: {at: '${input.day}'}", "a date is not an instant"),
        ("  - enqueue: later\n    send: {at: \"${time.in(input.at, 'Europe/Oslo')}\"}", ""),
        ("  - await: word\n    until: ${input.span}\n    steps: [{note: '${word.url}'}]", ""),
        (
            "  - await: word\n    until: ${input.day}\n    steps: [{note: '${word.url}'}]",
            "this is a date, and a span such as",
        ),
    ] {
        let found = reported(steps);
        match says {
            "" => assert_eq!(found, Vec::new(), "{steps}"),
            says => assert!(found.iter().any(|(_, message)| message.contains(says)), "{steps}: {found:?}"),
        }
    }
}
