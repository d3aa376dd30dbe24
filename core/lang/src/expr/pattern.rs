//! Patterns: ECMAScript's regular expressions (ECMA-262 §22.2) on a linear-time engine.
//!
//! The source is translated into the syntax of the `regex` crate, class by class, so that `\d`, `\w`,
//! `\s`, `.` and `\b` mean what they mean in ECMAScript. What cannot be matched in linear time (back
//! references, look-around) is refused. Patterns always match whole code points, as with the flag `u`.
//!
//! One search is linear in the text, and finding all matches is linear per match only: a search that reads to the
//! end and finds a short match starts over behind it. So each search of several is measured ([`Scan`]), and the
//! evaluation is charged for what was read.

use regex::Regex;
use regex_automata::Input;
use regex_automata::hybrid::dfa::{Cache, DFA};
use regex_syntax::hir::{Hir, HirKind};

/// The longest pattern, in bytes.
pub const MAX_PATTERN: usize = 1000;
/// The most bytes that a compiled pattern may have.
const MAX_PROGRAM: usize = 1 << 20;
/// How deep groups may be nested.
const MAX_NEST: u32 = 50;

/// A compiled regular expression.
#[derive(Debug)]
pub struct Pattern {
    /// The pattern as written.
    pub source: String,
    /// The flags as written.
    pub flags: String,
    /// The compiled pattern.
    pub regex: Regex,
    /// Whether it has the flag `g`.
    pub global: bool,
    /// Places that a search may have to keep in mind: characters and classes, repeated ones as often as they are.
    places: u64,
    /// Measures searches for all matches; only with the flag `g`.
    scanner: Option<Box<DFA>>,
}

/// Why a pattern is refused.
#[derive(Debug, PartialEq)]
pub struct Problem {
    /// What is wrong, in a sentence.
    pub message: String,
    /// What to do about it.
    pub help: Option<String>,
}

fn problem(message: impl Into<String>, help: Option<&str>) -> Problem {
    Problem { message: message.into(), help: help.map(str::to_owned) }
}

impl Pattern {
    /// Builds a pattern from ECMAScript source and flags (`g`, `i`, `m`, `s`, `u`).
    pub fn new(source: &str, flags: &str) -> Result<Self, Problem> {
        if source.len() > MAX_PATTERN {
            return Err(problem(format!("a pattern may have at most {MAX_PATTERN} bytes"), None));
        }
        let dot_all = flags.contains('s');
        let translated = Translation { chars: source.chars().collect(), at: 0, out: String::new(), dot_all }.run()?;
        let (ignores_case, multi_line) = (flags.contains('i'), flags.contains('m'));
        let regex = regex::RegexBuilder::new(&translated)
            .case_insensitive(ignores_case)
            .multi_line(multi_line)
            .size_limit(MAX_PROGRAM)
            .dfa_size_limit(MAX_PROGRAM)
            .nest_limit(MAX_NEST)
            .build()
            .map_err(|error| match error {
                regex::Error::CompiledTooBig(_) => {
                    problem("this pattern is too big", Some("use smaller repeat counts"))
                }
                other => {
                    let text = other.to_string();
                    let last = text.lines().last().unwrap_or("").trim();
                    problem(format!("invalid pattern: {}", last.strip_prefix("error: ").unwrap_or(last)), None)
                }
            })?;
        let places = regex_syntax::ParserBuilder::new()
            .case_insensitive(ignores_case)
            .multi_line(multi_line)
            .nest_limit(MAX_NEST)
            .build()
            .parse(&translated)
            .map_or(u64::from(u16::MAX), |hir| places(&hir));
        let global = flags.contains('g');
        let syntax = regex_automata::util::syntax::Config::new()
            .case_insensitive(ignores_case)
            .multi_line(multi_line)
            .nest_limit(MAX_NEST);
        let scanner = global.then(|| {
            DFA::builder()
                .syntax(syntax)
                .thompson(regex_automata::nfa::thompson::Config::new().nfa_size_limit(Some(MAX_PROGRAM)))
                .configure(DFA::config().cache_capacity(MAX_PROGRAM).skip_cache_capacity_check(true))
                .build(&translated)
                .map_err(Box::new)
        });
        let scanner = match scanner {
            Some(Err(_)) => return Err(problem("this pattern is too big", Some("use smaller repeat counts"))),
            other => other.and_then(Result::ok).map(Box::new),
        };
        Ok(Pattern { source: source.into(), flags: flags.into(), regex, global, places, scanner })
    }

    /// Units of work of one search through so many bytes, at most.
    pub fn work(&self, bytes: usize) -> u64 {
        (bytes as u64).saturating_mul(2 + self.places) / 32 + 1
    }

    /// Units of work of building it from its text.
    pub fn work_to_build(&self) -> u64 {
        500 + self.places.saturating_mul(20)
    }

    /// Measures one search after another through the same text.
    pub(super) fn scan(&self) -> Scan<'_> {
        Scan { pattern: self, cache: self.scanner.as_ref().map(|scanner| scanner.create_cache()) }
    }
}

/// Measures how far searches read.
pub(super) struct Scan<'p> {
    pattern: &'p Pattern,
    cache: Option<Cache>,
}

/// Bytes between two charges of a search.
const CHUNK: usize = 4096;

impl Scan<'_> {
    /// Reads from a position on as a search for the leftmost match does, and charges for it as it goes.
    ///
    /// # Errors
    /// Those of `charge`.
    pub fn read<E>(&mut self, text: &str, from: usize, mut charge: impl FnMut(u64) -> Result<(), E>) -> Result<(), E> {
        let (Some(scanner), Some(cache)) = (&self.pattern.scanner, &mut self.cache) else {
            return charge(self.pattern.work(text.len() - from));
        };
        let input = Input::new(text).range(from..);
        let Ok(mut state) = scanner.start_state_forward(cache, &input) else {
            return charge(self.pattern.work(text.len() - from));
        };
        for chunk in text.as_bytes()[from..].chunks(CHUNK) {
            let before = cache.memory_usage();
            let mut read = chunk.len();
            for (at, byte) in chunk.iter().enumerate() {
                match scanner.next_state(cache, state, *byte) {
                    Ok(next) if next.is_dead() || next.is_quit() => {
                        read = at + 1;
                        state = next;
                        break;
                    }
                    Ok(next) => state = next,
                    Err(_) => return charge(self.pattern.work(text.len() - from)),
                }
            }
            // States that had to be built cost more than bytes that were read.
            let built = cache.memory_usage().saturating_sub(before) as u64;
            charge(self.pattern.work(read) + built / 16)?;
            if state.is_dead() || state.is_quit() {
                return Ok(());
            }
        }
        Ok(())
    }
}

/// The places of a pattern.
fn places(hir: &Hir) -> u64 {
    match hir.kind() {
        HirKind::Empty | HirKind::Look(_) => 1,
        HirKind::Literal(literal) => literal.0.len() as u64,
        // A class beyond ASCII is some steps for each of the bytes of a character.
        HirKind::Class(class) if class.is_utf8() && class.maximum_len().is_some_and(|bytes| bytes > 1) => 4,
        HirKind::Class(_) => 1,
        HirKind::Repetition(repetition) => {
            let times = repetition.max.unwrap_or(repetition.min.saturating_add(1)).max(1);
            places(&repetition.sub).saturating_mul(times.into())
        }
        HirKind::Capture(capture) => places(&capture.sub).saturating_add(2),
        HirKind::Concat(parts) | HirKind::Alternation(parts) => {
            parts.iter().fold(0, |sum: u64, part| sum.saturating_add(places(part)))
        }
    }
}

struct Translation {
    chars: Vec<char>,
    at: usize,
    out: String,
    dot_all: bool,
}

const SPACE: &str =
    r"\t\n\x0B\x0C\r\x20\u{a0}\u{1680}\u{2000}-\u{200a}\u{2028}\u{2029}\u{202f}\u{205f}\u{3000}\u{feff}";
const DIGIT: &str = "0-9";
const WORD: &str = "0-9A-Za-z_";

impl Translation {
    fn run(mut self) -> Result<String, Problem> {
        while let Some(c) = self.take() {
            match c {
                '\\' => self.escape(false)?,
                '[' => self.class()?,
                '.' if self.dot_all => self.out.push_str("(?s:.)"),
                '.' => self.out.push_str(r"[^\n\r\u{2028}\u{2029}]"),
                '(' => self.group()?,
                '{' if !self.is_count() => self.out.push_str(r"\{"),
                '}' if !self.closes_count() => self.out.push_str(r"\}"),
                ']' => self.out.push_str(r"\]"),
                '#' | '&' | '~' | '-' | ' ' => {
                    self.out.push('\\');
                    self.out.push(c);
                }
                c => self.out.push(c),
            }
        }
        Ok(self.out)
    }

    fn take(&mut self) -> Option<char> {
        let c = self.chars.get(self.at).copied();
        self.at += 1;
        c
    }

    fn rest(&self) -> String {
        self.chars[self.at.min(self.chars.len())..].iter().take(4).collect()
    }

    /// Whether what follows an opening brace is a repeat count.
    fn is_count(&self) -> bool {
        let inside: String = self.chars[self.at..].iter().take_while(|c| **c != '}').collect();
        let closed = self.at + inside.chars().count() < self.chars.len();
        closed
            && inside.starts_with(|c: char| c.is_ascii_digit())
            && inside.chars().all(|c| c.is_ascii_digit() || c == ',')
            && inside.matches(',').count() <= 1
    }

    fn closes_count(&self) -> bool {
        let open = self.out.rfind('{');
        open.is_some_and(|open| {
            !self.out[..open].ends_with('\\')
                && self.out[open + 1..].chars().all(|c| c.is_ascii_digit() || c == ',')
                && open + 1 < self.out.len()
        })
    }

    fn group(&mut self) -> Result<(), Problem> {
        let rest = self.rest();
        if rest.starts_with("?=") || rest.starts_with("?!") || rest.starts_with("?<=") || rest.starts_with("?<!") {
            return Err(problem(
                "look-around in a pattern cannot be matched in linear time and is refused",
                Some("match more and use a group, or combine two tests with `&&`"),
            ));
        }
        if rest.starts_with('?') && !rest.starts_with("?:") && !rest.starts_with("?<") {
            return Err(problem("inline flags in a pattern are refused", Some("put flags behind the pattern")));
        }
        self.out.push('(');
        Ok(())
    }

    /// Translates what follows a backslash.
    fn escape(&mut self, in_class: bool) -> Result<(), Problem> {
        let Some(c) = self.take() else {
            return Err(problem("the pattern ends in a backslash", None));
        };
        let set = |inside: &str, negated: bool| match (in_class, negated) {
            (true, false) => inside.to_owned(),
            (_, false) => format!("[{inside}]"),
            (_, true) => format!("[^{inside}]"),
        };
        let text = match c {
            'd' => set(DIGIT, false),
            'D' => set(DIGIT, true),
            'w' => set(WORD, false),
            'W' => set(WORD, true),
            's' => set(SPACE, false),
            'S' => set(SPACE, true),
            'b' if in_class => r"\x08".into(),
            'b' => r"(?-u:\b)".into(),
            'B' => r"(?-u:\B)".into(),
            't' | 'n' | 'r' => format!("\\{c}"),
            'v' => r"\x0B".into(),
            'f' => r"\x0C".into(),
            '0' if !self.rest().starts_with(|c: char| c.is_ascii_digit()) => r"\x00".into(),
            '1'..='9' => {
                return Err(problem(
                    "a back reference in a pattern cannot be matched in linear time and is refused",
                    None,
                ));
            }
            'k' if !in_class => {
                return Err(problem(
                    "a back reference in a pattern cannot be matched in linear time and is refused",
                    None,
                ));
            }
            'c' => {
                let letter = self.take().filter(char::is_ascii_alphabetic);
                let letter = letter.ok_or_else(|| problem(r"`\c` needs a letter", None))?;
                format!("\\x{:02X}", letter as u32 % 32)
            }
            'x' => self.code_point(2)?,
            'u' if self.rest().starts_with('{') => {
                self.at += 1;
                let hex: String = self.chars[self.at..].iter().take_while(|c| **c != '}').collect();
                self.at += hex.chars().count() + 1;
                code_point_escape(&hex)?
            }
            'u' => self.code_point(4)?,
            'p' | 'P' => {
                let rest: String = self.chars[self.at..].iter().collect();
                let end = rest.find('}').filter(|_| rest.starts_with('{'));
                let end = end.ok_or_else(|| problem(r"`\p` needs a property in braces", None))?;
                self.at += rest[..=end].chars().count();
                format!("\\{c}{}", &rest[..=end])
            }
            c if c.is_ascii_alphanumeric() => {
                return Err(problem(format!("unknown escape `\\{c}` in a pattern"), None));
            }
            c if c.is_ascii() => format!("\\{c}"),
            c => c.to_string(),
        };
        self.out.push_str(&text);
        Ok(())
    }

    fn code_point(&mut self, digits: usize) -> Result<String, Problem> {
        let hex: String = self.chars[self.at.min(self.chars.len())..].iter().take(digits).collect();
        self.at += digits;
        let mut text = code_point_escape(&hex);
        // A surrogate pair written as two escapes is one code point.
        if let Ok(high @ 0xD800..=0xDBFF) = u32::from_str_radix(&hex, 16)
            && self.rest().starts_with("\\u")
        {
            let low: String = self.chars[self.at + 2..].iter().take(4).collect();
            if let Ok(low @ 0xDC00..=0xDFFF) = u32::from_str_radix(&low, 16) {
                self.at += 6;
                text = code_point_escape(&format!("{:x}", 0x10000 + ((high - 0xD800) << 10) + (low - 0xDC00)));
            }
        }
        text
    }

    fn class(&mut self) -> Result<(), Problem> {
        self.out.push('[');
        if self.rest().starts_with('^') {
            self.at += 1;
            self.out.push('^');
        }
        if self.rest().starts_with(']') {
            // `[]` matches nothing, `[^]` anything.
            self.at += 1;
            let negated = self.out.ends_with('^');
            self.out.truncate(self.out.len() - if negated { 2 } else { 1 });
            self.out.push_str(if negated { "(?s:.)" } else { r"[^\x00-\u{10ffff}]" });
            return Ok(());
        }
        loop {
            match self.take() {
                None => return Err(problem("the pattern has a `[` without `]`", None)),
                Some(']') => break,
                Some('\\') => self.escape(true)?,
                Some(c @ ('[' | '&' | '~' | '^')) => {
                    self.out.push('\\');
                    self.out.push(c);
                }
                // A hyphen after or before a class escape, or at an end, is itself.
                Some('-') if self.hyphen_is_literal() => self.out.push_str("\\-"),
                Some(c) => self.out.push(c),
            }
        }
        self.out.push(']');
        Ok(())
    }

    fn hyphen_is_literal(&self) -> bool {
        let rest = self.rest();
        let before: String = self.chars[..self.at - 1].iter().rev().take(2).collect();
        let class_escape = |c: Option<char>| c.is_some_and(|c| "dDwWsS".contains(c));
        rest.starts_with(']')
            || before.starts_with('[')
            || before.starts_with("^[")
            || (before.chars().nth(1) == Some('\\') && class_escape(before.chars().next()))
            || (rest.starts_with('\\') && class_escape(rest.chars().nth(1)))
    }
}

fn code_point_escape(hex: &str) -> Result<String, Problem> {
    match u32::from_str_radix(hex, 16).ok().and_then(char::from_u32) {
        Some(c) => Ok(format!("\\u{{{:x}}}", c as u32)),
        None => Err(problem("invalid character escape in a pattern", None)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_match_as_in_ecmascript() {
        for (source, flags, text, wanted) in [
            (r"^\d+$", "", "123", true),
            (r"^\d+$", "", "١٢", false),
            (r"^.$", "", "\u{2028}", false),
            (r"^.$", "s", "\n", true),
            (r"a{", "", "a{", true),
            (r"a{2}", "", "aa", true),
            (r"x{,3}", "", "x{,3}", true),
            (r"[a&&b]", "", "&", true),
            (r"[[]", "", "[", true),
            (r"[\w-]+$", "", "a-b", true),
            (r"\s", "", "\u{feff}", true),
            (r"[^]", "", "\n", true),
            (r"[]", "", "a", false),
            (r"\u0041\x42\u{43}", "u", "ABC", true),
            (r"\ud83d\ude00", "", "😀", true),
            (r"(?<year>\d{4})", "", "2027", true),
            (r"\bk\b", "i", "a K b", true),
        ] {
            let pattern = Pattern::new(source, flags).unwrap_or_else(|e| panic!("{source}: {e:?}"));
            assert_eq!(pattern.regex.is_match(text), wanted, "/{source}/{flags} on {text:?}");
        }
    }

    #[test]
    fn what_is_not_linear_is_refused() {
        for source in [r"(a)\1", r"(?=a)", r"(?<!a)b", r"\k<a>", r"(?i)a", r"[a", r"\q", r"((a{1000}){1000}){1000}"] {
            assert!(Pattern::new(source, "").is_err(), "/{source}/");
        }
    }
}
