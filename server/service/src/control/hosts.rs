//! The names under which the control listener answers. A page of another origin whose name was rebound to this address (DNS rebinding) gets
//! nothing: its requests name another host.

use actix_web::body::MessageBody;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::middleware::Next;
use actix_web::web::Data;

use crate::App;
use crate::error::Error;

/// Names that are answered, beside addresses and `localhost`.
#[derive(Clone, Debug, Default)]
pub struct Hosts(Vec<String>);

/// The host of `Host`, without its port, in lower case.
fn name_of(host: &str) -> String {
    let bare = match host.strip_prefix('[') {
        Some(rest) => rest.split(']').next().unwrap_or_default(),
        None => host.rsplit_once(':').map_or(host, |(name, _)| name),
    };
    bare.trim_end_matches('.').to_ascii_lowercase()
}

impl Hosts {
    /// The host of the console's address, and further names.
    pub fn new(control_url: &str, more: &str) -> Self {
        let host = control_url.split("://").nth(1).unwrap_or_default().split('/').next().unwrap_or_default();
        let more = more.split([' ', ',']).filter(|name| !name.is_empty());
        Hosts(std::iter::once(host).chain(more).map(name_of).filter(|name| !name.is_empty()).collect())
    }

    fn allows(&self, host: &str) -> bool {
        let name = name_of(host);
        name == "localhost" || name.parse::<std::net::IpAddr>().is_ok() || self.0.contains(&name)
    }
}

/// Refuses requests to another host with 421 (RFC 9110 §15.5.20).
pub async fn check(
    app: Data<App>,
    request: ServiceRequest,
    next: Next<impl MessageBody>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let host = request.connection_info().host().to_owned();
    // What a proxy says of the host counts for nothing here.
    let sent = request.headers().get("host").and_then(|value| value.to_str().ok()).unwrap_or(&host).to_owned();
    if !app.hosts.allows(&sent) {
        let detail = format!(
            "this listener does not answer for `{sent}`; name it in `listen.control_hosts`, or set `listen.control_url`"
        );
        return Err(Error::problem(421, "Misdirected request", detail).into());
    }
    next.call(request).await
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_known_names_are_answered() {
        let hosts = Hosts::new("https://office.example:8443/", "desk.example, other.example:1");
        for (host, allowed) in [
            ("127.0.0.1:7081", true),
            ("[::1]:7081", true),
            ("localhost", true),
            ("Office.Example:8443", true),
            ("office.example.", true),
            ("desk.example", true),
            ("other.example:99", true),
            ("rebound.example:7081", false),
            ("127.0.0.1.rebound.example", false),
            ("localhost.rebound.example", false),
            ("", false),
        ] {
            assert_eq!(hosts.allows(host), allowed, "{host}");
        }
    }
}
