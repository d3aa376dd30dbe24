//! From where a request comes: the peer, or the client that a trusted proxy names.

use std::net::IpAddr;

use actix_web::HttpRequest;
use actix_web::http::header::HeaderMap;
use kanzlei_model::address::Allowed;

use crate::App;

/// The most addresses of a chain of proxies that are looked at.
const MOST: usize = 32;

/// The address of the client of a request.
pub fn client(app: &App, request: &HttpRequest) -> Option<IpAddr> {
    let peer = request.peer_addr().map(|address| address.ip())?;
    Some(behind(peer, request.headers(), &app.proxies))
}

/// An address as text. That of a machine without a name stands in every run; the formatter takes longer than finding its workflow.
pub fn text(address: IpAddr) -> String {
    let IpAddr::V4(address) = address else { return address.to_string() };
    let mut text = String::with_capacity(15);
    for (index, part) in address.octets().into_iter().enumerate() {
        if index > 0 {
            text.push('.');
        }
        text.push_str(itoa::Buffer::new().format(part));
    }
    text
}

/// The last address of the chain that is no trusted proxy (RFC 7239, or `X-Forwarded-For` where there is no `Forwarded`).
/// What an untrusted peer says of itself counts for nothing.
fn behind(peer: IpAddr, headers: &HeaderMap, proxies: &Allowed) -> IpAddr {
    if !proxies.contains(peer) {
        return peer;
    }
    let texts = |name: &str| -> Vec<String> {
        let values = headers.get_all(name).filter_map(|value| value.to_str().ok());
        values.flat_map(|value| value.split(',')).map(|one| one.trim().to_owned()).collect()
    };
    let forwarded: Vec<Option<IpAddr>> = texts("forwarded").iter().map(|element| named(element)).collect();
    let chain = match forwarded.is_empty() {
        false => forwarded,
        true => texts("x-forwarded-for").iter().map(|text| address(text)).collect(),
    };
    let mut last = peer;
    for found in chain.iter().rev().take(MOST) {
        // An address that cannot be read was not written by a proxy that is trusted.
        let Some(found) = found else { return last };
        last = *found;
        if !proxies.contains(last) {
            return last;
        }
    }
    last
}

/// The `for` of a forwarded element: `for="[2001:db8::1]:4711";proto=https`.
fn named(element: &str) -> Option<IpAddr> {
    let mut pairs = element.split(';').filter_map(|pair| pair.trim().split_once('='));
    let (_, value) = pairs.find(|(name, _)| name.trim().eq_ignore_ascii_case("for"))?;
    address(value.trim().trim_matches('"'))
}

/// An address with or without a port.
fn address(text: &str) -> Option<IpAddr> {
    let bare = text.strip_prefix('[').and_then(|rest| rest.split_once(']')).map_or(text, |(inside, _)| inside);
    let without_port = || bare.rsplit_once(':').and_then(|(ip, port)| port.parse::<u16>().ok().and(ip.parse().ok()));
    bare.parse::<IpAddr>().ok().or_else(without_port).map(|ip| ip.to_canonical())
}

#[cfg(test)]
mod tests {
    use actix_web::http::header::{HeaderName, HeaderValue};

    use super::*;

    #[test]
    fn only_trusted_proxies_name_clients() {
        let proxies = Allowed::read(["10.0.0.0/8", "2001:db8::/32"]).expect("networks");
        for (peer, header, value, client) in [
            ("192.0.2.9", "x-forwarded-for", "198.51.100.1", "192.0.2.9"),
            ("10.0.0.1", "x-forwarded-for", "198.51.100.1", "198.51.100.1"),
            ("10.0.0.1", "x-forwarded-for", "203.0.113.5, 198.51.100.1, 10.0.0.2", "198.51.100.1"),
            ("10.0.0.1", "x-forwarded-for", "198.51.100.1, nonsense", "10.0.0.1"),
            ("10.0.0.1", "x-forwarded-for", "198.51.100.1:4711", "198.51.100.1"),
            ("10.0.0.1", "x-forwarded-for", "10.0.0.3", "10.0.0.3"),
            ("10.0.0.1", "forwarded", "for=198.51.100.1;proto=https, For=\"[2001:db8::7]:80\"", "198.51.100.1"),
            ("10.0.0.1", "forwarded", "for=unknown", "10.0.0.1"),
            ("10.0.0.1", "forwarded", "proto=https", "10.0.0.1"),
            ("10.0.0.1", "accept", "198.51.100.1", "10.0.0.1"),
        ] {
            let mut headers = HeaderMap::new();
            headers.insert(HeaderName::from_static(header), HeaderValue::from_static(value));
            let found = behind(peer.parse().expect("an address"), &headers, &proxies);
            assert_eq!(text(found), client, "{peer} {header}: {value}");
        }
    }
}
