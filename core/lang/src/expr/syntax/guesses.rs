//! A bound on what the parser has to guess. Behind each `<` it reads type arguments first and starts over where those end nowhere;
//! a bracket inside them holds expressions again, so that a short text of nested guesses takes it minutes.
//!
//! Tokens are recognised as far as that needs: strings, templates, comments and patterns are skipped. Where a slash can be read in
//! two ways, brackets that close are not believed. It knows no tree and no names.

use super::super::Fault;
use super::Span;

/// Open guesses around the brackets of a place.
const MOST_AROUND: usize = 12;
/// Guesses in a row.
const MOST_IN_A_ROW: usize = 100;

/// Words behind which an expression begins, and so a slash begins a pattern.
const BEFORE: [&str; 12] =
    ["return", "typeof", "instanceof", "in", "case", "do", "else", "void", "delete", "new", "throw", "const"];
/// Words that end what could be type arguments.
const ENDS: [&str; 9] = ["const", "let", "return", "if", "for", "while", "else", "throw", "switch"];

/// What stands before a place.
#[derive(Clone, Copy, PartialEq)]
enum Before {
    /// An operator, a bracket that opens, or nothing: an expression begins.
    Operator,
    /// A value or a name: an operator follows.
    Operand,
    /// One or the other.
    Either,
}

/// An open bracket.
#[derive(Clone, Copy, Default)]
struct Level {
    /// Guesses since it was opened that may still be under way.
    guesses: usize,
    /// Whether it closes the head of a statement, behind which a statement begins.
    head: bool,
    /// Whether it is an expression inside of a template.
    template: bool,
}

/// Why a text is too much to guess, with the place.
pub(super) fn too_many(text: &str) -> Option<Fault> {
    // Most texts have few.
    if text.bytes().filter(|byte| *byte == b'<').count() <= MOST_AROUND {
        return None;
    }
    let at = Reader { text: text.as_bytes(), at: 0, levels: vec![Level::default()], believes: true }.read()?;
    let at = Span { start: at as u32, end: at as u32 + 1 };
    let fault = Fault::new("expression-too-deep", "too many `<` around and behind each other", at);
    Some(fault.help("split it with `let` or `const`, or put brackets around the comparisons"))
}

struct Reader<'t> {
    text: &'t [u8],
    at: usize,
    levels: Vec<Level>,
    /// Whether brackets that close are believed.
    believes: bool,
}

impl Reader<'_> {
    fn byte(&self, ahead: usize) -> u8 {
        self.text.get(self.at + ahead).copied().unwrap_or(0)
    }

    /// The place of the first guess beyond the bounds.
    fn read(mut self) -> Option<usize> {
        let (mut before, mut word) = (Before::Operator, String::new());
        while self.at < self.text.len() {
            let begun = self.at;
            let byte = self.byte(0);
            self.at += 1;
            let mut next = Before::Operator;
            let mut read = String::new();
            match byte {
                b' ' | b'\t' | b'\r' | b'\n' => continue,
                b'/' if self.byte(0) == b'/' => {
                    self.until(b"\n");
                    continue;
                }
                b'/' if self.byte(0) == b'*' => {
                    self.until(b"*/");
                    continue;
                }
                b'/' if before == Before::Operator => {
                    self.pattern();
                    next = Before::Operand;
                }
                b'/' => {
                    self.believes &= before != Before::Either;
                    self.forget();
                }
                b'\'' | b'"' => {
                    self.string(byte);
                    next = Before::Operand;
                }
                b'`' => next = self.template(),
                b'(' | b'[' | b'{' => {
                    let head = byte == b'(' && matches!(word.as_str(), "if" | "for" | "while" | "switch");
                    self.levels.push(Level { head, ..Level::default() });
                }
                b')' | b']' | b'}' => {
                    let closed = if self.levels.len() > 1 && self.believes { self.levels.pop() } else { None };
                    next = match (byte, closed) {
                        (b'}', Some(Level { template: true, .. })) => self.template(),
                        (b'}', _) => Before::Either,
                        (_, Some(Level { head: true, .. })) => Before::Operator,
                        _ => Before::Operand,
                    };
                }
                b'<' if self.byte(0) == b'=' || (self.byte(0), self.byte(1)) == (b'<', b'=') => {
                    self.at += 1;
                    self.forget();
                }
                b'<' => {
                    // The type of a generic function can be the first argument: `<<`.
                    self.at += usize::from(self.byte(0) == b'<');
                    let around: usize = self.levels.iter().rev().skip(1).map(|level| level.guesses).sum();
                    let level = self.levels.last_mut()?;
                    level.guesses += 1;
                    if around > MOST_AROUND || level.guesses > MOST_IN_A_ROW {
                        return Some(begun);
                    }
                }
                b'=' if self.byte(0) == b'>' => self.at += 1,
                b'&' | b'|' | b'?' if self.byte(0) == byte => {
                    self.at += 1;
                    self.forget();
                }
                b'+' | b'-' if self.byte(0) == byte => {
                    self.at += 1;
                    next = Before::Either;
                }
                // A type can begin and end with one.
                b'!' if self.byte(0) != b'=' => next = before,
                b';' | b'=' | b'+' | b'*' | b'%' | b'!' => self.forget(),
                _ if byte.is_ascii_alphanumeric() || matches!(byte, b'_' | b'$') || byte >= 0x80 => {
                    while self.byte(0).is_ascii_alphanumeric() || matches!(self.byte(0), b'_' | b'$' | 0x80..) {
                        self.at += 1;
                    }
                    read = String::from_utf8_lossy(&self.text[begun..self.at]).into_owned();
                    let member = begun > 0 && self.text[begun - 1] == b'.';
                    next = match read.as_str() {
                        _ if member => Before::Operand,
                        "yield" | "await" | "of" => Before::Either,
                        one if BEFORE.contains(&one) => Before::Operator,
                        _ => Before::Operand,
                    };
                    if !member && ENDS.contains(&read.as_str()) {
                        self.forget();
                    }
                }
                _ => {}
            }
            (before, word) = (next, read);
        }
        None
    }

    /// Type arguments cannot go on here.
    fn forget(&mut self) {
        if let Some(level) = self.levels.last_mut().filter(|_| self.believes) {
            level.guesses = 0;
        }
    }

    fn until(&mut self, end: &[u8]) {
        while self.at < self.text.len() && !self.text[self.at..].starts_with(end) {
            self.at += 1;
        }
        self.at = (self.at + end.len()).min(self.text.len());
    }

    fn string(&mut self, quote: u8) {
        while self.at < self.text.len() {
            match self.byte(0) {
                b'\\' => self.at += 2,
                b'\n' => return,
                byte => {
                    self.at += 1;
                    if byte == quote {
                        return;
                    }
                }
            }
        }
    }

    /// The rest of a template, up to its end or to an expression in it.
    fn template(&mut self) -> Before {
        while self.at < self.text.len() {
            match (self.byte(0), self.byte(1)) {
                (b'\\', _) => self.at += 2,
                (b'$', b'{') => {
                    self.at += 2;
                    self.levels.push(Level { template: true, ..Level::default() });
                    return Before::Operator;
                }
                (b'`', _) => {
                    self.at += 1;
                    return Before::Operand;
                }
                _ => self.at += 1,
            }
        }
        Before::Operand
    }

    /// A regular expression; a slash in a class does not end it.
    fn pattern(&mut self) {
        let mut class = false;
        while self.at < self.text.len() {
            match self.byte(0) {
                b'\\' => self.at += 2,
                b'\n' => return,
                b'/' if !class => {
                    self.at += 1;
                    return;
                }
                byte => {
                    class = (class || byte == b'[') && byte != b']';
                    self.at += 1;
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nested_guesses_are_refused_and_written_scripts_are_not() {
        let nested = "a<b<({h=".repeat(12);
        for (hostile, text) in [
            (true, nested.clone()),
            (true, "a<".repeat(200)),
            (true, "a<-1<({h=".repeat(12)),
            // Marks of types, and a function's type as an argument.
            (true, "a<! b<({h=".repeat(12)),
            (true, "a<b!<({h=".repeat(12)),
            (true, "a<<b>({h=".repeat(20)),
            // What looks as if it closed brackets or ended guesses.
            (true, "a<b<({h=/* )})})} */".repeat(12)),
            (true, "a<b<({h='&&)})})}',i=".repeat(12)),
            (true, "a<b<({h=/[/)})}]/,i=".repeat(12)),
            (true, "a<b<({h=`)})}${1})}`,i=".repeat(12)),
            (true, format!("({{}}/{nested}/1)")),
            (true, format!("const q = b / 2, r = '\\''; {nested}")),
            (true, format!("if (x) /'/.test(y); {nested}'")),
            (true, format!("x.return / 2; {nested}/ 1")),
            (false, "if (a < b && (c < d || e < f)) { x += 1; }\n".repeat(300)),
            (false, "bits = (bits << 1) | (bits << 3 < 8 ? !a : !!b);\n".repeat(200)),
            // Without semicolons.
            (false, "const a = b < c ? (d) : [e < f]\n".repeat(300)),
            (
                false,
                "total = list.filter(x => x.n < 3 && x.m / 2 < 4 && x.list.some(y => y.a < x.a)).length / 2\n"
                    .repeat(100),
            ),
            (false, "text += `<td>${a < b ? '<b>' : '<i>'}(${c})</td>` + '<p>(<b>(' + \"<(<(<(\"\n".repeat(200)),
            (false, "const t = (v as Record<string, Array<number>>) // it's < and (\n".repeat(100)),
        ] {
            assert_eq!(too_many(&text).is_some(), hostile, "{}", &text[..text.len().min(80)]);
        }
    }
}
