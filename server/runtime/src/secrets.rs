//! Secrets: sealed in the database (XChaCha20-Poly1305), opened only in memory, masked wherever text
//! leaves the service.
//!
//! The key comes from `secrets.key` (the environment, in base64) or from the file `secrets.key_file`,
//! which is created when it is missing. The name of a secret is authenticated with its value, so that a
//! sealed value cannot be moved under another name.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::Arc;

use arc_swap::ArcSwap;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use chacha20poly1305::aead::{Aead, AeadCore, KeyInit, OsRng, Payload};
use chacha20poly1305::{XChaCha20Poly1305, XNonce};
use kanzlei_engine::machine::Machine;

pub use kanzlei_lang::confidential::MASK;
use kanzlei_model::value::Value;
use kanzlei_store::Store;
use kanzlei_store::kept::Sealed;

use crate::clock::now;
use crate::error::{Error, Result};

/// The longest secret, in bytes.
pub const LONGEST: usize = 8 * 1024;
/// Shorter secrets are not looked for in texts: they would be found everywhere.
const SHORTEST_MASKED: usize = 4;
/// What sealed texts in the database begin with; JSON never does.
const SEALED: &str = "sealed:";

/// The secrets, opened.
pub struct Secrets {
    cipher: Option<XChaCha20Poly1305>,
    opened: ArcSwap<BTreeMap<String, String>>,
}

impl Secrets {
    /// Secrets with the key of the settings; without one none can be set or used.
    ///
    /// `key` is 32 bytes in base64, `file` a file with the same; `key` comes first.
    pub fn new(key: &str, file: &str) -> Result<Self> {
        let key = match (key, file) {
            ("", "") => None,
            ("", file) => Some(key_file(Path::new(file))?),
            (key, _) => Some(decode(key, "`secrets.key`")?),
        };
        let cipher = key.map(|key| XChaCha20Poly1305::new(&key.into()));
        Ok(Secrets { cipher, opened: ArcSwap::default() })
    }

    /// Secrets with these values, for tests.
    #[cfg(test)]
    pub fn holding(values: &[(&str, &str)]) -> Self {
        let opened = values.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect();
        Secrets { cipher: None, opened: ArcSwap::new(std::sync::Arc::new(opened)) }
    }

    /// Opens all secrets of the database.
    pub async fn load(&self, store: &Store) -> Result<()> {
        let sealed = store.secrets().await?;
        let mut opened = BTreeMap::new();
        for secret in sealed {
            match self.open(&secret) {
                Some(value) => _ = opened.insert(secret.name, value),
                None => tracing::error!(name = secret.name, "a secret cannot be opened with the key of the settings"),
            }
        }
        self.opened.store(Arc::new(opened));
        Ok(())
    }

    fn open(&self, secret: &Sealed) -> Option<String> {
        let nonce: [u8; 24] = secret.nonce.as_slice().try_into().ok()?;
        let payload = Payload { msg: &secret.sealed, aad: secret.name.as_bytes() };
        let opened = self.cipher.as_ref()?.decrypt(&XNonce::from(nonce), payload).ok()?;
        String::from_utf8(opened).ok()
    }

    /// Seals a value and keeps it.
    pub async fn set(&self, store: &Store, name: &str, value: &str) -> Result<()> {
        let Some(cipher) = &self.cipher else {
            return Err(Error::problem(
                409,
                "No key for secrets",
                "set `secrets.key_file` in the service's settings and start it again; the file is made when it is not there",
            ));
        };
        let nonce = XChaCha20Poly1305::generate_nonce(&mut OsRng);
        let payload = Payload { msg: value.as_bytes(), aad: name.as_bytes() };
        let sealed =
            cipher.encrypt(&nonce, payload).map_err(|_| Error::Config("a secret could not be sealed".into()))?;
        store.set_secret(name, &nonce[..], &sealed, now()).await?;
        self.load(store).await
    }

    /// The value of a secret.
    pub fn get(&self, name: &str) -> Option<String> {
        self.opened.load().get(name).cloned()
    }

    /// A text as it may lie in the database: sealed where it holds a secret, or where `always` says so.
    ///
    /// # Errors
    /// Nothing when it must be sealed and there is no key.
    pub fn guard(&self, text: String, always: bool) -> Option<String> {
        if !always && self.mask(text.clone()) == text {
            return Some(text);
        }
        let nonce = XChaCha20Poly1305::generate_nonce(&mut OsRng);
        let sealed = self.cipher.as_ref()?.encrypt(&nonce, text.as_bytes()).ok()?;
        Some(format!("{SEALED}{}", STANDARD.encode([&nonce[..], &sealed].concat())))
    }

    /// The text that was guarded; nothing when it cannot be opened.
    pub fn unguard(&self, text: &str) -> Option<String> {
        let Some(sealed) = text.strip_prefix(SEALED) else { return Some(text.to_owned()) };
        let bytes = STANDARD.decode(sealed).ok()?;
        let (nonce, sealed) = bytes.split_at_checked(24)?;
        let nonce: [u8; 24] = nonce.try_into().ok()?;
        let opened = self.cipher.as_ref()?.decrypt(&XNonce::from(nonce), sealed).ok()?;
        String::from_utf8(opened).ok()
    }

    /// Names of secrets that can be opened.
    pub fn names(&self) -> Vec<String> {
        self.opened.load().keys().cloned().collect()
    }

    /// Puts [`MASK`] in place of every secret in a text, also where JSON or a URL wrote it with escapes.
    pub fn mask(&self, text: String) -> String {
        let opened = self.opened.load();
        opened.values().fold(text, |text, secret| masked(text, secret))
    }

    /// What masks texts of one run: the secrets, and what its workflow declares as confidential.
    pub fn of_run(&self, machine: &Machine, input: &Value) -> RunMask<'_> {
        let mut own = BTreeSet::new();
        let labels = &machine.plan().labels;
        if labels.any {
            machine.plan().input.label.collect(input, &mut own);
            for record in machine.records().iter().take(RECORDS) {
                let Some(shown) = machine.shown(record) else { continue };
                shown.sent.collect(&record.sent, &mut own);
                shown.outcome.collect(&record.outcome, &mut own);
            }
        }
        RunMask { secrets: self, own }
    }
}

/// Steps of a run whose confidential values are looked for in texts.
const RECORDS: usize = 1000;

/// Masks texts that may quote a value of a run, such as the detail of a failure.
pub struct RunMask<'s> {
    secrets: &'s Secrets,
    own: BTreeSet<String>,
}

impl RunMask<'_> {
    /// The text without secrets and confidential values.
    pub fn text(&self, text: String) -> String {
        self.own.iter().fold(self.secrets.mask(text), |text, value| masked(text, value))
    }
}

/// A text with [`MASK`] in place of a secret, however it is written; what is too short stays.
fn masked(mut text: String, secret: &str) -> String {
    if secret.len() < SHORTEST_MASKED {
        return text;
    }
    let mut written = serde_json::Value::from(secret).to_string();
    written.pop();
    let encoded: String = secret.bytes().map(percent_encoded).collect();
    for form in [secret, written.get(1..).unwrap_or_default(), encoded.as_str()] {
        if text.contains(form) {
            text = text.replace(form, MASK);
        }
    }
    text
}

fn percent_encoded(byte: u8) -> String {
    match byte {
        b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => (byte as char).to_string(),
        _ => format!("%{byte:02X}"),
    }
}

fn decode(text: &str, what: &str) -> Result<[u8; 32]> {
    STANDARD
        .decode(text.trim())
        .ok()
        .and_then(|bytes| bytes.try_into().ok())
        .ok_or_else(|| Error::Config(format!("{what} is not 32 bytes in base64; `openssl rand -base64 32` makes one")))
}

/// The key in a file; creates the file when it is missing.
fn key_file(path: &Path) -> Result<[u8; 32]> {
    use std::io::Write;
    use std::os::unix::fs::OpenOptionsExt;
    let failed = |source| Error::Io { what: format!("the key of the secrets, {}", path.display()), source };
    match std::fs::read_to_string(path) {
        Ok(text) => decode(&text, &format!("the content of {}", path.display())),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            let key = XChaCha20Poly1305::generate_key(&mut OsRng);
            let mut file =
                std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path).map_err(failed)?;
            writeln!(file, "{}", STANDARD.encode(key)).map_err(failed)?;
            tracing::info!(path = %path.display(), "a key for secrets was made; keep a copy of it");
            Ok(key.into())
        }
        Err(error) => Err(failed(error)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn secrets(key: &str) -> Secrets {
        Secrets::new(key, "").expect("secrets")
    }

    #[test]
    fn a_secret_opens_only_under_its_name_and_key() {
        let (one, other) = (secrets(&STANDARD.encode([7; 32])), secrets(&STANDARD.encode([8; 32])));
        let nonce = XNonce::from([1; 24]);
        let cipher = one.cipher.as_ref().expect("cipher");
        let sealed = cipher.encrypt(&nonce, Payload { msg: b"hush", aad: b"a" }).expect("sealed");
        let row = |name: &str| Sealed {
            name: name.into(),
            nonce: nonce.to_vec(),
            sealed: sealed.clone(),
            created: kanzlei_model::time::Timestamp::EPOCH,
            changed: kanzlei_model::time::Timestamp::EPOCH,
        };
        assert_eq!(one.open(&row("a")).as_deref(), Some("hush"));
        assert_eq!((one.open(&row("b")), other.open(&row("a"))), (None, None));
        assert!(Secrets::new("short", "").is_err());
    }

    #[test]
    fn texts_with_secrets_are_sealed_and_opened_again() {
        let (one, other) = (secrets(&STANDARD.encode([7; 32])), secrets(&STANDARD.encode([8; 32])));
        one.opened.store(Arc::new([("a".to_owned(), "hush-hush".to_owned())].into()));
        for (text, always, plain) in [("{\"a\":1}", false, true), ("say hush-hush", false, false), ("{}", true, false)]
        {
            let kept = one.guard(text.into(), always).expect("guarded");
            assert_eq!(kept == text, plain, "{kept}");
            assert_eq!(one.unguard(&kept).as_deref(), Some(text));
            assert_eq!(other.unguard(&kept).is_some(), plain);
        }
    }

    #[test]
    fn secrets_are_masked_however_they_are_written() {
        let secrets = secrets(&STANDARD.encode([7; 32]));
        let opened = [("a".to_owned(), "s3\"cret/ö".to_owned()), ("b".to_owned(), "abc".to_owned())];
        secrets.opened.store(Arc::new(opened.into()));
        for (text, wanted) in [
            ("x s3\"cret/ö y", "x ••• y"),
            (r#"{"k":"s3\"cret/ö"}"#, r#"{"k":"•••"}"#),
            ("?k=s3%22cret%2F%C3%B6&n=1", "?k=•••&n=1"),
            ("abc is too short to be told from other text", "abc is too short to be told from other text"),
        ] {
            assert_eq!(secrets.mask(text.into()), wanted);
        }
    }
}
