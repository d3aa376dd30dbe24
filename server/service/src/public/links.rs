//! Downloads by a link that a `file: link` step made. A link works without a key until it expires.

use actix_web::web::Data;
use actix_web::{HttpRequest, HttpResponse};
use kanzlei_model::file::{ANY, plain_name};
use kanzlei_model::problem::Problem;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::files::link::{self, Led};
use kanzlei_runtime::files::place;

use super::download;
use super::refusal::Refusal;
use crate::App;

/// Serves the file of a link.
pub async fn serve(token: &str, request: &HttpRequest, app: &Data<App>) -> Result<HttpResponse, Refusal> {
    if !matches!(request.method().as_str(), "GET" | "HEAD") {
        return Err(Refusal::not_allowed("GET, HEAD"));
    }
    let (place, path) = match link::read(&app.jobs, token, now()) {
        Some(Led::To(place, path)) => (place, path),
        Some(Led::Over) => return Err(Problem::new(410, "The link is over").detail("ask for another one").into()),
        None => return Err(Problem::new(404, "No such link").detail("it is cut off or changed").into()),
    };
    let opened = async { app.effects.files.place(&place)?.get(&path, None).await.map_err(Into::into) };
    match opened.await {
        Ok((size, bytes)) => {
            let mut response = HttpResponse::Ok();
            response.content_type(ANY).insert_header(("Cache-Control", "private, no-store"));
            response.insert_header(("Content-Disposition", download::disposition(plain_name(&path))));
            response.no_chunking(size);
            Ok(match request.method() == actix_web::http::Method::HEAD {
                true => response.finish(),
                false => response.body(actix_web::body::SizedStream::new(size, bytes)),
            })
        }
        Err(kanzlei_runtime::files::Fault::Place(place::Fault::Missing(..))) => {
            Err(Problem::new(410, "The file is gone").detail("it was removed from its place").into())
        }
        Err(why) => Ok(download::gone(&why)),
    }
}
