//! The command line on the demo office: what it prints and how it exits.

use std::process::Command;

use kanzlei_e2e::*;
use kanzlei_harness::wait;

#[test]
fn the_demo_office_from_check_to_run() {
    let office = office("client", &[]);
    let run = |args: &[&str], code: i32| said(&client(&office, args), code);
    assert_eq!(run(&["check", "demo/harbour"], 0).trim(), "88 documents: no errors");
    assert_eq!(run(&["list"], 0).trim(), "Nothing is live yet. Put something live with: kanzlei deploy PATH");
    assert!(run(&["runs"], 0).starts_with("No runs yet."));
    let deployed = run(&["deploy", "demo/harbour"], 0);
    let curl =
        deployed.lines().map(str::trim).find(|l| l.starts_with("curl") && l.contains("quotes")).expect("a curl line");
    let pasted = Command::new("bash").args(["-c", &format!("{curl} -w ' %{{http_code}}'")]).output().expect("bash");
    let answer = String::from_utf8_lossy(&pasted.stdout).into_owned();
    assert!(answer.contains(r#""vessel":"Havbris""#) && answer.ends_with("201"), "{answer}");
    assert!(run(&["deploy", "demo/harbour"], 0).contains("unchanged"));
    assert!(run(&["list"], 0).contains("/harbours/{harbour}/quotes"));
    assert!(run(&["show", "berth-quote"], 0).contains("2.1 Fail 422 Unknown vessel"));
    assert!(run(&["show", "berth-quote", "--source"], 0).starts_with("workflow: berth-quote\n"));
    assert!(run(&["show", "berth-qote"], 1).contains("did you mean `berth-quote`?"));

    // The tide office fails once: the call is retried, and the run shows it.
    let behave = format!("http://127.0.0.1:{}/~/behaviour/tides?fail_next=1", office.ports.standins);
    assert_eq!(http("PUT", &behave, &[], b"").status, 204);
    let called = run(
        &[
            "call",
            "berth-quote",
            "harbour=LIN",
            "imo=9074720",
            "arrives=2027-03-04T06:00:00Z",
            "currency=NOK",
            "nights=2",
        ],
        0,
    );
    let id = called.lines().last().expect("last line").rsplit(' ').next().expect("id").to_owned();
    let shown = wait::until(std::time::Duration::from_secs(10), || {
        let output = client(&office, &["run", &id]);
        output.status.success().then(|| String::from_utf8_lossy(&output.stdout).into_owned())
    })
    .expect("the run is in the journal");
    for part in [
        "berth-quote · revision 1 · succeeded",
        "2 attempts",
        "2.1 fail 422 Unknown vessel — not reached",
        "dues: 9816.576",
        "tides answered 503",
    ] {
        assert!(shown.contains(part), "no {part:?} in:\n{shown}");
    }
    let failed = run(&["call", "berth-quote", "harbour=LIN", "imo=9999999", "arrives=2027-03-04T06:00:00Z"], 1);
    assert!(failed.contains("422") && failed.contains("No vessel carries the number 9999999."), "{failed}");
    let listed = wait::until(std::time::Duration::from_secs(10), || {
        let text = run(&["runs", "berth-quote", "--state", "rejected"], 0);
        text.contains("No vessel carries").then_some(text)
    });
    assert!(listed.is_some());
    for args in [
        &["list", "--json"][..],
        &["runs", "--json"],
        &["run", &id, "--json"],
        &["show", "berth-quote", "--json"],
        &["check", "demo/harbour", "--json"],
        &["call", "harbour-tides", "draught=6", "after=2027-03-04T06:00:00Z", "--json"],
    ] {
        let text = run(args, 0);
        serde_json::from_str::<serde_json::Value>(&text).unwrap_or_else(|error| panic!("{args:?}: {error}: {text}"));
    }
    assert!(run(&["retire", "harbour-tides"], 0).contains("is retired"));
    assert!(run(&["call", "harbour-tides"], 1).contains("no workflow `harbour-tides` is live"));
}

#[test]
fn findings_are_drawn_and_exit_codes_differ() {
    let dir = kanzlei_harness::scratch::folder("client");
    std::fs::create_dir_all(&dir).expect("folder");
    let file = dir.join("slip.yaml");
    std::fs::write(&file, "workflow: slip\nsteps:\n  - reply: 200\n    body: Hello ${inptu.name}\n").expect("file");
    let kanzlei = |args: &[&str]| {
        let mut command = Command::new(bins().join("kanzlei"));
        command.args(args).current_dir(&dir).env("KANZLEI_TOKEN", "t").env("KANZLEI_URL", "http://127.0.0.1:9");
        command.output().expect("client runs")
    };
    let path = file.to_str().expect("path");
    let drawn = said(&kanzlei(&["check", path]), 1);
    for part in [
        "slip.yaml:4:19",
        "there is no `inptu` here",
        "body: Hello ${inptu.name}",
        "^^^^^",
        "did you mean `input`?",
        "1 error",
    ] {
        assert!(drawn.contains(part), "no {part:?} in:\n{drawn}");
    }
    assert!(!drawn.contains('\x1b'), "colours only on a terminal");
    let names = dir.join("names.json");
    std::fs::write(&names, r#"{"vessels": [{"name": "Havbris", "length_m": 132}]}"#).expect("file");
    for (args, code, says) in [
        (&["list"][..], 3, "is kanzleid running?"),
        (&["check", "nowhere.yaml"], 2, "nowhere.yaml"),
        (&["bogus"], 2, "unrecognized subcommand"),
        (&["schema", "bogus"], 2, "kinds: workflow, service"),
        (&["schema", "workflow"], 0, "2020-12"),
        (&["eval", "1 + 2"], 0, "3"),
        (&["eval", "vessels.map(v => v.name)[0]", "--with", "names.json"], 0, "Havbris"),
        (&["eval", "vessel.name", "--with", "names.json"], 1, "did you mean `vessels`?"),
        (&["eval", "null.x"], 1, "has no member `x`"),
        (&["eval", "new Date()"], 1, "`new` is not part of the expression language"),
    ] {
        let text = said(&kanzlei(args), code);
        assert!(text.contains(says), "{args:?}: {text}");
    }
    let _ = std::fs::remove_dir_all(dir);
}
