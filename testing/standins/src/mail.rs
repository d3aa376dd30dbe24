//! `mail`: a mail server that delivers nothing. It accepts messages over SMTP (RFC 5321) from the office, keeps the last ones in memory, and
//! shows them on a page at `/mail`. Recipients whose name begins with `unknown` are refused for good, those with `busy` for now.

use std::collections::VecDeque;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use actix_web::web::{self, Data, Path};
use actix_web::{HttpResponse, Responder};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use mail_parser::{Message, MessageParser, MimeHeaders};
use serde_json::{Value as Json, json};
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::{TcpListener, TcpStream};

use crate::State;

/// Name and password of the office.
const LOGIN: &str = "\0office\0lindvik-mail";
/// The most messages that are kept.
const MOST: usize = 500;
/// The most bytes of a message, and of all that are kept.
const MOST_OF_ONE: usize = 32 << 20;
const MOST_BYTES: usize = 128 << 20;
/// The longest line of a dialogue, in bytes.
const LINE: u64 = 2000;

/// A message as it came in.
struct Kept {
    number: u64,
    /// The recipients of its envelope.
    to: Vec<String>,
    raw: Vec<u8>,
}

#[derive(Default)]
pub struct Mailbox {
    kept: Mutex<(u64, VecDeque<Kept>)>,
}

impl Mailbox {
    fn keep(&self, to: Vec<String>, raw: Vec<u8>) {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        kept.0 += 1;
        let number = kept.0;
        kept.1.push_back(Kept { number, to, raw });
        while kept.1.len() > MOST || kept.1.iter().map(|one| one.raw.len()).sum::<usize>() > MOST_BYTES {
            kept.1.pop_front();
        }
    }

    fn with<T>(&self, number: u64, make: impl Fn(&Kept, &Message) -> Option<T>) -> Option<T> {
        let kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        let found = kept.1.iter().find(|one| one.number == number)?;
        make(found, &MessageParser::default().parse(&found.raw)?)
    }
}

/// Accepts messages until the process ends.
pub async fn listen(address: String, mailbox: Data<Mailbox>, state: Data<State>) -> std::io::Result<()> {
    let listener = TcpListener::bind(&address).await.map_err(|error| {
        std::io::Error::new(error.kind(), format!("{address}: {error}; choose another with --mail"))
    })?;
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            let (mailbox, state) = (mailbox.clone(), state.clone());
            tokio::spawn(async move {
                let _ = tokio::time::timeout(Duration::from_secs(300), dialogue(stream, &mailbox, &state)).await;
            });
        }
    });
    Ok(())
}

async fn dialogue(stream: TcpStream, mailbox: &Mailbox, state: &State) -> std::io::Result<()> {
    let mut stream = BufReader::new(stream);
    let (mut signed_in, mut from, mut to) = (false, false, Vec::new());
    stream.write_all(b"220 mail.lindvik.example stand-in\r\n").await?;
    loop {
        let mut line = String::new();
        if (&mut stream).take(LINE).read_line(&mut line).await? == 0 {
            return Ok(());
        }
        let line = line.trim_end();
        let word = line.split([' ', ':']).next().unwrap_or_default().to_ascii_uppercase();
        let reply = match word.as_str() {
            "EHLO" => "250-mail.lindvik.example\r\n250-8BITMIME\r\n250-AUTH PLAIN\r\n250 SIZE 33554432".to_owned(),
            "HELO" | "NOOP" => "250 ok".to_owned(),
            "AUTH" => {
                let given = line.rsplit(' ').next().and_then(|text| STANDARD.decode(text).ok());
                signed_in = given.is_some_and(|given| given == LOGIN.as_bytes());
                if signed_in { "235 welcome".to_owned() } else { "535 wrong name or password".to_owned() }
            }
            "MAIL" if !signed_in => "530 sign in first".to_owned(),
            "MAIL" => match state.stumble("mail").await {
                Some(status) => refused(status),
                None => {
                    (from, to) = (true, Vec::new());
                    "250 ok".to_owned()
                }
            },
            "RCPT" if !from => "503 MAIL comes first".to_owned(),
            "RCPT" => {
                let address = line.split(['<', '>']).nth(1).unwrap_or_default().to_owned();
                match () {
                    () if address.starts_with("unknown") => "550 5.1.1 there is no such mailbox".to_owned(),
                    () if address.starts_with("busy") => "450 4.2.1 the mailbox is busy".to_owned(),
                    () if to.len() >= 100 => "452 4.5.3 too many recipients".to_owned(),
                    () => {
                        to.push(address);
                        "250 ok".to_owned()
                    }
                }
            }
            "DATA" if to.is_empty() => "503 RCPT comes first".to_owned(),
            "DATA" => {
                stream.write_all(b"354 go on\r\n").await?;
                match message(&mut stream).await? {
                    Some(raw) => {
                        mailbox.keep(std::mem::take(&mut to), raw);
                        from = false;
                        "250 kept".to_owned()
                    }
                    None => "552 5.3.4 the message is too large".to_owned(),
                }
            }
            "RSET" => {
                (from, to) = (false, Vec::new());
                "250 ok".to_owned()
            }
            "QUIT" => {
                stream.write_all(b"221 bye\r\n").await?;
                return Ok(());
            }
            _ => "502 not known".to_owned(),
        };
        stream.write_all(format!("{reply}\r\n").as_bytes()).await?;
    }
}

fn refused(status: u16) -> String {
    match status {
        500..=599 if status != 503 => format!("{status} 5.0.0 the stand-in is set to refuse"),
        _ => "451 4.3.0 the stand-in is set to fail".to_owned(),
    }
}

/// A message up to its end, without the dots that were put in front; nothing where it is too large.
async fn message(stream: &mut BufReader<TcpStream>) -> std::io::Result<Option<Vec<u8>>> {
    let (mut raw, mut line) = (Vec::new(), Vec::new());
    loop {
        line.clear();
        if stream.read_until(b'\n', &mut line).await? == 0 {
            return Err(std::io::ErrorKind::UnexpectedEof.into());
        }
        if line == b".\r\n" {
            return Ok(Some(raw).filter(|raw| raw.len() <= MOST_OF_ONE));
        }
        let line = line.strip_prefix(b".").unwrap_or(&line);
        if raw.len() <= MOST_OF_ONE {
            raw.extend_from_slice(line);
        }
    }
}

pub fn routes(config: &mut web::ServiceConfig) {
    config
        .route("/mail", web::get().to(list))
        .route("/mail/messages", web::get().to(messages))
        .route("/mail/messages", web::delete().to(clear))
        .route("/mail/{number}", web::get().to(show))
        .route("/mail/{number}/page", web::get().to(page))
        .route("/mail/{number}/source", web::get().to(source))
        .route("/mail/{number}/files/{file}", web::get().to(file));
}

fn header(message: &Message, name: &str) -> String {
    message.header_raw(name).map(|text| text.split_whitespace().collect::<Vec<_>>().join(" ")).unwrap_or_default()
}

fn name_of(message: &Message, at: usize) -> String {
    message.attachment(at as u32).and_then(|part| part.attachment_name()).unwrap_or("file").to_owned()
}

fn described(kept: &Kept, message: &Message) -> Json {
    let files: Vec<Json> = message
        .attachments()
        .enumerate()
        .map(|(at, part)| {
            let media = part.content_type().map(|of| format!("{}/{}", of.ctype(), of.subtype().unwrap_or("*")));
            json!({"name": name_of(message, at), "media": media, "size": part.contents().len()})
        })
        .collect();
    json!({
        "number": kept.number,
        "envelope": kept.to,
        "id": message.message_id(),
        "from": header(message, "From"),
        "to": header(message, "To"),
        "cc": header(message, "Cc"),
        "reply_to": header(message, "Reply-To"),
        "bcc": header(message, "Bcc"),
        "date": header(message, "Date"),
        "subject": message.subject(),
        "text": message.body_text(0).map(|text| text.replace("\r\n", "\n")),
        "html": (message.html_body_count() > 0).then(|| message.body_html(0)),
        "attach": files,
    })
}

/// The messages as JSON, the last one first.
async fn messages(mailbox: Data<Mailbox>) -> impl Responder {
    let kept = mailbox.kept.lock().unwrap_or_else(PoisonError::into_inner);
    let parsed = kept.1.iter().rev().filter_map(|one| Some(described(one, &MessageParser::default().parse(&one.raw)?)));
    HttpResponse::Ok().json(parsed.collect::<Vec<_>>())
}

async fn clear(mailbox: Data<Mailbox>) -> impl Responder {
    mailbox.kept.lock().unwrap_or_else(PoisonError::into_inner).1.clear();
    HttpResponse::NoContent()
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

fn framed(title: &str, body: &str) -> HttpResponse {
    let style = "body{font:15px/1.5 system-ui,sans-serif;max-width:56rem;margin:2rem auto;padding:0 1rem;color:#1b2a38}\
        table{width:100%;border-collapse:collapse}td,th{text-align:left;padding:.35rem .6rem;border-bottom:1px solid #d8dee5;vertical-align:top}\
        a{color:#1d4e89}pre{white-space:pre-wrap;background:#f4f6f8;padding:1rem}iframe{width:100%;height:26rem;border:1px solid #d8dee5}\
        h1{font-size:1.4rem}.quiet{color:#5b6975}";
    HttpResponse::Ok().content_type("text/html; charset=utf-8").body(format!(
        "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\">\
         <title>{title}</title><style>{style}</style>{body}</html>"
    ))
}

async fn list(mailbox: Data<Mailbox>) -> HttpResponse {
    let kept = mailbox.kept.lock().unwrap_or_else(PoisonError::into_inner);
    let mut rows = String::new();
    for one in kept.1.iter().rev() {
        let Some(message) = MessageParser::default().parse(&one.raw) else { continue };
        let subject = message.subject().unwrap_or("(none)");
        rows += &format!(
            "<tr><td><a href=\"/mail/{}\">{}</a><td>{}<td>{}<td>{}",
            one.number,
            escaped(subject),
            escaped(&one.to.join(", ")),
            escaped(&header(&message, "Date")),
            match message.attachment_count() {
                0 => String::new(),
                1 => "1 file".to_owned(),
                count => format!("{count} files"),
            },
        );
    }
    let body = match rows.is_empty() {
        true => "<p class=\"quiet\">No mail has come in since the stand-ins started.".to_owned(),
        false => format!("<table><thead><tr><th>Subject<th>To<th>Date<th></thead>{rows}</table>"),
    };
    framed("Mail of the harbour office", &format!("<h1>Mail of the harbour office</h1>{body}"))
}

async fn show(number: Path<u64>, mailbox: Data<Mailbox>) -> HttpResponse {
    let shown = mailbox.with(*number, |kept, message| {
        let names = ["From", "To", "Cc", "Reply-To", "Date", "Message-ID"];
        let rows: String = names
            .iter()
            .map(|name| (name, header(message, name)))
            .filter(|(_, text)| !text.is_empty())
            .map(|(name, text)| format!("<tr><th>{name}<td>{}", escaped(&text)))
            .collect();
        let files: String = message
            .attachments()
            .enumerate()
            .map(|(at, part)| {
                let (name, size) = (escaped(&name_of(message, at)), part.contents().len());
                format!("<li><a href=\"/mail/{}/files/{at}\">{name}</a> <span class=\"quiet\">{size} bytes</span>", kept.number)
            })
            .collect();
        let page = match header(message, "Content-Type").contains("text/html")
            || message.html_bodies().any(|part| part.is_content_type("text", "html"))
        {
            true => format!("<h2>Page</h2><iframe sandbox title=\"Page\" src=\"/mail/{}/page\"></iframe>", kept.number),
            false => String::new(),
        };
        let text = escaped(&message.body_text(0).unwrap_or_default());
        let files = if files.is_empty() { files } else { format!("<h2>Files</h2><ul>{files}</ul>") };
        Some(format!(
            "<p><a href=\"/mail\">All mail</a><h1>{}</h1><table>{rows}<tr><th>Delivered to<td>{}</table><h2>Text</h2><pre>{text}</pre>{page}{files}<p><a href=\"/mail/{}/source\">Source</a>",
            escaped(message.subject().unwrap_or("(none)")),
            escaped(&kept.to.join(", ")),
            kept.number,
        ))
    });
    match shown {
        Some(body) => framed("Mail of the harbour office", &body),
        None => HttpResponse::NotFound().finish(),
    }
}

async fn page(number: Path<u64>, mailbox: Data<Mailbox>) -> HttpResponse {
    match mailbox.with(*number, |_, message| message.body_html(0).map(|html| html.into_owned())) {
        Some(html) => HttpResponse::Ok().content_type("text/html; charset=utf-8").body(html),
        None => HttpResponse::NotFound().finish(),
    }
}

async fn source(number: Path<u64>, mailbox: Data<Mailbox>) -> HttpResponse {
    match mailbox.with(*number, |kept, _| Some(kept.raw.clone())) {
        Some(raw) => HttpResponse::Ok().content_type("text/plain; charset=utf-8").body(raw),
        None => HttpResponse::NotFound().finish(),
    }
}

async fn file(at: Path<(u64, u32)>, mailbox: Data<Mailbox>) -> HttpResponse {
    let (number, file) = at.into_inner();
    let found = mailbox.with(number, |_, message| {
        let part = message.attachment(file)?;
        let media = part.content_type().map(|of| format!("{}/{}", of.ctype(), of.subtype().unwrap_or("octet-stream")));
        Some((media.unwrap_or_default(), part.contents().to_vec()))
    });
    match found {
        Some((media, bytes)) => HttpResponse::Ok().content_type(media).body(bytes),
        None => HttpResponse::NotFound().finish(),
    }
}
