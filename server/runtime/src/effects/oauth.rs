//! Bearer tokens that one service issues for the calls of another: OAuth 2.0 client credentials (RFC 6749 §4.4).
//!
//! A token is kept until shortly before it expires. One call at a time requests the next one, while others continue with the token that
//! is still valid; after a failure no token is requested for [`PAUSE`]. A token that the service refuses is dropped.
//!
//! Bounds: one token for each service, of at most [`MOST_TOKEN`] bytes; a request takes at most [`WITHIN`].

use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use arc_swap::ArcSwapOption;
use kanzlei_compiler::input::encoded;
use kanzlei_engine::machine::{EffectError, Request};
use kanzlei_lang::document::credentials::{Oauth, Placement};
use kanzlei_lang::document::purpose::Purpose;
use kanzlei_model::run::FailureKind;
use serde_json::Value as Json;

use super::http::{Bounds, Correlation, call};
use crate::live::Service;
use crate::secrets::mask::Forms;

/// How long a token counts whose issuer does not say.
const USUAL: Duration = Duration::from_secs(300);
/// How long before its end a token counts as expired: it must still be valid when it arrives.
const MARGIN: Duration = Duration::from_secs(5);
/// The longest that a token is kept, whatever its issuer says.
const LONGEST: Duration = Duration::from_secs(24 * 3600);
/// The largest token, in bytes.
const MOST_TOKEN: usize = 16 << 10;
/// How long no token is requested after a failure.
const PAUSE: Duration = Duration::from_secs(1);
/// How long the issuer may take.
const WITHIN: Duration = Duration::from_secs(10);

/// The token of a service's calls, and where it comes from.
#[derive(Debug)]
pub struct Grant {
    declared: Oauth,
    /// The service that issues it.
    from: Arc<Service>,
    token: ArcSwapOption<Token>,
    /// One call asks, others wait for it. The last failure, and when that was.
    asking: tokio::sync::Mutex<Option<(Instant, EffectError)>>,
    /// Why the last request failed, for operators.
    trouble: Mutex<Option<String>>,
}

/// A token that is valid for a while.
pub struct Token {
    /// Its text.
    pub text: String,
    /// The forms in which the service could repeat it.
    pub forms: Forms,
    /// When the next one is requested.
    renew: Instant,
    until: Instant,
}

impl std::fmt::Debug for Token {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Token").field("until", &self.until).finish_non_exhaustive()
    }
}

/// How a grant stands, for operators.
#[derive(Clone, Debug, PartialEq)]
pub struct Standing {
    /// The service that issues the token.
    pub from: String,
    /// How long the token is still valid, where there is one.
    pub valid: Option<Duration>,
    /// Why the last request failed.
    pub trouble: Option<String>,
}

impl Grant {
    /// A grant with the token of the one before it, where that asked the same service for the same; else without one yet.
    pub fn new(declared: Oauth, from: Arc<Service>, before: Option<&Grant>) -> Self {
        let same = |before: &&Grant| before.declared == declared && before.from.base == from.base;
        let token = ArcSwapOption::new(before.filter(same).and_then(|before| before.token.load_full()));
        Grant { declared, from, token, asking: tokio::sync::Mutex::default(), trouble: Mutex::default() }
    }

    /// How it is requested.
    pub fn declared(&self) -> &Oauth {
        &self.declared
    }

    /// The base of the service that issues it.
    pub fn base(&self) -> &str {
        &self.from.base
    }

    /// How it stands.
    pub fn standing(&self) -> Standing {
        let token = self.token.load();
        let valid = token.as_ref().and_then(|token| token.until.checked_duration_since(Instant::now()));
        let trouble = self.trouble.lock().unwrap_or_else(PoisonError::into_inner).clone();
        Standing { from: self.from.name.clone(), valid, trouble }
    }

    /// Drops a token that the service refused, unless another one took its place meanwhile.
    pub fn refused(&self, token: &Arc<Token>) {
        self.token.compare_and_swap(token, None::<Arc<Token>>);
    }

    /// The token of the next call.
    ///
    /// # Errors
    /// What the issuer answers, or why it cannot be asked.
    pub async fn token(&self, correlation: &Correlation<'_>, bounds: &Bounds<'_>) -> Result<Arc<Token>, EffectError> {
        let usable = |token: &Arc<Token>| token.until > Instant::now();
        let known = self.token.load_full().filter(usable);
        let mut failed = match &known {
            Some(token) if token.renew > Instant::now() => return Ok(token.clone()),
            Some(token) => match self.asking.try_lock() {
                Ok(turn) => turn,
                Err(_) => return Ok(token.clone()),
            },
            None => self.asking.lock().await,
        };
        // Another call may have got it while this one waited.
        if let Some(token) = self.token.load_full().filter(|token| token.renew > Instant::now()) {
            return Ok(token);
        }
        if let Some((_, why)) = failed.as_ref().filter(|(at, _)| at.elapsed() < PAUSE) {
            return known.ok_or_else(|| why.clone());
        }
        let asked = self.ask(correlation, bounds).await;
        *self.trouble.lock().unwrap_or_else(PoisonError::into_inner) =
            asked.as_ref().err().map(|why| why.detail.clone());
        match asked {
            Ok(token) => {
                let token = Arc::new(token);
                *failed = None;
                self.token.store(Some(token.clone()));
                Ok(token)
            }
            Err(why) => {
                tracing::warn!(from = self.from.name, why = why.detail, "no token for calls of a service");
                *failed = Some((Instant::now(), why.clone()));
                known.ok_or(why)
            }
        }
    }

    async fn ask(&self, correlation: &Correlation<'_>, bounds: &Bounds<'_>) -> Result<Token, EffectError> {
        let request = self.request(bounds)?;
        let begun = Instant::now();
        // A call that itself asks for a token ends here: the checker refuses an issuer that needs one.
        let answer = Box::pin(call(Some(&self.from), &request, correlation, WITHIN, bounds)).await;
        let answer = answer.map_err(|fault| {
            let detail = format!("no token of {}: {}", self.from.name, fault.detail);
            EffectError { detail, ..fault }
        })?;
        let refused =
            |kind, why: String| EffectError { kind, detail: format!("no token of {}: {why}", self.from.name) };
        let body: Option<Json> = serde_json::from_slice(answer.body.held().unwrap_or_default()).ok();
        let text = |name: &str| body.as_ref().and_then(|body| body.get(name)).and_then(Json::as_str);
        if answer.status != 200 {
            // RFC 6749 §5.2.
            let said = [text("error"), text("error_description")].into_iter().flatten().collect::<Vec<_>>().join(": ");
            let said = if said.is_empty() { String::new() } else { format!(", {}", bounds.secrets.mask(said)) };
            return Err(refused(FailureKind::Status, format!("it answers {}{said}", answer.status)));
        }
        let fits = |token: &&str| {
            !token.is_empty() && token.len() <= MOST_TOKEN && token.bytes().all(|b| b.is_ascii_graphic())
        };
        let Some(token) = text("access_token").filter(fits) else {
            return Err(refused(FailureKind::Unreadable, "its answer has no `access_token` that can be sent".into()));
        };
        if let Some(other) = text("token_type").filter(|of| !of.eq_ignore_ascii_case("bearer")) {
            return Err(refused(
                FailureKind::Unreadable,
                format!("its token is of type `{other}`, not a bearer token"),
            ));
        }
        let lives =
            body.as_ref().and_then(|body| body.get("expires_in")).and_then(seconds).unwrap_or(USUAL).min(LONGEST);
        Ok(Token {
            forms: Forms::of([token]),
            text: token.to_owned(),
            // The last fifth of its time is for requesting the next one.
            renew: begun + lives.mul_f32(0.8),
            until: begun + lives.saturating_sub(MARGIN.min(lives / 10)),
        })
    }

    fn request(&self, bounds: &Bounds<'_>) -> Result<Request, EffectError> {
        let Oauth { path, client, secret, scope, audience, send, .. } = &self.declared;
        let secret = bounds.secrets.get(&secret.text, Purpose::address(&self.from.base));
        let secret = secret
            .map_err(|withheld| EffectError { kind: FailureKind::BlockedAddress, detail: withheld.to_string() })?;
        let mut pairs = vec![("grant_type", "client_credentials")];
        pairs.extend(scope.as_deref().map(|scope| ("scope", scope)));
        pairs.extend(audience.as_deref().map(|audience| ("audience", audience)));
        let mut headers = vec![
            ("accept".to_owned(), "application/json".to_owned()),
            ("content-type".to_owned(), "application/x-www-form-urlencoded".to_owned()),
        ];
        match send {
            Placement::Header => {
                // Both are form-encoded before they are joined (RFC 6749 §2.3.1).
                use base64::Engine;
                let joined = format!("{}:{}", encoded(client), encoded(&secret));
                let basic = base64::engine::general_purpose::STANDARD.encode(joined);
                headers.push(("authorization".to_owned(), format!("Basic {basic}")));
            }
            Placement::Body => pairs.extend([("client_id", client.as_str()), ("client_secret", &secret)]),
        }
        let form: Vec<String> = pairs.iter().map(|(name, value)| format!("{name}={}", encoded(value))).collect();
        Ok(Request {
            service: self.from.name.clone(),
            operation: None,
            host: None,
            method: "POST".into(),
            target: path.clone(),
            headers,
            body: Some(vec![form.join("&").into()]),
            within: WITHIN,
            attempt: 1,
            sign: None,
            step: 0,
        })
    }
}

/// Seconds as issuers write them: a number, or digits in a text.
fn seconds(value: &Json) -> Option<Duration> {
    let seconds = value.as_u64().or_else(|| value.as_str()?.parse().ok())?;
    Some(Duration::from_secs(seconds))
}
