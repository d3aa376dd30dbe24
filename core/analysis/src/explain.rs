//! What the codes of findings mean, each with a wrong document and a corrected one.
//!
//! The texts are a chapter of the handbook, `docs/findings.md`, compiled in: the client, editors and the handbook show the same.
//!
//! ```
//! use kanzlei_analysis::explain;
//! let explained = explain::of("unknown-key").unwrap();
//! assert!(explained.about.contains("key") && explained.wrong.is_some());
//! ```

use std::sync::OnceLock;

const CHAPTER: &str = include_str!("../../../docs/findings.md");

/// What a code means.
#[derive(Clone, Debug, PartialEq)]
pub struct Explained {
    /// The code.
    pub code: &'static str,
    /// What it means and what to do, in a few sentences.
    pub about: &'static str,
    /// A document that has the finding.
    pub wrong: Option<&'static str>,
    /// The same document corrected.
    pub corrected: Option<&'static str>,
    /// The section of the handbook, as Markdown.
    pub text: &'static str,
}

/// All codes, in the order of the handbook.
pub fn all() -> &'static [Explained] {
    static ALL: OnceLock<Vec<Explained>> = OnceLock::new();
    ALL.get_or_init(|| CHAPTER.split("\n### ").skip(1).filter_map(section).collect())
}

/// What a code means.
pub fn of(code: &str) -> Option<&'static Explained> {
    all().iter().find(|explained| explained.code == code)
}

fn section(text: &'static str) -> Option<Explained> {
    let (code, rest) = text.split_once('\n')?;
    let rest = rest.split("\n## ").next().unwrap_or(rest).trim();
    let mut blocks = rest.split("```yaml\n").skip(1).filter_map(|block| block.split("```").next());
    let about = rest.split("```").next().unwrap_or(rest).trim();
    Some(Explained { code: code.trim(), about, wrong: blocks.next(), corrected: blocks.next(), text: rest })
}
