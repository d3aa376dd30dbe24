//! Patterns: ECMAScript's regular expressions (ECMA-262 §22.2) on a linear-time engine.
//!
//! The source is translated into the syntax of the `regex` crate, class by class, so that `\d`, `\w`,
//! `\s`, `.` and `\b` mean what they mean in ECMAScript. What cannot be matched in linear time (back
//! references, look-around) is refused. Patterns always match whole code points, as with the flag `u`.

use regex::Regex;

/// The longest pattern, in bytes.
pub const MAX_PATTERN: usize = 1000;

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
        let regex = regex::RegexBuilder::new(&translated)
            .case_insensitive(flags.contains('i'))
            .multi_line(flags.contains('m'))
            .size_limit(1 << 20)
            .dfa_size_limit(1 << 20)
            .nest_limit(50)
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
        Ok(Pattern { source: source.into(), flags: flags.into(), regex, global: flags.contains('g') })
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
