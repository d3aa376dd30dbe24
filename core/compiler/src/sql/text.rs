//! The text of a statement, cut as MariaDB cuts it: quoted parts, comments, words, named parameters.
//!
//! A parser that cuts a text differently from the database can be led past what it looks for. Comments are therefore
//! removed before a statement is parsed, and what is sent is the text that was parsed.

/// A part of a statement.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum Piece<'a> {
    /// A string or a quoted name, its quotes included.
    Quoted(&'a str),
    /// A comment. MariaDB reads some of them as code.
    Comment { executable: bool, whole: bool },
    /// `:name`, without the colon.
    Parameter(&'a str),
    /// Letters, digits, `_`, `$` and whatever is not ASCII.
    Word(&'a str),
    /// Anything else, such as an operator.
    Other(&'a str),
}

/// The parts of a statement, each with its place.
pub(super) fn pieces(text: &str) -> Vec<(usize, Piece<'_>)> {
    let bytes = text.as_bytes();
    let mut found = Vec::new();
    let mut at = 0;
    while at < bytes.len() {
        let rest = &text[at..];
        let (length, piece) = match bytes[at] {
            quote @ (b'\'' | b'"' | b'`') => {
                let length = quoted(&bytes[at..], quote);
                (length, Piece::Quoted(&rest[..length]))
            }
            b'#' => (line(rest), Piece::Comment { executable: false, whole: true }),
            // Two hyphens begin a comment only before a space or a control character.
            b'-' if rest.starts_with("--") && bytes.get(at + 2).is_none_or(|b| *b <= b' ') => {
                (line(rest), Piece::Comment { executable: false, whole: true })
            }
            b'/' if rest.starts_with("/*") => {
                let end = rest[2..].find("*/");
                let executable = rest.starts_with("/*!") || rest.starts_with("/*M!");
                (end.map_or(rest.len(), |end| end + 4), Piece::Comment { executable, whole: end.is_some() })
            }
            b':' if begins_parameter(bytes, at) => {
                let length = 1 + rest[1..].bytes().take_while(|b| b.is_ascii_alphanumeric() || *b == b'_').count();
                (length, Piece::Parameter(&rest[1..length]))
            }
            b if is_word(b) => {
                let length = rest.bytes().take_while(|b| is_word(*b)).count();
                (length, Piece::Word(&rest[..length]))
            }
            _ => (1, Piece::Other(&rest[..1])),
        };
        found.push((at, piece));
        at += length;
    }
    found
}

/// The texts around the named parameters, without comments, and each parameter with its place.
pub(crate) fn parameters(text: &str) -> (Vec<String>, Vec<(usize, String)>) {
    let mut texts = vec![String::new()];
    let mut found = Vec::new();
    for (at, piece) in pieces(text) {
        let last = texts.len() - 1;
        match piece {
            Piece::Parameter(name) => {
                found.push((at, name.to_owned()));
                texts.push(String::new());
            }
            Piece::Comment { executable: false, whole: true } => texts[last].push(' '),
            // It is refused, so it stays.
            Piece::Comment { .. } => texts[last].push_str("/*"),
            Piece::Quoted(part) | Piece::Word(part) | Piece::Other(part) => texts[last].push_str(part),
        }
    }
    (texts, found)
}

/// The words of a statement outside of strings and comments; quoted names are words too.
pub(crate) fn words(text: &str) -> Vec<&str> {
    let word = |(_, piece)| match piece {
        Piece::Word(word) => Some(word),
        Piece::Quoted(name) => name.strip_prefix('`').map(|name| name.strip_suffix('`').unwrap_or(name)),
        _ => None,
    };
    pieces(text).into_iter().filter_map(word).collect()
}

/// Where an insert has the values of its row, in parentheses: behind `VALUES`, the only ones, and with all placeholders in them.
pub(crate) fn tuple(prepared: &str) -> Option<std::ops::Range<usize>> {
    let found = pieces(prepared);
    let is = |piece: &Piece, wanted: &str| matches!(piece, Piece::Word(word) if word.eq_ignore_ascii_case(wanted));
    if !found.first().is_some_and(|(_, piece)| is(piece, "INSERT") || is(piece, "REPLACE")) {
        return None;
    }
    let (mut depth, mut after_values, mut begun, mut range) = (0u32, false, None, None);
    for (at, piece) in &found {
        match piece {
            Piece::Other("(") => {
                if depth == 0 && after_values && begun.is_none() {
                    begun = Some(*at);
                }
                depth += 1;
            }
            Piece::Other(")") => {
                depth = depth.checked_sub(1)?;
                if depth == 0 && range.is_none() {
                    range = begun.map(|begun| begun..at + 1);
                }
            }
            // Another row, or a value elsewhere.
            Piece::Other(",") if range.as_ref().is_some_and(|range| prepared[range.end..*at].trim().is_empty()) => {
                return None;
            }
            Piece::Other("?") if begun.is_none() || range.is_some() => return None,
            piece if depth == 0 && (is(piece, "VALUES") || is(piece, "VALUE")) && begun.is_none() => {
                after_values = true
            }
            _ => {}
        }
    }
    range
}

fn is_word(b: u8) -> bool {
    b.is_ascii_alphanumeric() || b == b'_' || b == b'$' || b >= 0x80
}

/// A colon before a letter, and not behind a name or another colon.
fn begins_parameter(bytes: &[u8], at: usize) -> bool {
    let begins = bytes.get(at + 1).is_some_and(|b| b.is_ascii_alphabetic() || *b == b'_');
    begins && !(at > 0 && (bytes[at - 1].is_ascii_alphanumeric() || bytes[at - 1] == b':'))
}

fn line(rest: &str) -> usize {
    rest.find('\n').map_or(rest.len(), |end| end + 1)
}

/// The length of a quoted text, its quotes included; a doubled quote and `\\` do not end it.
fn quoted(bytes: &[u8], quote: u8) -> usize {
    let mut at = 1;
    while at < bytes.len() {
        match bytes[at] {
            b'\\' if quote != b'`' => at += 2,
            b if b == quote => match bytes.get(at + 1) {
                Some(next) if *next == quote => at += 2,
                _ => return at + 1,
            },
            _ => at += 1,
        }
    }
    bytes.len()
}

#[cfg(test)]
mod tests {
    use super::{parameters, tuple, words};

    #[test]
    fn rows_of_an_insert_are_found() {
        for (text, wanted) in [
            ("INSERT INTO t (a, b) VALUES (?, UPPER(?))", Some("(?, UPPER(?))")),
            ("insert ignore into t value (?) ", Some("(?)")),
            ("REPLACE INTO `values` (a) VALUES (?)", Some("(?)")),
            ("INSERT INTO t (a) VALUES (?) ON DUPLICATE KEY UPDATE a = VALUES(a), b = 'VALUES (?)'", Some("(?)")),
            ("INSERT INTO t (a) VALUES (?) ON DUPLICATE KEY UPDATE a = ?", None),
            ("INSERT INTO t (a) VALUES (?), (?)", None),
            ("INSERT INTO t SELECT ?", None),
            ("INSERT INTO t SET a = ?", None),
            ("UPDATE t SET a = ? WHERE b IN (VALUES (?))", None),
        ] {
            assert_eq!(tuple(text).map(|range| &text[range]), wanted, "{text}");
        }
    }

    #[test]
    fn parameters_are_found_outside_of_strings_and_comments() {
        for (text, wanted, sent) in [
            (
                "SELECT * FROM v WHERE imo = :imo AND kind IN (:kinds)",
                &["imo", "kinds"][..],
                "SELECT * FROM v WHERE imo = ? AND kind IN (?)",
            ),
            ("SELECT ':no' , \":no\", `:no` -- :no\n, :yes", &["yes"], "SELECT ':no' , \":no\", `:no`  , ?"),
            ("SELECT 'it''s :no', 'a\\':no', :a_1", &["a_1"], "SELECT 'it''s :no', 'a\\':no', ?"),
            ("SELECT /* :no */ :a # :no\n + :a", &["a", "a"], "SELECT   ?   + ?"),
            ("SELECT @x := 1, 12:30, a::b, :å, 1 --1", &[], "SELECT @x := 1, 12:30, a::b, :å, 1 --1"),
            ("SELECT /* /* */ 1 */", &[], "SELECT   1 */"),
            ("SELECT '", &[], "SELECT '"),
            ("SELECT '\\", &[], "SELECT '\\"),
            ("SELECT /*! 1 */", &[], "SELECT /*"),
            ("SELECT 1 -- end", &[], "SELECT 1  "),
            (":", &[], ":"),
        ] {
            let (texts, found) = parameters(text);
            let names: Vec<&str> = found.iter().map(|(_, name)| name.as_str()).collect();
            assert_eq!(names, wanted, "{text}");
            assert_eq!(texts.join("?"), sent, "{text}");
        }
    }

    #[test]
    fn words_are_found_outside_of_strings() {
        assert_eq!(words("UPDATE `a b`.c SET d='e f', g=\"h\" # i"), ["UPDATE", "a b", "c", "SET", "d", "g"]);
        assert_eq!(words("`"), [""]);
    }
}
