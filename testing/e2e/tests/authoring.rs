//! What authors do in the terminal beside deploying: drafts, revisions, edits of files.

use std::io::Write;
use std::process::{Command, Stdio};

use kanzlei_e2e::calls::{bearer, get};
use kanzlei_e2e::*;
use kanzlei_harness::office::Office;
use serde_json::json;

/// One author pushes, another one too: the second is told, and merges what does not touch.
#[test]
fn drafts_go_back_and_forth_between_authors() {
    let office = office("drafts", &[]);
    let text = "workflow: hello\nentries: [{endpoint: GET /hello, access: open}]\nsteps:\n  - note: a\n  - note: b\n  - note: c\n  - note: d\n  - reply: 200\n    body: hei\n";
    let folder = Folder::new("drafts", &[("hello.yaml", text), ("mine.yaml", "")]);
    let file = folder.0.join("hello.yaml");
    let path = file.to_str().expect("path");
    let own = |args: &[&str], code: i32| said(&client_in(Some(&office), &folder.0, args), code);
    assert!(own(&["drafts"], 0).contains("no drafts"));
    assert!(own(&["draft", "push", path], 0).contains("version 1: not deployed"));
    assert!(own(&["deploy", "--draft", "hello"], 0).contains("revision 1 · live"));
    assert!(own(&["history", "hello"], 0).contains("hello@1"));
    std::fs::write(&file, text.replace("body: hei", "body: hallo")).expect("written");
    own(&["draft", "discard", "hello"], 1);
    std::fs::remove_file(folder.0.join(".kanzlei/drafts.json")).expect("what the folder knew");
    assert!(own(&["draft", "push", path], 0).contains("differs from live by 1 step"));
    let preview = own(&["deploy", "--draft", "hello", "--dry-run"], 0);
    assert!(preview.contains("would be live") && preview.contains("body: hei → hallo"), "{preview}");

    // Another author, over the API.
    let theirs = text.replace("body: hei", "body: hallo").replace("note: a", "note: first");
    let theirs = json!({"text": theirs}).to_string();
    let headers =
        [("authorization", bearer(&office)), ("content-type", "application/json".into()), ("if-match", "\"1\"".into())];
    let headers: Vec<(&str, &str)> = headers.iter().map(|(name, value)| (*name, value.as_str())).collect();
    let url = format!("{}/api/v1/drafts/workflow/hello", office.control());
    assert_eq!(http("PUT", &url, &headers, theirs.as_bytes()).status, 200);
    std::fs::write(&file, text.replace("body: hei", "body: god dag")).expect("written");
    let refused = own(&["draft", "push", path], 1);
    assert!(refused.contains("do not touch") && refused.contains("--merge"), "{refused}");
    assert!(own(&["draft", "push", path, "--merge"], 0).contains("differs from live by 2 steps"));
    let merged = std::fs::read_to_string(&file).expect("the file");
    assert!(merged.contains("note: first") && merged.contains("body: god dag"), "{merged}");
    assert!(
        own(&["diff", "hello", "hello@draft"], 0).contains("~ 1       note first"),
        "{}",
        own(&["diff", "hello", "hello@draft"], 0)
    );
    assert!(own(&["deploy", "--draft", "hello"], 0).contains("revision 2 · live"));

    // Back to the first revision, as a draft and then live.
    assert!(own(&["restore", "hello@1"], 0).contains("differs from live by 2 steps"));
    own(&["draft", "discard", "hello"], 0);
    assert!(own(&["restore", "hello@1", "--deploy"], 0).contains("live as revision 3"));
    assert_eq!(get(&office, "/hello", &[]).body, "hei");
    assert_eq!(own(&["show", "hello@1"], 0), text);
    own(&["draft", "pull", "hello", "--to", "mine.yaml"], 0);
    assert_eq!(std::fs::read_to_string(folder.0.join("mine.yaml")).expect("the file"), text);
    assert!(own(&["diff", "hello@2", "mine.yaml"], 0).contains("god dag → hei"));
    for (args, says) in [
        (&["show", "hello@9"][..], "no revision 9"),
        (&["diff", "hello@x", "hello"], "no revision; write"),
        (&["restore", "hello"], "name the revision"),
        (&["history", "helo"], "never deployed"),
    ] {
        let output = client(&office, args);
        assert!(!output.status.success());
        let shown = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(shown.contains(says), "{args:?}: {shown}");
    }
}

/// Edits and renames in files, without a service.
#[test]
fn documents_are_edited_in_place() {
    let folder = Folder::new(
        "edits",
        &[
            (
                "a.yaml",
                "workflow: a\ninput: {n: {type: integer}}\nsteps:\n  # counts\n  - let: {m: \"${input.n + 1}\"}\n  - reply: 200\n    body: ${m}\n",
            ),
            (
                "b.yaml",
                "workflow: b\nsteps:\n  - id: of\n    invoke: a\n    send: {n: 1}\n  - reply: 200\n    body: ${of.status}\n",
            ),
        ],
    );
    let run = |args: &[&str], code: i32| said(&client_in(None, &folder.0, args), code);
    let text = |name: &str| std::fs::read_to_string(folder.0.join(name)).expect("a text");
    assert!(run(&["outline", "a.yaml"], 0).contains("reply 200"));
    assert!(run(&["outline", "a.yaml", "--step", "2"], 0).contains("m: number"));
    run(&["edit", "a.yaml", "insert", "note: n is ${input.n}", "--before", "1"], 0);
    assert!(text("a.yaml").contains("  - note: n is ${input.n}\n  # counts\n"), "{}", text("a.yaml"));
    run(&["edit", "a.yaml", "off", "1"], 0);
    assert!(text("a.yaml").contains("    off: true\n"));
    let before = text("a.yaml");
    let shown = run(&["edit", "a.yaml", "--dry-run", "move", "3", "--before", "2"], 0);
    assert!(shown.contains("there is no `m` here") || shown.contains("new findings"), "{shown}");
    assert_eq!(text("a.yaml"), before, "a dry run writes nothing");
    assert!(run(&["rename", ".", "a", "first"], 0).contains("+    invoke: first"));
    assert!(text("b.yaml").contains("invoke: first") && text("a.yaml").starts_with("workflow: first"));
    run(&["rename", ".", "first.input.n", "count"], 0);
    assert!(text("b.yaml").contains("send: {count: 1}") && text("a.yaml").contains("input.count + 1"));
    assert!(run(&["explain", "unknown-name"], 0).contains("Corrected:"));
    for (args, says) in [
        (&["edit", "a.yaml", "delete", "9"][..], "no step 9"),
        (&["rename", ".", "nothing", "x"], "declared in none"),
        (&["explain", "unknown-nam"], "did you mean `unknown-name`?"),
    ] {
        let output = client_in(None, &folder.0, args);
        let shown = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(!output.status.success() && shown.contains(says), "{args:?}: {shown}");
    }
}

/// A changed file is tried beside what is live, without being deployed.
#[test]
fn a_file_is_tried_before_it_is_deployed() {
    let office = office("trials", &[]);
    said(&client(&office, &["deploy", "demo/harbour", "--unrehearsed"]), 0);
    let read = |name: &str| {
        std::fs::read_to_string(root().join("demo/harbour/workflows").join(name)).expect("a workflow of the demo")
    };
    let changed = read("berth-quote.yaml").replace("length_m * 3.2", "length_m * 4");
    let stubs =
        "registry.getVessel: {body: {imo: \"1\", name: Prøven, kind: cargo, length_m: 10, draught_m: 1, flag: LIN}}\n";
    let folder = Folder::new("trials", &[("berth-quote.yaml", &changed), ("stubs.yaml", stubs)]);
    let run = |args: &[&str], code: i32| said(&client_in(Some(&office), &folder.0, args), code);
    let shown = run(&["try", "berth-quote.yaml", "nights=2", "currency=NOK"], 0);
    for part in ["berth-quote · trial · succeeded", "answer 201", "registry.getVessel", "real", "Havbris"] {
        assert!(shown.contains(part), "{part}: {shown}");
    }
    let stubbed = run(&["try", "berth-quote.yaml", "nights=2", "--stub", "stubs.yaml"], 0);
    assert!(stubbed.contains("Prøven") && stubbed.contains("amount: 80") && stubbed.contains("stubbed"), "{stubbed}");
    let until = run(&["try", "berth-quote.yaml", "--until", "tide"], 0);
    assert!(until.contains("tides.nextWindow") && !until.contains("rates.latest"), "{until}");
    // What would change something is simulated, also of what is live.
    let bill = run(&["try", "stay-bill", "nights=1"], 0);
    assert!(bill.contains("sql.harbour") && bill.contains("simulated") && bill.contains("--real NAME"), "{bill}");
    said(&client_in(Some(&office), &folder.0, &["draft", "push", "berth-quote.yaml"]), 0);
    let draft: serde_json::Value = serde_json::from_str(&run(&["try", "berth-quote", "--json"], 0)).expect("JSON");
    let live: serde_json::Value = serde_json::from_str(&run(&["try", "berth-quote@live", "--json"], 0)).expect("JSON");
    let amount = |trial: &serde_json::Value| trial["reply"]["dues"]["amount"].as_f64().expect("an amount");
    assert!(amount(&draft) > amount(&live), "{draft} {live}");
    assert_eq!(kanzlei_e2e::calls::api(&office, "/runs")["runs"], json!([]), "trials are no runs");
    let listed = run(&["trials"], 0);
    let id = draft["id"].as_str().expect("an id");
    assert!(listed.contains(id) && run(&["trials", id], 0).contains("berth-quote · trial"), "{listed}");
    // What a trial did is a case of what was tried.
    let case = run(&["record", draft["id"].as_str().expect("an id"), "--name", "as tried"], 0);
    assert!(case.contains("as tried") && case.contains("registry.getVessel:") && case.contains("input:"), "{case}");
    let copied = Command::new("cp").arg("-r").arg(root().join("demo/harbour")).arg(&folder.0).status();
    assert!(copied.expect("cp").success());
    std::fs::write(folder.0.join("harbour/cases/tried.yaml"), &case).expect("written");
    let only = ["rehearse", "harbour", "--only", "as tried"];
    let before = run(&only, 1);
    assert!(before.contains("amount"), "what is live costs less: {before}");
    std::fs::write(folder.0.join("harbour/workflows/berth-quote.yaml"), &changed).expect("written");
    let after = run(&only, 0);
    assert!(after.contains("1 passed") || after.contains("1 of 1"), "{after}");
    // A workflow without an entry is started for real.
    let started = run(&["start", "vessel-dues", "imo=9074720", "nights=2", "--follow"], 0);
    assert!(started.contains("started by first") && started.contains("dues_eur"), "{started}");
    for (args, code, says) in [
        (&["try", "berth-quote.yaml", "imo=12"][..], 1, "422"),
        (&["try", "berth-quote.yaml", "--until", "nine"], 1, "no step `nine`"),
        (&["try", "nothing"], 1, "is live"),
        (&["try", "stubs.yaml"], 2, "no workflow"),
        (&["start", "vessel-dues", "imo=1"], 1, "422"),
        (&["start", "vessel-due"], 1, "did you mean `vessel-dues`?"),
    ] {
        let shown = run(args, code);
        assert!(shown.contains(says), "{args:?}: {shown}");
    }
}

/// Past runs are answered again by a draft, from what they recorded: nothing is asked of anybody.
#[test]
fn past_runs_are_answered_again_by_a_draft() {
    let office = office("retrace", &[]);
    said(&client(&office, &["deploy", "demo/harbour", "--unrehearsed"]), 0);
    for nights in ["1", "2", "3"] {
        let of = format!("nights={nights}");
        let at = ["call", "berth-quote", "harbour=LIN", "imo=9074720", "arrives=2027-03-04T06:00:00Z", "currency=NOK"];
        said(&client(&office, &[&at[..], &[&of]].concat()), 0);
    }
    let text = std::fs::read_to_string(root().join("demo/harbour/workflows/berth-quote.yaml")).expect("the demo");
    let dearer = text.replace("length_m * 3.2", "length_m * Math.max(3.2, input.nights * 2)");
    let asks = text.replace("  - let:\n", "  - {id: again, call: pilots.listReports}\n  - let:\n");
    let folder = Folder::new("retrace", &[("dearer.yaml", &dearer), ("asks.yaml", &asks), ("same.yaml", &text)]);
    let run = |args: &[&str], code: i32| said(&client_in(Some(&office), &folder.0, args), code);
    let demo = root().join("demo/harbour/workflows/berth-quote.yaml");
    let demo = demo.to_str().expect("a path");
    let url = format!("{}/harbours/LIN/quotes", office.public());
    let wrong = http("POST", &url, &[("content-type", "application/json")], br#"{"imo":"90","nights":4}"#);
    assert_eq!(wrong.status, 422);
    let refused = wrong.header("x-request-id").expect("an id").to_owned();
    let runs = || kanzlei_e2e::calls::api(&office, "/runs")["runs"].as_array().cloned().unwrap_or_default();
    let asked = runs();
    let before = asked[1]["id"].as_str().expect("an id").to_owned();
    for (args, code, says) in [
        (&["retrace", "same.yaml"][..], 0, "3  same"),
        (&["retrace", "dearer.yaml"], 1, "2  differ"),
        (&["retrace", "dearer.yaml", "--last", "1"], 1, "1  differ"),
        (&["retrace", "dearer.yaml"], 1, "reply.body.dues.amount  2"),
        (&["retrace", "asks.yaml"], 1, "pilots.listReports, of which nothing is recorded"),
        (&["retrace", "berth-quote", "--status", "4xx"], 0, "No such runs"),
        (&["retrace", "berth-quote", "--since", "x"], 1, "neither an instant"),
        // What a step knew, and two runs side by side.
        (&["run", "last", "--at", "5"], 0, "rate { status: 200"),
        (&["run", "last", "--at", "5", "--eval", "input.nights + 1"], 0, "4"),
        (&["run", "last", "--at", "5", "--eval", "nothing"], 1, "there is no `nothing` here"),
        (&["run", "last", "--at", "2.1"], 1, "did not get to a step 2.1"),
        (&["diff", &before, "last"], 0, "input.nights: 2 → 3"),
        (&["diff", "last", "last"], 0, "Nothing differs"),
        // The input of a run, and from a step on what is new.
        (&["try", "dearer.yaml", "--run", "last"], 0, "nights: 3"),
        (&["try", "same.yaml", "--run", "last", "--from", "4", "nights=2"], 0, "nights: 2"),
        (&["try", "same.yaml", "--run", "last", "--from", "4"], 0, "tides.nextWindow    stubbed"),
        (&["try", "same.yaml", "--run", "last", "--from", "4"], 0, "rates.latest        real"),
        (&["try", "same.yaml", "--run", "last", "--from", "9"], 1, "did not get to a step 9"),
        // The input of a case and of a refused request.
        (&["try", demo, "--case", "two nights in euros"], 0, "nights: 2"),
        (&["try", demo, "--case", "two nights in euro"], 2, "did you mean `two nights in euros`?"),
        (&["try", "same.yaml", "--refusal", &refused, "imo=9074720"], 0, "nights: 4"),
        (&["try", "same.yaml", "--refusal", "none"], 1, "no refused request"),
    ] {
        let shown = run(args, code);
        assert!(shown.contains(says), "{args:?}: {shown}");
    }
    assert_eq!(runs().len(), asked.len());
}

/// Before each effect of a trial the terminal asks what is to come of it.
#[test]
fn a_trial_asks_before_each_effect() {
    let office = office("asking", &[]);
    said(&client(&office, &["deploy", "demo/harbour", "--unrehearsed"]), 0);
    let answers = "?\n\nv vessel\na 200 {\"station\": \"LIN\", \"window\": null}\nvessel = {\"body\": {\"length_m\": 100}}\nwhat\nf timeout\n";
    let mut child = Command::new(bins().join("kanzlei"))
        .args(["try", "berth-quote", "currency=NOK", "--interactive"])
        .env("KANZLEI_URL", office.control())
        .env("KANZLEI_TOKEN", &office.token)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .expect("the client");
    write!(child.stdin.take().expect("stdin"), "{answers}").expect("written");
    let output = child.wait_with_output().expect("an end");
    let shown = String::from_utf8_lossy(&output.stdout);
    assert_eq!(output.status.code(), Some(1), "{shown}");
    for part in [
        "step 1 call registry.getVessel",
        "let it fail: f timeout",
        "\"name\": \"Havbris\"",
        "step 3 call tides.nextWindow",
        "`what` means nothing here",
        "why timeout: the trial's author let it fail",
        "tides.nextWindow    stubbed",
        "answer 504",
    ] {
        assert!(shown.contains(part), "{part}: {shown}");
    }
}

/// What is live in one office is taken over by another, with what its workflows remember; secrets are set there first.
#[test]
fn what_is_live_is_taken_over_by_another_installation() {
    let (here, there) = (office("export", &[]), office("import", &[]));
    said(&client(&here, &["deploy", "demo/harbour", "--unrehearsed"]), 0);
    said(&client(&here, &["call", "gather-reports"]), 0);
    let folder = Folder::new("transfer", &[("kept.txt", "")]);
    let run = |office: &Office, args: &[&str], code: i32| said(&client_in(Some(office), &folder.0, args), code);
    let shown = run(&here, &["export", "all.zip", "--kept"], 0);
    for part in ["33 workflows", "9 services", "secrets set notify-key --for signing", "1 of the workflows remember"] {
        assert!(shown.contains(part), "{part}: {shown}");
    }
    let set = kanzlei_e2e::calls::api(&there, "/secrets")["secrets"].as_array().cloned().expect("secrets");
    for secret in &set {
        run(&there, &["secrets", "remove", secret["name"].as_str().expect("a name")], 0);
    }
    let missing = run(&there, &["import", "all.zip"], 1);
    assert!(missing.contains("must set first") && missing.contains("texts-key"), "{missing}");
    assert!(run(&there, &["list"], 0).contains("Nothing is live"));
    for secret in &set {
        let name = secret["name"].as_str().expect("a name");
        let value = "whsec_bGluZHZpay1ub3RpZmllcy00YmM5LWRlbW8=";
        let body = json!({"value": value, "for": secret["for"]}).to_string();
        let headers = [("authorization", bearer(&there)), ("content-type", "application/json".into())];
        let headers: Vec<(&str, &str)> = headers.iter().map(|(name, value)| (*name, value.as_str())).collect();
        let url = format!("{}/api/v1/secrets/{name}", there.control());
        let answer = http("PUT", &url, &headers, body.as_bytes());
        assert!(answer.status < 300, "{answer:?}");
    }
    assert!(run(&there, &["import", "all.zip", "--unrehearsed", "--dry-run"], 0).contains("would be live"));
    let taken = run(&there, &["import", "all.zip", "--unrehearsed", "--kept"], 0);
    assert!(taken.contains("berth-quote") && taken.contains("gather-reports remembers what it did there"), "{taken}");
    let kept = |office: &Office| kanzlei_e2e::calls::api(office, "/kept/gather-reports")["values"].clone();
    assert_eq!(kept(&here), kept(&there));
    let again = run(&there, &["import", "all.zip", "--unrehearsed", "--kept"], 0);
    assert!(again.contains("left as it is"), "{again}");
    // The same comes out again, and a part has what it needs and nothing else.
    for office in [&here, &there] {
        let name = if std::ptr::eq(office, &here) { "one" } else { "two" };
        run(office, &["export", name], 0);
    }
    let same = Command::new("diff")
        .args(["-r", "-x", "export.json", "one", "two"])
        .current_dir(&folder.0)
        .output()
        .expect("diff");
    assert!(same.status.success(), "{}", String::from_utf8_lossy(&same.stdout));
    let part = run(&there, &["export", "berth-quote", "part"], 0);
    assert!(part.contains("3 services, 1 workflow") && !part.contains("lane"), "{part}");
    for (args, says) in [
        (&["export", "berth-quot", "x"][..], "did you mean `berth-quote`?"),
        (&["export", "one"], "is not empty"),
        (&["import", "nothing"], "nothing"),
        (&["import", "kept.txt"], "kept.txt"),
    ] {
        let output = client_in(Some(&there), &folder.0, args);
        let shown = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(!output.status.success() && shown.contains(says), "{args:?}: {shown}");
    }
}

/// Answers that runs recorded of calls by address describe their service.
#[test]
fn recorded_answers_describe_a_service() {
    let office = office("sample", &[]);
    said(&client(&office, &["deploy", "demo/harbour", "--unrehearsed"]), 0);
    let base = kanzlei_e2e::calls::api(&office, "/services/registry")["base"].as_str().expect("a base").to_owned();
    let service = format!("service: plain\nbase: {base}\nnetwork: private\n");
    let workflow = format!(
        "workflow: look\ninput: {{imo: {{type: string}}}}\nentries: [{{endpoint: \"GET /look/{{imo}}\", access: open}}]\nsteps:\n  - {{id: got, call: \"GET {base}/vessels/{{imo}}\", service: plain, send: {{imo: \"${{input.imo}}\"}}, accept: [2xx, 404]}}\n  - {{reply: 200, body: \"${{got.body}}\"}}\n"
    );
    let folder =
        Folder::new("sample", &[("plain.yaml", &service), ("look.yaml", &workflow), ("now.json", "{\"wind\": 3.5}")]);
    let run = |args: &[&str], code: i32| said(&client_in(Some(&office), &folder.0, args), code);
    run(&["deploy", "."], 0);
    for imo in ["9074720", "9417350", "0000000"] {
        assert!(get(&office, &format!("/look/{imo}"), &[]).status == 200);
    }
    let described = |args: &[&str]| -> serde_json::Value {
        let output = client_in(Some(&office), &folder.0, args);
        assert!(output.status.success(), "{output:?}");
        serde_json::from_slice(&output.stdout).expect("an OpenAPI document")
    };
    let document = described(&["service", "sample", "plain", "--recorded"]);
    let answers = &document["paths"]["/vessels/{imo}"]["get"]["responses"];
    let schema = |status: &str| &answers[status]["content"]["application/json"]["schema"];
    assert_eq!(schema("200")["properties"]["length_m"], json!({"type": "number"}), "{document}");
    assert_eq!(schema("404")["properties"]["status"], json!({"type": "integer"}), "{document}");
    let given = described(&["service", "sample", "weather", "--call", "GET /now/{place}", "now.json"]);
    assert_eq!(given["paths"]["/now/{place}"]["get"]["parameters"][0]["name"], "place", "{given}");
    assert!(run(&["service", "sample", "registry", "--recorded"], 1).contains("nothing is recorded"));
    // What was described types the workflow that calls it.
    let text = serde_json::to_string(&document).expect("JSON");
    std::fs::write(folder.0.join("plain.openapi.json"), text).expect("written");
    std::fs::write(folder.0.join("plain.yaml"), service + "openapi: plain.openapi.json\n").expect("written");
    let wrong = "workflow: look\nsteps:\n  - {id: got, call: plain.getVesselsImo, send: {imo: a}}\n  - {reply: 200, body: \"${got.body.nam}\"}\n";
    std::fs::write(folder.0.join("look.yaml"), wrong).expect("written");
    assert!(run(&["check", "."], 1).contains("did you mean `name`?"));
}
