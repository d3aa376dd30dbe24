//! What a secret may be used for. A secret without a purpose is never used.
//!
//! ```
//! use kanzlei_lang::document::purpose::Purpose;
//! let bound: Purpose = "https://api.example/v1".parse().unwrap();
//! assert!(bound.covers(&"https://api.example/v1/berths".parse().unwrap()));
//! assert!(!bound.covers(&"https://api.example/v10".parse().unwrap()));
//! ```

use std::fmt;
use std::str::FromStr;

use super::service::valid_base;

/// A use of a secret.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Purpose {
    /// To be sent to addresses that begin with this one, without a slash at its end.
    Address(String),
    /// To sign notices about jobs; it is not sent.
    Signing,
    /// To sign in to the mail server of the configuration.
    Mail,
}

impl Purpose {
    /// To be sent below a base address. Scheme and host are the same in any case.
    pub fn address(base: &str) -> Self {
        let path = base.find("://").and_then(|scheme| base[scheme + 3..].find('/').map(|path| scheme + 3 + path));
        let (origin, path) = base.split_at(path.unwrap_or(base.len()));
        Purpose::Address(format!("{}{path}", origin.to_lowercase()))
    }

    /// Whether a secret that is bound to this may be used for another purpose: the same, or an address below this one.
    pub fn covers(&self, other: &Purpose) -> bool {
        match (self, other) {
            (Purpose::Signing, Purpose::Signing) | (Purpose::Mail, Purpose::Mail) => true,
            (Purpose::Address(bound), Purpose::Address(used)) => {
                used.strip_prefix(bound.as_str()).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
                    && !used.split('/').any(is_dots)
            }
            _ => false,
        }
    }
}

/// A segment of a path that leads upwards, or nowhere (RFC 3986, section 5.2.4).
pub fn is_dots(segment: &str) -> bool {
    let forms = [".", "..", "%2e", ".%2e", "%2e.", "%2e%2e"];
    forms.iter().any(|form| segment.eq_ignore_ascii_case(form))
}

impl FromStr for Purpose {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        if text == "signing" {
            return Ok(Purpose::Signing);
        }
        if text == "mail" {
            return Ok(Purpose::Mail);
        }
        let base = valid_base(text);
        base.map(|base| Purpose::address(&base))
            .map_err(|_| format!("`{text}` is neither `signing`, `mail` nor an address such as `https://api.example`"))
    }
}

impl fmt::Display for Purpose {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Purpose::Address(base) => f.write_str(base),
            Purpose::Signing => f.write_str("signing"),
            Purpose::Mail => f.write_str("mail"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::Purpose;

    #[test]
    fn a_secret_goes_to_addresses_below_its_own() {
        for (bound, used, covers) in [
            ("https://api.example", "https://api.example", true),
            ("https://api.example/", "https://API.example/v1", true),
            ("https://api.example", "https://api.example.evil.example", false),
            ("https://api.example", "https://api.example:8443", false),
            ("https://api.example", "http://api.example", false),
            ("https://api.example/v1", "https://api.example", false),
            ("https://api.example/v1", "https://api.example/v1/../v2", false),
            ("https://api.example/v1", "https://api.example/v1/%2E%2e/v2", false),
            ("https://api.example/v1", "https://api.example/V1", false),
            ("signing", "https://api.example", false),
            ("https://api.example", "signing", false),
            ("signing", "signing", true),
        ] {
            let read = |text: &str| text.parse::<Purpose>().expect(text);
            assert_eq!(read(bound).covers(&read(used)), covers, "{bound} {used}");
        }
        for text in ["", "api.example", "ftp://api.example", "https://u@api.example", "https://api.example?x"] {
            assert!(text.parse::<Purpose>().is_err(), "{text}");
        }
    }
}
