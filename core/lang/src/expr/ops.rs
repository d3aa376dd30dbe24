//! Conversions and operators of ECMAScript on [`Value`]s (ECMA-262 §7.1, §7.2, §13).
//!
//! Nothing here fails: what ECMAScript throws for is checked by the evaluator before it comes here. Nothing is charged for
//! either, so that evaluations convert by way of [`charged`].

mod charged;

use std::cmp::Ordering;

use super::ast::BinaryOp;
use kanzlei_model::value::{MAX_WEIGHT, Str, Value};

/// The largest integer below which every integer is a double: 2^53.
const SAFE: i64 = 1 << 53;

/// ToBoolean.
pub fn truthy(value: &Value) -> bool {
    match value {
        Value::Undefined | Value::Null => false,
        Value::Bool(b) => *b,
        Value::Int(int) => *int != 0,
        Value::Num(num) => *num != 0.0 && !num.is_nan(),
        Value::Text(text) => !text.is_empty(),
        Value::List(_) | Value::Object(_) => true,
    }
}

/// ToNumber.
pub fn to_number(value: &Value) -> f64 {
    match value {
        Value::Undefined => f64::NAN,
        Value::Null | Value::Bool(false) => 0.0,
        Value::Bool(true) => 1.0,
        Value::Int(int) => *int as f64,
        Value::Num(num) => *num,
        Value::Text(text) => text_to_number(text),
        Value::List(_) | Value::Object(_) => text_to_number(&to_text(value)),
    }
}

/// The number that a value is; NaN where it is none.
pub fn plain_number(value: &Value) -> f64 {
    match value {
        Value::Int(int) => *int as f64,
        Value::Num(num) => *num,
        _ => f64::NAN,
    }
}

/// StringToNumber (§7.1.4.1.1).
pub fn text_to_number(text: &str) -> f64 {
    let text = trim(text);
    if text.is_empty() {
        return 0.0;
    }
    if let Some(prefix) = text.get(..2) {
        let radix = match prefix {
            "0x" | "0X" => 16,
            "0o" | "0O" => 8,
            "0b" | "0B" => 2,
            _ => 0,
        };
        if radix != 0 {
            let digits = &text[2..];
            if digits.is_empty() || !digits.chars().all(|c| c.is_digit(radix)) {
                return f64::NAN;
            }
            return digits
                .chars()
                .fold(0.0, |sum, c| sum * f64::from(radix) + f64::from(c.to_digit(radix).unwrap_or(0)));
        }
    }
    match decimal_prefix(text) {
        Some(length) if length == text.len() => parse_decimal(text),
        _ => f64::NAN,
    }
}

/// The number at the start of a text (§19.2.4 parseFloat).
pub fn parse_float(text: &str) -> f64 {
    let text = trim(text);
    decimal_prefix(text).map_or(f64::NAN, |length| parse_decimal(&text[..length]))
}

fn parse_decimal(text: &str) -> f64 {
    match text.trim_start_matches(['+', '-']) {
        "Infinity" if text.starts_with('-') => f64::NEG_INFINITY,
        "Infinity" => f64::INFINITY,
        _ => text.parse().unwrap_or(f64::NAN),
    }
}

/// How many bytes at the start of a text are a StrDecimalLiteral.
fn decimal_prefix(text: &str) -> Option<usize> {
    let bytes = text.as_bytes();
    let mut at = usize::from(matches!(bytes.first(), Some(b'+' | b'-')));
    if text[at..].starts_with("Infinity") {
        return Some(at + 8);
    }
    let digits = |from: usize| bytes[from..].iter().take_while(|b| b.is_ascii_digit()).count();
    let whole = digits(at);
    at += whole;
    let mut fraction = 0;
    if bytes.get(at) == Some(&b'.') {
        fraction = digits(at + 1);
        if whole + fraction > 0 {
            at += 1 + fraction;
        }
    }
    if whole + fraction == 0 {
        return None;
    }
    if matches!(bytes.get(at), Some(b'e' | b'E')) {
        let sign = usize::from(matches!(bytes.get(at + 1), Some(b'+' | b'-')));
        let exponent = digits(at + 1 + sign);
        if exponent > 0 {
            at += 1 + sign + exponent;
        }
    }
    Some(at)
}

/// parseInt (§19.2.5).
pub fn parse_int(text: &str, radix: f64) -> f64 {
    let text = trim(text);
    let (negative, mut digits) = match text.as_bytes().first() {
        Some(b'-') => (true, &text[1..]),
        Some(b'+') => (false, &text[1..]),
        _ => (false, text),
    };
    let mut radix = to_int32(radix);
    let prefixed = digits.get(..2).is_some_and(|p| p.eq_ignore_ascii_case("0x"));
    if prefixed && (radix == 0 || radix == 16) {
        digits = &digits[2..];
        radix = 16;
    }
    if radix == 0 {
        radix = 10;
    }
    if !(2..=36).contains(&radix) {
        return f64::NAN;
    }
    let radix = radix as u32;
    let end = digits.find(|c: char| !c.is_digit(radix)).unwrap_or(digits.len());
    let digits = &digits[..end];
    if digits.is_empty() {
        return f64::NAN;
    }
    let magnitude = if radix == 10 {
        digits.parse().unwrap_or(f64::NAN)
    } else {
        digits.chars().fold(0.0, |sum, c| sum * f64::from(radix) + f64::from(c.to_digit(radix).unwrap_or(0)))
    };
    if negative { -magnitude } else { magnitude }
}

/// White space and line ends as ECMAScript counts them.
pub fn is_space(c: char) -> bool {
    c == '\u{feff}' || (c.is_whitespace() && c != '\u{85}')
}

/// Removes white space at both ends, as ECMAScript defines it.
pub fn trim(text: &str) -> &str {
    text.trim_matches(is_space)
}

/// ToString. Lists are their items joined by commas, objects `[object Object]`.
pub fn to_text(value: &Value) -> Str {
    match value {
        Value::Text(text) => text.clone(),
        other => {
            let mut out = String::new();
            write_text(other, &mut out);
            out.into()
        }
    }
}

/// Appends a value as `String(value)` writes it.
///
/// Leaves out a list that is heavier than any value may be: evaluations charge for the text first and end with an error.
pub fn write_text(value: &Value, out: &mut String) {
    match value {
        Value::List(_) if value.weight() > MAX_WEIGHT => {}
        Value::Undefined => out.push_str("undefined"),
        Value::Null => out.push_str("null"),
        Value::Bool(true) => out.push_str("true"),
        Value::Bool(false) => out.push_str("false"),
        Value::Int(int) => {
            use std::fmt::Write;
            let _ = write!(out, "{int}");
        }
        Value::Num(num) => out.push_str(&number_text(*num)),
        Value::Text(text) => out.push_str(text),
        Value::List(list) => {
            for (index, item) in list.items().iter().enumerate() {
                if index > 0 {
                    out.push(',');
                }
                if !item.is_nullish() {
                    write_text(item, out);
                }
            }
        }
        Value::Object(_) => out.push_str("[object Object]"),
    }
}

/// Number::toString (§6.1.6.1.20).
pub fn number_text(num: f64) -> String {
    match num.fract() == 0.0 && num.abs() < 9e15 {
        true => (num as i64).to_string(),
        false => ryu_js::Buffer::new().format(num).to_owned(),
    }
}

/// ToInt32.
pub fn to_int32(num: f64) -> i32 {
    to_uint32(num) as i32
}

/// ToUint32.
pub fn to_uint32(num: f64) -> u32 {
    if !num.is_finite() {
        return 0;
    }
    num.trunc().rem_euclid(4_294_967_296.0) as u32
}

/// ToIntegerOrInfinity.
pub fn to_integer(num: f64) -> f64 {
    if num.is_nan() { 0.0 } else { num.trunc() + 0.0 }
}

/// `===`. Two integers compare with all their bits.
pub fn strict_equal(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Undefined, Value::Undefined) | (Value::Null, Value::Null) => true,
        (Value::Bool(a), Value::Bool(b)) => a == b,
        (Value::Int(a), Value::Int(b)) => a == b,
        (Value::Num(a), Value::Num(b)) => a == b,
        (Value::Int(a), Value::Num(b)) | (Value::Num(b), Value::Int(a)) => *a as f64 == *b,
        (Value::Text(a), Value::Text(b)) => a == b,
        (Value::List(a), Value::List(b)) => std::sync::Arc::ptr_eq(a, b),
        (Value::Object(a), Value::Object(b)) => std::sync::Arc::ptr_eq(a, b),
        _ => false,
    }
}

/// SameValueZero, as `includes` compares.
pub fn same_value_zero(a: &Value, b: &Value) -> bool {
    matches!((a, b), (Value::Num(a), Value::Num(b)) if a.is_nan() && b.is_nan()) || strict_equal(a, b)
}

/// `Object.is`.
pub fn same_value(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Int(_) | Value::Num(_), Value::Int(_) | Value::Num(_)) => {
            let (x, y) = (to_number(a), to_number(b));
            same_value_zero(a, b) && (x != 0.0 || x.is_sign_negative() == y.is_sign_negative())
        }
        _ => strict_equal(a, b),
    }
}

/// `==` (§7.2.14).
pub fn loose_equal(a: &Value, b: &Value) -> bool {
    use Value::*;
    match (a, b) {
        (Undefined | Null, Undefined | Null) => true,
        (Undefined | Null, _) | (_, Undefined | Null) => false,
        (List(_) | Object(_), List(_) | Object(_)) => strict_equal(a, b),
        (Text(_), Text(_)) | (Bool(_), Bool(_)) | (Int(_), Int(_)) => strict_equal(a, b),
        (List(_) | Object(_), Text(b)) => to_text(a) == *b,
        (Text(a), List(_) | Object(_)) => *a == to_text(b),
        _ => to_number(a) == to_number(b),
    }
}

/// Orders two texts by UTF-16 code units, as ECMAScript does.
pub fn compare_text(a: &str, b: &str) -> Ordering {
    if a.is_ascii() || b.is_ascii() {
        return a.cmp(b);
    }
    a.encode_utf16().cmp(b.encode_utf16())
}

/// IsLessThan for `<`, `<=`, `>`, `>=`; no order where a NaN is involved.
pub fn compare(a: &Value, b: &Value) -> Option<Ordering> {
    match (a, b) {
        (Value::Int(a), Value::Int(b)) => Some(a.cmp(b)),
        (Value::Num(a), Value::Num(b)) => a.partial_cmp(b),
        (Value::Text(a), Value::Text(b)) => Some(compare_text(a, b)),
        (Value::List(_) | Value::Object(_), _) => compare(&primitive(a), b),
        (_, Value::List(_) | Value::Object(_)) => compare(a, &primitive(b)),
        _ => to_number(a).partial_cmp(&to_number(b)),
    }
}

/// ToPrimitive: lists and objects become text.
pub fn primitive(value: &Value) -> Value {
    match value {
        Value::List(_) | Value::Object(_) => Value::Text(to_text(value)),
        other => other.clone(),
    }
}

/// A number as a value, as an integer where it is one that fits.
pub fn num(num: f64) -> Value {
    Value::Num(num)
}

/// A number, apart from other values: computing with it has nothing to drop.
#[derive(Clone, Copy, Debug)]
pub(super) enum Number {
    Int(i64),
    Num(f64),
}

impl Number {
    #[inline]
    pub fn of(value: &Value) -> Option<Number> {
        match value {
            Value::Int(int) => Some(Number::Int(*int)),
            Value::Num(num) => Some(Number::Num(*num)),
            _ => None,
        }
    }

    #[inline]
    pub fn value(self) -> Value {
        match self {
            Number::Int(int) => Value::Int(int),
            Number::Num(num) => Value::Num(num),
        }
    }

    /// As a double, where that is the same number.
    #[inline]
    fn double(self) -> Option<f64> {
        match self {
            Number::Int(int) => is_safe(int).then_some(int as f64),
            Number::Num(num) => Some(num),
        }
    }

    /// A comparison of two numbers; nothing for other operators, and for integers that are no doubles.
    #[inline]
    pub fn compared(op: BinaryOp, a: Number, b: Number) -> Option<bool> {
        match (a, b) {
            (Number::Int(a), Number::Int(b)) => compared(op, a, b),
            _ => compared(op, a.double()?, b.double()?),
        }
    }

    /// Arithmetic of two numbers, in the cases that loops are made of; nothing in the others.
    #[inline]
    pub fn computed(op: BinaryOp, a: Number, b: Number) -> Option<Number> {
        match (a, b) {
            (Number::Int(a), Number::Int(b)) => whole(op, a, b).map(Number::Int),
            _ => float(op, a.double()?, b.double()?).map(Number::Num),
        }
    }
}

/// What an operator returns on two numbers, in the cases that loops are made of; nothing in the others.
#[inline]
pub fn plain(op: BinaryOp, a: &Value, b: &Value) -> Option<Value> {
    let (a, b) = (Number::of(a)?, Number::of(b)?);
    match Number::compared(op, a, b) {
        Some(holds) => Some(Value::Bool(holds)),
        None => Number::computed(op, a, b).map(Number::value),
    }
}

/// A comparison of two numbers of one kind; nothing for other operators.
#[inline]
pub(super) fn compared<T: PartialOrd>(op: BinaryOp, a: T, b: T) -> Option<bool> {
    use BinaryOp::*;
    Some(match op {
        Eq | LooseEq => a == b,
        Ne | LooseNe => a != b,
        Lt => a < b,
        Le => a <= b,
        Gt => a > b,
        Ge => a >= b,
        _ => return None,
    })
}

/// Arithmetic of two integers where the result is one too; nothing otherwise.
#[inline]
pub(super) fn whole(op: BinaryOp, a: i64, b: i64) -> Option<i64> {
    use BinaryOp::*;
    Some(match op {
        Add | Sub if a.unsigned_abs() < 1 << 52 && b.unsigned_abs() < 1 << 52 => {
            if op == Add {
                a + b
            } else {
                a - b
            }
        }
        Mul if a.unsigned_abs() < 1 << 26 && b.unsigned_abs() < 1 << 26 && a != 0 && b != 0 => a * b,
        Rem if a >= 0 && b > 0 && a < SAFE && b < SAFE => a % b,
        // Beyond 2^53 the number that ECMAScript has is a rounded one.
        BitAnd | BitOr | BitXor if is_safe(a) && is_safe(b) => {
            let (a, b) = (a as i32, b as i32);
            i64::from(match op {
                BitAnd => a & b,
                BitOr => a | b,
                _ => a ^ b,
            })
        }
        _ => return None,
    })
}

/// Whether an integer is a double too, and so are those around it.
fn is_safe(int: i64) -> bool {
    int.unsigned_abs() < SAFE as u64
}

/// Arithmetic of two doubles; nothing for other operators.
#[inline]
fn float(op: BinaryOp, a: f64, b: f64) -> Option<f64> {
    use BinaryOp::*;
    Some(match op {
        Add => a + b,
        Sub => a - b,
        Mul => a * b,
        Div => a / b,
        _ => return None,
    })
}

/// Arithmetic, comparison and bit operators. `in` and the text form of `+` are the evaluator's.
pub fn binary(op: BinaryOp, a: &Value, b: &Value) -> Value {
    use BinaryOp::*;
    if let (Value::Int(x), Value::Int(y)) = (a, b)
        && x.unsigned_abs() < SAFE as u64
        && y.unsigned_abs() < SAFE as u64
    {
        let exact = match op {
            Add => Some(x + y),
            Sub => Some(x - y),
            Mul => x.checked_mul(*y).filter(|product| *product != 0),
            _ => None,
        };
        if let Some(result) = exact
            && result.abs() < SAFE
        {
            return Value::Int(result);
        }
    }
    let order = |wanted: &[Ordering]| Value::Bool(compare(a, b).is_some_and(|o| wanted.contains(&o)));
    let bits = |f: fn(i32, i32) -> i32| Value::Int(f(to_int32(to_number(a)), to_int32(to_number(b))).into());
    match op {
        Eq => Value::Bool(strict_equal(a, b)),
        Ne => Value::Bool(!strict_equal(a, b)),
        LooseEq => Value::Bool(loose_equal(a, b)),
        LooseNe => Value::Bool(!loose_equal(a, b)),
        Lt => order(&[Ordering::Less]),
        Le => order(&[Ordering::Less, Ordering::Equal]),
        Gt => order(&[Ordering::Greater]),
        Ge => order(&[Ordering::Greater, Ordering::Equal]),
        Add => num(to_number(a) + to_number(b)),
        Sub => num(to_number(a) - to_number(b)),
        Mul => num(to_number(a) * to_number(b)),
        Div => num(to_number(a) / to_number(b)),
        Rem => num(remainder(to_number(a), to_number(b))),
        Pow => num(power(to_number(a), to_number(b))),
        Shl => bits(|a, b| a.wrapping_shl(b as u32 & 31)),
        Shr => bits(|a, b| a.wrapping_shr(b as u32 & 31)),
        UShr => Value::Int((to_uint32(to_number(a)) >> (to_uint32(to_number(b)) & 31)).into()),
        BitOr => bits(|a, b| a | b),
        BitXor => bits(|a, b| a ^ b),
        BitAnd => bits(|a, b| a & b),
        In => Value::Undefined,
    }
}

fn remainder(a: f64, b: f64) -> f64 {
    a % b
}

/// Number::exponentiate (§6.1.6.1.3), which differs from IEEE 754 for NaN and ±1 to ±∞.
pub fn power(base: f64, exponent: f64) -> f64 {
    if exponent.is_nan() || (base.abs() == 1.0 && exponent.is_infinite()) {
        return f64::NAN;
    }
    base.powf(exponent)
}

/// `typeof`.
pub fn type_of(value: &Value) -> &'static str {
    match value {
        Value::Undefined => "undefined",
        Value::Null | Value::List(_) | Value::Object(_) => "object",
        Value::Bool(_) => "boolean",
        Value::Int(_) | Value::Num(_) => "number",
        Value::Text(_) => "string",
    }
}
