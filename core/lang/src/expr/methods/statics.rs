//! Functions called by full name: conversions, `Math`, `Object`, `Array`, `JSON`, URI coding.

use super::{arg, function};
use crate::expr::ast::Arg;
use crate::expr::eval::{Eval, Res, range_failure, type_failure};
use crate::expr::functions::Static;
use crate::expr::ops;
use kanzlei_model::value::{ObjectBuilder, Value};

/// The square root of a sum of squares, without overflow (ECMA-262 §21.3.2.18).
fn hypot(numbers: &[f64]) -> Value {
    if numbers.iter().any(|n| n.is_infinite()) {
        return Value::Num(f64::INFINITY);
    }
    if numbers.iter().any(|n| n.is_nan()) {
        return Value::Num(f64::NAN);
    }
    let most = numbers.iter().fold(0.0f64, |most, n| most.max(n.abs()));
    let scaled = || numbers.iter().map(|n| (n / most).powi(2)).sum::<f64>().sqrt() * most;
    Value::Num(if most == 0.0 { 0.0 } else { scaled() })
}

impl Eval<'_> {
    pub(in crate::expr) fn static_call(&mut self, what: Static, args: &[Arg]) -> Res {
        use Static::*;
        match what {
            ArrayFrom if function(args, 1).is_some() => {
                let values = self.arg_values(args)?;
                let items = self.array_from(&arg(&values, 0))?;
                let Some(function) = function(args, 1) else { return self.make_list(items) };
                let mut out = Vec::with_capacity(items.len());
                for (index, item) in items.into_iter().enumerate() {
                    self.item_work(1)?;
                    out.push(self.apply(function, &[item, Value::Int(index as i64)])?);
                }
                self.make_list(out)
            }
            ListGroup | ListSortBy | ListSum | ListUnique => self.list_function(what, args),
            ListScan => self.scan(args),
            _ => {
                let values = self.arg_values(args)?;
                self.static_values(what, &values)
            }
        }
    }

    /// A function given nothing but values, also when it stands where a method wants a function.
    pub(in crate::expr) fn static_values(&mut self, what: Static, args: &[Value]) -> Res {
        use Static::*;
        let first = arg(args, 0);
        if let Some(math) = math(what) {
            return Ok(Value::Num(math(self.number_of(&first)?)));
        }
        Ok(match what {
            Boolean => Value::Bool(ops::truthy(&first)),
            Reveal => first,
            StructuredClone => return self.opened(&first),
            Number => match args.first() {
                None => Value::Int(0),
                Some(Value::Int(_)) => first,
                Some(_) => Value::Num(self.number_of(&first)?),
            },
            String => match args.first() {
                None => Value::text(""),
                Some(_) => {
                    let text = self.text_of(&first)?;
                    return self.make_text(text);
                }
            },
            ParseInt | NumberParseInt => {
                let radix = self.number_at(args, 1, 0.0)?;
                let text = self.text_of(&first)?;
                self.item_work(text.len() / 4)?;
                Value::Num(ops::parse_int(&text, radix))
            }
            ParseFloat | NumberParseFloat => {
                let text = self.text_of(&first)?;
                self.item_work(text.len() / 4)?;
                Value::Num(ops::parse_float(&text))
            }
            IsNaN | IsFinite => {
                let number = self.number_of(&first)?;
                Value::Bool(if what == IsNaN { number.is_nan() } else { number.is_finite() })
            }
            NumberIsFinite => Value::Bool(number_of(&first).is_some_and(f64::is_finite)),
            NumberIsNaN => Value::Bool(number_of(&first).is_some_and(f64::is_nan)),
            NumberIsInteger => Value::Bool(number_of(&first).is_some_and(|n| n.is_finite() && n.fract() == 0.0)),
            NumberIsSafeInteger => {
                Value::Bool(number_of(&first).is_some_and(|n| n.fract() == 0.0 && n.abs() <= 9_007_199_254_740_991.0))
            }
            EncodeURIComponent => return self.encode_uri(&first, ""),
            EncodeURI => return self.encode_uri(&first, ";/?:@&=+$,#"),
            DecodeURIComponent => return self.decode_uri(&first, ""),
            DecodeURI => return self.decode_uri(&first, ";/?:@&=+$,#"),
            ArrayIsArray => Value::Bool(matches!(first, Value::List(_))),
            ArrayOf => return self.make_list(args.to_vec()),
            ArrayFrom => {
                let items = self.array_from(&first)?;
                return self.make_list(items);
            }
            ObjectKeys => {
                let entries = self.entries(&first)?;
                return self.make_list(entries.into_iter().map(|(key, _)| key).collect());
            }
            ObjectValues => {
                let entries = self.entries(&first)?;
                return self.make_list(entries.into_iter().map(|(_, value)| value).collect());
            }
            ObjectEntries => {
                let entries = self.entries(&first)?;
                self.will_make(entries.len() * 64)?;
                return self.make_rows(entries.into_iter().map(|(k, v)| Value::list(vec![k, v])).collect());
            }
            ObjectFromEntries => return self.object_of_pairs(&first),
            ObjectHasOwn => return self.has_own(&first, &arg(args, 1)),
            ObjectIs => {
                self.work(super::super::eval::compared(&first, &arg(args, 1)))?;
                Value::Bool(ops::same_value(&first, &arg(args, 1)))
            }
            StringFromCharCode => {
                let units = self.numbers_of(args)?;
                let units: Vec<u16> = units.into_iter().map(|unit| ops::to_uint32(unit) as u16).collect();
                return self.make_text(std::string::String::from_utf16_lossy(&units));
            }
            StringFromCodePoint => return self.text_of_code_points(args),
            JsonParse => {
                let text = self.text_of(&first)?;
                return self.parse_json(&text);
            }
            JsonStringify => return self.stringify(&first, args),
            MathAtan2 | MathPow | MathImul => {
                let a = self.number_of(&first)?;
                let b = self.number_at(args, 1, f64::NAN)?;
                match what {
                    MathAtan2 => Value::Num(a.atan2(b)),
                    MathPow => Value::Num(ops::power(a, b)),
                    _ => Value::Int(ops::to_int32(a).wrapping_mul(ops::to_int32(b)).into()),
                }
            }
            MathClz32 => Value::Int(ops::to_uint32(self.number_of(&first)?).leading_zeros().into()),
            MathHypot => hypot(&self.numbers_of(args)?),
            MathMax | MathMin => return self.extreme(args, what == MathMax),
            _ => return self.ours(what, args),
        })
    }

    /// Makes an object out of pairs (ECMA-262 §20.1.2.7).
    fn object_of_pairs(&mut self, first: &Value) -> Res {
        let Some(pairs) = self.items(first) else {
            return type_failure(format!("`Object.fromEntries` takes an array of pairs, not {}", first.kind()));
        };
        self.item_work(pairs.len() * 5)?;
        let mut builder = ObjectBuilder::with_capacity(pairs.len());
        for pair in pairs.iter() {
            match &self.shallow(pair)? {
                Value::List(pair) => {
                    builder.insert(self.text_at(pair.items(), 0)?, arg(pair.items(), 1));
                }
                Value::Object(pair) => builder.insert(
                    self.text_of(pair.get("0").unwrap_or(&Value::Undefined))?,
                    pair.get("1").cloned().unwrap_or_default(),
                ),
                other => {
                    return type_failure(format!("`Object.fromEntries` takes pairs, and met {}", other.kind()));
                }
            }
        }
        self.make_object(builder, pairs.len())
    }

    /// Whether a value has an own member (ECMA-262 §20.1.2.13).
    fn has_own(&mut self, first: &Value, key: &Value) -> Res {
        let name = self.text_of(key)?;
        Ok(Value::Bool(match first {
            Value::Undefined | Value::Null => {
                return type_failure(format!("`Object.hasOwn` was given {}", first.kind()));
            }
            Value::Object(_) => self.has_member(first, &name),
            Value::List(_) | Value::Text(_) => {
                &*name == "length" || !matches!(self.index(first, key)?, Value::Undefined)
            }
            _ => false,
        }))
    }

    /// Makes a text out of code points (ECMA-262 §22.1.2.2).
    fn text_of_code_points(&mut self, args: &[Value]) -> Res {
        let mut out = std::string::String::new();
        for point in args {
            let number = self.number_of(point)?;
            if number.fract() != 0.0 || !(0.0..=1_114_111.0).contains(&number) {
                return range_failure(format!("{number} is not a code point"));
            }
            out.push(char::from_u32(number as u32).unwrap_or('\u{fffd}'));
        }
        self.make_text(out)
    }

    /// Reads JSON; numbers keep their digits.
    fn parse_json(&mut self, text: &str) -> Res {
        self.item_work(text.len())?;
        self.will_make(text.len() * 4)?;
        match serde_json::from_str(text) {
            Ok(value) => self.opened(&value),
            Err(error) => range_failure(format!("`JSON.parse` was given text that is not JSON: {error}")),
        }
    }

    /// The largest or smallest of numbers (ECMA-262 §21.3.2.24).
    fn extreme(&mut self, args: &[Value], max: bool) -> Res {
        self.item_work(args.len())?;
        let mut best = if max { f64::NEG_INFINITY } else { f64::INFINITY };
        for value in args {
            let n = self.number_of(value)?;
            let better = if max { n > best } else { n < best };
            let zero = n == 0.0 && best == 0.0 && n.is_sign_negative() != max;
            if n.is_nan() || best.is_nan() {
                best = f64::NAN;
            } else if better || zero {
                best = n;
            }
        }
        Ok(match args.iter().find(|v| matches!(v, Value::Int(int) if *int as f64 == best)) {
            Some(int) if best != 0.0 => int.clone(),
            _ => Value::Num(best),
        })
    }

    /// Own enumerable members as pairs, in order.
    fn entries(&mut self, of: &Value) -> Res<Vec<(Value, Value)>> {
        let index = |i: usize| Value::text(i.to_string());
        let of = &self.shallow(of)?;
        match of {
            Value::List(list) => self.item_work(list.items().len() * 8)?,
            Value::Object(object) => self.item_work(object.len() * 8)?,
            _ => {}
        }
        let entries: Vec<(Value, Value)> = match of {
            Value::Undefined | Value::Null => {
                return type_failure(format!("the members of {} were asked for", of.kind()));
            }
            Value::Object(object) => object.iter().map(|(k, v)| (Value::Text(k.clone()), v.clone())).collect(),
            Value::List(list) => list.items().iter().enumerate().map(|(i, v)| (index(i), v.clone())).collect(),
            Value::Text(text) => {
                self.item_work(text.len() * 8)?;
                self.will_make(text.len() * 80)?;
                super::units(text).enumerate().map(|(i, v)| (index(i), Value::Text(v))).collect()
            }
            _ => Vec::new(),
        };
        Ok(entries)
    }

    fn array_from(&mut self, of: &Value) -> Res<Vec<Value>> {
        match &self.shallow(of)? {
            Value::List(_) | Value::Text(_) => {
                let mut out = Vec::new();
                self.spread(of, &mut out, Default::default())?;
                Ok(out)
            }
            Value::Object(object) => {
                let length = object.get("length").map_or(Ok(0.0), |length| self.number_of(length))?;
                let length = ops::to_integer(length).max(0.0);
                self.item_work(length.min(1e18) as usize)?;
                self.will_make((length * 24.0).min(1e18) as usize)?;
                Ok((0..length as usize).map(|i| object.get(&i.to_string()).cloned().unwrap_or_default()).collect())
            }
            Value::Undefined | Value::Null => type_failure(format!("`Array.from` was given {}", of.kind())),
            _ => Ok(Vec::new()),
        }
    }

    fn encode_uri(&mut self, value: &Value, also: &str) -> Res {
        let text = self.text_of(value)?;
        self.item_work(text.len())?;
        let mut out = std::string::String::with_capacity(text.len());
        for byte in text.bytes() {
            let c = char::from(byte);
            if c.is_ascii_alphanumeric() || "-_.!~*'()".contains(c) || (c.is_ascii() && also.contains(c)) {
                out.push(c);
            } else {
                out.push_str(&format!("%{byte:02X}"));
            }
        }
        self.make_text(out)
    }

    fn decode_uri(&mut self, value: &Value, kept: &str) -> Res {
        let text = self.text_of(value)?;
        self.item_work(text.len() / 4)?;
        let mut bytes = Vec::with_capacity(text.len());
        let source = text.as_bytes();
        let mut at = 0;
        while at < source.len() {
            if source[at] != b'%' {
                bytes.push(source[at]);
                at += 1;
                continue;
            }
            let hex = text.get(at + 1..at + 3).filter(|h| h.bytes().all(|b| b.is_ascii_hexdigit()));
            let Some(byte) = hex.and_then(|hex| u8::from_str_radix(hex, 16).ok()) else {
                return range_failure("malformed percent-encoding");
            };
            if byte.is_ascii() && kept.contains(char::from(byte)) {
                bytes.extend_from_slice(&source[at..at + 3]);
            } else {
                bytes.push(byte);
            }
            at += 3;
        }
        match std::string::String::from_utf8(bytes) {
            Ok(text) => self.make_text(text),
            Err(_) => range_failure("the percent-encoding is not UTF-8"),
        }
    }

    fn stringify(&mut self, value: &Value, args: &[Value]) -> Res {
        let value = &self.settled(value)?;
        let filter: Option<Vec<_>> = match args.get(1).and_then(|names| self.items(names)) {
            Some(list) => {
                self.item_work(list.len() * 4)?;
                Some(list.iter().map(|name| self.text_of(name)).collect::<Result<_, _>>()?)
            }
            _ => None,
        };
        let indent = match args.get(2) {
            // Of a long text only the beginning is looked at.
            Some(Value::Text(text)) => {
                std::string::String::from_utf16_lossy(&text.encode_utf16().take(10).collect::<Vec<_>>())
            }
            Some(n @ (Value::Int(_) | Value::Num(_))) => {
                " ".repeat(ops::to_integer(ops::plain_number(n)).clamp(0.0, 10.0) as usize)
            }
            _ => std::string::String::new(),
        };
        if matches!(value, Value::Undefined) {
            return Ok(Value::Undefined);
        }
        let mut out = std::string::String::new();
        self.write_json(value, filter.as_deref(), &indent, "", &mut out)?;
        self.make_text(out)
    }

    fn write_json(
        &mut self,
        value: &Value,
        filter: Option<&[kanzlei_model::value::Str]>,
        indent: &str,
        outer: &str,
        out: &mut std::string::String,
    ) -> Res<()> {
        self.item_work(if indent.is_empty() { 2 } else { 12 })?;
        let (inner, gap, end) = match indent.is_empty() {
            true => Default::default(),
            false => (format!("{outer}{indent}"), format!("\n{outer}{indent}"), format!("\n{outer}")),
        };
        self.will_make(gap.len())?;
        let before = out.len();
        match value {
            Value::List(list) if !list.items().is_empty() => {
                out.push('[');
                for (index, item) in list.items().iter().enumerate() {
                    out.push_str(if index > 0 { "," } else { "" });
                    out.push_str(&gap);
                    self.write_json(item, filter, indent, &inner, out)?;
                }
                out.push_str(&end);
                out.push(']');
                return Ok(());
            }
            Value::Object(object) => {
                let mut first = true;
                out.push('{');
                self.item_work(filter.map_or(0, <[_]>::len))?;
                let mut write = |this: &mut Self, name: &str, member: &Value| {
                    if matches!(member, Value::Undefined) {
                        return Ok(());
                    }
                    // A name may be as long as a text, and the same one in many objects.
                    this.work(name.len() as u64 / 16)?;
                    this.will_make(name.len())?;
                    out.push_str(if std::mem::take(&mut first) { "" } else { "," });
                    out.push_str(&gap);
                    kanzlei_model::value::write_json_text(name, out);
                    out.push_str(if indent.is_empty() { ":" } else { ": " });
                    this.write_json(member, filter, indent, &inner, out)
                };
                match filter {
                    Some(names) => {
                        for name in names {
                            object.get(name).map_or(Ok(()), |member| write(self, name, member))?;
                        }
                    }
                    None => {
                        for (name, member) in object.iter() {
                            write(self, name, member)?;
                        }
                    }
                }
                if !first {
                    out.push_str(&end);
                }
                out.push('}');
                return Ok(());
            }
            other => {
                self.work(other.weight() / 16)?;
                other.write_json(out);
            }
        }
        self.will_make(out.len() - before)
    }
}

fn number_of(value: &Value) -> Option<f64> {
    match value {
        Value::Int(_) | Value::Num(_) => Some(ops::plain_number(value)),
        _ => None,
    }
}

/// `Math` functions of one number.
fn math(what: Static) -> Option<fn(f64) -> f64> {
    use Static::*;
    Some(match what {
        MathAbs => f64::abs,
        MathAcos => f64::acos,
        MathAcosh => f64::acosh,
        MathAsin => f64::asin,
        MathAsinh => |x| if x == 0.0 { x } else { x.asinh() },
        MathAtan => f64::atan,
        MathAtanh => f64::atanh,
        MathCbrt => f64::cbrt,
        MathCeil => f64::ceil,
        MathCos => f64::cos,
        MathCosh => f64::cosh,
        MathExp => f64::exp,
        MathExpm1 => f64::exp_m1,
        MathFloor => f64::floor,
        MathFround => |x| f64::from(x as f32),
        MathLog => f64::ln,
        MathLog10 => f64::log10,
        MathLog1p => f64::ln_1p,
        MathLog2 => f64::log2,
        // Half goes up, also below zero; small numbers must not be lifted by adding one half.
        MathRound => |x| {
            let floor = x.floor();
            let rounded = if x - floor >= 0.5 { floor + 1.0 } else { floor };
            if rounded == 0.0 && x.is_sign_negative() { -0.0 } else { rounded }
        },
        MathSign => |x| if x == 0.0 || x.is_nan() { x } else { x.signum() },
        MathSin => f64::sin,
        MathSinh => f64::sinh,
        MathSqrt => f64::sqrt,
        MathTan => f64::tan,
        MathTanh => f64::tanh,
        MathTrunc => f64::trunc,
        _ => return None,
    })
}
