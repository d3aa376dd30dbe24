use std::io::{Read, Write};
use std::net::TcpListener;
use std::sync::mpsc::{Receiver, channel};

use kanzlei_harness::certificates::{Authority, Signed};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::{ServerConfig, ServerConnection, StreamOwned};

use super::*;

#[test]
fn servers_are_named_by_addresses() {
    let found = |host: &str, port, encrypted| Ok(Server { host: host.into(), port, encrypted });
    for (url, wanted) in [
        ("smtps://mail.lindvik.example", found("mail.lindvik.example", 465, true)),
        ("smtp://127.0.0.1:2525/", found("127.0.0.1", 2525, false)),
        ("smtp://mail", found("mail", 25, false)),
    ] {
        assert_eq!(server(url), wanted, "{url}");
    }
    for url in ["mail.lindvik.example", "http://a", "smtp://", "smtp://user@host", "smtp://host:port", "smtps://a/b"] {
        assert!(server(url).is_err(), "{url}");
    }
}

trait Both: Read + Write {}
impl<T: Read + Write> Both for T {}

/// Answers one dialogue and returns its lines; `starttls` encrypts on the way.
fn dialogue(mut stream: Box<dyn Both>, offers: &str) -> (Vec<String>, Box<dyn Both>) {
    let mut lines = Vec::new();
    let mut text = false;
    loop {
        let mut line = String::new();
        let mut byte = [0];
        while !line.ends_with("\r\n") {
            match stream.read(&mut byte) {
                Ok(1) => line.push(byte[0] as char),
                _ => return (lines, stream),
            }
        }
        let line = line.trim_end().to_owned();
        let word = line.split(' ').next().unwrap_or_default().to_owned();
        lines.push(line.clone());
        let reply = match word.as_str() {
            "." => {
                text = false;
                "250 kept".to_owned()
            }
            _ if text => continue,
            "EHLO" => format!("250-here\r\n250{offers}"),
            "STARTTLS" => "220 go on".to_owned(),
            "DATA" => {
                text = true;
                "354 go on".to_owned()
            }
            "AUTH" => "235 welcome".to_owned(),
            _ => "250 ok".to_owned(),
        };
        let _ = stream.write_all(format!("{reply}\r\n").as_bytes());
        let _ = stream.flush();
        if word == "STARTTLS" || word == "QUIT" {
            return (lines, stream);
        }
    }
}

/// A mail server for one connection: encrypted from its beginning, by STARTTLS, or not at all.
fn peer(signed: Option<&Signed>, at_once: bool) -> (String, Receiver<Vec<String>>) {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = listener.local_addr().expect("an address").port();
    let config = signed.map(|signed| {
        let chain = CertificateDer::pem_slice_iter(signed.certificate.as_bytes()).collect::<Result<_, _>>();
        let key = PrivateKeyDer::from_pem_slice(signed.key.as_bytes()).expect("a key");
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let config = ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
        let config = config.expect("versions").with_no_client_auth();
        Arc::new(config.with_single_cert(chain.expect("a chain"), key).expect("a configuration"))
    });
    let (sender, receiver) = channel();
    std::thread::spawn(move || {
        let (stream, _) = listener.accept().expect("a connection");
        let secure = |stream, greets: bool| -> Box<dyn Both> {
            let connection = ServerConnection::new(config.clone().expect("a certificate")).expect("TLS");
            let mut stream = StreamOwned::new(connection, stream);
            if greets {
                let _ = stream.write_all(b"220 here\r\n");
            }
            Box::new(stream)
        };
        let mut lines = Vec::new();
        let stream: Box<dyn Both> = match at_once {
            true => secure(stream, true),
            false => {
                let mut plain = stream.try_clone().expect("a copy");
                plain.write_all(b"220 here\r\n").expect("a greeting");
                let offers = if config.is_some() { "-STARTTLS\r\n250 AUTH PLAIN" } else { " AUTH PLAIN" };
                let (said, _) = dialogue(Box::new(plain), offers);
                let upgrades = said.last().is_some_and(|line| line == "STARTTLS");
                lines.extend(said);
                if !upgrades {
                    let _ = sender.send(lines);
                    return;
                }
                secure(stream, false)
            }
        };
        lines.extend(dialogue(stream, " AUTH PLAIN").0);
        let _ = sender.send(lines);
    });
    (format!("{}://localhost:{port}", if at_once { "smtps" } else { "smtp" }), receiver)
}

#[tokio::test]
async fn connections_are_encrypted_and_signed_in() {
    let (authority, other) = (Authority::new().expect("an authority"), Authority::new().expect("another"));
    let signed = authority.sign(&["localhost"]).expect("a certificate");
    let folder = kanzlei_harness::scratch::folder("mail");
    std::fs::create_dir_all(&folder).expect("a folder");
    let trusted = |name: &str, authority: &Authority| {
        let path = folder.join(name);
        std::fs::write(&path, &authority.certificate).expect("a file");
        Some(path.display().to_string())
    };
    let (ours, theirs) = (trusted("ours.pem", &authority), trusted("theirs.pem", &other));
    let secrets = Arc::new(Secrets::holding(&[
        ("login", "office:pw", "mail"),
        ("bare", "office", "mail"),
        ("signs", "office:pw", "signing"),
    ]));
    for (at_once, tls, trusted, plain, secret, wanted) in [
        (true, true, &ours, false, "login", ""),
        (false, true, &ours, false, "login", ""),
        (false, false, &None, true, "login", ""),
        (false, false, &ours, false, "login", "offers no encryption (STARTTLS)"),
        (true, true, &theirs, false, "login", "certificate"),
        (false, true, &None, false, "login", "certificate"),
        (true, true, &ours, false, "bare", "`USER:PASSWORD`"),
        (true, true, &ours, false, "signs", "the secret `signs` is not for this"),
    ] {
        let (url, lines) = peer(tls.then_some(&signed), at_once);
        let settings = Settings {
            url,
            from: "Office <office@lindvik.example>".into(),
            secret: Some(secret.into()),
            plain,
            trusted: trusted.clone(),
            at_once: 1,
        };
        let mailer = Mailer::new(settings, secrets.clone());
        let (server, from) = mailer.server.clone().expect("a server");
        let letter = Letter { to: vec!["Una <una@lindvik.example>".into()], ..Letter::default() };
        let case = format!("{at_once} {tls} {trusted:?} {plain} {secret}");
        match mailer.connect(&server, Duration::from_secs(10)).await {
            Ok(mut connection) => {
                let sent = converse(&mut connection, &letter, &from, b"Subject: x\r\n\r\n.dot\r\n").await;
                let _ = connection.quit().await;
                assert_eq!((sent.expect("sent").0, wanted), (vec!["una@lindvik.example".to_owned()], ""), "{case}");
                let lines = lines.recv().expect("lines");
                let position = |line: &str| lines.iter().position(|known| known.starts_with(line));
                let before = |one: &str, two: &str| position(one).expect(one) < position(two).expect(two);
                assert!(before("AUTH PLAIN", "MAIL FROM:<office@lindvik.example>"), "{case}: {lines:?}");
                assert!(before("RCPT TO:<una@lindvik.example>", "..dot"), "{case}: {lines:?}");
                assert!(at_once || plain || before("STARTTLS", "AUTH PLAIN"), "{case}: {lines:?}");
            }
            Err(failed) => {
                assert!(!wanted.is_empty() && failed.detail.contains(wanted), "{case}: {failed:?}");
                assert_eq!(failed.kind, FailureKind::Mail, "{case}: {failed:?}");
            }
        }
    }
}
