//! Signing somebody in through a provider of identities (OpenID Connect Core 1.0, authorization code flow with PKCE, RFC 7636).
//!
//! The provider is asked at each sign-in for its endpoints and keys: signing in is rare. Its token is verified like those of callers, and must have
//! the nonce of this sign-in.

use std::sync::Arc;
use std::time::Duration;

use kanzlei_compiler::input::encoded;
use kanzlei_compiler::plan::Issuer;
use kanzlei_engine::machine::Request;
use kanzlei_lang::diagnostic::Place;
use kanzlei_lang::document::issuer::{self as document, Keys};
use kanzlei_lang::document::reader::Named;
use kanzlei_lang::document::workflow::Property;
use serde_json::{Value as Json, json};

use super::issuers::{ask, fetch, send};
use super::{Rejected, verify};
use crate::effects::Effects;
use crate::effects::client::Base;
use crate::limiter::{Limiter, Limits};
use crate::live::Service;

/// Questions to the provider at the same time.
const AT_ONCE: u32 = 8;

/// A provider of identities.
#[derive(Debug)]
pub struct Provider {
    service: Arc<Service>,
    issuer: Issuer,
    client_id: String,
    client_secret: String,
}

/// What the configuration says of a provider.
#[derive(Clone, Debug, Default)]
pub struct Settings {
    /// What its tokens have as `iss`.
    pub issuer: String,
    /// Where it is reached, where that is not the address of `issuer`.
    pub address: String,
    /// The id of this service.
    pub client_id: String,
    /// The secret of this service.
    pub client_secret: String,
    /// The claim with groups.
    pub claim: String,
    /// Whether it may have a private address.
    pub private: bool,
}

/// Who signed in.
#[derive(Clone, Debug, PartialEq)]
pub struct Person {
    /// The subject.
    pub subject: String,
    /// The groups that the provider lists.
    pub groups: Vec<String>,
}

impl Provider {
    /// A provider as the configuration describes it.
    ///
    /// # Errors
    /// An address that is none.
    pub fn new(settings: &Settings) -> Result<Self, String> {
        let address = if settings.address.is_empty() { &settings.issuer } else { &settings.address };
        let base = address.trim_end_matches('/').to_owned();
        let Some(at) = Base::of(&base) else { return Err(format!("`{base}` is no HTTP address")) };
        let named = |text: &str| Named { text: text.to_owned(), at: Place::default() };
        let claim = |name: &str| Property {
            name: named(name),
            schema: json!({}),
            default: None,
            optional: true,
            secret: false,
            at: Place::default(),
        };
        let described = document::Issuer {
            name: named("sign-in"),
            about: String::new(),
            iss: settings.issuer.clone(),
            audience: vec![settings.client_id.clone()],
            keys: Keys::Discovery { service: named("sign-in"), path: document::DISCOVERY.to_owned() },
            algorithms: document::DEFAULT.map(str::to_owned).to_vec(),
            skew: Duration::from_secs(60),
            claims: vec![claim("nonce"), claim(&settings.claim)],
            subject: "sub".into(),
            allowance: None,
        };
        let issuer = Issuer::of(&described).map_err(|faults| format!("{faults:?}"))?;
        let service = Service {
            hosts: None,
            name: "sign-in".into(),
            about: String::new(),
            base,
            at: Some(at),
            private: settings.private,
            credentials: None,
            oauth: None,
            tls: None,
            headers: Vec::new(),
            limiter: Arc::new(Limiter::new(Limits { at_once: Some(AT_ONCE), ..Limits::default() })),
            calls: Arc::default(),
            operations: Default::default(),
            api: Arc::new(Json::Null),
        };
        let (client_id, client_secret) = (settings.client_id.clone(), settings.client_secret.clone());
        Ok(Provider { service: Arc::new(service), issuer, client_id, client_secret })
    }

    /// What its tokens have as `iss`.
    pub fn iss(&self) -> &str {
        &self.issuer.iss
    }

    async fn endpoint(&self, effects: &Effects, name: &str) -> Result<String, String> {
        let found = fetch(effects, &self.service, document::DISCOVERY).await?;
        let text = |name: &str| found.get(name).and_then(Json::as_str).unwrap_or_default();
        if text("issuer") != self.issuer.iss {
            return Err(format!("its discovery document is of `{}`, not of `{}`", text("issuer"), self.issuer.iss));
        }
        match text(name) {
            "" => Err(format!("its discovery document has no `{name}`")),
            endpoint => Ok(endpoint.to_owned()),
        }
    }

    /// The address to which a browser is sent.
    ///
    /// # Errors
    /// Why the provider does not say where that is.
    pub async fn begin(
        &self,
        effects: &Effects,
        (back, scope): (&str, &str),
        (state, nonce, challenge): (&str, &str, &str),
    ) -> Result<String, String> {
        let endpoint = self.endpoint(effects, "authorization_endpoint").await?;
        let joint = if endpoint.contains('?') { '&' } else { '?' };
        let pairs = [
            ("response_type", "code"),
            ("client_id", self.client_id.as_str()),
            ("redirect_uri", back),
            ("scope", scope),
            ("state", state),
            ("nonce", nonce),
            ("code_challenge", challenge),
            ("code_challenge_method", "S256"),
        ];
        let query: Vec<String> = pairs.iter().map(|(name, value)| format!("{name}={}", encoded(value))).collect();
        Ok(format!("{endpoint}{joint}{}", query.join("&")))
    }

    /// Exchanges a code for who signed in.
    ///
    /// # Errors
    /// What the provider refuses, or what is wrong with its token.
    pub async fn exchange(
        &self,
        effects: &Effects,
        (code, back): (&str, &str),
        (nonce, verifier): (&str, &str),
        now: i64,
    ) -> Result<Person, String> {
        let endpoint = self.endpoint(effects, "token_endpoint").await?;
        let below = [self.service.base.as_str(), self.issuer.iss.as_str()].into_iter();
        let path = below.filter_map(|base| endpoint.strip_prefix(base)).find(|path| path.starts_with('/'));
        let path = path.ok_or_else(|| format!("its token endpoint `{endpoint}` is not below its address"))?;
        let pairs = [
            ("grant_type", "authorization_code"),
            ("code", code),
            ("redirect_uri", back),
            ("code_verifier", verifier),
            ("client_id", self.client_id.as_str()),
            ("client_secret", self.client_secret.as_str()),
        ];
        let form: Vec<String> = pairs.iter().map(|(name, value)| format!("{name}={}", encoded(value))).collect();
        let request = Request {
            service: self.service.name.clone(),
            operation: None,
            host: None,
            method: "POST".into(),
            target: path.to_owned(),
            headers: vec![
                ("accept".into(), "application/json".into()),
                ("content-type".into(), "application/x-www-form-urlencoded".into()),
            ],
            body: Some(vec![form.join("&").into()]),
            within: super::issuers::WITHIN,
            attempt: 1,
            sign: None,
            step: 0,
        };
        let answer = send(effects, &self.service, request).await?;
        let token = answer.get("id_token").and_then(Json::as_str).ok_or("its answer has no `id_token`")?;
        let keys = ask(effects, &self.service, &self.issuer).await?;
        let valid = verify(&self.issuer, &keys, token, now).map_err(|rejected| match rejected {
            Rejected::Token(why) => why,
            other => format!("{other:?}"),
        })?;
        if valid.claims.get("nonce").and_then(Json::as_str) != Some(nonce) {
            return Err("its token is not of this sign-in".into());
        }
        let groups = valid.claims.as_object().into_iter().flatten().filter(|(name, _)| *name != "nonce");
        let groups = groups.flat_map(|(_, value)| match value {
            Json::Array(several) => several.iter().filter_map(Json::as_str).map(str::to_owned).collect(),
            Json::String(one) => one.split([' ', ',']).map(str::to_owned).collect(),
            _ => Vec::new(),
        });
        Ok(Person { groups: groups.collect(), subject: valid.subject })
    }
}
