//! Pseudonyms of callers, tags and senders' keys, for lists that leave the house.
//!
//! A pseudonym follows from the name and the key of the secrets (HMAC-SHA-256, RFC 2104), so one name has one pseudonym in every list of an
//! installation, and nobody without the key finds the name by trying names. Another key of the secrets makes other ones.

use hmac::digest::KeyInit;
use hmac::{Hmac, Mac};
use kanzlei_model::hex;
use sha2::Sha256;

use super::Secrets;

/// Keeps this use of the key apart from others.
const USE: &[u8] = b"pseudonyms of names\0";
/// Bytes of a pseudonym: two of a million names are the same with a chance of one in 36 million.
const BYTES: usize = 8;

/// What pseudonyms are made with.
pub(super) fn keyed(key: &[u8; 32]) -> Option<Hmac<Sha256>> {
    let mut keyed = <Hmac<Sha256> as KeyInit>::new_from_slice(key).ok()?;
    keyed.update(USE);
    Some(keyed)
}

impl Secrets {
    /// The pseudonym of a name: `p-` and 16 hexadecimal digits; nothing without a key of the secrets.
    pub fn pseudonym(&self, name: &str) -> Option<String> {
        let mut keyed = self.pseudonyms.clone()?;
        keyed.update(name.as_bytes());
        Some(format!("p-{}", hex::of(&keyed.finalize().into_bytes()[..BYTES])))
    }
}

#[cfg(test)]
mod tests {
    use base64::prelude::*;

    use super::*;

    #[test]
    fn one_name_has_one_pseudonym_of_a_key() {
        let secrets = |byte: u8| Secrets::new(&BASE64_STANDARD.encode([byte; 32]), "", false).expect("a key");
        let (one, other) = (secrets(1), secrets(2));
        let of = |secrets: &Secrets, name: &str| secrets.pseudonym(name).expect("a key");
        assert_eq!(of(&one, "northern-line"), of(&secrets(1), "northern-line"));
        assert_ne!(of(&one, "northern-line"), of(&one, "northern-lin"));
        assert_ne!(of(&one, "northern-line"), of(&other, "northern-line"));
        assert_eq!(of(&one, "").len(), 18);
        assert_eq!(Secrets::new("", "", false).expect("none").pseudonym("x"), None);
    }
}
