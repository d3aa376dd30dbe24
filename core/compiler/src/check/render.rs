//! `render` and `mail` steps: the template is there and knows its values, the message has addresses and a text.

use std::sync::Arc;
use std::time::Duration;

use super::actions::{At, Compiled};
use super::filled::{self, Unfilled};
use super::steps::{End, Walk};
use crate::plan::render::{Mail, Render};
use crate::plan::{self, sheet};
use kanzlei_lang::document::step::{mail, render};
use kanzlei_lang::document::yaml::Node;
use kanzlei_lang::suggest;
use kanzlei_lang::types::Type;
use kanzlei_reports::{Format, Mention, Templates};

/// How long it may take by default.
const WITHIN: Duration = Duration::from_secs(60);
/// The most pages by default.
const PAGES: u32 = 200;

impl Walk<'_, '_, '_> {
    /// `render`: fills a template.
    pub(super) fn render(&mut self, step: &render::Render, at: At) -> Compiled {
        let At { paragraph, answered, .. } = at;
        let mut rows: Vec<(String, String)> =
            step.with.iter().map(|(name, node)| (name.text.clone(), sheet::inline(node))).collect();
        if let Some(name) = &step.name {
            rows.push(("name".to_owned(), sheet::inline(name)));
        }
        self.show(paragraph, "render", format!("{} {}", step.word.text, step.template.text), rows);
        let format = Format::ALL.iter().find(|(_, word)| *word == step.word.text).map(|(format, _)| *format);
        let format = format.unwrap_or(Format::Text);
        let mut whole = true;
        let mut with = Vec::with_capacity(step.with.len());
        let mut types = Vec::with_capacity(step.with.len());
        for (name, node) in &step.with {
            let (maker, of) = self.typed(node);
            whole &= maker.is_some();
            with.extend(maker.map(|maker| (name.text.as_str().into(), maker)));
            types.push((name.text.as_str(), of));
        }
        let templates = self.templates(step, format, &types);
        let files = match &step.files {
            Some(node) => self.file_of(node, true).map(Some),
            None => Some(None),
        };
        let name = match &step.name {
            Some(node) => self.text_of(node, "the name of a file", false).map(Some),
            None => Some(None),
        };
        if format == Format::Pdf
            && let Some(why) = self.known.and_then(|known| known.no_printer.clone())
        {
            self.report.error("no-printer", step.word.at, format!("the service can make no PDF: {why}"));
            self.report.help("install WeasyPrint where it runs: `apt-get install weasyprint`");
        }
        let result = match format == Format::Pdf || step.name.is_some() {
            true => Type::file(Type::text(format.media())),
            false => Type::TEXT,
        };
        let made = (|| {
            let (templates, files, name) = (templates?, files?, name?);
            let pages = step.pages.unwrap_or(PAGES);
            let within = step.within.unwrap_or(WITHIN);
            whole.then(|| Render { templates: Arc::new(templates), with, files, name, pages, within })
        })();
        (made.map(|made| plan::Action::Render(Box::new(made))), End { ends: false, answered }, result)
    }

    /// The template with all that it names; what it mentions must be there.
    fn templates(&mut self, step: &render::Render, format: Format, types: &[(&str, Type)]) -> Option<Templates> {
        let templates = match Templates::load(&step.template.text, format, self.text_beside) {
            Ok(templates) => templates,
            Err(fault) => {
                self.report.error("broken-template", step.template.at, fault.to_string());
                if fault.line.is_none() {
                    self.report.help("a template is a file beside the document, or in a folder below: `template: reports/month.html`");
                }
                return None;
            }
        };
        let mentions = templates.mentions();
        let mut known = true;
        for mention in &mentions {
            known &= self.known_value(step, types, mention);
        }
        if known && let Some(unfilled) = filled::fill(&templates, types) {
            self.unfilled(step, &unfilled);
        }
        for (name, _) in &step.with {
            if !mentions.iter().any(|mention| mention.path.first() == Some(&name.text)) {
                self.report.warning("unused-value", name.at, format!("no template mentions `{}`", name.text));
            }
        }
        Some(templates)
    }

    /// A template that cannot be filled with what the step passes.
    fn unfilled(&mut self, step: &render::Render, unfilled: &Unfilled) {
        let at = step.template.at;
        match unfilled.without {
            false => self.report.error("unfilled-template", at, format!("it cannot be filled: {}", unfilled.why)),
            true => {
                let message = format!("where a value is missing or empty, it cannot be filled: {}", unfilled.why);
                self.report.warning("unfilled-template", at, message)
            }
        };
        self.report.help("it was filled with values of the types that the step passes");
    }

    /// Whether what is mentioned is there; reports what is not.
    fn known_value(&mut self, step: &render::Render, types: &[(&str, Type)], mention: &Mention) -> bool {
        let Some((first, members)) = mention.path.split_first() else { return true };
        let place = format!("{}, line {}", mention.template, mention.line);
        let Some((_, of)) = types.iter().find(|(name, _)| name == first) else {
            self.report.error(
                "unknown-value",
                step.template.at,
                format!("{place} mentions `{first}`, which is no value"),
            );
            match suggest::nearest(first, types.iter().map(|(name, _)| *name)) {
                Some(near) => self.report.help(format!("did you mean `{near}`?")),
                None => self.report.help(format!("set it under `with`: `{first}: …`")),
            };
            return false;
        };
        let mut of = of.clone();
        for (depth, name) in members.iter().enumerate() {
            let alternatives = of.alternatives().to_vec();
            let found: Option<Vec<Type>> = alternatives
                .iter()
                .map(|one| match one {
                    Type::Object(shape) => match (shape.get(name), &shape.rest) {
                        (Some(member), _) => Some(member.value.clone()),
                        (None, rest) => rest.as_ref().map(|_| Type::Unknown),
                    },
                    _ => Some(Type::Unknown),
                })
                .collect();
            let Some(found) = found else {
                let whole = mention.path[..=depth].join(".");
                let message = format!("{place} mentions `{whole}.{name}`, which it does not have");
                self.report.error("unknown-value", step.template.at, message);
                let known = alternatives.iter().flat_map(|one| match one {
                    Type::Object(shape) => shape.members.iter().map(|member| member.name.to_string()).collect(),
                    _ => Vec::new(),
                });
                let known: Vec<String> = known.collect();
                match suggest::nearest(name, known.iter().map(String::as_str)) {
                    Some(near) => self.report.help(format!("did you mean `{whole}.{near}`?")),
                    None => self.report.help(format!("`{whole}` has {}", known.join(", "))),
                };
                return false;
            };
            of = match found.as_slice() {
                [one] => one.clone(),
                _ => Type::Unknown,
            };
        }
        true
    }

    /// `mail`: sends a message.
    pub(super) fn mail(&mut self, step: &mail::Mail, at: At) -> Compiled {
        let At { paragraph, answered, .. } = at;
        let parts: [(&'static str, Option<&Node>); 8] = [
            ("to", step.to.as_ref()),
            ("cc", step.cc.as_ref()),
            ("bcc", step.bcc.as_ref()),
            ("reply_to", step.reply_to.as_ref()),
            ("subject", Some(&step.subject)),
            ("text", step.text.as_ref()),
            ("html", step.html.as_ref()),
            ("attach", step.attach.as_ref()),
        ];
        let given = || parts.iter().filter_map(|(name, node)| node.map(|node| (*name, node)));
        let head = step.to.as_ref().map(sheet::inline).unwrap_or_default();
        let rows = given().filter(|(name, _)| *name != "to").map(|(name, node)| (name.to_owned(), sheet::inline(node)));
        self.show(paragraph, "mail", head, rows.collect());
        if self.known.is_some_and(|known| !known.mail) {
            self.report.error("no-mail", step.subject.at, "the service knows no mail server");
            self.report.help("name one in its settings: `mail.url`, and the sender: `mail.from`");
        }
        let mut made = Vec::with_capacity(parts.len());
        let mut whole = true;
        for (name, node) in given() {
            let maker = match name {
                "to" | "cc" | "bcc" => self.text_of(node, "an address", true),
                "attach" => self.one_or_several(node),
                "reply_to" => self.text_of(node, "an address", false),
                "subject" => self.text_of(node, "the subject", false),
                _ => self.text_of(node, "the text of a mail", false),
            };
            whole &= maker.is_some();
            made.extend(maker.map(|maker| (name, maker)));
        }
        let within = step.within.unwrap_or(WITHIN);
        let action = whole.then(|| plan::Action::Mail(Box::new(Mail { parts: made, within })));
        let refused = Type::object([("address", Type::TEXT), ("status", Type::NUMBER), ("detail", Type::TEXT)]);
        let result =
            Type::object([("id", Type::TEXT), ("accepted", Type::list(Type::TEXT)), ("refused", Type::list(refused))]);
        (action, End { ends: false, answered }, result)
    }
}
