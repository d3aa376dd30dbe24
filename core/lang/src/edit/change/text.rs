//! Changes as edits of the lines of a text.

use std::fmt::Write;

use super::{At, Change, key_of, missing, node_at, path_text, position, read, read_value, split};
use crate::document::yaml::{self, Key, Kind, Node};
use crate::edit::layout::{
    self, behind_colon, column, end_of, inline_value, is_alias, is_flow, line_end, line_start, next_line,
};
use crate::edit::{Edit, Error};

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

/// A text that is changed, with its tree.
pub(super) struct Changing<'t> {
    pub text: &'t str,
    pub root: &'t Node,
    /// Whether new values are written as JSON.
    pub flow_values: bool,
}

impl Changing<'_> {
    pub fn edits(&self, change: &Change) -> Result<Vec<Edit>, Error> {
        match change {
            Change::Set { at, value } => self.set(at, value),
            Change::Text { at, text } => self.set(at, &serde_json::to_string(text).unwrap_or_default()),
            Change::Rename { at, name } => self.rename(at, name),
            Change::Remove { at } => self.remove(at),
            Change::Insert { at, value } => {
                let (item, list) = position(at)?;
                if self.begins_list(list)? {
                    let first = layout::shifted(&dedented(value.trim_end()), 2);
                    return self.set(list, &format!("- {}", first.trim_start_matches(' ')));
                }
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

    /// Whether a list has no items yet and can be written anew, in block layout if it may.
    fn begins_list(&self, list: &[At]) -> Result<bool, Error> {
        let (last, outer) = split(list)?;
        let outer = self.node(outer)?;
        let At::Key(name) = last else { return Ok(false) };
        let found = outer.as_map().and_then(|members| members.iter().find(|(known, _)| known.name == *name));
        Ok(match found {
            None => outer.as_map().is_some(),
            Some((_, node)) => match &node.kind {
                Kind::Null => true,
                Kind::List(items) => items.is_empty() && !is_flow(self.text, outer),
                _ => false,
            },
        })
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
                    if let Some(edits) = self.begun_in_lines(&at[..at.len() - 1], members, &name, value) {
                        return edits;
                    }
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

    /// Adds the first key of an empty mapping that is usually written on lines of its own.
    fn begun_in_lines(
        &self,
        map: &[At],
        members: &[(Key, Node)],
        name: &str,
        value: &str,
    ) -> Option<Result<Vec<Edit>, Error>> {
        let (At::Key(holder), outer) = map.split_last()? else { return None };
        let begins = members.is_empty() && super::IN_LINES.contains(&holder.as_str()) && !self.flow_values;
        if !begins || is_flow(self.text, self.node(outer).ok()?) {
            return None;
        }
        let lines = self.block(value, 0).ok()?;
        Some(self.set(map, &format!("{}:{lines}", yaml::quoted(name))))
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

    fn rename(&self, at: &[At], name: &str) -> Result<Vec<Edit>, Error> {
        let (last, parent) = split(at)?;
        let Kind::Map(members) = &self.node(parent)?.kind else {
            return Err(Error::WrongKind { at: path_text(parent), wanted: "a mapping" });
        };
        let old = key_of(last);
        let (key, _) = members.iter().find(|(known, _)| known.name == old).ok_or_else(|| missing(at))?;
        Ok(vec![Self::edit(key.at.start as usize, key.at.end as usize, yaml::quoted(name))])
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
                if members.len() == 1 {
                    return self.set(path, "{}");
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
        let source = self.node(list)?;
        let mut edits = self.remove(from)?;
        if self.begins_list(other)? {
            let lines = match self.flow_values {
                true => format!("[{}]", node_at(self.root, from)?.to_value().to_json()),
                false => dedented(&self.lines_of(source, item)?),
            };
            edits.extend(self.set(other, &lines)?);
            return Ok(edits);
        }
        let goal = self.node(other)?;
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
