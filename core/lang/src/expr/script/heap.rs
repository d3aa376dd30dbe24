//! The lists and objects that a script can still change.
//!
//! Each has a number; an [open value](Value::open) of that number stands for it wherever the script passes it on, so
//! that all its names see the same items. What is not reachable any more is found by counting references, when the memory has grown:
//! only rings of lists and objects that hold each other stay until the script ends. Memory is bounded by [`MOST`].

use std::sync::Arc;

use super::super::eval::{ErrorKind, EvalError, Res};
use kanzlei_model::value::{List, ObjectBuilder, Value};

/// The most bytes that a script may hold in lists and objects, with their texts.
pub const MOST: u64 = 96 << 20;
/// Bytes at which the memory is swept for the first time.
const FIRST_SWEEP: u64 = 1 << 20;
/// Bytes of a list or object beside what is in it.
const CELL: u64 = 160;

/// What a list or object holds.
#[derive(Clone, Debug)]
pub enum Content {
    /// Nothing: the number is free.
    Free,
    /// Items.
    List(Arc<Vec<Value>>),
    /// Members.
    Object(ObjectBuilder),
}

/// The items of a list, held while it is walked through.
#[derive(Clone, Debug)]
pub enum Items {
    /// Of a list that does not change.
    Plain(Arc<List>),
    /// Of an open one, as they were.
    Open(Arc<Vec<Value>>),
}

impl std::ops::Deref for Items {
    type Target = [Value];

    fn deref(&self) -> &[Value] {
        match self {
            Items::Plain(list) => list.items(),
            Items::Open(items) => items,
        }
    }
}

#[derive(Debug)]
struct Cell {
    /// The open value; each copy of it is a reference.
    open: Value,
    content: Content,
}

/// The memory of a script.
#[derive(Debug)]
pub struct Heap {
    cells: Vec<Cell>,
    free_lists: Vec<u32>,
    free_objects: Vec<u32>,
    /// At most what is held: what was taken out or is out of reach counts until the next sweep.
    bytes: u64,
    sweep_at: u64,
}

impl Default for Heap {
    fn default() -> Self {
        Heap { cells: Vec::new(), free_lists: Vec::new(), free_objects: Vec::new(), bytes: 0, sweep_at: FIRST_SWEEP }
    }
}

/// The bytes of a value where it is held.
fn held(value: &Value) -> u64 {
    match value {
        Value::Text(text) => 24 + text.len() as u64,
        _ => 24,
    }
}

fn size(content: &Content) -> u64 {
    match content {
        Content::Free => 0,
        Content::List(items) => CELL + items.iter().map(held).sum::<u64>(),
        Content::Object(members) => {
            CELL + members.iter().map(|(name, value)| 40 + name.len() as u64 + held(value)).sum::<u64>()
        }
    }
}

impl Heap {
    /// A new list; the open value that stands for it.
    pub fn list(&mut self, items: Vec<Value>) -> Res {
        let content = Content::List(Arc::new(items));
        self.add(content, Value::open_list)
    }

    /// A new object.
    pub fn object(&mut self, members: ObjectBuilder) -> Res {
        self.add(Content::Object(members), Value::open_object)
    }

    fn add(&mut self, content: Content, open: fn(u32) -> Value) -> Res {
        self.grow(size(&content))?;
        let is_list = matches!(content, Content::List(_));
        let free = if is_list { self.free_lists.pop() } else { self.free_objects.pop() };
        if let Some(number) = free
            && let Some(cell) = self.cells.get_mut(number as usize)
        {
            // What stood for the former one is referred to by nothing but the cell.
            cell.content = content;
            return Ok(cell.open.clone());
        }
        let open = open(self.cells.len() as u32);
        self.cells.push(Cell { open: open.clone(), content });
        Ok(open)
    }

    /// Counts bytes that are about to be held.
    pub fn grow(&mut self, bytes: u64) -> Res<()> {
        self.bytes = self.bytes.saturating_add(bytes);
        if self.bytes <= self.sweep_at {
            return Ok(());
        }
        self.sweep();
        self.bytes = self.bytes.saturating_add(bytes);
        self.sweep_at = (self.bytes * 2).clamp(FIRST_SWEEP, MOST);
        if self.bytes > MOST {
            let message = format!("the script holds more than {} MiB in lists and objects and was ended", MOST >> 20);
            return Err(EvalError::new(ErrorKind::Budget, message).into());
        }
        Ok(())
    }

    /// Counts a value that is about to be held.
    pub fn hold(&mut self, value: &Value) -> Res<()> {
        self.grow(held(value))
    }

    /// What a list or object holds, to be made a value of: a copy, or all of it where nothing reads it any more.
    pub fn content(&mut self, number: u32, ends: bool) -> Content {
        match self.cells.get_mut(number as usize).map(|cell| &mut cell.content) {
            Some(content) if ends => std::mem::replace(content, Content::Free),
            Some(content) => content.clone(),
            None => Content::Free,
        }
    }

    fn unreachable(&self, number: u32) -> bool {
        let Some(cell) = self.cells.get(number as usize) else { return false };
        let references = match &cell.open {
            Value::List(list) => Arc::strong_count(list),
            Value::Object(object) => Arc::strong_count(object),
            _ => return false,
        };
        references == 1 && !matches!(cell.content, Content::Free)
    }

    /// Frees what nothing refers to, and counts what is left.
    fn sweep(&mut self) {
        let mut doubtful: Vec<u32> = (0..self.cells.len() as u32).filter(|number| self.unreachable(*number)).collect();
        while let Some(number) = doubtful.pop() {
            if !self.unreachable(number) {
                continue;
            }
            let content = std::mem::replace(&mut self.cells[number as usize].content, Content::Free);
            let inner: Vec<u32> = match &content {
                Content::Free => Vec::new(),
                Content::List(items) => items.iter().filter_map(Value::open).collect(),
                Content::Object(members) => members.iter().filter_map(|(_, value)| value.open()).collect(),
            };
            match content {
                Content::List(_) => self.free_lists.push(number),
                _ => self.free_objects.push(number),
            }
            drop(content);
            doubtful.extend(inner);
        }
        self.bytes = self.cells.iter().map(|cell| size(&cell.content)).sum();
    }

    /// The items of an open list.
    #[inline]
    pub fn items(&self, number: u32) -> Option<&Arc<Vec<Value>>> {
        match self.cells.get(number as usize).map(|cell| &cell.content) {
            Some(Content::List(items)) => Some(items),
            _ => None,
        }
    }

    /// The items of an open list, to be changed.
    #[inline]
    pub fn items_mut(&mut self, number: u32) -> Option<&mut Vec<Value>> {
        match self.cells.get_mut(number as usize).map(|cell| &mut cell.content) {
            Some(Content::List(items)) => Some(Arc::make_mut(items)),
            _ => None,
        }
    }

    /// The members of an open object.
    #[inline]
    pub fn members(&self, number: u32) -> Option<&ObjectBuilder> {
        match self.cells.get(number as usize).map(|cell| &cell.content) {
            Some(Content::Object(members)) => Some(members),
            _ => None,
        }
    }

    /// The members of an open object, to be changed.
    #[inline]
    pub fn members_mut(&mut self, number: u32) -> Option<&mut ObjectBuilder> {
        match self.cells.get_mut(number as usize).map(|cell| &mut cell.content) {
            Some(Content::Object(members)) => Some(members),
            _ => None,
        }
    }
}
