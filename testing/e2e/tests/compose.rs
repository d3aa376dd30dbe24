//! Composing in Chromium: a workflow from nothing by mouse and by keyboard, two authors, and sheets that are only looked at.

use kanzlei_e2e::browser::PATIENCE;
use kanzlei_e2e::desk::{Desk, keys::*};
use kanzlei_e2e::*;
use kanzlei_harness::office::Office;
use kanzlei_harness::wait::Deadline;
use serde_json::{Value as Json, json};

fn demo(office: &Office) {
    said(&client(office, &["deploy", "demo/harbour"]), 0);
}

/// The README's example, as it is written by the sheet.
const CARD: &str = r#"workflow: vessel-card
about: One line about a vessel.

input:
  imo: {type: string, pattern: "^[0-9]{7}$", examples: ["9074720"]}

entries:
  - endpoint: GET /vessels/{imo}
    access: open

steps:
  - id: vessel
    call: registry.getVessel
    send: {imo: "${input.imo}"}
    accept: [200, 404]
  - if: vessel.status === 404
    then:
      - fail: 404
        title: Unknown vessel
  - reply: 200
    body:
      card: ${vessel.body.name}, ${vessel.body.kind}, ${vessel.body.length_m} m
      large: ${vessel.body.length_m > 100}
"#;

/// Waits until the draft of a workflow has a text.
async fn saved(desk: &Desk, name: &str, text: &str) {
    let script = format!("return fetch('/api/v1/drafts/workflow/{name}').then((r) => r.json()).then((d) => d.text)");
    let end = Deadline::after(PATIENCE);
    loop {
        let found = desk.browser.client.execute(&script, vec![]).await.expect("script");
        if found == json!(text) {
            return;
        }
        let found = found.as_str().unwrap_or_default();
        assert!(!end.is_over(), "the draft is\n{found}\nand not\n{text}");
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
}

/// Folds the paragraph that is open; a list of suggestions is closed by Escape first.
async fn fold(desk: &Desk, at: &str) {
    let folded =
        format!("return document.activeElement?.closest({}) !== null", json!(format!("[data-at='{at}'] .row-focus")));
    for _ in 0..3 {
        desk.browser.keys(&ESCAPE.to_string()).await;
        for _ in 0..30 {
            if desk.browser.client.execute(&folded, vec![]).await.is_ok_and(|there| there == json!(true)) {
                return;
            }
            tokio::time::sleep(std::time::Duration::from_millis(30)).await;
        }
    }
    panic!("{at} is not folded; the page says: {}", desk.browser.text().await);
}

/// Waits until a step of a kind can be chosen on the line that is typed on, and chooses it.
async fn choose(desk: &Desk, words: &str, label: &str) {
    desk.browser.keys(words).await;
    desk.browser
        .until(&format!(
            "return document.querySelector('[data-add] [role=option][aria-selected=true] .label')?.textContent === {}",
            json!(label)
        ))
        .await;
    desk.browser.keys(&ENTER.to_string()).await;
}

/// Accepts the suggestion of an editor that has one line, and waits for the text it completes.
///
/// Presses Enter again until then: the editor ignores it while a list is being read again, and in
/// the first 75 ms of a list.
async fn accept(desk: &Desk, label: &str, text: &str) {
    let selected =
        "document.querySelector('.cm-tooltip-autocomplete [aria-selected] .cm-completionLabel')?.textContent";
    desk.browser.until(&format!("return {selected} === {}", json!(label))).await;
    let written = format!("document.activeElement?.closest('.cm-content')?.textContent === {}", json!(text));
    let end = Deadline::after(PATIENCE);
    loop {
        desk.browser.keys(&ENTER.to_string()).await;
        let found = desk.browser.client.execute(&format!("return {written}"), vec![]).await;
        if found.as_ref().is_ok_and(|found| found == true) {
            return;
        }
        assert!(!end.is_over(), "{label} is not accepted: {found:?}");
        tokio::time::sleep(std::time::Duration::from_millis(30)).await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_example_of_the_readme_is_built_by_mouse_tried_mended_deployed_and_taken_back() {
    let desk = Desk::new("by_mouse", demo).await;
    let browser = &desk.browser;
    desk.open("/workflows").await.see("berth-quote").await;
    browser.click("a[href='/new']").await;
    browser.click("#about").await;
    browser.keys("One line about a vessel.").await;
    browser.click("#name").await;
    browser.chord(&[CONTROL, 'a']).await;
    browser.keys("vessel-card").await;
    browser.click("#example").await;
    browser.keys("curl 'http://127.0.0.1:7080/vessels/{imo}'").await;
    browser.see("from the path").await;
    browser.click("form button[type=submit]").await;
    browser.at("[aria-label='Add step 1']").await;
    // The rule and an example of the input.
    browser.click("[data-at='input'] .row-focus").await;
    browser.click("[aria-label='Rule of imo']").await;
    browser.keys(&format!("^[0-9]{{7}}${TAB}")).await;
    browser.click("[aria-label='Example of imo']").await;
    browser.keys(&format!("9074720{TAB}")).await;
    desk.settled("vessel-card", "^[0-9]{7}$").await;
    // A call, whose parameter is filled in.
    browser.click("[aria-label='Add step 1']").await;
    choose(&desk, "registry", "call registry.getVessel").await;
    browser.at("[data-field='steps/0/send/imo']").await;
    browser.press("//*[@data-form='steps/0']", "accept").await;
    browser.at("[data-field='steps/0/accept']").await;
    browser.keys("[200, 404]").await;
    // A condition, with an error reply in it.
    browser.click("[aria-label='Add step 2']").await;
    choose(&desk, "if", "if").await;
    browser.at("[data-field='steps/1/if']").await;
    browser.keys("vessel.state").await;
    browser.see("has no state").await;
    browser.press("", "write status").await;
    desk.settled("vessel-card", "vessel.status").await;
    browser.click("[data-field='steps/1/if'] .cm-content").await;
    browser.keys(" === 404").await;
    desk.settled("vessel-card", "vessel.status === 404").await;
    browser.click("[aria-label='Add a step at 2.1']").await;
    choose(&desk, "fail", "fail").await;
    browser.at("[data-field='steps/1/then/0/title']").await;
    browser.keys("Unknown vessel").await;
    browser.click("[data-field='steps/1/then/0/fail'] .cm-content").await;
    browser.chord(&[CONTROL, 'a']).await;
    browser.keys("404").await;
    desk.settled("vessel-card", "fail: 404").await;
    // The reply, with a text of several values and one that is picked.
    browser.click("[aria-label='Add step 3']").await;
    choose(&desk, "reply", "reply").await;
    browser.at("[data-form='steps/2']").await;
    browser.press("//*[@data-form='steps/2']", "add").await;
    browser.at("[data-field='steps/2/body/name'] .name").await;
    browser.keys(&format!("card{TAB}")).await;
    browser.at("[data-field='steps/2/body/card'] .cm-content").await;
    browser.keys("${vessel.body.name}, ${vessel.body.kind}, ${vessel.body.length_m} m").await;
    desk.settled("vessel-card", "length_m} m").await;
    browser.press("//*[@data-form='steps/2']", "add").await;
    browser.at("[data-field='steps/2/body/name'] .name").await;
    browser.keys(&format!("large{TAB}")).await;
    browser.at("[data-field='steps/2/body/large'] .cm-content").await;
    browser.click("[role=option][title='number']").await;
    desk.settled("vessel-card", "large: ${vessel.body.length_m}").await;
    browser.keys(" > 100").await;
    saved(&desk, "vessel-card", CARD).await;
    // Tried on the sheet, then live.
    browser.chord(&[CONTROL, ENTER]).await;
    desk.sees(&["succeeded · 200", "not taken: 2 is false", "Havbris, cargo, 132 m"]).await;
    browser.click("a[href='/workflows/vessel-card/deploy']").await;
    desk.sees(&["no errors, no warnings", "Everything is new"]).await;
    browser.press("", "Deploy revision 1").await;
    desk.sees(&["Revision 1 is live", "curl -sS"]).await;
    let card = http("GET", &format!("{}/vessels/9074720", desk.office.public()), &[], b"");
    assert_eq!((card.status, card.body.as_str()), (200, r#"{"card":"Havbris, cargo, 132 m","large":true}"#));
    // A second revision, compared by its steps, and back to the first.
    desk.open("/workflows/vessel-card").await;
    browser.click("[data-at='steps/1/then/0'] .row-focus").await;
    browser.at("[data-form='steps/1/then/0']").await;
    browser.click("[data-field='steps/1/then/0/title'] .cm-content").await;
    browser.chord(&[CONTROL, 'a']).await;
    browser.keys("No such vessel").await;
    saved(&desk, "vessel-card", &CARD.replace("Unknown vessel", "No such vessel")).await;
    browser.click("a[href='/workflows/vessel-card/deploy']").await;
    desk.sees(&["title Unknown vessel No such vessel"]).await;
    browser.press("", "Deploy revision 2").await;
    browser.press("", "Back to revision 1").await;
    desk.sees(&["Revision 3 is live"]).await;
    let unknown = http("GET", &format!("{}/vessels/9999999", desk.office.public()), &[], b"");
    assert_eq!((unknown.status, unknown.json()["title"].as_str()), (404, Some("Unknown vessel")));
    desk.browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn it_is_built_by_keyboard_alone() {
    let desk = Desk::new("by_keyboard", demo).await;
    let browser = &desk.browser;
    let press = async |key: char| browser.keys(&key.to_string()).await;
    desk.open("/new").await;
    browser.at("#about").await;
    browser.keys(&format!("One line about a vessel.{TAB}")).await;
    browser.chord(&[CONTROL, 'a']).await;
    browser.keys("vessel-card").await;
    // Past what it begins from and the examples, to the method and the path.
    browser.keys(&format!("{TAB}{TAB}{TAB}{TAB}GET{TAB}/vessels/{{imo}}")).await;
    browser.see("/vessels/{imo}").await;
    press(ENTER).await;
    browser.at("[aria-label='Add step 1']").await;
    choose(&desk, "registry", "call registry.getVessel").await;
    browser.at("[data-field='steps/0/send/imo']").await;
    fold(&desk, "steps/0").await;
    // Up to the input; its table by Tab.
    press(UP).await;
    press(ENTER).await;
    browser.at("[data-form='input']").await;
    browser.at("[data-input='imo'] [aria-label='Name']").await;
    browser.keys(&format!("{TAB}{TAB}^[0-9]{{7}}${TAB}")).await;
    desk.settled("vessel-card", "^[0-9]{7}$").await;
    browser.at("[aria-label='imo is required']").await;
    browser.keys(&format!("{TAB}{TAB}9074720{TAB}")).await;
    desk.settled("vessel-card", "9074720").await;
    fold(&desk, "input").await;
    press(DOWN).await;
    press(ENTER).await;
    browser.at("[data-field='steps/0/send/imo']").await;
    // What could be added stands behind the fields.
    browser.until("document.querySelector('[data-form] .more .link[title^=Statuses]').focus(); return true").await;
    press(ENTER).await;
    browser.at("[data-field='steps/0/accept']").await;
    browser.keys("[200, 404]").await;
    desk.settled("vessel-card", "[200, 404]").await;
    fold(&desk, "steps/0").await;
    press(INSERT).await;
    browser.at("[data-add='steps/1'] input").await;
    choose(&desk, "if", "if").await;
    browser.at("[data-field='steps/1/if']").await;
    // A name that is wrong, found by F8 and completed.
    browser.keys("vessel.state === 404").await;
    browser.see("has no state").await;
    browser.chord(&[CONTROL, 'a']).await;
    browser.keys("vessel.sta").await;
    accept(&desk, "status", "vessel.status").await;
    browser.keys(" === 404").await;
    desk.settled("vessel-card", "vessel.status === 404").await;
    fold(&desk, "steps/1").await;
    // Into the branch: a step behind, moved in.
    press(INSERT).await;
    choose(&desk, "fail", "fail").await;
    browser.at("[data-field='steps/2/title']").await;
    browser.keys("Unknown vessel").await;
    desk.settled("vessel-card", "Unknown vessel").await;
    fold(&desk, "steps/2").await;
    browser.chord(&[ALT, RIGHT]).await;
    browser.at("[data-at='steps/1/then/0'] .row-focus").await;
    browser.chord(&[ALT, LEFT]).await;
    browser.at("[data-at='steps/2'] .row-focus").await;
    browser.chord(&[CONTROL, 'z']).await;
    browser.until("return document.querySelector('[data-at=\"steps/1/then/0\"]') !== null").await;
    desk.browser.until("document.querySelector('[data-at=\"steps/1/then/0\"] .row-focus').focus(); return true").await;
    press(ENTER).await;
    browser.at("[data-form='steps/1/then/0']").await;
    browser.until("return document.activeElement?.closest('.cm-content') !== null").await;
    // Back over the fields that are empty.
    for _ in 0..4 {
        browser.chord(&[SHIFT, TAB]).await;
    }
    browser.at("[data-field='steps/1/then/0/fail'] .cm-content").await;
    browser.chord(&[CONTROL, 'a']).await;
    browser.keys("404").await;
    desk.settled("vessel-card", "fail: 404").await;
    fold(&desk, "steps/1/then/0").await;
    press(UP).await;
    browser.at("[data-at='steps/1'] .row-focus").await;
    press(INSERT).await;
    choose(&desk, "reply", "reply").await;
    browser.at("[data-form='steps/2']").await;
    browser.until("[...document.querySelectorAll('[data-form=\"steps/2\"] .group .link')].find((one) => one.textContent === 'add').focus(); return true").await;
    press(ENTER).await;
    browser.at("[data-field='steps/2/body/name'] .name").await;
    browser.keys(&format!("card{TAB}")).await;
    browser.at("[data-field='steps/2/body/card'] .cm-content").await;
    browser.keys("${vessel.body.name}, ${vessel.body.kind}, ${vessel.body.length_m} m").await;
    desk.settled("vessel-card", "length_m} m").await;
    browser.until("[...document.querySelectorAll('[data-form=\"steps/2\"] .group .link')].find((one) => one.textContent === 'add').focus(); return true").await;
    press(ENTER).await;
    browser.at("[data-field='steps/2/body/name'] .name").await;
    browser.keys(&format!("large{TAB}")).await;
    browser.at("[data-field='steps/2/body/large'] .cm-content").await;
    // The picker, by its key.
    browser.find("[role=option]").await;
    browser.chord(&[ALT, DOWN]).await;
    browser.at("[aria-label='Search values']").await;
    browser.keys("length").await;
    browser
        .until("return document.querySelectorAll('[aria-label=\"Values in scope\"] [role=option]').length === 1")
        .await;
    press(ENTER).await;
    browser.at("[data-field='steps/2/body/large'] .cm-content").await;
    browser.keys(" > 100").await;
    saved(&desk, "vessel-card", CARD).await;
    browser.chord(&[CONTROL, ENTER]).await;
    browser.see("succeeded · 200").await;
    desk.browser.close().await;
}

/// Opens each paragraph of each workflow and folds it again: no text changes, so no draft comes to be.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn sheets_that_are_only_looked_at_stay_as_they_are() {
    let desk = Desk::new("looked_at", demo).await;
    let all = desk.client(&["list", "--json"]);
    let all: Json = serde_json::from_str(&all).expect("JSON");
    let names: Vec<&str> =
        all["workflows"].as_array().expect("a list").iter().filter_map(|one| one["name"].as_str()).collect();
    assert!(names.len() > 10, "{names:?}");
    for name in names {
        desk.open(&format!("/workflows/{name}")).await;
        desk.browser.find(".sheet [data-at]").await;
        let places = "return [...document.querySelectorAll('.sheet [data-at]')].map((one) => one.dataset.at)";
        let places = desk.browser.client.execute(places, vec![]).await.expect("script");
        for place in places.as_array().expect("places").iter().filter_map(Json::as_str) {
            let row = format!("document.querySelector('[data-at=\"{place}\"] .row-focus')");
            desk.browser.client.execute(&format!("{row}.click()"), vec![]).await.expect("click");
            desk.browser.find(&format!("[data-form='{place}']")).await;
            desk.browser.client.execute(&format!("{row}.click()"), vec![]).await.expect("click");
            desk.browser.until("return document.querySelector('[data-form]') === null").await;
        }
        let state = desk.browser.client.execute("return document.querySelector('.actions').innerText", vec![]).await;
        assert!(!state.expect("script").as_str().unwrap_or_default().contains("draft"), "{name} has a draft");
    }
    let drafts = desk.client(&["drafts", "--json"]);
    assert_eq!(serde_json::from_str::<Json>(&drafts).expect("JSON")["drafts"], json!([]));
    desk.browser.close().await;
}

const HELLO: &str = "workflow: hello\nentries: [{endpoint: GET /hello, access: open}]\nsteps:\n  - note: first\n  - note: second\n  - reply: 200\n    body: hei\n";

/// Two authors at one draft: changes of different lines are both kept, those of the same line are decided.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn two_authors_compose_one_draft() {
    let desk = Desk::new("two_authors", |office| {
        assert_eq!(deploy_texts(office, &[("h.yaml", HELLO)]).status, 200);
    })
    .await;
    let second = desk.beside("two_authors_2").await;
    desk.open("/workflows/hello").await.find("[data-at='steps/0']").await;
    second.goto(&format!("{}/workflows/hello", desk.control)).await;
    second.find("[data-at='steps/0']").await;
    let write = async |browser: &browser::Browser, step: usize, key: &str, text: &str| {
        browser.click(&format!("[data-at='steps/{step}'] .row-focus")).await;
        browser.click(&format!("[data-field='steps/{step}/{key}'] .cm-content")).await;
        browser.chord(&[CONTROL, 'a']).await;
        browser.keys(text).await;
    };
    // The second author hears of nothing before writing.
    second.until("window.fetchOf = window.fetch; window.fetch = (url, init) => (String(url).endsWith('/drafts') ? Promise.reject(new TypeError('later')) : window.fetchOf(url, init)); return true").await;
    write(&desk.browser, 0, "note", "one").await;
    saved(&desk, "hello", &HELLO.replace("first", "one")).await;
    // The second author began from the live text and changed another line meanwhile.
    write(&second, 2, "body", "hallo").await;
    let both = HELLO.replace("first", "one").replace("hei", "hallo");
    saved(&desk, "hello", &both).await;
    second.see("both changes are in this draft now").await;
    second.until("window.fetch = window.fetchOf; return true").await;
    desk.browser.see("hallo").await;
    // The same line: without a network in between the later one decides.
    desk.browser.until("window.fetchOf = window.fetch; window.fetch = (url, init) => (init?.method === 'PUT' ? new Promise((go) => (window.go = () => go(window.fetchOf(url, init)))) : window.fetchOf(url, init)); return true").await;
    write(&desk.browser, 1, "note", "zwei").await;
    desk.browser.until("return window.go !== undefined").await;
    write(&second, 1, "note", "to").await;
    saved(&desk, "hello", &both.replace("second", "to")).await;
    desk.browser.until("window.fetch = window.fetchOf; window.go(); return true").await;
    desk.browser.see("changed the same lines").await;
    // Paragraph by paragraph: theirs is taken, and undone again.
    desk.browser.press("", "take first's").await;
    desk.browser.see("They are the same.").await;
    desk.browser.until("document.activeElement.blur(); return true").await;
    desk.browser.chord(&[CONTROL, 'z']).await;
    desk.browser.see("take first's").await;
    desk.browser.press("", "Save mine over theirs").await;
    saved(&desk, "hello", &both.replace("second", "zwei")).await;
    second.see("zwei").await;
    // Several steps at once: two are picked, copied behind themselves, and one change takes both back.
    second.until("document.querySelector('[data-at=\"steps/2\"] .row-focus').focus(); return true").await;
    second.chord(&[SHIFT, UP]).await;
    second.at("[data-at='steps/1'] .row-focus").await;
    second.chord(&[CONTROL, 'c']).await;
    second.see("2 steps are copied").await;
    second.chord(&[CONTROL, 'v']).await;
    second.until("return document.querySelectorAll('.sheet [data-at^=\"steps/\"]').length === 5").await;
    second.close().await;
    desk.browser.close().await;
}
