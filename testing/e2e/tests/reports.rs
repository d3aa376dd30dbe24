//! Cargo manifests, printed reports and mails on the demo office, with its database, its printer and its mail server.

use std::process::Command;

use kanzlei_e2e::calls::*;
use kanzlei_e2e::*;
use kanzlei_harness::office::Office;
use kanzlei_harness::wait;
use serde_json::{Value as Json, json};

/// The mails that came in, the last one first.
fn mails(office: &Office) -> Vec<Json> {
    let url = format!("http://127.0.0.1:{}/mail/messages", office.ports.standins);
    serde_json::from_str(&http("GET", &url, &[], b"").body).expect("JSON")
}

fn behave(office: &Office, how: &str) {
    let url = format!("http://127.0.0.1:{}/~/behaviour/mail?{how}", office.ports.standins);
    assert_eq!(http("PUT", &url, &[], b"").status, 204);
}

/// The head and the bytes of an answer.
fn fetched(url: &str) -> (String, Vec<u8>) {
    let made = Command::new("curl").args(["-sS", "-i", url]).output().expect("curl");
    let end = made.stdout.windows(4).position(|four| four == b"\r\n\r\n").expect("a head");
    (String::from_utf8_lossy(&made.stdout[..end]).to_lowercase(), made.stdout[end + 4..].to_vec())
}

#[test]
fn manifests_are_unpacked_totalled_and_kept() {
    let office = office("manifests", &[]);
    said(&client(&office, &["deploy", "demo/harbour"]), 0);
    let folder = scratch().join("manifests");
    std::fs::create_dir_all(&folder).expect("a folder");
    let pack = "import json, sys, zipfile\nwith zipfile.ZipFile(sys.argv[1], 'w', zipfile.ZIP_DEFLATED) as packed:\n    \
        for at in range(int(sys.argv[2])):\n        packed.writestr('%d.json' % at, json.dumps({'manifest': 'M-%d' % at, 'consignee': 'Nesholm Trading' if at % 2 else 'Lindvik Yard', \
        'goods': [{'name': 'paint', 'weight_kg': at + 1, 'un_number': '1263'}, {'name': 'rope', 'weight_kg': int(sys.argv[3])}]}))\n";
    let zip = |name: &str, files: &str, weight: &str| {
        let path = folder.join(name);
        let made = Command::new("/usr/bin/python3").args(["-c", pack]).arg(&path).args([files, weight]).output();
        assert!(made.expect("python").status.success());
        path.display().to_string()
    };
    let put = |path: &str| {
        let given = format!("manifests=@{path}");
        client(&office, &["call", "cargo-manifests", "imo=9305478", &given, "--json"])
    };
    let shown = said(&put(&zip("good.zip", "40", "2")), 0);
    let answer: Json = serde_json::from_str(&shown).unwrap_or_else(|_| panic!("{shown}"));
    let body = answer.get("body").unwrap_or(&answer);
    assert_eq!((&body["manifests"], &body["lines"]), (&json!(40), &json!(80)), "{answer}");
    // 1 + 3 + … + 39 and 2 + 4 + … + 40, and 20 times 2 each.
    let weights: Vec<_> =
        body["consignees"].as_array().expect("a list").iter().map(|one| one["weight_kg"].clone()).collect();
    assert_eq!(weights, [json!(440), json!(460)]);
    let refused = String::from_utf8_lossy(&put(&zip("bad.zip", "3", "0")).stdout).into_owned();
    assert!(refused.contains("0.json, line 1: /goods/1/weight_kg"), "{refused}");
    let list = format!("{}/vessels/9305478/cargo", office.public());
    let table = http("GET", &list, &[("accept", "text/csv")], b"");
    assert_eq!(table.body.lines().count(), 81, "{}", table.body);
    assert!(
        table
            .body
            .starts_with("manifest,line,consignee,goods,weight_kg,un_number\r\nM-0,1,Lindvik Yard,paint,1,1263\r\n")
    );
}

const LETTER: &str = "workflow: letter
input: {to: {type: array, items: {type: string}}, subject: {type: string}}
entries: [{endpoint: POST /letters, access: open, answer: either}]
queue: {retry: {attempts: 3, first: 100ms}}
steps:
  - id: page
    render: html
    template: reports/letter.html
    with: {subject: '${input.subject}'}
  - id: file
    render: text
    template: reports/letter.txt
    with: {subject: '${input.subject}'}
    name: letter.txt
  - id: sent
    mail: {to: '${input.to}', bcc: hidden@lindvik.example, subject: '${input.subject}', html: '${page}', attach: '${file}'}
  - reply: 200
    body: ${sent}
";

#[test]
fn mails_are_sent_once_or_again() {
    let office = office("mails", &[]);
    let folder = scratch().join("letters");
    std::fs::create_dir_all(folder.join("reports")).expect("a folder");
    for (name, text) in [
        ("letter.yaml", LETTER),
        ("reports/letter.html", "{% include 'style.css' %}<h1>{{ subject }}</h1><p>Dear agent,<br>all is well."),
        ("reports/style.css", "<style>h1 { color: navy }</style>"),
        ("reports/letter.txt", "<{{ subject }}>"),
    ] {
        std::fs::write(folder.join(name), text).expect("a file");
    }
    let path = folder.join("letter.yaml");
    said(&client(&office, &["deploy", path.to_str().expect("UTF-8")]), 0);
    let send = |to: &[&str], subject: &str| post(&office, "/letters", &[], &json!({"to": to, "subject": subject}));
    let sent = send(&["Una Strand <una@lindvik.example>", "unknown@lindvik.example"], "Berth <7> & more");
    let body = sent.json();
    assert_eq!(sent.status, 200, "{sent:?}");
    assert_eq!(body["accepted"], json!(["una@lindvik.example", "hidden@lindvik.example"]));
    assert_eq!(
        (&body["refused"][0]["address"], &body["refused"][0]["status"]),
        (&json!("unknown@lindvik.example"), &json!(550))
    );
    let [mail] = &mails(&office)[..] else { panic!("one mail") };
    assert_eq!(format!("<{}>", mail["id"].as_str().unwrap_or_default()), body["id"], "{mail}");
    assert_eq!((&mail["subject"], &mail["bcc"], &mail["cc"]), (&json!("Berth <7> & more"), &json!(""), &json!("")));
    assert_eq!(mail["envelope"], json!(["una@lindvik.example", "hidden@lindvik.example"]));
    assert!(mail["html"].as_str().is_some_and(|html| html.contains("<h1>Berth &lt;7&gt; &amp; more</h1>")), "{mail}");
    assert!(
        mail["text"].as_str().is_some_and(|text| text.contains("Berth <7> & more") && text.contains("all is well."))
    );
    assert_eq!((&mail["attach"][0]["name"], &mail["attach"][0]["size"]), (&json!("letter.txt"), &json!(18)));
    // Values reach no other header, and what is no address is sent nowhere.
    for (to, subject) in [
        (&["a@lindvik.example"][..], "x\r\nBcc: other@lindvik.example"),
        (&["a@lindvik.example\r\nBcc: other@lindvik.example"], "x"),
        (&["a@lindvik.example, b@lindvik.example"], "x"),
        (&["nowhere"], "x"),
        (&[], "x"),
    ] {
        let refused = send(to, subject);
        let expected = if to.is_empty() { 200 } else { 500 };
        assert_eq!(refused.status, expected, "{to:?} {subject:?}: {refused:?}");
    }
    // A job tries again what may succeed later, with the same id, and nothing that is refused for good.
    let before = mails(&office).len();
    let job = |to: &str, subject: &str| {
        let accepted =
            post(&office, "/letters", &[("prefer", "respond-async")], &json!({"to": [to], "subject": subject}));
        assert_eq!(accepted.status, 202, "{accepted:?}");
        id_of(&accepted)
    };
    behave(&office, "fail_next=2&status=503");
    let again = job("una@lindvik.example", "again");
    let done = becomes(&office, &again, "succeeded");
    assert_eq!(mails(&office).len(), before + 1, "{done}");
    assert!(mails(&office)[0]["id"].as_str().is_some_and(|id| id.starts_with(&again)), "{:?}", mails(&office)[0]);
    let busy = job("busy@lindvik.example", "busy");
    becomes(&office, &busy, "failed");
    let failed = api(&office, &format!("/jobs/{busy}"));
    assert_eq!((&failed["failure"]["kind"], &failed["retries"]), (&json!("mail"), &json!(2)), "{failed}");
    behave(&office, "fail_next=1&status=550");
    let refused = job("una@lindvik.example", "refused");
    becomes(&office, &refused, "failed");
    let refused = api(&office, &format!("/jobs/{refused}"));
    assert_eq!((&refused["failure"]["kind"], &refused["retries"]), (&json!("refused"), &json!(0)), "{refused}");
    assert_eq!(mails(&office).len(), before + 1);
    // Drafts and exports have the templates with them.
    let out = scratch().join("exported");
    said(&client(&office, &["export", "letter", out.to_str().expect("UTF-8")]), 0);
    assert_eq!(
        std::fs::read_to_string(out.join("workflows/reports/letter.txt")).expect("a template"),
        "<{{ subject }}>"
    );
    std::fs::write(folder.join("reports/letter.txt"), "{{ subject }} {{ missing }}").expect("a file");
    let wrong = client(&office, &["check", path.to_str().expect("UTF-8")]);
    let shown = String::from_utf8_lossy(&wrong.stdout).into_owned() + &String::from_utf8_lossy(&wrong.stderr);
    assert!(
        shown.contains("unknown-value") && shown.contains("reports/letter.txt, line 1 mentions `missing`"),
        "{shown}"
    );
}

#[test]
fn reports_are_printed_and_mailed() {
    let office = office("printed", &[]);
    said(&client(&office, &["deploy", "demo/harbour"]), 0);
    let report = format!("{}/harbours/LIN/months/2027-02/report", office.public());
    let (head, printed) = fetched(&report);
    assert!(head.starts_with("http/1.1 200") && printed.starts_with(b"%PDF-"), "{head}");
    for part in ["content-type: application/pdf", "content-disposition: attachment; filename=\"lin-2027-02.pdf\""] {
        assert!(head.contains(part), "{head}");
    }
    let made = said(&client(&office, &["keys", "add", "accounts", "--owner", "Accounts", "--json"]), 0);
    let key = serde_json::from_str::<Json>(&made).expect("JSON")["key"].as_str().expect("a key").to_owned();
    let bearer = format!("Bearer {key}");
    let sent = post(&office, "/harbours/LIN/months/2027-02/mails", &[("authorization", &bearer)], &json!({}));
    assert_eq!(sent.status, 200, "{sent:?}");
    let mail = wait::until(LONG, || mails(&office).into_iter().next()).expect("a mail");
    assert_eq!(
        (&mail["attach"][0]["name"], &mail["attach"][0]["media"]),
        (&json!("LIN-2027-02.pdf"), &json!("application/pdf"))
    );
    let number = mail["number"].as_u64().expect("a number");
    let file = format!("http://127.0.0.1:{}/mail/{number}/files/0", office.ports.standins);
    assert!(fetched(&file).1.starts_with(b"%PDF-"));
    // What authors see of the template while they write it.
    let text = std::fs::read_to_string(root().join("demo/harbour/workflows/month-report.yaml")).expect("a document");
    let rows = json!([{"made": "2027-02-19", "vessel": "Oljegard", "imo": "9417350", "nights": 1, "dues_eur": 879.36, "paid": false}]);
    let question = json!({
        "path": "w.yaml",
        "documents": [{"path": "w.yaml", "text": text}],
        "at": "steps/2",
        "values": {"bills": {"rows": rows}, "names": ["Oljegard"], "open": 879.36, "input": {"harbour": "LIN", "month": "2027-02"}},
    });
    let page = act(&office, "/language/page", question).json();
    assert!(
        page["text"].as_str().is_some_and(|text| text.contains("<td>Oljegard</td>") && text.contains("<svg")),
        "{page}"
    );
    assert_eq!(page["templates"].as_object().map(|all| all.len()), Some(2), "{page}");
}
