//! Configuration: defaults, `kanzlei.toml`, environment, flags, in that order of rising weight.
//!
//! Every setting is one row of [`settings`], with its type; its environment variable and its flag follow from its
//! name (`listen.public` → `KANZLEI_LISTEN_PUBLIC`, `--set listen.public=…`). An unknown name is an error.
//! `kanzleid config` shows what is in force and where each value came from.

mod settings;
mod value;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

use figment::value::{Dict, Map, Value};
use figment::{Figment, Metadata, Profile, Provider};
use serde::Deserialize;

use crate::error::{Error, Result};
use kanzlei_compiler::sql::Allowed;
use kanzlei_runtime::telemetry::Collector;
use kanzlei_runtime::{files, mail, print};

pub use settings::SETTINGS;
pub use value::Format;

/// Variables that begin like settings and are others'.
const NO_SETTINGS: &[&str] = &["KANZLEI_URL", "KANZLEI_TOKEN", "KANZLEI_CA", "KANZLEI_WRITE"];
const PREFIX: &str = "KANZLEI_";

/// All settings, typed.
#[derive(Clone, Debug, Deserialize)]
pub struct Config {
    pub listen: settings::Listen,
    pub network: settings::Network,
    pub database: settings::Database,
    pub process: settings::Process,
    pub limits: settings::Limits,
    pub journal: settings::Journal,
    pub jobs: settings::Jobs,
    pub deliveries: settings::Deliveries,
    pub console: settings::Console,
    pub audit: settings::AuditSettings,
    pub sign_in: settings::SignIn,
    pub rehearsal: settings::Rehearsal,
    pub files: settings::FileSettings,
    pub mail: settings::MailSettings,
    pub pdf: settings::PdfSettings,
    pub secrets: settings::Secrets,
    pub log: settings::Log,
    pub telemetry: settings::TelemetrySettings,
    /// Base addresses that replace those of the service documents.
    #[serde(default, rename = "services")]
    services: BTreeMap<String, Base>,
    /// Databases that `sql` steps name.
    #[serde(default, rename = "databases")]
    outside: BTreeMap<String, Outside>,
    /// Stores for files that `file` steps name.
    #[serde(default, rename = "places")]
    stores: BTreeMap<String, PlaceSetting>,
    #[serde(skip)]
    sources: Figment,
}

/// A store for files.
#[derive(Clone, Debug, Default, Deserialize)]
struct PlaceSetting {
    url: String,
    endpoint: Option<String>,
    region: Option<String>,
    secret: Option<String>,
}

impl PlaceSetting {
    fn named(&self) -> files::Named {
        let (url, endpoint, region) = (self.url.clone(), self.endpoint.clone(), self.region.clone());
        let settings = files::place::Settings { url, endpoint, region, credentials: None };
        files::Named { settings, secret: self.secret.clone() }
    }
}

#[derive(Clone, Debug, Deserialize)]
struct Base {
    base: String,
}

/// A database that `sql` steps name.
#[derive(Clone, Debug, Deserialize)]
pub struct Outside {
    /// Its address.
    pub url: String,
    #[serde(default)]
    allow: String,
    #[serde(default)]
    functions: String,
    /// What may be sent beside statements that read and change rows.
    #[serde(skip)]
    pub allowed: Allowed,
    /// Whether its user may see the service's own records.
    #[serde(skip)]
    pub sees_service: bool,
}

impl Outside {
    /// Reads the lists of words.
    fn read(&mut self, name: &str) -> std::result::Result<(), String> {
        for word in list(&self.allow) {
            match word {
                "call" => self.allowed.calls = true,
                "define" => self.allowed.definitions = true,
                "service-schema" => self.sees_service = true,
                other => {
                    return Err(format!(
                        "`databases.{name}.allow` is a list of `call`, `define` and `service-schema`; it holds `{other}`"
                    ));
                }
            }
        }
        self.allowed.functions = list(&self.functions).map(str::to_lowercase).collect();
        Ok(())
    }
}

/// Words separated by spaces or commas.
fn list(text: &str) -> impl Iterator<Item = &str> {
    text.split([' ', ',']).filter(|word| !word.is_empty())
}

/// Settings from one source, all as text.
struct Layer {
    /// How messages call it: `flag`, `environment KANZLEI_WORKERS`, the path of a file.
    origin: String,
    values: BTreeMap<String, String>,
}

impl Provider for Layer {
    fn metadata(&self) -> Metadata {
        Metadata::named(self.origin.clone())
    }

    fn data(&self) -> std::result::Result<Map<Profile, Dict>, figment::Error> {
        let mut root = Dict::new();
        for (name, text) in &self.values {
            let path = path_of(name);
            insert(&mut root, &path.split('.').collect::<Vec<_>>(), text);
        }
        Ok(Profile::Default.collect(root))
    }
}

/// Puts a value at a path of names.
fn insert(at: &mut Dict, path: &[&str], text: &str) {
    match path {
        [] => {}
        [last] => _ = at.insert((*last).to_owned(), Value::from(text)),
        [first, rest @ ..] => {
            let inner = at.entry((*first).to_owned()).or_insert_with(|| Value::from(Dict::new()));
            if let Value::Dict(_, inner) = inner {
                insert(inner, rest, text);
            }
        }
    }
}

impl Layer {
    fn new(origin: impl Into<String>) -> Self {
        Layer { origin: origin.into(), values: BTreeMap::new() }
    }

    /// Adds a setting whose name is known.
    fn set(&mut self, name: &str, text: String) -> Result<()> {
        let inner = |section: &str, member: &str| {
            name.strip_prefix(section)
                .and_then(|rest| rest.strip_suffix(member))
                .is_some_and(|name| !name.contains('.'))
        };
        if name == "databases" {
            for given in text.split_whitespace() {
                let Some((name, url)) = given.split_once('=') else {
                    return Err(self.wrong("databases", "NAME=URL, several separated by spaces", given));
                };
                self.values.insert(format!("databases.{name}.url"), url.to_owned());
            }
        } else if inner("services.", ".base") {
            let base = kanzlei_lang::document::service::valid_base(&text)
                .map_err(|why| Error::Config(format!("`{name}`: {why} ({})", self.origin)))?;
            self.values.insert(name.to_owned(), base);
        } else if PLACE.iter().any(|member| inner("places.", &format!(".{member}")))
            || ["url", "allow", "functions"].iter().any(|member| inner("databases.", &format!(".{member}")))
            || SETTINGS.iter().any(|setting| setting.name == name)
        {
            self.values.insert(name.to_owned(), text);
        } else {
            let near = kanzlei_lang::suggest::nearest(name, SETTINGS.iter().map(|setting| setting.name));
            let hint = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
            return Err(Error::Config(format!("there is no setting `{name}`{hint} ({})", self.origin)));
        }
        Ok(())
    }

    fn wrong(&self, name: &str, what: &str, given: &str) -> Error {
        Error::Config(format!("`{name}` is {what}; it is `{}` ({})", shown(name, given), self.origin))
    }

    /// The settings of a TOML table.
    fn table(&mut self, prefix: &str, value: &toml::Value) -> Result<()> {
        match value {
            toml::Value::Table(table) => table.iter().try_for_each(|(key, value)| {
                let name = if prefix.is_empty() { key.clone() } else { format!("{prefix}.{key}") };
                self.table(&name, value)
            }),
            toml::Value::String(text) => self.set(prefix, text.clone()),
            toml::Value::Array(items) => {
                let words: Vec<String> =
                    items.iter().map(|item| item.as_str().map_or_else(|| item.to_string(), str::to_owned)).collect();
                self.set(prefix, words.join(" "))
            }
            other => self.set(prefix, other.to_string()),
        }
    }
}

impl settings::Secrets {
    /// The key of the secrets: itself, or the file with it.
    pub fn key(&self) -> (&str, &str) {
        (&self.key, &self.key_file)
    }

    /// The same of the other key, which opens what it sealed.
    pub fn other_key(&self) -> (&str, &str) {
        (&self.other_key, &self.other_key_file)
    }
}

impl Config {
    /// Puts the sources together; `environment` holds names and values of variables.
    ///
    /// # Errors
    /// The first name that is unknown, or the first value that is wrong, with its source.
    pub fn load(
        file: Option<&Path>,
        environment: impl IntoIterator<Item = (String, String)>,
        flags: &[(String, String)],
    ) -> Result<Self> {
        let mut defaults = Layer::new("default");
        defaults.values.extend(SETTINGS.iter().map(|setting| (setting.name.to_owned(), setting.default.to_owned())));
        let mut sources = Figment::from(defaults);
        if let Some(path) = file {
            let failed = |why: String| Error::Config(format!("{}: {why}", path.display()));
            let text = std::fs::read_to_string(path).map_err(|error| failed(error.to_string()))?;
            let table: toml::Table = text.parse().map_err(|error: toml::de::Error| failed(error.to_string()))?;
            let mut layer = Layer::new(path.display().to_string());
            layer.table("", &toml::Value::Table(table))?;
            sources = sources.merge(layer);
        }
        for (variable, text) in environment {
            if !variable.starts_with(PREFIX) || NO_SETTINGS.contains(&variable.as_str()) {
                continue;
            }
            let mut layer = Layer::new(format!("environment {variable}"));
            layer.set(&setting_of(&variable)?, text)?;
            sources = sources.merge(layer);
        }
        let mut layer = Layer::new("flag");
        flags.iter().try_for_each(|(name, text)| layer.set(name, text.clone()))?;
        Config::of(sources.merge(layer))
    }

    fn of(sources: Figment) -> Result<Self> {
        let mut config: Config = sources.extract().map_err(|error| {
            let path = error.path.join(".");
            let name = path.strip_prefix("process.").unwrap_or(&path).to_owned();
            let given = sources.find_value(&path).ok().and_then(|value| value.into_string()).unwrap_or_default();
            let origin = error.metadata.as_ref().map(|metadata| metadata.name.to_string()).unwrap_or_default();
            // The kind holds what the value should be.
            let what = match &error.kind {
                figment::error::Kind::Message(what) => what.clone(),
                other => other.to_string(),
            };
            Error::Config(format!("`{name}` is {what}; it is `{}` ({origin})", shown(&name, &given)))
        })?;
        config.sources = sources;
        for (name, outside) in &mut config.outside {
            let origin = config.sources.find_metadata(&format!("databases.{name}.allow"));
            let origin = origin.map_or_else(|| "default".into(), |metadata| metadata.name.to_string());
            outside.read(name).map_err(|why| Error::Config(format!("{why} ({origin})")))?;
        }
        let name = &config.listen.run_header;
        if !name.is_empty() && actix_web::http::header::HeaderName::try_from(name.as_str()).is_err() {
            let origin = config.origin("listen.run_header");
            return Err(Error::Config(format!(
                "`listen.run_header` is the name of a header field; it is `{name}` ({origin})"
            )));
        }
        if actix_web::http::header::HeaderValue::try_from(config.listen.server.as_str()).is_err() {
            let origin = config.origin("listen.server");
            return Err(Error::Config(format!("`listen.server` cannot stand in a header field ({origin})")));
        }
        config.mail().check().map_err(Error::Config)?;
        if config.jobs.lease < Duration::from_secs(1) {
            let origin = config.origin("jobs.lease");
            return Err(Error::Config(format!("`jobs.lease` is at least 1s ({origin})")));
        }
        Ok(config)
    }

    /// Where a setting came from.
    fn origin(&self, name: &str) -> String {
        self.sources
            .find_metadata(&path_of(name))
            .map_or_else(|| "default".into(), |metadata| metadata.name.to_string())
    }

    /// How clients reach the public listener, without a slash at the end.
    pub fn public_url(&self) -> String {
        match self.listen.public_url.trim_end_matches('/') {
            "" if self.listen.public_certificate.is_empty() => format!("http://{}", self.listen.public),
            "" => format!("https://{}", self.listen.public),
            url => url.to_owned(),
        }
    }

    /// How operators reach the control listener, without a slash at the end.
    pub fn control_url(&self) -> String {
        match self.listen.control_url.trim_end_matches('/') {
            "" if self.listen.control_certificate.is_empty() => format!("http://{}", self.listen.control),
            "" => format!("https://{}", self.listen.control),
            url => url.to_owned(),
        }
    }

    /// Base addresses that replace those of the service documents, by service.
    pub fn bases(&self) -> BTreeMap<String, String> {
        self.services.iter().map(|(name, service)| (name.clone(), service.base.clone())).collect()
    }

    /// Addresses of the databases that `sql` steps name.
    pub fn databases(&self) -> impl Iterator<Item = (&str, &Outside)> {
        self.outside.iter().map(|(name, database)| (name.as_str(), database))
    }

    /// How mails are sent.
    pub fn mail(&self) -> mail::Settings {
        let own = &self.mail;
        let given = |text: &String| Some(text.clone()).filter(|text| !text.is_empty());
        mail::Settings {
            url: own.url.clone(),
            from: own.from.clone(),
            secret: given(&own.secret),
            plain: own.plain,
            trusted: given(&own.trusted),
            at_once: own.at_once,
        }
    }

    /// The collector of traces and logs, where there is one.
    ///
    /// # Errors
    /// An address that is none, and header fields that cannot be read.
    pub fn collector(&self, process: &str) -> Result<Option<Collector>> {
        let own = &self.telemetry;
        if own.endpoint.is_empty() {
            return Ok(None);
        }
        let fits = ["http://", "https://"].iter().any(|scheme| own.endpoint.starts_with(scheme));
        if !fits || own.endpoint.parse::<http::Uri>().is_err() {
            let why =
                format!("`telemetry.endpoint` is an address such as `http://127.0.0.1:4318`; it is `{}`", own.endpoint);
            return Err(Error::Config(why));
        }
        let read = |pair: &str| {
            let (name, value) = pair.split_once('=')?;
            let (name, value) = (name.trim().to_ascii_lowercase(), value.trim().to_owned());
            let fits = name.parse::<http::HeaderName>().is_ok() && value.parse::<http::HeaderValue>().is_ok();
            fits.then_some((name, value))
        };
        let pairs = own.headers.split(',').map(str::trim).filter(|pair| !pair.is_empty());
        // The value may be a key: it is not shown.
        let headers = pairs
            .map(read)
            .collect::<Option<_>>()
            .ok_or_else(|| Error::Config("`telemetry.headers` are header fields: `name=value, name=value`".into()))?;
        if !(0.0..=1.0).contains(&own.ratio) {
            return Err(Error::Config(format!("`telemetry.ratio` is from 0 to 1; it is `{}`", own.ratio)));
        }
        Ok(Some(Collector {
            endpoint: own.endpoint.clone(),
            headers,
            ratio: own.ratio,
            within: own.within,
            process: process.to_owned(),
            version: env!("CARGO_PKG_VERSION"),
        }))
    }

    /// How pages are printed.
    pub fn pdf(&self) -> print::Settings {
        print::Settings { python: self.pdf.python.clone(), memory: self.pdf.memory, at_once: self.pdf.at_once }
    }

    /// What bounds files, where those of jobs are, and the places that `file` steps name.
    pub fn files(&self) -> (files::Bounds, files::Named, BTreeMap<String, files::Named>) {
        let own = &self.files;
        let bounds = files::Bounds {
            spool: PathBuf::from(&own.spool),
            spool_bytes: own.spool_bytes,
            spool_of_caller: own.spool_of_caller,
            file: own.file,
            request: own.request,
            upload_bytes: own.upload_bytes,
            upload_time: own.upload_time,
        };
        let given = |text: &String| Some(text.clone()).filter(|text| !text.is_empty());
        let work = PlaceSetting {
            url: own.work.clone(),
            endpoint: given(&own.work_endpoint),
            region: given(&own.work_region),
            secret: given(&own.work_secret),
        };
        let places = self.stores.iter().map(|(name, place)| (name.clone(), place.named()));
        (bounds, work.named(), places.collect())
    }

    /// The file of the operator token, where one is set.
    pub fn token_file(&self) -> Option<PathBuf> {
        Some(PathBuf::from(&self.process.token_file)).filter(|path| !path.as_os_str().is_empty())
    }

    /// The database's address with its password hidden, for messages.
    pub fn database_shown(&self) -> String {
        shown("database.url", &self.database.url)
    }

    /// Two lines per setting: name, value, origin; and what it is. Passwords and keys are hidden.
    pub fn describe(&self) -> String {
        let mut lines = Vec::new();
        let mut line = |name: &str, about: Option<&str>| {
            let text =
                self.sources.find_value(&path_of(name)).ok().and_then(|value| value.into_string()).unwrap_or_default();
            let text = if text.is_empty() { "—".to_owned() } else { shown(name, &text) };
            lines.push(format!("{name:<22} {text:<42} {}", self.origin(name)));
            lines.extend(about.map(|about| format!("{:22} # {about}", "")));
        };
        SETTINGS.iter().for_each(|setting| line(setting.name, Some(setting.about)));
        self.services.keys().for_each(|name| line(&format!("services.{name}.base"), None));
        for (name, outside) in &self.outside {
            line(&format!("databases.{name}.url"), None);
            let lists = [("allow", &outside.allow), ("functions", &outside.functions)];
            for (member, _) in lists.iter().filter(|(_, words)| !words.is_empty()) {
                line(&format!("databases.{name}.{member}"), None);
            }
        }
        for (name, place) in &self.stores {
            line(&format!("places.{name}.url"), None);
            let others = [("endpoint", &place.endpoint), ("region", &place.region), ("secret", &place.secret)];
            for (member, _) in others.iter().filter(|(_, text)| text.is_some()) {
                line(&format!("places.{name}.{member}"), None);
            }
        }
        lines.join("\n")
    }
}

/// What is set of a place.
const PLACE: [&str; 4] = ["url", "endpoint", "region", "secret"];

/// Where a setting stands in the merged sources: those without a section are in one for the process.
fn path_of(name: &str) -> String {
    if name.contains('.') { name.to_owned() } else { format!("process.{name}") }
}

/// The setting that an environment variable stands for: `KANZLEI_LISTEN_PUBLIC` for `listen.public`.
fn setting_of(variable: &str) -> Result<String> {
    if variable == "KANZLEI_DATABASES" {
        return Ok("databases".into());
    }
    let named = |name: &str| format!("{PREFIX}{}", name.to_uppercase().replace('.', "_"));
    let variables: Vec<String> = SETTINGS.iter().map(|setting| named(setting.name)).collect();
    match variables.iter().position(|known| known == variable) {
        Some(at) => Ok(SETTINGS[at].name.to_owned()),
        None => {
            let near = kanzlei_lang::suggest::nearest(variable, variables.iter().map(String::as_str));
            let hint = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
            Err(Error::Config(format!("the environment variable `{variable}` stands for no setting{hint}")))
        }
    }
}

/// A value as it may be shown.
fn shown(name: &str, text: &str) -> String {
    match name {
        "secrets.key" | "secrets.other_key" | "sign_in.client_secret" | "telemetry.headers" if !text.is_empty() => {
            kanzlei_runtime::secrets::MASK.to_owned()
        }
        name if name.ends_with("url") || name == "databases" => {
            text.split_whitespace().map(hide_password).collect::<Vec<_>>().join(" ")
        }
        _ => text.to_owned(),
    }
}

fn hide_password(url: &str) -> String {
    match (url.find("://"), url.rfind('@')) {
        (Some(scheme), Some(at)) if scheme < at => match url[scheme + 3..at].split_once(':') {
            Some((user, _)) => format!("{}://{user}:•••{}", &url[..scheme], &url[at..]),
            None => url.into(),
        },
        _ => url.into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn loaded(variables: &[(&str, &str)], flags: &[(&str, &str)]) -> Result<Config> {
        let owned = |(name, text): &(&str, &str)| ((*name).to_owned(), (*text).to_owned());
        Config::load(None, variables.iter().map(owned), &flags.iter().map(owned).collect::<Vec<_>>())
    }

    #[test]
    fn later_sources_weigh_more_and_say_where_they_are_from() {
        let file = std::env::temp_dir().join(format!("kanzlei-config-{}.toml", std::process::id()));
        std::fs::write(&file, "workers = 2\n[listen]\npublic = '127.0.0.1:1'\ncontrol = '127.0.0.1:2'\n[services.registry]\nbase = 'http://h/'\n[databases.harbour]\nurl = 'mysql://k:s@h/d'\nallow = ['call']\nfunctions = 'TIDE, nextval'\n").expect("write");
        let environment = [("KANZLEI_LISTEN_CONTROL".to_owned(), "127.0.0.1:3".to_owned())];
        let flags = [("workers".to_owned(), "4".to_owned())];
        let config = Config::load(Some(&file), environment, &flags).expect("config");
        std::fs::remove_file(&file).expect("remove");
        assert_eq!((config.listen.public.port(), config.listen.control.port(), config.process.workers), (1, 3, 4));
        assert_eq!(config.bases()["registry"], "http://h");
        let harbour = config.databases().next().expect("a database");
        assert_eq!((harbour.0, harbour.1.url.as_str()), ("harbour", "mysql://k:s@h/d"));
        assert!(harbour.1.allowed.calls && !harbour.1.allowed.definitions && !harbour.1.sees_service);
        assert_eq!(harbour.1.allowed.functions, ["tide", "nextval"].map(str::to_owned).into());
        let shown = config.describe();
        for line in [
            format!("listen.public          127.0.0.1:1                                {}", file.display()),
            "listen.control         127.0.0.1:3                                environment KANZLEI_LISTEN_CONTROL"
                .into(),
            "workers                4                                          flag".into(),
            "jobs.lease             10s                                        default".into(),
            format!("databases.harbour.url  mysql://k:•••@h/d                          {}", file.display()),
        ] {
            assert!(shown.contains(&line), "{line}\n{shown}");
        }
    }

    #[test]
    fn wrong_settings_are_reported_with_their_source() {
        for (name, value, says) in [
            ("worker", "1", "there is no setting `worker`; did you mean `workers`? (flag)"),
            ("jobs.leese", "1s", "did you mean `jobs.lease`?"),
            ("workers", "many", "`workers` is a whole number; it is `many` (flag)"),
            ("workers", "-1", "whole number"),
            ("listen.public", "here", "`listen.public` is an address such as"),
            ("limits.shutdown", "soon", "a duration"),
            ("jobs.lease", "10ms", "at least 1s"),
            ("log.format", "xml", "`text` or `json`"),
            ("services.x.base", "nowhere", "base address"),
            ("databases", "harbour", "NAME=URL"),
            ("databases.x.allow", "all", "missing field `url`"),
            ("network.allow", "10.0.0.0/8, here", "networks in CIDR notation"),
            ("telemetry.ratio", "most", "`telemetry.ratio` is a number"),
            ("databases.x.uri", "a", "no setting"),
        ] {
            let error = loaded(&[], &[(name, value)]).expect_err(name).to_string();
            assert!(error.contains(says), "{error}");
        }
        let error = loaded(&[("KANZLEI_JOBS_LEESE", "1s")], &[]).expect_err("unknown").to_string();
        assert!(error.contains("did you mean `KANZLEI_JOBS_LEASE`?"), "{error}");
        let error = loaded(&[("KANZLEI_WORKERS", "many")], &[]).expect_err("wrong").to_string();
        assert!(error.contains("(environment KANZLEI_WORKERS)"), "{error}");
        assert!(loaded(&[("KANZLEI_TOKEN", "t"), ("PATH", "p"), ("KANZLEI_DATABASES", "a=mysql://h/d")], &[]).is_ok());
        assert_eq!(hide_password("mysql://k:s@h:1/d"), "mysql://k:•••@h:1/d");
    }
}
