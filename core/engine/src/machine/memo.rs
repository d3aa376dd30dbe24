//! Outcomes as JSON, so that a run can be resumed from what was recorded of it: the same
//! machine, fed with the same outcomes, stands where it stood.
//!
//! ```
//! use kanzlei_engine::machine::Outcome;
//! let json = Outcome::Waited.to_json();
//! assert_eq!(Outcome::from_json(&json), Some(Outcome::Waited));
//! ```

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde_json::{Value as Json, json};

use super::{Address, Answer, Arrival, Batch, Cancellation, Data, EffectError, Kept, Outcome, Queued, Rows};
use kanzlei_model::file::{File, of_record, to_record};
use kanzlei_model::run::FailureKind;
use kanzlei_model::value::Value;

fn fault(error: &EffectError) -> Json {
    json!({"kind": error.kind, "detail": error.detail})
}

fn known(json: &Json) -> Option<EffectError> {
    let kind = FailureKind::of(json.get("kind")?.as_str()?)?;
    Some(EffectError { kind, detail: json.get("detail")?.as_str()?.to_owned() })
}

/// Bytes as text where they are UTF-8, else in base64.
fn bytes(body: &[u8]) -> Json {
    match std::str::from_utf8(body) {
        Ok(text) => json!({"text": text}),
        Err(_) => json!({"base64": STANDARD.encode(body)}),
    }
}

fn read_bytes(json: &Json) -> Option<Vec<u8>> {
    match (json.get("text"), json.get("base64")) {
        (Some(text), _) => Some(text.as_str()?.as_bytes().to_vec()),
        (None, Some(encoded)) => STANDARD.decode(encoded.as_str()?).ok(),
        _ => None,
    }
}

/// Bytes, or what is known of a file.
fn data(data: &Data) -> Json {
    match data {
        Data::Bytes(body) => bytes(body),
        Data::File(file) => match &file.held {
            Some(held) => json!({"file": file.to_json(), "held": bytes(held)}),
            None => json!({"file": file.to_json()}),
        },
    }
}

fn read_data(json: &Json) -> Option<Data> {
    let Some(file) = json.get("file") else { return read_bytes(json).map(Data::Bytes) };
    let held = match json.get("held") {
        Some(held) => Some(read_bytes(held)?.into()),
        None => None,
    };
    Some(Data::File(File { held, ..File::of_json(file)? }))
}

fn texts(json: &Json) -> Option<Vec<String>> {
    json.as_array()?.iter().map(|item| item.as_str().map(str::to_owned)).collect()
}

impl Outcome {
    /// One object with one member that names the kind.
    pub fn to_json(&self) -> Json {
        match self {
            Outcome::Called(Ok(answer)) => json!({"called": {
                "status": answer.status, "headers": answer.headers, "body": data(&answer.body),
            }}),
            Outcome::Called(Err(failed)) => json!({"call-failed": fault(failed)}),
            Outcome::Waited => json!({"waited": {}}),
            Outcome::Queried(Ok(all)) => {
                let all: Vec<Json> = all
                    .iter()
                    .map(|rows| {
                        let list: Vec<Json> = rows.rows.iter().map(Value::to_serde).collect();
                        json!({"rows": list, "count": rows.count, "id": rows.id})
                    })
                    .collect();
                json!({"queried": all})
            }
            Outcome::Queried(Err(failed)) => json!({"query-failed": fault(failed)}),
            Outcome::Filed(Ok(value)) => json!({"filed": to_record(value)}),
            Outcome::Filed(Err(failed)) => json!({"file-failed": fault(failed)}),
            // The rows are read again.
            Outcome::Rows(Ok(batch)) => json!({"rows": {"count": batch.count, "last": batch.last}}),
            Outcome::Rows(Err(failed)) => json!({"rows-failed": fault(failed)}),
            Outcome::Kept(Ok(kept)) => {
                json!({"kept": {"version": kept.version, "values": kept.values.to_serde(), "stored": kept.stored}})
            }
            Outcome::Kept(Err(detail)) => json!({"keep-failed": detail}),
            Outcome::Queued(Ok(queued)) => {
                json!({"queued": {"ids": queued.ids, "group": queued.group, "base": queued.base}})
            }
            Outcome::Queued(Err(failed)) => json!({"queue-failed": fault(failed)}),
            Outcome::Cancelled(Ok(done)) => json!({"cancelled": {
                "cancelled": done.cancelled, "begun": done.begun, "done": done.done, "unknown": done.unknown,
            }}),
            Outcome::Cancelled(Err(failed)) => json!({"cancel-failed": fault(failed)}),
            Outcome::Opened(Ok(address)) => json!({"opened": {"id": address.id, "url": address.url}}),
            Outcome::Opened(Err(failed)) => json!({"open-failed": fault(failed)}),
            Outcome::Arrived(Some(arrival)) => {
                json!({"arrived": {"media": arrival.media, "body": bytes(&arrival.body)}})
            }
            Outcome::Arrived(None) => json!({"nothing-came": {}}),
            Outcome::Woken(Ok(job)) => json!({"woken": job}),
            Outcome::Woken(Err(failed)) => json!({"wake-failed": fault(failed)}),
            Outcome::Interrupted => json!({"interrupted": {}}),
        }
    }

    /// The outcome; nothing for what [`Outcome::to_json`] never writes.
    pub fn from_json(json: &Json) -> Option<Self> {
        let (kind, inner) = json.as_object()?.iter().next()?;
        Some(match kind.as_str() {
            "called" => {
                let headers = inner.get("headers")?.as_array()?.iter().map(|pair| {
                    let pair = texts(pair)?;
                    let [name, value] = <[String; 2]>::try_from(pair).ok()?;
                    Some((name, value))
                });
                Outcome::Called(Ok(Answer {
                    status: u16::try_from(inner.get("status")?.as_u64()?).ok()?,
                    headers: headers.collect::<Option<_>>()?,
                    body: read_data(inner.get("body")?)?,
                }))
            }
            "call-failed" => Outcome::Called(Err(known(inner)?)),
            "waited" => Outcome::Waited,
            "queried" => {
                let all = inner.as_array()?.iter().map(|rows| {
                    Some(Rows {
                        rows: rows.get("rows")?.as_array()?.iter().map(Value::from_json).collect(),
                        count: rows.get("count")?.as_u64()?,
                        id: rows.get("id")?.as_i64(),
                    })
                });
                Outcome::Queried(Ok(all.collect::<Option<_>>()?))
            }
            "filed" => Outcome::Filed(Ok(of_record(inner.as_str()?)?)),
            "rows" => Outcome::Rows(Ok(Batch {
                rows: Vec::new(),
                count: inner.get("count")?.as_u64()?,
                last: inner.get("last")?.as_bool()?,
            })),
            "rows-failed" => Outcome::Rows(Err(known(inner)?)),
            "file-failed" => Outcome::Filed(Err(known(inner)?)),
            "query-failed" => Outcome::Queried(Err(known(inner)?)),
            "kept" => Outcome::Kept(Ok(Kept {
                version: inner.get("version")?.as_u64()?,
                values: Value::from_json(inner.get("values")?),
                stored: inner.get("stored")?.as_bool()?,
            })),
            "keep-failed" => Outcome::Kept(Err(inner.as_str()?.to_owned())),
            "queued" => Outcome::Queued(Ok(Queued {
                ids: texts(inner.get("ids")?)?,
                group: inner.get("group")?.as_str().map(str::to_owned),
                base: inner.get("base")?.as_str()?.to_owned(),
            })),
            "queue-failed" => Outcome::Queued(Err(known(inner)?)),
            "cancelled" => Outcome::Cancelled(Ok(Cancellation {
                cancelled: texts(inner.get("cancelled")?)?,
                begun: texts(inner.get("begun")?)?,
                done: texts(inner.get("done")?)?,
                unknown: texts(inner.get("unknown")?)?,
            })),
            "cancel-failed" => Outcome::Cancelled(Err(known(inner)?)),
            "opened" => Outcome::Opened(Ok(Address {
                id: inner.get("id")?.as_str()?.to_owned(),
                url: inner.get("url")?.as_str()?.to_owned(),
            })),
            "open-failed" => Outcome::Opened(Err(known(inner)?)),
            "arrived" => Outcome::Arrived(Some(Arrival {
                media: inner.get("media")?.as_str()?.to_owned(),
                body: read_bytes(inner.get("body")?)?,
            })),
            "nothing-came" => Outcome::Arrived(None),
            "woken" => Outcome::Woken(Ok(inner.as_str().map(str::to_owned))),
            "wake-failed" => Outcome::Woken(Err(known(inner)?)),
            "interrupted" => Outcome::Interrupted,
            _ => return None,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_outcome_comes_back_as_it_was() {
        let queue = |kind| EffectError { kind, detail: "so".into() };
        let ids = || vec!["a".to_owned(), "b".to_owned()];
        let values = Value::object([("n", Value::Int(i64::MAX)), ("x", Value::Num(1.5)), ("no", Value::Null)]);
        for outcome in [
            Outcome::Called(Ok(Answer { status: 204, headers: vec![("a".into(), "b".into())], body: Data::default() })),
            Outcome::Called(Ok(Answer { status: 200, headers: vec![], body: Data::Bytes(b"\xff\x00".to_vec()) })),
            Outcome::Filed(Ok(Value::list(vec![
                File { held: None, ..File::held("a.pdf", "application/pdf", *b"%PDF") }.into(),
            ]))),
            Outcome::Filed(Err(EffectError { kind: FailureKind::Missing, detail: "gone".into() })),
            Outcome::Called(Ok(Answer {
                status: 200,
                headers: vec![],
                body: Data::File(File { held: None, ..File::held("a.pdf", "application/pdf", *b"%PDF") }),
            })),
            Outcome::Called(Ok(Answer {
                status: 200,
                headers: vec![],
                body: Data::File(File::held(None, "image/png", *b"\x89P")),
            })),
            Outcome::Called(Err(EffectError { kind: FailureKind::TooLarge, detail: "large".into() })),
            Outcome::Waited,
            Outcome::Queried(Ok(vec![Rows { rows: vec![values.clone()], count: 1, id: Some(7) }, Rows::default()])),
            Outcome::Queried(Err(EffectError { kind: FailureKind::Duplicate, detail: "twice".into() })),
            Outcome::Kept(Ok(Kept { version: 3, values, stored: true })),
            Outcome::Kept(Err("unavailable".into())),
            Outcome::Queued(Ok(Queued { ids: ids(), group: Some("g".into()), base: "http://h".into() })),
            Outcome::Queued(Err(queue(FailureKind::Full))),
            Outcome::Cancelled(Ok(Cancellation { cancelled: ids(), begun: ids(), ..Cancellation::default() })),
            Outcome::Cancelled(Err(queue(FailureKind::Database))),
            Outcome::Opened(Ok(Address { id: "c".into(), url: "http://h/c".into() })),
            Outcome::Opened(Err(queue(FailureKind::Database))),
            Outcome::Arrived(Some(Arrival { media: "application/json".into(), body: b"{}".to_vec() })),
            Outcome::Arrived(None),
            Outcome::Woken(Ok(Some("j".into()))),
            Outcome::Woken(Ok(None)),
            Outcome::Woken(Err(queue(FailureKind::Full))),
            Outcome::Interrupted,
        ] {
            let text = outcome.to_json().to_string();
            let read: Json = serde_json::from_str(&text).expect("json");
            assert_eq!(Outcome::from_json(&read).as_ref(), Some(&outcome), "{text}");
        }
        for text in ["{}", "[]", r#"{"called":{}}"#, r#"{"queue-failed":{"kind":"odd","detail":""}}"#] {
            assert_eq!(Outcome::from_json(&serde_json::from_str(text).expect("json")), None, "{text}");
        }
    }
}
