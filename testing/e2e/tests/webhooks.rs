//! Webhooks and allowances on the demo office: senders with libraries of their own, the client, and the console.

use std::process::Command;

use kanzlei_e2e::calls::{LONG, act, api};
use kanzlei_e2e::desk::Desk;
use kanzlei_e2e::*;
use kanzlei_harness::office::Office;
use kanzlei_harness::wait;
use serde_json::{Value as Json, json};

fn demo(office: &Office) {
    said(&client(office, &["deploy", "demo/harbour"]), 0);
}

/// Runs a script in Node beside the console's packages; it prints header fields as JSON.
fn headers_by_node(script: &str) -> Vec<(String, String)> {
    let made = Command::new("node").args(["-e", script]).current_dir(root().join("console")).output().expect("node");
    let text = said(&made, 0);
    let fields: Json = serde_json::from_str(&text).unwrap_or_else(|error| panic!("{error}: {text}"));
    let fields = fields.as_object().expect("fields").iter();
    fields.map(|(name, value)| (name.clone(), value.as_str().unwrap_or_default().to_owned())).collect()
}

fn deliver(office: &Office, path: &str, headers: &[(String, String)], body: &str) -> Answer {
    let mut all = vec![("content-type", "application/json")];
    all.extend(headers.iter().map(|(name, value)| (name.as_str(), value.as_str())));
    http("POST", &format!("{}{path}", office.public()), &all, body.as_bytes())
}

/// Customs sign with the library of Standard Webhooks, the bank with the keyed hash of Node: neither shares code with the service.
#[test]
fn messages_of_independent_senders_are_proven() {
    let office = office("senders", &[]);
    demo(&office);
    let body = r#"{"type":"decision.changed","data":{"reference":"C-1001","decision":"held"}}"#;
    let standard = |id: &str, age: i64| {
        let script = format!(
            "const {{ Webhook }} = require('standardwebhooks');
             const at = new Date(Date.now() - {age} * 1000);
             const signature = new Webhook('whsec_bGluZHZpay1jdXN0b21zLTkxYzItZGVtbw==').sign('{id}', at, '{body}');
             console.log(JSON.stringify({{'webhook-id': '{id}', 'webhook-timestamp': String(Math.floor(at / 1000)), 'webhook-signature': signature}}));"
        );
        headers_by_node(&script)
    };
    let signed = standard("msg_1", 0);
    let first = deliver(&office, "/from/customs", &signed, body);
    assert_eq!(first.status, 202, "{first:?}");
    assert_eq!(
        deliver(&office, "/from/customs", &signed, body).body,
        first.body,
        "a repetition is answered like the first"
    );
    let reencoded = body.replace("\"type\":", "\"type\": ");
    for (path, headers, body) in [
        ("/from/customs", signed.clone(), reencoded.as_str()),
        ("/from/customs", signed.clone(), &body[..body.len() - 1]),
        ("/from/customs", standard("msg_2", 400), body),
        ("/from/customs", signed.iter().cloned().map(|(n, v)| (n, v.replace("msg_1", "msg_3"))).collect(), body),
        ("/from/bank", signed.clone(), body),
    ] {
        let refused = deliver(&office, path, &headers, body);
        assert_eq!(
            (refused.status, refused.json()["title"].as_str()),
            (401, Some("The message is not proven")),
            "{headers:?}"
        );
    }
    let paid = |id: &str| format!(r#"{{"payment":{{"id":"{id}","reference":3,"amount_eur":879.36}}}}"#);
    let bank = |body: &str| {
        let script = format!(
            "const t = Math.floor(Date.now() / 1000);
             const v1 = require('node:crypto').createHmac('sha256', 'nesholm-bank-5d1e-demo').update(`${{t}}.{body}`).digest('hex');
             console.log(JSON.stringify({{'X-Bank-Signature': `t=${{t}},v0=00,v1=${{v1}}`}}));"
        );
        headers_by_node(&script)
    };
    let (one, two) = (paid("P-1"), paid("P-2"));
    let answer = deliver(&office, "/from/bank", &bank(&one), &one);
    assert_eq!((answer.status, &answer.json()["vessel"]), (200, &json!("Oljegard")), "{answer:?}");
    assert_eq!(deliver(&office, "/from/bank", &bank(&one), &two).status, 401, "the signature of another payment");
    let listed = api(&office, "/deliveries");
    let states: Vec<_> =
        listed["deliveries"].as_array().expect("a list").iter().map(|one| one["state"].clone()).collect();
    assert_eq!(states, ["accepted", "repeated", "accepted"], "{listed}");
}

/// What an operator does with messages in a terminal.
#[test]
fn deliveries_are_looked_at_sent_and_processed_by_the_client() {
    let office = office("deliveries_cli", &[]);
    assert!(said(&client(&office, &["deliveries"]), 0).contains("No message has arrived yet."));
    demo(&office);
    let sent = said(&client(&office, &["send-webhook", "customs-recall", "--id", "msg_9"]), 0);
    assert!(sent.contains("202 Accepted") && sent.contains("kanzlei delivery "), "{sent}");
    let folder = Folder::new("messages", &[("bad.json", r#"{"data":{"reference":"X","decision":"held"}}"#)]);
    let bad = folder.0.join("bad.json").display().to_string();
    assert!(said(&client(&office, &["send-webhook", "customs-recall", "--body", &bad]), 1).contains("422"));
    let listed = said(&client(&office, &["deliveries", "customs-recall"]), 0);
    assert!(listed.contains("msg_9") && listed.contains("unfit") && listed.contains("/reference"), "{listed}");
    let shown = said(&client(&office, &["delivery", "last"]), 0);
    assert!(
        shown.contains("\"reference\": \"X\"") && shown.contains("The live revision does not accept it"),
        "{shown}"
    );
    assert!(said(&client(&office, &["redeliver", "last"]), 1).contains("0 of 1"));
    assert!(
        said(&client(&office, &["redeliver", "--workflow", "customs-recall", "--dry-run"]), 0)
            .contains("2 deliveries fit")
    );
    let again = said(&client(&office, &["redeliver", "--state", "accepted"]), 0);
    assert!(again.contains("1 of 1 deliveries are processed again"), "{again}");
    let proposed = said(&client(&office, &["propose", "customs-recall"]), 0);
    assert!(proposed.contains("reference: \"${delivery.body.data.reference}\""), "{proposed}");
    let curl = said(&client(&office, &["send-webhook", "payment-notice", "--curl"]), 0);
    assert!(curl.contains("x-bank-signature: t=") && !curl.contains("nesholm-bank"), "{curl}");
    assert!(said(&client(&office, &["call", "payment-notice"]), 1).contains("kanzlei send-webhook payment-notice"));
    assert!(
        said(&client(&office, &["secrets", "remove", "bank-webhook"]), 1).contains("`payment-notice` signs or proves")
    );
    let tried = said(&client(&office, &["try", "customs-recall", "--delivery", "last"]), 1);
    assert!(tried.contains("reference"), "{tried}");
    // Cases with messages, against the office itself.
    let cases = ["rehearse", "demo/harbour", "--against", &office.public(), "--only", "an open bill is paid"];
    assert!(said(&client(&office, &cases), 0).contains("1 passed"));
}

/// A key with two requests a minute: the third is refused, and its owner can see why.
#[test]
fn the_third_request_of_a_guest_is_refused() {
    let office = office("guest", &[]);
    demo(&office);
    let made = client(&office, &["keys", "add", "guest", "--for", "harbour-tides", "--allowance", "guests"]);
    said(&made, 0);
    let key = String::from_utf8_lossy(&made.stdout).trim().to_owned();
    let ask = || {
        let url = format!("{}/partners/tides?draught=6.2&after=2027-03-04T06:00:00Z", office.public());
        http("GET", &url, &[("x-api-key", &key)], b"")
    };
    let answers = [ask(), ask(), ask()];
    assert_eq!(answers.each_ref().map(|answer| answer.status), [200, 200, 429], "{answers:?}");
    assert!(
        answers[2].header("retry-after").is_some()
            && answers[0].header("ratelimit").is_some_and(|left| left.contains("r=1"))
    );
    let usage = said(&client(&office, &["usage", "guest"]), 0);
    assert!(usage.contains("harbour-tides") && usage.contains("0 of 2"), "{usage}");
    let csv = said(&client(&office, &["usage", "guest", "--csv"]), 0);
    assert!(
        csv.starts_with("key,workflow,hour,requests,refused,failed\nguest,harbour-tides,")
            && csv.trim_end().ends_with(",3,1,0"),
        "{csv}"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn deliveries_are_listed_looked_at_and_processed_in_the_console() {
    let desk = Desk::new("deliveries", demo).await;
    desk.open("/deliveries").await.see("No message has arrived yet.").await;
    desk.client(&["send-webhook", "customs-recall", "--id", "msg_7"]);
    desk.sees(&["POST /from/customs", "accepted", "msg_7", "standard, customs-webhook"]).await;
    desk.open("/deliveries?workflow=customs-recall").await.press("", "Propose inputs").await;
    desk.sees(&["Inputs by 1 message", "decision: \"${delivery.body.data.decision}\""]).await;
    desk.click("table a[href^='/deliveries/']").await;
    desk.sees(&["Delivery to customs-recall", "\"reference\": \"C-1001\"", "Input by the live revision"]).await;
    desk.browser.press("", "Process again").await;
    desk.sees(&["processes it.", "processed 2 times"]).await;
    let processed = wait::until(LONG, || {
        let listed = api(&desk.office, "/deliveries?workflow=customs-recall");
        (listed["deliveries"][0]["processed"] == 2).then_some(())
    });
    assert!(processed.is_some());
    // The draft is tried with it at once.
    desk.browser.press("", "Try the draft with it").await;
    desk.browser.until("return document.querySelector('#try-input')?.value.startsWith('delivery ')").await;
    desk.browser.until("return document.querySelector('.result strong') !== null").await;
    // A message of a workflow that is not deployed is captured at the address of its draft.
    let blank = "workflow: yard-events\nentries:\n  - {webhook: /from/yard, proof: none, send: {}}\nsteps:\n  - note: arrived\n";
    let folder = Folder::new("yard", &[("yard-events.yaml", blank)]);
    // The client remembers versions beside the folder it works in.
    said(&client_in(Some(&desk.office), &folder.0, &["draft", "push", "."]), 0);
    let opened = act(&desk.office, "/previews", json!({"drafts": [{"kind": "workflow", "name": "yard-events"}]}));
    let url = opened.json()["url"].as_str().unwrap_or_else(|| panic!("{opened:?}")).to_owned();
    let sent = http(
        "POST",
        &format!("{}/from/yard", url.trim_end_matches('/')),
        &[("content-type", "application/json")],
        b"{\"berth\": 7}",
    );
    assert_eq!(sent.status, 202, "{sent:?}");
    desk.open("/deliveries?workflow=yard-events").await.see("captured").await;
    desk.browser.press("", "Propose inputs").await;
    desk.sees(&["berth: {type: integer}"]).await;
    desk.browser.close().await;
}
