//! Services against the host that will run them: where they are, and the secrets they are called with.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::Known;
use kanzlei_lang::diagnostic::Report;
use kanzlei_lang::document::Service;
use kanzlei_lang::document::credentials::Credentials;
use kanzlei_lang::document::purpose::Purpose;
use kanzlei_lang::document::reader::Named;
use kanzlei_lang::suggest;
use kanzlei_model::address::{has_private_host, literal_host};

/// Where a service is: at the base of its document, or at the one that the installation sets.
fn base_of<'s>(service: &'s Service, known: Option<&'s Known>) -> &'s str {
    known.and_then(|known| known.bases.get(&service.name.text)).unwrap_or(&service.base)
}

/// Reports what would fail with each call of a service.
pub(super) fn check(service: &Service, known: Option<&Known>, report: &mut Report) {
    let replaced = known.and_then(|known| known.bases.get(&service.name.text));
    let base = base_of(service, known);
    match &service.credentials {
        // Its secret is sent to the service that issues the token; see [`issuer`].
        Some(Credentials::Oauth(_)) | None => {}
        Some(credentials) => secret(credentials.secret(), &Purpose::address(base), known, report),
    }
    if let Some(certificate) = service.tls.as_ref().and_then(|tls| tls.certificate.as_ref()) {
        secret(certificate, &Purpose::Signing, known, report);
    }
    if has_private_host(base) && !service.private {
        let message = format!("`{base}` is a private address");
        // A setting that replaces the base is no fault of the document.
        match replaced {
            None => report.error("private-address", service.name.at, message),
            Some(_) => report.warning("private-address", service.name.at, message),
        };
        report.help("add `network: private` if the service is there");
    } else if let (Some(known), Some(address)) = (known, literal_host(base))
        && !known.network.permits(address, service.private)
    {
        let message = format!("the service that runs this may not call `{base}`");
        report.warning("private-address", service.name.at, message);
        report.help("add its network to `network.allow` in the service's configuration");
    }
}

/// Reports a service whose tokens cannot be had from the one that is named.
pub(super) fn issuer(
    service: &Service,
    services: &BTreeMap<String, Arc<Service>>,
    known: Option<&Known>,
    report: &mut Report,
) {
    let Some(oauth) = service.credentials.as_ref().and_then(Credentials::oauth) else { return };
    self::known(&oauth.from, services, report);
    let Some(from) = services.get(&oauth.from.text) else { return };
    if from.issuer().is_some() {
        let message = format!("`{}` itself needs a token of another service", from.name.text);
        report.error("wrong-value", oauth.from.at, message);
        report.help("the service that issues tokens is called without one");
    }
    secret(&oauth.secret, &Purpose::address(base_of(from, known)), known, report);
}

/// Reports a service that no document declares.
pub(super) fn known(name: &Named, known: &BTreeMap<String, Arc<Service>>, report: &mut Report) {
    if known.contains_key(&name.text) {
        return;
    }
    report.error("unknown-service", name.at, format!("there is no service `{}`", name.text));
    match suggest::nearest(&name.text, known.keys().map(String::as_str)) {
        Some(near) => report.did_you_mean(near),
        None => report.help(format!("declare it in a document of its own that begins `service: {}`", name.text)),
    };
}

/// Reports a secret that is not there, or that may not be used for this.
pub(super) fn secret(name: &Named, purpose: &Purpose, known: Option<&Known>, report: &mut Report) {
    let Some(known) = known else { return };
    let set = format!("`kanzlei secrets set {} --for {purpose}`", name.text);
    match known.secrets.get(&name.text) {
        None => {
            report.error("missing-secret", name.at, format!("there is no secret `{}`", name.text));
            report.help(format!("set it with {set}"));
        }
        Some(bound) if !bound.iter().any(|bound| bound.covers(purpose)) => {
            let message = match purpose {
                Purpose::Address(base) => format!("the secret `{}` may not be sent to `{base}`", name.text),
                Purpose::Signing | Purpose::Mail => {
                    format!("the secret `{}` may not sign or prove messages", name.text)
                }
            };
            report.error("unbound-secret", name.at, message);
            report.help(format!("whoever knows its value sets it again: {set}"));
        }
        Some(_) => {}
    }
}
