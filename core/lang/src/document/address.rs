//! Where an entry is reached: the path that it names, below the host and the path prefix that stand in front of it.
//!
//! ```yaml
//! - endpoint: POST /quotes
//!   host: api.lindvik.example/v1   # POST https://api.lindvik.example/v1/quotes
//! ```

use std::fmt;

use super::reader::{Members, Named};
use crate::diagnostic::Report;

/// The longest host name (RFC 1035 §2.3.4).
const MOST_HOST: usize = 253;

/// Host and path of an entry.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Address {
    /// The host in lower case; nothing where every host leads to the entry.
    pub host: Option<String>,
    /// The whole path template, with its prefix.
    pub path: String,
}

impl Address {
    /// A path that every host leads to.
    pub fn of(path: impl Into<String>) -> Self {
        Address { host: None, path: path.into() }
    }

    /// The names of the parts of its path, in their order.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.path.split('/').filter_map(|part| part.strip_prefix('{')?.strip_suffix('}'))
    }

    /// The URL of the entry where the public listener is at `public`: scheme and port are those of `public`.
    pub fn url(&self, public: &str) -> String {
        let Some(host) = &self.host else { return format!("{public}{}", self.path) };
        let (scheme, rest) = public.split_once("://").unwrap_or(("http", public));
        let authority = rest.split('/').next().unwrap_or_default();
        let port = authority.rsplit_once(':').filter(|(_, port)| port.bytes().all(|byte| byte.is_ascii_digit()));
        let port = port.map(|(_, port)| format!(":{port}")).unwrap_or_default();
        format!("{scheme}://{host}{port}{}", self.path)
    }
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}", self.host.as_deref().unwrap_or_default(), self.path)
    }
}

/// Reads `host` and puts it in front of a path.
pub(super) fn read(members: &Members, path: Named, report: &mut Report) -> Address {
    let given = members.constant_text("host", report);
    let (host, prefix) = match given.as_ref().map(|given| (given, given.text.find('/'))) {
        None => ("", ""),
        Some((given, None)) => (given.text.as_str(), ""),
        Some((given, Some(slash))) => given.text.split_at(slash),
    };
    if let Some(given) = &given {
        let prefix_fits = prefix.is_empty()
            || !prefix.ends_with('/') && !prefix.contains(['{', '}', '?', '#', ' ']) && !prefix.contains("//");
        if !(host.is_empty() || is_host(host)) || !prefix_fits || given.text.is_empty() {
            report.error("wrong-value", given.at, format!("`{}` is no host name with a path prefix", given.text));
            report.help("write `api.lindvik.example`, `api.lindvik.example/v1` or `/v1`; scheme and port belong to the listener");
        }
    }
    let whole = format!("{prefix}{}", path.text);
    if whole == "/~" || whole.starts_with("/~/") {
        report.error("reserved-path", path.at, "paths below `/~/` belong to the service");
    }
    Address { host: (!host.is_empty()).then(|| host.to_ascii_lowercase()), path: whole }
}

/// Whether a text is a host name: labels of letters, digits and hyphens (RFC 1123 §2.1).
fn is_host(text: &str) -> bool {
    let label = |label: &str| {
        (1..=63).contains(&label.len())
            && label.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-')
            && !label.starts_with('-')
            && !label.ends_with('-')
    };
    text.len() <= MOST_HOST && text.split('.').all(label)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_has_scheme_and_port_of_the_listener() {
        let address = |host: Option<&str>| Address { host: host.map(str::to_owned), path: "/v1/quotes".into() };
        for (host, public, url) in [
            (None, "https://office.example", "https://office.example/v1/quotes"),
            (Some("api.example"), "https://office.example", "https://api.example/v1/quotes"),
            (Some("api.example"), "http://127.0.0.1:7080", "http://api.example:7080/v1/quotes"),
            (Some("api.example"), "http://[::1]:7080", "http://api.example:7080/v1/quotes"),
            (Some("api.example"), "https://[::1]", "https://api.example/v1/quotes"),
        ] {
            assert_eq!(address(host).url(public), url, "{host:?} {public}");
        }
        assert_eq!(address(Some("api.example")).to_string(), "api.example/v1/quotes");
        for (text, is) in [
            ("api.example", true),
            ("office", true),
            ("-a.example", false),
            ("a..b", false),
            ("a_b", false),
            ("10.0.0.1", true),
        ] {
            assert_eq!(is_host(text), is, "{text}");
        }
    }
}
