//! The control API, asked over HTTP.

use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use std::time::Duration;

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value as Json;
use ureq::tls::{Certificate, PemItem, RootCerts, TlsConfig};

use crate::Error;
use crate::args::Place;

#[derive(Clone)]
pub struct Api {
    url: String,
    token: String,
    agent: ureq::Agent,
}

/// An answer that is no success.
pub struct Rejection {
    pub status: u16,
    pub problem: Json,
}

impl Api {
    pub fn new(place: &Place) -> Result<Self, Error> {
        let known = nearest_settings();
        let from_file = |key: &str| known.as_ref().and_then(|table| table.get(key)?.as_str().map(str::to_owned));
        let url = place.url.clone().or_else(|| from_file("url")).unwrap_or_else(|| "http://127.0.0.1:7081".into());
        let token = place.token.clone().or_else(|| from_file("token")).ok_or_else(|| {
            Error::Usage(
                "no operator token; set KANZLEI_TOKEN to the one printed at the first start of the service".into(),
            )
        })?;
        if let Some(file) = place.ca.clone().or_else(|| from_file("ca").map(PathBuf::from)) {
            trust(&file)?;
        }
        Ok(Api { url: url.trim_end_matches('/').to_owned(), token, agent: agent() })
    }

    /// Reads something.
    pub fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, Error> {
        self.done("GET", path, None)
    }

    pub fn delete(&self, path: &str) -> Result<(), Error> {
        self.send("DELETE", path, None)?.map(|_| ()).map_err(|refused| self.error(refused))
    }

    /// Ends something and returns what came of it.
    pub fn delete_for<T: DeserializeOwned>(&self, path: &str) -> Result<T, Error> {
        self.done("DELETE", path, None)
    }

    pub fn put(&self, path: &str, body: &impl Serialize) -> Result<(), Error> {
        self.send("PUT", path, Some(written(body)?))?.map(|_| ()).map_err(|refused| self.error(refused))
    }

    /// Puts something and returns what came of it.
    pub fn put_for<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, Error> {
        self.done("PUT", path, Some(written(body)?))
    }

    /// Puts something under a condition (RFC 9110 §13.1), for a caller that reads the problem of a refusal.
    pub fn try_put<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
        condition: (&str, String),
    ) -> Result<Result<T, Rejection>, Error> {
        match self.send_with("PUT", path, Some(written(body)?), Some(condition))? {
            Ok(text) => self.read(path, &text).map(Ok),
            Err(refused) => Ok(Err(refused)),
        }
    }

    pub fn post<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, Error> {
        self.done("POST", path, Some(written(body)?))
    }

    /// An action that needs no body.
    pub fn act<T: DeserializeOwned>(&self, path: &str) -> Result<T, Error> {
        self.done("POST", path, None)
    }

    /// The same as [`post`](Self::post), for a caller that reads the problem of a refusal.
    pub fn try_get<T: DeserializeOwned>(&self, path: &str) -> Result<Result<T, Rejection>, Error> {
        match self.send("GET", path, None)? {
            Ok(text) => self.read(path, &text).map(Ok),
            Err(refused) => Ok(Err(refused)),
        }
    }

    pub fn try_post<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> Result<Result<T, Rejection>, Error> {
        match self.send("POST", path, Some(written(body)?))? {
            Ok(text) => self.read(path, &text).map(Ok),
            Err(refused) => Ok(Err(refused)),
        }
    }

    /// A request as it is; for the assistant, which reads every answer.
    pub fn raw(
        &self,
        method: &str,
        path: &str,
        body: Option<String>,
        condition: Option<(&str, String)>,
    ) -> Result<(u16, Json), Error> {
        Ok(match self.send_with(method, path, body, condition)? {
            Ok(text) => (200, serde_json::from_str(&text).unwrap_or_default()),
            Err(refused) => (refused.status, refused.problem),
        })
    }

    fn done<T: DeserializeOwned>(&self, method: &str, path: &str, body: Option<String>) -> Result<T, Error> {
        let text = self.send(method, path, body)?.map_err(|refused| self.error(refused))?;
        self.read(path, &text)
    }

    fn read<T: DeserializeOwned>(&self, path: &str, text: &str) -> Result<T, Error> {
        serde_json::from_str(text).map_err(|error| {
            Error::Failed(format!(
                "{} answers {path} in a form that this client does not know: {error}; are both of one version?",
                self.url
            ))
        })
    }

    pub fn error(&self, refused: Rejection) -> Error {
        let text = |key: &str| refused.problem[key].as_str().unwrap_or_default();
        let detail = match text("detail") {
            "" => format!("{} ({})", text("title"), refused.status),
            detail => format!("{}: {detail}", text("title")),
        };
        // What is wrong with values, one by one (RFC 9457 §3.2).
        let errors = refused.problem["errors"].as_array().into_iter().flatten();
        let errors =
            errors.filter_map(|one| Some(format!("\n  {} {}", one["pointer"].as_str()?, one["detail"].as_str()?)));
        let detail = format!("{detail}{}", errors.collect::<String>());
        match refused.status {
            503 => Error::Unavailable(detail),
            401 => Error::Usage(format!("{detail}; set KANZLEI_TOKEN, or check .kanzlei/client.toml")),
            _ => Error::Failed(detail),
        }
    }

    /// One request: the text of the answer, or the problem.
    fn send(&self, method: &str, path: &str, body: Option<String>) -> Result<Result<String, Rejection>, Error> {
        self.send_with(method, path, body, None)
    }

    fn send_with(
        &self,
        method: &str,
        path: &str,
        body: Option<String>,
        header: Option<(&str, String)>,
    ) -> Result<Result<String, Rejection>, Error> {
        let url = format!("{}/api/v1{path}", self.url);
        let request = ureq::http::Request::builder()
            .method(method)
            .uri(&url)
            .header("authorization", format!("Bearer {}", self.token))
            .header("content-type", "application/json");
        let request = match header {
            Some((name, value)) => request.header(name, value),
            None => request,
        };
        let request = request
            .body(body.unwrap_or_default())
            .map_err(|error| Error::Usage(format!("`{url}` is not a valid address: {error}")))?;
        let unavailable = |error: ureq::Error| {
            Error::Unavailable(format!("the service does not answer at {}: {error}; is kanzleid running?", self.url))
        };
        let mut response = self.agent.run(request).map_err(unavailable)?;
        let text = response.body_mut().with_config().limit(256 << 20).read_to_string().map_err(unavailable)?;
        let status = response.status().as_u16();
        if status < 400 {
            return Ok(Ok(text));
        }
        let problem = serde_json::from_str(&text).unwrap_or(Json::String(text));
        Ok(Err(Rejection { status, problem }))
    }
}

fn written(body: &impl Serialize) -> Result<String, Error> {
    serde_json::to_string(body).map_err(|error| Error::Failed(format!("the request cannot be written: {error}")))
}

/// The certificates one of which signs that of a listener; those that the operating system trusts where none are set.
static TRUSTED: OnceLock<Vec<Certificate<'static>>> = OnceLock::new();

/// Trusts the certificates of a file in place of those that the operating system trusts.
fn trust(file: &Path) -> Result<(), Error> {
    let bad = |why: String| Error::Usage(format!("`--ca {}`: {why}", file.display()));
    let text = std::fs::read(file).map_err(|error| bad(error.to_string()))?;
    let read = ureq::tls::parse_pem(&text).filter_map(|item| match item {
        Ok(PemItem::Certificate(certificate)) => Some(Ok(certificate)),
        Ok(_) => None,
        Err(error) => Some(Err(error)),
    });
    let certificates = read.collect::<Result<Vec<_>, _>>().map_err(|error| bad(error.to_string()))?;
    if certificates.is_empty() {
        return Err(bad("it holds no certificate in PEM".into()));
    }
    let _ = TRUSTED.set(certificates);
    Ok(())
}

/// An agent that returns every answer, whatever its status.
pub fn agent() -> ureq::Agent {
    // The provider of TLS primitives is chosen once per process; a second choice changes nothing.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let roots = match TRUSTED.get() {
        Some(certificates) => RootCerts::new_with_certs(certificates),
        None => RootCerts::PlatformVerifier,
    };
    ureq::Agent::config_builder()
        .tls_config(TlsConfig::builder().root_certs(roots).build())
        .http_status_as_error(false)
        .max_redirects(0)
        .allow_non_standard_methods(true)
        .timeout_connect(Some(Duration::from_secs(5)))
        .timeout_global(Some(Duration::from_secs(120)))
        .proxy(None)
        .build()
        .into()
}

/// `.kanzlei/client.toml` in this folder or one above it.
fn nearest_settings() -> Option<toml::Table> {
    let here = std::env::current_dir().ok()?;
    let file: PathBuf = here.ancestors().map(|dir| dir.join(".kanzlei/client.toml")).find(|file| file.exists())?;
    std::fs::read_to_string(file).ok()?.parse().ok()
}
