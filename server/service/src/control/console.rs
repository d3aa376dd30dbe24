//! The console's files, built into the binary, with the headers that keep it to itself.

use std::collections::BTreeMap;
use std::io::Write;
use std::sync::{Mutex, PoisonError};

use actix_web::http::header;
use actix_web::web::Bytes;
use actix_web::{HttpRequest, HttpResponse};
use flate2::Compression;
use flate2::write::GzEncoder;
use kanzlei_model::problem::Problem;
use rust_embed::{EmbeddedFile, RustEmbed};

use super::auth::random;

use crate::error::problem_response;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
struct Files;

/// No script or style but our own, no request to anybody else. The editor makes a style sheet of its own, which a nonce allows.
fn policy(nonce: &str) -> String {
    format!(
        "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-{nonce}'; img-src 'self' data:; font-src 'self'; \
         connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
    )
}

/// First parts of the paths that are pages of the console, as `console/src/App.svelte` has them.
const PAGES: [&str; 19] = [
    "",
    "new",
    "import",
    "deliveries",
    "keys",
    "services",
    "workflows",
    "overview",
    "alerts",
    "coming",
    "runs",
    "jobs",
    "lanes",
    "timetables",
    "watches",
    "examples",
    "audit",
    "settings",
    "handbook",
];

/// Scripts and style sheets as they are sent, by name and digest: each is packed once, as small as it can be. Bounded by the files.
static PACKED: Mutex<BTreeMap<(String, [u8; 32]), Bytes>> = Mutex::new(BTreeMap::new());

fn packed(name: &str, file: &EmbeddedFile) -> Bytes {
    let key = (name.to_owned(), file.metadata.sha256_hash());
    let mut known = PACKED.lock().unwrap_or_else(PoisonError::into_inner);
    let pack = || {
        let mut packer = GzEncoder::new(Vec::new(), Compression::best());
        // Writing to memory does not fail.
        let _ = packer.write_all(&file.data);
        packer.finish().unwrap_or_default().into()
    };
    known.entry(key).or_insert_with(pack).clone()
}

/// A file of the console, or its one page where the path names a page of it.
pub async fn file(request: HttpRequest) -> HttpResponse {
    if !matches!(request.method().as_str(), "GET" | "HEAD") {
        return HttpResponse::MethodNotAllowed().insert_header((header::ALLOW, "GET, HEAD")).finish();
    }
    let path = request.path().trim_start_matches('/');
    let (name, file) = match Files::get(path) {
        Some(file) => (path, Some(file)),
        None if PAGES.contains(&path.split('/').next().unwrap_or_default()) => ("index.html", Files::get("index.html")),
        None => (path, None),
    };
    let Some(file) = file else {
        let problem = Problem::new(404, "Not found").detail(format!("the control listener has no /{path}"));
        return problem_response(&problem);
    };
    let media = match name.rsplit('.').next().unwrap_or_default() {
        "html" => "text/html; charset=utf-8",
        "js" => "text/javascript; charset=utf-8",
        "css" => "text/css; charset=utf-8",
        "woff2" => "font/woff2",
        "woff" => "font/woff",
        "svg" => "image/svg+xml",
        "png" => "image/png",
        _ => "application/octet-stream",
    };
    // Files below assets/ have a hash of their content in their name.
    let cache = if name.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    let nonce = random();
    let mut response = HttpResponse::Ok();
    let accepts = |coding: &str| {
        let fields = request.headers().get_all(header::ACCEPT_ENCODING).filter_map(|field| field.to_str().ok());
        fields.flat_map(|field| field.split(',')).any(|one| one.trim() == coding)
    };
    let body: Bytes = match name {
        "index.html" => String::from_utf8_lossy(&file.data).replace("%nonce%", &nonce).into(),
        _ if media.starts_with("text/") && accepts("gzip") => {
            response.insert_header((header::CONTENT_ENCODING, "gzip")).insert_header((header::VARY, "Accept-Encoding"));
            packed(name, &file)
        }
        _ => file.data.into_owned().into(),
    };
    response
        .content_type(media)
        .insert_header((header::CACHE_CONTROL, cache))
        .insert_header((header::CONTENT_SECURITY_POLICY, policy(&nonce)))
        .insert_header((header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .insert_header((header::REFERRER_POLICY, "no-referrer"))
        .insert_header((header::X_FRAME_OPTIONS, "DENY"))
        .body(body)
}
