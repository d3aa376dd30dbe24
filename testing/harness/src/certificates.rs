//! Certificates for tests of TLS: an authority, and certificates that it signs. All in PEM.

use rcgen::{BasicConstraints, CertificateParams, DistinguishedName, DnType, IsCa, Issuer, KeyPair};

use crate::{Error, Result};

/// An authority that tests trust.
pub struct Authority {
    issuer: Issuer<'static, KeyPair>,
    /// Its own certificate.
    pub certificate: String,
}

/// A certificate and its private key.
#[derive(Clone)]
pub struct Signed {
    pub certificate: String,
    pub key: String,
}

impl Signed {
    /// Both in one text, as secrets hold them.
    pub fn both(&self) -> String {
        format!("{}{}", self.certificate, self.key)
    }
}

fn failed(error: rcgen::Error) -> Error {
    Error::Failed(format!("a certificate cannot be made: {error}"))
}

fn called(name: &str) -> DistinguishedName {
    let mut called = DistinguishedName::new();
    called.push(DnType::CommonName, name);
    called
}

impl Authority {
    pub fn new() -> Result<Self> {
        let mut params = CertificateParams::new(Vec::new()).map_err(failed)?;
        params.distinguished_name = called("authority of the tests");
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        let key = KeyPair::generate().map_err(failed)?;
        let certificate = params.self_signed(&key).map_err(failed)?.pem();
        Ok(Authority { issuer: Issuer::new(params, key), certificate })
    }

    /// A certificate for hosts and addresses, or of a client with a name.
    pub fn sign(&self, names: &[&str]) -> Result<Signed> {
        let names: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
        let mut params = CertificateParams::new(names.clone()).map_err(failed)?;
        params.distinguished_name = called(names.first().map_or("nobody", String::as_str));
        let key = KeyPair::generate().map_err(failed)?;
        let certificate = params.signed_by(&key, &self.issuer).map_err(failed)?.pem();
        Ok(Signed { certificate, key: key.serialize_pem() })
    }
}
