//! The values that workflows pass around: JSON plus ECMAScript's `undefined`.
//!
//! A value is cheap to clone (text, lists and objects are shared), never changes once made, and knows
//! how deep it is and how much it weighs, so that no program can build one that later overflows a stack or, written as
//! JSON, the memory. Two numbers exist:
//! [`Value::Int`] keeps all 64 bits of an integer that is only passed through, [`Value::Num`] is what
//! arithmetic works with. Objects list their members in ECMAScript's order (ECMA-262 §10.1.11.1):
//! integer keys first, ascending, then the others as they were added.
//!
//! This module may not know expressions, documents or HTTP.
//!
//! ```
//! use kanzlei_model::value::Value;
//! let value: Value = serde_json::from_str(r#"{"imo": 9074720, "name": "Havbris"}"#).unwrap();
//! assert_eq!(value.member("name"), Some(&Value::text("Havbris")));
//! assert_eq!(value.to_json(), r#"{"imo":9074720,"name":"Havbris"}"#);
//! ```

mod convert;
mod keys;
mod members;
mod read;
mod write;

use std::sync::{Arc, OnceLock};

use crate::file::File;
use members::Members;
use read::Source;

pub use keys::key;
pub use members::Iter;
pub use write::write_json_text;

/// Shared text.
pub type Str = Arc<str>;

/// The deepest nesting a value may have; the same bound that serde_json puts on documents it reads.
pub const MAX_DEPTH: u16 = 127;
/// The most that a value may weigh, in bytes; see [`Value::weight`].
pub const MAX_WEIGHT: u64 = 64 << 20;

/// One value of the expression language.
#[derive(Clone, Debug, Default)]
pub enum Value {
    /// ECMAScript's `undefined`: an absent member, left out when written as JSON.
    #[default]
    Undefined,
    /// JSON null.
    Null,
    /// A boolean.
    Bool(bool),
    /// An integer as it came in, with all its bits.
    Int(i64),
    /// Any other number, as ECMAScript has it.
    Num(f64),
    /// A text.
    Text(Str),
    /// A list, shared.
    List(Arc<List>),
    /// An object with its members in order, shared.
    Object(Arc<Object>),
}

/// What was made at once, or is made of a text when it is asked for. Small: most values are made at once.
#[derive(Debug)]
enum Lazy<T> {
    Made(T),
    Of(Box<Unread<T>>),
    /// Held by an evaluation under this number; empty here.
    Open(u32),
}

/// The text of what was not asked for yet, and what was made of it since.
#[derive(Debug)]
struct Unread<T> {
    source: Source,
    made: OnceLock<T>,
}

/// What has nothing in it.
trait Empty: 'static {
    fn empty() -> &'static Self;
}

impl Empty for Vec<Value> {
    fn empty() -> &'static Self {
        static EMPTY: Vec<Value> = Vec::new();
        &EMPTY
    }
}

impl Empty for Members {
    fn empty() -> &'static Self {
        static EMPTY: Members = Members::Few(Vec::new());
        &EMPTY
    }
}

impl<T: Default> Default for Lazy<T> {
    fn default() -> Self {
        Lazy::Made(T::default())
    }
}

impl<T: Empty> Lazy<T> {
    fn of(source: Source) -> Self {
        Lazy::Of(Box::new(Unread { source, made: OnceLock::new() }))
    }

    fn get(&self, make: impl FnOnce(&Source) -> T) -> &T {
        match self {
            Lazy::Made(made) => made,
            Lazy::Of(unread) => unread.made.get_or_init(|| make(&unread.source)),
            Lazy::Open(_) => T::empty(),
        }
    }

    /// The text, while nothing was asked for.
    fn unread(&self) -> Option<&Source> {
        match self {
            Lazy::Of(unread) if unread.made.get().is_none() => Some(&unread.source),
            _ => None,
        }
    }

    /// The JSON text that is written of it, where it has one.
    fn exact(&self) -> Option<&str> {
        match self {
            Lazy::Of(unread) => unread.source.exact(),
            _ => None,
        }
    }

    /// Whether both have the same text: they are equal then, and need not be read.
    fn same(&self, other: &Self) -> bool {
        self.exact().is_some_and(|text| other.exact() == Some(text))
    }
}

/// A list, its nesting depth and its weight.
#[derive(Debug)]
pub struct List {
    items: Lazy<Vec<Value>>,
    depth: u16,
    weight: u64,
    /// What a pattern match adds to its list of groups: `index`, `input`, `groups`.
    named: Option<Arc<Object>>,
}

/// An object's members, its nesting depth and its weight.
#[derive(Debug, Default)]
pub struct Object {
    members: Lazy<Members>,
    depth: u16,
    weight: u64,
    /// The file that it stands for. No JSON and no expression makes one.
    file: Option<Box<File>>,
}

/// Collects members; [`ObjectBuilder::finish`] puts them into ECMAScript's order once.
#[derive(Clone, Debug, Default)]
pub struct ObjectBuilder {
    members: Members,
    has_index_key: bool,
}

impl Value {
    /// A text.
    pub fn text(text: impl Into<Str>) -> Self {
        Value::Text(text.into())
    }

    /// A list of these items.
    pub fn list(items: Vec<Value>) -> Self {
        let (mut depth, mut weight) = (0, 2u64);
        for item in &items {
            depth = depth.max(item.depth());
            weight = weight.saturating_add(item.weight().saturating_add(1));
        }
        Value::known_list(items, depth + 1, weight)
    }

    fn known_list(items: Vec<Value>, depth: u16, weight: u64) -> Self {
        Value::List(Arc::new(List { items: Lazy::Made(items), depth, weight, named: None }))
    }

    fn known_object(members: Members, depth: u16, weight: u64) -> Self {
        Value::Object(Arc::new(Object { members: Lazy::Made(members), depth, weight, file: None }))
    }

    fn lazy_list(source: Source, depth: u16, weight: u64) -> Self {
        Value::List(Arc::new(List { items: Lazy::of(source), depth, weight, named: None }))
    }

    fn lazy_object(source: Source, depth: u16, weight: u64) -> Self {
        Value::Object(Arc::new(Object { members: Lazy::of(source), depth, weight, file: None }))
    }

    /// The list a pattern match returns, with its further members by name.
    pub fn match_list(items: Vec<Value>, named: Arc<Object>) -> Self {
        let weight = items.iter().fold(2, |weight: u64, item| item.weight().saturating_add(weight).saturating_add(1));
        Value::List(Arc::new(List { items: Lazy::Made(items), depth: 1, weight, named: Some(named) }))
    }

    /// An object from members in the order given.
    pub fn object<K: Into<Str>>(members: impl IntoIterator<Item = (K, Value)>) -> Self {
        let members = members.into_iter();
        let mut builder = ObjectBuilder::with_capacity(members.size_hint().0);
        for (key, value) in members {
            builder.insert(key.into(), value);
        }
        builder.finish()
    }

    /// A list that an evaluation still changes: it stands for the items that the evaluation holds under a number,
    /// and is empty itself. It must not leave the evaluation.
    pub fn open_list(number: u32) -> Self {
        Value::List(Arc::new(List { items: Lazy::Open(number), depth: 1, weight: 2, named: None }))
    }

    /// An object that an evaluation still changes, as [`Value::open_list`].
    pub fn open_object(number: u32) -> Self {
        Value::Object(Arc::new(Object { members: Lazy::Open(number), depth: 1, weight: 2, file: None }))
    }

    /// The number under which an evaluation holds what this stands for.
    #[inline]
    pub fn open(&self) -> Option<u32> {
        match self {
            Value::List(list) => list.open(),
            Value::Object(object) => object.open(),
            _ => None,
        }
    }

    /// How deep lists and objects are nested in it; 0 for anything else.
    pub fn depth(&self) -> u16 {
        match self {
            Value::List(list) => list.depth,
            Value::Object(object) => object.depth,
            _ => 0,
        }
    }

    /// About how many bytes its JSON text has. What is shared inside counts each time it occurs, as it is written
    /// each time.
    pub fn weight(&self) -> u64 {
        match self {
            Value::Text(text) => text.len() as u64 + 2,
            Value::List(list) => list.weight,
            Value::Object(object) => object.weight,
            _ => 8,
        }
    }

    /// The same object, standing for a file; other values stay as they are.
    pub(crate) fn standing_for(self, file: File) -> Self {
        match self {
            Value::Object(object) => {
                let (members, depth, weight) = (object.members().clone(), object.depth, object.weight);
                let file = Some(Box::new(file));
                Value::Object(Arc::new(Object { members: Lazy::Made(members), depth, weight, file }))
            }
            other => other,
        }
    }

    /// Whether it stands for a file.
    pub fn is_file(&self) -> bool {
        matches!(self, Value::Object(object) if object.file.is_some())
    }

    /// The same value with another one at a JSON Pointer (RFC 6901); nothing where it has nothing there.
    pub fn with_at(&self, pointer: &str, value: Value) -> Option<Value> {
        let Some(rest) = pointer.strip_prefix('/') else { return pointer.is_empty().then_some(value) };
        let (part, rest) = match rest.find('/') {
            Some(at) => rest.split_at(at),
            None => (rest, ""),
        };
        let name = part.replace("~1", "/").replace("~0", "~");
        match self {
            Value::List(list) => {
                let index: usize = name.parse().ok()?;
                let mut items = list.items().to_vec();
                let item = items.get_mut(index)?;
                *item = item.with_at(rest, value)?;
                Some(Value::list(items))
            }
            Value::Object(object) => {
                let inner = object.get(&name)?.with_at(rest, value)?;
                let mut builder = ObjectBuilder::with_capacity(object.len());
                builder.extend(object);
                builder.insert(name.as_str().into(), inner);
                Some(builder.finish())
            }
            _ => None,
        }
    }

    /// The same value as it comes back from its JSON: without members that are `undefined`, what is no JSON number as null. Files stay files.
    pub fn plain(&self) -> Value {
        match self.is_plain() {
            true => self.clone(),
            false => self.made_plain(),
        }
    }

    fn is_plain(&self) -> bool {
        match self {
            Value::Undefined => false,
            Value::Num(num) => num.is_finite() && (*num != 0.0 || num.is_sign_positive()),
            Value::List(list) => {
                list.items.exact().is_some() || (list.named.is_none() && list.items().iter().all(Value::is_plain))
            }
            Value::Object(object) => {
                object.members.exact().is_some() || object.iter().all(|(_, value)| value.is_plain())
            }
            _ => true,
        }
    }

    fn made_plain(&self) -> Value {
        match self {
            Value::Undefined => Value::Null,
            Value::Num(num) if !num.is_finite() => Value::Null,
            Value::Num(num) if *num == 0.0 => Value::Int(0),
            Value::List(list) => Value::list(list.items().iter().map(Value::plain).collect()),
            Value::Object(object) if object.file.is_none() => {
                let members = object.iter().filter(|(_, value)| !matches!(value, Value::Undefined));
                Value::object(members.map(|(name, value)| (name.clone(), value.plain())))
            }
            other => other.clone(),
        }
    }

    /// The member of that name, when this is an object that has it.
    pub fn member(&self, name: &str) -> Option<&Value> {
        match self {
            Value::Object(object) => object.get(name),
            _ => None,
        }
    }

    /// The text, if it is one.
    pub fn as_text(&self) -> Option<&str> {
        match self {
            Value::Text(text) => Some(text),
            _ => None,
        }
    }

    /// The items, if it is a list.
    pub fn as_list(&self) -> Option<&[Value]> {
        match self {
            Value::List(list) => Some(list.items()),
            _ => None,
        }
    }

    /// Whether it is `undefined` or null.
    pub fn is_nullish(&self) -> bool {
        matches!(self, Value::Undefined | Value::Null)
    }

    /// What a message calls this kind of value.
    pub fn kind(&self) -> &'static str {
        match self {
            Value::Undefined => "undefined",
            Value::Null => "null",
            Value::Bool(_) => "a boolean",
            Value::Int(_) | Value::Num(_) => "a number",
            Value::Text(_) => "a string",
            Value::List(_) => "an array",
            Value::Object(_) => "an object",
        }
    }

    /// Returns the object, where it is one.
    pub fn as_object(&self) -> Option<&Object> {
        match self {
            Value::Object(object) => Some(object),
            _ => None,
        }
    }
}

/// Equal in content. Unlike `===` this compares lists and objects member by member.
impl PartialEq for Value {
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Value::Undefined, Value::Undefined) | (Value::Null, Value::Null) => true,
            (Value::Bool(a), Value::Bool(b)) => a == b,
            (Value::Int(a), Value::Int(b)) => a == b,
            (Value::Num(a), Value::Num(b)) => a == b,
            (Value::Int(a), Value::Num(b)) | (Value::Num(b), Value::Int(a)) => *a as f64 == *b,
            (Value::Text(a), Value::Text(b)) => a == b,
            (Value::List(a), Value::List(b)) => a.items.same(&b.items) || a.items() == b.items(),
            (Value::Object(a), Value::Object(b)) => a.members.same(&b.members) || a.members() == b.members(),
            _ => false,
        }
    }
}

impl List {
    /// The items in order.
    pub fn items(&self) -> &[Value] {
        self.items.get(Source::items)
    }

    /// The number of items; counting does not read them.
    pub fn len(&self) -> usize {
        self.items.unread().map_or_else(|| self.items().len(), Source::count)
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The number under which an evaluation holds its items.
    #[inline]
    pub fn open(&self) -> Option<u32> {
        match self.items {
            Lazy::Open(number) => Some(number),
            _ => None,
        }
    }

    /// Members beside the items, on the result of a pattern match.
    pub fn named(&self) -> Option<&Object> {
        self.named.as_deref()
    }
}

impl Object {
    fn members(&self) -> &Members {
        self.members.get(Source::members)
    }

    /// The member of a name.
    #[inline]
    pub fn get(&self, name: &str) -> Option<&Value> {
        self.members().get(name)
    }

    /// The number of members.
    pub fn len(&self) -> usize {
        self.members.unread().map_or_else(|| self.members().len(), Source::count)
    }

    /// The file that it stands for.
    pub fn file(&self) -> Option<&File> {
        self.file.as_deref()
    }

    /// Whether it has no members.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The members in order.
    pub fn iter(&self) -> Iter<'_> {
        self.members().iter()
    }

    /// The number under which an evaluation holds its members.
    #[inline]
    pub fn open(&self) -> Option<u32> {
        match self.members {
            Lazy::Open(number) => Some(number),
            _ => None,
        }
    }
}

impl ObjectBuilder {
    /// An empty object with room for so many members.
    pub fn with_capacity(capacity: usize) -> Self {
        ObjectBuilder { members: Members::with_capacity(capacity), has_index_key: false }
    }

    /// Adds a member, or replaces the value of an existing one.
    pub fn insert(&mut self, key: Str, value: Value) {
        self.has_index_key |= array_index(&key).is_some();
        self.members.insert(key, value);
    }

    /// Adds a member where there is none of that name.
    pub fn add(&mut self, key: Str, value: impl FnOnce() -> Value) {
        if self.members.get(&key).is_none() {
            self.insert(key, value());
        }
    }

    /// The member of a name.
    pub fn get(&self, key: &str) -> Option<&Value> {
        self.members.get(key)
    }

    /// The number of members.
    pub fn len(&self) -> usize {
        self.members.len()
    }

    /// Whether it has no members.
    pub fn is_empty(&self) -> bool {
        self.members.len() == 0
    }

    /// The members in the order in which they were added; [`ObjectBuilder::arrange`] puts them into ECMAScript's.
    pub fn iter(&self) -> Iter<'_> {
        self.members.iter()
    }

    /// Changes each value, until one fails.
    ///
    /// # Errors
    /// When changing one fails.
    pub fn each_value<E>(&mut self, change: impl FnMut(&mut Value) -> Result<(), E>) -> Result<(), E> {
        self.members.each_value(change)
    }

    /// Puts the members into ECMAScript's order.
    pub fn arrange(&mut self) {
        if std::mem::take(&mut self.has_index_key) {
            in_order(&mut self.members);
        }
    }

    /// The member of a name, to be changed.
    pub fn get_mut(&mut self, key: &str) -> Option<&mut Value> {
        self.members.get_mut(key)
    }

    /// Takes a member out again.
    pub fn remove(&mut self, key: &str) -> Option<Value> {
        self.members.remove(key)
    }

    /// Adds all members of an object, later ones replacing earlier ones of the same name.
    pub fn extend(&mut self, object: &Object) {
        for (key, value) in object.iter() {
            self.insert(key.clone(), value.clone());
        }
    }

    /// The object.
    pub fn finish(mut self) -> Value {
        self.arrange();
        let (mut depth, mut weight) = (0, 2u64);
        for (key, value) in self.members.iter() {
            depth = depth.max(value.depth());
            weight = weight.saturating_add(value.weight().saturating_add(key.len() as u64 + 4));
        }
        Value::known_object(self.members, depth + 1, weight)
    }
}

/// Puts members into ECMAScript's order: only those whose names are integers move.
fn in_order(members: &mut Members) {
    members.sort_by_rank(|name| array_index(name).map_or(u64::MAX, u64::from));
}

/// The array index a key stands for, if it is one in canonical form (ECMA-262 §6.1.7).
pub fn array_index(key: &str) -> Option<u32> {
    let first = *key.as_bytes().first()?;
    if !first.is_ascii_digit() || (first == b'0' && key.len() > 1) || key.len() > 10 {
        return None;
    }
    key.parse().ok().filter(|&index| index != u32::MAX)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn json_goes_in_and_out_unchanged() {
        for json in [
            "null",
            "true",
            "[1,-2,3.5,1e+21,9007199254740993]",
            r#"{"b":1,"a":"x\"\\\n\u0001é😀"}"#,
            r#"{"":[{}],"nested":{"deep":[[]]}}"#,
            "9223372036854775807",
        ] {
            let value: Value = serde_json::from_str(json).expect(json);
            assert_eq!(value.to_json(), json);
            assert_eq!(Value::from_json(&serde_json::from_str(json).expect(json)).to_json(), json);
            assert_eq!(serde_json::from_str::<Value>(&value.to_serde().to_string()).expect(json), value);
        }
    }

    #[test]
    fn members_stand_in_ecmascript_order() {
        let value: Value = serde_json::from_str(r#"{"b":1,"10":2,"a":3,"9":4,"01":5}"#).expect("json");
        assert_eq!(value.to_json(), r#"{"9":4,"10":2,"b":1,"a":3,"01":5}"#);
    }

    #[test]
    fn undefined_members_are_left_out_and_depth_is_known() {
        let value = Value::object([("gone", Value::Undefined), ("here", Value::list(vec![Value::list(vec![])]))]);
        assert_eq!(value.to_json(), r#"{"here":[[]]}"#);
        assert_eq!(value.depth(), 3);
    }

    #[test]
    fn a_value_weighs_about_what_its_json_has_in_bytes() {
        for json in [r#"{"name":"Havbris","calls":[{"berth":4},{"berth":2}]}"#, r#"["a","bc",[]]"#, r#""text""#] {
            let value: Value = serde_json::from_str(json).expect(json);
            let (weight, bytes) = (value.weight() as f64, json.len() as f64);
            assert!((0.7..1.6).contains(&(weight / bytes)), "{json}: {weight}");
        }
        // Twice the same inside counts twice: two to the power of a hundred.
        let doubled = (0..100).fold(Value::text("x"), |value, _| Value::list(vec![value.clone(), value]));
        assert_eq!((doubled.depth(), doubled.weight()), (100, u64::MAX));
    }
}
