//! The console in Chromium, on the demo office and on jobs of its own.

use fantoccini::Locator;
use kanzlei_e2e::browser::Browser;
use kanzlei_e2e::calls::{becomes, id_of, post};
use kanzlei_e2e::*;
use serde_json::json;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_operator_looks_into_the_office() {
    let office = tokio::task::spawn_blocking(|| {
        let office = office("console", &[]);
        said(&client(&office, &["deploy", "demo/harbour"]), 0);
        said(
            &client(&office, &["call", "berth-quote", "harbour=LIN", "imo=9074720", "arrives=2027-03-04T06:00:00Z"]),
            0,
        );
        said(
            &client(&office, &["call", "berth-quote", "harbour=LIN", "imo=9999999", "arrives=2027-03-04T06:00:00Z"]),
            1,
        );
        said(&client(&office, &["call", "stay-bill", "harbour=LIN", "imo=9074720", "made=2027-03-04"]), 0);
        said(&client(&office, &["call", "gather-reports"]), 0);
        office
    })
    .await
    .expect("office");
    let control = office.control();
    let browser = Browser::start(&kanzlei_harness::scratch::folder("console")).await;

    browser.goto(&format!("{control}/runs")).await;
    browser.see("Sign in").await;
    browser.find("#token").await.send_keys("wrong").await.expect("typing");
    browser.find("form button[type=submit]").await.click().await.expect("click");
    browser.see("Wrong token").await;
    browser.sign_in(&control, &office.token).await;

    // The list: address, counts, last runs.
    for part in
        ["berth-quote", "live · revision 1", &format!("{}/harbours/{{harbour}}/quotes", office.public()), "1 rejected"]
    {
        browser.see(part).await;
    }
    // The sheet beside its source; a step marks its lines.
    browser.client.find(Locator::LinkText("berth-quote")).await.expect("link").click().await.expect("click");
    for part in [
        "Input harbour, imo, arrives, nights = 1, currency = EUR",
        "tides.nextWindow",
        "workflow: berth-quote",
        "curl -sS -X POST",
    ] {
        browser.see(part).await;
    }
    browser.find("[role=listitem]:nth-of-type(2) button.paragraph").await.click().await.expect("click");
    let marked = browser.find(".source .marked").await.text().await.expect("text");
    assert!(marked.contains("- id: vessel"), "{marked}");

    // Runs, and one run as an annotated sheet.
    browser.goto(&format!("{control}/runs?state=rejected")).await;
    browser.see("No vessel carries the number 9999999.").await;
    browser.find("tbody tr td a").await.click().await.expect("click");
    for part in ["Run of berth-quote", "rejected", "Unknown vessel", "404 · ", "not reached", "kanzlei run "] {
        browser.see(part).await;
    }
    browser.find("button.paragraph").await.click().await.expect("click");
    browser.see("GET /vessels/9999999").await;
    // What it did becomes a case, on the clipboard.
    browser.press("", "Copy as a case").await;
    browser.see("Copied").await;

    // Sheets of every kind of step; runs with loops and with an invoked workflow below its caller.
    for (workflow, part) in [
        ("arrival-brief", "Together"),
        ("stay-bill", "transaction of 2"),
        ("gather-reports", "list.range(2, first.body.pages + 1)"),
        ("harbour-report", "GROUP BY vessel"),
        ("vessel-dues", "vessel.body.kind"),
    ] {
        browser.goto(&format!("{control}/workflows/{workflow}")).await;
        browser.see(part).await;
    }
    for (workflow, part, number, inside) in
        [("stay-bill", "registry.getVessel", "1.1", "GET /vessels/9074720"), ("gather-reports", "× 9", "4.2.1", "[8]")]
    {
        browser.goto(&format!("{control}/runs?workflow={workflow}")).await;
        browser.find("tbody tr td a").await.click().await.expect("click");
        browser.see(part).await;
        browser.find(&format!("button[data-number='{number}']")).await.click().await.expect("click");
        browser.see(inside).await;
    }

    // Empty, missing, and the other theme; the keyboard reaches the steps.
    browser.goto(&format!("{control}/runs?workflow=harbour-tides")).await;
    browser.see("No run fits.").await;
    browser.goto(&format!("{control}/workflows/nobody")).await;
    browser.see("no workflow `nobody` is live").await;
    let theme = "return document.documentElement.getAttribute('theme')";
    let before = browser.client.execute(theme, vec![]).await.expect("theme");
    browser.find("header button").await.click().await.expect("click");
    assert_ne!(browser.client.execute(theme, vec![]).await.expect("theme"), before);

    // Nothing was asked of another host, and scripts come from nowhere else.
    for request in browser.requests().await {
        assert!(request.starts_with(&control), "a request left for {request}");
    }
    let policy = http("GET", &control, &[], b"").header("content-security-policy").expect("policy").to_owned();
    assert!(policy.contains("script-src 'self';") && policy.contains("default-src 'none'"), "{policy}");
    browser.find("header .row button:last-child").await.click().await.expect("click");
    browser.see("Sign in").await;
    browser.close().await;
}

const QUAY: &str = "lane: quay\nabout: One after another.\nat_once: 2\n";
const UNLOAD: &str = "workflow: unload\ninput: {n: {type: integer}, wait: {type: string, default: 1ms}}\nentries:\n  - {endpoint: POST /unload, access: open, answer: later}\n  - {timetable: \"0 6 * * MON-FRI\", zone: Europe/Oslo, send: {n: 1}}\nqueue: {lane: quay, tag: \"crane-${input.n}\"}\nsteps:\n  - note: Crane ${input.n} begins.\n  - progress: 0.5\n  - pause: ${input.wait}\n  - if: input.n == 13\n    then: [{fail: 409, title: The crane is broken}]\n  - reply: 200\n    body: {n: \"${input.n}\"}\n";

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_operator_handles_jobs() {
    let office = tokio::task::spawn_blocking(|| {
        let office = office("handles", &[]);
        let deployed = deploy_texts(&office, &[("quay.yaml", QUAY), ("unload.yaml", UNLOAD)]);
        assert_eq!(deployed.status, 200, "{deployed:?}");
        office
    })
    .await
    .expect("office");
    let control = office.control();
    let page = |path: &str| format!("{control}{path}");
    let unload = |body: serde_json::Value| tokio::task::block_in_place(|| id_of(&post(&office, "/unload", &[], &body)));
    let state = |id: &str, state: &str| tokio::task::block_in_place(|| becomes(&office, id, state));
    let browser = Browser::start(&kanzlei_harness::scratch::folder("jobs")).await;
    browser.sign_in(&control, &office.token).await;

    browser.goto(&page("/jobs")).await;
    browser.see("No jobs yet.").await;
    // A lane is held, and what comes waits in it.
    browser.goto(&page("/lanes")).await;
    browser.see("Queue depth").await;
    let row = "//tr[td[1][contains(., 'quay')]]";
    browser.press(row, "Hold").await;
    browser.see("held").await;
    let jobs: Vec<String> = (1..=3).map(|n| unload(json!({"n": n}))).collect();
    browser.goto(&page("/jobs")).await;
    browser.see("queued 3").await;
    // Several are postponed at once, run now again, and one of them is cancelled.
    browser.find("thead .bx--checkbox-label").await.click().await.expect("click");
    browser.see("3 selected").await;
    browser.press("", "Postpone …").await;
    let due = browser.find(".bx--modal.is-visible input").await;
    due.clear().await.expect("clear");
    due.send_keys("2 fortnights").await.expect("typing");
    let modal = "//*[contains(@class, 'is-visible')]";
    browser.press(modal, "Postpone").await;
    browser.see("neither an instant").await;
    browser.press("", "Postpone …").await;
    let due = browser.find(".bx--modal.is-visible input").await;
    due.clear().await.expect("clear");
    due.send_keys("2h").await.expect("typing");
    browser.press(modal, "Postpone").await;
    browser.see("scheduled 3").await;
    browser.press("", "Run now").await;
    browser.see("queued 3").await;
    browser.goto(&page(&format!("/jobs/{}", jobs[2]))).await;
    for part in ["Job of unload", "(held)", "queued by POST /unload", "postponed by", "curl -s", "It has not begun."] {
        browser.see(part).await;
    }
    browser.press("", "Cancel").await;
    browser.press(modal, "Cancel the job").await;
    browser.see("cancelled by").await;
    // The lane continues: the others are done, and their answer is shown.
    browser.goto(&page("/lanes")).await;
    browser.press(row, "Release").await;
    state(&jobs[0], "succeeded");
    browser.goto(&page(&format!("/jobs/{}", jobs[0]))).await;
    for part in ["Crane 1 begins.", "Answer 200", "can be had until", "crane-1"] {
        browser.see(part).await;
    }
    // One that runs is watched while it changes; a pause cannot be cut short.
    let slow = unload(json!({"n": 7, "wait": "1h"}));
    state(&slow, "waiting");
    browser.goto(&page(&format!("/jobs/{slow}"))).await;
    browser.see("for pause until").await;
    browser.see("50 %").await;
    let off = "return [...document.querySelectorAll('button:disabled')].map((b) => b.innerText.trim())";
    let off = browser.client.execute(off, vec![]).await.expect("script");
    assert_eq!(off, json!(["Run now", "Postpone …", "Retry from failed step", "Retry from the start"]));
    browser.press("", "Cancel").await;
    browser.press(modal, "Cancel the job").await;
    browser.see("cancelled by").await;
    // One that failed is retried, and fails again.
    let broken = unload(json!({"n": 13}));
    state(&broken, "rejected");
    browser.goto(&page(&format!("/jobs/{broken}"))).await;
    browser.see("The crane is broken").await;
    browser.press("", "Retry from failed step").await;
    browser.see("would fail again; retry it from the start").await;
    browser.press("", "Retry from the start").await;
    browser.see("retried from the start by").await;
    // Found by tag and by what was given; a state nobody is in says so.
    browser.goto(&page("/jobs?tag=crane-13")).await;
    browser.see(&broken[broken.len() - 8..]).await;
    browser.goto(&page("/jobs?state=scheduled")).await;
    browser.see("No job fits.").await;
    // More than fit on a page are cancelled at once.
    tokio::task::block_in_place(|| {
        said(&client(&office, &["lane", "hold", "quay"]), 0);
        (0..53).for_each(|n| _ = unload(json!({"n": 100 + n})));
    });
    browser.goto(&page("/jobs?lane=quay&state=queued")).await;
    browser.find("thead .bx--checkbox-label").await.click().await.expect("click");
    browser.press("", "Choose all that fit").await;
    browser.press("", "Cancel").await;
    browser.press(modal, "Cancel them").await;
    browser.see("53 jobs cancelled").await;
    browser.see("No job fits.").await;
    tokio::task::block_in_place(|| _ = said(&client(&office, &["lane", "release", "quay"]), 0));
    // The timetable is paused, and fired by hand.
    browser.goto(&page("/timetables")).await;
    for part in ["0 6 * * MON-FRI", "06:00", "It was never due yet."] {
        browser.see(part).await;
    }
    browser.press("", "Pause").await;
    browser.see("None while it is paused.").await;
    browser.press("", "Fire now").await;
    browser.see("Queued as job").await;
    browser.see("by hand").await;
    browser.press("", "Resume").await;
    browser.see("here").await;
    browser.close().await;
}
