//! The names under which the control listener answers. A page of another origin whose name was rebound to this address (DNS rebinding) gets
//! nothing: its requests name another host.

use actix_web::body::MessageBody;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::middleware::Next;
use actix_web::web::Data;

use crate::error::Error;
use crate::{App, host};

/// Names that are answered, beside addresses and `localhost`.
#[derive(Clone, Debug, Default)]
pub struct Hosts(Vec<String>);

impl Hosts {
    /// The host of the console's address, and further names.
    pub fn new(control_url: &str, more: &str) -> Self {
        let more = more.split([' ', ',']).map(host::name);
        Hosts(std::iter::once(host::of_url(control_url)).chain(more).filter(|name| !name.is_empty()).collect())
    }

    fn allows(&self, name: &str) -> bool {
        name == "localhost" || name.parse::<std::net::IpAddr>().is_ok() || self.0.iter().any(|known| known == name)
    }
}

/// Refuses requests to another host with 421 (RFC 9110 §15.5.20).
pub async fn check(
    app: Data<App>,
    request: ServiceRequest,
    next: Next<impl MessageBody>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let sent = host::of(request.uri(), request.headers());
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
            ("127.0.0.1", true),
            ("::1", true),
            ("localhost", true),
            ("office.example", true),
            ("desk.example", true),
            ("other.example", true),
            ("rebound.example", false),
            ("127.0.0.1.rebound.example", false),
            ("localhost.rebound.example", false),
            ("", false),
        ] {
            assert_eq!(hosts.allows(host), allowed, "{host}");
        }
    }
}
