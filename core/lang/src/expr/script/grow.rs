//! Texts that a script appends to: `line += ','` in a loop takes time for what is added, not for the whole text.
//!
//! A local name that is appended to somewhere in the script has its text in a buffer, from the first time that this happens until
//! something else is assigned to it. Where it is read, the text is made of the buffer once.

use super::super::ast::Expr;
use super::super::eval::{ErrorKind, Eval, EvalError, Res};
use kanzlei_model::value::{MAX_WEIGHT, Value};

/// The text of a local name that grows.
#[derive(Debug)]
pub struct Growing {
    local: u32,
    text: String,
    /// Whether the local holds the text as it is now.
    read: bool,
    ascii: bool,
}

impl Eval<'_> {
    /// Runs `local += value`.
    pub(super) fn append(&mut self, local: u32, value: &Expr, wanted: bool) -> Res {
        let growing = self.growing.iter().position(|growing| growing.local == local);
        let before = match growing {
            Some(_) => Value::Undefined,
            None => self.locals[local as usize].clone(),
        };
        let value = self.expr(value)?;
        // What is appended may have read or set the name itself.
        let growing = growing.and_then(|_| self.growing.iter().position(|growing| growing.local == local));
        let at = match (growing, before) {
            (Some(at), _) => at,
            (None, Value::Text(text)) => {
                self.will_make(text.len())?;
                self.growing.retain(|growing| growing.local != local);
                let ascii = text.is_ascii();
                self.growing.push(Growing { local, text: (*text).to_owned(), read: false, ascii });
                self.growing.len() - 1
            }
            (None, before) => {
                let sum = self.add(&before, &value)?;
                self.set_local(local, sum.clone());
                return Ok(sum);
            }
        };
        let added = self.text_of(&value)?;
        self.meter.work(1 + added.len() as u64 / 16)?;
        self.meter.bytes(added.len() as u64)?;
        let Some(growing) = self.growing.get_mut(at) else { return Ok(Value::Undefined) };
        growing.text.push_str(&added);
        growing.read = false;
        growing.ascii &= added.is_ascii();
        if growing.text.len() as u64 > MAX_WEIGHT {
            let message = format!("a text that has more than {} MiB", MAX_WEIGHT >> 20);
            return Err(EvalError::new(ErrorKind::Budget, message).into());
        }
        if wanted { self.local(local) } else { Ok(Value::Undefined) }
    }

    /// The value of a local name that may be appended to.
    pub(in crate::expr) fn local(&mut self, local: u32) -> Res {
        if let Some(at) = self.growing.iter().position(|growing| growing.local == local)
            && !self.growing[at].read
        {
            self.will_make(self.growing[at].text.len())?;
            let text = Value::text(self.growing[at].text.as_str());
            self.growing[at].read = true;
            self.locals[local as usize] = text;
        }
        Ok(self.locals[local as usize].clone())
    }

    /// The length of a local name's text without making the text, where that is possible.
    pub(in crate::expr) fn length_of_local(&self, local: u32) -> Option<usize> {
        let growing = self.growing.iter().find(|growing| growing.local == local)?;
        growing.ascii.then_some(growing.text.len())
    }

    /// Sets a local name.
    #[inline]
    pub(in crate::expr) fn set_local(&mut self, local: u32, value: Value) {
        if !self.growing.is_empty() {
            self.growing.retain(|growing| growing.local != local);
        }
        self.locals[local as usize] = value;
    }
}
