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

/// The networks of the IANA special-purpose address registries (RFC 6890) that are not globally reachable, multicast,
/// and those that only carry other addresses. Of IPv6 they are those inside global unicast, `2000::/3`: whatever lies
/// outside of it is not public.
const SPECIAL: [&str; 19] = [
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
    "2001::/23",
    "2001:db8::/32",
    "2002::/16",
    "3fff::/20",
];

/// Networks that the host allows beside the public one, for services that say `network: private`.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Allowed(Vec<IpNet>);

impl Allowed {
    /// Reads networks in CIDR notation (RFC 4632), or single addresses.
    ///
    /// # Errors
    /// The first that is neither.
    pub fn read<'a>(networks: impl IntoIterator<Item = &'a str>) -> Result<Self, String> {
        let read = |text: &'a str| {
            let single = || text.parse::<IpAddr>().ok().map(IpNet::from);
            text.parse::<IpNet>().ok().or_else(single).ok_or_else(|| text.to_owned())
        };
        networks.into_iter().map(read).collect::<Result<_, _>>().map(Allowed)
    }

    /// Whether an address is in one of these networks.
    pub fn contains(&self, address: IpAddr) -> bool {
        let address = address.to_canonical();
        self.0.iter().any(|net| net.contains(&address))
    }

    /// Whether a service may be called there: at any public address, and at these when it is `private`.
    pub fn permits(&self, address: IpAddr, private: bool) -> bool {
        let address = address.to_canonical();
        !is_private(address) || private && self.0.iter().any(|net| net.contains(&address))
    }
}

/// Whether an address is loopback, private, link-local or special-purpose in another way.
pub fn is_private(address: IpAddr) -> bool {
    static NETS: OnceLock<Vec<IpNet>> = OnceLock::new();
    let nets = NETS.get_or_init(|| SPECIAL.iter().filter_map(|net| net.parse().ok()).collect());
    if let IpAddr::V6(v6) = address {
        // IPv4 in other clothes: mapped, and behind the well-known prefix of NAT64 (RFC 6052).
        let octets = v6.octets();
        let unicast = octets[0] >> 5 == 1;
        let nat64 = octets[..12] == [0, 0x64, 0xff, 0x9b, 0, 0, 0, 0, 0, 0, 0, 0];
        let inner = v6
            .to_ipv4_mapped()
            .or_else(|| nat64.then(|| std::net::Ipv4Addr::new(octets[12], octets[13], octets[14], octets[15])));
        match inner {
            Some(v4) => return is_private(IpAddr::V4(v4)),
            None if !unicast => return true,
            None => {}
        }
    }
    nets.iter().any(|net| net.contains(&address))
}

/// Whether the host of a URL certainly is private: a literal address, or `localhost`. Other names are
/// resolved when they are called.
pub fn has_private_host(url: &str) -> bool {
    literal_host(url).is_some_and(is_private)
}

/// The address of the host of a URL where it needs no resolution: a literal one, or `localhost` (RFC 6761).
pub fn literal_host(url: &str) -> Option<IpAddr> {
    let authority = url.split_once("://").map_or(url, |(_, rest)| rest);
    let authority = authority.split(['/', '?', '#']).next().unwrap_or_default();
    let host = authority.rsplit_once('@').map_or(authority, |(_, host)| host);
    let host = match host.strip_prefix('[') {
        Some(rest) => rest.split(']').next().unwrap_or_default(),
        None => host.split(':').next().unwrap_or_default(),
    };
    let host = host.trim_end_matches('.').to_ascii_lowercase();
    match host.as_str() {
        "localhost" => Some(std::net::Ipv4Addr::LOCALHOST.into()),
        other if other.ends_with(".localhost") => Some(std::net::Ipv4Addr::LOCALHOST.into()),
        other => other.parse().ok(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn special_purpose_addresses_are_known() {
        assert!(SPECIAL.iter().all(|net| net.parse::<IpNet>().is_ok()));
        let private = "0.0.0.0 0.255.255.255 10.1.2.3 100.64.0.1 100.127.255.255 127.0.0.1 127.255.255.254 169.254.169.254 \
            172.16.0.1 172.31.255.255 192.0.0.1 192.0.0.255 192.0.2.1 192.88.99.1 192.168.0.1 198.18.0.1 198.19.255.255 \
            198.51.100.1 203.0.113.1 224.0.0.1 239.255.255.255 240.0.0.1 255.255.255.255 \
            :: ::1 ::7f00:1 ::10.0.0.1 ::8.8.8.8 ::ffff:10.0.0.1 ::ffff:0:8.8.8.8 64:ff9b::7f00:1 64:ff9b::10.0.0.1 \
            64:ff9b:1::808:808 100::1 100:0:0:1::1 2001::1 2001:10::1 2001:20::1 2001:1ff:ffff::1 2001:db8::1 2002:7f00:1::1 \
            2002:808:808::1 3fff::1 3fff:fff::1 4000::1 5f00::1 fc00::1 fd00::1 fe80::1 fec0::1 feff::1 ff02::1 ffff::1";
        let public = "1.1.1.1 8.8.8.8 9.255.255.255 11.0.0.1 100.63.255.255 100.128.0.1 126.0.0.1 128.0.0.1 169.253.0.1 172.15.0.1 \
            172.32.0.1 192.0.1.1 192.31.196.1 192.52.193.1 192.167.0.1 192.175.48.1 198.17.0.1 198.20.0.1 223.255.255.255 \
            ::ffff:8.8.8.8 64:ff9b::808:808 2001:200::1 2003::1 2400::1 2606:4700::1 2620:4f:8000::1 3ffe::1";
        for (addresses, wanted) in [(private, true), (public, false)] {
            for address in addresses.split_whitespace() {
                assert_eq!(is_private(address.parse().expect(address)), wanted, "{address}");
            }
        }
    }

    #[test]
    fn private_networks_are_called_where_service_and_host_say_so() {
        let allowed = Allowed::read(["10.1.0.0/16", "127.0.0.1", "fd00::/8"]).expect("networks");
        for (address, private, wanted) in [
            ("10.1.2.3", true, true),
            ("10.1.2.3", false, false),
            ("10.2.2.3", true, false),
            ("::ffff:10.1.2.3", true, true),
            ("127.0.0.1", true, true),
            ("127.0.0.2", true, false),
            ("fd12::1", true, true),
            ("::1", true, false),
            ("8.8.8.8", false, true),
            ("8.8.8.8", true, true),
        ] {
            assert_eq!(allowed.permits(address.parse().expect(address), private), wanted, "{address} {private}");
        }
        assert_eq!(Allowed::read(["10.0.0.0/8", "here"]), Err("here".to_owned()));
        assert!(!Allowed::default().permits("127.0.0.1".parse().expect("an address"), true));
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
