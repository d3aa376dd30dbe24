//! The console's cookie on the public listener. Browsers send cookies to every port of a host, so a request may carry
//! it, and an answer could set it: it reaches no workflow, and no workflow sets it.
//!
//! ```text
//! without_ours("a=1; kanzlei_session=x; b=2")   // Some("a=1; b=2")
//! ```

use crate::control::auth::{COOKIE, HOST_COOKIE};

/// The value of a `Cookie` header without the console's cookie; nothing when nothing else is in it.
pub fn without_ours(header: &str) -> Option<String> {
    let kept: Vec<&str> = header.split(';').map(str::trim).filter(|pair| !pair.is_empty() && !is_ours(pair)).collect();
    (!kept.is_empty()).then(|| kept.join("; "))
}

/// Whether a pair of a `Cookie` header, or a `Set-Cookie` header, is of the console's cookie.
pub fn is_ours(pair: &str) -> bool {
    let name = pair.split(['=', ';']).next().unwrap_or_default().trim();
    // Servers that read a name loosely must not be fooled.
    name.eq_ignore_ascii_case(COOKIE) || name.eq_ignore_ascii_case(HOST_COOKIE)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_consoles_cookie_is_left_out() {
        for (header, wanted) in [
            ("a=1; kanzlei_session=x; b=2", Some("a=1; b=2")),
            ("kanzlei_session=x", None),
            (" __Host-kanzlei_session = x ;c=d=e", Some("c=d=e")),
            ("KANZLEI_SESSION=x; a=kanzlei_session", Some("a=kanzlei_session")),
            ("kanzlei_session", None),
            ("my_kanzlei_session=x", Some("my_kanzlei_session=x")),
            (";;", None),
        ] {
            assert_eq!(without_ours(header).as_deref(), wanted, "{header}");
        }
        for (header, ours) in [
            ("kanzlei_session=x; Path=/", true),
            ("kanzlei_session; Path=/", true),
            ("__host-kanzlei_session=", true),
            ("a=kanzlei_session=x", false),
        ] {
            assert_eq!(is_ours(header), ours, "{header}");
        }
    }
}
