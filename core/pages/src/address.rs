//! The parts of an address (the URL Standard).

use url::Url;

/// An absolute address and its parts.
#[derive(Clone, Debug, PartialEq)]
pub struct Address {
    /// All of it, as it is written normally.
    pub href: String,
    /// `https`.
    pub scheme: String,
    /// The host, in lower case; nothing for schemes without one.
    pub host: Option<String>,
    /// The port, where it is not that of the scheme.
    pub port: Option<u16>,
    /// The path: `/notices/7`.
    pub path: String,
    /// What stands behind `?`.
    pub query: Option<String>,
    /// What stands behind `#`.
    pub fragment: Option<String>,
}

/// Reads an address, relative to another where there is one; nothing for a text that is none.
pub fn address(text: &str, base: Option<&str>) -> Option<Address> {
    let url = match base {
        Some(base) => Url::parse(base).ok()?.join(text).ok()?,
        None => Url::parse(text).ok()?,
    };
    Some(Address {
        scheme: url.scheme().to_owned(),
        host: url.host_str().map(str::to_owned),
        port: url.port(),
        path: url.path().to_owned(),
        query: url.query().map(str::to_owned),
        fragment: url.fragment().map(str::to_owned),
        href: url.into(),
    })
}
