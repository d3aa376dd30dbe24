//! Which addresses calls reach: a resolver that leaves out all others, and the check of literal ones.
//!
//! The addresses that pass are the ones that are connected to: a name that resolves differently a moment later
//! changes nothing. Clients resolve by [`Guarded`], so nothing is looked up twice.

use std::fmt::Display;
use std::future::Future;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::task::{Context, Poll};

use futures_util::FutureExt;
use futures_util::future::BoxFuture;
use hyper_util::client::legacy::connect::dns::Name;
use kanzlei_model::address::{Allowed, is_private};
use tower_service::Service;

/// An address that must not be called.
#[derive(Debug, PartialEq, thiserror::Error)]
pub enum Blocked {
    /// The service does not say that it is in a private network.
    #[error("{0} is a private address; if that is meant, say `network: private`")]
    Undeclared(String),
    /// The host does not allow that network.
    #[error("{0} is in no network that `network.allow` in the service's configuration names")]
    NotAllowed(String),
}

/// Why an address, shown as `host`, must not be called; nothing when it may be.
pub fn blocked(allowed: &Allowed, address: IpAddr, host: impl Display, private: bool) -> Option<Blocked> {
    match (allowed.permits(address, private), private) {
        (true, _) => None,
        (false, true) => Some(Blocked::NotAllowed(host.to_string())),
        (false, false) => Some(Blocked::Undeclared(host.to_string())),
    }
}

/// Resolves names to the addresses that may be called; `lookup` finds all of a name's addresses.
#[derive(Clone)]
pub struct Guarded<L> {
    allowed: Arc<Allowed>,
    private: bool,
    lookup: L,
}

impl<L> Guarded<L> {
    /// A resolver for services in private networks, or for public ones only.
    pub fn new(allowed: Arc<Allowed>, private: bool, lookup: L) -> Self {
        Guarded { allowed, private, lookup }
    }
}

/// Asks the resolver of the operating system.
pub async fn system(host: String) -> std::io::Result<Vec<SocketAddr>> {
    Ok(tokio::net::lookup_host((host.as_str(), 0)).await?.collect())
}

/// Connects to a host and hangs up, under the rules of calls; returns the address that accepted.
///
/// # Errors
/// Why none did, for people.
pub async fn reach(allowed: &Allowed, host: &str, port: u16, private: bool) -> Result<SocketAddr, String> {
    let found = tokio::net::lookup_host((host, port)).await.map_err(|error| format!("{host}: {error}"))?;
    let mut why = format!("{host} has no address");
    for address in found {
        if let Some(rule) = blocked(allowed, address.ip(), address.ip(), private) {
            why = rule.to_string();
            continue;
        }
        match tokio::net::TcpStream::connect(address).await {
            Ok(_) => return Ok(address),
            Err(error) => why = format!("{address}: {error}"),
        }
    }
    Err(why)
}

impl<L, F> Service<Name> for Guarded<L>
where
    L: Fn(String) -> F,
    F: Future<Output = std::io::Result<Vec<SocketAddr>>> + Send + 'static,
{
    type Response = std::vec::IntoIter<SocketAddr>;
    type Error = Box<dyn std::error::Error + Send + Sync>;
    type Future = BoxFuture<'static, Result<Self::Response, Self::Error>>;

    fn poll_ready(&mut self, _: &mut Context<'_>) -> Poll<Result<(), Self::Error>> {
        Poll::Ready(Ok(()))
    }

    fn call(&mut self, name: Name) -> Self::Future {
        let host = name.as_str().to_owned();
        let (allowed, private) = (self.allowed.clone(), self.private);
        let found = (self.lookup)(host.clone());
        async move {
            let (good, bad): (Vec<_>, Vec<_>) =
                found.await?.into_iter().partition(|address| allowed.permits(address.ip(), private));
            match bad.iter().find(|address| is_private(address.ip())) {
                Some(first) if good.is_empty() => {
                    let shown = format!("{host} ({})", first.ip());
                    Err(blocked(&allowed, first.ip(), &shown, private).unwrap_or(Blocked::NotAllowed(shown)).into())
                }
                _ => Ok(good.into_iter()),
            }
        }
        .boxed()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What a name resolves to for services in public and in private networks, with a stub resolver.
    #[tokio::test]
    async fn a_name_leads_to_permitted_addresses_only() {
        let allowed = Arc::new(Allowed::read(["10.1.0.0/16"]).expect("networks"));
        for (found, public, private) in [
            ("8.8.8.8", "8.8.8.8", "8.8.8.8"),
            ("127.0.0.1", "say `network: private`", "`network.allow`"),
            ("10.1.2.3", "say `network: private`", "10.1.2.3"),
            // Of both kinds: those that may be called.
            ("10.1.2.3 8.8.8.8 127.0.0.1 2606:4700::1", "8.8.8.8 2606:4700::1", "10.1.2.3 8.8.8.8 2606:4700::1"),
            ("169.254.169.254 ::1", "say `network: private`", "`network.allow`"),
            ("::ffff:127.0.0.1", "say `network: private`", "`network.allow`"),
            ("64:ff9b::7f00:1", "say `network: private`", "`network.allow`"),
            ("", "", ""),
        ] {
            for (is_private, wanted) in [(false, public), (true, private)] {
                let stub = move |_| async move {
                    let address = |text: &str| SocketAddr::new(text.parse().expect("an address"), 0);
                    Ok(found.split_whitespace().map(address).collect())
                };
                let mut resolver = Guarded::new(allowed.clone(), is_private, stub);
                match resolver.call("api.example".parse().expect("a name")).await {
                    Ok(addresses) => {
                        let addresses: Vec<String> = addresses.map(|address| address.ip().to_string()).collect();
                        assert_eq!(addresses.join(" "), wanted, "{found}");
                    }
                    Err(error) => {
                        let error = error.to_string();
                        assert!(error.contains("api.example") && error.contains(wanted), "{found}: {error}");
                    }
                }
            }
        }
        let mut fails = Guarded::new(allowed, false, |_| async { Err(std::io::Error::other("no such name")) });
        assert!(fails.call("api.example".parse().expect("a name")).await.is_err());
    }

    /// A name that changes its address between two lookups is judged by each.
    #[tokio::test]
    async fn a_name_that_changes_its_address_is_judged_again() {
        use std::sync::atomic::{AtomicUsize, Ordering};
        let asked = Arc::new(AtomicUsize::new(0));
        let lookup = {
            let asked = asked.clone();
            move |_| {
                let address = ["8.8.8.8:0", "127.0.0.1:0"][asked.fetch_add(1, Ordering::SeqCst) % 2];
                async move { Ok(vec![address.parse().expect("an address")]) }
            }
        };
        let mut resolver = Guarded::new(Arc::default(), false, lookup);
        let name = || "api.example".parse::<Name>().expect("a name");
        assert_eq!(resolver.call(name()).await.expect("public").count(), 1);
        assert_eq!(asked.load(Ordering::SeqCst), 1, "what was judged is what is connected to");
        assert!(resolver.call(name()).await.is_err());
    }
}
