//! Addresses that are not on the public network: where calls may lead only when a service says so.
//!
//! ```
//! use kanzlei_model::address;
//! assert!(address::is_private("169.254.169.254".parse().unwrap()));
//! assert!(address::has_private_host("http://localhost:7090/tides"));
//! ```

use std::net::IpAddr;
use std::sync::OnceLock;

use ipnet::IpNet;

/// The networks of the IANA special-purpose address registries (RFC 6890) that are not globally reachable,
/// and multicast.
const SPECIAL: [&str; 27] = [
    "0.0.0.0/8",
    "10.0.0.0/8",
    "100.64.0.0/10",
    "127.0.0.0/8",
    "169.254.0.0/16",
    "172.16.0.0/12",
    "192.0.0.0/24",
    "192.0.2.0/24",
    "192.88.99.0/24",
    "192.168.0.0/16",
    "198.18.0.0/15",
    "198.51.100.0/24",
    "203.0.113.0/24",
    "224.0.0.0/4",
    "240.0.0.0/4",
    "::/128",
    "::1/128",
    "64:ff9b:1::/48",
    "100::/64",
    "2001::/23",
    "2001:db8::/32",
    "2002::/16",
    "3fff::/20",
    "5f00::/16",
    "fc00::/7",
    "fe80::/10",
    "ff00::/8",
];

/// Whether an address is loopback, private, link-local or special-purpose in another way.
pub fn is_private(address: IpAddr) -> bool {
    static NETS: OnceLock<Vec<IpNet>> = OnceLock::new();
    let nets = NETS.get_or_init(|| SPECIAL.iter().filter_map(|net| net.parse().ok()).collect());
    if let IpAddr::V6(v6) = address {
        // IPv4 in other clothes: mapped, and behind the well-known prefix of NAT64 (RFC 6052).
        let octets = v6.octets();
        let nat64 = octets[..12] == [0, 0x64, 0xff, 0x9b, 0, 0, 0, 0, 0, 0, 0, 0];
        let inner = v6
            .to_ipv4_mapped()
            .or_else(|| nat64.then(|| std::net::Ipv4Addr::new(octets[12], octets[13], octets[14], octets[15])));
        if let Some(v4) = inner {
            return is_private(IpAddr::V4(v4));
        }
    }
    nets.iter().any(|net| net.contains(&address))
}

/// Whether the host of a URL certainly is private: a literal address, or `localhost`. Other names are
/// resolved when they are called.
pub fn has_private_host(url: &str) -> bool {
    let authority = url.split_once("://").map_or(url, |(_, rest)| rest);
    let authority = authority.split(['/', '?', '#']).next().unwrap_or_default();
    let host = authority.rsplit_once('@').map_or(authority, |(_, host)| host);
    let host = match host.strip_prefix('[') {
        Some(rest) => rest.split(']').next().unwrap_or_default(),
        None => host.split(':').next().unwrap_or_default(),
    };
    let host = host.trim_end_matches('.').to_ascii_lowercase();
    host == "localhost" || host.ends_with(".localhost") || host.parse().is_ok_and(is_private)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn special_purpose_addresses_are_known() {
        assert!(SPECIAL.iter().all(|net| net.parse::<IpNet>().is_ok()));
        for (address, private) in [
            ("127.0.0.1", true),
            ("10.1.2.3", true),
            ("169.254.1.1", true),
            ("100.64.0.1", true),
            ("0.0.0.0", true),
            ("192.0.2.1", true),
            ("198.18.0.1", true),
            ("255.255.255.255", true),
            ("8.8.8.8", false),
            ("172.32.0.1", false),
            ("::1", true),
            ("::", true),
            ("fe80::1", true),
            ("fd00::1", true),
            ("::ffff:10.0.0.1", true),
            ("::ffff:8.8.8.8", false),
            ("64:ff9b::7f00:1", true),
            ("64:ff9b::808:808", false),
            ("2001:db8::1", true),
            ("2606:4700::1", false),
        ] {
            assert_eq!(is_private(address.parse().expect("address")), private, "{address}");
        }
    }

    #[test]
    fn hosts_are_found_in_urls() {
        for (url, private) in [
            ("http://localhost:7090/a", true),
            ("https://user@127.0.0.1/", true),
            ("http://[::1]:80", true),
            ("https://api.localhost", true),
            ("https://registry.lindvik.example/v1?at=127.0.0.1", false),
            ("https://8.8.8.8", false),
        ] {
            assert_eq!(has_private_host(url), private, "{url}");
        }
    }
}
