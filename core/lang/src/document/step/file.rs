//! A `file` step: what it does with files and places.

use std::time::Duration;

use super::super::keys::FILE_WORK;
use super::super::reader::{Members, Named, is_document_name};
use super::super::values::MAX_WITHIN;
use super::super::yaml::Node;
use super::rows::{self, Read, Write};
use crate::diagnostic::Report;
use crate::suggest;

/// The most entries of a list.
pub const MOST_LISTED: i64 = 10_000;
/// Entries of a list by default.
const LISTED: u32 = 1000;

/// A `file` step.
#[derive(Clone, Debug)]
pub struct FileStep {
    /// What it does.
    pub work: Work,
    /// Timeout.
    pub within: Option<Duration>,
}

/// A path in a place.
pub type InPlace = (Named, Node);

/// What a `file` step does.
#[derive(Clone, Debug)]
pub enum Work {
    /// Stores a file in places.
    Store {
        /// The file.
        of: Node,
        /// The places and the path in each.
        to: Vec<InPlace>,
        /// Whether it may take the place of another file.
        replace: bool,
    },
    /// Reads a file of a place.
    Fetch(InPlace),
    /// Lists the files below a path.
    List {
        /// The place and the path.
        from: InPlace,
        /// The most entries.
        most: u32,
    },
    /// Removes files of a place.
    Remove(InPlace),
    /// Makes an address from which a file can be downloaded for a time.
    Link {
        /// The place and the path.
        from: InPlace,
        /// How long it is valid.
        span: Option<Node>,
    },
    /// Packs files into one.
    Zip {
        /// The files: a list, or an object by path.
        of: Node,
        /// The name of the new file.
        name: Option<Node>,
    },
    /// Unpacks a file.
    Unzip(Node),
    /// Reads the rows of a file or of several.
    Read {
        /// The file, or a list of files.
        of: Node,
        /// How.
        read: Read,
    },
    /// Writes rows into a new file.
    Write {
        /// The rows: of a file, or a list.
        of: Node,
        /// How.
        write: Write,
    },
}

impl Work {
    /// The word of the document.
    pub fn word(&self) -> &'static str {
        match self {
            Work::Store { .. } => "store",
            Work::Fetch(_) => "fetch",
            Work::List { .. } => "list",
            Work::Remove(_) => "remove",
            Work::Link { .. } => "link",
            Work::Zip { .. } => "zip",
            Work::Unzip(_) => "unzip",
            Work::Read { .. } => "read",
            Work::Write { .. } => "write",
        }
    }

    /// The paths in places that it names.
    pub fn places(&self) -> &[InPlace] {
        match self {
            Work::Store { to, .. } => to,
            Work::Fetch(from) | Work::Remove(from) | Work::List { from, .. } | Work::Link { from, .. } => {
                std::slice::from_ref(from)
            }
            Work::Zip { .. } | Work::Unzip(_) | Work::Read { .. } | Work::Write { .. } => &[],
        }
    }
}

/// The words of `file`, and the keys that each has beside `within`; the first ones are required.
pub const WORDS: &[(&str, &[&str], &[&str])] = &[
    ("store", &["of", "to"], &["existing"]),
    ("fetch", &["from"], &[]),
    ("list", &["from"], &["most"]),
    ("remove", &["from"], &[]),
    ("link", &["from"], &["for"]),
    ("zip", &["of"], &["name"]),
    ("unzip", &["of"], &[]),
    ("read", &["of", "format"], &["row", "delimiter", "encoding", "element", "whole"]),
    ("write", &["of", "format"], &["columns", "formulas", "name"]),
];

/// Whether a key belongs to what a word does; of an unknown word nothing is known.
pub fn has(word: &str, key: &str) -> bool {
    let known = WORDS.iter().find(|(known, ..)| *known == word);
    matches!(key, "file" | "within")
        || known.is_none_or(|(_, required, optional)| required.contains(&key) || optional.contains(&key))
}

/// Reads a `file` step.
pub(super) fn read(members: &Members, report: &mut Report) -> Option<FileStep> {
    let word = members.text("file", report)?;
    let Some((_, required, optional)) = WORDS.iter().find(|(known, ..)| *known == word.text) else {
        report.error("wrong-value", word.at, format!("`{}` is nothing that a `file` step does", word.text));
        let words = WORDS.iter().map(|(word, ..)| *word);
        match suggest::nearest(&word.text, words.clone()) {
            Some(near) => report.did_you_mean(near),
            None => report.help(format!("it is one of {}", words.collect::<Vec<_>>().join(", "))),
        };
        return None;
    };
    for spec in FILE_WORK.iter().filter(|spec| !has(&word.text, spec.name)) {
        if let Some((key, _)) = members.entry(spec.name) {
            report.error("unknown-key", key.at, format!("`file: {}` has no `{}`", word.text, spec.name));
            let all: Vec<&str> = required.iter().chain(*optional).copied().collect();
            report.help(format!("it has {}", all.join(", ")));
        }
    }
    for name in *required {
        if members.get(name).is_none() {
            report.error("missing-key", members.at, format!("`file: {}` needs `{name}`", word.text));
            report.help(match *name {
                "of" if word.text == "write" => "name the rows: `of: ${lines}`",
                "of" => "name the file: `of: ${input.crew}`",
                "format" => "for example `format: csv`",
                _ => "name a place and a path in it: `{archive: \"crew/${input.imo}.pdf\"}`",
            });
        }
    }
    let from = |report: &mut Report| match in_places("from", members, report) {
        mut several if several.len() == 1 => several.pop(),
        several => {
            if let Some((_, at)) = several.get(1).map(|(name, _)| ((), name.at)) {
                report.error("wrong-value", at, "it reads one place: make it two steps");
            }
            None
        }
    };
    let of = || members.get("of").cloned();
    let work = match word.text.as_str() {
        "store" => Work::Store { of: of()?, to: in_places("to", members, report), replace: replaces(members, report) },
        "fetch" => Work::Fetch(from(report)?),
        "list" => {
            let most = members.integer("most", 1, MOST_LISTED, report).map_or(LISTED, |most| most as u32);
            Work::List { from: from(report)?, most }
        }
        "remove" => Work::Remove(from(report)?),
        "link" => Work::Link { from: from(report)?, span: members.get("for").cloned() },
        "zip" => Work::Zip { of: of()?, name: members.get("name").cloned() },
        "read" => Work::Read { of: of()?, read: rows::read(members, report)? },
        "write" => Work::Write { of: of()?, write: rows::write("format", members, report)? },
        _ => Work::Unzip(of()?),
    };
    Some(FileStep { work, within: members.duration("within", MAX_WITHIN, report) })
}

fn replaces(members: &Members, report: &mut Report) -> bool {
    match members.text("existing", report) {
        Some(word) if word.text == "replace" => true,
        Some(word) if word.text != "refuse" => {
            report.error("wrong-value", word.at, "an existing file is `refuse`d, or its place taken: `replace`");
            false
        }
        _ => false,
    }
}

/// Places and a path in each.
fn in_places(key: &str, members: &Members, report: &mut Report) -> Vec<InPlace> {
    if members.get(key).is_none() {
        return Vec::new();
    }
    let found = members.mapping(key, report);
    if found.is_empty() && members.get(key).is_some_and(|node| node.as_map().is_some()) {
        report.error("wrong-value", members.at, format!("`{key}` names no place"));
    }
    found
        .into_iter()
        .filter_map(|(name, node)| {
            let fits = is_document_name(&name.text);
            if !fits {
                report.error("bad-name", name.at, format!("`{}` cannot be the name of a place", name.text));
            }
            fits.then(|| (name, node.clone()))
        })
        .collect()
}
