//! `kanzlei language-server`: the Language Server Protocol 3.17 over standard input and output.
//!
//! Everything it answers comes from `kanzlei_analysis`; this module holds the protocol ([`answer`]), its positions ([`position`]) and
//! the documents that an editor has open beside those on disk ([`offices`]).

mod answer;
mod offices;
mod position;

use lsp_server::{Connection, ErrorCode, Message, Notification, Request, Response};
use lsp_types::notification::{
    DidChangeTextDocument, DidChangeWatchedFiles, DidCloseTextDocument, DidOpenTextDocument, DidSaveTextDocument,
    Notification as _, PublishDiagnostics,
};
use lsp_types::request::{
    CodeActionRequest, Completion, DocumentSymbolRequest, FoldingRangeRequest, GotoDefinition, HoverRequest,
    PrepareRenameRequest, References, Rename, Request as _,
};
use lsp_types::{
    CodeActionKind, CodeActionOptions, CodeActionProviderCapability, CompletionOptions, FoldingRangeProviderCapability,
    HoverProviderCapability, InitializeParams, OneOf, PositionEncodingKind, PublishDiagnosticsParams, RenameOptions,
    ServerCapabilities, TextDocumentSyncCapability, TextDocumentSyncKind, TextDocumentSyncOptions, Uri,
};
use serde::de::DeserializeOwned;
use serde_json::Value as Json;

use crate::{Done, Error};
use offices::Offices;
use position::Encoding;

/// Serves an editor until it says goodbye.
pub fn run() -> Done {
    let (connection, threads) = Connection::stdio();
    serve(connection)?;
    threads.join().map_err(|error| Error::Failed(error.to_string()))
}

/// Serves an editor over a connection.
fn serve(connection: Connection) -> Done {
    let failed = |error: &dyn std::fmt::Display| Error::Failed(error.to_string());
    let (id, params) = connection.initialize_start().map_err(|error| failed(&error))?;
    let params: InitializeParams = serde_json::from_value(params).map_err(|error| failed(&error))?;
    let encoding = encoding(&params);
    let answer = serde_json::json!({
        "capabilities": capabilities(encoding),
        "serverInfo": {"name": "kanzlei", "version": env!("CARGO_PKG_VERSION")},
    });
    connection.initialize_finish(id, answer).map_err(|error| failed(&error))?;
    let mut server = Server { connection, offices: Offices::new(encoding), waiting: None };
    server.run()
}

/// Bytes where the editor offers them, else UTF-16.
fn encoding(params: &InitializeParams) -> Encoding {
    let offered = params.capabilities.general.as_ref().and_then(|general| general.position_encodings.as_ref());
    match offered.is_some_and(|offered| offered.contains(&PositionEncodingKind::UTF8)) {
        true => Encoding::Utf8,
        false => Encoding::Utf16,
    }
}

fn capabilities(encoding: Encoding) -> ServerCapabilities {
    ServerCapabilities {
        position_encoding: Some(match encoding {
            Encoding::Utf8 => PositionEncodingKind::UTF8,
            Encoding::Utf16 => PositionEncodingKind::UTF16,
        }),
        text_document_sync: Some(TextDocumentSyncCapability::Options(TextDocumentSyncOptions {
            open_close: Some(true),
            change: Some(TextDocumentSyncKind::INCREMENTAL),
            save: Some(true.into()),
            ..TextDocumentSyncOptions::default()
        })),
        completion_provider: Some(CompletionOptions {
            trigger_characters: Some([".", ":", " ", "{", "-", "/"].map(str::to_owned).to_vec()),
            ..CompletionOptions::default()
        }),
        hover_provider: Some(HoverProviderCapability::Simple(true)),
        definition_provider: Some(OneOf::Left(true)),
        references_provider: Some(OneOf::Left(true)),
        rename_provider: Some(OneOf::Right(RenameOptions {
            prepare_provider: Some(true),
            work_done_progress_options: Default::default(),
        })),
        code_action_provider: Some(CodeActionProviderCapability::Options(CodeActionOptions {
            code_action_kinds: Some(vec![CodeActionKind::QUICKFIX]),
            ..CodeActionOptions::default()
        })),
        document_symbol_provider: Some(OneOf::Left(true)),
        folding_range_provider: Some(FoldingRangeProviderCapability::Simple(true)),
        ..ServerCapabilities::default()
    }
}

struct Server {
    connection: Connection,
    offices: Offices,
    /// The document that was changed last and whose findings are not published yet.
    waiting: Option<Uri>,
}

impl Server {
    fn run(&mut self) -> Done {
        loop {
            // While more changes wait to be read, the findings of the one before are not worth the time.
            if self.connection.receiver.is_empty()
                && let Some(uri) = self.waiting.take()
            {
                self.publish(&uri)?;
            }
            let Ok(message) = self.connection.receiver.recv() else { return Ok(()) };
            match message {
                Message::Request(request) => {
                    let shutdown = self.connection.handle_shutdown(&request);
                    if shutdown.map_err(|error| Error::Failed(error.to_string()))? {
                        return Ok(());
                    }
                    let answer = self.request(request);
                    self.send(Message::Response(answer))?;
                }
                Message::Notification(note) => self.notification(note)?,
                Message::Response(_) => {}
            }
        }
    }

    fn send(&self, message: Message) -> Done {
        self.connection.sender.send(message).map_err(|error| Error::Failed(error.to_string()))
    }

    fn request(&mut self, request: Request) -> Response {
        let Request { id, method, params } = request;
        let answered = match method.as_str() {
            Completion::METHOD => with(params, |params| answer::completion(&mut self.offices, &params)),
            HoverRequest::METHOD => with(params, |params| answer::hover(&mut self.offices, &params)),
            GotoDefinition::METHOD => with(params, |params| answer::definition(&mut self.offices, &params)),
            References::METHOD => with(params, |params| answer::references(&mut self.offices, &params)),
            PrepareRenameRequest::METHOD => with(params, |params| answer::prepare_rename(&mut self.offices, &params)),
            Rename::METHOD => {
                let params: Result<lsp_types::RenameParams, _> = serde_json::from_value(params);
                match params
                    .map_err(|error| error.to_string())
                    .and_then(|params| answer::rename(&mut self.offices, &params))
                {
                    Ok(edit) => Ok(serde_json::to_value(edit).unwrap_or_default()),
                    Err(why) => return Response::new_err(id, ErrorCode::RequestFailed as i32, why),
                }
            }
            CodeActionRequest::METHOD => with(params, |params| answer::code_actions(&mut self.offices, &params)),
            DocumentSymbolRequest::METHOD => with(params, |params| answer::symbols(&mut self.offices, &params)),
            FoldingRangeRequest::METHOD => with(params, |params| answer::folding(&mut self.offices, &params)),
            _ => {
                return Response::new_err(id, ErrorCode::MethodNotFound as i32, format!("`{method}` is not supported"));
            }
        };
        match answered {
            Ok(value) => Response::new_ok(id, value),
            Err(why) => Response::new_err(id, ErrorCode::InvalidParams as i32, why),
        }
    }

    fn notification(&mut self, note: Notification) -> Done {
        match note.method.as_str() {
            DidOpenTextDocument::METHOD => {
                if let Ok(params) = serde_json::from_value::<lsp_types::DidOpenTextDocumentParams>(note.params) {
                    self.offices.open(&params.text_document.uri, params.text_document.text);
                    self.publish_all(&params.text_document.uri)?;
                }
            }
            DidChangeTextDocument::METHOD => {
                if let Ok(params) = serde_json::from_value::<lsp_types::DidChangeTextDocumentParams>(note.params) {
                    self.offices.change(&params.text_document.uri, params.content_changes);
                    let uri = params.text_document.uri;
                    if let Some(before) = self.waiting.take().filter(|before| *before != uri) {
                        self.publish(&before)?;
                    }
                    self.waiting = Some(uri);
                }
            }
            DidSaveTextDocument::METHOD => {
                if let Ok(params) = serde_json::from_value::<lsp_types::DidSaveTextDocumentParams>(note.params) {
                    self.publish_all(&params.text_document.uri)?;
                }
            }
            DidCloseTextDocument::METHOD => {
                if let Ok(params) = serde_json::from_value::<lsp_types::DidCloseTextDocumentParams>(note.params) {
                    self.offices.close(&params.text_document.uri);
                }
            }
            DidChangeWatchedFiles::METHOD => {
                if let Ok(params) = serde_json::from_value::<lsp_types::DidChangeWatchedFilesParams>(note.params) {
                    for change in params.changes {
                        self.offices.reread(&change.uri);
                    }
                }
            }
            _ => {}
        }
        Ok(())
    }

    /// Publishes the findings of one document.
    fn publish(&mut self, uri: &Uri) -> Done {
        let Some(diagnostics) = answer::diagnostics(&mut self.offices, uri) else { return Ok(()) };
        self.notify(PublishDiagnosticsParams { uri: uri.clone(), diagnostics, version: None })
    }

    /// Publishes the findings of all documents that belong together with one.
    fn publish_all(&mut self, uri: &Uri) -> Done {
        if self.waiting.as_ref() == Some(uri) {
            self.waiting = None;
        }
        for (uri, diagnostics) in answer::all_diagnostics(&mut self.offices, uri) {
            self.notify(PublishDiagnosticsParams { uri, diagnostics, version: None })?;
        }
        Ok(())
    }

    fn notify(&self, params: PublishDiagnosticsParams) -> Done {
        let note = Notification::new(PublishDiagnostics::METHOD.into(), params);
        self.send(Message::Notification(note))
    }
}

/// Answers a request whose parameters can be read.
fn with<P: DeserializeOwned, A: serde::Serialize>(params: Json, answer: impl FnOnce(P) -> A) -> Result<Json, String> {
    let params = serde_json::from_value(params).map_err(|error| error.to_string())?;
    serde_json::to_value(answer(params)).map_err(|error| error.to_string())
}
