//! Webhooks: messages are proven, kept before they are acknowledged, told apart, echoed, and processed again.

use serde_json::{Value as Json, json};

use super::{Answer, Bed, eventually, with};

const CUSTOMS: &str = r#"workflow: customs
input: {declaration: {type: string}, duty: {type: integer, optional: true}}
entries:
  - webhook: /from/customs
    proof: {standard: [customs-new, customs]}
    send: {declaration: "${delivery.body.data.declaration}", duty: "${delivery.body.data.duty}"}
steps: [{reply: 204}]
"#;
const BANK: &str = r#"workflow: bank
input: {id: {type: string}, n: {type: integer}}
entries:
  - webhook: /from/bank
    proof: {hmac: {secret: bank, header: X-Bank-Signature, part: v1, over: "${part.t}.${body}", time: part.t}}
    once_per: {key: "${delivery.body.id}", for: 2 days}
    answer: now
    echo: "${delivery.query.challenge}"
steps: [{reply: 201, body: "${input.n}/${run.id}"}]
"#;
const PLAIN: &str = r#"workflow: plain
input: {text: {type: string, secret: true}}
entries:
  - {webhook: /from/plain, proof: {query: {name: token, secret: bank}}, send: {text: "${delivery.body}"}}
  - {webhook: /from/near, proof: none, from: [192.0.2.0/24], send: {text: "${delivery.body}"}}
steps: [{note: done}]
"#;

async fn secrets(bed: &Bed) {
    for (name, value) in [("customs", "whsec_Y3VzdG9tcw=="), ("customs-new", "another one"), ("bank", "tide water")] {
        let set = bed.control(&format!("PUT /secrets/{name}"), &json!({"value": value, "for": ["signing"]})).await;
        assert_eq!(set.status, 204, "{}", set.body);
    }
}

/// Sends a message to a workflow as its sender does.
async fn signed(bed: &Bed, workflow: &str, id: &str, body: &Json) -> (Vec<(String, String)>, Answer) {
    let asked = json!({"workflow": workflow, "id": id, "body": body.to_string(), "headers": {"content-type": "application/json"}});
    let signed = bed.control("POST /deliveries/sign", &asked).await;
    assert_eq!(signed.status, 200, "{}", signed.body);
    let signed = signed.json();
    let headers: Vec<(String, String)> =
        serde_json::from_value::<std::collections::BTreeMap<_, _>>(signed["headers"].clone())
            .expect("headers")
            .into_iter()
            .collect();
    let answer = again(bed, &headers, signed["target"].as_str().expect("a target"), body).await;
    (headers, answer)
}

async fn again(bed: &Bed, headers: &[(String, String)], target: &str, body: &Json) -> Answer {
    let headers: Vec<(&str, &str)> = headers.iter().map(|(name, value)| (name.as_str(), value.as_str())).collect();
    bed.send(&format!("POST {target}"), &headers, &body.to_string()).await
}

async fn deliveries(bed: &Bed, query: &str) -> Vec<Json> {
    let listed = bed.control(&format!("GET /deliveries{query}"), &Json::Null).await;
    assert_eq!(listed.status, 200, "{}", listed.body);
    listed.json()["deliveries"].as_array().expect("a list").clone()
}

#[test]
fn messages_are_kept_with_their_jobs_and_told_apart() {
    with("deliveries", &[], &[], async |bed| {
        secrets(bed).await;
        assert_eq!(bed.deploy(&[CUSTOMS, BANK, PLAIN]).await.status, 200);
        let body = json!({"id": "e", "data": {"declaration": "D-7", "duty": 120}});
        let (headers, first) = signed(bed, "customs", "msg_1", &body).await;
        assert_eq!(first.status, 202, "{first:?}");
        let repeated = again(bed, &headers, "/from/customs", &body).await;
        assert_eq!((repeated.status, &repeated.body), (202, &first.body), "answered like the first");
        let (_, other) = signed(bed, "customs", "msg_2", &body).await;
        assert_ne!(other.body, first.body);
        // Nothing that was changed counts, and nothing of it is kept but a refusal without its body.
        let forged = json!({"id": "e", "data": {"declaration": "D-8"}});
        let refused = again(bed, &headers, "/from/customs", &forged).await;
        assert_eq!(refused.problem(), (401, "The message is not proven".into()));
        let refusals = async || bed.control("GET /refusals?workflow=customs", &Json::Null).await.json();
        eventually(async || refusals().await["refusals"][0]["status"] == 401).await;
        assert_eq!(refusals().await["refusals"][0]["body"]["text"], Json::Null);
        // One that the workflow does not accept is kept and refused: it can be processed when the workflow is mended.
        let (_, unfit) = signed(bed, "customs", "msg_3", &json!({"data": {"duty": "much"}})).await;
        assert_eq!(unfit.problem(), (422, "Invalid input".into()));

        let found = deliveries(bed, "?workflow=customs").await;
        let states: Vec<&str> = found.iter().filter_map(|one| one["state"].as_str()).collect();
        assert_eq!(states, ["unfit", "accepted", "repeated", "accepted"]);
        assert_eq!(found[2]["first"], found[3]["id"], "a repetition names the first");
        assert_eq!(found[3]["id"], first.json()["delivery"]);
        assert_eq!((&found[3]["proof"], &found[3]["key"]), (&json!("standard, customs-new"), &json!("msg_1")));
        bed.work();
        let job = found[3]["run"].as_str().and_then(|id| id.parse().ok()).expect("a job");
        let ended = bed.ended(job).await;
        assert_eq!(
            (ended.entry.as_str(), ended.input.as_str()),
            ("POST /from/customs", r#"{"declaration":"D-7","duty":120}"#)
        );
        let of_job = deliveries(bed, &format!("?run={job}")).await;
        assert_eq!(of_job.len(), 1);

        // Looked at, and processed again.
        let id = found[0]["id"].as_str().expect("an id");
        let shown = bed.control(&format!("GET /deliveries/{id}"), &Json::Null).await.json();
        assert_eq!(shown["value"]["body"]["data"]["duty"], "much");
        assert_eq!(shown["unfit"]["errors"].as_array().map(Vec::len), Some(2), "{shown}");
        let process = async |body: Json| bed.control("POST /deliveries/process", &body).await.json();
        let failed = process(json!({"ids": [id]})).await;
        assert_eq!(failed["deliveries"][0]["problem"]["status"], 422);
        let mended = CUSTOMS
            .replace("type: string}", "type: string, default: none}")
            .replace("type: integer", "type: [integer, string]");
        assert_eq!(bed.deploy(&[&mended]).await.status, 200);
        let counted = process(json!({"workflow": "customs", "dry_run": true})).await;
        assert_eq!((&counted["found"], counted["deliveries"].as_array().map(Vec::len)), (&json!(4), Some(0)));
        let done = process(json!({"workflow": "customs", "state": "unfit"})).await;
        let job = done["deliveries"][0]["job"].as_str().and_then(|id| id.parse().ok()).expect("a job");
        assert_eq!(bed.ended(job).await.input, r#"{"duty":"much","declaration":"none"}"#);
        let as_received = process(json!({"ids": [found[3]["id"]], "as_received": true})).await;
        let job = as_received["deliveries"][0]["job"].as_str().and_then(|id| id.parse().ok()).expect("a job");
        assert_eq!(bed.ended(job).await.revision, 1);
        let found = deliveries(bed, "?workflow=customs").await;
        assert_eq!((&found[0]["state"], &found[3]["processed"]), (&json!("accepted"), &json!(2)));
        assert_eq!(process(json!({})).await["title"], "Nothing is selected");

        // Inputs that the messages suggest.
        let proposed = bed.control("POST /deliveries/input", &json!({"workflow": "customs"})).await.json();
        assert_eq!(proposed["messages"], 4, "{proposed}");
        assert!(
            proposed["send"]
                .as_str()
                .is_some_and(|text| text.contains("declaration: \"${delivery.body.data.declaration}\"")),
            "{proposed}"
        );
    });
}

#[test]
fn senders_that_wait_get_the_reply_once_and_questions_are_echoed() {
    with("answered", &[], &[], async |bed| {
        secrets(bed).await;
        assert_eq!(bed.deploy(&[BANK, PLAIN]).await.status, 200);
        let (headers, first) = signed(bed, "bank", "", &json!({"id": "P-1", "n": 3})).await;
        assert_eq!(first.status, 201, "{first:?}");
        let run = first.body.trim_matches('"').split_once('/').expect("a run").1.to_owned();
        let (_, other) = signed(bed, "bank", "", &json!({"id": "P-1", "n": 4})).await;
        assert_eq!((other.status, &other.body), (201, &first.body), "the payment is the same");
        let found = deliveries(bed, "?workflow=bank").await;
        assert_eq!(
            (&found[0]["state"], &found[1]["state"], &found[1]["run"]),
            (&json!("repeated"), &json!("accepted"), &json!(run))
        );
        assert_eq!(again(bed, &headers, "/from/bank", &json!({"id": "P-1", "n": 5})).await.status, 401);
        let shown = bed.send("GET /from/bank?challenge=%3Cb%3E", &[], "").await;
        assert_eq!(
            (shown.status, shown.body.as_str(), shown.header("content-type")),
            (200, "<b>", Some("text/plain; charset=utf-8"))
        );
        assert_eq!(shown.header("x-content-type-options"), Some("nosniff"));
        assert_eq!(bed.send("GET /from/bank", &[], "").await.problem(), (400, "Not a question".into()));
        assert_eq!(bed.send("PUT /from/bank", &[], "").await.status, 405);

        // A secret of the query and a confidential body lie nowhere as they are.
        let answer = bed
            .send(
                "POST /from/plain?token=tide+water&a=1",
                &[("content-type", "text/plain"), ("cookie", "c=1")],
                "berth 4711",
            )
            .await;
        assert_eq!(answer.status, 202, "{answer:?}");
        assert_eq!(bed.send("POST /from/plain?token=x", &[], "{}").await.status, 401);
        assert_eq!(bed.send("POST /from/near", &[("content-type", "text/plain")], "x").await.status, 403);
        let row = super::server()
            .sql("kanzlei_answered", "SELECT CONCAT(query, headers, body) FROM delivery WHERE workflow = 'plain'")
            .expect("a row");
        assert!(row.starts_with("sealed:") && !row.contains("4711") && !row.contains("tide"), "{row}");
        let found = deliveries(bed, "?workflow=plain").await;
        let shown =
            bed.control(&format!("GET /deliveries/{}", found[0]["id"].as_str().expect("an id")), &Json::Null).await;
        assert!(!shown.body.contains("4711") && !shown.body.contains("tide"), "{}", shown.body);
        assert!(shown.body.contains("text/plain") && !shown.body.contains("\"cookie\""), "{}", shown.body);
        eventually(async || deliveries(bed, "?state=accepted").await.len() == 2).await;
    });
}

#[test]
fn a_burst_of_one_message_queues_one_job() {
    with("burst", &[], &[], async |bed| {
        secrets(bed).await;
        assert_eq!(bed.deploy(&[CUSTOMS]).await.status, 200);
        let body = json!({"data": {"declaration": "D-1"}});
        let (headers, first) = signed(bed, "customs", "msg_b", &body).await;
        let sends = (0..50).map(|_| again(bed, &headers, "/from/customs", &body));
        let answers = futures_util::future::join_all(sends).await;
        assert!(answers.iter().all(|answer| (answer.status, &answer.body) == (202, &first.body)));
        let counts = super::server().sql("kanzlei_burst", "SELECT CONCAT((SELECT COUNT(*) FROM job), ' ', (SELECT COUNT(*) FROM delivery), ' ', (SELECT COUNT(*) FROM delivery_key))");
        assert_eq!(counts.expect("counts").trim(), "1 51 1");
    });
}

#[test]
fn a_draft_collects_messages_that_become_its_inputs_trials_and_cases() {
    with("captured", &[], &[], async |bed| {
        secrets(bed).await;
        let blank = "workflow: events\nentries: [{webhook: /from/yard, proof: {bearer: bank}, send: {}, echo: '${delivery.body.challenge}'}]\nsteps: [{note: arrived}]\n";
        let draft = async |text: &str, version: u64| {
            let body = json!({"path": "events.yaml", "text": text, "base": Json::Null});
            let tag = format!("\"{version}\"");
            let condition = if version == 0 { ("if-none-match", "*") } else { ("if-match", tag.as_str()) };
            let saved = bed.control_with("PUT /drafts/workflow/events", &[condition], &body).await;
            assert!(saved.status < 300, "{}", saved.body);
        };
        draft(blank, 0).await;
        let opened = bed.control("POST /previews", &json!({"drafts": [{"kind": "workflow", "name": "events"}]})).await;
        assert_eq!(opened.status, 200, "{}", opened.body);
        let url = opened.json()["url"].as_str().expect("an address").to_owned();
        let base = url.find("/~/").map(|at| url[at..].trim_end_matches('/').to_owned()).expect("a path");
        let path = format!("{base}/from/yard");
        let echoed = bed.post(&path, &[], r#"{"challenge": "c-1"}"#).await;
        assert_eq!((echoed.status, echoed.body.as_str()), (200, "c-1"));
        for (token, body) in [
            ("tide water", r#"{"id":"E-1","data":{"berth":7}}"#),
            ("wrong", r#"{"id":"E-2","data":{"berth":8,"by":"crane"}}"#),
        ] {
            let answer = bed.post(&path, &[("authorization", &format!("Bearer {token}"))], body).await;
            assert_eq!(answer.status, 202, "{answer:?}");
        }
        let found = deliveries(bed, "?workflow=events&state=captured").await;
        let proofs: Vec<&str> = found.iter().filter_map(|one| one["proof"].as_str()).collect();
        assert_eq!(proofs, ["bearer, not proven: its token does not fit", "bearer, bank"]);
        let proposed = bed.control("POST /deliveries/input", &json!({"workflow": "events"})).await.json();
        assert_eq!(
            proposed["input"], "id: {type: string}\nberth: {type: integer}\nby: {type: string, optional: true}\n",
            "{proposed}"
        );
        // Mapped as proposed, the draft is tried with a message that arrived before.
        let indented = |text: &Json, by: &str| {
            text.as_str().unwrap_or_default().lines().map(|line| format!("{by}{line}\n")).collect::<String>()
        };
        let mapped = format!(
            "workflow: events\ninput:\n{}entries:\n  - webhook: /from/yard\n    proof: {{bearer: bank}}\n    send:\n{}steps: [{{note: '${{input.id}} ${{input.berth}} ${{input.by ?? null}}'}}]\n",
            indented(&proposed["input"], "  "),
            indented(&proposed["send"], "      ")
        );
        let id = found[0]["id"].as_str().expect("an id");
        let asked =
            json!({"workflow": "events", "documents": [{"path": "events.yaml", "text": mapped}], "delivery": id});
        let trial = bed.control("POST /trials", &asked).await.json();
        assert_eq!(
            (&trial["state"], &trial["input"]),
            (&json!("succeeded"), &json!({"id": "E-2", "berth": 8, "by": "crane"})),
            "{trial}"
        );
        let case = bed.control(&format!("POST /deliveries/{id}/case"), &json!({"name": "a crane"})).await;
        assert_eq!(case.status, 200, "{}", case.body);
        let cases = bed.store().draft("cases", "events").await.expect("records").expect("a draft").source;
        assert!(
            cases.contains("delivery: \"POST /from/yard\"") && cases.contains("berth: 8") && !cases.contains("wrong"),
            "{cases}"
        );
    });
}

/// Messages with one ordering key are processed one after another in the order in which they came; those of others run beside them.
#[test]
fn messages_of_one_key_keep_their_order() {
    let lane = "lane: yard\norder: {per: input.berth}\n";
    let workflow = "workflow: yard
input: {berth: {type: string}, n: {type: integer}}
queue: {lane: yard}
entries: [{webhook: /from/yard, proof: {basic: bank}}]
steps: [{pause: 30ms}, {note: done}]
";
    with("hook_order", &[], &[], async |bed| {
        secrets(bed).await;
        let set = json!({"value": "yard:tide", "for": ["signing"]});
        assert_eq!(bed.control("PUT /secrets/bank", &set).await.status, 204);
        assert_eq!(bed.deploy(&[lane, workflow]).await.status, 200);
        for n in 0..12 {
            let berth = ["a", "b"][n % 2];
            let body = json!({"berth": berth, "n": n}).to_string();
            let headers = [("authorization", "Basic eWFyZDp0aWRl"), ("content-type", "application/json")];
            let answer = bed.send("POST /from/yard", &headers, &body).await;
            assert_eq!(answer.status, 202, "{answer:?}");
        }
        bed.work();
        let ended = "SELECT COUNT(*) FROM job WHERE phase = 11";
        eventually(async || super::server().sql("kanzlei_hook_order", ended).is_ok_and(|count| count.trim() == "12"))
            .await;
        let spans = "SELECT ordering_key, started, ended FROM job ORDER BY id";
        let spans = super::server().sql("kanzlei_hook_order", spans).expect("rows");
        let mut last: std::collections::BTreeMap<&str, i64> = Default::default();
        for row in spans.trim().lines() {
            let mut columns = row.split('\t');
            let key = columns.next().expect("a key");
            let [started, ended] =
                [(); 2].map(|()| columns.next().and_then(|text| text.parse().ok()).expect("an instant"));
            let before = last.insert(key, ended).unwrap_or(0);
            assert!(before <= started, "{key}: one began before the one before it had ended\n{spans}");
        }
        assert_eq!(last.len(), 2, "{spans}");
    });
}
