//! Links: addresses from which a file of a place can be downloaded for a time. Those of a bucket are signed by its credentials;
//! those of a directory lead to the service, which alone can make them.

use std::time::Duration;

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use kanzlei_model::time::Timestamp;
use subtle::ConstantTimeEq;

use super::place::{Fault, Place};
use crate::queue::Jobs;

/// The part of the public listener that serves links.
pub const PATH: &str = "files/";

/// The address of a file that can be downloaded until an instant.
///
/// # Errors
/// When there is no such file, or the place is unavailable.
pub async fn make(jobs: &Jobs, place: &Place, path: &str, span: Duration, until: Timestamp) -> Result<String, Fault> {
    // A link to nothing would be found out by somebody else.
    place.size(path).await?;
    if let Some(signed) = place.signed(path, span).await? {
        return Ok(signed);
    }
    Ok(format!("{}/~/{PATH}{}", jobs.public_url, token(jobs, place.name(), path, until)))
}

fn token(jobs: &Jobs, place: &str, path: &str, until: Timestamp) -> String {
    let said = format!("{place}\n{}\n{path}", until.as_secs());
    let mac = jobs.made(&format!("link {said}"));
    format!("{}.{}", URL_SAFE_NO_PAD.encode(&said), URL_SAFE_NO_PAD.encode(&mac[..24]))
}

/// What a link leads to.
#[derive(Debug, PartialEq, Eq)]
pub enum Led {
    /// A path in a place.
    To(String, String),
    /// Its time is over.
    Over,
}

/// The place and the path of a link that was made here; nothing for any other text.
pub fn read(jobs: &Jobs, token: &str, now: Timestamp) -> Option<Led> {
    let (said, mac) = token.split_once('.')?;
    let said = String::from_utf8(URL_SAFE_NO_PAD.decode(said).ok()?).ok()?;
    let mac = URL_SAFE_NO_PAD.decode(mac).ok()?;
    let made = jobs.made(&format!("link {said}"));
    if !bool::from(mac.as_slice().ct_eq(&made[..24])) {
        return None;
    }
    let mut parts = said.splitn(3, '\n');
    let (place, until, path) = (parts.next()?, parts.next()?.parse::<i64>().ok()?, parts.next()?);
    Some(match until >= now.as_secs() {
        true => Led::To(place.to_owned(), path.to_owned()),
        false => Led::Over,
    })
}
