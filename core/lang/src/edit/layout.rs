//! Where the parts of a tree stand in the lines of its text: columns, ends, and the lines that belong to an item.

use crate::diagnostic::Place;
use crate::document::yaml::{Key, Kind, Node};

/// The start of the line of a position.
pub(super) fn line_start(text: &str, at: usize) -> usize {
    text[..at.min(text.len())].rfind('\n').map_or(0, |found| found + 1)
}

/// The end of the line of a position, without its line break.
pub(super) fn line_end(text: &str, at: usize) -> usize {
    let at = at.min(text.len());
    text[at..].find('\n').map_or(text.len(), |found| at + found)
}

/// The start of the next line; the end of the text behind the last one.
pub(super) fn next_line(text: &str, at: usize) -> usize {
    (line_end(text, at) + 1).min(text.len())
}

/// How many bytes stand before a position on its line.
pub(super) fn column(text: &str, at: usize) -> usize {
    at - line_start(text, at)
}

/// Whether a list or mapping is written with brackets or braces.
pub(super) fn is_flow(text: &str, node: &Node) -> bool {
    text[(node.at.start as usize).min(text.len())..].starts_with(['{', '['])
}

/// Whether a node stands for one that is written elsewhere.
pub(super) fn is_alias(text: &str, node: &Node) -> bool {
    text[(node.at.start as usize).min(text.len())..].starts_with('*')
}

/// Where a node's own text ends.
pub(super) fn end_of(text: &str, node: &Node) -> usize {
    let plain = (node.at.end as usize).min(text.len());
    if is_alias(text, node) {
        return plain;
    }
    match &node.kind {
        Kind::Map(members) if !is_flow(text, node) => members.last().map_or(plain, |member| member_end(text, member)),
        Kind::List(items) if !is_flow(text, node) => items.last().map_or(plain, |item| {
            let end = end_of(text, item);
            // An item without a value ends behind its hyphen.
            if is_empty(text, item) { trimmed(text, end) } else { end }
        }),
        _ => trimmed(text, plain),
    }
}

/// A position without the white space before it.
fn trimmed(text: &str, at: usize) -> usize {
    text[..at].trim_end_matches([' ', '\n', '\r', '\t']).len()
}

fn is_empty(text: &str, node: &Node) -> bool {
    matches!(node.kind, Kind::Null)
        && text.get(node.at.start as usize..node.at.end as usize).is_none_or(|t| t.trim().is_empty())
}

/// Where a key with its value ends.
pub(super) fn member_end(text: &str, (key, node): &(Key, Node)) -> usize {
    match is_empty(text, node) {
        true => behind_colon(text, key).unwrap_or(key.at.end as usize),
        false => end_of(text, node),
    }
}

/// The position behind a key's colon.
pub(super) fn behind_colon(text: &str, key: &Key) -> Option<usize> {
    let end = key.at.end as usize;
    let found = text.get(end..)?.find(|c: char| c != ' ')? + end;
    text[found..].starts_with(':').then_some(found + 1)
}

/// Where the value of a key is written: from its first character on the key's line, or nothing where it is written below.
pub(super) fn inline_value(text: &str, member: &(Key, Node)) -> Option<(usize, usize)> {
    let colon = behind_colon(text, &member.0)?;
    let rest = &text[colon..line_end(text, colon)];
    let start = colon + rest.find(|c: char| c != ' ' && c != '\t')?;
    (!text[start..].starts_with('#')).then(|| (start, member_end(text, member).max(start)))
}

/// The lines of an item of a block list.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Item {
    /// Where its comment lines begin, or else its own.
    pub start: usize,
    /// The hyphen.
    pub marker: usize,
    /// Behind the line break of its last line.
    pub end: usize,
}

/// The items of a block list by their lines; nothing where one does not begin a line, but the first after a hyphen.
pub(super) fn items(text: &str, list: &Node) -> Option<Vec<Item>> {
    let Kind::List(nodes) = &list.kind else { return None };
    let opening = first_marker(text, list, nodes)?;
    let column = column(text, opening);
    let mut from = line_start(text, opening);
    let mut out: Vec<Item> = Vec::with_capacity(nodes.len());
    for node in nodes {
        let mut line = from;
        let marker = loop {
            let marker = line + column;
            let at = text.get(marker..line_end(text, line)).unwrap_or_default();
            let begins = at == "-" || at.starts_with("- ");
            let first = out.is_empty() && marker == opening;
            if begins && (first || text[line..marker].trim().is_empty()) {
                break marker;
            }
            let next = next_line(text, line);
            if next <= line || next >= text.len() {
                return None;
            }
            line = next;
        };
        let last = if is_empty(text, node) { marker } else { end_of(text, node).max(marker) };
        let least = if out.is_empty() { 0 } else { from };
        let start = comments_above(text, line_start(text, marker), column, least);
        out.push(Item { start, marker, end: next_line(text, last) });
        from = next_line(text, last);
    }
    Some(out)
}

/// The hyphen of the first item.
///
/// A list at the column of its key has the place of its first item, which stands behind the hyphen.
fn first_marker(text: &str, list: &Node, items: &[Node]) -> Option<usize> {
    let start = list.at.start as usize;
    if items.first()?.at.start != list.at.start {
        return Some(start);
    }
    let mut at = start;
    loop {
        let line = line_start(text, at);
        let before = text[line..at].trim_end();
        // An anchor may stand between hyphen and value.
        let before = match before.rfind(' ') {
            Some(space) if before[space + 1..].starts_with('&') => before[..space].trim_end(),
            _ => before,
        };
        let comment = text[line..line_end(text, line)].trim_start().starts_with('#');
        if before.ends_with('-') && !comment {
            return Some(line + before.len() - 1);
        }
        if line == 0 || !(before.trim().is_empty() || comment) {
            return None;
        }
        at = line - 1;
    }
}

/// The column of the hyphens of a list.
pub(super) fn list_column(text: &str, list: &Node) -> Option<usize> {
    match &list.kind {
        Kind::List(nodes) => first_marker(text, list, nodes).map(|at| column(text, at)),
        _ => None,
    }
}

/// The first of the comment lines right above a line, of the same indentation; not before `least`.
pub(super) fn comments_above(text: &str, line: usize, indentation: usize, least: usize) -> usize {
    let mut start = line;
    while start > least {
        let above = line_start(text, start - 1);
        let content = text[above..start].trim_end();
        let comment = content.trim_start();
        if above < least || !comment.starts_with('#') || content.len() - comment.len() != indentation {
            break;
        }
        start = above;
    }
    start
}

/// A piece of whole lines, moved to the right or to the left; lines without text stay as they are.
pub fn shifted(lines: &str, by: isize) -> String {
    let mut out = String::with_capacity(lines.len());
    for line in lines.split_inclusive('\n') {
        if line.trim().is_empty() {
            out.push_str(line);
        } else if by >= 0 {
            out.extend(std::iter::repeat_n(' ', by as usize));
            out.push_str(line);
        } else {
            let spaces = line.len() - line.trim_start_matches(' ').len();
            out.push_str(&line[spaces.min(by.unsigned_abs())..]);
        }
    }
    out
}

/// The edit that writes one more member behind a key of a mapping, which may be written with braces: where, and what.
pub fn behind(text: &str, map: &Node, key: &str, member: &str) -> (Place, String) {
    let found = map.as_map().and_then(|members| members.iter().find(|(known, _)| known.name == key));
    let Some(found) = found else { return (map.at, String::new()) };
    let end = member_end(text, found);
    match is_flow(text, map) {
        true => (Place::new(end, end), format!(", {member}")),
        false => {
            let at = line_end(text, end);
            (Place::new(at, at), format!("\n{}{member}", " ".repeat(column(text, found.0.at.start as usize))))
        }
    }
}

/// The lines of a key of the document with its value and the comments right above.
pub fn key_lines(text: &str, root: &Node, name: &str) -> Option<String> {
    let member = root.as_map()?.iter().find(|(key, _)| key.name == name)?;
    let line = line_start(text, member.0.at.start as usize);
    let start = comments_above(text, line, column(text, member.0.at.start as usize), 0);
    let mut lines = text.get(start..next_line(text, member_end(text, member)))?.to_owned();
    if !lines.ends_with('\n') {
        lines.push('\n');
    }
    Some(lines)
}
