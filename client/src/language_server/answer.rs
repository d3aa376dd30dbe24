//! Requests of the protocol, answered from the analysis.

use std::collections::HashMap;

use kanzlei_analysis::complete::{self, Kind, Range as Bytes};
use kanzlei_analysis::{hover as hovering, outline, symbols as naming};
use kanzlei_lang::diagnostic::{Diagnostic as Finding, Severity};
use lsp_types::{
    CodeAction, CodeActionKind, CodeActionOrCommand, CodeActionParams, CompletionItem, CompletionItemKind,
    CompletionList, CompletionParams, CompletionTextEdit, Diagnostic, DiagnosticSeverity, DocumentSymbol,
    DocumentSymbolParams, DocumentSymbolResponse, Documentation, FoldingRange, FoldingRangeParams,
    GotoDefinitionParams, GotoDefinitionResponse, Hover, HoverContents, HoverParams, InsertTextFormat, InsertTextMode,
    Location, MarkupContent, MarkupKind, NumberOrString, PrepareRenameResponse, ReferenceParams, RenameParams,
    SymbolKind, TextDocumentPositionParams, TextEdit, Uri, WorkspaceEdit,
};

use super::offices::{Offices, Place, uri_of};
use super::position;

fn markdown(text: String) -> MarkupContent {
    MarkupContent { kind: MarkupKind::Markdown, value: text }
}

impl Place<'_> {
    fn byte(&self, at: lsp_types::Position) -> usize {
        position::byte(self.text(), at, self.encoding)
    }

    fn range(&self, bytes: Bytes) -> lsp_types::Range {
        position::range(self.text(), bytes.start, bytes.end, self.encoding)
    }

    fn location(&self, found: &naming::Location) -> Option<Location> {
        let text = self.workspace.text(&found.path)?;
        let range = position::range(text, found.range.start, found.range.end, self.encoding);
        Some(Location { uri: uri_of(&found.path)?, range })
    }
}

pub(super) fn completion(offices: &mut Offices, params: &CompletionParams) -> Option<CompletionList> {
    let at = &params.text_document_position;
    let place = offices.place(&at.text_document.uri)?;
    let found = complete::at(place.workspace, &place.path, place.byte(at.position));
    let items = found.into_iter().enumerate().map(|(rank, one)| {
        let new_text = if one.snippet { one.insert } else { one.insert.clone() };
        CompletionItem {
            kind: Some(match one.kind {
                Kind::Key => CompletionItemKind::PROPERTY,
                Kind::Step => CompletionItemKind::KEYWORD,
                Kind::Value => CompletionItemKind::VALUE,
                Kind::Operation => CompletionItemKind::INTERFACE,
                Kind::Reference => CompletionItemKind::REFERENCE,
                Kind::Input | Kind::Member => CompletionItemKind::FIELD,
                Kind::Name => CompletionItemKind::VARIABLE,
                Kind::Method => CompletionItemKind::METHOD,
                Kind::Function => CompletionItemKind::FUNCTION,
            }),
            // The order of the answer is kept, and what is typed is compared with the label.
            sort_text: Some(format!("{rank:04}")),
            filter_text: Some(filter(&place, one.replace, &one.label)),
            detail: (!one.detail.is_empty()).then_some(one.detail),
            documentation: (!one.about.is_empty()).then(|| Documentation::MarkupContent(markdown(one.about))),
            insert_text_format: Some(if one.snippet {
                InsertTextFormat::SNIPPET
            } else {
                InsertTextFormat::PLAIN_TEXT
            }),
            // Lines of a snippet have their indentation already.
            insert_text_mode: Some(InsertTextMode::AS_IS),
            text_edit: Some(CompletionTextEdit::Edit(TextEdit { range: place.range(one.replace), new_text })),
            label: one.label,
            ..CompletionItem::default()
        }
    });
    Some(CompletionList { is_incomplete: false, items: items.collect() })
}

/// What an editor compares with the text that is replaced, which may begin with a quote or a dot.
fn filter(place: &Place, replace: Bytes, label: &str) -> String {
    let raw = place.text().get(replace.start as usize..replace.end as usize).unwrap_or_default();
    let lead: String = raw.chars().take_while(|c| matches!(c, '"' | '\'' | '.' | '-' | ' ')).collect();
    format!("{lead}{label}")
}

pub(super) fn hover(offices: &mut Offices, params: &HoverParams) -> Option<Hover> {
    let at = &params.text_document_position_params;
    let place = offices.place(&at.text_document.uri)?;
    let found = hovering::at(place.workspace, &place.path, place.byte(at.position))?;
    Some(Hover { range: Some(place.range(found.range)), contents: HoverContents::Markup(markdown(found.text)) })
}

pub(super) fn definition(offices: &mut Offices, params: &GotoDefinitionParams) -> Option<GotoDefinitionResponse> {
    let at = &params.text_document_position_params;
    let place = offices.place(&at.text_document.uri)?;
    let found = naming::definition(place.workspace, &place.path, place.byte(at.position));
    Some(GotoDefinitionResponse::Array(found.iter().filter_map(|one| place.location(one)).collect()))
}

pub(super) fn references(offices: &mut Offices, params: &ReferenceParams) -> Option<Vec<Location>> {
    let at = &params.text_document_position;
    let place = offices.place(&at.text_document.uri)?;
    let declarations = params.context.include_declaration;
    let found = naming::references(place.workspace, &place.path, place.byte(at.position), declarations);
    Some(found.iter().filter_map(|one| place.location(one)).collect())
}

pub(super) fn prepare_rename(offices: &mut Offices, at: &TextDocumentPositionParams) -> Option<PrepareRenameResponse> {
    let place = offices.place(&at.text_document.uri)?;
    let found = naming::at(place.workspace, &place.path, place.byte(at.position))?;
    let placeholder = found.symbol.name().to_owned();
    Some(PrepareRenameResponse::RangeWithPlaceholder { range: place.range(found.range), placeholder })
}

// The protocol's own type: URIs are its keys.
#[allow(clippy::mutable_key_type)]
pub(super) fn rename(offices: &mut Offices, params: &RenameParams) -> Result<WorkspaceEdit, String> {
    let at = &params.text_document_position;
    let place = offices.place(&at.text_document.uri).ok_or("the document is no file")?;
    let position = place.byte(at.position);
    let edits =
        naming::rename(place.workspace, &place.path, position, &params.new_name).map_err(|refused| refused.0)?;
    let mut changes: HashMap<Uri, Vec<TextEdit>> = HashMap::new();
    for (path, edits) in edits {
        let text = place.workspace.text(&path).unwrap_or_default();
        let of = |edit: kanzlei_lang::edit::Edit| TextEdit {
            range: position::range(text, edit.start, edit.end, place.encoding),
            new_text: edit.text,
        };
        if let Some(uri) = uri_of(&path) {
            changes.insert(uri, edits.into_iter().map(of).collect());
        }
    }
    Ok(WorkspaceEdit { changes: Some(changes), ..WorkspaceEdit::default() })
}

fn diagnostic(place: &Place, finding: &Finding) -> Diagnostic {
    let text = place.workspace.text(&finding.path).unwrap_or_default();
    let message = match &finding.help {
        Some(help) => format!("{}\n{help}", finding.message),
        None => finding.message.clone(),
    };
    Diagnostic {
        range: position::range(text, finding.start, finding.end.max(finding.start), place.encoding),
        severity: Some(match finding.severity {
            Severity::Error => DiagnosticSeverity::ERROR,
            Severity::Warning => DiagnosticSeverity::WARNING,
        }),
        code: Some(NumberOrString::String(finding.code.clone())),
        source: Some("kanzlei".into()),
        message,
        ..Diagnostic::default()
    }
}

/// The findings of one document.
pub(super) fn diagnostics(offices: &mut Offices, uri: &Uri) -> Option<Vec<Diagnostic>> {
    let place = offices.place(uri)?;
    Some(place.workspace.diagnostics(&place.path).iter().map(|finding| diagnostic(&place, finding)).collect())
}

/// The findings of all documents of an office, also of those that have none.
pub(super) fn all_diagnostics(offices: &mut Offices, uri: &Uri) -> Vec<(Uri, Vec<Diagnostic>)> {
    let Some(place) = offices.place(uri) else { return Vec::new() };
    let all = place.workspace.all_diagnostics();
    let of = |path: &str| {
        all.iter().filter(|finding| finding.path == path).map(|finding| diagnostic(&place, finding)).collect()
    };
    let paths = place.workspace.paths();
    paths.filter_map(|path| Some((uri_of(path)?, of(path)))).collect()
}

// The protocol's own type: URIs are its keys.
#[allow(clippy::mutable_key_type)]
pub(super) fn code_actions(offices: &mut Offices, params: &CodeActionParams) -> Option<Vec<CodeActionOrCommand>> {
    let uri = &params.text_document.uri;
    let place = offices.place(uri)?;
    let (from, to) = (place.byte(params.range.start), place.byte(params.range.end));
    let mut actions = Vec::new();
    for finding in place.workspace.diagnostics(&place.path) {
        if (finding.end as usize) < from || (finding.start as usize) > to {
            continue;
        }
        for fix in &finding.fixes {
            let range = place.range(Bytes { start: fix.edit.start, end: fix.edit.end });
            let edit = TextEdit { range, new_text: fix.edit.text.clone() };
            actions.push(CodeActionOrCommand::CodeAction(CodeAction {
                title: fix.title.clone(),
                kind: Some(CodeActionKind::QUICKFIX),
                diagnostics: Some(vec![diagnostic(&place, &finding)]),
                edit: Some(WorkspaceEdit {
                    changes: Some([(uri.clone(), vec![edit])].into()),
                    ..WorkspaceEdit::default()
                }),
                is_preferred: Some(finding.fixes.len() == 1),
                ..CodeAction::default()
            }));
        }
    }
    Some(actions)
}

/// The steps as a tree, each with its number on the sheet.
pub(super) fn symbols(offices: &mut Offices, params: &DocumentSymbolParams) -> Option<DocumentSymbolResponse> {
    let place = offices.place(&params.text_document.uri)?;
    let entries = outline::of(place.workspace, &place.path);
    let mut rest = entries.as_slice();
    Some(DocumentSymbolResponse::Nested(nested(&place, &mut rest, 1)))
}

#[allow(deprecated)]
fn nested(place: &Place, rest: &mut &[outline::Entry], depth: usize) -> Vec<DocumentSymbol> {
    let mut out: Vec<DocumentSymbol> = Vec::new();
    while let Some(entry) = rest.first() {
        let level = entry.number.split('.').count();
        if level < depth {
            break;
        }
        if level > depth {
            let children = nested(place, rest, level);
            if let Some(last) = out.last_mut() {
                last.children.get_or_insert_default().extend(children);
            }
            continue;
        }
        *rest = &rest[1..];
        let branch = entry.branch.as_ref().map(|branch| format!("{branch}: ")).unwrap_or_default();
        let range = place.range(entry.range);
        out.push(DocumentSymbol {
            name: format!("{} {branch}{} {}", entry.number, entry.kind, entry.title).trim_end().to_owned(),
            detail: entry.id.clone(),
            kind: match entry.kind.as_str() {
                "call" | "invoke" | "enqueue" => SymbolKind::FUNCTION,
                "let" | "keep" => SymbolKind::VARIABLE,
                "reply" | "fail" => SymbolKind::EVENT,
                _ => SymbolKind::OBJECT,
            },
            range,
            selection_range: lsp_types::Range { start: range.start, end: range.start },
            children: None,
            tags: None,
            deprecated: None,
        });
    }
    out
}

/// Steps fold, and the keys of the document with what stands below them.
pub(super) fn folding(offices: &mut Offices, params: &FoldingRangeParams) -> Option<Vec<FoldingRange>> {
    let place = offices.place(&params.text_document.uri)?;
    let text = place.text();
    let mut ranges: Vec<lsp_types::Range> =
        outline::of(place.workspace, &place.path).iter().map(|entry| place.range(entry.range)).collect();
    let mut open: Option<(u32, u32)> = None;
    for (number, line) in text.lines().enumerate() {
        let key = line.starts_with(|c: char| c.is_ascii_alphabetic());
        let filled = !line.trim().is_empty() && !line.starts_with('#');
        if key {
            ranges.extend(open.take().map(lines));
            open = Some((number as u32, number as u32));
        } else if let Some((_, end)) = open.as_mut().filter(|_| filled) {
            *end = number as u32;
        }
    }
    ranges.extend(open.map(lines));
    let folds = ranges.into_iter().filter(|range| range.end.line > range.start.line);
    Some(
        folds
            .map(|range| FoldingRange {
                start_line: range.start.line,
                end_line: range.end.line,
                ..FoldingRange::default()
            })
            .collect(),
    )
}

fn lines((start, end): (u32, u32)) -> lsp_types::Range {
    let at = |line| lsp_types::Position { line, character: 0 };
    lsp_types::Range { start: at(start), end: at(end) }
}
