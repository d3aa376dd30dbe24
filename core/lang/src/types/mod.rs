//! Types of values, as far as they are known before anything runs.
//!
//! A [`Type`] stands for a set of values: kinds, single values of a kind, lists, objects by member, and
//! unions of those. [`Type::Unknown`] is any value at all; whatever is done with it is assumed to be right,
//! so an open schema makes no noise. [`schema`] reads types from JSON Schema and writes them as such,
//! `infer` walks compiled expressions, `narrow` is what a condition says about the names in it, `fits`
//! says when a value can never fit. Nothing here knows documents or steps.
//!
//! ```
//! use kanzlei_lang::types::Type;
//! let status = Type::union([Type::number(200.0), Type::number(404.0)]);
//! assert_eq!(status.to_string(), "200 | 404");
//! assert_eq!(status.widened().to_string(), "number");
//! ```

mod bind;
mod calls;
mod columns;
mod fits;
mod flow;
mod holds;
mod infer;
mod literals;
mod locales;
mod narrow;
mod operators;
mod pages;
pub mod schema;
mod sites;
mod texts;

#[cfg(test)]
mod tests;

use std::fmt;
use std::sync::Arc;

pub use calls::methods;
pub use columns::row;
pub use fits::contradiction;
pub use holds::misplaced;
pub use infer::{Env, Finding, Part};
pub use texts::{Text, misfit};

use kanzlei_model::value::{Str, Value};

/// A set of values.
#[derive(Clone, Debug)]
pub enum Type {
    /// Any value; nothing is known of it.
    Unknown,
    /// No value: what an expression that cannot be reached returns.
    Never,
    /// `undefined`.
    Undefined,
    /// `null`.
    Null,
    /// A boolean, or one of the two.
    Bool(Option<bool>),
    /// A number, or a single one.
    Number(Option<f64>),
    /// A text.
    Text(Text),
    /// A list.
    List(Arc<Items>),
    /// An object.
    Object(Arc<Shape>),
    /// Two or more of the others; none of them a union or `Never`.
    Union(Arc<[Type]>),
}

/// What is shared is equal without being looked at: types that occur in others many times stay cheap to compare.
impl PartialEq for Type {
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Type::Unknown, Type::Unknown)
            | (Type::Never, Type::Never)
            | (Type::Undefined, Type::Undefined)
            | (Type::Null, Type::Null) => true,
            (Type::Bool(a), Type::Bool(b)) => a == b,
            (Type::Number(a), Type::Number(b)) => a == b,
            (Type::Text(a), Type::Text(b)) => a == b,
            (Type::List(a), Type::List(b)) => Arc::ptr_eq(a, b) || a == b,
            (Type::Object(a), Type::Object(b)) => Arc::ptr_eq(a, b) || a == b,
            (Type::Union(a), Type::Union(b)) => Arc::ptr_eq(a, b) || a == b,
            _ => false,
        }
    }
}

/// The items of a list.
#[derive(Clone, Debug, PartialEq)]
pub struct Items {
    /// What each of them is.
    pub of: Type,
    /// What the first ones are, which are always there; at most [`MOST_FIRST`].
    pub first: Vec<Type>,
    /// The place of the script that makes it, which can change it; nothing outside of scripts.
    pub site: Option<u32>,
}

/// The most items of a list whose types are known one by one.
const MOST_FIRST: usize = 8;

/// The members of an object.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Shape {
    /// The members, in order.
    pub members: Vec<Member>,
    /// The type of undeclared members; `None` when there are none.
    pub rest: Option<Type>,
    /// Whether it is a file, which no expression makes.
    pub file: bool,
    /// What each row is, where it stands for rows that are read where they are used, and the number of their step in the workflow.
    pub rows: Option<(Type, u32)>,
    /// The place of the script that makes it, which can change it; nothing outside of scripts.
    pub site: Option<u32>,
}

/// A member of an object type.
#[derive(Clone, Debug, PartialEq)]
pub struct Member {
    /// Its name.
    pub name: Str,
    /// Type of its value.
    pub value: Type,
    /// Whether it may not be there.
    pub optional: bool,
}

/// Beyond so many single values of a kind a union is the kind itself.
const MOST_LITERALS: usize = 60;
/// Beyond so many alternatives the type is unknown.
const MOST_ALTERNATIVES: usize = 100;

impl Shape {
    /// Returns the member of a name.
    pub fn get(&self, name: &str) -> Option<&Member> {
        self.members.iter().find(|member| &*member.name == name)
    }

    /// What reading a member returns; nothing when there can be no such member.
    pub fn read(&self, name: &str) -> Option<Type> {
        match (self.get(name), &self.rest) {
            (Some(member), _) if member.optional => Some(member.value.clone().or(Type::Undefined)),
            (Some(member), _) => Some(member.value.clone()),
            (None, Some(Type::Unknown)) => Some(Type::Unknown),
            (None, Some(rest)) => Some(rest.clone().or(Type::Undefined)),
            (None, None) => None,
        }
    }

    /// Sets a member, in place of one of the same name.
    pub fn set(&mut self, name: Str, value: Type, optional: bool) {
        match self.members.iter_mut().find(|member| member.name == name) {
            Some(member) => (member.value, member.optional) = (value, optional),
            None => self.members.push(Member { name, value, optional }),
        }
    }
}

impl Type {
    /// Any boolean.
    pub const BOOL: Type = Type::Bool(None);
    /// Any number.
    pub const NUMBER: Type = Type::Number(None);
    /// Any text.
    pub const TEXT: Type = Type::Text(Text::Any);
    /// An instant as text.
    pub const INSTANT: Type = Type::Text(Text::Instant);

    /// Returns the type of one number.
    pub fn number(value: f64) -> Type {
        Type::Number(Some(value))
    }

    /// The text.
    pub fn text(value: impl Into<Str>) -> Type {
        Type::Text(Text::One(value.into()))
    }

    /// Returns the type of lists of an item type.
    pub fn list(item: Type) -> Type {
        Type::List(Arc::new(Items { of: item, first: Vec::new(), site: None }))
    }

    /// A list that begins with these, and continues with items of another type.
    pub fn beginning(first: impl IntoIterator<Item = Type>, rest: Type) -> Type {
        let mut first: Vec<Type> = first.into_iter().collect();
        let of = Type::union(first.iter().cloned().chain([rest]));
        first.truncate(MOST_FIRST);
        Type::List(Arc::new(Items { of, first, site: None }))
    }

    /// What stands at a position of a list, from the end where it is negative.
    pub(crate) fn at(list: &Items, position: Option<f64>) -> Type {
        let maybe = || list.of.clone().or(Type::Undefined);
        match position {
            Some(n) if n.fract() == 0.0 && n >= 0.0 => list.first.get(n as usize).cloned().unwrap_or_else(maybe),
            Some(n) if n.fract() == 0.0 && -n <= list.first.len() as f64 => list.of.clone(),
            _ => maybe(),
        }
    }

    /// An object with these members, all of them there, and no others.
    pub fn object<K: Into<Str>>(members: impl IntoIterator<Item = (K, Type)>) -> Type {
        let members = members.into_iter();
        let members = members.map(|(name, value)| Member { name: name.into(), value, optional: false }).collect();
        Type::Object(Arc::new(Shape { members, ..Shape::default() }))
    }

    /// An object whose members are all of one type, whatever their names.
    pub fn record(value: Type) -> Type {
        Type::Object(Arc::new(Shape { rest: Some(value), ..Shape::default() }))
    }

    /// A file of a media type.
    pub fn file(media: Type) -> Type {
        let members =
            [("name", Type::TEXT.or(Type::Null)), ("media", media), ("size", Type::NUMBER), ("digest", Type::TEXT)];
        Type::object(members).into_file()
    }

    /// The same object, standing for a file.
    fn into_file(self) -> Type {
        match self {
            Type::Object(shape) => Type::Object(Arc::new(Shape { file: true, ..(*shape).clone() })),
            other => other,
        }
    }

    /// What the items of a list are, whichever list it is; unknown for what is none.
    pub fn items(&self) -> Type {
        self.map(|one| match one {
            Type::List(items) => items.of.clone(),
            _ => Type::Unknown,
        })
    }

    /// The rows that a step of the workflow reads, each of a type.
    pub fn rows(row: Type, step: u32) -> Type {
        Type::Object(Arc::new(Shape { rows: Some((row, step)), ..Shape::default() }))
    }

    /// What each row is and the step that reads them, where it is rows and nothing else.
    pub fn as_rows(&self) -> Option<(&Type, u32)> {
        match self {
            Type::Object(shape) => shape.rows.as_ref().map(|(row, step)| (row, *step)),
            _ => None,
        }
    }

    /// Whether it may be rows.
    pub fn may_be_rows(&self) -> bool {
        self.alternatives().iter().any(|one| one.as_rows().is_some())
    }

    /// Whether every value of it is a file.
    pub fn is_file(&self) -> bool {
        !self.alternatives().is_empty()
            && self.alternatives().iter().all(|one| matches!(one, Type::Object(shape) if shape.file))
    }

    /// The type of one value.
    pub fn of(value: &Value) -> Type {
        match value {
            Value::Undefined => Type::Undefined,
            Value::Null => Type::Null,
            Value::Bool(b) => Type::Bool(Some(*b)),
            Value::Int(int) => Type::number(*int as f64),
            Value::Num(num) if num.is_nan() => Type::NUMBER,
            Value::Num(num) => Type::number(*num),
            Value::Text(text) => Type::text(text.clone()),
            Value::List(list) => Type::beginning(list.items().iter().map(Type::of), Type::Never),
            Value::Object(object) => {
                let of = Type::object(object.iter().map(|(name, value)| (name.clone(), Type::of(value))));
                if object.file().is_some() { of.into_file() } else { of }
            }
        }
    }

    /// Whatever one of these is.
    pub fn union(types: impl IntoIterator<Item = Type>) -> Type {
        let mut out: Vec<Type> = Vec::new();
        fn add(out: &mut Vec<Type>, one: Type) {
            match one {
                Type::Never => {}
                Type::Union(several) => several.iter().for_each(|one| add(out, one.clone())),
                one if out.iter().any(|known| known.covers(&one)) => {}
                // The same list or object of a script, as it is known in two ways.
                one if let Some((known, both)) = out.iter_mut().find_map(|known| {
                    let both = sites::merged(known, &one)?;
                    Some((known, both))
                }) =>
                {
                    *known = both;
                }
                one => {
                    out.retain(|known| !one.covers(known));
                    out.push(one);
                }
            }
        }
        for one in types {
            add(&mut out, one);
            if out.len() > MOST_ALTERNATIVES {
                out = widen(out);
                // More alternatives would change nothing, and each is compared with all the others.
                if out.len() > MOST_ALTERNATIVES {
                    return Type::Unknown;
                }
            }
        }
        if out.iter().filter(|one| matches!(one, Type::Number(Some(_)) | Type::Text(Text::One(_)))).count()
            > MOST_LITERALS
        {
            out = widen(out);
        }
        if out.len() > MOST_ALTERNATIVES {
            return Type::Unknown;
        }
        match out.len() {
            0 => Type::Never,
            1 => out.remove(0),
            _ => Type::Union(out.into()),
        }
    }

    /// Returns the union of two types.
    pub fn or(self, other: Type) -> Type {
        Type::union([self, other])
    }

    /// Whether all of another, simple type is in this one; false where that is not plain to see.
    fn covers(&self, other: &Type) -> bool {
        match (self, other) {
            // What is unknown keeps the knowledge that it may be missing.
            (Type::Unknown, Type::Undefined | Type::Null) => false,
            (Type::Unknown, _) => true,
            (Type::Bool(None), Type::Bool(_)) | (Type::Number(None), Type::Number(_)) => true,
            (Type::Text(a), Type::Text(b)) => a.covers(b),
            (Type::List(a), Type::List(b)) => {
                a == b || a.site == b.site && a.first.is_empty() && (b.of == Type::Never || a.of == b.of)
            }
            // An empty object is one of those whose members may have any names.
            (Type::Object(a), Type::Object(b)) if b.members.is_empty() && b.rest.is_none() => {
                a.members.is_empty() && a.rows == b.rows && a.site == b.site
            }
            (a, b) => a == b,
        }
    }

    /// The alternatives: those of a union, or the type itself.
    pub fn alternatives(&self) -> &[Type] {
        match self {
            Type::Union(several) => several,
            Type::Never => &[],
            one => std::slice::from_ref(one),
        }
    }

    /// The alternatives that a test lets through.
    pub fn keep(&self, test: impl Fn(&Type) -> bool) -> Type {
        Type::union(self.alternatives().iter().filter(|one| test(one)).cloned())
    }

    /// Returns the union of the changed alternatives.
    pub fn map(&self, change: impl FnMut(&Type) -> Type) -> Type {
        Type::union(self.alternatives().iter().map(change))
    }

    /// Whether it holds only null and undefined.
    pub fn is_nullish(&self) -> bool {
        matches!(self, Type::Undefined | Type::Null)
    }

    /// Whether it may be `undefined` or null, as far as something is known.
    pub fn may_be_missing(&self) -> bool {
        self.alternatives().iter().any(Type::is_nullish)
    }

    /// Whether two types are the same on their outside, without comparing lists and objects.
    fn is_plainly(&self, other: &Type) -> bool {
        match (self, other) {
            (Type::List(a), Type::List(b)) => Arc::ptr_eq(a, b),
            (Type::Object(a), Type::Object(b)) => Arc::ptr_eq(a, b),
            (Type::Union(a), Type::Union(b)) => Arc::ptr_eq(a, b),
            (a, b) => std::mem::discriminant(a) == std::mem::discriminant(b) && a == b,
        }
    }

    /// The one value that it has, where it is one single value.
    pub fn single(&self) -> Option<Value> {
        match self {
            Type::Undefined => Some(Value::Undefined),
            Type::Null => Some(Value::Null),
            Type::Bool(Some(truth)) => Some(Value::Bool(*truth)),
            Type::Number(Some(number)) => Some(Value::Num(*number)),
            Type::Text(Text::One(text)) => Some(Value::Text(text.clone())),
            _ => None,
        }
    }

    /// Whether a value of the other type may be of this one.
    pub fn can_be(&self, other: &Type) -> bool {
        narrow::overlap(self, other)
    }

    /// Whether it holds a value that counts as true.
    pub fn can_be_true(&self) -> bool {
        *self == Type::Unknown || narrow::truthy(self) != Type::Never
    }

    /// Whether it holds a value that counts as false.
    pub fn can_be_false(&self) -> bool {
        *self == Type::Unknown || narrow::falsy(self) != Type::Never
    }

    /// Returns the type without null and undefined.
    pub fn without_nullish(&self) -> Type {
        self.keep(|one| !one.is_nullish())
    }

    /// Single values become their kinds.
    pub fn widened(&self) -> Type {
        match self {
            Type::Bool(_) => Type::BOOL,
            Type::Number(_) => Type::NUMBER,
            Type::Text(Text::One(_)) => Type::TEXT,
            Type::Union(several) => Type::union(several.iter().map(Type::widened)),
            other => other.clone(),
        }
    }

    /// What a message calls it.
    pub fn what(&self) -> String {
        match self {
            Type::Unknown => "anything".into(),
            Type::Never => "nothing".into(),
            Type::Undefined => "undefined".into(),
            Type::Null => "null".into(),
            Type::Bool(_) => "a boolean".into(),
            Type::Number(_) => "a number".into(),
            Type::Text(text) => text.what().into(),
            Type::List(_) => "an array".into(),
            Type::Object(shape) if shape.file => "a file".into(),
            Type::Object(shape) if shape.rows.is_some() => "rows".into(),
            Type::Object(_) => "an object".into(),
            Type::Union(several) => {
                let mut kinds: Vec<String> = Vec::new();
                for kind in several.iter().map(Type::what) {
                    if !kinds.contains(&kind) {
                        kinds.push(kind);
                    }
                }
                kinds.join(" or ")
            }
        }
    }
}

fn widen(types: Vec<Type>) -> Vec<Type> {
    let mut out: Vec<Type> = Vec::new();
    for one in types.iter().map(Type::widened) {
        if !out.contains(&one) {
            out.push(one);
        }
    }
    out
}

/// Short, for people: `{name: string, draught?: number}[]`.
impl fmt::Display for Type {
    fn fmt(&self, f: &mut fmt::Formatter) -> fmt::Result {
        self.write(f, 0)
    }
}

impl Type {
    fn write(&self, f: &mut fmt::Formatter, depth: usize) -> fmt::Result {
        match self {
            Type::Unknown => f.write_str("unknown"),
            Type::Never => f.write_str("never"),
            Type::Undefined => f.write_str("undefined"),
            Type::Null => f.write_str("null"),
            Type::Bool(None) => f.write_str("boolean"),
            Type::Bool(Some(b)) => write!(f, "{b}"),
            Type::Number(None) => f.write_str("number"),
            Type::Number(Some(n)) => write!(f, "{n}"),
            Type::Text(text) => write!(f, "{text}"),
            Type::List(item) => match &item.of {
                Type::Union(_) => {
                    f.write_str("(")?;
                    item.of.write(f, depth + 1)?;
                    f.write_str(")[]")
                }
                _ => {
                    item.of.write(f, depth + 1)?;
                    f.write_str("[]")
                }
            },
            Type::Object(shape) if shape.file => f.write_str("file"),
            Type::Object(shape) if let Some((row, _)) = &shape.rows => {
                f.write_str("rows of ")?;
                row.write(f, depth + 1)
            }
            Type::Object(_) if depth > 3 => f.write_str("{…}"),
            Type::Object(shape) => {
                f.write_str("{")?;
                for (index, member) in shape.members.iter().enumerate() {
                    if index > 0 {
                        f.write_str(", ")?;
                    }
                    if index == 12 {
                        f.write_str("…")?;
                        break;
                    }
                    write!(f, "{}{}: ", member.name, if member.optional { "?" } else { "" })?;
                    member.value.write(f, depth + 1)?;
                }
                if let Some(rest) = &shape.rest {
                    f.write_str(if shape.members.is_empty() { "…: " } else { ", …: " })?;
                    rest.write(f, depth + 1)?;
                }
                f.write_str("}")
            }
            Type::Union(several) => {
                for (index, one) in several.iter().enumerate() {
                    if index > 0 {
                        f.write_str(" | ")?;
                    }
                    one.write(f, depth + 1)?;
                }
                Ok(())
            }
        }
    }
}
