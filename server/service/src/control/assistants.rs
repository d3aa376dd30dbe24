//! `POST /mcp`: assistants over HTTP (Model Context Protocol, streamable HTTP). What they ask of the control API is asked within the
//! process, by the same routes and with the token of their request: its role decides, and the audit trail has what they change.

use std::sync::Arc;

use actix_web::body::to_bytes_limited;
use actix_web::dev::Service;
use actix_web::http::header;
use actix_web::web::{Bytes, Data};
use actix_web::{App as Actix, HttpRequest, HttpResponse, test};
use http_body_util::{BodyExt, Full, Limited};
use kanzlei_assistant::rmcp::transport::streamable_http_server::session::never::NeverSessionManager;
use kanzlei_assistant::rmcp::transport::{StreamableHttpServerConfig, StreamableHttpService};
use kanzlei_assistant::{Answer, Asked, Assistant, Control, Request};
use serde_json::Value as Json;
use tokio::sync::{mpsc, oneshot};

use crate::App;
use crate::error::{Error, Result};

/// Requests of one message that wait for their turn.
const WAITING: usize = 16;
/// The most bytes of an answer.
const MOST: usize = 64 << 20;

type Wanted = (Request, oneshot::Sender<std::result::Result<Answer, String>>);

/// Hands requests to the thread that serves them.
struct Within(mpsc::Sender<Wanted>);

impl Control for Within {
    fn ask(&self, request: Request) -> Asked<'_> {
        Box::pin(async move {
            let gone = || "the service is stopping".to_owned();
            let (reply, answer) = oneshot::channel();
            self.0.send((request, reply)).await.map_err(|_| gone())?;
            answer.await.map_err(|_| gone())?
        })
    }
}

/// `POST /mcp`: one message of an assistant, and the answer to it.
pub async fn message(app: Data<App>, request: HttpRequest, body: Bytes) -> Result<HttpResponse> {
    let (sender, mut wanted) = mpsc::channel::<Wanted>(WAITING);
    let peer = request.peer_addr();
    actix_web::rt::spawn(async move {
        let service = test::init_service(Actix::new().app_data(app).configure(super::configure)).await;
        while let Some((request, reply)) = wanted.recv().await {
            let mut inner = test::TestRequest::default().uri(&format!("/api/v1{}", request.path));
            if let Ok(method) = request.method.parse() {
                inner = inner.method(method);
            }
            if let Some(peer) = peer {
                inner = inner.peer_addr(peer);
            }
            let fields =
                [("host", "localhost".to_owned()), ("authorization", request.authorization.unwrap_or_default())];
            for (name, value) in fields.into_iter().chain(request.condition) {
                inner = inner.insert_header((name, value));
            }
            if let Some(body) = request.body {
                inner = inner.insert_header(header::ContentType::json()).set_payload(body.to_string());
            }
            let response = match service.call(inner.to_request()).await {
                Ok(response) => response.into_parts().1.map_into_boxed_body(),
                Err(error) => error.error_response(),
            };
            let status = response.status().as_u16();
            let answer = match to_bytes_limited(response.into_body(), MOST).await {
                Ok(Ok(bytes)) => Ok(Answer { status, body: serde_json::from_slice(&bytes).unwrap_or(Json::Null) }),
                _ => Err(format!("the answer is larger than {MOST} bytes")),
            };
            let _ = reply.send(answer);
        }
    });
    let control = Arc::new(Within(sender));
    // Messages are served one by one, without a session; our own middleware has looked at host and token.
    let config = StreamableHttpServerConfig::default().disable_allowed_hosts();
    let config = config.with_legacy_session_mode(false).with_json_response(true);
    let service = StreamableHttpService::new(
        move || Ok(Assistant::new(control.clone(), false)),
        Arc::new(NeverSessionManager::default()),
        config,
    );
    let mut asked = http::Request::builder().method(request.method().as_str()).uri(request.path());
    for (name, value) in request.headers() {
        asked = asked.header(name.as_str(), value.as_bytes());
    }
    let asked =
        asked.body(Full::new(body)).map_err(|error| Error::problem(400, "Malformed request", error.to_string()))?;
    let (parts, body) = service.handle(asked).await.into_parts();
    let bytes = Limited::new(body, MOST).collect().await;
    let bytes = bytes.map_err(|error| Error::problem(500, "The answer is too large", error.to_string()))?.to_bytes();
    let status = actix_web::http::StatusCode::from_u16(parts.status.as_u16()).unwrap_or_default();
    let mut response = HttpResponse::build(status);
    for (name, value) in &parts.headers {
        response.insert_header((name.as_str(), value.as_bytes()));
    }
    Ok(response.body(bytes))
}
