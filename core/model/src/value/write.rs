//! Values as JSON text: as `JSON.stringify` writes it (ECMA-262 §25.5.2), and in canonical form (RFC 8785).

use super::Value;

impl Value {
    /// JSON text, as `JSON.stringify` writes it, except that integers keep their 64 bits and
    /// `undefined` at the top returns `null`.
    pub fn to_json(&self) -> String {
        let mut out = String::with_capacity(match self {
            Value::List(_) | Value::Object(_) => 128,
            _ => 16,
        });
        self.write_json(&mut out);
        out
    }

    /// JSON text in canonical form (RFC 8785): members sorted by UTF-16 code units, no white space, numbers as
    /// ECMAScript writes them. Equal values have equal texts, however they were written.
    pub fn to_canonical_json(&self) -> String {
        fn write(value: &Value, out: &mut String) {
            match value {
                Value::List(list) => {
                    out.push('[');
                    for (index, item) in list.items().iter().enumerate() {
                        if index > 0 {
                            out.push(',');
                        }
                        write(item, out);
                    }
                    out.push(']');
                }
                Value::Object(members) => {
                    let mut sorted: Vec<_> =
                        members.iter().filter(|(_, value)| !matches!(value, Value::Undefined)).collect();
                    sorted.sort_by(|(a, _), (b, _)| a.encode_utf16().cmp(b.encode_utf16()));
                    out.push('{');
                    for (index, (name, value)) in sorted.into_iter().enumerate() {
                        if index > 0 {
                            out.push(',');
                        }
                        write_json_text(name, out);
                        out.push(':');
                        write(value, out);
                    }
                    out.push('}');
                }
                plain => plain.write_json(out),
            }
        }
        let mut out = String::new();
        write(self, &mut out);
        out
    }

    /// Appends the JSON text of this value.
    pub fn write_json(&self, out: &mut String) {
        match self {
            Value::Undefined | Value::Null => out.push_str("null"),
            Value::Bool(true) => out.push_str("true"),
            Value::Bool(false) => out.push_str("false"),
            Value::Int(int) => out.push_str(itoa::Buffer::new().format(*int)),
            // Most are whole.
            Value::Num(num) if num.fract() == 0.0 && num.abs() < 9e15 => {
                out.push_str(itoa::Buffer::new().format(*num as i64));
            }
            Value::Num(num) if num.is_finite() => {
                out.push_str(ryu_js::Buffer::new().format_finite(*num));
            }
            Value::Num(_) => out.push_str("null"),
            Value::Text(text) => write_json_text(text, out),
            Value::List(list) if list.items.exact().is_some() => out.push_str(list.items.exact().unwrap_or_default()),
            Value::Object(object) if object.members.exact().is_some() => {
                out.push_str(object.members.exact().unwrap_or_default());
            }
            Value::List(list) => {
                out.push('[');
                for (index, item) in list.items().iter().enumerate() {
                    if index > 0 {
                        out.push(',');
                    }
                    item.write_json(out);
                }
                out.push(']');
            }
            Value::Object(object) => {
                out.push('{');
                let mut first = true;
                for (key, value) in object.iter() {
                    if matches!(value, Value::Undefined) {
                        continue;
                    }
                    if !std::mem::take(&mut first) {
                        out.push(',');
                    }
                    write_json_text(key, out);
                    out.push(':');
                    value.write_json(out);
                }
                out.push('}');
            }
        }
    }
}

/// Whether one of eight bytes is a quotation mark, a backslash or a control character: each is compared in its part of a number.
fn has_escape(eight: u64) -> bool {
    const ONES: u64 = u64::from_ne_bytes([1; 8]);
    const TOPS: u64 = u64::from_ne_bytes([0x80; 8]);
    // The top bit of a part is set where it is less than `n`, for parts below 128; others are no reason to stop.
    let less = |parts: u64, n: u64| parts.wrapping_sub(ONES * n) & !parts & TOPS;
    let is = |byte: u8| less(eight ^ (ONES * u64::from(byte)), 1);
    less(eight, 0x20) | is(b'"') | is(b'\\') != 0
}

/// A number of bytes at the beginning of a text, up to eight too few, that are neither quotation mark, backslash nor control character.
pub(super) fn plain_prefix(bytes: &[u8]) -> usize {
    let eights = bytes.chunks_exact(8).map(|eight| eight.try_into().map_or(0, u64::from_ne_bytes));
    8 * eights.take_while(|eight| !has_escape(*eight)).count()
}

/// Whether a text has nothing to be escaped. Most have not; the last bytes are looked at together, some of them twice.
fn is_plain(bytes: &[u8]) -> bool {
    if let (Some(last), length) = (bytes.last_chunk(), bytes.len()) {
        return plain_prefix(bytes) == length / 8 * 8 && !has_escape(u64::from_ne_bytes(*last));
    }
    match (bytes.first_chunk(), bytes.last_chunk()) {
        (Some(first), Some(last)) => {
            let (first, last) = (u32::from_ne_bytes(*first), u32::from_ne_bytes(*last));
            !has_escape(u64::from(first) << 32 | u64::from(last))
        }
        _ => bytes.iter().all(|byte| !matches!(byte, b'"' | b'\\' | ..0x20)),
    }
}

/// Appends a JSON string literal with the escapes `JSON.stringify` uses.
pub fn write_json_text(text: &str, out: &mut String) {
    out.reserve(text.len() + 2);
    out.push('"');
    match is_plain(text.as_bytes()) {
        true => out.push_str(text),
        false => write_escaped(text, out),
    }
    out.push('"');
}

#[inline(never)]
fn write_escaped(text: &str, out: &mut String) {
    let mut plain_from = 0;
    let looked = plain_prefix(text.as_bytes());
    for (at, byte) in text.bytes().enumerate().skip(looked) {
        let escape = match byte {
            b'"' => "\\\"",
            b'\\' => "\\\\",
            b'\n' => "\\n",
            b'\r' => "\\r",
            b'\t' => "\\t",
            0x08 => "\\b",
            0x0c => "\\f",
            0..=0x1f => "",
            _ => continue,
        };
        out.push_str(&text[plain_from..at]);
        if escape.is_empty() {
            use std::fmt::Write;
            let _ = write!(out, "\\u{byte:04x}");
        } else {
            out.push_str(escape);
        }
        plain_from = at + 1;
    }
    out.push_str(&text[plain_from..]);
}

#[cfg(test)]
mod tests {
    use super::write_json_text;

    #[test]
    fn every_place_of_a_text_is_escaped() {
        for special in ["", "\"", "\\", "\n", "\u{1f}", " ", "\u{7f}", "å", "\u{ffff}", "!", "]"] {
            for (before, behind) in (0..20).flat_map(|before| (0..10).map(move |behind| (before, behind))) {
                let text = format!("{}{special}{}", "x".repeat(before), "ÿ".repeat(behind));
                let mut written = String::new();
                write_json_text(&text, &mut written);
                assert_eq!(written, serde_json::Value::from(text).to_string());
            }
        }
    }
}
