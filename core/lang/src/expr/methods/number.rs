//! Methods of numbers (ECMA-262 §21.1.3).

use crate::expr::eval::{Eval, Res, range_failure};
use crate::expr::functions::Method;
use crate::expr::ops;
use kanzlei_model::value::Value;

impl Eval<'_> {
    pub(super) fn number_method(&mut self, method: Method, on: &Value, args: &[Value]) -> Res {
        self.work(20)?;
        let number = self.number_of(on)?;
        // Of `toLocaleString` the first argument is no number.
        let digits = if method == Method::ToLocaleString { 0.0 } else { self.integer_at(args, 0, 0.0)? };
        let given = !matches!(args.first(), None | Some(Value::Undefined));
        match method {
            Method::ToString => {
                let radix = self.integer_at(args, 0, 10.0)?;
                if !(2.0..=36.0).contains(&radix) {
                    return range_failure("the radix of `toString` lies between 2 and 36");
                }
                if radix == 10.0 {
                    let text = self.text_of(on)?;
                    self.make_text(text)
                } else {
                    self.make_text(in_radix(number, radix as u32))
                }
            }
            Method::ToFixed => {
                if !(0.0..=100.0).contains(&digits) {
                    return range_failure("`toFixed` takes 0 to 100 digits");
                }
                if number.abs() >= 1e21 || !number.is_finite() {
                    return self.make_text(ops::number_text(number));
                }
                self.make_text(ryu_js::Buffer::new().format_to_fixed(number, digits as u8))
            }
            Method::ToLocaleString => self.locale_number(on, args),
            Method::ToPrecision if !given => self.make_text(ops::number_text(number)),
            Method::ToPrecision | Method::ToExponential if !number.is_finite() => {
                self.make_text(ops::number_text(number))
            }
            Method::ToPrecision => {
                if !(1.0..=100.0).contains(&digits) {
                    return range_failure("`toPrecision` takes 1 to 100 digits");
                }
                self.make_text(precision(number, digits as usize))
            }
            Method::ToExponential => {
                if !(0.0..=100.0).contains(&digits) {
                    return range_failure("`toExponential` takes 0 to 100 digits");
                }
                self.make_text(exponential(number, given.then_some(digits as usize)))
            }
            Method::ValueOf => Ok(on.clone()),
            Method::HasOwnProperty => Ok(Value::Bool(false)),
            other => super::no_method(other, on),
        }
    }
}

/// The decimal digits of a positive number rounded half up to `count`, and the exponent of the first.
fn digits(number: f64, count: usize) -> (String, i32) {
    if number == 0.0 {
        return ("0".repeat(count), 0);
    }
    // A double has at most 767 significant digits, so this text is exact.
    let exact = format!("{number:.780e}");
    let (mantissa, exponent) = exact.split_once('e').unwrap_or((&exact, "0"));
    let mut exponent: i32 = exponent.parse().unwrap_or(0);
    let all: Vec<u8> = mantissa.bytes().filter(u8::is_ascii_digit).map(|b| b - b'0').collect();
    let mut kept = all[..count].to_vec();
    if all.get(count).is_some_and(|next| *next >= 5) {
        let mut at = count;
        loop {
            if at == 0 {
                kept.insert(0, 1);
                kept.pop();
                exponent += 1;
                break;
            }
            at -= 1;
            if kept[at] == 9 {
                kept[at] = 0;
            } else {
                kept[at] += 1;
                break;
            }
        }
    }
    (kept.iter().map(|digit| char::from(b'0' + digit)).collect(), exponent)
}

fn sign(number: f64) -> &'static str {
    if number < 0.0 { "-" } else { "" }
}

fn with_exponent(number: f64, digits: &str, exponent: i32) -> String {
    let (first, rest) = digits.split_at(1);
    let point = if rest.is_empty() { "" } else { "." };
    let plus = if exponent < 0 { "-" } else { "+" };
    format!("{}{first}{point}{rest}e{plus}{}", sign(number), exponent.abs())
}

/// Number.prototype.toPrecision (§21.1.3.5).
fn precision(number: f64, count: usize) -> String {
    let (digits, exponent) = digits(number.abs(), count);
    if exponent < -6 || exponent >= count as i32 {
        return with_exponent(number, &digits, exponent);
    }
    if exponent < 0 {
        return format!("{}0.{}{digits}", sign(number), "0".repeat((-exponent - 1) as usize));
    }
    let (whole, rest) = digits.split_at(exponent as usize + 1);
    let point = if rest.is_empty() { "" } else { "." };
    format!("{}{whole}{point}{rest}", sign(number))
}

/// Number.prototype.toExponential (§21.1.3.2).
fn exponential(number: f64, count: Option<usize>) -> String {
    match count {
        Some(count) => {
            let (digits, exponent) = digits(number.abs(), count + 1);
            with_exponent(number, &digits, exponent)
        }
        None => {
            let shortest = format!("{:e}", number.abs());
            let (mantissa, exponent) = shortest.split_once('e').unwrap_or((&shortest, "0"));
            with_exponent(number, &mantissa.replace('.', ""), exponent.parse().unwrap_or(0))
        }
    }
}

/// Number.prototype.toString with a radix: the shortest digits that lead back to the number.
fn in_radix(number: f64, radix: u32) -> String {
    if !number.is_finite() || number == 0.0 {
        return ops::number_text(number);
    }
    let base = f64::from(radix);
    let magnitude = number.abs();
    let mut whole = magnitude.floor();
    let mut fraction = magnitude - whole;
    let next = f64::from_bits(magnitude.to_bits() + 1);
    let mut delta = (0.5 * (next - magnitude)).max(f64::from_bits(1));
    let mut behind: Vec<u32> = Vec::new();
    if fraction >= delta {
        loop {
            fraction *= base;
            delta *= base;
            let digit = fraction as u32;
            behind.push(digit);
            fraction -= f64::from(digit);
            if (fraction > 0.5 || (fraction == 0.5 && digit & 1 == 1)) && fraction + delta > 1.0 {
                // Round up, and carry as far as needed.
                loop {
                    match behind.pop() {
                        None => {
                            whole += 1.0;
                            break;
                        }
                        Some(digit) if digit + 1 < radix => {
                            behind.push(digit + 1);
                            break;
                        }
                        Some(_) => {}
                    }
                }
                break;
            }
            if fraction < delta {
                break;
            }
        }
    }
    let mut before: Vec<u32> = Vec::new();
    // Above 2^53 the low digits mean nothing and are written as zeros.
    while whole >= 9_007_199_254_740_992.0 {
        whole /= base;
        before.push(0);
    }
    loop {
        let digit = whole % base;
        before.push(digit as u32);
        whole = (whole - digit) / base;
        if whole <= 0.0 {
            break;
        }
    }
    let letter = |digit: &u32| char::from_digit(*digit, radix).unwrap_or('0');
    let mut out = String::from(sign(number));
    out.extend(before.iter().rev().map(letter));
    if !behind.is_empty() {
        out.push('.');
        out.extend(behind.iter().map(letter));
    }
    out
}
