//! Bytes as hexadecimal digits.
//!
//! ```
//! assert_eq!(kanzlei_model::hex::of(&[0x00, 0xab]), "00ab");
//! ```

use std::fmt::Write;

/// Two digits in lower case for each byte.
pub fn of(bytes: &[u8]) -> String {
    bytes.iter().fold(String::with_capacity(2 * bytes.len()), |mut text, byte| {
        let _ = write!(text, "{byte:02x}");
        text
    })
}
