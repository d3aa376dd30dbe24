//! Bytes and numbers as hexadecimal digits in lower case.
//!
//! ```
//! use kanzlei_model::hex;
//! assert_eq!(hex::of(&[0x00, 0xab]), "00ab");
//! let mut text = String::from("0x");
//! hex::push(&mut text, 0x1f, 4);
//! assert_eq!(text, "0x001f");
//! ```

const DIGITS: &[u8; 16] = b"0123456789abcdef";

/// Two digits for each byte.
pub fn of(bytes: &[u8]) -> String {
    let digits = |byte: &u8| [byte >> 4, byte & 15].map(|digit| char::from(DIGITS[usize::from(digit)]));
    let mut text = String::with_capacity(2 * bytes.len());
    bytes.iter().flat_map(digits).for_each(|digit| text.push(digit));
    text
}

/// Appends the last so many digits of a number, with zeros in front.
pub fn push(text: &mut String, number: u128, digits: u32) {
    let digit = |at: u32| char::from(DIGITS[(number >> (4 * at)) as usize & 15]);
    (0..digits.min(32)).rev().for_each(|at| text.push(digit(at)));
}
