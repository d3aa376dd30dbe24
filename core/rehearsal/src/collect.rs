//! A recorded case, put behind the others of a document of cases.
//!
//! ```
//! use kanzlei_rehearsal::collect::collect;
//! let recorded = "cases: w\nexamples:\n  - name: a run\n    input: {}\n    expect: {state: succeeded}\n";
//! let (text, name) = collect("cases: w\nexamples:\n  - {name: a run, expect: {state: failed}}\n", recorded).unwrap();
//! assert_eq!(name, "a run 2");
//! assert!(text.ends_with("  - name: a run 2\n    input: {}\n    expect: {state: succeeded}\n"), "{text}");
//! ```

use kanzlei_lang::diagnostic::Report;
use kanzlei_lang::document::yaml::{self, Kind, Node, quoted};
use kanzlei_lang::edit::{self, At, Change};

/// Adds the case of a document that [`crate::record`] wrote to another one, under a name that is not used there yet.
/// Returns the new text and the name.
///
/// # Errors
/// The document cannot be read, or its layout does not allow the change.
pub fn collect(document: &str, recorded: &str) -> Result<(String, String), edit::Error> {
    let wanted = names(recorded).pop().unwrap_or_default();
    let taken = names(document);
    let mut name = wanted.clone();
    for number in 2.. {
        if !taken.contains(&name) {
            break;
        }
        name = format!("{wanted} {number}");
    }
    // Behind the two lines above it, and without the indentation of an item.
    let case = recorded.lines().skip(2).map(|line| line.get(4..).unwrap_or_default());
    let case: Vec<&str> = case.skip(1).collect();
    let value = format!("name: {}\n{}", quoted(&name), case.join("\n"));
    let at = vec![At::Key("examples".into()), At::Item(taken.len())];
    let edits = edit::change(document, &Change::Insert { at, value })?;
    Ok((edit::apply(document, &edits)?, name))
}

/// The names of the cases of a document, one for each.
fn names(text: &str) -> Vec<String> {
    let mut report = Report::new("", text);
    let root = yaml::parse(&mut report);
    let Some(Kind::List(cases)) = root.as_ref().and_then(|root| root.get("examples")).map(|node| &node.kind) else {
        return Vec::new();
    };
    cases.iter().map(|case| case.get("name").and_then(Node::as_text).unwrap_or_default().to_owned()).collect()
}
