//! The control API, asked over HTTP.

use std::path::PathBuf;
use std::time::Duration;

use serde_json::Value as Json;

use crate::Failure;
use crate::args::Place;

#[derive(Clone)]
pub struct Api {
    url: String,
    token: String,
    agent: ureq::Agent,
}

/// An answer that is no success.
pub struct Refused {
    pub status: u16,
    pub problem: Json,
}

impl Api {
    pub fn new(place: &Place) -> Result<Self, Failure> {
        let known = nearest_settings();
        let from_file = |key: &str| known.as_ref().and_then(|table| table.get(key)?.as_str().map(str::to_owned));
        let url = place.url.clone().or_else(|| from_file("url")).unwrap_or_else(|| "http://127.0.0.1:7081".into());
        let token = place.token.clone().or_else(|| from_file("token")).ok_or_else(|| {
            Failure::Usage(
                "no operator token; set KANZLEI_TOKEN to the one printed at the first start of the service".into(),
            )
        })?;
        Ok(Api { url: url.trim_end_matches('/').to_owned(), token, agent: agent() })
    }

    pub fn get(&self, path: &str) -> Result<Json, Failure> {
        self.send("GET", path, None)?.map_err(|refused| self.tell(refused))
    }

    pub fn delete(&self, path: &str) -> Result<Json, Failure> {
        self.send("DELETE", path, None)?.map_err(|refused| self.tell(refused))
    }

    pub fn put(&self, path: &str, body: &Json) -> Result<Json, Failure> {
        self.send("PUT", path, Some(body))?.map_err(|refused| self.tell(refused))
    }

    pub fn post(&self, path: &str, body: &Json) -> Result<Result<Json, Refused>, Failure> {
        self.send("POST", path, Some(body))
    }

    pub fn tell(&self, refused: Refused) -> Failure {
        let text = |key: &str| refused.problem[key].as_str().unwrap_or_default();
        let told = match text("detail") {
            "" => format!("{} ({})", text("title"), refused.status),
            detail => format!("{}: {detail}", text("title")),
        };
        match refused.status {
            503 => Failure::Away(told),
            401 => Failure::Usage(format!("{told}; set KANZLEI_TOKEN, or check .kanzlei/client.toml")),
            _ => Failure::Told(told),
        }
    }

    fn send(&self, method: &str, path: &str, body: Option<&Json>) -> Result<Result<Json, Refused>, Failure> {
        let url = format!("{}/api/v1{path}", self.url);
        let request = ureq::http::Request::builder()
            .method(method)
            .uri(&url)
            .header("authorization", format!("Bearer {}", self.token))
            .header("content-type", "application/json");
        let request = request
            .body(body.map(Json::to_string).unwrap_or_default())
            .map_err(|error| Failure::Usage(format!("`{url}` cannot be asked: {error}")))?;
        let away = |error: ureq::Error| {
            Failure::Away(format!("the service does not answer at {}: {error}; is kanzleid running?", self.url))
        };
        let mut response = self.agent.run(request).map_err(away)?;
        let text = response.body_mut().with_config().limit(256 << 20).read_to_string().map_err(away)?;
        let status = response.status().as_u16();
        let json = if text.is_empty() { Json::Null } else { serde_json::from_str(&text).unwrap_or(Json::String(text)) };
        Ok(if status < 400 { Ok(json) } else { Err(Refused { status, problem: json }) })
    }
}

/// An agent that gives every answer back, whatever its status.
pub fn agent() -> ureq::Agent {
    ureq::Agent::config_builder()
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
