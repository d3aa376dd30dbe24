//! A Model Context Protocol server over the control API: what assistants read, and what they may do.
//!
//! An assistant reads the handbook, schemas, examples, live workflows and services as [`resources`], works with [`tools`] and
//! begins with [`prompts`]. Everything that it writes lands in a draft and passes the checker that all others pass; it deploys only
//! where that is allowed. This crate knows no transport and no HTTP: a [`Control`] asks the control API, with the rights of the
//! token that it has.
//!
//! ```no_run
//! # async fn run(control: std::sync::Arc<dyn kanzlei_assistant::Control>) -> Result<(), String> {
//! let assistant = kanzlei_assistant::Assistant::new(control, false);
//! kanzlei_assistant::over_stdio(assistant).await
//! # }
//! ```

mod prompts;
mod resources;
mod tools;

use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;

pub use rmcp;
use rmcp::model::{
    CallToolRequestParams, CallToolResponse, CallToolResult, ContentBlock, GetPromptRequestParams, GetPromptResponse,
    Implementation, ListPromptsResult, ListResourceTemplatesResult, ListResourcesResult, ListToolsResult,
    PaginatedRequestParams, ReadResourceRequestParams, ReadResourceResponse, ServerCapabilities, ServerConfig,
};
use rmcp::service::RequestContext;
use rmcp::{ErrorData, RoleServer, ServerHandler, ServiceExt};
use serde_json::Value as Json;

/// The header field by which a client over HTTP allows deploys: `Kanzlei-Allow: deploy`.
pub const ALLOW: &str = "kanzlei-allow";
/// The most characters of an answer; the rest is cut.
const MOST: usize = 200_000;
/// The most bytes of a path with its query; what is longer names nothing.
const LONGEST_PATH: usize = 8_000;

/// An answer of the control API.
#[derive(Clone, Debug, Default)]
pub struct Answer {
    /// The HTTP status.
    pub status: u16,
    /// The body; null where it is no JSON.
    pub body: Json,
}

/// A request to the control API.
#[derive(Clone, Debug)]
pub struct Request {
    /// The method.
    pub method: &'static str,
    /// The path below `/api/v1`, with its query.
    pub path: String,
    /// The body.
    pub body: Option<Json>,
    /// A condition (RFC 9110 §13.1): the name of the field, and its value.
    pub condition: Option<(&'static str, String)>,
    /// The credentials of the caller, where a client over HTTP has sent them.
    pub authorization: Option<String>,
}

/// What comes of a request: an answer, or why there is none.
pub type Asked<'a> = Pin<Box<dyn Future<Output = Result<Answer, String>> + Send + 'a>>;

/// Asks the control API.
pub trait Control: Send + Sync + 'static {
    /// Sends a request and returns the answer, whatever its status.
    fn ask(&self, request: Request) -> Asked<'_>;
}

/// The server.
#[derive(Clone)]
pub struct Assistant {
    control: Arc<dyn Control>,
    deploys: bool,
}

/// One request of a client: whom it is from, and what it may do.
struct Session<'a> {
    control: &'a dyn Control,
    authorization: Option<String>,
    deploys: bool,
}

impl Assistant {
    /// A server that asks with this control; `deploys` says whether it may deploy. A client over HTTP allows that by itself.
    pub fn new(control: Arc<dyn Control>, deploys: bool) -> Self {
        Assistant { control, deploys }
    }

    fn session(&self, context: &RequestContext<RoleServer>) -> Session<'_> {
        let parts = context.extensions.get::<http::request::Parts>();
        let field = |name: &str| Some(parts?.headers.get(name)?.to_str().ok()?.to_owned());
        let allowed = field(ALLOW).is_some_and(|words| words.split(',').any(|word| word.trim() == "deploy"));
        Session { control: &*self.control, authorization: field("authorization"), deploys: self.deploys || allowed }
    }
}

impl Session<'_> {
    async fn send(&self, request: Request) -> Result<Answer, String> {
        if request.path.len() > LONGEST_PATH {
            return Err(format!("a name or a filter is too long: at most {LONGEST_PATH} bytes, percent-encoded"));
        }
        self.control.ask(Request { authorization: self.authorization.clone(), ..request }).await
    }

    /// The body of a successful answer, or the problem in words.
    async fn ask(&self, method: &'static str, path: impl Into<String>, body: Option<Json>) -> Result<Json, String> {
        let request = Request { method, path: path.into(), body, condition: None, authorization: None };
        success(self.send(request).await?)
    }

    async fn get(&self, path: impl Into<String>) -> Result<Json, String> {
        self.ask("GET", path, None).await
    }
}

fn success(answer: Answer) -> Result<Json, String> {
    if (200..300).contains(&answer.status) {
        return Ok(answer.body);
    }
    // Findings say more than the problem that brings them.
    let text = |name: &str| answer.body.get(name).and_then(Json::as_str).unwrap_or_default().to_owned();
    let mut said =
        [text("title"), text("detail")].into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join(": ");
    if said.is_empty() {
        said = format!("the service answers {}", answer.status);
    }
    if let Some(findings) = answer.body.get("diagnostics") {
        said.push_str(&format!("\n{findings}"));
    }
    Err(said)
}

/// A part of a path, percent-encoded.
fn segment(text: &str) -> String {
    kanzlei_compiler::input::encoded(text)
}

fn cut(text: String) -> String {
    match text.char_indices().nth(MOST) {
        Some((at, _)) => format!("{}\n… cut: {} more bytes", &text[..at], text.len() - at),
        None => text,
    }
}

impl ServerHandler for Assistant {
    fn get_info(&self) -> ServerConfig {
        let capabilities = ServerCapabilities::builder().enable_tools().enable_resources().enable_prompts().build();
        ServerConfig::new(capabilities)
            .with_server_info(Implementation::new("kanzlei", env!("CARGO_PKG_VERSION")))
            .with_instructions(
                "Kanzlei runs workflows that are YAML documents. Read kanzlei://handbook/language and an example near the wish first (tool search_examples). Check every text with the tool check before you save it; save it as a draft with save_draft; never invent operations: services and their operations are resources. Cases prove a workflow: rehearse them.",
            )
    }

    async fn list_tools(
        &self,
        _: Option<PaginatedRequestParams>,
        context: RequestContext<RoleServer>,
    ) -> Result<ListToolsResult, ErrorData> {
        Ok(ListToolsResult::with_all_items(tools::list(self.session(&context).deploys)))
    }

    async fn call_tool(
        &self,
        request: CallToolRequestParams,
        context: RequestContext<RoleServer>,
    ) -> Result<CallToolResponse, ErrorData> {
        let session = self.session(&context);
        let arguments = Json::Object(request.arguments.unwrap_or_default());
        if !tools::list(session.deploys).iter().any(|tool| tool.name == request.name) {
            let why = match &*request.name {
                "deploy" => {
                    "deploys are not allowed here: start with --allow-deploy, or send `Kanzlei-Allow: deploy`".into()
                }
                name => format!("there is no tool `{name}`"),
            };
            return Err(ErrorData::invalid_params(why, None));
        }
        let result = match tools::call(&session, &request.name, &arguments).await {
            Ok(Json::String(text)) => CallToolResult::success(vec![ContentBlock::text(cut(text))]),
            Ok(value) => {
                let text = serde_json::to_string_pretty(&value).unwrap_or_default();
                CallToolResult::success(vec![ContentBlock::text(cut(text))])
            }
            Err(why) => CallToolResult::error(vec![ContentBlock::text(cut(why))]),
        };
        Ok(result.into())
    }

    async fn list_resources(
        &self,
        _: Option<PaginatedRequestParams>,
        context: RequestContext<RoleServer>,
    ) -> Result<ListResourcesResult, ErrorData> {
        Ok(ListResourcesResult::with_all_items(resources::list(&self.session(&context)).await))
    }

    async fn list_resource_templates(
        &self,
        _: Option<PaginatedRequestParams>,
        _: RequestContext<RoleServer>,
    ) -> Result<ListResourceTemplatesResult, ErrorData> {
        Ok(ListResourceTemplatesResult::with_all_items(resources::templates()))
    }

    async fn read_resource(
        &self,
        request: ReadResourceRequestParams,
        context: RequestContext<RoleServer>,
    ) -> Result<ReadResourceResponse, ErrorData> {
        match resources::read(&self.session(&context), &request.uri).await {
            Ok(found) => Ok(found.into()),
            Err(why) => Err(ErrorData::resource_not_found(why, None)),
        }
    }

    async fn list_prompts(
        &self,
        _: Option<PaginatedRequestParams>,
        _: RequestContext<RoleServer>,
    ) -> Result<ListPromptsResult, ErrorData> {
        Ok(ListPromptsResult::with_all_items(prompts::list()))
    }

    async fn get_prompt(
        &self,
        request: GetPromptRequestParams,
        context: RequestContext<RoleServer>,
    ) -> Result<GetPromptResponse, ErrorData> {
        let arguments = Json::Object(request.arguments.unwrap_or_default());
        match prompts::make(&self.session(&context), &request.name, &arguments).await {
            Ok(prompt) => Ok(prompt.into()),
            Err(why) => Err(ErrorData::invalid_params(why, None)),
        }
    }
}

/// Serves one client over standard input and output, until it closes them.
pub async fn over_stdio(assistant: Assistant) -> Result<(), String> {
    let running = assistant.serve(rmcp::transport::stdio()).await.map_err(|error| error.to_string())?;
    running.waiting().await.map(drop).map_err(|error| error.to_string())
}
