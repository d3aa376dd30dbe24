//! Methods of texts (ECMA-262 §22.1.3), with and without patterns.

use unicode_normalization::UnicodeNormalization;

use super::{arg, byte_position, function, relative, unit_position, utf16_len};
use crate::expr::ast::{Arg, Function, MethodCall};
use crate::expr::eval::{Eval, Res, Stop, range_failure};
use crate::expr::functions::Method;
use crate::expr::ops;
use crate::expr::pattern::Pattern;
use kanzlei_model::value::{ObjectBuilder, Str, Value};

/// The last position of a text at or before a position (ECMA-262 §22.1.3.11); -1 when there is none.
fn last_index_of(text: &str, wanted: &str, position: f64) -> Value {
    let position = if position.is_nan() { f64::INFINITY } else { position };
    let last_start = relative(ops::to_integer(position).max(0.0), utf16_len(text));
    if wanted.is_empty() {
        return Value::Int(last_start as i64);
    }
    // Where that is in the middle of a character, what is found ends before it.
    let end = text.floor_char_boundary(byte_position(text, last_start) + wanted.len());
    let found = text.get(..end).and_then(|head| head.rfind(wanted));
    Value::Int(found.map_or(-1, |at| unit_position(text, at) as i64))
}

/// A text in a normalization form of Unicode; NFC by default.
fn normalized(text: &str, form: &str) -> Result<String, Stop> {
    Ok(match form {
        "NFC" => text.nfc().collect(),
        "NFD" => text.nfd().collect(),
        "NFKC" => text.nfkc().collect(),
        "NFKD" => text.nfkd().collect(),
        other => return range_failure(format!("there is no normalization form `{other}`")),
    })
}

impl Eval<'_> {
    pub(super) fn text_method(&mut self, call: &MethodCall, text: &Str) -> Res {
        if let Some(found) = self.positional(call, text)? {
            return Ok(found);
        }
        self.text_work(text.len())?;
        if !text.is_ascii() {
            // Its units of UTF-16 are counted one by one.
            self.item_work(text.len() / 8)?;
        }
        if let Some(Arg::Pattern(pattern)) = call.args.first() {
            return self.pattern_method(call, text, &pattern.clone());
        }
        let args = self.arg_values(&call.args)?;
        Ok(match call.method {
            Method::Concat => {
                let mut out = text.to_string();
                args.iter().try_for_each(|value| self.append_text(value, &mut out))?;
                return self.make_text(out);
            }
            Method::LastIndexOf => {
                let wanted = self.text_at(&args, 0)?;
                last_index_of(text, &wanted, self.number_at(&args, 1, f64::INFINITY)?)
            }
            Method::LocaleCompare => return self.locale_compare(text, &args),
            Method::IsWellFormed => Value::Bool(true),
            Method::ToWellFormed | Method::ToString | Method::ValueOf => Value::Text(text.clone()),
            Method::Match | Method::MatchAll | Method::Search => {
                let pattern = self.text_at(&args, 0)?;
                return self.pattern_of_text(call, text, &pattern);
            }
            Method::Normalize => {
                self.item_work(text.len())?;
                let form = match args.first() {
                    None | Some(Value::Undefined) => "NFC".into(),
                    Some(form) => self.text_of(form)?,
                };
                return self.make_text(normalized(text, &form)?);
            }
            Method::PadEnd | Method::PadStart => return self.pad(text, &args, call.method == Method::PadEnd),
            Method::Repeat => {
                let times = self.integer_at(&args, 0, 0.0)?;
                return self.repeat(text, times);
            }
            Method::Replace | Method::ReplaceAll => return self.replace_text(call, text, &args),
            Method::Split => return self.split(text, &args),
            Method::ToLowerCase | Method::ToUpperCase => {
                self.item_work(text.len() / 4)?;
                let lower = call.method == Method::ToLowerCase;
                return self.make_text(if lower { text.to_lowercase() } else { text.to_uppercase() });
            }
            Method::Trim | Method::TrimEnd | Method::TrimStart => {
                self.item_work(text.len() / 4)?;
                return self.make_text(match call.method {
                    Method::Trim => ops::trim(text),
                    Method::TrimEnd => text.trim_end_matches(ops::is_space),
                    _ => text.trim_start_matches(ops::is_space),
                });
            }
            Method::HasOwnProperty => {
                let key = arg(&args, 0);
                let here = &*self.text_of(&key)? == "length"
                    || !matches!(self.index(&Value::Text(text.clone()), &key)?, Value::Undefined);
                Value::Bool(here)
            }
            method => return super::no_method(method, &Value::Text(text.clone())),
        })
    }

    /// Fills a text up to a length, behind it or before it (ECMA-262 §22.1.3.17).
    fn pad(&mut self, text: &Str, args: &[Value], behind: bool) -> Res {
        let length = utf16_len(text);
        let wanted = self.integer_at(args, 0, 0.0)?.max(0.0);
        let filler = match args.get(1) {
            None | Some(Value::Undefined) => " ".into(),
            Some(filler) => self.text_of(filler)?,
        };
        if wanted <= length as f64 || filler.is_empty() {
            return Ok(Value::Text(text.clone()));
        }
        self.will_make(wanted.min(1e18) as usize)?;
        self.item_work(wanted as usize)?;
        let missing = wanted as usize - length;
        let filler_units: Vec<u16> = filler.encode_utf16().cycle().take(missing).collect();
        let filling = String::from_utf16_lossy(&filler_units);
        self.make_text(if behind { format!("{text}{filling}") } else { format!("{filling}{text}") })
    }

    /// Replaces a text, once or everywhere (ECMA-262 §22.1.3.19).
    fn replace_text(&mut self, call: &MethodCall, text: &Str, args: &[Value]) -> Res {
        let wanted = self.text_at(args, 0)?;
        let all = call.method == Method::ReplaceAll;
        let mut places = Vec::new();
        // An empty text is found before each character, and at the end.
        let ends = text.char_indices().map(|(at, _)| at).chain([text.len()]).map(|at| (at, at));
        let mut found: Box<dyn Iterator<Item = (usize, usize)>> = match wanted.is_empty() {
            true => Box::new(ends),
            false => Box::new(text.match_indices(&*wanted).map(|(at, found)| (at, at + found.len()))),
        };
        while let Some(place) = found.next().filter(|_| all || places.is_empty()) {
            self.work(4)?;
            self.will_make(64)?;
            places.push(vec![Some(place)]);
        }
        drop(found);
        self.replace(text, places, &[], function(&call.args, 1), args.get(1))
    }

    /// Splits a text at a separator, or into its code units (ECMA-262 §22.1.3.23).
    fn split(&mut self, text: &Str, args: &[Value]) -> Res {
        let limit = self.split_limit(args)?;
        let separator = match args.first() {
            None | Some(Value::Undefined) => {
                return self.make_list(vec![Value::Text(text.clone())].into_iter().take(limit).collect());
            }
            Some(separator) => self.text_of(separator)?,
        };
        let mut parts = Vec::new();
        if separator.is_empty() {
            self.item_work(text.len() * 4)?;
            self.will_make(text.len() * 64)?;
            parts.extend(super::units(text).take(limit).map(Value::Text));
        } else {
            for part in text.split(&*separator).take(limit) {
                self.work(4)?;
                self.will_make(part.len() + 40)?;
                parts.push(Value::text(part));
            }
        }
        self.make_list(parts)
    }

    /// How many parts a split makes at most.
    fn split_limit(&mut self, args: &[Value]) -> Res<usize> {
        Ok(match args.get(1) {
            None | Some(Value::Undefined) => usize::MAX,
            Some(limit) => ops::to_uint32(self.number_of(limit)?) as usize,
        })
    }

    /// A text so many times in a row.
    fn repeat(&mut self, text: &Str, count: f64) -> Res {
        if count < 0.0 || count.is_infinite() {
            return range_failure(format!("a text cannot be repeated {} times", ops::number_text(count)));
        }
        self.will_make((count * text.len() as f64).min(1e18) as usize)?;
        Ok(Value::text(text.repeat(if text.is_empty() { 0 } else { count as usize })))
    }

    /// Matches with a pattern given as a text.
    fn pattern_of_text(&mut self, call: &MethodCall, text: &Str, source: &str) -> Res {
        self.work(100)?;
        let pattern = match Pattern::new(source, if call.method == Method::MatchAll { "g" } else { "" }) {
            Ok(pattern) => pattern,
            Err(problem) => return range_failure(problem.message),
        };
        self.work(pattern.work_to_build())?;
        self.pattern_method(call, text, &pattern)
    }

    fn pattern_method(&mut self, call: &MethodCall, text: &Str, pattern: &Pattern) -> Res {
        match call.method {
            Method::Search => {
                self.work(pattern.work(text.len()))?;
                let found = pattern.regex.find(text);
                Ok(Value::Int(found.map_or(-1, |m| unit_position(text, m.start()) as i64)))
            }
            Method::Match if !pattern.global => self.captures(pattern, text),
            Method::Match => {
                let mut found = Vec::new();
                self.each_match(pattern, text, |eval, captures| {
                    let text = captures.get(0).map_or("", |whole| whole.as_str());
                    eval.will_make(text.len() + 40)?;
                    found.push(Value::text(text));
                    Ok(true)
                })?;
                if found.is_empty() { Ok(Value::Null) } else { self.make_list(found) }
            }
            Method::MatchAll => {
                let (mut found, mut units) = (Vec::new(), Units::default());
                self.each_match(pattern, text, |eval, captures| {
                    let start = captures.get(0).map_or(0, |whole| whole.start());
                    found.push(eval.capture_list(pattern, text, captures, units.at(text, start))?);
                    Ok(true)
                })?;
                self.make_list(found)
            }
            Method::Replace | Method::ReplaceAll => {
                let mut groups = Vec::new();
                let each = |eval: &mut Self, captures: &regex::Captures| {
                    eval.will_make(48 + 24 * captures.len())?;
                    groups.push(captures.iter().map(|group| group.map(|m| (m.start(), m.end()))).collect());
                    Ok(pattern.global)
                };
                self.each_match(pattern, text, each)?;
                let names: Vec<Option<&str>> = pattern.regex.capture_names().collect();
                let replacement = match call.args.get(1) {
                    Some(Arg::Value(expr)) => Some(self.expr(expr)?),
                    _ => None,
                };
                self.replace(text, groups, &names, function(&call.args, 1), replacement.as_ref())
            }
            _ => {
                let args = self.arg_values(&call.args)?;
                let limit = self.split_limit(&args)?;
                self.split_by(text, pattern, limit)
            }
        }
    }

    /// Finds matches one after another until `with` returns false (ECMA-262 §22.2.6.8: behind an empty match the next
    /// search begins one character on). Each search is charged for what it reads.
    fn each_match(
        &mut self,
        pattern: &Pattern,
        text: &str,
        mut with: impl FnMut(&mut Self, &regex::Captures) -> Res<bool>,
    ) -> Res<()> {
        let mut scan = pattern.scan();
        let mut from = 0;
        while from <= text.len() {
            scan.read(text, from, |units| self.work(units))?;
            let Some(captures) = pattern.regex.captures_at(text, from) else { break };
            let Some(whole) = captures.get(0) else { break };
            self.work(4 * captures.len() as u64)?;
            from = whole.end();
            if whole.is_empty() {
                from += text[from..].chars().next().map_or(1, char::len_utf8);
            }
            if !with(self, &captures)? {
                break;
            }
        }
        Ok(())
    }

    /// §22.2.6.14: an empty match at the end of a piece does not split, groups become items.
    fn split_by(&mut self, text: &Str, pattern: &Pattern, limit: usize) -> Res {
        let mut parts: Vec<Value> = Vec::new();
        if text.is_empty() {
            if pattern.regex.find(text).is_none() {
                parts.push(Value::Text(text.clone()));
            }
            return self.make_list(parts);
        }
        let mut piece_from = 0;
        self.each_match(pattern, text, |eval, captures| {
            let Some(whole) = captures.get(0) else { return Ok(false) };
            if whole.end() == piece_from || whole.start() >= text.len() {
                return Ok(true);
            }
            eval.will_make(whole.end() - piece_from + 40 * captures.len())?;
            parts.push(Value::text(&text[piece_from..whole.start()]));
            parts.extend(captures.iter().skip(1).map(|g| g.map_or(Value::Undefined, |g| Value::text(g.as_str()))));
            piece_from = whole.end();
            Ok(parts.len() < limit)
        })?;
        parts.push(Value::text(&text[piece_from..]));
        parts.truncate(limit);
        self.make_list(parts)
    }

    pub(in crate::expr) fn captures(&mut self, pattern: &Pattern, text: &Str) -> Res {
        self.work(pattern.work(text.len()))?;
        match pattern.regex.captures(text) {
            None => Ok(Value::Null),
            Some(captures) => {
                let start = captures.get(0).map_or(0, |whole| whole.start());
                self.capture_list(pattern, text, &captures, unit_position(text, start))
            }
        }
    }

    /// The groups of a match that begins at a position, in code units.
    fn capture_list(&mut self, pattern: &Pattern, text: &Str, captures: &regex::Captures, position: usize) -> Res {
        let value = |m: Option<regex::Match>| m.map_or(Value::Undefined, |m| Value::text(m.as_str()));
        let bytes: usize = captures.iter().flatten().map(|group| group.len()).sum();
        self.will_make(bytes + captures.len() * 64)?;
        self.work(20 + 4 * captures.len() as u64)?;
        let items: Vec<Value> = captures.iter().map(value).collect();
        let mut groups = None;
        for name in pattern.regex.capture_names().flatten() {
            groups.get_or_insert_with(ObjectBuilder::default).insert(name.into(), value(captures.name(name)));
        }
        let named = Value::object([
            ("index", Value::Int(position as i64)),
            ("input", Value::Text(text.clone())),
            ("groups", groups.map_or(Value::Undefined, ObjectBuilder::finish)),
        ]);
        match named {
            Value::Object(named) => Ok(Value::match_list(items, named)),
            other => Ok(other),
        }
    }

    /// Puts what a template of a replacement stands for, and charges for it.
    fn substitute(
        &mut self,
        template: &str,
        text: &str,
        groups: &[Option<(usize, usize)>],
        names: &[Option<&str>],
        out: &mut String,
    ) -> Res<()> {
        substitute(template, text, groups, names, |piece| {
            self.work(1)?;
            self.will_make(piece.len())?;
            out.push_str(piece);
            Ok(())
        })
    }

    /// Puts replacements into places; each place has the byte ranges of its groups, the whole first.
    fn replace(
        &mut self,
        text: &Str,
        places: Vec<Vec<Option<(usize, usize)>>>,
        names: &[Option<&str>],
        function: Option<&Function>,
        replacement: Option<&Value>,
    ) -> Res {
        let template = match replacement {
            Some(template) => self.text_of(template)?,
            None => Str::default(),
        };
        let mut out = String::new();
        let (mut done, mut units) = (0, Units::default());
        for groups in places {
            let Some((from, to)) = groups[0] else { continue };
            out.push_str(&text[done..from]);
            done = to;
            match function {
                Some(function) => {
                    let part = |range: &Option<(usize, usize)>| {
                        range.map_or(Value::Undefined, |(a, b)| Value::text(&text[a..b]))
                    };
                    let mut args: Vec<Value> = groups.iter().map(part).collect();
                    args.push(Value::Int(units.at(text, from) as i64));
                    args.push(Value::Text(text.clone()));
                    self.will_make(to - from + 64)?;
                    if names.iter().any(Option::is_some) {
                        let named =
                            names.iter().zip(&groups).filter_map(|(name, range)| name.map(|name| (name, part(range))));
                        args.push(Value::object(named));
                    }
                    let value = self.apply(function, &args)?;
                    self.append_text(&value, &mut out)?;
                }
                None => self.substitute(&template, text, &groups, names, &mut out)?,
            }
        }
        out.push_str(&text[done..]);
        self.make_text(out)
    }
}

/// GetSubstitution (§22.1.3.19.1); `put` receives the pieces.
fn substitute(
    template: &str,
    text: &str,
    groups: &[Option<(usize, usize)>],
    names: &[Option<&str>],
    mut put: impl FnMut(&str) -> Res<()>,
) -> Res<()> {
    let (from, to) = groups[0].unwrap_or_default();
    let mut rest = template;
    while let Some(at) = rest.find('$') {
        put(&rest[..at])?;
        let after = &rest[at + 1..];
        let group = |index: usize| groups.get(index).copied().flatten().map_or("", |(a, b)| &text[a..b]);
        let digits = |n: usize| {
            after.get(..n).filter(|d| d.bytes().all(|b| b.is_ascii_digit())).and_then(|d| d.parse::<usize>().ok())
        };
        let valid = |index: &usize| (1..groups.len()).contains(index);
        let taken = if after.starts_with('$') {
            put("$")?;
            1
        } else if after.starts_with('&') {
            put(&text[from..to])?;
            1
        } else if after.starts_with('`') {
            put(&text[..from])?;
            1
        } else if after.starts_with('\'') {
            put(&text[to..])?;
            1
        } else if let Some(index) = digits(2).filter(valid) {
            put(group(index))?;
            2
        } else if let Some(index) = digits(1).filter(valid) {
            put(group(index))?;
            1
        } else if let Some(name) = after.strip_prefix('<').and_then(|n| n.split_once('>')).map(|n| n.0)
            && names.iter().any(Option::is_some)
        {
            if let Some(index) = names.iter().position(|n| *n == Some(name)) {
                put(group(index))?;
            }
            name.len() + 2
        } else {
            put("$")?;
            0
        };
        rest = &after[taken..];
    }
    put(rest)
}

/// Counts code units up to one position after another.
#[derive(Default)]
struct Units {
    bytes: usize,
    units: usize,
}

impl Units {
    /// The position in code units of a byte position that is not before the last one.
    fn at(&mut self, text: &str, byte: usize) -> usize {
        self.units += text.get(self.bytes..byte).map_or(0, utf16_len);
        self.bytes = byte;
        self.units
    }
}
