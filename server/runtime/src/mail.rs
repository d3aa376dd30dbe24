//! Mails over SMTP (RFC 5321). A mail has the same `Message-ID` however often it is sent, so that a repetition after a crash is
//! recognised; each recipient is accepted or refused on its own. Knows nothing of documents.

use std::time::Duration;

use kanzlei_engine::machine::{EffectError, EffectId, Letter, MOST_ATTACHED_BYTES};
use kanzlei_lang::document::purpose::Purpose;
use kanzlei_model::run::FailureKind;
use kanzlei_model::value::Value;
use lettre::address::Envelope;
use lettre::message::header::{ContentType, HeaderName, HeaderValue};
use lettre::message::{Attachment, Mailbox, Message, MultiPart, SinglePart};
use lettre::transport::smtp::authentication::{Credentials, Mechanism};
use lettre::transport::smtp::client::{AsyncSmtpConnection, Certificate, TlsParameters};
use lettre::transport::smtp::commands::{Data, Mail, Rcpt};
use lettre::transport::smtp::extension::{ClientId, Extension, MailParameter};
use lettre::transport::smtp::{Error as Trouble, SMTP_PORT, SUBMISSIONS_PORT};
use std::sync::Arc;
use tokio::sync::Semaphore;
use uuid::Uuid;

use crate::effects::Context;
use crate::files::Holder;
use crate::secrets::Secrets;

/// How mails are sent.
#[derive(Clone, Debug, Default)]
pub struct Settings {
    /// `smtps://HOST:PORT`, or `smtp://HOST:PORT` for STARTTLS.
    pub url: String,
    /// The sender.
    pub from: String,
    /// The name of the secret `USER:PASSWORD`.
    pub secret: Option<String>,
    /// Whether a connection that is not encrypted is accepted.
    pub plain: bool,
    /// Certificates that are trusted beside those of the machine (PEM).
    pub trusted: Option<String>,
    /// Mails at once.
    pub at_once: usize,
}

/// The mail server, as an address names it.
#[derive(Clone, Debug, PartialEq)]
struct Server {
    host: String,
    port: u16,
    /// Whether the connection is encrypted from its beginning.
    encrypted: bool,
}

/// Sends mails.
pub struct Mailer {
    settings: Settings,
    server: Option<(Server, Mailbox)>,
    secrets: Arc<Secrets>,
    slots: Semaphore,
}

fn fault(kind: FailureKind, detail: impl Into<String>) -> EffectError {
    EffectError { kind, detail: detail.into() }
}

/// What the server, or the way to it, did.
fn trouble(error: &Trouble) -> EffectError {
    let kind = match () {
        () if error.is_permanent() => FailureKind::Refused,
        () if error.is_timeout() => FailureKind::Timeout,
        () => FailureKind::Mail,
    };
    fault(kind, format!("mail server: {}", said(error)))
}

/// The innermost cause says what happened.
fn said(error: &Trouble) -> String {
    use std::error::Error;
    let status = error.status().map_or_else(String::new, |status| format!("{status} "));
    let text = error.source().map_or_else(|| error.to_string(), ToString::to_string);
    let text: String = text.split_whitespace().collect::<Vec<_>>().join(" ").chars().take(200).collect();
    format!("{status}{text}")
}

fn server(url: &str) -> Result<Server, String> {
    let wanted = || format!("`{url}` is no mail server; write smtps://HOST:PORT, or smtp://HOST:PORT for STARTTLS");
    let (encrypted, rest) = match url.split_once("://") {
        Some(("smtps", rest)) => (true, rest),
        Some(("smtp", rest)) => (false, rest),
        _ => return Err(wanted()),
    };
    let rest = rest.trim_end_matches('/');
    let (host, port) = match rest.rsplit_once(':') {
        Some((host, port)) if !host.ends_with(':') => (host, port.parse().map_err(|_| wanted())?),
        _ => (rest, if encrypted { SUBMISSIONS_PORT } else { SMTP_PORT }),
    };
    match host.is_empty() || host.contains(['@', '/', '?', ' ']) {
        true => Err(wanted()),
        false => Ok(Server { host: host.to_owned(), port, encrypted }),
    }
}

impl Settings {
    /// What is wrong with them.
    ///
    /// # Errors
    /// The setting and what is wrong.
    pub fn check(&self) -> Result<(), String> {
        self.parsed().map(|_| ())
    }

    fn parsed(&self) -> Result<Option<(Server, Mailbox)>, String> {
        if self.url.is_empty() {
            return Ok(None);
        }
        let server = server(&self.url).map_err(|why| format!("mail.url: {why}"))?;
        let from: Mailbox = self.from.parse().map_err(|_| format!("mail.from: `{}` is no address", self.from))?;
        Ok(Some((server, from)))
    }
}

impl Mailer {
    /// A mailer with these settings, which [`Settings::check`] accepts.
    pub fn new(settings: Settings, secrets: Arc<Secrets>) -> Self {
        let server = settings.parsed().ok().flatten();
        Mailer { server, secrets, slots: Semaphore::new(settings.at_once.max(1)), settings }
    }

    /// Whether there is a mail server.
    pub fn is_set(&self) -> bool {
        self.server.is_some()
    }

    /// Sends a mail of a run, within a time.
    ///
    /// # Errors
    /// `refused` when the server refuses it for good, `mail` when it may accept it later.
    pub async fn send(
        &self,
        run: &Context,
        id: EffectId,
        letter: &Letter,
        left: Duration,
    ) -> Result<Value, EffectError> {
        let within = letter.within.min(left);
        match tokio::time::timeout(within, self.deliver(run, id, letter, within)).await {
            Ok(done) => done,
            Err(_) => {
                let within = kanzlei_model::duration::short(within);
                Err(fault(FailureKind::Timeout, format!("the mail server did not accept the mail within {within}")))
            }
        }
    }

    async fn deliver(
        &self,
        run: &Context,
        id: EffectId,
        letter: &Letter,
        within: Duration,
    ) -> Result<Value, EffectError> {
        let Some((server, from)) = &self.server else {
            return Err(fault(FailureKind::Mail, "the service knows no mail server: `mail.url`, `mail.from`"));
        };
        let slot = self.slots.acquire().await;
        let _slot = slot.map_err(|error| fault(FailureKind::Internal, error.to_string()))?;
        let message_id = message_id(run.id, id, from);
        let message = compose(letter, from, &message_id, &run.files).await?;
        let mut connection = self.connect(server, within).await?;
        let done = converse(&mut connection, letter, from, &message).await;
        match done {
            Ok((accepted, refused)) => {
                let _ = connection.quit().await;
                let accepted = accepted.into_iter().map(Value::text).collect();
                Ok(Value::object([
                    ("id", Value::text(message_id)),
                    ("accepted", Value::list(accepted)),
                    ("refused", Value::list(refused)),
                ]))
            }
            Err(fault) => {
                connection.abort().await;
                Err(fault)
            }
        }
    }

    async fn connect(&self, server: &Server, within: Duration) -> Result<AsyncSmtpConnection, EffectError> {
        let hello = ClientId::Domain("localhost".to_owned());
        let tls = || {
            let mut tls = TlsParameters::builder(server.host.clone());
            if let Some(trusted) = &self.settings.trusted {
                let pem = std::fs::read(trusted)
                    .map_err(|error| fault(FailureKind::Mail, format!("mail.trusted: {trusted}: {error}")))?;
                tls = tls.add_root_certificate(Certificate::from_pem(&pem).map_err(|error| trouble(&error))?);
            }
            tls.build_rustls().map_err(|error| trouble(&error))
        };
        let from_the_start = if server.encrypted { Some(tls()?) } else { None };
        let address = (server.host.as_str(), server.port);
        let connected = AsyncSmtpConnection::connect_tokio1(address, Some(within), &hello, from_the_start, None).await;
        let mut connection = connected.map_err(|error| trouble(&error))?;
        if !server.encrypted && !self.settings.plain {
            if !connection.can_starttls() {
                let detail = "the mail server offers no encryption (STARTTLS); `mail.plain=true` accepts that";
                return Err(fault(FailureKind::Mail, detail));
            }
            connection.starttls(tls()?, &hello).await.map_err(|error| trouble(&error))?;
        }
        if let Some(name) = &self.settings.secret {
            let withheld = |why: String| fault(FailureKind::Mail, format!("the mail server's secret: {why}"));
            let text = self.secrets.get(name, Purpose::Mail).map_err(|why| withheld(why.to_string()))?;
            let Some((user, password)) = text.split_once(':') else {
                return Err(withheld("it must hold `USER:PASSWORD`".to_owned()));
            };
            let credentials = Credentials::new(user.to_owned(), password.to_owned());
            let signed_in = connection.auth(&[Mechanism::Plain, Mechanism::Login], &credentials).await;
            // What is wrong with the credentials is not the mail's fault, and can be set right.
            signed_in.map_err(|error| fault(FailureKind::Mail, format!("mail server: {}", said(&error))))?;
        }
        Ok(connection)
    }
}

/// The same for a step of a run, however often it is performed.
fn message_id(run: Uuid, effect: EffectId, from: &Mailbox) -> String {
    format!("<{run}.{effect}@{}>", from.email.domain())
}

/// The recipients that the server accepts, and what it says of others.
async fn converse(
    connection: &mut AsyncSmtpConnection,
    letter: &Letter,
    from: &Mailbox,
    message: &[u8],
) -> Result<(Vec<String>, Vec<Value>), EffectError> {
    let recipients: Vec<Mailbox> = letter.recipients().filter_map(|one| one.parse().ok()).collect();
    let mut options = Vec::new();
    if recipients.iter().chain([from]).any(|one| !one.email.to_string().is_ascii()) {
        if !connection.server_info().supports_feature(Extension::SmtpUtfEight) {
            let detail = "the mail server accepts no addresses with letters beyond ASCII (SMTPUTF8)";
            return Err(fault(FailureKind::Refused, detail));
        }
        options.push(MailParameter::SmtpUtfEight);
    }
    let begin = Mail::new(Some(from.email.clone()), options);
    connection.command(begin).await.map_err(|error| trouble(&error))?;
    let (mut accepted, mut refused, mut later) = (Vec::new(), Vec::new(), None);
    for recipient in &recipients {
        let address = recipient.email.to_string();
        match connection.command(Rcpt::new(recipient.email.clone(), Vec::new())).await {
            Ok(_) => accepted.push(address),
            Err(error) if error.is_permanent() => {
                let status = error.status().and_then(|code| code.to_string().parse().ok()).unwrap_or(550);
                refused.push(Value::object([
                    ("address", Value::text(address)),
                    ("status", Value::Int(status)),
                    ("detail", Value::text(said(&error))),
                ]));
            }
            // No recipient gets it twice: where one has to wait, all wait.
            Err(error) if error.is_transient() => later = Some((address, error)),
            Err(error) => return Err(trouble(&error)),
        }
    }
    if let Some((address, error)) = later {
        return Err(fault(FailureKind::Mail, format!("mail server: {address}: {}", said(&error))));
    }
    if accepted.is_empty() {
        let first = refused.first().and_then(|one| one.member("detail")).and_then(Value::as_text).unwrap_or_default();
        return Err(fault(FailureKind::Refused, format!("mail server: no recipient is accepted: {first}")));
    }
    connection.command(Data).await.map_err(|error| trouble(&error))?;
    connection.message(message).await.map_err(|error| trouble(&error))?;
    Ok((accepted, refused))
}

/// The message as it is sent (RFC 5322, MIME).
async fn compose(letter: &Letter, from: &Mailbox, id: &str, holder: &Arc<Holder>) -> Result<Vec<u8>, EffectError> {
    let wrong = |error: &dyn std::fmt::Display| fault(FailureKind::Input, format!("the mail cannot be made: {error}"));
    let mailbox = |text: &String| text.parse::<Mailbox>().map_err(|error| wrong(&error));
    let mut builder = Message::builder().from(from.clone()).subject(letter.subject.clone());
    builder = builder.message_id(Some(id.to_owned())).date_now();
    for to in &letter.to {
        builder = builder.to(mailbox(to)?);
    }
    for cc in &letter.cc {
        builder = builder.cc(mailbox(cc)?);
    }
    if let Some(to) = &letter.reply_to {
        builder = builder.reply_to(mailbox(to)?);
    }
    // Answering machines leave it alone (RFC 3834).
    let automatic = HeaderName::new_from_ascii_str("Auto-Submitted");
    builder = builder.raw_header(HeaderValue::new(automatic, "auto-generated".to_owned()));
    let recipients: Result<Vec<_>, _> =
        letter.recipients().map(|one| one.parse::<Mailbox>().map(|to| to.email)).collect();
    let recipients = recipients.map_err(|error| wrong(&error))?;
    builder = builder.envelope(Envelope::new(Some(from.email.clone()), recipients).map_err(|error| wrong(&error))?);
    let text = SinglePart::plain(letter.text.clone());
    let attached = attachments(letter, holder).await?;
    let message = match (&letter.html, attached.is_empty()) {
        (None, true) => builder.singlepart(text),
        (Some(html), true) => builder.multipart(both(letter, html)),
        (html, false) => {
            let mixed = match html {
                Some(html) => MultiPart::mixed().multipart(both(letter, html)),
                None => MultiPart::mixed().singlepart(text),
            };
            builder.multipart(attached.into_iter().fold(mixed, MultiPart::singlepart))
        }
    };
    Ok(message.map_err(|error| wrong(&error))?.formatted())
}

fn both(letter: &Letter, html: &str) -> MultiPart {
    MultiPart::alternative_plain_html(letter.text.clone(), html.to_owned())
}

async fn attachments(letter: &Letter, holder: &Arc<Holder>) -> Result<Vec<SinglePart>, EffectError> {
    use futures_util::StreamExt;
    let mut parts = Vec::with_capacity(letter.attach.len());
    let mut all = 0;
    for file in &letter.attach {
        let mut stream = holder.open(file, None).await?;
        let mut bytes = Vec::new();
        while let Some(chunk) = stream.next().await {
            let chunk = chunk.map_err(|error| fault(FailureKind::Place, error.to_string()))?;
            all += chunk.len() as u64;
            if all > MOST_ATTACHED_BYTES {
                return Err(fault(
                    FailureKind::TooLarge,
                    format!("the files have more than {MOST_ATTACHED_BYTES} bytes"),
                ));
            }
            bytes.extend_from_slice(&chunk);
        }
        let media = file.media.parse::<ContentType>().or_else(|_| "application/octet-stream".parse());
        let media = media.map_err(|error| fault(FailureKind::Internal, error.to_string()))?;
        let name: String = file.name.as_deref().unwrap_or("file").chars().filter(|c| !c.is_control()).collect();
        parts.push(Attachment::new(name).body(bytes, media));
    }
    Ok(parts)
}

#[cfg(test)]
mod tests;
