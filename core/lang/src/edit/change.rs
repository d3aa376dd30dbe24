//! Changes of the tree as edits of the text.
//!
//! Each change is worked out twice: on the lines of the text, and on the tree. What the new text is read as must be the
//! changed tree, else the change is refused; so a layout that was not foreseen costs an error and never the document.

use std::fmt::Write;

use serde::{Deserialize, Serialize};

use super::layout::{
    self, behind_colon, column, end_of, inline_value, is_alias, is_flow, line_end, line_start, next_line,
};
use super::{Edit, Error, apply};
use crate::diagnostic::{Place, Report};
use crate::document::yaml::{self, Key, Kind, Node};

/// One step from a node of a document to one inside it.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(untagged)]
pub enum At {
    /// A position in a list, from 0.
    Item(usize),
    /// A key of a mapping.
    Key(String),
}

/// A change to the tree of a document.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(tag = "change", rename_all = "snake_case")]
pub enum Change {
    /// Writes the value of a key, which need not be there yet, or of an item.
    Set {
        /// Where.
        at: Vec<At>,
        /// The value, as YAML.
        value: String,
    },
    /// Removes a key with its value, or an item; comment lines right above go along.
    Remove {
        /// Where.
        at: Vec<At>,
    },
    /// Writes an item into a list.
    Insert {
        /// The list and the position the item will have.
        at: Vec<At>,
        /// The item, as YAML.
        value: String,
    },
    /// Moves an item within its list or to another one; comment lines right above go along.
    Move {
        /// The item.
        from: Vec<At>,
        /// The list and the position before which it will stand, both as they are now.
        to: Vec<At>,
    },
    /// Writes an item once more, behind itself.
    Duplicate {
        /// The item.
        at: Vec<At>,
    },
    /// Puts items that follow each other into a new item.
    Wrap {
        /// The first of them.
        at: Vec<At>,
        /// How many.
        count: usize,
        /// The members of the new item before them, as YAML: `if: vessel.status === 404`.
        with: String,
        /// The key of the new item that holds them: `then`.
        under: String,
    },
    /// Puts the items of a list in place of the item that it is part of.
    Unwrap {
        /// The list, at a key of the item.
        at: Vec<At>,
    },
}

/// A path as text: `steps/2/then/0`.
pub fn path_text(path: &[At]) -> String {
    let mut out = String::new();
    for (index, at) in path.iter().enumerate() {
        let _ = match at {
            At::Item(item) => write!(out, "{}{item}", if index > 0 { "/" } else { "" }),
            At::Key(key) => write!(out, "{}{key}", if index > 0 { "/" } else { "" }),
        };
    }
    out
}

/// A path from its text; a part of digits alone is a position.
pub fn parse_path(text: &str) -> Vec<At> {
    let parts = text.split('/').filter(|part| !part.is_empty());
    parts.map(|part| part.parse().map_or_else(|_| At::Key(part.to_owned()), At::Item)).collect()
}

/// Whether something stands at a path of a text.
pub fn exists(text: &str, path: &[At]) -> bool {
    read(text).is_ok_and(|root| node_at(&root, path).is_ok())
}

/// The edits that make a change.
pub fn change(text: &str, change: &Change) -> Result<Vec<Edit>, Error> {
    let root = read(text).map_err(Error::Unreadable)?;
    let wanted = changed(&root, change)?;
    let edits = Changing { text, root: &root, flow_values: false }.edits(change)?;
    if fits(text, &edits, &wanted) {
        return Ok(edits);
    }
    // Values that do not fit into the text as they were given may do so in the form of JSON.
    let edits = Changing { text, root: &root, flow_values: true }.edits(change)?;
    match fits(text, &edits, &wanted) {
        true => Ok(edits),
        false => Err(Error::Refused("the layout of the text around this does not allow the change; edit it as text")),
    }
}

fn fits(text: &str, edits: &[Edit], wanted: &Node) -> bool {
    apply(text, edits).ok().and_then(|text| read(&text).ok()).is_some_and(|found| same(&found, wanted))
}

/// Reads a text, or says what is wrong with it.
fn read(text: &str) -> Result<Node, String> {
    let mut report = Report::new("", text);
    let found = yaml::parse(&mut report);
    let faults = report.finish();
    match (found, faults.first()) {
        (Some(root), None) => Ok(root),
        (_, Some(fault)) => Err(format!("{} (line {})", fault.message, fault.line)),
        (None, None) => Err("it is empty".into()),
    }
}

fn read_value(value: &str) -> Result<Node, Error> {
    match value.trim() {
        "" => Ok(Node { kind: Kind::Null, at: Place::default() }),
        _ => read(value).map_err(Error::BadValue),
    }
}

/// Whether two trees are the same, wherever their nodes stand.
fn same(a: &Node, b: &Node) -> bool {
    match (&a.kind, &b.kind) {
        (Kind::List(a), Kind::List(b)) => a.len() == b.len() && a.iter().zip(b).all(|(a, b)| same(a, b)),
        (Kind::Map(a), Kind::Map(b)) => {
            a.len() == b.len() && a.iter().zip(b).all(|((ka, a), (kb, b))| ka.name == kb.name && same(a, b))
        }
        (Kind::Float(a), Kind::Float(b)) => a.to_bits() == b.to_bits(),
        (Kind::List(_) | Kind::Map(_), _) | (_, Kind::List(_) | Kind::Map(_)) => false,
        _ => a.to_value() == b.to_value() && a.what() == b.what(),
    }
}

fn missing(path: &[At]) -> Error {
    Error::Missing(path_text(path))
}

fn node_at<'n>(root: &'n Node, path: &[At]) -> Result<&'n Node, Error> {
    let mut node = root;
    for (index, at) in path.iter().enumerate() {
        let found = match (&node.kind, at) {
            (Kind::Map(members), At::Key(key)) => members.iter().find(|(known, _)| known.name == *key).map(|(_, n)| n),
            // `404: …` is a key although it looks like a position.
            (Kind::Map(members), At::Item(item)) => {
                let name = item.to_string();
                members.iter().find(|(known, _)| known.name == name).map(|(_, n)| n)
            }
            (Kind::List(items), At::Item(item)) => items.get(*item),
            _ => None,
        };
        node = found.ok_or_else(|| missing(&path[..=index]))?;
    }
    Ok(node)
}

fn node_mut<'n>(root: &'n mut Node, path: &[At]) -> Result<&'n mut Node, Error> {
    let mut node = root;
    for (index, at) in path.iter().enumerate() {
        let found = match (&mut node.kind, at) {
            (Kind::Map(members), at) => {
                let name = key_of(at);
                members.iter_mut().find(|(known, _)| known.name == name).map(|(_, n)| n)
            }
            (Kind::List(items), At::Item(item)) => items.get_mut(*item),
            _ => None,
        };
        node = found.ok_or_else(|| missing(&path[..=index]))?;
    }
    Ok(node)
}

fn key_of(at: &At) -> String {
    match at {
        At::Key(key) => key.clone(),
        At::Item(item) => item.to_string(),
    }
}

fn split(path: &[At]) -> Result<(&At, &[At]), Error> {
    path.split_last().ok_or(Error::Refused("the whole document cannot be changed like this"))
}

fn list_mut<'n>(root: &'n mut Node, path: &[At]) -> Result<&'n mut Vec<Node>, Error> {
    match &mut node_mut(root, path)?.kind {
        Kind::List(items) => Ok(items),
        _ => Err(Error::WrongKind { at: path_text(path), wanted: "a list" }),
    }
}

fn position(path: &[At]) -> Result<(usize, &[At]), Error> {
    match split(path)? {
        (At::Item(item), list) => Ok((*item, list)),
        (At::Key(_), _) => Err(Error::WrongKind { at: path_text(path), wanted: "an item of a list" }),
    }
}

fn key(name: &str) -> Key {
    Key { name: name.to_owned(), at: Place::default(), value: kanzlei_model::value::Value::text(name) }
}

/// The tree after a change.
fn changed(root: &Node, change: &Change) -> Result<Node, Error> {
    let mut root = root.clone();
    match change {
        Change::Set { at, value } => {
            let value = read_value(value)?;
            let (last, parent) = split(at)?;
            match (&mut node_mut(&mut root, parent)?.kind, last) {
                (Kind::Map(members), last) => {
                    let name = key_of(last);
                    match members.iter_mut().find(|(known, _)| known.name == name) {
                        Some((_, node)) => *node = value,
                        None => members.push((key(&name), value)),
                    }
                }
                (Kind::List(items), At::Item(item)) => *items.get_mut(*item).ok_or_else(|| missing(at))? = value,
                _ => return Err(Error::WrongKind { at: path_text(parent), wanted: "a mapping" }),
            }
        }
        Change::Remove { at } => {
            node_at(&root, at)?;
            let (last, parent) = split(at)?;
            match (&mut node_mut(&mut root, parent)?.kind, last) {
                (Kind::List(items), At::Item(item)) => {
                    items.remove(*item);
                }
                (Kind::Map(members), last) => {
                    let name = key_of(last);
                    members.retain(|(known, _)| known.name != name);
                }
                _ => return Err(missing(at)),
            }
        }
        Change::Insert { at, value } => {
            let value = read_value(value)?;
            let (item, list) = position(at)?;
            let items = list_mut(&mut root, list)?;
            if item > items.len() {
                return Err(missing(at));
            }
            items.insert(item, value);
        }
        Change::Move { from, to } => {
            let node = node_at(&root, from)?.clone();
            let ((item, list), (target, other)) = (position(from)?, position(to)?);
            if other.starts_with(from) {
                return Err(Error::Refused("an item cannot be moved into itself"));
            }
            if target > list_mut(&mut root, other)?.len() {
                return Err(missing(to));
            }
            // What is written first must not move the place of what is written second.
            list_mut(&mut root, other)?.insert(target, node);
            let (mut item, mut list) = (item, list.to_vec());
            if list == other && target <= item {
                item += 1;
            } else if list.len() > other.len()
                && list.starts_with(other)
                && let At::Item(above) = &mut list[other.len()]
                && *above >= target
            {
                *above += 1;
            }
            list_mut(&mut root, &list)?.remove(item);
        }
        Change::Duplicate { at } => {
            let node = node_at(&root, at)?.clone();
            let (item, list) = position(at)?;
            list_mut(&mut root, list)?.insert(item + 1, node);
        }
        Change::Wrap { at, count, with, under } => {
            let (item, list) = position(at)?;
            let outer = read_value(with)?;
            let Kind::Map(mut members) = outer.kind else {
                return Err(Error::BadValue("the new item is a mapping".into()));
            };
            let items = list_mut(&mut root, list)?;
            if *count == 0 || item + count > items.len() {
                return Err(missing(at));
            }
            let inner: Vec<Node> = items.drain(item..item + count).collect();
            members.push((key(under), Node { kind: Kind::List(inner), at: Place::default() }));
            items.insert(item, Node { kind: Kind::Map(members), at: Place::default() });
        }
        Change::Unwrap { at } => {
            let (_, outer) = split(at)?;
            let Kind::List(inner) = node_at(&root, at)?.kind.clone() else {
                return Err(Error::WrongKind { at: path_text(at), wanted: "a list" });
            };
            let (item, list) = position(outer)?;
            list_mut(&mut root, list)?.splice(item..=item, inner);
        }
    }
    Ok(root)
}

/// The lines of some items of a list.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Piece {
    /// Where they begin, comments right above included.
    pub start: usize,
    /// Behind the line break of the last line.
    pub end: usize,
    /// The column of their hyphens.
    pub column: usize,
}

/// The lines of items that follow each other.
pub fn piece(text: &str, at: &[At], count: usize) -> Result<Piece, Error> {
    let root = read(text).map_err(Error::Unreadable)?;
    let changing = Changing { text, root: &root, flow_values: false };
    let (item, list) = position(at)?;
    let list = changing.node(list)?;
    if is_flow(text, list) {
        return Err(Error::Refused("these steps stand between brackets; write them on lines of their own first"));
    }
    let lines = layout::items(text, list).ok_or(Error::Refused("this list begins within a line"))?;
    let last = item.checked_add(count).and_then(|end| end.checked_sub(1)).filter(|_| count > 0);
    let (Some(first), Some(last)) = (lines.get(item), last.and_then(|last| lines.get(last))) else {
        return Err(missing(at));
    };
    if !text[line_start(text, first.marker)..first.marker].trim().is_empty() {
        return Err(Error::Refused("this list begins within a line"));
    }
    Ok(Piece { start: first.start, end: last.end, column: column(text, first.marker) })
}

struct Changing<'t> {
    text: &'t str,
    root: &'t Node,
    /// Whether new values are written as JSON.
    flow_values: bool,
}

impl Changing<'_> {
    fn edits(&self, change: &Change) -> Result<Vec<Edit>, Error> {
        match change {
            Change::Set { at, value } => self.set(at, value),
            Change::Remove { at } => self.remove(at),
            Change::Insert { at, value } => {
                let (item, list) = position(at)?;
                let node = self.node(list)?;
                match is_flow(self.text, node) {
                    true => self.insert_flow(node, item, &self.flow(value)?),
                    false => self.insert_block(node, item, &self.item(node, value)?, &[]),
                }
            }
            Change::Move { from, to } => self.moved(from, to),
            Change::Duplicate { at } => {
                let (item, list) = position(at)?;
                let node = self.node(list)?;
                let lines = self.lines_of(node, item)?;
                self.insert_block(node, item + 1, &lines, &[])
            }
            Change::Wrap { at, count, with, under } => self.wrap(at, *count, with, under),
            Change::Unwrap { at } => self.unwrap(at),
        }
    }

    fn node(&self, path: &[At]) -> Result<&Node, Error> {
        for length in 0..=path.len() {
            if is_alias(self.text, node_at(self.root, &path[..length])?) {
                return Err(Error::Refused("this is an alias; change what it stands for"));
            }
        }
        node_at(self.root, path)
    }

    /// The column of the hyphens of a list in block layout.
    fn column(&self, list: &Node) -> Result<usize, Error> {
        layout::list_column(self.text, list).ok_or(Error::Refused("this list begins within a line"))
    }

    fn edit(start: usize, end: usize, text: impl Into<String>) -> Edit {
        Edit { start: start as u32, end: end as u32, text: text.into() }
    }

    /// A value on one line, as it may stand between braces.
    fn flow(&self, value: &str) -> Result<String, Error> {
        let node = read_value(value)?;
        let value = value.trim();
        let on_one_line = !value.contains('\n') && !value.contains(" #");
        let is_block = matches!(node.kind, Kind::Map(_) | Kind::List(_)) && !is_flow(value, &node);
        let plain_in_flow = !value.contains([',', '[', ']', '{', '}']) || value.starts_with(['"', '\'', '{', '[']);
        match on_one_line && !is_block && plain_in_flow && !self.flow_values {
            true => Ok(value.to_owned()),
            false => Ok(node.to_value().to_json()),
        }
    }

    /// A value behind a key in block layout: on its line, or on lines below it.
    fn block(&self, value: &str, indentation: usize) -> Result<String, Error> {
        let node = read_value(value)?;
        let trimmed = value.trim_end();
        if self.flow_values {
            return Ok(format!(" {}", node.to_value().to_json()));
        }
        if trimmed.trim().is_empty() {
            return Ok(String::new());
        }
        let below = matches!(node.kind, Kind::Map(_) | Kind::List(_)) && !is_flow(trimmed, &node);
        let shift = indentation + 2;
        Ok(match below {
            true => format!("\n{}", layout::shifted(&dedented(trimmed), shift as isize)),
            false => {
                let mut lines = trimmed.trim_start().splitn(2, '\n');
                let first = lines.next().unwrap_or_default();
                match lines.next() {
                    None => format!(" {first}"),
                    Some(rest) => format!(" {first}\n{}", layout::shifted(&dedented(rest), shift as isize)),
                }
            }
        })
    }

    /// The lines of a new item of a block list.
    fn item(&self, list: &Node, value: &str) -> Result<String, Error> {
        let node = read_value(value)?;
        let column = self.column(list)?;
        let value = match self.flow_values {
            true => node.to_value().to_json(),
            false => dedented(value.trim_end()),
        };
        let shifted = layout::shifted(&value, column as isize + 2);
        Ok(format!("{}- {}\n", " ".repeat(column), shifted.trim_start_matches(' ')))
    }

    fn set(&self, at: &[At], value: &str) -> Result<Vec<Edit>, Error> {
        let (last, parent) = split(at)?;
        let parent = self.node(parent)?;
        let text = self.text;
        match &parent.kind {
            Kind::List(items) => {
                let At::Item(item) = last else { return Err(missing(at)) };
                let node = items.get(*item).ok_or_else(|| missing(at))?;
                if is_flow(text, parent) || !matches!(node.kind, Kind::Map(_) | Kind::List(_) | Kind::Null) {
                    return Ok(vec![Self::edit(node.at.start as usize, end_of(text, node), self.flow(value)?)]);
                }
                let lines = layout::items(text, parent).ok_or(Error::Refused("this list begins within a line"))?;
                let found = lines.get(*item).ok_or_else(|| missing(at))?;
                let new = self.item(parent, value)?;
                let new = new.trim_start_matches(' ').trim_end_matches('\n');
                let end = end_of(text, node).max(found.marker + 1);
                Ok(vec![Self::edit(found.marker, end, new)])
            }
            Kind::Map(members) => {
                let name = key_of(last);
                let flow = is_flow(text, parent);
                let Some(member) = members.iter().find(|(known, _)| known.name == name) else {
                    return self.add(parent, members, &name, value);
                };
                if is_alias(text, &member.1) {
                    return Err(Error::Refused("this is an alias; change what it stands for"));
                }
                let colon = behind_colon(text, &member.0).ok_or(Error::Refused("this key has no colon"))?;
                if flow {
                    let (start, end) = inline_value(text, member).unwrap_or((colon, colon));
                    let space = if start == colon { " " } else { "" };
                    return Ok(vec![Self::edit(start, end, format!("{space}{}", self.flow(value)?))]);
                }
                let new = self.block(value, column(text, member.0.at.start as usize))?;
                Ok(match inline_value(text, member) {
                    // A comment at the end of the line stays there.
                    Some((_, end)) if new.starts_with('\n') => {
                        let line = line_end(text, end);
                        vec![Self::edit(colon, end, ""), Self::edit(line, line, new)]
                    }
                    Some((start, end)) => vec![Self::edit(start, end, new.strip_prefix(' ').unwrap_or(&new))],
                    None => {
                        let end = layout::member_end(text, member);
                        let line = line_end(text, colon);
                        match new.starts_with('\n') {
                            true => vec![Self::edit(line, end.max(line), new)],
                            false => vec![Self::edit(colon, colon, new), Self::edit(line, end.max(line), "")],
                        }
                    }
                })
            }
            _ => Err(Error::WrongKind { at: path_text(&at[..at.len() - 1]), wanted: "a mapping" }),
        }
    }

    /// Adds a key behind the others.
    fn add(&self, map: &Node, members: &[(Key, Node)], name: &str, value: &str) -> Result<Vec<Edit>, Error> {
        let text = self.text;
        let name = yaml::quoted(name);
        if is_flow(text, map) {
            let value = self.flow(value)?;
            return Ok(vec![match members.last() {
                Some(last) => {
                    let end = layout::member_end(text, last);
                    Self::edit(end, end, format!(", {name}: {value}"))
                }
                None => {
                    let inside = end_of(text, map) - 1;
                    Self::edit(inside, inside, format!("{name}: {value}"))
                }
            }]);
        }
        let last = members.last().ok_or(Error::Refused("the mapping is empty"))?;
        let indentation = column(text, last.0.at.start as usize);
        let new = self.block(value, indentation)?;
        let at = line_end(text, layout::member_end(text, last));
        Ok(vec![Self::edit(at, at, format!("\n{}{name}:{new}", " ".repeat(indentation)))])
    }

    fn remove(&self, at: &[At]) -> Result<Vec<Edit>, Error> {
        let (last, path) = split(at)?;
        let parent = self.node(path)?;
        let text = self.text;
        match (&parent.kind, last) {
            (Kind::List(nodes), At::Item(item)) if is_flow(text, parent) => {
                let ranges: Vec<(usize, usize)> =
                    nodes.iter().map(|node| (node.at.start as usize, end_of(text, node))).collect();
                Ok(vec![flow_removal(&ranges, *item).ok_or_else(|| missing(at))?])
            }
            (Kind::List(nodes), At::Item(item)) => {
                let lines = layout::items(text, parent).ok_or(Error::Refused("this list begins within a line"))?;
                let found = lines.get(*item).ok_or_else(|| missing(at))?;
                if nodes.len() == 1 {
                    // A list in block layout has at least one item.
                    let start = line_end(text, line_start(text, found.start).saturating_sub(1));
                    return Ok(vec![Self::edit(start, found.end.saturating_sub(1).max(start), " []")]);
                }
                if column(text, found.marker) > 0
                    && !text[line_start(text, found.marker)..found.marker].trim().is_empty()
                {
                    return Err(Error::Refused("this list begins within a line"));
                }
                Ok(vec![self.removal(&lines, *item)])
            }
            (Kind::Map(members), last) => {
                let name = key_of(last);
                let index = members.iter().position(|(known, _)| known.name == name).ok_or_else(|| missing(at))?;
                if is_flow(text, parent) {
                    let ranges: Vec<(usize, usize)> = members
                        .iter()
                        .map(|member| (member.0.at.start as usize, layout::member_end(text, member)))
                        .collect();
                    return Ok(vec![flow_removal(&ranges, index).ok_or_else(|| missing(at))?]);
                }
                self.remove_member(members, index)
            }
            _ => Err(missing(at)),
        }
    }

    /// Removes a key of a block mapping with its lines.
    fn remove_member(&self, members: &[(Key, Node)], index: usize) -> Result<Vec<Edit>, Error> {
        let text = self.text;
        let (member, start) = (&members[index], members[index].0.at.start as usize);
        if members.len() == 1 {
            return Err(Error::Refused("it is the only key; remove the mapping itself"));
        }
        let end = next_line(text, layout::member_end(text, member));
        let line = line_start(text, start);
        if text[line..start].trim().is_empty() {
            let least = if index == 0 { line } else { next_line(text, layout::member_end(text, &members[index - 1])) };
            let start = layout::comments_above(text, line, column(text, start), least.min(line));
            return Ok(vec![Self::edit(start, end, "")]);
        }
        // The first key stands behind the hyphen of an item: the next one comes into its place, unless comments lie between.
        let next = members[1].0.at.start as usize;
        let between = text.get(end..next).unwrap_or_default();
        match between.trim().is_empty() {
            true => Ok(vec![Self::edit(start, next, "")]),
            false => Ok(vec![Self::edit(text[..start].trim_end().len(), end.saturating_sub(1), "")]),
        }
    }

    /// Removes the lines of an item, with the empty lines that set it apart.
    fn removal(&self, lines: &[layout::Item], item: usize) -> Edit {
        let text = self.text;
        let found = lines[item];
        let (mut start, mut end) = (found.start, found.end);
        if item + 1 < lines.len() {
            while text[end..].starts_with('\n') {
                end += 1;
            }
        } else {
            while text[..start].ends_with("\n\n") {
                start -= 1;
            }
        }
        Self::edit(start, end, "")
    }

    /// The lines of an item of a block list, comments included.
    fn lines_of(&self, list: &Node, item: usize) -> Result<String, Error> {
        let text = self.text;
        if is_flow(text, list) {
            let Kind::List(items) = &list.kind else { return Err(Error::Refused("it is no list")) };
            let node = items.get(item).ok_or(Error::Refused("there is no such item"))?;
            return Ok(format!("- {}\n", node.to_value().to_json()));
        }
        let lines = layout::items(text, list).ok_or(Error::Refused("this list begins within a line"))?;
        let found = lines.get(item).ok_or(Error::Refused("there is no such item"))?;
        let begins = line_start(text, found.marker);
        let mut out = String::new();
        if text[begins..found.marker].trim().is_empty() {
            out.push_str(&text[found.start..found.end]);
        } else {
            // The first item stands behind the hyphen of another one.
            out.push_str(&" ".repeat(found.marker - begins));
            out.push_str(&text[found.marker..found.end]);
        }
        if !out.ends_with('\n') {
            out.push('\n');
        }
        Ok(out)
    }

    /// Writes lines, indented as the list's own, before the item at a position or behind the last one.
    fn insert_block(&self, list: &Node, item: usize, new: &str, leaving: &[usize]) -> Result<Vec<Edit>, Error> {
        let text = self.text;
        let lines = layout::items(text, list).ok_or(Error::Refused("this list begins within a line"))?;
        // Items that are set apart by empty lines stay so.
        let spaced = lines.windows(2).any(|pair| text[pair[0].end..pair[1].start].starts_with('\n'));
        let alone = lines.len() <= leaving.len();
        let gap = if spaced && !alone { "\n" } else { "" };
        match lines.get(item) {
            Some(next) if text[line_start(text, next.marker)..next.marker].trim().is_empty() => {
                Ok(vec![Self::edit(next.start, next.start, format!("{new}{gap}"))])
            }
            Some(_) => Err(Error::Refused("this list begins within a line")),
            None => {
                let last = lines.last().ok_or(Error::Refused("the list is empty"))?;
                let line_break = if text[..last.end].ends_with('\n') { "" } else { "\n" };
                Ok(vec![Self::edit(last.end, last.end, format!("{line_break}{gap}{new}"))])
            }
        }
    }

    fn insert_flow(&self, list: &Node, item: usize, value: &str) -> Result<Vec<Edit>, Error> {
        let Kind::List(nodes) = &list.kind else { return Err(Error::Refused("it is no list")) };
        let text = self.text;
        Ok(vec![match (nodes.get(item), nodes.last()) {
            (Some(next), _) => Self::edit(next.at.start as usize, next.at.start as usize, format!("{value}, ")),
            (None, Some(last)) => {
                let end = end_of(text, last);
                Self::edit(end, end, format!(", {value}"))
            }
            (None, None) => {
                let inside = end_of(text, list) - 1;
                Self::edit(inside, inside, value)
            }
        }])
    }

    fn moved(&self, from: &[At], to: &[At]) -> Result<Vec<Edit>, Error> {
        let ((item, list), (target, other)) = (position(from)?, position(to)?);
        if list == other && (target == item || target == item + 1) {
            return Ok(Vec::new());
        }
        let (source, goal) = (self.node(list)?, self.node(other)?);
        let mut edits = self.remove(from)?;
        if is_flow(self.text, goal) {
            let value = node_at(self.root, from)?.to_value().to_json();
            edits.extend(self.insert_flow(goal, target, &value)?);
            return Ok(edits);
        }
        let lines = self.lines_of(source, item)?;
        let was = if is_flow(self.text, source) { 0 } else { self.column(source)? };
        let lines = layout::shifted(&lines, self.column(goal)? as isize - was as isize);
        let leaving: &[usize] = if list == other { &[0] } else { &[] };
        edits.extend(self.insert_block(goal, target, &lines, leaving)?);
        Ok(edits)
    }

    fn wrap(&self, at: &[At], count: usize, with: &str, under: &str) -> Result<Vec<Edit>, Error> {
        let text = self.text;
        let (_, list) = position(at)?;
        let list = self.node(list)?;
        let taken = piece(text, at, count)?;
        let head = self.item(list, with)?;
        let column = self.column(list)?;
        let mut inner = text[taken.start..taken.end].to_owned();
        if !inner.ends_with('\n') {
            inner.push('\n');
        }
        let inner = layout::shifted(&inner, 4);
        let new = format!("{head}{}{}:\n{inner}", " ".repeat(column + 2), yaml::quoted(under));
        Ok(vec![Self::edit(taken.start, taken.end, new)])
    }

    fn unwrap(&self, at: &[At]) -> Result<Vec<Edit>, Error> {
        let text = self.text;
        let (_, outer) = split(at)?;
        let (item, list) = position(outer)?;
        let (inner, list) = (self.node(at)?, self.node(list)?);
        if is_flow(text, list) {
            return Err(Error::Refused("this step stands between brackets; write it on lines of its own first"));
        }
        let Kind::List(nodes) = &inner.kind else {
            return Err(Error::WrongKind { at: path_text(at), wanted: "a list" });
        };
        if nodes.is_empty() {
            return Err(Error::Refused("the list is empty; remove the step"));
        }
        let lines = layout::items(text, list).ok_or(Error::Refused("this list begins within a line"))?;
        let found = lines.get(item).ok_or_else(|| missing(outer))?;
        let goal = self.column(list)?;
        let mut new = String::new();
        match is_flow(text, inner) {
            true => {
                for node in nodes {
                    let _ = writeln!(new, "{}- {}", " ".repeat(goal), node.to_value().to_json());
                }
            }
            false => {
                let inner_lines = layout::items(text, inner).ok_or(Error::Refused("this list begins within a line"))?;
                let (Some(first), Some(last)) = (inner_lines.first(), inner_lines.last()) else {
                    return Err(missing(at));
                };
                let mut taken = text[first.start..last.end].to_owned();
                if !taken.ends_with('\n') {
                    taken.push('\n');
                }
                new = layout::shifted(&taken, goal as isize - self.column(inner)? as isize);
            }
        }
        let begins = line_start(text, found.marker);
        if !text[begins..found.marker].trim().is_empty() {
            return Err(Error::Refused("this list begins within a line"));
        }
        // Comments above the step stay.
        Ok(vec![Self::edit(begins, found.end, new)])
    }
}

/// Removes one of several parts between brackets, with the comma that sets it apart.
fn flow_removal(ranges: &[(usize, usize)], index: usize) -> Option<Edit> {
    let (start, end) = *ranges.get(index)?;
    Some(match (index.checked_sub(1).and_then(|before| ranges.get(before)), ranges.get(index + 1)) {
        (Some((_, before)), _) => Changing::edit(*before, end, ""),
        (None, Some((next, _))) => Changing::edit(start, *next, ""),
        (None, None) => Changing::edit(start, end, ""),
    })
}

/// Lines without the indentation that all of them share.
fn dedented(lines: &str) -> String {
    let least = lines
        .lines()
        .filter(|line| !line.trim().is_empty())
        .map(|line| line.len() - line.trim_start_matches(' ').len())
        .min();
    layout::shifted(lines, -(least.unwrap_or(0) as isize))
}
