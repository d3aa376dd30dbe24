//! Changes of the tree alone: what a changed text must read as.

use super::{At, Change, key_of, missing, node_at, path_text, position, read_value, split};
use crate::diagnostic::Place;
use crate::document::yaml::{Key, Kind, Node};
use crate::edit::Error;

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

fn list_mut<'n>(root: &'n mut Node, path: &[At]) -> Result<&'n mut Vec<Node>, Error> {
    match &mut node_mut(root, path)?.kind {
        Kind::List(items) => Ok(items),
        _ => Err(Error::WrongKind { at: path_text(path), wanted: "a list" }),
    }
}

/// The list at a path; a new one where a mapping does not have the key yet, or has it without a value.
fn list_or_new<'n>(root: &'n mut Node, path: &[At]) -> Result<&'n mut Vec<Node>, Error> {
    let (last, parent) = split(path)?;
    if let (Kind::Map(members), At::Key(name)) = (&mut node_mut(root, parent)?.kind, last) {
        match members.iter_mut().find(|(known, _)| known.name == *name) {
            None => members.push((key(name), Node { kind: Kind::List(Vec::new()), at: Place::default() })),
            Some((_, node)) if matches!(node.kind, Kind::Null) => node.kind = Kind::List(Vec::new()),
            Some(_) => {}
        }
    }
    list_mut(root, path)
}

fn key(name: &str) -> Key {
    Key { name: name.to_owned(), at: Place::default(), value: kanzlei_model::value::Value::text(name) }
}

/// The tree after a change.
pub(super) fn changed(root: &Node, change: &Change) -> Result<Node, Error> {
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
        Change::Text { at, text } => {
            let value = serde_json::to_string(text).unwrap_or_default();
            return changed(&root, &Change::Set { at: at.clone(), value });
        }
        Change::Rename { at, name } => {
            node_at(&root, at)?;
            let (last, parent) = split(at)?;
            let Kind::Map(members) = &mut node_mut(&mut root, parent)?.kind else {
                return Err(Error::WrongKind { at: path_text(parent), wanted: "a mapping" });
            };
            let old = key_of(last);
            if old != *name && members.iter().any(|(known, _)| known.name == *name) {
                return Err(Error::Refused("another key has this name"));
            }
            members.iter_mut().filter(|(known, _)| known.name == old).for_each(|(known, _)| *known = key(name));
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
            let items = list_or_new(&mut root, list)?;
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
            if target > list_or_new(&mut root, other)?.len() {
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
