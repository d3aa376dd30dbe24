//! `call`: the request that a workflow's endpoint gets.

use serde_json::{Value as Json, json};

use super::{api, run};
use crate::Error;

/// A live workflow with this endpoint, as the control API shows it. The endpoint stands at the API's own
/// address.
fn live(url: &str, method: &str, path: &str) -> Json {
    let input = [("imo", "string"), ("nights", "integer"), ("who", "object")]
        .map(|(name, of)| json!({"name": name, "schema": {"type": of}, "required": false, "secret": false}));
    json!({
        "name": "w", "about": "", "revision": 1, "since": "2027-03-04T06:00:00Z", "input": input, "sheet": [],
        "services": [], "source": "", "revisions": [],
        "endpoints": [{"method": method, "path": path, "url": format!("http://api.example{path}"), "reach": format!("{url}{path}"), "curl": ""}]
    })
}

/// Calls an endpoint with these inputs; returns what it got, and how the command ended.
fn called(method: &str, path: &str, inputs: &[&str], status: u16) -> (Option<(String, Json)>, Result<(), Error>) {
    let (endpoint, asked) = api(vec![(status, json!({"ok": true}))]);
    let (control, _) = api(vec![(200, live(&endpoint, method, path))]);
    let line: Vec<&str> = ["call", "w"].iter().chain(inputs).copied().collect();
    let ended = run(&control, &line);
    (asked.try_recv().ok(), ended)
}

#[test]
fn inputs_stand_where_the_endpoint_reads_them() {
    let none = Json::Null;
    for (method, path, inputs, line, body) in [
        ("GET", "/v/{imo}", vec!["imo=9074720"], "GET /v/9074720", none.clone()),
        ("GET", "/v/{imo}", vec!["imo=a b/c"], "GET /v/a%20b%2Fc", none.clone()),
        ("GET", "/v", vec!["imo=1&2", "nights=2"], "GET /v?imo=1%262&nights=2", none.clone()),
        ("DELETE", "/v/{imo}", vec!["imo=1", "who={}"], "DELETE /v/1?who=%7B%7D", none.clone()),
        ("POST", "/v", vec!["imo=12", "nights=12"], "POST /v", json!({"imo": "12", "nights": 12})),
        ("POST", "/v", vec!["nights=two", "who={\"a\":1}"], "POST /v", json!({"nights": "two", "who": {"a": 1}})),
        ("PUT", "/v/{imo}", vec!["imo=7", "nights=1"], "PUT /v/7", json!({"nights": 1})),
        ("POST", "/v", vec![], "POST /v", json!({})),
        ("POST", "/v", vec!["imo=a=b"], "POST /v", json!({"imo": "a=b"})),
    ] {
        let (asked, ended) = called(method, path, &inputs, 200);
        assert_eq!(asked, Some((line.to_owned(), body)), "{inputs:?}: {ended:?}");
        assert!(ended.is_ok(), "{ended:?}");
    }
}

#[test]
fn an_answer_that_is_no_success_makes_the_command_fail() {
    for (status, good) in [(200, true), (202, true), (204, true), (404, false), (503, false)] {
        let (asked, ended) = called("GET", "/v", &[], status);
        assert!(asked.is_some() && ended.is_ok() == good, "{status}: {ended:?}");
        assert!(good || matches!(ended, Err(Error::Bad)), "{status}: the answer is shown, not an error");
    }
}

#[test]
fn what_cannot_be_sent_is_a_usage_error() {
    for (path, inputs, says) in
        [("/v/{imo}", vec![], "the path needs `imo`: add imo=…"), ("/v", vec!["imo"], "`imo` is not KEY=VALUE")]
    {
        let (asked, ended) = called("GET", path, &inputs, 200);
        let Err(Error::Usage(why)) = ended else { panic!("{inputs:?} is sent") };
        assert!(asked.is_none() && why.contains(says), "{why}");
    }
    let mut entries = live("http://127.0.0.1:1", "GET", "/v");
    entries["endpoints"] = json!([]);
    let (control, _) = api(vec![(200, entries)]);
    assert!(matches!(run(&control, &["call", "w"]), Err(Error::Failed(why)) if why.contains("no endpoint")));
}

#[test]
fn a_curl_line_sends_nothing() {
    let (asked, ended) = called("POST", "/v", &["imo=it's", "--curl"], 200);
    assert!(asked.is_none() && ended.is_ok(), "{ended:?}");
}
