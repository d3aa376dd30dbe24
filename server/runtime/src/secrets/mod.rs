//! Secrets: sealed in the database (XChaCha20-Poly1305), opened only in memory, used for what they are bound to,
//! masked wherever text leaves the service ([`mask`]).
//!
//! The key comes from `secrets.key` (the environment, in base64) or from the file `secrets.key_file`,
//! which is made when nothing was sealed before. The name of a secret and what it may be used for are authenticated
//! with its value, so that a sealed value cannot be moved under another name or to another purpose.

mod grams;
pub mod mask;
mod pseudonym;
pub mod rotate;

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use arc_swap::ArcSwap;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use chacha20poly1305::aead::{Aead, AeadCore, KeyInit, OsRng, Payload};
use chacha20poly1305::{XChaCha20Poly1305, XNonce};
use hmac::{Hmac, Mac};
pub use kanzlei_lang::confidential::MASK;
use kanzlei_lang::document::purpose::Purpose;
use kanzlei_store::Store;
use kanzlei_store::kept::Sealed;

use crate::clock::now;
use crate::error::{Error, Result};
use mask::Forms;
use sha2::Sha256;

/// The longest secret, in bytes: a chain of certificates with its key fits.
pub const LONGEST: usize = 16 * 1024;
/// The most bytes of the purposes of one secret.
pub const MOST_PURPOSES: usize = 4000;
/// What the print of a key is made of.
const PRINT: &str = "print of the key";
/// What to do about a key that is not there.
const RESTORE: &str = "restore it from its copy, or set `secrets.replace_key=true` for one start: what the old key sealed is lost, and each secret must be set again";
/// What sealed texts in the database begin with; JSON never does.
const SEALED: &str = "sealed:";

/// The secrets, opened.
pub struct Secrets {
    cipher: Option<XChaCha20Poly1305>,
    /// What the records know of the key.
    print: Option<[u8; 32]>,
    /// Makes pseudonyms of names.
    pseudonyms: Option<Hmac<Sha256>>,
    /// Opens what another key sealed, while keys are rotated; with its print.
    other: Option<(XChaCha20Poly1305, [u8; 32])>,
    opened: ArcSwap<Opened>,
}

#[derive(Default)]
struct Opened {
    by_name: BTreeMap<String, Secret>,
    forms: Forms,
}

struct Secret {
    value: String,
    purposes: Vec<Purpose>,
}

/// Why a secret is not used.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
pub enum Withheld {
    /// There is none of that name.
    #[error("there is no secret `{name}`; set it with `kanzlei secrets set {name} --for {purpose}`")]
    Missing {
        /// Its name.
        name: String,
        /// What it was to be used for.
        purpose: Purpose,
    },
    /// It is bound to other purposes.
    #[error(
        "the secret `{name}` is not for this; whoever knows its value sets it again: `kanzlei secrets set {name} --for {purpose}`"
    )]
    Unbound {
        /// Its name.
        name: String,
        /// What it was to be used for.
        purpose: Purpose,
    },
}

impl Secrets {
    /// Secrets with the key of the settings; without one none can be set or used.
    ///
    /// `key` is 32 bytes in base64, `file` a file with the same; `key` comes first. The file is made when it is not
    /// there, unless something was `sealed` with another key before.
    ///
    /// # Errors
    /// A key that cannot be read, a file that others can read, and one that is missing although it was used.
    pub fn new(key: &str, file: &str, sealed: bool) -> Result<Self> {
        let key = match (key, file) {
            ("", "") => None,
            ("", file) => Some(key_file(Path::new(file), sealed)?),
            (key, _) => Some(decode(key, "`secrets.key`")?),
        };
        Ok(Secrets {
            cipher: key.map(|key| XChaCha20Poly1305::new(&key.into())),
            print: key.and_then(|key| print_of(&key)),
            pseudonyms: key.and_then(|key| pseudonym::keyed(&key)),
            other: None,
            opened: ArcSwap::default(),
        })
    }

    /// The same, which also open what another key sealed; the settings name it like the first.
    ///
    /// # Errors
    /// A key that cannot be read.
    pub fn also_opening(self, key: &str, file: &str) -> Result<Self> {
        let key = match (key, file) {
            ("", "") => return Ok(self),
            ("", file) => key_file(Path::new(file), true)?,
            (key, _) => decode(key, "`secrets.other_key`")?,
        };
        let other = print_of(&key).map(|print| (XChaCha20Poly1305::new(&key.into()), print));
        Ok(Secrets { other, ..self })
    }

    /// The ciphers that open values, the one that seals them first.
    fn ciphers(&self) -> impl Iterator<Item = &XChaCha20Poly1305> {
        self.cipher.iter().chain(self.other.iter().map(|(cipher, _)| cipher))
    }

    /// Secrets with the key that the records know, or with a first one. `replace` accepts another one, and so does another key
    /// that is the one they know.
    ///
    /// # Errors
    /// As [`Secrets::new`]; and a key that is not the one that sealed what lies in the records.
    pub async fn with_key_of(store: &Store, key: (&str, &str), other: (&str, &str), replace: bool) -> Result<Self> {
        let known = store.key_print().await?.filter(|_| !replace);
        let secrets = Secrets::new(key.0, key.1, known.is_some())?.also_opening(other.0, other.1)?;
        let by_other = |known: &Vec<u8>| secrets.other.as_ref().is_some_and(|(_, print)| print[..] == known[..]);
        if known.as_ref().is_some_and(by_other) && secrets.print.is_some() {
            return Ok(secrets);
        }
        match (known, secrets.print) {
            (None, Some(print)) => store.set_key_print(&print, replace).await?,
            (Some(known), given) if given.is_none_or(|given| given[..] != known[..]) => {
                let what = match given {
                    Some(_) => "the key of the secrets is not the one that sealed what lies in the database",
                    None => "the database holds what a key of the secrets sealed, and the settings name none",
                };
                return Err(Error::Config(format!("{what}; {RESTORE}")));
            }
            _ => {}
        }
        Ok(secrets)
    }

    /// The secrets for an examination, and whether there is a key: nothing is recorded, and no file is made.
    ///
    /// # Errors
    /// As [`Secrets::with_key_of`].
    pub async fn examined(store: &Store, key: &str, file: &str, other: (&str, &str)) -> Result<(Self, bool)> {
        // A schema that is not made yet records no key.
        let known = store.key_print().await.unwrap_or_default();
        let file = if known.is_some() || Path::new(file).exists() { file } else { "" };
        let secrets = Secrets::new(key, file, true)?.also_opening(other.0, other.1)?;
        let by_other = |known: &[u8]| secrets.other.as_ref().is_some_and(|(_, print)| print[..] == *known);
        if let (Some(known), given) = (known, secrets.print)
            && given.is_none_or(|given| given[..] != known[..])
            && !by_other(&known)
        {
            return Err(Error::Config(format!(
                "the key is not the one that sealed what lies in the database; {RESTORE}"
            )));
        }
        // Those that cannot be opened are logged.
        let _ = secrets.load(store).await;
        let keyed = secrets.cipher.is_some();
        Ok((secrets, keyed))
    }

    /// Secrets with these values, for tests.
    #[cfg(test)]
    pub fn holding(values: &[(&str, &str, &str)]) -> Self {
        let secrets = Secrets { cipher: None, print: None, pseudonyms: None, other: None, opened: ArcSwap::default() };
        secrets.hold(values);
        secrets
    }

    /// Replaces the values: name, value, purposes.
    #[cfg(test)]
    fn hold(&self, values: &[(&str, &str, &str)]) {
        let secret = |(name, value, purposes): &(&str, &str, &str)| {
            ((*name).to_owned(), Secret { value: (*value).to_owned(), purposes: read_purposes(purposes) })
        };
        self.opened.store(Arc::new(Opened::new(values.iter().map(secret).collect())));
    }

    /// Opens all secrets of the database.
    pub async fn load(&self, store: &Store) -> Result<()> {
        let sealed = store.secrets().await?;
        let mut opened = BTreeMap::new();
        for secret in sealed {
            match self.open(&secret) {
                Some(value) => {
                    let purposes = read_purposes(&secret.purposes);
                    opened.insert(secret.name, Secret { value, purposes });
                }
                None => tracing::error!(name = secret.name, "a secret cannot be opened with the key of the settings"),
            }
        }
        self.opened.store(Arc::new(Opened::new(opened)));
        Ok(())
    }

    fn open(&self, secret: &Sealed) -> Option<String> {
        let nonce: [u8; 24] = secret.nonce.as_slice().try_into().ok()?;
        let bound = bound_to(&secret.name, &secret.purposes);
        let payload = Payload { msg: &secret.sealed, aad: bound.as_bytes() };
        let opened = self.ciphers().find_map(|cipher| {
            let payload = Payload { msg: payload.msg, aad: payload.aad };
            cipher.decrypt(&XNonce::from(nonce), payload).ok()
        });
        String::from_utf8(opened?).ok()
    }

    /// Seals a value and keeps it, with what it may be used for.
    pub async fn set(&self, store: &Store, name: &str, value: &str, purposes: &[Purpose]) -> Result<()> {
        let Some(cipher) = &self.cipher else {
            return Err(Error::problem(
                409,
                "No key for secrets",
                "set `secrets.key_file` in the service's settings and start it again; the file is made when it is not there",
            ));
        };
        let nonce = XChaCha20Poly1305::generate_nonce(&mut OsRng);
        let purposes = purposes.iter().map(Purpose::to_string).collect::<Vec<_>>().join(" ");
        let bound = bound_to(name, &purposes);
        let payload = Payload { msg: value.as_bytes(), aad: bound.as_bytes() };
        let sealed =
            cipher.encrypt(&nonce, payload).map_err(|_| Error::Config("a secret could not be sealed".into()))?;
        store.set_secret(name, &nonce[..], &sealed, &purposes, now()).await?;
        self.load(store).await
    }

    /// The value of a secret, for one of the purposes it is bound to.
    ///
    /// # Errors
    /// Where there is none of that name, and where it is not bound to the purpose.
    pub fn get(&self, name: &str, purpose: Purpose) -> std::result::Result<String, Withheld> {
        let opened = self.opened.load();
        let name = name.to_owned();
        match opened.by_name.get(&name) {
            None => Err(Withheld::Missing { name, purpose }),
            Some(secret) if secret.purposes.iter().any(|bound| bound.covers(&purpose)) => Ok(secret.value.clone()),
            Some(_) => Err(Withheld::Unbound { name, purpose }),
        }
    }

    /// Bytes sealed, where there is a key.
    pub fn seal(&self, bytes: &[u8]) -> Option<Vec<u8>> {
        let nonce = XChaCha20Poly1305::generate_nonce(&mut OsRng);
        let sealed = self.cipher.as_ref()?.encrypt(&nonce, bytes).ok()?;
        Some([&nonce[..], &sealed].concat())
    }

    /// Bytes that were sealed; nothing when they cannot be opened.
    pub fn unseal(&self, bytes: &[u8]) -> Option<Vec<u8>> {
        let (nonce, sealed) = bytes.split_at_checked(24)?;
        let nonce: [u8; 24] = nonce.try_into().ok()?;
        self.ciphers().find_map(|cipher| cipher.decrypt(&XNonce::from(nonce), sealed).ok())
    }

    /// A text as it may lie in the database: sealed where it holds a secret, or where `always` says so.
    ///
    /// # Errors
    /// Nothing when it must be sealed and there is no key.
    pub fn guard(&self, text: String, always: bool) -> Option<String> {
        if !always && self.mask(text.clone()) == text {
            return Some(text);
        }
        Some(format!("{SEALED}{}", STANDARD.encode(self.seal(text.as_bytes())?)))
    }

    /// The text that was guarded; nothing when it cannot be opened.
    pub fn unguard(&self, text: &str) -> Option<String> {
        let Some(sealed) = text.strip_prefix(SEALED) else { return Some(text.to_owned()) };
        String::from_utf8(self.unseal(&STANDARD.decode(sealed).ok()?)?).ok()
    }

    /// Secrets that can be opened, and what each may be used for.
    pub fn purposes(&self) -> BTreeMap<String, Vec<Purpose>> {
        let opened = self.opened.load();
        opened.by_name.iter().map(|(name, secret)| (name.clone(), secret.purposes.clone())).collect()
    }

    /// Puts [`MASK`] in place of every secret in a text, also where it is written in other ways.
    pub fn mask(&self, text: String) -> String {
        self.opened.load().forms.mask(text)
    }

    /// Whether bytes hold a secret, however it is written.
    pub fn occur_in(&self, bytes: &[u8]) -> bool {
        self.opened.load().forms.occur_in(bytes)
    }

    /// The same for bytes; nothing when they hold no secret.
    pub fn mask_bytes(&self, bytes: &[u8]) -> Option<Vec<u8>> {
        self.opened.load().forms.mask_bytes(bytes)
    }
}

impl Opened {
    fn new(by_name: BTreeMap<String, Secret>) -> Self {
        let forms = Forms::of(by_name.values().map(|secret| secret.value.as_str()));
        Opened { by_name, forms }
    }
}

/// What the records know of a key.
fn print_of(key: &[u8; 32]) -> Option<[u8; 32]> {
    let mac = <Hmac<Sha256> as Mac>::new_from_slice(key).ok()?.chain_update(PRINT);
    Some(mac.finalize().into_bytes().into())
}

/// What is authenticated with the value of a secret.
fn bound_to(name: &str, purposes: &str) -> String {
    format!("{name}\n{purposes}")
}

/// Purposes as they lie in the database; what is none binds to nothing.
fn read_purposes(text: &str) -> Vec<Purpose> {
    text.split(' ').filter_map(|purpose| purpose.parse().ok()).collect()
}

fn decode(text: &str, what: &str) -> Result<[u8; 32]> {
    STANDARD
        .decode(text.trim())
        .ok()
        .and_then(|bytes| bytes.try_into().ok())
        .ok_or_else(|| Error::Config(format!("{what} is not 32 bytes in base64; `openssl rand -base64 32` makes one")))
}

/// The key in a file. A missing file is made, unless something was sealed with the key that it held.
fn key_file(path: &Path, sealed: bool) -> Result<[u8; 32]> {
    use std::io::{Read, Write};
    use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
    let failed = |source| Error::Io { what: format!("the key of the secrets, {}", path.display()), source };
    match std::fs::File::open(path) {
        Ok(mut file) => {
            let mode = file.metadata().map_err(failed)?.permissions().mode() & 0o777;
            if mode & 0o077 != 0 {
                let path = path.display();
                let what = format!("{path}, the key of the secrets, can be read by others (mode {mode:04o})");
                return Err(Error::Config(format!(
                    "{what}; run `chmod 600 {path}`, and replace secrets that others may have read"
                )));
            }
            let mut text = String::new();
            file.read_to_string(&mut text).map_err(failed)?;
            decode(&text, &format!("the content of {}", path.display()))
        }
        Err(error) if error.kind() == std::io::ErrorKind::NotFound && sealed => {
            let path = path.display();
            Err(Error::Config(format!(
                "{path} is missing, and what lies in the database is sealed with its key; {RESTORE}"
            )))
        }
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
        Secrets::new(key, "", false).expect("secrets")
    }

    #[test]
    fn a_secret_opens_only_under_its_name_and_key() {
        let (one, other) = (secrets(&STANDARD.encode([7; 32])), secrets(&STANDARD.encode([8; 32])));
        let nonce = XNonce::from([1; 24]);
        let cipher = one.cipher.as_ref().expect("cipher");
        let sealed = cipher.encrypt(&nonce, Payload { msg: b"hush", aad: b"a\nsigning" }).expect("sealed");
        let row = |name: &str, purposes: &str| Sealed {
            name: name.into(),
            purposes: purposes.into(),
            nonce: nonce.to_vec(),
            sealed: sealed.clone(),
            created: kanzlei_model::time::Timestamp::EPOCH,
            changed: kanzlei_model::time::Timestamp::EPOCH,
        };
        assert_eq!(one.open(&row("a", "signing")).as_deref(), Some("hush"));
        for (secrets, name, purposes) in [
            (&one, "b", "signing"),
            (&one, "a", "signing https://evil.example"),
            (&one, "a", ""),
            (&other, "a", "signing"),
        ] {
            assert_eq!(secrets.open(&row(name, purposes)), None, "{name} {purposes}");
        }
        assert!(Secrets::new("short", "", false).is_err());
    }

    #[test]
    fn a_secret_is_used_for_what_it_is_bound_to() {
        let secrets =
            Secrets::holding(&[("rates", "r-value", "https://rates.example/v1 signing"), ("unbound", "u-value", "")]);
        for (name, purpose, wanted) in [
            ("rates", "https://rates.example/v1", "r-value"),
            ("rates", "https://rates.example/v1/today", "r-value"),
            ("rates", "signing", "r-value"),
            ("rates", "https://rates.example", "is not for this"),
            ("rates", "https://evil.example", "is not for this"),
            ("unbound", "https://rates.example", "is not for this"),
            ("none", "signing", "there is no secret `none`"),
        ] {
            let got = secrets.get(name, purpose.parse().expect("a purpose"));
            let shown = got.unwrap_or_else(|withheld| withheld.to_string());
            assert!(shown.contains(wanted), "{name} {purpose}: {shown}");
        }
    }

    #[test]
    fn a_key_file_is_private_and_not_made_anew() {
        use std::os::unix::fs::PermissionsExt;
        let file = std::env::temp_dir().join(format!("kanzlei-key-{}", std::process::id()));
        let path = file.display().to_string();
        let start = |sealed| Secrets::new("", &path, sealed).map(|secrets| secrets.print);
        let missing = start(true).expect_err("missing").to_string();
        assert!(missing.contains("is missing") && missing.contains("secrets.replace_key"), "{missing}");
        let made = start(false).expect("made");
        assert_eq!(start(true).expect("read"), made);
        std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o640)).expect("mode");
        let open = start(true).expect_err("readable").to_string();
        std::fs::remove_file(&file).expect("removed");
        assert!(open.contains("can be read by others (mode 0640)") && open.contains("chmod 600"), "{open}");
    }

    #[test]
    fn texts_with_secrets_are_sealed_and_opened_again() {
        let (one, other) = (secrets(&STANDARD.encode([7; 32])), secrets(&STANDARD.encode([8; 32])));
        one.hold(&[("a", "hush-hush", "")]);
        for (text, always, plain) in [("{\"a\":1}", false, true), ("say hush-hush", false, false), ("{}", true, false)]
        {
            let kept = one.guard(text.into(), always).expect("guarded");
            assert_eq!(kept == text, plain, "{kept}");
            assert_eq!(one.unguard(&kept).as_deref(), Some(text));
            assert_eq!(other.unguard(&kept).is_some(), plain);
        }
    }
}
