//! Hosts, TLS and HTTP/2 of the listeners, asked by Node's own client; certificates that change while the service runs.

use std::path::Path;
use std::process::Command;
use std::time::Duration;

use kanzlei_e2e::*;
use kanzlei_harness::certificates::{Authority, Signed};
use kanzlei_harness::wait;
use serde_json::{Value as Json, json};

const NAMES: [&str; 3] = ["localhost", "127.0.0.1", "api.lindvik.example"];

/// Requests over one HTTP/2 connection with TLS: host, path and fields; what was answered, and which certificate was seen.
fn http2(port: u16, authority: &Path, requests: &Json) -> Option<Json> {
    let script = "
        const http2 = require('http2'), fs = require('fs');
        const [port, ca, requests] = [process.argv[1], process.argv[2], JSON.parse(process.argv[3])];
        const session = http2.connect(`https://localhost:${port}`, {ca: fs.readFileSync(ca), minVersion: 'TLSv1.2'});
        session.on('error', (error) => { console.error(error.message); process.exit(1); });
        const ask = ({host, path, fields, sent}) => new Promise((done, fail) => {
          const stream = session.request({':path': path, ':authority': host, ...fields});
          let status, cookie, location, body = '';
          stream.on('response', (headers) => { status = headers[':status']; cookie = headers['set-cookie']; location = headers.location; });
          stream.on('data', (part) => { body += part; }).on('end', () => done([status, body, cookie, location])).on('error', fail);
          stream.end(sent);
        });
        (async () => {
          const answers = await Promise.all(requests.map(ask));
          console.log(JSON.stringify({protocol: session.alpnProtocol, print: session.socket.getPeerCertificate().fingerprint256, answers}));
          session.close();
        })();";
    let mut node = Command::new("node");
    node.args(["-e", script, "--", &port.to_string(), &authority.display().to_string(), &requests.to_string()]);
    let answer = node.output().expect("node");
    eprint!("{}", String::from_utf8_lossy(&answer.stderr));
    answer.status.success().then(|| serde_json::from_slice(&answer.stdout).expect("JSON"))
}

fn write(dir: &Path, signed: &Signed) {
    std::fs::write(dir.join("key.pem"), &signed.key).expect("a key");
    std::fs::write(dir.join("own.pem"), &signed.certificate).expect("a certificate");
}

#[test]
fn listeners_have_tls_and_endpoints_have_hosts() {
    let dir = kanzlei_harness::scratch::folder("hosts");
    std::fs::create_dir_all(&dir).expect("a folder");
    let authority = Authority::new().expect("an authority");
    let trusted = dir.join("authority.pem");
    std::fs::write(&trusted, &authority.certificate).expect("a file");
    write(&dir, &authority.sign(&NAMES).expect("a certificate"));
    let office = office("hosts", &[]);
    let files = |listener: &str| {
        let (own, key) = (dir.join("own.pem"), dir.join("key.pem"));
        [format!("listen.{listener}_certificate={}", own.display()), format!("listen.{listener}_key={}", key.display())]
    };
    let settings: Vec<String> = [files("public"), files("control")].concat();
    let settings: Vec<&str> = settings.iter().map(String::as_str).collect();
    let (secure, ports) = office.another_with(2, &settings, &[], None).expect("a second process");
    let desk = format!("https://localhost:{}", ports.control);
    let ca = trusted.display().to_string();
    let client = |args: &[&str]| client(&office, &[args, &["--url", &desk]].concat());
    // The client trusts what it is given, and nothing else.
    let refused = said(&client(&["services"]), 3);
    assert!(refused.contains("certificate"), "{refused}");
    let workflow = |name: &str, host: &str, path: &str| {
        let text = format!(
            "workflow: {name}\nentries: [{{endpoint: GET {path}, {host}access: open}}]\nsteps: [{{reply: 200, body: {{by: {name}}}}}]\n"
        );
        (format!("{name}.yaml"), text)
    };
    let texts = [
        workflow("anywhere", "", "/tides"),
        workflow("own", "host: api.lindvik.example, ", "/tides"),
        workflow("prefixed", "host: api.lindvik.example/v1, ", "/tides"),
        workflow("moved", "host: /v2, ", "/tides"),
    ];
    for (name, text) in &texts {
        std::fs::write(dir.join(name), text).expect("a document");
        let deployed = said(&client(&["deploy", &dir.join(name).display().to_string(), "--ca", &ca]), 0);
        assert!(deployed.contains("live"), "{deployed}");
    }
    let called = said(&client(&["call", "prefixed", "--ca", &ca]), 0);
    assert!(called.contains("\"by\": \"prefixed\""), "{called}");
    let shown = said(&client(&["show", "prefixed", "--ca", &ca]), 0);
    assert!(shown.contains(&format!("https://api.lindvik.example:{}/v1/tides", ports.public)), "{shown}");

    let ask = |host: &str, path: &str| json!({"host": host, "path": path, "fields": {}});
    let api = "api.lindvik.example";
    let seen = http2(
        ports.public,
        &trusted,
        &json!([
            ask("localhost", "/tides"),
            ask(api, "/tides"),
            ask("API.Lindvik.example:443", "/v1/tides"),
            ask("localhost", "/v1/tides"),
            ask(api, "/v2/tides"),
            ask("evil.example", "/tides"),
            {"host": "localhost", "path": "/tides", "fields": {"x-forwarded-host": api}},
            {"host": api, "path": "/tides", "fields": {":method": "POST"}},
        ]),
    )
    .expect("answers");
    assert_eq!(seen["protocol"], "h2");
    let by = |at: usize| {
        let body: Json = serde_json::from_str(seen["answers"][at][1].as_str().unwrap_or_default()).unwrap_or_default();
        format!("{} {}", seen["answers"][at][0], body["by"].as_str().unwrap_or("-"))
    };
    let all: Vec<String> = (0..8).map(by).collect();
    let wanted =
        ["200 anywhere", "200 own", "200 prefixed", "404 -", "200 moved", "200 anywhere", "200 anywhere", "405 -"];
    assert_eq!(all, wanted);
    let documents = json!([ask("localhost", "/~/openapi.json"), ask(api, "/~/openapi.json")]);
    let documents = http2(ports.public, &trusted, &documents).expect("documents");
    let ids = |at: usize| {
        let document: Json = serde_json::from_str(documents["answers"][at][1].as_str().expect("a text")).expect("JSON");
        let paths = document["paths"].as_object().expect("paths").iter();
        let mut ids: Vec<String> = paths.map(|(path, item)| format!("{path} {}", item["get"]["operationId"])).collect();
        ids.sort();
        ids.join(", ").replace('"', "")
    };
    assert_eq!(ids(0), "/tides anywhere, /v1/tides prefixed, /v2/tides moved");
    assert_eq!(ids(1), "/tides own, /v1/tides prefixed, /v2/tides moved");

    // The console's cookie is for TLS alone, and the desk answers under its own names.
    let json = json!({":method": "POST", "content-type": "application/json"});
    let asked = json!([
        {"host": "localhost", "path": "/api/v1/session", "fields": json, "sent": json!({"token": office.token}).to_string()},
        ask("localhost", "/api/v1/workflows"),
        ask("rebound.example", "/api/v1/workflows"),
        {"host": "rebound.example", "path": "/api/v1/workflows", "fields": {"x-forwarded-host": "localhost"}},
    ]);
    let desk_seen = http2(ports.control, &trusted, &asked).expect("answers");
    let statuses: Vec<i64> = (0..4).map(|at| desk_seen["answers"][at][0].as_i64().expect("a status")).collect();
    assert_eq!(statuses, [200, 401, 421, 421], "{desk_seen}");
    let cookie = desk_seen["answers"][0][2][0].as_str().expect("a cookie");
    for part in ["Secure", "HttpOnly", "SameSite=Strict"] {
        assert!(cookie.contains(part), "{cookie}");
    }

    // People sign in through the provider: the browser is sent back to the address with TLS, and its cookies are for TLS alone.
    let begun = http2(ports.control, &trusted, &json!([ask("localhost", "/sign-in/openid")])).expect("an answer");
    let begun = &begun["answers"][0];
    let (to, cookie) = (begun[3].as_str().expect("a location"), begun[2][0].as_str().expect("a cookie"));
    assert!(cookie.contains("Secure") && to.contains("redirect_uri=https%3A%2F%2F"), "{begun}");
    let chosen = http("GET", &format!("{to}&login_hint=harbour-master"), &[], b"");
    let back = chosen.header("location").expect("a location").to_owned();
    let path = back.strip_prefix(&format!("https://127.0.0.1:{}", ports.control)).expect("the desk").to_owned();
    let pair = cookie.split(';').next().expect("a pair");
    let returned = json!([{"host": "localhost", "path": path, "fields": {"cookie": pair}}]);
    let returned = http2(ports.control, &trusted, &returned).expect("an answer");
    let returned = &returned["answers"][0];
    assert_eq!((&returned[0], &returned[3]), (&json!(303), &json!("/")), "{returned}");
    assert!(returned[2][0].as_str().is_some_and(|cookie| cookie.contains("Secure")), "{returned}");

    // Files that change are read again; files that do not belong together change nothing.
    let first = seen["print"].clone();
    std::fs::write(dir.join("key.pem"), authority.sign(&NAMES).expect("another").key).expect("a key");
    let log = || std::fs::read_to_string(scratch().join("hosts/kanzleid-2.log")).unwrap_or_default();
    wait::until(Duration::from_secs(30), || log().contains("the changed certificate is not used").then_some(()))
        .expect("a line of the log");
    let print =
        || http2(ports.public, &trusted, &json!([ask("localhost", "/tides")])).map(|seen| seen["print"].clone());
    assert_eq!(print().as_ref(), Some(&first));
    write(&dir, &authority.sign(&NAMES).expect("another"));
    wait::until(Duration::from_secs(30), || print().filter(|print| *print != first)).expect("another certificate");
    drop(secure);
    let _ = std::fs::remove_dir_all(&dir);
}
