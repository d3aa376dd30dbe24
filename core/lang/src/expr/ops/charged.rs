//! Conversions within evaluations. They are the only ones that evaluations reach, and each is charged for what it reads
//! and makes.

use super::{compare_text, to_integer, to_number, to_text, write_text};
use crate::expr::eval::{Eval, EvalError, Res};
use crate::expr::meter::Meter;
use kanzlei_model::value::{Str, Value};

impl Meter<'_> {
    /// Appends a value that no script changes as text.
    pub fn append(&mut self, value: &Value, out: &mut String) -> Result<(), Box<EvalError>> {
        match value {
            Value::List(_) | Value::Text(_) => {
                self.work(value.weight() / 16)?;
                self.bytes(value.weight())?;
            }
            _ => self.work(1)?,
        }
        write_text(value, out);
        Ok(())
    }
}

impl Eval<'_> {
    /// ToString.
    pub fn text_of(&mut self, value: &Value) -> Res<Str> {
        if value.open().is_some() {
            let settled = self.settled(value)?;
            return self.text_of(&settled);
        }
        self.reads(value, 16)?;
        Ok(to_text(value))
    }

    /// ToString of an argument; `undefined` where it is not given.
    pub fn text_at(&mut self, args: &[Value], index: usize) -> Res<Str> {
        self.text_of(args.get(index).unwrap_or(&Value::Undefined))
    }

    /// Appends a value as text.
    pub fn append_text(&mut self, value: &Value, out: &mut String) -> Res<()> {
        if value.open().is_some() {
            let settled = self.settled(value)?;
            return self.append_text(&settled, out);
        }
        Ok(self.meter.append(value, out)?)
    }

    /// ToNumber.
    #[inline]
    pub fn number_of(&mut self, value: &Value) -> Res<f64> {
        match value {
            Value::Int(int) => Ok(*int as f64),
            Value::Num(num) => Ok(*num),
            other if other.open().is_some() => {
                let settled = self.settled(other)?;
                self.number_of(&settled)
            }
            other => {
                self.reads(other, 4)?;
                Ok(to_number(other))
            }
        }
    }

    /// ToNumber of an argument; what stands for one that is not given.
    pub fn number_at(&mut self, args: &[Value], index: usize, default: f64) -> Res<f64> {
        args.get(index).map_or(Ok(default), |value| self.number_of(value))
    }

    /// ToNumber of each argument.
    pub fn numbers_of(&mut self, args: &[Value]) -> Res<Vec<f64>> {
        args.iter().map(|value| self.number_of(value)).collect()
    }

    /// ToIntegerOrInfinity of an argument, with what stands for one that is not given or `undefined`.
    pub fn integer_at(&mut self, args: &[Value], index: usize, default: f64) -> Res<f64> {
        match args.get(index) {
            None | Some(Value::Undefined) => Ok(default),
            Some(value) => Ok(to_integer(self.number_of(value)?)),
        }
    }

    /// Charges for writing all of a value as text.
    pub fn writes(&mut self, value: &Value) -> Res<()> {
        match value {
            Value::List(_) | Value::Text(_) => {
                self.work(value.weight() / 16)?;
                Ok(self.meter.bytes(value.weight())?)
            }
            _ => self.work(1),
        }
    }

    /// Charges for a conversion of a value: a unit for so many bytes read.
    fn reads(&mut self, value: &Value, bytes_per_unit: u64) -> Res<()> {
        match value {
            Value::Text(text) => self.work(text.len() as u64 / bytes_per_unit),
            Value::List(_) => {
                self.work(8 + value.weight() / bytes_per_unit)?;
                Ok(self.meter.bytes(value.weight())?)
            }
            Value::Num(_) => self.work(4),
            _ => self.work(1),
        }
    }

    /// Orders values by the texts that they become (ECMA-262 §23.1.3.30.2), each made once.
    pub fn sort_by_text(&mut self, items: Vec<Value>) -> Res<Vec<Value>> {
        let mut keyed = Vec::with_capacity(items.len());
        for item in items {
            keyed.push((self.text_of(&item)?, item));
        }
        let bytes: u64 = keyed.iter().map(|(text, _)| 1 + text.len() as u64 / 16).sum();
        self.work(bytes * (1 + u64::from(keyed.len().max(1).ilog2())))?;
        keyed.sort_by(|a, b| compare_text(&a.0, &b.0));
        Ok(keyed.into_iter().map(|(_, item)| item).collect())
    }
}
