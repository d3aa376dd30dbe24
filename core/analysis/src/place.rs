//! Where a position lies in the tree of a document, also where the text around it is not finished.
//!
//! A text that is being typed often is no YAML. What stands at the position is then replaced by a mark so that the rest can be
//! read, if need be without the lines below; where the mark comes to lie in the tree is the answer.

use kanzlei_lang::diagnostic::{Place, Report};
use kanzlei_lang::document::yaml::{self, Key, Kind, Node};
use kanzlei_lang::edit::At;

/// The name of the mark.
pub(crate) const MARK: &str = "kanzlei__mark";

/// A position in a document.
#[derive(Debug)]
pub(crate) struct Spot {
    /// The tree, of the text itself or of the one that was mended around the position.
    pub root: Node,
    /// The text of the tree.
    pub text: String,
    /// The path to the key or value at the position.
    pub path: Vec<At>,
    /// What stands there.
    pub what: What,
}

#[derive(Debug)]
pub(crate) enum What {
    /// A key, or where one could begin.
    Key {
        /// What of it stands before the position.
        typed: String,
        /// What a suggestion replaces, in the text as it was.
        replace: Place,
        /// Whether a hyphen has to be written before it.
        item: bool,
        /// Whether a colon stands behind it.
        colon: bool,
    },
    /// A scalar, or where one could begin.
    Value {
        /// Its place in the text as it was, with quotes.
        at: Place,
        /// Its text up to the position, without quotes.
        typed: String,
    },
}

/// Finds a position, given in bytes.
pub(crate) fn locate(text: &str, at: usize) -> Option<Spot> {
    let at = floor(text, at);
    if let Some(root) = read(text)
        && let Some((path, what)) = inside(text, &root, at)
    {
        return Some(Spot { root, text: text.to_owned(), path, what });
    }
    mended(text, at)
}

/// The position, or the beginning of the character that it lies in.
pub(crate) fn floor(text: &str, at: usize) -> usize {
    let mut at = at.min(text.len());
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    at
}

/// Reads a text that has no faults of YAML; unknown keys do not matter.
pub(crate) fn read(text: &str) -> Option<Node> {
    yaml::parse(&mut Report::new("", text))
}

/// What stands at a position of a text that can be read.
fn inside(text: &str, root: &Node, at: usize) -> Option<(Vec<At>, What)> {
    let mut path = Vec::new();
    let mut node = root;
    loop {
        match &node.kind {
            Kind::Map(members) => {
                if let Some((key, _)) = members.iter().find(|(key, _)| covers(key.at, at)) {
                    path.push(At::Key(key.name.clone()));
                    let typed = text.get(key.at.start as usize..at)?.trim_start_matches(['"', '\'']).to_owned();
                    return Some((path, What::Key { typed, replace: key.at, item: false, colon: true }));
                }
                let (key, value) = members.iter().rev().find(|(key, _)| (key.at.end as usize) < at)?;
                path.push(At::Key(key.name.clone()));
                if matches!(value.kind, Kind::Null) {
                    // An empty value, on the key's own line.
                    let between = text.get(key.at.end as usize..at)?;
                    let empty = between.trim() == ":" && !between.contains('\n') && between != ":";
                    let there = Place::new(at, at);
                    return empty.then_some((path, What::Value { at: there, typed: String::new() }));
                }
                node = value;
            }
            Kind::List(items) => {
                let index = items.iter().rposition(|item| item.at.start as usize <= at)?;
                path.push(At::Item(index));
                node = &items[index];
            }
            _ => {
                let place = node.at;
                if !covers(place, at) || text.get(place.start as usize..place.end as usize)?.starts_with('*') {
                    return None;
                }
                let raw = &text[place.start as usize..place.end as usize];
                // A key that is being typed below a plain text reads as its second line.
                if raw.contains('\n') && !raw.starts_with(['"', '\'']) && !is_block(text, node) {
                    return None;
                }
                let typed = text[place.start as usize..at].trim_start_matches(['"', '\'']).to_owned();
                return Some((path, What::Value { at: place, typed }));
            }
        }
    }
}

fn covers(place: Place, at: usize) -> bool {
    (place.start as usize..=place.end as usize).contains(&at)
}

/// Whether a text is written below an indicator, `|` or `>`.
fn is_block(text: &str, node: &Node) -> bool {
    let before = text[..node.at.start as usize].trim_end();
    let line = before.rsplit('\n').next().unwrap_or_default();
    line.trim_end().rsplit(' ').next().is_some_and(|word| word.starts_with(['|', '>']))
}

/// What stands at a position of a line, as far as the line says.
enum Guess {
    Key { start: usize, end: usize, colon: bool },
    Value { start: usize, end: usize, braces: usize },
}

fn mended(text: &str, at: usize) -> Option<Spot> {
    let line_start = text[..at].rfind('\n').map_or(0, |found| found + 1);
    let line_end = text[at..].find('\n').map_or(text.len(), |found| at + found);
    let guess = guess(text, line_start, at, line_end);
    let (start, end) = match guess {
        Guess::Key { start, end, .. } | Guess::Value { start, end, .. } => (start, end),
    };
    // An unfinished text between braces: the closing brackets of its line are kept, or made.
    let closing = |braces: usize| {
        let rest = text[end..line_end].trim_end();
        let closed = rest.matches(['}', ']']).count();
        match closed >= braces {
            true => text[end..line_end].to_owned(),
            false => "}".repeat(braces),
        }
    };
    let (marks, rest): (Vec<String>, String) = match guess {
        Guess::Key { colon: true, .. } => (vec![MARK.to_owned()], text[end..line_end].to_owned()),
        Guess::Key { .. } => {
            let between = text[line_start..start].contains(['{', '[']);
            let rest = if between { closing(1) } else { String::new() };
            (vec![format!("{MARK}: "), format!("- {MARK}: ")], rest)
        }
        Guess::Value { braces, .. } => (vec![format!("\"{MARK}\"")], closing(braces)),
    };
    for tail in [&text[line_end..], ""] {
        for mark in &marks {
            let candidate = format!("{}{mark}{rest}{tail}", &text[..start]);
            let Some(root) = read(&candidate) else { continue };
            let mut path = Vec::new();
            if !find(&root, &mut path) {
                continue;
            }
            let what = match guess {
                Guess::Key { start, end, colon } => What::Key {
                    typed: text[start..at.max(start)].to_owned(),
                    replace: Place::new(start, end.max(at)),
                    item: mark.starts_with('-'),
                    colon,
                },
                Guess::Value { start, end, .. } => What::Value {
                    at: Place::new(start, end.max(start)),
                    typed: text[start..at.max(start)].trim_start_matches(['"', '\'']).to_owned(),
                },
            };
            return Some(Spot { root, text: candidate, path, what });
        }
    }
    None
}

/// Reads a line up to a position: whether a key or a value stands there, and where it begins and ends.
fn guess(text: &str, line_start: usize, at: usize, line_end: usize) -> Guess {
    let line = &text[line_start..line_end];
    let before = at - line_start;
    let bytes = line.as_bytes();
    let mut index = line.len() - line.trim_start_matches(' ').len();
    // Hyphens of items.
    while bytes.get(index) == Some(&b'-') && bytes.get(index + 1).is_none_or(|b| *b == b' ') && index < before {
        index += 1;
        while bytes.get(index) == Some(&b' ') && index < before {
            index += 1;
        }
    }
    let (mut start, mut in_value, mut depth) = (index.min(before), false, 0_usize);
    let mut quote = None;
    while index < before {
        let byte = bytes[index];
        let next_is_space = bytes.get(index + 1).is_none_or(|b| *b == b' ');
        match (byte, quote) {
            (b'$', _) if bytes.get(index + 1) == Some(&b'{') => {
                index = skip_expression(line, index + 2).min(before);
                continue;
            }
            (b, Some(open)) if b == open => quote = None,
            (_, Some(_)) => {}
            (b'"' | b'\'', None) if index == start => quote = Some(byte),
            (b':', None) if next_is_space && (!in_value || depth > 0) => {
                in_value = true;
                start = skip_spaces(bytes, index + 1).min(before);
                index = start;
                continue;
            }
            (b'{' | b'[', None) if index == start => {
                depth += 1;
                in_value = byte == b'[';
                start = skip_spaces(bytes, index + 1).min(before);
                index = start;
                continue;
            }
            (b',', None) if depth > 0 => {
                in_value = false;
                start = skip_spaces(bytes, index + 1).min(before);
                index = start;
                continue;
            }
            (b'}' | b']', None) if depth > 0 => depth -= 1,
            _ => {}
        }
        index += 1;
    }
    // From the position to the end of what stands there.
    let mut end = before;
    while end < line.len() {
        let byte = bytes[end];
        let stops = match (in_value, depth > 0, quote) {
            (_, _, Some(open)) => {
                if byte == open {
                    end += 1;
                    break;
                }
                false
            }
            (_, true, None) => matches!(byte, b',' | b'}' | b']' | b':'),
            (false, false, None) => byte == b':' || byte == b' ',
            (true, false, None) => bytes[end..].starts_with(b" #"),
        };
        if stops {
            break;
        }
        end += 1;
    }
    let end = line_start + start + line[start..end.max(start)].trim_end().len();
    let start = line_start + start;
    match in_value {
        true => Guess::Value { start, end, braces: depth },
        false => Guess::Key { start, end, colon: text[end..line_end].trim_start().starts_with(':') },
    }
}

fn skip_spaces(bytes: &[u8], mut at: usize) -> usize {
    while bytes.get(at) == Some(&b' ') {
        at += 1;
    }
    at
}

/// The end of an expression that begins at a position, behind its closing brace; the end of the text without one.
pub(crate) fn skip_expression(text: &str, from: usize) -> usize {
    let bytes = text.as_bytes();
    let (mut depth, mut index, mut quote) = (1_usize, from, None);
    while index < bytes.len() {
        match (bytes[index], quote) {
            (b'\\', Some(_)) => index += 1,
            (b, Some(open)) if b == open => quote = None,
            (_, Some(_)) => {}
            (b @ (b'\'' | b'`'), None) => quote = Some(b),
            (b'{', None) => depth += 1,
            (b'}', None) => {
                depth -= 1;
                if depth == 0 {
                    return index + 1;
                }
            }
            _ => {}
        }
        index += 1;
    }
    bytes.len()
}

/// The path to the mark.
fn find(node: &Node, path: &mut Vec<At>) -> bool {
    match &node.kind {
        Kind::Text(text) => text.text == MARK,
        Kind::List(items) => items.iter().enumerate().any(|(index, item)| {
            path.push(At::Item(index));
            find(item, path) || path.pop().is_none()
        }),
        Kind::Map(members) => members.iter().any(|(key, value): &(Key, Node)| {
            path.push(At::Key(key.name.clone()));
            key.name == MARK || find(value, path) || path.pop().is_none()
        }),
        _ => false,
    }
}

/// The innermost node on the way to a path, the root left out: where a value that is not there yet would belong.
pub(crate) fn nearest<'n>(root: &'n Node, path: &[At]) -> Option<&'n Node> {
    (1..=path.len()).rev().find_map(|end| node(root, &path[..end]))
}

/// The node at a path.
pub(crate) fn node<'n>(root: &'n Node, path: &[At]) -> Option<&'n Node> {
    path.iter().try_fold(root, |node, at| match (&node.kind, at) {
        (Kind::Map(members), At::Key(key)) => {
            members.iter().find(|(known, _)| known.name == *key).map(|(_, node)| node)
        }
        // `404: …` is a key although it looks like a position.
        (Kind::Map(members), At::Item(item)) => {
            let name = item.to_string();
            members.iter().find(|(known, _)| known.name == name).map(|(_, node)| node)
        }
        (Kind::List(items), At::Item(index)) => items.get(*index),
        _ => None,
    })
}
