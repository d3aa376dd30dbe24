//! Promise 2 on real workflows: those of the demo office, each changed at random a few times. A mutant is refused by the check, or its
//! cases run without a failure for a name or a type. Run with `--nocapture` to see how many there were, and with `KANZLEI_ROUNDS` for more.

use std::collections::BTreeMap;

use kanzlei_compiler::check::Bundle;
use kanzlei_lang::diagnostic::Report;
use kanzlei_lang::document::{kind_of, yaml};
use kanzlei_lang::expr::ErrorKind;
use kanzlei_model::run::FailureKind;
use kanzlei_samples::{Dice, with_dice};

/// What is put in the place of something else.
const SWAPS: &[(&str, &str)] = &[
    ("?.", "."),
    (" ?? ", " || "),
    ("===", "!=="),
    ("!==", "==="),
    (" > ", " <= "),
    (" < ", " >= "),
    (" * ", " + "),
    (" + ", " - "),
    (" && ", " || "),
    (" || ", " && "),
    (".length", ".size"),
    ("input.", "kept."),
    (".body", ""),
    (".status", ".body"),
    (".rows[0]", ".rows"),
    (".toFixed(2)", ""),
    (".map(", ".filter("),
    ("[0]", "[1]"),
    ("accept: [200, 404]", "accept: [200]"),
    ("type: integer", "type: string"),
    ("type: string", "type: number"),
    ("then:", "else:"),
    ("each:", "in:"),
    ("when:", "about:"),
    ("from:", "above:"),
    ("optional: true", "optional: false"),
    ("String(", "Number("),
    ("true", "null"),
    ("'", "`"),
];

/// A text changed in one way; nothing where that way finds nothing.
fn mutant(dice: &mut Dice, text: &str) -> Option<String> {
    let lines: Vec<&str> = text.split_inclusive('\n').collect();
    let below = |dice: &mut Dice, count: usize| dice.below(count.max(1));
    Some(match dice.below(6) {
        // One of two names that the text reads is the other.
        0 => {
            let words: Vec<&str> =
                text.split(|c: char| !c.is_ascii_alphanumeric() && c != '_').filter(|word| word.len() > 2).collect();
            let (one, other) = (words.get(below(dice, words.len()))?, words.get(below(dice, words.len()))?);
            let places: Vec<usize> = text.match_indices(*one).map(|(at, _)| at).collect();
            let at = *places.get(below(dice, places.len()))?;
            format!("{}{other}{}", &text[..at], &text[at + one.len()..])
        }
        // A line is gone, twice there, or in the place of the next.
        1 => {
            let at = below(dice, lines.len());
            lines.iter().enumerate().filter(|(index, _)| *index != at).map(|(_, line)| *line).collect()
        }
        2 => {
            let at = below(dice, lines.len());
            lines
                .iter()
                .enumerate()
                .flat_map(|(index, line)| std::iter::repeat_n(*line, 1 + usize::from(index == at)))
                .collect()
        }
        3 => {
            let at = below(dice, lines.len().saturating_sub(1));
            let mut lines = lines.clone();
            if at + 1 < lines.len() {
                lines.swap(at, at + 1);
            }
            lines.concat()
        }
        // A part of an expression is gone: `?? 0`, `.trim()`.
        4 => {
            let starts: Vec<usize> = text.match_indices([' ', '.']).map(|(at, _)| at).collect();
            let at = *starts.get(below(dice, starts.len()))?;
            let rest = &text[at + 1..];
            let end = rest.find([' ', '.', '}', ')', ',', '\n']).unwrap_or(rest.len());
            format!("{}{}", &text[..at], &rest[end..])
        }
        _ => {
            let (from, to) = SWAPS[below(dice, SWAPS.len())];
            let places: Vec<usize> = text.match_indices(from).map(|(at, _)| at).collect();
            let at = *places.get(below(dice, places.len()))?;
            format!("{}{to}{}", &text[..at], &text[at + from.len()..])
        }
    })
}

#[test]
fn mutants_of_the_demo_are_refused_or_run_without_a_name_or_type_failure() {
    let texts = kanzlei_samples::demo();
    let workflows: Vec<(String, String)> =
        texts.iter().filter(|(_, text)| kind_of(text) == Some("workflow")).cloned().collect();
    let name = |text: &str| {
        let mut report = Report::new("", text);
        yaml::parse(&mut report)?.get("workflow")?.as_text().map(str::to_owned)
    };
    let (mut refused, mut passed, mut cases, mut steps) = (0, 0, 0, 0);
    let mut templates = 0;
    let mut ended: BTreeMap<String, usize> = BTreeMap::new();
    with_dice(600, 24, |dice| {
        let (path, text) = &workflows[dice.below(workflows.len())];
        let mut changed = text.clone();
        for _ in 0..1 + dice.below(2) {
            changed = mutant(dice, &changed).unwrap_or(changed);
        }
        let Some(own) = name(&changed).filter(|_| changed != *text) else {
            refused += 1;
            return;
        };
        let all = texts
            .iter()
            .map(|(known, text)| (known.clone(), if known == path { changed.clone() } else { text.clone() }));
        // Only what concerns it is checked: the workflow, its cases, and what they need.
        let mut bundle = Bundle::of(all);
        let (mine, others): (Vec<_>, Vec<_>) = bundle.documents.into_iter().partition(|source| {
            source.path == *path
                || kind_of(&source.text) == Some("cases") && source.text.contains(&format!("cases: {own}\n"))
        });
        (bundle.documents, bundle.context) = (mine, others);
        let (checked, prepared) = kanzlei_rehearsal::check(&bundle);
        if checked
            .diagnostics
            .iter()
            .any(|found| found.path == *path && found.severity == kanzlei_lang::diagnostic::Severity::Error)
        {
            refused += 1;
            return;
        }
        passed += 1;
        for one in prepared.iter().filter(|one| one.plan().name == own) {
            for index in 0..one.len() {
                let (_, Some(machine)) = one.play(index, None) else { continue };
                cases += 1;
                steps += machine.records().len();
                let Some(end) = machine.ended() else { continue };
                *ended
                    .entry(end.failure.as_ref().map_or("succeeded", |failure| failure.kind.name()).to_owned())
                    .or_default() += 1;
                for failure in
                    machine.records().iter().filter_map(|record| record.failure.as_deref()).chain(&end.failure)
                {
                    // Templates are filled when they are checked, where the types of all values are known.
                    if failure.detail.starts_with("reports/") {
                        templates += 1;
                        continue;
                    }
                    // A number that is out of range is of the right type.
                    let by_name_or_type = failure.cause == Some(ErrorKind::Type)
                        || failure.kind == FailureKind::Expression
                            && failure.cause.is_none()
                            && !failure.detail.starts_with("progress is a number");
                    assert!(!by_name_or_type, "{}\n{} · {}\n{changed}", failure.detail, path, one.name(index));
                }
            }
        }
    });
    println!(
        "{refused} refused, {passed} passed the check: {cases} cases of {steps} steps\nended: {ended:?}\nfailures inside templates: {templates}"
    );
    assert!(refused > 100 && passed > 60 && cases > 100, "{refused} refused, {passed} passed, {cases} cases");
}
