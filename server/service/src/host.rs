//! The host that a request names: that of its target (HTTP/2, or the absolute form of HTTP/1.1), else that of `Host` (RFC 9112 §3.2).
//! What a proxy says of it in fields of its own counts for nothing.

use actix_web::http::Uri;
use actix_web::http::header::{HOST, HeaderMap};

/// The host of a request without its port, in lower case; empty where it names none.
pub fn of(uri: &Uri, headers: &HeaderMap) -> String {
    let field = || headers.get(HOST).and_then(|value| value.to_str().ok());
    name(uri.authority().map(|authority| authority.as_str()).or_else(field).unwrap_or_default())
}

/// The host of an address such as `https://office.example:8443/desk`.
pub fn of_url(url: &str) -> String {
    name(url.split("://").nth(1).unwrap_or_default().split('/').next().unwrap_or_default())
}

/// A host without its port, in lower case: `Office.Example:8443` is `office.example`.
pub fn name(host: &str) -> String {
    let bare = match host.strip_prefix('[') {
        Some(rest) => rest.split(']').next().unwrap_or_default(),
        None => host.rsplit_once(':').map_or(host, |(name, _)| name),
    };
    bare.trim_end_matches('.').to_ascii_lowercase()
}

#[cfg(test)]
mod tests {
    use actix_web::http::header::HeaderValue;

    use super::*;

    #[test]
    fn the_target_outweighs_the_field() {
        for (uri, field, wanted) in [
            ("/a", "Office.Example:7080", "office.example"),
            ("https://api.example:7080/a", "office.example", "api.example"),
            ("/a", "[::1]:7080", "::1"),
            ("/a", "office.example.", "office.example"),
            ("/a", "", ""),
        ] {
            let mut headers = HeaderMap::new();
            headers.insert(HOST, HeaderValue::from_str(field).expect("a value"));
            assert_eq!(of(&uri.parse().expect("a target"), &headers), wanted, "{uri} {field}");
        }
    }
}
