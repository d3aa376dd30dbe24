//! Names of members that occur again and again, shared instead of made anew each time.
//!
//! Each thread has its own: looking one up locks nothing.

use std::cell::RefCell;
use std::collections::HashSet;

use super::Str;

/// Names that a thread remembers; beyond it all are forgotten, so that strangers' names occupy at most some hundred KB.
const MOST: usize = 2048;
/// Bytes of the longest one.
const LONGEST: usize = 48;

thread_local! {
    static KNOWN: RefCell<HashSet<Str, ahash::RandomState>> = RefCell::default();
}

/// The name of a member, shared with others of the same text.
pub fn key(text: &str) -> Str {
    if text.len() > LONGEST {
        return text.into();
    }
    KNOWN.with_borrow_mut(|known| {
        if let Some(key) = known.get(text) {
            return key.clone();
        }
        if known.len() >= MOST {
            known.clear();
        }
        let key: Str = text.into();
        known.insert(key.clone());
        key
    })
}
