//! Cases over the control API: rehearsed, made from runs and trials, and services as they are described and called.

use serde_json::{Value as Json, json};

use super::{Bed, with};

const API: &str = r#"{"openapi": "3.1.0", "info": {"title": "Rates", "version": "1"}, "paths": {"/latest": {"get": {"operationId": "latest",
  "responses": {"200": {"description": "one", "content": {"application/json": {"schema": {"type": "object", "required": ["rate"], "properties": {"rate": {"type": "number"}}}}}}}}}}}"#;
const SERVICE: &str = "service: rates\nbase: http://127.0.0.1:9\nnetwork: private\nopenapi: rates.openapi.json\n";
const DUES: &str = "workflow: dues
input: {nights: {type: integer, minimum: 1}, currency: {type: string, default: EUR}}
entries: [{endpoint: POST /dues, access: open}]
steps:
  - {id: rate, when: input.currency !== 'EUR', call: rates.latest, catch: [{note: none}]}
  - if: input.nights > 30
    then: [{fail: 409, title: Too long}]
  - {reply: 200, body: {amount: '${input.nights * 100 * (rate?.body.rate ?? 1)}'}}
";
const CASES: &str = "cases: dues
stubs: {rates.latest: {body: {rate: 2}}}
examples:
  - name: two nights
    request: POST /dues
    body: {nights: 2}
    expect: {reply: {status: 200, body: {amount: 200}}}
  - name: another currency
    request: POST /dues
    body: {nights: 1, currency: NOK}
    expect: {reply: {body: {amount: 100}}, steps: {rate: succeeded}}
  - name: no night
    request: POST /dues
    body: {nights: 0}
    expect: {reply: {status: 422}}
";

async fn rehearsed(bed: &Bed, only: &str, documents: Json) -> Json {
    let asked = json!({"workflow": "dues", "only": only, "documents": documents});
    bed.control("POST /rehearsals", &asked).await.json()
}

async fn deploy(bed: &Bed) {
    let documents = json!([{"path": "rates.yaml", "text": SERVICE}, {"path": "dues.yaml", "text": DUES}]);
    let answer =
        bed.control("POST /deploys", &json!({"documents": documents, "files": {"rates.openapi.json": API}})).await;
    assert_eq!(answer.status, 200, "{}", answer.body);
}

#[test]
fn cases_are_rehearsed_with_what_they_reach() {
    with("rehearsals", &[], &[], async |bed| {
        deploy(bed).await;
        let none = rehearsed(bed, "", json!([])).await;
        assert_eq!((&none["cases"], &none["coverage"]), (&json!([]), &Json::Null), "{none}");

        let saved = json!({"text": CASES});
        let first = [("if-none-match", "*")];
        assert_eq!(bed.control_with("PUT /drafts/cases/dues", &first, &saved).await.status, 200);
        let all = rehearsed(bed, "", json!([])).await;
        let passed: Vec<_> = all["cases"].as_array().expect("cases").iter().map(|case| &case["passed"]).collect();
        assert_eq!(passed, [&json!(true), &json!(false), &json!(true)], "{all}");
        let difference = json!({"what": "reply.body.amount", "wanted": "100", "got": "200", "line": 11});
        assert_eq!(all["cases"][1]["differences"], json!([difference]));
        assert_eq!((&all["cases"][0]["steps"], &all["left"]), (&json!([]), &json!(0)), "steps come with one case");
        let missing = json!([{"number": "1", "branch": "catch"}, {"number": "1.1", "branch": null}, {"number": "2", "branch": "then"}, {"number": "2.1", "branch": null}]);
        assert_eq!(all["coverage"]["missing"], missing, "{all}");

        // One case, with what each step did, against a text that is not saved.
        let draft = DUES.replace("* 100 *", "* 50 *");
        let one = rehearsed(bed, "another currency", json!([{"path": "dues.yaml", "text": draft}])).await;
        assert_eq!((&one["cases"][0]["passed"], &one["coverage"]), (&json!(true), &Json::Null), "{one}");
        let steps = one["cases"][0]["steps"].as_array().expect("steps");
        assert!(steps.iter().any(|step| step["number"] == "1" && step["outcome"]["body"]["rate"] == 2), "{steps:?}");
        assert_eq!(one["cases"][0]["input"], json!({"nights": 1, "currency": "NOK"}));

        // What is wrong with the cases themselves is said beside them.
        let wrong = CASES.replace("rates.latest:", "rates.latst:");
        let wrong = rehearsed(bed, "", json!([{"path": "c.yaml", "text": wrong}])).await;
        assert_eq!(wrong["cases"], json!([]), "{wrong}");
        assert!(wrong["diagnostics"][0]["message"].as_str().is_some_and(|text| text.contains("latst")), "{wrong}");
        for (asked, status) in [
            (json!({"workflow": "dues", "only": "no such case"}), 404),
            (json!({"workflow": "nothing"}), 404),
            (
                json!({"workflow": "dues", "documents": [{"path": "d.yaml", "text": "workflow: dues\nsteps: [{replay: 1}]\n"}]}),
                422,
            ),
        ] {
            assert_eq!(bed.control("POST /rehearsals", &asked).await.status, status, "{asked}");
        }
    });
}

#[test]
fn runs_and_trials_become_cases_of_the_draft_and_answer_as_recorded() {
    with("collected", &[], &[], async |bed| {
        deploy(bed).await;
        let media = [("content-type", "application/json")];
        let answer = bed.send("POST /dues", &media, r#"{"nights": 3, "currency": "NOK"}"#).await;
        assert_eq!((answer.status, answer.json()["amount"].as_i64()), (200, Some(300)), "{answer:?}");
        let runs = bed.control("GET /runs?workflow=dues", &Json::Null).await.json();
        let run = runs["runs"][0]["id"].as_str().expect("a run").to_owned();

        // A trial answered as the run was: the service was unreachable then, and is not asked now.
        let asked = json!({"workflow": "dues", "run": run, "recorded": ["rates"]});
        let trial = bed.control("POST /trials", &asked).await.json();
        assert_eq!(
            (&trial["effects"][0]["mode"], &trial["reply"]["amount"]),
            (&json!("stubbed"), &json!(300)),
            "{trial}"
        );
        let alone = json!({"workflow": "dues", "recorded": ["rates"]});
        assert_eq!(bed.control("POST /trials", &alone).await.problem(), (422, "Missing run".into()));

        let trial = trial["id"].as_str().expect("a trial");
        for (line, body, name) in [
            (format!("POST /runs/{run}/case"), json!({"name": "three nights"}), "three nights"),
            (format!("POST /trials/{trial}/case"), json!({"name": "three nights"}), "three nights 2"),
        ] {
            let added = bed.control(&line, &body).await;
            assert_eq!((added.status, &added.json()["name"]), (200, &json!(name)), "{}", added.body);
        }
        let all = rehearsed(bed, "", json!([])).await;
        let passed = all["cases"].as_array().expect("cases").iter().filter(|case| case["passed"] == true).count();
        assert_eq!(passed, 2, "{all}");
        let broken = json!({"text": "cases: dues\nexamples: 3\n"});
        assert_eq!(bed.control_with("PUT /drafts/cases/dues", &[("if-match", "\"2\"")], &broken).await.status, 200);
        let refused = bed.control(&format!("POST /runs/{run}/case"), &json!({})).await;
        assert_eq!(refused.problem(), (409, "The case cannot be added".into()));

        // The services page: who calls, and how that went.
        let services = bed.control("GET /services?day=true", &Json::Null).await.json();
        let rates = &services["services"][0];
        assert_eq!((&rates["callers"], &rates["secrets"]), (&json!(["dues"]), &json!([])), "{services}");
        assert_eq!((&rates["day"]["runs"], &rates["day"]["failures"]), (&json!(1), &json!(1)), "{services}");
        assert_eq!(bed.control("GET /services", &Json::Null).await.json()["services"][0]["day"], Json::Null);
    });
}

#[test]
fn services_are_described_from_documents_and_from_samples() {
    with("described", &[], &[], async |bed| {
        let sample = json!({"method": "GET", "path": "/now/{place}", "status": 200, "body": {"wind": 3.5}});
        for (asked, status, says) in [
            (json!({"name": "rates", "description": API, "base": "http://10.0.0.1/api"}), 200, "network: private"),
            (json!({"name": "rates", "description": API}), 422, "names no server"),
            (json!({"name": "rates", "description": "openapi: [", "base": "https://r.example"}), 422, "diagnostics"),
            (json!({"name": "wind", "samples": [sample], "base": "https://w.example"}), 200, "/now/{place}"),
            (json!({"name": "wind"}), 422, "Nothing describes"),
        ] {
            let answer = bed.control("POST /language/service", &asked).await;
            assert!(answer.status == status && answer.body.contains(says), "{asked}: {answer:?}");
        }
    });
}
