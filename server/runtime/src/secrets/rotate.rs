//! Seals all that lies in the records with the key of today, where another key sealed it.
//!
//! It can be interrupted and asked for again: what is sealed with the key of today stays as it is. Both keys open values
//! meanwhile, so that nothing stands still. It does not reach what steps keep in databases of their own.

use chacha20poly1305::aead::{Aead, AeadCore, OsRng, Payload};
use chacha20poly1305::{XChaCha20Poly1305, XNonce};
use kanzlei_store::Store;
use kanzlei_store::journal::Run;
use kanzlei_store::reseal::{SealedParts, Texts};

use super::{SEALED, Secrets, bound_to};
use crate::error::{Error, Result};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;

/// How far a rotation is.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Progress {
    /// Values that were sealed anew.
    pub sealed: u64,
    /// Values that were looked at.
    pub examined: u64,
    /// Values that neither key opens.
    pub unopened: u64,
}

/// What becomes of a sealed value.
enum Anew<T> {
    /// The key of today sealed it.
    Stays,
    /// Sealed with the key of today.
    Sealed(T),
    /// No key opens it.
    Unopened,
}

impl Secrets {
    /// Whether there is another key, from which values are rotated.
    pub fn rotates(&self) -> bool {
        self.cipher.is_some() && self.other.is_some()
    }

    fn bytes_anew(&self, sealed: &[u8], aad: &[u8]) -> Anew<Vec<u8>> {
        let opened = |cipher: &XChaCha20Poly1305| -> Option<Vec<u8>> {
            let (nonce, msg) = sealed.split_at_checked(24)?;
            let nonce: [u8; 24] = nonce.try_into().ok()?;
            cipher.decrypt(&XNonce::from(nonce), Payload { msg, aad }).ok()
        };
        let Some(own) = &self.cipher else { return Anew::Unopened };
        if opened(own).is_some() {
            return Anew::Stays;
        }
        let plain = self.other.as_ref().and_then(|(other, _)| opened(other));
        let anew = plain.and_then(|plain| {
            let nonce = XChaCha20Poly1305::generate_nonce(&mut OsRng);
            let sealed = own.encrypt(&nonce, Payload { msg: &plain, aad }).ok()?;
            Some([&nonce[..], &sealed].concat())
        });
        anew.map_or(Anew::Unopened, Anew::Sealed)
    }

    fn text_anew(&self, text: &str) -> Anew<String> {
        let Some(sealed) = text.strip_prefix(SEALED) else { return Anew::Stays };
        let Ok(sealed) = STANDARD.decode(sealed) else { return Anew::Unopened };
        match self.bytes_anew(&sealed, &[]) {
            Anew::Stays => Anew::Stays,
            Anew::Sealed(bytes) => Anew::Sealed(format!("{SEALED}{}", STANDARD.encode(bytes))),
            Anew::Unopened => Anew::Unopened,
        }
    }

    /// Seals everything with the key of today; `report` learns how far it is.
    ///
    /// # Errors
    /// When there is no other key, or the database is unavailable.
    pub async fn rotate(&self, store: &Store, report: impl Fn(Progress)) -> Result<Progress> {
        let Some(print) = self.print.filter(|_| self.rotates()) else {
            let detail = "set `secrets.key_file` to the new key and `secrets.other_key_file` to the former one, in all processes";
            return Err(Error::problem(409, "No key to rotate to", detail));
        };
        let mut rotation = Rotation { secrets: self, store, progress: Progress::default(), report };
        rotation.secrets().await?;
        for texts in Texts::ALL {
            rotation.texts(texts).await?;
        }
        rotation.deliveries().await?;
        rotation.answers().await?;
        rotation.journal().await?;
        let done = rotation.progress;
        if done.unopened == 0 {
            store.set_key_print(&print, true).await?;
        }
        self.load(store).await?;
        Ok(done)
    }
}

struct Rotation<'r, F> {
    secrets: &'r Secrets,
    store: &'r Store,
    progress: Progress,
    report: F,
}

impl<F: Fn(Progress)> Rotation<'_, F> {
    /// Counts a value; returns it where it was sealed anew.
    fn count<T>(&mut self, anew: Anew<T>) -> Option<T> {
        self.progress.examined += 1;
        match anew {
            Anew::Stays => None,
            Anew::Sealed(value) => {
                self.progress.sealed += 1;
                Some(value)
            }
            Anew::Unopened => {
                self.progress.unopened += 1;
                None
            }
        }
    }

    async fn secrets(&mut self) -> Result<()> {
        for secret in self.store.secrets().await? {
            let whole = [secret.nonce.as_slice(), &secret.sealed].concat();
            let bound = bound_to(&secret.name, &secret.purposes);
            let anew = self.secrets.bytes_anew(&whole, bound.as_bytes());
            if let Some((nonce, sealed)) = self.count(anew).as_deref().and_then(|anew| anew.split_at_checked(24)) {
                self.store.replace_secret(&secret.name, &secret.nonce, nonce, sealed).await?;
            }
        }
        (self.report)(self.progress);
        Ok(())
    }

    async fn texts(&mut self, of: Texts) -> Result<()> {
        let mut after = None;
        loop {
            let page = self.store.sealed_texts(of, after).await?;
            let Some((last, _)) = page.last() else { return Ok(()) };
            after = Some(*last);
            for (job, text) in &page {
                let anew = self.secrets.text_anew(text);
                if let Some(anew) = self.count(anew) {
                    self.store.replace_text(of, *job, text, &anew).await?;
                }
            }
            (self.report)(self.progress);
        }
    }

    /// The parts anew, where all of them can be opened and some changed.
    fn parts(&mut self, parts: &SealedParts) -> Option<SealedParts> {
        let mut anew = parts.clone();
        let mut changed = false;
        for text in &mut anew.texts {
            let sealed = self.secrets.text_anew(text);
            if let Some(sealed) = self.count(sealed) {
                (*text, changed) = (sealed, true);
            }
        }
        let sealed = self.secrets.bytes_anew(&anew.bytes, &[]);
        if let Some(sealed) = self.count(sealed) {
            (anew.bytes, changed) = (sealed, true);
        }
        changed.then_some(anew)
    }

    async fn deliveries(&mut self) -> Result<()> {
        let mut after = Vec::new();
        loop {
            let page = self.store.sealed_deliveries(&after).await?;
            let Some(last) = page.last() else { return Ok(()) };
            after = last.key.clone();
            for parts in &page {
                if let Some(anew) = self.parts(parts) {
                    self.store.replace_delivery(&anew).await?;
                }
            }
            (self.report)(self.progress);
        }
    }

    async fn answers(&mut self) -> Result<()> {
        let mut after = Vec::new();
        loop {
            let page = self.store.sealed_answers(&after).await?;
            let Some(last) = page.last() else { return Ok(()) };
            after = last.key.clone();
            for parts in &page {
                if let Some(anew) = self.parts(parts) {
                    self.store.replace_answer(&anew).await?;
                }
            }
            (self.report)(self.progress);
        }
    }

    async fn journal(&mut self) -> Result<()> {
        let mut after = 0;
        loop {
            let page = self.store.segments_after(after).await?;
            let Some(last) = page.last() else { return Ok(()) };
            after = last.id;
            for segment in &page {
                let mut changed = false;
                let mut runs: Vec<Run> = segment.runs.clone();
                for run in &mut runs {
                    let Some(sealed) = &run.sealed else { continue };
                    let anew = self.secrets.text_anew(sealed);
                    if let Some(anew) = self.count(anew) {
                        (run.sealed, changed) = (Some(anew), true);
                    }
                }
                if changed {
                    self.store.replace_segment(segment, &runs).await?;
                }
            }
            (self.report)(self.progress);
        }
    }
}
