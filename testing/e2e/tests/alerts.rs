//! An alert from the failure of a workflow to the notice, by the process that works and the client.

use std::time::Duration;

use kanzlei_e2e::*;
use kanzlei_harness::wait;

const BREAKS: &str = "workflow: breaks
entries: [{endpoint: GET /breaks, access: open}]
steps: [{call: GET http://127.0.0.1:1/}, {reply: 204}]
";
const NOWHERE: &str = "service: nowhere\nbase: http://127.0.0.1:1\nnetwork: private\n";
const NOTICE: &str = "workflow: notice
input: {alerts: {type: array, items: {type: object, required: [alert], properties: {alert: {type: string}}}}}
steps: [{reply: 200, body: '${input.alerts.map(one => one.alert)}'}]
";
const ALERT: &str = "alert: breaks-fails\nworkflow: breaks\nwhen: failed >= 2\nrun: notice\n";

#[test]
fn an_alert_is_announced_by_the_process_that_works() {
    let office = office("alerts", &[]);
    let run = |args: &[&str], code: i32| said(&client(&office, args), code);
    assert!(run(&["alerts"], 0).contains("No alerts."), "none is live");
    let texts = [("breaks.yaml", BREAKS), ("nowhere.yaml", NOWHERE), ("notice.yaml", NOTICE), ("alert.yaml", ALERT)];
    assert_eq!(deploy_texts(&office, &texts).status, 200);
    for _ in 0..3 {
        assert_eq!(http("GET", &format!("{}/breaks", office.public()), &[], b"").status, 502);
    }
    let shown = wait::until(Duration::from_secs(40), || {
        let shown = run(&["alerts"], 0);
        (shown.contains("failed 3") && shown.contains("lasts")).then_some(shown)
    });
    let shown = shown.unwrap_or_else(|| panic!("it does not begin: {}", run(&["alerts"], 0)));
    for part in ["breaks-fails", "workflow breaks", "failed >= 2 · 5m", "looked at "] {
        assert!(shown.contains(part), "no {part:?} in {shown}");
    }
    let notice = wait::until(Duration::from_secs(20), || {
        let jobs = run(&["jobs", "--workflow", "notice"], 0);
        jobs.contains("succeeded").then_some(jobs)
    });
    let notice = notice.expect("the notice runs");
    assert_eq!(notice.matches("notice").count(), 1, "{notice}");
    assert!(
        run(&["alert", "silence", "breaks-fail", "--for", "2h", "--reason", "x"], 1)
            .contains("did you mean `breaks-fails`?")
    );
    assert!(
        run(&["alert", "silence", "breaks-fails", "--for", "2h", "--reason", "it is known"], 0)
            .contains("kanzlei alert speak")
    );
    assert!(run(&["alerts"], 0).contains("on, silenced"));
    run(&["alert", "speak", "breaks-fails"], 0);
    assert!(run(&["retire", "notice"], 1).contains("alerts name it: breaks-fails"));
    run(&["alert", "retire", "breaks-fails"], 0);
    run(&["retire", "notice"], 0);
}
