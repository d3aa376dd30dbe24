//! `buckets`: objects by bucket and key, as far as an S3 client needs it to store, read, list, copy and remove them. They are held in
//! memory, for callers with the access key of the office; signatures are not verified.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Mutex, PoisonError};

use actix_web::http::StatusCode;
use actix_web::web::{self, Bytes, Data, Path, Query};
use actix_web::{HttpRequest, HttpResponse};
use sha2::{Digest, Sha256};

use crate::State;

/// The access key that requests must name.
const ACCESS_KEY: &str = "lindvik-office";
/// Bytes of all objects; beyond them 507.
const MOST: usize = 512 << 20;

/// Objects, and uploads in parts that are not complete.
#[derive(Default)]
pub struct Buckets {
    objects: Mutex<BTreeMap<(String, String), Bytes>>,
    uploads: Mutex<HashMap<String, BTreeMap<u32, Bytes>>>,
}

type Asked = HashMap<String, String>;

fn xml(body: String) -> HttpResponse {
    HttpResponse::Ok().content_type("application/xml").body(format!("<?xml version=\"1.0\"?>{body}"))
}

fn fault(status: StatusCode, code: &str) -> HttpResponse {
    let body = format!("<?xml version=\"1.0\"?><Error><Code>{code}</Code><Message>{code}</Message></Error>");
    HttpResponse::build(status).content_type("application/xml").body(body)
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}

fn tag_of(bytes: &[u8]) -> String {
    format!("\"{:.32}\"", format!("{:x}", Sha256::digest(bytes)))
}

/// Serves a request below `/buckets/BUCKET/`.
pub async fn serve(
    request: HttpRequest,
    at: Path<(String, String)>,
    asked: Query<Asked>,
    body: Bytes,
    data: Data<Buckets>,
    state: Data<State>,
) -> HttpResponse {
    let (bucket, key) = at.into_inner();
    let signed = request.headers().get("authorization").and_then(|value| value.to_str().ok()).unwrap_or_default();
    let credential = asked.get("X-Amz-Credential").map_or(signed, String::as_str);
    if !credential.contains(&format!("{ACCESS_KEY}/")) {
        return fault(StatusCode::FORBIDDEN, "InvalidAccessKeyId");
    }
    if let (Some(failure), _) = state.behave("buckets").await {
        return failure;
    }
    let has = |name: &str| asked.contains_key(name);
    match (request.method().as_str(), key.as_str()) {
        ("GET", "") => data.list(&bucket, &asked),
        ("POST", "") if has("delete") => data.delete_all(&bucket, &String::from_utf8_lossy(&body)),
        ("POST", _) if has("uploads") => data.begin(&bucket, &key),
        ("POST", _) if has("uploadId") => data.complete(&bucket, &key, &asked["uploadId"]),
        ("PUT", _) if has("partNumber") => data.part(&asked, body),
        ("DELETE", _) if has("uploadId") => {
            data.uploads.lock().unwrap_or_else(PoisonError::into_inner).remove(&asked["uploadId"]);
            HttpResponse::NoContent().finish()
        }
        ("PUT", _) => data.put(&request, bucket, key, body),
        ("GET" | "HEAD", _) => data.get(&request, &bucket, &key),
        ("DELETE", _) => {
            data.objects.lock().unwrap_or_else(PoisonError::into_inner).remove(&(bucket, key));
            HttpResponse::NoContent().finish()
        }
        _ => fault(StatusCode::NOT_IMPLEMENTED, "NotImplemented"),
    }
}

impl Buckets {
    fn put(&self, request: &HttpRequest, bucket: String, key: String, body: Bytes) -> HttpResponse {
        let mut objects = self.objects.lock().unwrap_or_else(PoisonError::into_inner);
        let field = |name: &str| request.headers().get(name).and_then(|value| value.to_str().ok());
        if field("if-none-match") == Some("*") && objects.contains_key(&(bucket.clone(), key.clone())) {
            return fault(StatusCode::PRECONDITION_FAILED, "PreconditionFailed");
        }
        let copied = field("x-amz-copy-source").map(|source| {
            let decoded = percent_encoding::percent_decode_str(source.trim_start_matches('/')).decode_utf8_lossy();
            let (from, key) = decoded.split_once('/').unwrap_or_default();
            objects.get(&(from.to_owned(), key.to_owned())).cloned()
        });
        let (bytes, copies) = match copied {
            Some(None) => return fault(StatusCode::NOT_FOUND, "NoSuchKey"),
            Some(Some(bytes)) => (bytes, true),
            None => (body, false),
        };
        if objects.values().map(Bytes::len).sum::<usize>() + bytes.len() > MOST {
            return fault(StatusCode::INSUFFICIENT_STORAGE, "NoSpace");
        }
        let tag = tag_of(&bytes);
        objects.insert((bucket, key), bytes);
        match copies {
            true => xml(format!("<CopyObjectResult><ETag>{tag}</ETag></CopyObjectResult>")),
            false => HttpResponse::Ok().insert_header(("etag", tag)).finish(),
        }
    }

    fn get(&self, request: &HttpRequest, bucket: &str, key: &str) -> HttpResponse {
        let objects = self.objects.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(bytes) = objects.get(&(bucket.to_owned(), key.to_owned())).cloned() else {
            return fault(StatusCode::NOT_FOUND, "NoSuchKey");
        };
        let size = bytes.len();
        let range = request.headers().get("range").and_then(|value| value.to_str().ok()?.strip_prefix("bytes="));
        let part = range.and_then(|range| {
            let (from, to) = range.split_once('-')?;
            let from: usize = from.parse().ok()?;
            Some(from..to.parse::<usize>().map_or(size, |to| to + 1).min(size))
        });
        let mut answer = match &part {
            Some(part) => {
                let mut answer = HttpResponse::PartialContent();
                answer.insert_header(("content-range", format!("bytes {}-{}/{size}", part.start, part.end.max(1) - 1)));
                answer
            }
            None => HttpResponse::Ok(),
        };
        answer
            .insert_header(("etag", tag_of(&bytes)))
            .insert_header(("last-modified", "Thu, 04 Mar 2027 06:00:00 GMT"));
        match (request.method().as_str(), part) {
            ("HEAD", _) => answer.no_chunking(size as u64).finish(),
            (_, Some(part)) => answer.body(bytes.slice(part)),
            (_, None) => answer.body(bytes),
        }
    }

    fn list(&self, bucket: &str, asked: &Asked) -> HttpResponse {
        let prefix = asked.get("prefix").map_or("", String::as_str);
        let after = asked.get("start-after").or(asked.get("continuation-token")).map_or("", String::as_str);
        let objects = self.objects.lock().unwrap_or_else(PoisonError::into_inner);
        let all: Vec<_> = objects
            .iter()
            .filter(|((of, key), _)| of == bucket && key.starts_with(prefix) && key.as_str() > after)
            .collect();
        // Small pages, so that a second one is asked for.
        let page = &all[..all.len().min(100)];
        let contents: String = page
            .iter()
            .map(|((_, key), bytes)| {
                format!(
                    "<Contents><Key>{}</Key><LastModified>2027-03-04T06:00:00.000Z</LastModified><ETag>{}</ETag><Size>{}</Size></Contents>",
                    escaped(key),
                    tag_of(bytes),
                    bytes.len()
                )
            })
            .collect();
        let more = all.len() > page.len();
        let next = page.last().filter(|_| more).map(|((_, key), _)| escaped(key)).unwrap_or_default();
        let next = if more { format!("<NextContinuationToken>{next}</NextContinuationToken>") } else { String::new() };
        xml(format!(
            "<ListBucketResult><IsTruncated>{more}</IsTruncated><KeyCount>{}</KeyCount>{contents}{next}</ListBucketResult>",
            page.len()
        ))
    }

    /// Removes what the body lists; its keys are plain.
    fn delete_all(&self, bucket: &str, body: &str) -> HttpResponse {
        let mut objects = self.objects.lock().unwrap_or_else(PoisonError::into_inner);
        let mut deleted = String::new();
        for key in body.split("<Key>").skip(1).filter_map(|rest| rest.split("</Key>").next()) {
            objects.remove(&(bucket.to_owned(), key.replace("&amp;", "&")));
            deleted.push_str(&format!("<Deleted><Key>{key}</Key></Deleted>"));
        }
        xml(format!("<DeleteResult>{deleted}</DeleteResult>"))
    }

    fn begin(&self, bucket: &str, key: &str) -> HttpResponse {
        let mut uploads = self.uploads.lock().unwrap_or_else(PoisonError::into_inner);
        let id = format!("upload-{}-{}", uploads.len() + 1, key.len());
        uploads.insert(id.clone(), BTreeMap::new());
        xml(format!(
            "<InitiateMultipartUploadResult><Bucket>{bucket}</Bucket><Key>{}</Key><UploadId>{id}</UploadId></InitiateMultipartUploadResult>",
            escaped(key)
        ))
    }

    fn part(&self, asked: &Asked, body: Bytes) -> HttpResponse {
        let mut uploads = self.uploads.lock().unwrap_or_else(PoisonError::into_inner);
        let number = asked.get("partNumber").and_then(|number| number.parse().ok()).unwrap_or(0);
        let tag = tag_of(&body);
        match asked.get("uploadId").and_then(|id| uploads.get_mut(id)) {
            Some(parts) => _ = parts.insert(number, body),
            None => return fault(StatusCode::NOT_FOUND, "NoSuchUpload"),
        }
        HttpResponse::Ok().insert_header(("etag", tag)).finish()
    }

    fn complete(&self, bucket: &str, key: &str, id: &str) -> HttpResponse {
        let Some(parts) = self.uploads.lock().unwrap_or_else(PoisonError::into_inner).remove(id) else {
            return fault(StatusCode::NOT_FOUND, "NoSuchUpload");
        };
        let whole: Bytes = parts.into_values().collect::<Vec<_>>().concat().into();
        let tag = tag_of(&whole);
        self.objects.lock().unwrap_or_else(PoisonError::into_inner).insert((bucket.to_owned(), key.to_owned()), whole);
        xml(format!("<CompleteMultipartUploadResult><ETag>{tag}</ETag></CompleteMultipartUploadResult>"))
    }
}

/// Its paths.
pub fn routes(config: &mut web::ServiceConfig) {
    config.app_data(web::PayloadConfig::new(64 << 20));
    config.route("/buckets/{bucket}/{key:.*}", web::to(serve));
    config.route("/buckets/{bucket}", web::to(bare));
}

/// The bucket itself, without a slash behind it.
async fn bare(
    request: HttpRequest,
    bucket: Path<String>,
    asked: Query<Asked>,
    body: Bytes,
    data: Data<Buckets>,
    state: Data<State>,
) -> HttpResponse {
    serve(request, Path::from((bucket.into_inner(), String::new())), asked, body, data, state).await
}
