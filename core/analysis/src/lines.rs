//! Two texts line by line: how they differ, and one text with the changes of two authors.
//!
//! Comparing costs lines times differences, so texts that differ in very many lines are shown as replaced whole, and not merged.
//!
//! ```
//! use kanzlei_analysis::lines;
//! assert!(lines::patch(("old", "new"), "a\nb\n", "a\nc\n").ends_with(" a\n-b\n+c\n"));
//! assert_eq!(lines::merge("a\nb\nc\nd\n", "A\nb\nc\nd\n", "a\nb\nc\nD\n").as_deref(), Some("A\nb\nc\nD\n"));
//! ```

/// The most pairs of lines that are compared: about half a second.
const PAIRS: usize = 16_000_000;

/// How two texts differ, as a unified diff with the names of both.
pub fn patch(names: (&str, &str), before: &str, after: &str) -> String {
    if !comparable(before, after) {
        return replaced(names, before, after);
    }
    let mut options = diffy::DiffOptions::new();
    let options = options.set_original_filename(names.0.to_owned()).set_modified_filename(names.1.to_owned());
    options.create_patch(before, after).to_string()
}

/// A text with the changes of two others to what both began from; nothing where they touch, or are too many.
pub fn merge(ancestor: &str, theirs: &str, yours: &str) -> Option<String> {
    let fits = comparable(ancestor, theirs) && comparable(ancestor, yours);
    fits.then(|| diffy::merge(ancestor, theirs, yours).ok()).flatten()
}

/// Whether the lines between what both begin with and what both end with are few enough.
fn comparable(before: &str, after: &str) -> bool {
    let (mut old, mut new) = (before.lines(), after.lines());
    let same = |(a, b): &(&str, &str)| a == b;
    let first = old.clone().zip(new.clone()).take_while(same).count();
    // Skips what both begin with.
    (0..first).for_each(|_| _ = (old.next(), new.next()));
    let last = old.clone().rev().zip(new.clone().rev()).take_while(same).count();
    let differ = |lines: std::str::Lines| lines.count().saturating_sub(last).max(1);
    differ(old).saturating_mul(differ(new)) <= PAIRS
}

/// A diff that removes all of one text and adds all of another.
fn replaced(names: (&str, &str), before: &str, after: &str) -> String {
    let all = |sign: char, text: &str| -> String {
        let lines: String = text.lines().map(|line| format!("{sign}{line}\n")).collect();
        let end = if text.is_empty() || text.ends_with('\n') { "" } else { "\\ No newline at end of file\n" };
        lines + end
    };
    let span = |text: &str| match text.lines().count() {
        0 => "0,0".to_owned(),
        count => format!("1,{count}"),
    };
    let head = format!("--- {}\n+++ {}\n@@ -{} +{} @@\n", names.0, names.1, span(before), span(after));
    head + &all('-', before) + &all('+', after)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_that_differ_everywhere_are_replaced() {
        let text = |word: &str| -> String { (0..100_000).map(|n| format!("{word}{n}\n")).collect() };
        let (old, new) = (text("a"), text("b"));
        let long = patch(("a", "b"), &old, &new);
        assert!(long.starts_with("--- a\n+++ b\n@@ -1,100000 +1,100000 @@\n-a0\n"), "{}", &long[..80]);
        assert_eq!((merge("", &old, &new), merge(&old, &new, &old)), (None, None));
        // A change in a long text is no reason.
        let one = old.replace("a50000\n", "x\n");
        assert!(patch(("a", "b"), &old, &one).contains("-a50000\n+x\n"));
        assert_eq!(
            merge(&old, &one, &old.replace("a7\n", "y\n")).map(|text| text.contains("y\n") && text.contains("x\n")),
            Some(true)
        );
    }

    #[test]
    fn what_is_replaced_is_a_diff_like_any_other() {
        for (before, after) in [("a\nb\n", "c\n"), ("", "c\n"), ("a", ""), ("a\nb", "c")] {
            let text = replaced(("a", "b"), before, after);
            let read = diffy::Patch::from_str(&text).unwrap_or_else(|error| panic!("{error}: {text}"));
            assert_eq!(diffy::apply(before, &read).expect("it fits"), after, "{text}");
        }
    }
}
