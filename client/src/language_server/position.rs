//! Positions of the protocol, lines and characters, as bytes of a text and back.

use lsp_types::{Position, Range};

/// What characters of a line are counted in.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum Encoding {
    Utf8,
    Utf16,
}

/// The byte of a position; beyond the end of a line it is that end.
pub(super) fn byte(text: &str, at: Position, encoding: Encoding) -> usize {
    let mut start = 0;
    for _ in 0..at.line {
        match text[start..].find('\n') {
            Some(found) => start += found + 1,
            None => return text.len(),
        }
    }
    let line = &text[start..text[start..].find('\n').map_or(text.len(), |found| start + found)];
    let wanted = at.character as usize;
    let mut counted = 0;
    for (index, c) in line.char_indices() {
        if counted >= wanted {
            return start + index;
        }
        counted += match encoding {
            Encoding::Utf8 => c.len_utf8(),
            Encoding::Utf16 => c.len_utf16(),
        };
    }
    start + line.len()
}

/// The position of a byte.
pub(super) fn position(text: &str, byte: usize, encoding: Encoding) -> Position {
    let mut byte = byte.min(text.len());
    while !text.is_char_boundary(byte) {
        byte -= 1;
    }
    let before = &text[..byte];
    let start = before.rfind('\n').map_or(0, |found| found + 1);
    let character = match encoding {
        Encoding::Utf8 => before.len() - start,
        Encoding::Utf16 => before[start..].encode_utf16().count(),
    };
    Position { line: before.matches('\n').count() as u32, character: character as u32 }
}

/// The range of some bytes.
pub(super) fn range(text: &str, start: u32, end: u32, encoding: Encoding) -> Range {
    Range { start: position(text, start as usize, encoding), end: position(text, end as usize, encoding) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn positions_count_as_the_editor_does() {
        let text = "a: å\nb: 𝄞x\n";
        for (byte_at, utf8, utf16) in
            [(0, (0, 0), (0, 0)), (5, (0, 5), (0, 4)), (9, (1, 3), (1, 3)), (13, (1, 7), (1, 5))]
        {
            let at = |(line, character)| Position { line, character };
            assert_eq!(position(text, byte_at, Encoding::Utf8), at(utf8));
            assert_eq!(position(text, byte_at, Encoding::Utf16), at(utf16));
            assert_eq!(byte(text, at(utf8), Encoding::Utf8), byte_at);
            assert_eq!(byte(text, at(utf16), Encoding::Utf16), byte_at);
        }
        assert_eq!(byte(text, Position { line: 0, character: 99 }, Encoding::Utf16), 5);
        assert_eq!(byte(text, Position { line: 99, character: 0 }, Encoding::Utf16), text.len());
    }
}
