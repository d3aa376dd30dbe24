//! Lists that are passed on name no caller, and one caller has one pseudonym in all of them.

use serde_json::{Value as Json, json};

use super::with;

const WORK: &str = "workflow: work\ninput: {imo: {type: string, maxLength: 7}}\nqueue: {tag: 'imo-${input.imo}'}\nentries: [{endpoint: POST /work, access: key, answer: either}]\nsteps: [{reply: 204}]\n";
const HOOK: &str = "workflow: hook\ninput: {n: {type: integer}}\nentries:\n  - webhook: /hook\n    proof: {query: {name: token, secret: bank}}\n    once_per: {key: \"${delivery.body.id}\", for: 1 day}\n    send: {n: \"${delivery.body.n}\"}\nsteps: [{reply: 204}]\n";

#[test]
fn lists_name_callers_by_pseudonyms() {
    with("pseudonyms", &[], &[], async |bed| {
        bed.control("PUT /secrets/bank", &json!({"value": "tide water", "for": ["signing"]})).await;
        assert_eq!(bed.deploy(&[WORK, HOOK]).await.status, 200);
        let made = bed.control("POST /keys", &json!({"name": "northern-line"})).await.json();
        let key = made["key"].as_str().expect("a key").to_owned();
        let ask =
            async |imo: &str| bed.post("/work", &[("x-api-key", &key)], &format!("{{\"imo\":\"{imo}\"}}")).await.status;
        assert_eq!([ask("9074720").await, ask("9074720-and-more").await], [204, 422]);
        let prefer = [("x-api-key", key.as_str()), ("prefer", "respond-async")];
        assert_eq!(bed.post("/work", &prefer, "{\"imo\":\"9074720\"}").await.status, 202);
        assert!(
            bed.post("/hook?token=tide%20water", &[], "{\"id\":\"msg-northern-line\",\"n\":\"9074720\"}").await.status
                < 500
        );
        bed.journaled().await;
        let list = async |path: &str| {
            let answer = bed.control(&format!("GET {path}"), &Json::Null).await;
            assert_eq!(answer.status, 200, "{answer:?}");
            answer
        };
        let pseudonym = async |name: &str| {
            let found = list(&format!("/pseudonyms/{name}")).await.json();
            found["pseudonym"].as_str().expect("a pseudonym").to_owned()
        };
        let (caller, tag) = (pseudonym("northern-line").await, pseudonym("imo-9074720").await);
        for (path, names, hidden) in [
            ("/usage", "northern-line", caller.as_str()),
            ("/jobs", "imo-9074720", tag.as_str()),
            ("/deliveries", "msg-northern-line", pseudonym("msg-northern-line").await.as_str()),
        ] {
            let (plain, passed_on) = (list(path).await.body, list(&format!("{path}?pseudonyms=true")).await.body);
            assert!(plain.contains(names) && !plain.contains(hidden), "{path}: {plain}");
            assert!(passed_on.contains(hidden), "{path}: {passed_on}");
            for name in ["northern-line", "9074720"] {
                assert!(!passed_on.contains(name), "{path} has {name}: {passed_on}");
            }
        }
        // A request here has no address; what it sent is omitted, and what its problem may quote.
        let (plain, passed_on) = (list("/refusals").await.body, list("/refusals?pseudonyms=true").await.body);
        assert!(plain.contains("9074720") && plain.contains("longer than"), "{plain}");
        assert!(passed_on.contains("\"digest\":null"), "{passed_on}");
        assert!(!passed_on.contains("9074720") && !passed_on.contains("longer than"), "{passed_on}");
    });
}

#[test]
fn pseudonyms_need_a_key_of_the_secrets() {
    with("pseudonyms_keyless", &[WORK], &[("secrets.key", ""), ("secrets.key_file", "")], async |bed| {
        for path in ["/pseudonyms/northern-line", "/usage?pseudonyms=true", "/jobs?pseudonyms=true"] {
            let answer = bed.control(&format!("GET {path}"), &Json::Null).await;
            assert_eq!(answer.problem(), (409, "No key".to_owned()), "{path}");
        }
        assert_eq!(bed.control("GET /usage?pseudonyms=false", &Json::Null).await.status, 200);
    });
}
