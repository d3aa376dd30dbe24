//! The members of an object in order: few of them in a list, which is smaller and as fast to search, many with an index.

use ahash::RandomState;
use indexmap::IndexMap;

use super::{Str, Value};

/// Members up to which searching the list is as fast as an index.
const FEW: usize = 8;

/// Names and values in order; each name once.
#[derive(Clone, Debug)]
pub(super) enum Members {
    /// Up to [`FEW`].
    Few(Vec<(Str, Value)>),
    /// More. Boxed, as most objects have few.
    Many(Box<IndexMap<Str, Value, RandomState>>),
}

impl Default for Members {
    fn default() -> Self {
        Members::Few(Vec::new())
    }
}

impl Members {
    pub fn with_capacity(capacity: usize) -> Self {
        match capacity <= FEW {
            true => Members::Few(Vec::with_capacity(capacity)),
            false => Members::Many(Box::new(IndexMap::with_capacity_and_hasher(capacity, RandomState::default()))),
        }
    }

    pub fn len(&self) -> usize {
        match self {
            Members::Few(few) => few.len(),
            Members::Many(many) => many.len(),
        }
    }

    pub fn get(&self, name: &str) -> Option<&Value> {
        match self {
            // Lengths differ before any text is read.
            Members::Few(few) => few.iter().find(|(key, _)| same(key, name)).map(|(_, value)| value),
            Members::Many(many) => many.get(name),
        }
    }

    pub fn get_mut(&mut self, name: &str) -> Option<&mut Value> {
        match self {
            Members::Few(few) => few.iter_mut().find(|(key, _)| same(key, name)).map(|(_, value)| value),
            Members::Many(many) => many.get_mut(name),
        }
    }

    /// Adds a member, or replaces the value of the one of that name.
    pub fn insert(&mut self, name: Str, value: Value) {
        match self {
            Members::Few(few) => match few.iter().position(|(key, _)| same(key, &name)) {
                Some(at) => few[at].1 = value,
                None if few.len() < FEW => few.push((name, value)),
                None => {
                    let mut many: IndexMap<_, _, _> = std::mem::take(few).into_iter().collect();
                    many.insert(name, value);
                    *self = Members::Many(Box::new(many));
                }
            },
            Members::Many(many) => _ = many.insert(name, value),
        }
    }

    /// Adds a member whose name is not there yet; [`Members::with_capacity`] made room for it.
    pub fn push(&mut self, name: Str, value: Value) {
        match self {
            Members::Few(few) if few.len() < FEW => few.push((name, value)),
            _ => self.insert(name, value),
        }
    }

    pub fn remove(&mut self, name: &str) -> Option<Value> {
        match self {
            Members::Few(few) => few.iter().position(|(key, _)| same(key, name)).map(|at| few.remove(at).1),
            Members::Many(many) => many.shift_remove(name),
        }
    }

    /// Changes each value.
    pub fn each_value<E>(&mut self, change: impl FnMut(&mut Value) -> Result<(), E>) -> Result<(), E> {
        match self {
            Members::Few(few) => few.iter_mut().map(|(_, value)| value).try_for_each(change),
            Members::Many(many) => many.values_mut().try_for_each(change),
        }
    }

    /// Sorts by a number of each name; what has the same one stays in order.
    pub fn sort_by_rank(&mut self, rank: impl Fn(&str) -> u64) {
        match self {
            Members::Few(few) => few.sort_by_key(|(key, _)| rank(key)),
            Members::Many(many) => many.sort_by(|a, _, b, _| rank(a).cmp(&rank(b))),
        }
    }

    pub fn iter(&self) -> Iter<'_> {
        match self {
            Members::Few(few) => Iter::Few(few.iter()),
            Members::Many(many) => Iter::Many(many.iter()),
        }
    }
}

/// Whether a name is this one. Most are short: two words are compared sooner than a function for it is called.
#[inline]
fn same(key: &Str, name: &str) -> bool {
    let (a, b) = (key.as_bytes(), name.as_bytes());
    if a.len() != b.len() {
        return false;
    }
    match a.len() {
        0..4 => a.iter().eq(b),
        4..8 => ends::<4>(a, b),
        8..=16 => ends::<8>(a, b),
        _ => a == b,
    }
}

/// Whether both begin and end with the same bytes.
#[inline]
fn ends<const N: usize>(a: &[u8], b: &[u8]) -> bool {
    a.first_chunk::<N>() == b.first_chunk::<N>() && a.last_chunk::<N>() == b.last_chunk::<N>()
}

/// Equal in content, in whatever order.
impl PartialEq for Members {
    fn eq(&self, other: &Self) -> bool {
        self.len() == other.len() && self.iter().all(|(name, value)| other.get(name) == Some(value))
    }
}

/// Iterates over members in order.
pub enum Iter<'m> {
    /// Of few.
    Few(std::slice::Iter<'m, (Str, Value)>),
    /// Of many.
    Many(indexmap::map::Iter<'m, Str, Value>),
}

impl<'m> Iterator for Iter<'m> {
    type Item = (&'m Str, &'m Value);

    fn next(&mut self) -> Option<Self::Item> {
        match self {
            Iter::Few(few) => few.next().map(|(name, value)| (name, value)),
            Iter::Many(many) => many.next(),
        }
    }

    fn size_hint(&self) -> (usize, Option<usize>) {
        match self {
            Iter::Few(few) => few.size_hint(),
            Iter::Many(many) => many.size_hint(),
        }
    }
}

impl ExactSizeIterator for Iter<'_> {}
