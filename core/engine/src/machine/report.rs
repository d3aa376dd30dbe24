//! `render` and `mail` steps in the machine: templates are filled here, printing and sending happen outside.

use std::str::FromStr;
use std::time::Duration;

use super::file::{FileTask, FileWork, Made, Stopped, files_of, packed, text};
use super::flow::{Awaits, Fibre, Flow, What};
use super::{Effect, Failure, Machine, State};
use kanzlei_compiler::plan::Maker;
use kanzlei_compiler::plan::render::{Mail, Render};
use kanzlei_lang::expr::{self, ops};
use kanzlei_model::file::File;
use kanzlei_model::run::FailureKind;
use kanzlei_model::value::Value;
use kanzlei_reports::Format;
use lettre::message::Mailbox;

/// The most recipients of a mail.
pub const MOST_RECIPIENTS: usize = 100;
/// The most files of a mail.
pub const MOST_ATTACHED: usize = 20;
/// The most bytes of the files of a mail.
pub const MOST_ATTACHED_BYTES: u64 = 20 << 20;
/// The most bytes of the text of a mail, and of its page.
pub const MOST_OF_LETTER: usize = 2 << 20;
/// The most characters of a subject.
const MOST_OF_SUBJECT: usize = 500;

/// A mail that is to be sent; its addresses are valid.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Letter {
    /// Recipients that all see.
    pub to: Vec<String>,
    /// Recipients of a copy.
    pub cc: Vec<String>,
    /// Recipients that the others do not see.
    pub bcc: Vec<String>,
    /// Where replies go.
    pub reply_to: Option<String>,
    /// What it is about.
    pub subject: String,
    /// Its text.
    pub text: String,
    /// The same as a page.
    pub html: Option<String>,
    /// Its files.
    pub attach: Vec<File>,
    /// How long it may take.
    pub within: Duration,
}

impl Letter {
    /// All recipients.
    pub fn recipients(&self) -> impl Iterator<Item = &str> {
        self.to.iter().chain(&self.cc).chain(&self.bcc).map(String::as_str)
    }

    /// What records, cases and trials see of it.
    pub fn shown(&self) -> Value {
        let list = |all: &[String]| Value::list(all.iter().map(|one| Value::text(one.as_str())).collect());
        let mut members = vec![("to", list(&self.to))];
        let more = [("cc", &self.cc), ("bcc", &self.bcc)];
        members.extend(more.into_iter().filter(|(_, all)| !all.is_empty()).map(|(name, all)| (name, list(all))));
        members.extend(self.reply_to.as_ref().map(|to| ("reply_to", Value::text(to.as_str()))));
        members.push(("subject", Value::text(self.subject.as_str())));
        members.push(("text", Value::text(self.text.as_str())));
        members.extend(self.html.as_ref().map(|html| ("html", Value::text(html.as_str()))));
        if !self.attach.is_empty() {
            members.push(("attach", Value::list(self.attach.iter().map(|file| file.clone().into()).collect())));
        }
        Value::object(members)
    }
}

impl Machine {
    pub(super) fn start_render(
        &mut self,
        at: usize,
        fibre: &mut Fibre,
        step: &Render,
        record: usize,
    ) -> Result<Flow, Box<expr::EvalError>> {
        let format = step.templates.format();
        let mut with = Vec::with_capacity(step.with.len());
        for (name, maker) in &step.with {
            with.push((name.clone(), maker.make(&fibre.slots, self.limits())?));
        }
        let with = Value::object(with);
        self.records[record].sent = Value::object([
            ("render", Value::text(format.word())),
            ("template", Value::text(step.templates.root())),
            ("with", with.clone()),
        ]);
        let filled = match step.templates.render(&with) {
            Ok(filled) => filled,
            Err(fault) => {
                let failure = Failure::new(FailureKind::Expression, fault.to_string());
                return Ok(self.step_failed(fibre, record, failure));
            }
        };
        let name = match &step.name {
            Some(name) => ops::to_text(&name.make(&fibre.slots, self.limits())?).to_string(),
            None if format == Format::Pdf => "report.pdf".to_owned(),
            None => {
                self.close(fibre, record, State::Succeeded, Value::text(filled));
                return Ok(Flow::On);
            }
        };
        let work = match (format, &step.files) {
            (Format::Pdf, files) => {
                let files = match files {
                    None => Ok(Vec::new()),
                    Some(files) => packed(&files.make(&fibre.slots, self.limits())?),
                };
                match files {
                    Ok(files) => FileWork::Print { page: filled, files, name, pages: step.pages },
                    Err(stopped) => return self.stopped(fibre, record, stopped),
                }
            }
            _ => FileWork::Keep { text: filled, media: format.media(), name },
        };
        let id = self.ask(at, Effect::File(Box::new(FileTask { work, within: step.within })));
        fibre.awaits = Awaits::Effect { id, record: Some(record), what: What::File };
        Ok(Flow::Waits)
    }

    fn stopped(&mut self, fibre: &mut Fibre, record: usize, stopped: Stopped) -> Result<Flow, Box<expr::EvalError>> {
        match stopped {
            Stopped::Evaluation(error) => Err(error),
            Stopped::Value(detail) => Ok(self.step_failed(fibre, record, Failure::new(FailureKind::Input, detail))),
        }
    }

    pub(super) fn start_mail(
        &mut self,
        at: usize,
        fibre: &mut Fibre,
        step: &Mail,
        record: usize,
    ) -> Result<Flow, Box<expr::EvalError>> {
        let letter = match self.letter(fibre, step) {
            Ok(letter) => letter,
            Err(stopped) => return self.stopped(fibre, record, stopped),
        };
        self.records[record].sent = letter.shown();
        let id = self.ask(at, Effect::Mail(Box::new(letter)));
        fibre.awaits = Awaits::Effect { id, record: Some(record), what: What::File };
        Ok(Flow::Waits)
    }

    fn letter(&self, fibre: &Fibre, step: &Mail) -> Made<Letter> {
        let make = |name: &str| -> Made<Option<Value>> {
            let made = step.part(name).map(|maker: &Maker| maker.make(&fibre.slots, self.limits()));
            Ok(made.transpose()?)
        };
        let addresses = |name: &str| -> Made<Vec<String>> {
            let Some(value) = make(name)? else { return Ok(Vec::new()) };
            value.as_list().unwrap_or(std::slice::from_ref(&value)).iter().map(address).collect()
        };
        let body = |name: &str| -> Made<Option<String>> {
            let made = make(name)?.map(|value| text(&value, "the text of a mail")).transpose()?;
            match made.as_ref().is_some_and(|text| text.len() > MOST_OF_LETTER) {
                true => Err(Stopped::Value(format!("the `{name}` of a mail has at most {MOST_OF_LETTER} bytes"))),
                false => Ok(made),
            }
        };
        let subject = make("subject")?.map(|value| text(&value, "the subject")).transpose()?.unwrap_or_default();
        if subject.chars().any(char::is_control) || subject.chars().count() > MOST_OF_SUBJECT {
            let detail = format!("a subject is one line of at most {MOST_OF_SUBJECT} characters");
            return Err(Stopped::Value(detail));
        }
        let html = body("html")?;
        let text = match (body("text")?, &html) {
            (Some(text), _) => text,
            (None, Some(html)) => nanohtml2text::html2text(html).replace("\r\n", "\n"),
            (None, None) => String::new(),
        };
        let attach = make("attach")?.map(|value| files_of(&value)).transpose()?.unwrap_or_default();
        let bytes = attach.iter().fold(0, |all: u64, file| all.saturating_add(file.size));
        if attach.len() > MOST_ATTACHED || bytes > MOST_ATTACHED_BYTES {
            return Err(Stopped::Value(format!(
                "{} files with {bytes} bytes; a mail has at most {MOST_ATTACHED} files with {MOST_ATTACHED_BYTES} bytes",
                attach.len()
            )));
        }
        let letter = Letter {
            to: addresses("to")?,
            cc: addresses("cc")?,
            bcc: addresses("bcc")?,
            reply_to: make("reply_to")?.as_ref().map(address).transpose()?,
            subject,
            text,
            html,
            attach,
            within: step.within,
        };
        match letter.recipients().count() {
            0 => Err(Stopped::Value("a mail has at least one recipient".to_owned())),
            1..=MOST_RECIPIENTS => Ok(letter),
            count => Err(Stopped::Value(format!("{count} recipients; a mail has at most {MOST_RECIPIENTS}"))),
        }
    }
}

/// An address as headers write it; nothing else gets into one.
fn address(value: &Value) -> Made<String> {
    let text = text(value, "an address")?;
    let shown: String = text.chars().take(80).collect();
    match Mailbox::from_str(text.trim()) {
        Ok(mailbox) if text.len() <= 320 && !text.chars().any(char::is_control) => Ok(mailbox.to_string()),
        _ => Err(Stopped::Value(format!("`{}` is no address", shown.escape_debug()))),
    }
}
