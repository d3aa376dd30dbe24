//! What a client prefers: `Prefer: respond-async, wait=5` (RFC 7240).

use std::time::Duration;

use actix_web::http::header::{HeaderMap, HeaderName};

static PREFER: HeaderName = HeaderName::from_static("prefer");
/// The longest a client may wait in one request.
const MOST_WAIT: Duration = Duration::from_secs(60);

/// What a client prefers (RFC 7240 §4).
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Prefer {
    pub later: bool,
    pub wait: Option<Duration>,
}

impl Prefer {
    pub fn of(headers: &HeaderMap) -> Self {
        let mut prefer = Prefer::default();
        for value in headers.get_all(&PREFER).filter_map(|value| value.to_str().ok()) {
            for part in value.split(',').map(|part| part.split(';').next().unwrap_or_default().trim()) {
                let (name, value) =
                    part.split_once('=').map_or((part, ""), |(name, value)| (name.trim(), value.trim()));
                match name.to_ascii_lowercase().as_str() {
                    "respond-async" => prefer.later = true,
                    // Of a preference that comes twice the first counts (RFC 7240 §2).
                    "wait" if prefer.wait.is_none() => {
                        let seconds = value.trim_matches('"').parse::<u64>().ok();
                        prefer.wait = seconds.map(|seconds| Duration::from_secs(seconds).min(MOST_WAIT));
                    }
                    _ => {}
                }
            }
        }
        prefer
    }
}

#[cfg(test)]
mod tests {
    use actix_web::http::header::HeaderValue;

    use super::*;

    #[test]
    fn preferences_are_read_as_the_rfc_says() {
        for (values, later, wait) in [
            (&["respond-async"][..], true, None),
            (&["respond-async, wait=5"], true, Some(5)),
            (&["return=minimal", "Wait=\"7\"; x=1, RESPOND-ASYNC"], true, Some(7)),
            (&["wait=100000"], false, Some(60)),
            (&["wait=3, wait=9"], false, Some(3)),
            (&["wait=soon, handling=lenient"], false, None),
        ] {
            let mut headers = HeaderMap::new();
            for value in values {
                headers.append(HeaderName::from_static("prefer"), HeaderValue::from_static(value));
            }
            assert_eq!(Prefer::of(&headers), Prefer { later, wait: wait.map(Duration::from_secs) }, "{values:?}");
        }
    }
}
