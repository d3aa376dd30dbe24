//! What can be called: methods of texts, lists, numbers and objects, and the functions of the language.
//!
//! Texts are kept as UTF-8 but counted in UTF-16 code units, as ECMAScript does. A result that would
//! hold half of a surrogate pair holds U+FFFD instead (as `toWellFormed` returns).

mod dates;
mod html;
mod list;
mod locale;
mod number;
mod ours;
mod positions;
mod statics;
mod text;

pub use dates::pattern_has_time;
pub use html::ADDRESS;
pub use locale::LOCALES;
pub(super) use positions::{Cursor, character, units};
use positions::{byte_position, unit_position, utf16_len};

use super::ast::{Arg, Function, MethodCall};
use super::eval::{Eval, Res, type_failure};
use super::functions::Method;
use kanzlei_model::value::Value;

impl Eval<'_> {
    pub(super) fn method(&mut self, call: &MethodCall, on: Value) -> Res {
        match &on {
            Value::List(_) => {
                let Some(items) = self.items(&on) else { return Ok(Value::Undefined) };
                self.list_method(call, &on, &items)
            }
            Value::Text(text) => {
                let text = text.clone();
                self.text_method(call, &text)
            }
            Value::Int(_) | Value::Num(_) => {
                let args = self.arg_values(&call.args)?;
                self.number_method(call.method, &on, &args)
            }
            other => {
                let args = self.arg_values(&call.args)?;
                match (call.method, other) {
                    (Method::ToString, _) => {
                        let text = self.text_of(other)?;
                        self.make_text(text)
                    }
                    (Method::ValueOf, _) => Ok(on),
                    (Method::HasOwnProperty, Value::Object(_)) => {
                        let name = self.text_at(&args, 0)?;
                        Ok(Value::Bool(self.has_member(other, &name)))
                    }
                    (method, other) => no_method(method, other),
                }
            }
        }
    }
}

impl Eval<'_> {
    /// Whether an object has a member.
    pub(super) fn has_member(&self, object: &Value, name: &str) -> bool {
        match (object, object.open()) {
            (Value::Object(_), Some(number)) => self.heap.members(number).is_some_and(|of| of.get(name).is_some()),
            (Value::Object(object), None) => object.get(name).is_some(),
            _ => false,
        }
    }
}

pub(super) fn no_method(method: Method, on: &Value) -> Res {
    type_failure(format!("`{}` was called on {}, which has no such method", method.name(), on.kind()))
}

/// An argument, `undefined` where it is not given.
pub(super) fn arg(args: &[Value], index: usize) -> Value {
    args.get(index).cloned().unwrap_or_default()
}

pub(super) fn function(args: &[Arg], index: usize) -> Option<&Function> {
    match args.get(index) {
        Some(Arg::Function(function)) => Some(function),
        _ => None,
    }
}

/// A position that may count from the end, held within `0..=length`.
pub(super) fn relative(position: f64, length: usize) -> usize {
    let from_start = if position < 0.0 { position + length as f64 } else { position };
    from_start.clamp(0.0, length as f64) as usize
}
