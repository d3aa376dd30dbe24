//! Edits on texts of all layouts: what they write, what they keep, and that they can be undone.

use kanzlei_samples::{Dice, with_dice};

use super::steps::{self, outline};
use super::*;
use crate::diagnostic::Report;
use crate::document::yaml;

fn set(at: &str, value: &str) -> Change {
    Change::Set { at: parse_path(at), value: value.into() }
}
fn insert(at: &str, value: &str) -> Change {
    Change::Insert { at: parse_path(at), value: value.into() }
}
fn remove(at: &str) -> Change {
    Change::Remove { at: parse_path(at) }
}
fn moved(from: &str, to: &str) -> Change {
    Change::Move { from: parse_path(from), to: parse_path(to) }
}
fn wrap(at: &str, count: usize, with: &str, under: &str) -> Change {
    Change::Wrap { at: parse_path(at), count, with: with.into(), under: under.into() }
}

fn text(at: &str, text: &str) -> Change {
    Change::Text { at: parse_path(at), text: text.into() }
}
fn rename(at: &str, name: &str) -> Change {
    Change::Rename { at: parse_path(at), name: name.into() }
}

const TEXT: &str = "\
# The head.
workflow: w   # its name
input:
  a:   {type: string}
  bb:  {type: integer, default: 1}

steps:
  # The first.
  - id: x
    call: s.op
    send: {a: \"${input.a}\", b: 1}
    accept: [200, 404] # both

  - if: x.status === 404
    then:
      - fail: 422
        detail: |
          No such
            thing.
    else:
    # At the same column.
    - note: a

  # The last.
  - reply: 200
    body:
      name: ${x.body.name}
";

#[test]
fn changes_keep_everything_else() {
    for (change, before, after) in [
        (set("workflow", "v"), "workflow: w   # its name", "workflow: v   # its name"),
        (set("steps/0/send/b", "${input.bb}"), "b: 1}", "b: \"${input.bb}\"}"),
        (set("steps/0/send/c", "2"), "b: 1}", "b: 1, c: 2}"),
        (set("steps/0/accept", "[200]"), "accept: [200, 404] # both", "accept: [200] # both"),
        (
            set("steps/0/accept", "- 200\n- 404\n"),
            "    accept: [200, 404] # both\n",
            "    accept: # both\n      - 200\n      - 404\n",
        ),
        (set("steps/0/within", "2s"), "404] # both\n", "404] # both\n    within: 2s\n"),
        (
            set("steps/0/retry", "attempts: 3\nfirst: 1s"),
            "404] # both\n",
            "404] # both\n    retry:\n      attempts: 3\n      first: 1s\n",
        ),
        (set("steps/1/then/0/detail", "No."), "detail: |\n          No such\n            thing.\n", "detail: No.\n"),
        (set("steps/2/body", "text"), "    body:\n      name: ${x.body.name}\n", "    body: text\n"),
        (
            set("steps/2/body/name", "|\n  two\n  lines"),
            "name: ${x.body.name}\n",
            "name: |\n        two\n        lines\n",
        ),
        (set("input/c", "{type: string}"), "default: 1}\n", "default: 1}\n  c: {type: string}\n"),
        (remove("steps/0/id"), "  - id: x\n    call: s.op", "  - call: s.op"),
        (remove("steps/0/call"), "    call: s.op\n", ""),
        (remove("steps/0/send/a"), "{a: \"${input.a}\", b: 1}", "{b: 1}"),
        (remove("steps/0/send/b"), "\", b: 1}", "\"}"),
        (remove("steps/0/accept/1"), "[200, 404]", "[200]"),
        (remove("input/a"), "  a:   {type: string}\n", ""),
        (remove("steps/1/else"), "    else:\n    # At the same column.\n    - note: a\n", ""),
        (remove("steps/1/else/0"), "    else:\n    # At the same column.\n    - note: a\n", "    else: []\n"),
        (remove("steps/2"), "\n  # The last.\n  - reply: 200\n    body:\n      name: ${x.body.name}\n", ""),
        (insert("steps/1", "note: new"), "  - if: x", "  - note: new\n\n  - if: x"),
        (
            insert("steps/3", "reply: 200\nbody: x"),
            "      name: ${x.body.name}\n",
            "      name: ${x.body.name}\n\n  - reply: 200\n    body: x\n",
        ),
        (insert("steps/1/then/0", "{note: b}"), "      - fail: 422", "      - {note: b}\n      - fail: 422"),
        (insert("steps/0/accept/0", "2xx"), "[200, 404]", "[2xx, 200, 404]"),
        (
            moved("steps/2", "steps/1/else/1"),
            "    - note: a\n\n  # The last.\n  - reply: 200\n    body:\n      name: ${x.body.name}\n",
            "    - note: a\n    # The last.\n    - reply: 200\n      body:\n        name: ${x.body.name}\n",
        ),
        (
            wrap("steps/1/else/0", 1, "if: input.bb > 1", "then"),
            "    # At the same column.\n    - note: a\n",
            "    - if: input.bb > 1\n      then:\n        # At the same column.\n        - note: a\n",
        ),
        (text("steps/0/send/b", "${input.bb}"), "b: 1}", "b: \"${input.bb}\"}"),
        (
            text("steps/2/headers/Age", "${input.bb}"),
            "${x.body.name}\n",
            "${x.body.name}\n    headers: {Age: \"${input.bb}\"}\n",
        ),
        (set("steps/0/retry/first", "1s"), "404] # both\n", "404] # both\n    retry: {first: 1s}\n"),
        (
            set("queue/retry/attempts", "3"),
            "      name: ${x.body.name}\n",
            "      name: ${x.body.name}\nqueue:\n  retry: {attempts: 3}\n",
        ),
        (text("steps/0/send/b", "2"), "b: 1}", "b: \"2\"}"),
        (text("steps/2/body/name", "Dues: ${x.body.name}"), "name: ${x.body.name}", "name: \"Dues: ${x.body.name}\""),
        (text("steps/2/about", "a # b"), "${x.body.name}\n", "${x.body.name}\n    about: \"a # b\"\n"),
        (text("steps/2/body/name", "a\n  b\n"), "name: ${x.body.name}\n", "name: |\n        a\n          b\n"),
        (rename("steps/0/send/b", "draught"), "b: 1}", "draught: 1}"),
        (rename("input/bb", "nights"), "  bb:  {", "  nights:  {"),
        (rename("steps/2/body/name", "404"), "      name:", "      \"404\":"),
        (remove("steps/2/body/name"), "    body:\n      name: ${x.body.name}\n", "    body: {}\n"),
        (
            insert("steps/1/then/0/catch/0", "note: a\nabout: b"),
            "            thing.\n",
            "            thing.\n        catch:\n          - note: a\n            about: b\n",
        ),
        (
            moved("steps/1/else/0", "steps/0/catch/0"),
            "404] # both\n\n  - if: x.status === 404\n    then:\n      - fail: 422\n        detail: |\n          No such\n            thing.\n    else:\n    # At the same column.\n    - note: a\n",
            "404] # both\n    catch:\n      # At the same column.\n      - note: a\n\n  - if: x.status === 404\n    then:\n      - fail: 422\n        detail: |\n          No such\n            thing.\n    else: []\n",
        ),
        (
            Change::Duplicate { at: parse_path("steps/1/else/0") },
            "    - note: a\n",
            "    - note: a\n    # At the same column.\n    - note: a\n",
        ),
    ] {
        assert_eq!(TEXT.matches(before).count(), 1, "{before}");
        let edits = super::change(TEXT, &change).unwrap_or_else(|error| panic!("{change:?}: {error}"));
        let new = apply(TEXT, &edits).expect("edits of this text");
        assert_eq!(new, TEXT.replace(before, after), "{change:?}");
        assert_eq!(apply(&new, &undo(TEXT, &edits)).expect("undone"), TEXT, "{change:?}");
    }
}

#[test]
fn empty_mappings_are_begun_in_lines() {
    let text = "workflow: w\nsteps:\n  - reply: 200 # done\n    body: {}\n  - call: s.op\n    send: {}\n";
    for (change, after) in [
        (
            super::Change::Text { at: parse_path("steps/0/body/card"), text: "${a}: b".into() },
            "    body:\n      card: \"${a}: b\"\n",
        ),
        (
            set("steps/0/body/dues", "amount: 1\nin: EUR"),
            "    body:\n      dues:\n        amount: 1\n        in: EUR\n",
        ),
        (super::Change::Text { at: parse_path("steps/1/send/a"), text: "${a}".into() }, "    send: {a: \"${a}\"}\n"),
    ] {
        let new = apply(text, &super::change(text, &change).expect("a change")).expect("edits");
        assert!(new.contains(after), "{change:?}:\n{new}");
    }
}

#[test]
fn steps_are_wrapped_and_unwrapped() {
    let wrapped = apply(TEXT, &change(TEXT, &wrap("steps/0", 2, "each: v\nin: input.list", "steps")).expect("wrapped"));
    let wrapped = wrapped.expect("edits");
    assert!(
        wrapped.contains("steps:\n  - each: v\n    in: input.list\n    steps:\n      # The first.\n      - id: x\n"),
        "{wrapped}"
    );
    assert!(wrapped.contains("              No such\n                thing.\n"), "{wrapped}");
    let edits = change(&wrapped, &Change::Unwrap { at: parse_path("steps/0/steps") }).expect("unwrapped");
    assert_eq!(apply(&wrapped, &edits).expect("edits"), TEXT);
}

#[test]
fn what_cannot_be_done_is_refused() {
    let flow = "workflow: w\nsteps: [{reply: 200}]\n";
    let aliased = "workflow: w\nbase: &b {a: 1}\nother: *b\nsteps:\n  - reply: 200\n";
    for (text, change, says) in [
        (TEXT, set("steps/9/note", "a"), "there is nothing at `steps/9`"),
        (TEXT, set("steps/0/call/x", "a"), "`steps/0/call` is not a mapping"),
        (TEXT, insert("steps/4", "note: a"), "there is nothing at `steps/4`"),
        (TEXT, insert("input/a", "x"), "`input/a` is not an item of a list"),
        (TEXT, set("workflow", "a: ["), "the new value cannot be read"),
        (TEXT, moved("steps/1", "steps/1/then/0"), "cannot be moved into itself"),
        (TEXT, wrap("steps/2", 2, "if: a", "then"), "there is nothing at `steps/2`"),
        (TEXT, rename("input/a", "bb"), "another key has this name"),
        (TEXT, rename("steps/0", "bb"), "`steps` is not a mapping"),
        (TEXT, remove("nothing"), "there is nothing at `nothing`"),
        (flow, wrap("steps/0", 1, "if: a", "then"), "between brackets"),
        (aliased, set("other/a", "2"), "this is an alias"),
        ("a: [", set("a", "1"), "the text cannot be read"),
    ] {
        let error = super::change(text, &change).expect_err(says);
        assert!(error.to_string().contains(says), "{change:?}: {error}");
    }
}

fn parsed(text: &str) -> String {
    let mut report = Report::new("", text);
    let root = yaml::parse(&mut report).unwrap_or_else(|| panic!("not YAML:\n{text}"));
    root.to_value().to_json()
}

const VALUES: &[&str] = &[
    "1",
    "text",
    "'# no comment'",
    "\"${input.a}\"",
    "{a: 1, b: [x]}",
    "- 1\n- two",
    "a: 1\nb:\n  c: |\n    two\n    lines",
    "|\n  kept\n    as it is\n\n  # so",
    ">-\n  folded\n  text",
    "null",
    "[]",
    "{}",
    "${input.a} and ${input.b}",
];

/// A path to some node of a document.
fn place(dice: &mut Dice, node: &yaml::Node) -> Vec<At> {
    let mut path = Vec::new();
    let mut node = node;
    loop {
        node = match &node.kind {
            yaml::Kind::Map(members) if !members.is_empty() => {
                let (key, inner) = &members[dice.below(members.len())];
                path.push(At::Key(key.name.clone()));
                inner
            }
            yaml::Kind::List(items) if !items.is_empty() => {
                let index = dice.below(items.len());
                path.push(At::Item(index));
                &items[index]
            }
            _ => return path,
        };
        if dice.one_in(4) {
            return path;
        }
    }
}

fn drawn(dice: &mut Dice, text: &str) -> Change {
    let root = yaml::parse(&mut Report::new("", text)).expect("a document");
    let steps = outline(text).expect("a document");
    let step = |dice: &mut Dice| steps[dice.below(steps.len())].at.clone();
    let mut at = place(dice, &root);

    match dice.below(10) {
        0 => Change::Set { at, value: (*dice.pick(VALUES)).into() },
        1 => {
            at.push(At::Key("new".into()));
            Change::Set { at, value: (*dice.pick(VALUES)).into() }
        }
        2 => Change::Remove { at },
        3 => Change::Insert { at: step(dice), value: "note: new # said\nabout: x".into() },
        4 => Change::Move { from: step(dice), to: step(dice) },
        5 => Change::Duplicate { at: step(dice) },
        6 => Change::Rename { at, name: "name".into() },
        7 => Change::Text { at, text: (*dice.pick(&["a: b", "two\nlines\n", "1", "${input.a}"])).into() },
        8 => Change::Wrap { at: step(dice), count: 1, with: "if: input.a".into(), under: "then".into() },
        _ => {
            let mut at = step(dice);
            at.push(At::Key((*dice.pick(&["then", "else", "steps", "catch"])).into()));
            Change::Unwrap { at }
        }
    }
}

/// Whatever is changed in whatever order: the text stays one that is read, lines that are not touched stay as they are,
/// and undoing leads back. That the tree is the intended one is what `change` itself makes sure of.
#[test]
fn any_sequence_of_changes_can_be_read_and_undone() {
    let mut texts: Vec<String> = kanzlei_samples::demo()
        .into_iter()
        .filter(|(path, text)| path.contains("workflows/") && text.starts_with("workflow:"))
        .map(|(_, text)| text)
        .collect();
    texts.push(TEXT.to_owned());
    let (mut made, mut refused) = (0, 0);
    with_dice(150, 200, |dice| {
        let first = texts[dice.below(texts.len())].clone();
        let (mut text, mut back): (String, Vec<Vec<Edit>>) = (first.clone(), Vec::new());
        for _ in 0..12 {
            if outline(&text).is_ok_and(|steps| steps.is_empty()) {
                break;
            }
            let change = drawn(dice, &text);
            let edits = match super::change(&text, &change) {
                Ok(edits) => edits,
                Err(Error::Refused(why)) => {
                    refused += usize::from(why.contains("layout"));
                    continue;
                }
                Err(_) => continue,
            };
            let new = apply(&text, &edits).expect("edits of this text");
            parsed(&new);
            // Comments are lost with what they belong to only.
            if !matches!(
                change,
                Change::Set { .. } | Change::Text { .. } | Change::Remove { .. } | Change::Unwrap { .. }
            ) {
                for comment in text.lines().map(str::trim).filter(|line| line.starts_with("# ")) {
                    assert!(new.contains(comment), "{change:?} lost `{comment}`:\n{text}\n---\n{new}");
                }
            }
            back.push(undo(&text, &edits));
            text = new;
            made += 1;
        }
        for edits in back.into_iter().rev() {
            text = apply(&text, &edits).expect("undone");
        }
        assert_eq!(text, first);
    });
    assert!(made > 200 && refused * 20 < made, "{made} changes, {refused} refused for their layout");
}

#[test]
fn steps_have_the_numbers_of_the_sheet() {
    for (path, text) in kanzlei_samples::demo()
        .into_iter()
        .filter(|(path, text)| path.contains("workflows/") && text.starts_with("workflow:"))
    {
        let found = steps::outline(&text).unwrap_or_else(|error| panic!("{path}: {error}"));
        assert!(!found.is_empty() && found.iter().all(|step| !step.kind.is_empty()), "{path}: {found:?}");
    }
}
