//! The stage between [`super::read`] and [`super::gather`] for endpoints that take files: a multipart body, a body that is one file, or tokens of
//! uploads in a JSON or form body. Files go to the disk as they come; only the other parts are held in memory.

use std::time::{Duration, Instant};

use actix_multipart::Multipart;
use actix_web::http::header::{CONTENT_DISPOSITION, CONTENT_ENCODING, CONTENT_TYPE};
use actix_web::web::Payload;
use actix_web::{FromRequest, HttpRequest};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use futures_util::StreamExt;
use kanzlei_compiler::input::{Body, From as Source};
use kanzlei_compiler::plan::{Endpoint, Plan};
use kanzlei_engine::machine::file_name;
use kanzlei_model::file::File;
use kanzlei_model::hex;
use kanzlei_model::problem::{InputError, Problem};
use kanzlei_runtime::files::{Fault, Holder, incoming};

use super::access::Caller;
use super::admit::Arrival;
use super::refusal::Refusal;
use super::{read, uploads};
use crate::App;

/// The least pace of a body with files, in bytes a second, after a first while.
const PACE: u64 = 16 << 10;
const GRACE: Duration = Duration::from_secs(10);
/// The most parts of a multipart body.
const MOST_PARTS: usize = 2_000;

/// What a body brought: its other parts, and its files.
pub struct Taken {
    pub body: Body,
    pub files: Vec<(String, File)>,
    /// Bytes of it that are in memory: all but those of files.
    pub held: usize,
}

/// Whether the body of an endpoint is taken here.
pub fn takes_files(plan: &Plan, declared: &Endpoint) -> bool {
    plan.input
        .properties
        .iter()
        .zip(&declared.input.sources)
        .any(|(property, source)| property.file.is_some() && matches!(source, Source::File(_) | Source::Body))
}

/// Where the files of an endpoint come from.
struct Wanted<'p> {
    plan: &'p Plan,
    declared: &'p Endpoint,
}

impl Wanted<'_> {
    /// The most bytes of a file by the name of its part.
    fn max(&self, part: &str) -> Option<u64> {
        let declared = self.plan.input.properties.iter().zip(&self.declared.input.sources);
        declared.filter_map(|(property, source)| Some((property.file.as_ref()?, source))).find_map(|(file, source)| {
            let name = match source {
                Source::File(name) => name.as_str(),
                _ => "",
            };
            (name == part).then_some(file.max)
        })
    }

    /// The input that a body which is one file is for: the only file, where nothing else comes in the body.
    fn whole(&self) -> Option<&str> {
        let sources = &self.declared.input.sources;
        if sources.contains(&Source::Body) {
            return Some("");
        }
        let in_body: Vec<&str> = sources
            .iter()
            .filter_map(|source| match source {
                Source::File(name) | Source::Member(name) => Some(name.as_str()),
                _ => None,
            })
            .collect();
        let file = sources.iter().any(|source| matches!(source, Source::File(_)));
        (in_body.len() == 1 && file).then(|| in_body[0])
    }
}

/// Takes the body of an endpoint that takes files; `most` bounds what is held in memory.
///
/// # Errors
/// 400 for a body that is broken, 408, 413 and 415, 422 for a file that is not as it is declared, 507 when there is no room.
#[allow(clippy::too_many_arguments)]
pub async fn take(
    app: &App,
    request: &HttpRequest,
    payload: &mut Payload,
    (plan, declared): (&Plan, &Endpoint),
    caller: &Caller,
    most: usize,
    holder: &Holder,
    arrival: &mut Arrival,
) -> Result<Taken, Refusal> {
    if request.headers().get(CONTENT_ENCODING).is_some_and(|one| !one.as_bytes().eq_ignore_ascii_case(b"identity")) {
        let detail = "send the body without `Content-Encoding`";
        return Err(Problem::new(415, "Unsupported content encoding").detail(detail).into());
    }
    holder.count_for(caller.subject());
    let wanted = Wanted { plan, declared };
    let media = request.headers().get(CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let essence = kanzlei_model::file::essence(media);
    if essence == "multipart/form-data" {
        let mut taken = parts(app, request, payload, &|name| wanted.max(name), most, holder).await?;
        // A part of a file that is no file is the token of an upload.
        for (name, token) in plan.input.tokens(&declared.input, &mut taken.body) {
            taken.files.push((name.clone(), uploads::file_of(app, caller, holder, &name, &token).await?));
        }
        return Ok(taken);
    }
    let only_raw = declared.input.sources.contains(&Source::Body);
    let textual =
        essence == "application/json" || essence.ends_with("+json") || essence == "application/x-www-form-urlencoded";
    if textual && !only_raw {
        let deadline = Instant::now() + declared.time;
        let bytes = read::body(request, payload, most, deadline, arrival).await?;
        let mut body = Body::read(media, &bytes)?;
        let mut files = Vec::new();
        for (name, token) in plan.input.tokens(&declared.input, &mut body) {
            files.push((name.clone(), uploads::file_of(app, caller, holder, &name, &token).await?));
        }
        return Ok(Taken { body, files, held: bytes.len() });
    }
    let Some(part) = wanted.whole() else {
        // Inputs may all be optional.
        let deadline = Instant::now() + declared.time;
        if media.is_empty() && read::body(request, payload, most, deadline, arrival).await?.is_empty() {
            return Ok(Taken { body: Body::None, files: Vec::new(), held: 0 });
        }
        let what = if media.is_empty() { "no Content-Type".to_owned() } else { format!("`{media}`") };
        let detail =
            format!("the body has {what}; send `multipart/form-data`, or `application/json` with tokens of uploads");
        return Err(Problem::new(415, "Unsupported media type").detail(detail).into());
    };
    let name = request.headers().get(CONTENT_DISPOSITION).and_then(|value| value.to_str().ok()).and_then(file_name);
    let max = wanted.max(part).unwrap_or_default();
    let file =
        raw(request, payload, holder, part, name, Some(essence.as_str()).filter(|_| !media.is_empty()), max).await?;
    let Some(file) = file else { return Ok(Taken { body: Body::None, files: Vec::new(), held: 0 }) };
    Ok(Taken { body: Body::None, files: vec![(part.to_owned(), file)], held: 0 })
}

/// Takes a body that is one file; nothing where it is empty and says nothing of itself.
///
/// # Errors
/// See [`take`].
pub async fn raw(
    request: &HttpRequest,
    payload: &mut Payload,
    holder: &Holder,
    part: &str,
    name: Option<&str>,
    media: Option<&str>,
    max: u64,
) -> Result<Option<File>, Refusal> {
    let length = request.headers().get("content-length").and_then(|value| value.to_str().ok()?.parse::<u64>().ok());
    if length.is_some_and(|length| length > max) {
        return Err(too_large(part, max));
    }
    let mut pace = Pace::begin(max);
    let mut incoming = holder.begin(max).map_err(|why| refused(part, why))?;
    let mut any = false;
    while let Some(chunk) = pace.next(payload.next()).await? {
        let chunk = chunk.map_err(broken)?;
        any |= !chunk.is_empty();
        incoming.write(&chunk).await.map_err(|why| refused(part, why.into()))?;
        pace.count(chunk.len())?;
    }
    if !any && media.is_none() {
        return Ok(None);
    }
    let (file, spooled) = incoming.finish(name, media).await.map_err(|why| refused(part, why.into()))?;
    if let Some(said) = digest_of(request)?
        && said != *file.digest
    {
        let detail = format!("`Content-Digest` says {said}, and what came has {}", file.digest);
        return Err(Problem::new(400, "The body is not what was sent").detail(detail).into());
    }
    Ok(Some(holder.keep((file, spooled)).await.map_err(|why| refused(part, why))?))
}

/// SHA-256 as `Content-Digest` says it (RFC 9530), in hexadecimal digits.
fn digest_of(request: &HttpRequest) -> Result<Option<String>, Refusal> {
    let Some(field) = request.headers().get("content-digest") else { return Ok(None) };
    let wrong = || Problem::new(400, "Malformed Content-Digest").detail("write `sha-256=:BASE64:` (RFC 9530)");
    let text = field.to_str().map_err(|_| wrong())?;
    let mut said = text.split(',').filter_map(|one| one.trim().split_once('='));
    let Some((_, bytes)) = said.find(|(name, _)| name.eq_ignore_ascii_case("sha-256")) else { return Ok(None) };
    let bytes =
        bytes.strip_prefix(':').and_then(|rest| rest.strip_suffix(':')).and_then(|text| STANDARD.decode(text).ok());
    let bytes = bytes.filter(|bytes| bytes.len() == 32).ok_or_else(wrong)?;
    Ok(Some(hex::of(&bytes)))
}

/// Takes the files of a multipart body, whatever their parts are called.
///
/// # Errors
/// See [`take`].
pub async fn all_parts(
    app: &App,
    request: &HttpRequest,
    payload: &mut Payload,
    holder: &Holder,
) -> Result<Vec<File>, Refusal> {
    let most = app.effects.files.bounds.file;
    let taken = parts(app, request, payload, &|_| Some(most), 1 << 16, holder).await?;
    Ok(taken.files.into_iter().map(|(_, file)| file).collect())
}

/// Takes a multipart body (RFC 7578); `max` returns the most bytes of a file by the name of its part, and nothing for one that is no file.
async fn parts(
    app: &App,
    request: &HttpRequest,
    payload: &mut Payload,
    max: &dyn Fn(&str) -> Option<u64>,
    most: usize,
    holder: &Holder,
) -> Result<Taken, Refusal> {
    let bound = app.effects.files.bounds.request;
    let length = request.headers().get("content-length").and_then(|value| value.to_str().ok()?.parse::<u64>().ok());
    if length.is_some_and(|length| length > bound) {
        let detail = format!("a request has at most {bound} bytes of files here");
        return Err(Problem::new(413, "Content too large").detail(detail).into());
    }
    let mut multipart = Multipart::new(request.headers(), owned(request, payload).await?);
    let mut pace = Pace::begin(bound);
    let (mut fields, mut files, mut held, mut count) = (Vec::new(), Vec::new(), 0, 0);
    while let Some(field) = pace.next(multipart.next()).await?.transpose().map_err(broken)? {
        count += 1;
        if count > MOST_PARTS {
            let detail = format!("at most {MOST_PARTS} parts are allowed");
            return Err(Problem::new(413, "Too many parts").detail(detail).into());
        }
        let mut field = field;
        let name = field.name().unwrap_or_default().to_owned();
        let named = field.content_disposition().and_then(|said| said.get_filename());
        let is_file = named.is_some() || field.content_type().is_some();
        // A browser sends an empty name for a file that was not chosen.
        let chosen = named.map(str::to_owned).filter(|name| !name.is_empty());
        let Some(max) = max(&name).filter(|_| is_file) else {
            let mut text = Vec::new();
            while let Some(chunk) = pace.next(field.next()).await?.transpose().map_err(broken)? {
                held += chunk.len();
                if held > most {
                    let detail = format!("the parts that are no files have at most {most} bytes together");
                    return Err(Problem::new(413, "Content too large").detail(detail).into());
                }
                text.extend_from_slice(&chunk);
                pace.count(chunk.len())?;
            }
            let text = String::from_utf8(text)
                .map_err(|_| Problem::new(400, "Malformed body").detail(format!("the part `{name}` is not UTF-8")))?;
            fields.push((name, text));
            continue;
        };
        let media = field.content_type().map(|media| media.essence_str().to_owned());
        let mut incoming = holder.begin(max).map_err(|why| refused(&name, why))?;
        let mut any = false;
        while let Some(chunk) = pace.next(field.next()).await?.transpose().map_err(broken)? {
            any |= !chunk.is_empty();
            incoming.write(&chunk).await.map_err(|why| refused(&name, why.into()))?;
            pace.count(chunk.len())?;
        }
        if !any && chosen.is_none() {
            continue;
        }
        let come =
            incoming.finish(chosen.as_deref(), media.as_deref()).await.map_err(|why| refused(&name, why.into()))?;
        files.push((name.clone(), holder.keep(come).await.map_err(|why| refused(&name, why))?));
    }
    let body = if fields.is_empty() { Body::None } else { Body::Form(fields) };
    Ok(Taken { body, files, held })
}

/// Watches that a body does not come too slowly.
struct Pace {
    begun: Instant,
    bytes: u64,
    most: u64,
}

impl Pace {
    fn begin(most: u64) -> Self {
        Pace { begun: Instant::now(), bytes: 0, most }
    }

    /// Counts bytes that came; an error when there are more than all files of a request may have.
    fn count(&mut self, bytes: usize) -> Result<(), Refusal> {
        self.bytes += bytes as u64;
        if self.bytes <= self.most {
            return Ok(());
        }
        let detail = format!("the files of a request have at most {} bytes together", self.most);
        Err(Problem::new(413, "Content too large").detail(detail).into())
    }

    async fn next<T>(&self, next: impl Future<Output = T>) -> Result<T, Refusal> {
        let slowest = self.begun + GRACE + Duration::from_millis(self.bytes * 1000 / PACE);
        tokio::time::timeout_at(slowest.into(), next)
            .await
            .map_err(|_| Problem::new(408, "The request took too long to arrive").into())
    }
}

fn broken(error: impl std::fmt::Display) -> Refusal {
    Problem::new(400, "Malformed body").detail(error.to_string()).into()
}

/// The payload itself; an empty one stays in its place.
async fn owned(request: &HttpRequest, payload: &mut Payload) -> Result<Payload, Refusal> {
    let empty = Payload::from_request(request, &mut actix_web::dev::Payload::None).await;
    empty.map(|empty| std::mem::replace(payload, empty)).map_err(broken)
}

fn too_large(part: &str, max: u64) -> Refusal {
    let mut problem = Problem::new(413, "Content too large").detail(format!("the file has more than {max} bytes"));
    let pointer = if part.is_empty() { String::new() } else { format!("/{part}") };
    problem.errors = vec![InputError { within: "body".into(), pointer, detail: format!("has more than {max} bytes") }];
    problem.into()
}

/// The answer to a file that cannot be taken.
pub fn refused(part: &str, why: Fault) -> Refusal {
    match why {
        Fault::Incoming(incoming::Fault::TooLarge(max)) => too_large(part, max),
        Fault::Incoming(incoming::Fault::NoRoom) => {
            let problem = Problem::new(503, "No room for files").detail(why.to_string());
            Refusal { retry_after: Some(5), ..problem.into() }
        }
        Fault::Gone => Problem::new(422, "The file is gone").detail(why.to_string()).into(),
        other => {
            tracing::error!(why = %other, "a file cannot be kept");
            Problem::new(507, "Files cannot be kept").detail("the service has no place for them at present").into()
        }
    }
}
