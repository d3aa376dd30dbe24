//! The console in Chromium, on the demo office and on jobs of its own.

use fantoccini::Locator;
use kanzlei_e2e::desk::Desk;
use kanzlei_e2e::*;
use kanzlei_harness::office::Office;
use serde_json::json;

fn demo(office: &Office) {
    said(&client(office, &["deploy", "demo/harbour"]), 0);
}

const MODAL: &str = "//*[contains(@class, 'is-visible')]";

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_operator_signs_in_and_out() {
    let desk = Desk::new("signs", |_| {}).await;
    let browser = &desk.browser;
    desk.click("header .row button:last-child").await;
    browser.see("Sign in").await;
    browser.find("#token").await.send_keys("wrong").await.expect("typing");
    desk.click("form button[type=submit]").await;
    browser.see("Wrong token").await;
    browser.sign_in(&desk.control, &desk.office.token).await;
    let theme = "return document.documentElement.getAttribute('theme')";
    let before = browser.client.execute(theme, vec![]).await.expect("theme");
    desk.click("header button").await;
    assert_ne!(browser.client.execute(theme, vec![]).await.expect("theme"), before);
    desk.open("/workflows/nobody").await.see("Neither is a workflow nobody live").await;
    // Nothing was asked of another host, and scripts come from nowhere else.
    for request in browser.requests().await {
        assert!(request.starts_with(&desk.control), "a request left for {request}");
    }
    let policy = http("GET", &desk.control, &[], b"").header("content-security-policy").expect("policy").to_owned();
    assert!(policy.contains("script-src 'self';") && policy.contains("default-src 'none'"), "{policy}");
    desk.browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_workflow_is_shown_with_its_address_its_sheet_and_its_source() {
    let desk = Desk::new("sheets", demo).await;
    let address = format!("{}/harbours/{{harbour}}/quotes", desk.office.public());
    desk.open("/").await;
    desk.sees(&["berth-quote", "live · revision 1", "POST /harbours/{harbour}/quotes"]).await;
    // The sheet beside its source; a step marks its lines.
    desk.browser.client.find(Locator::LinkText("berth-quote")).await.expect("link").click().await.expect("click");
    desk.sees(&[&address, "integer, 1 to 30, default 1", "tides.nextWindow"]).await;
    desk.browser.press("", "Source").await;
    desk.sees(&["workflow: berth-quote"]).await;
    desk.click("[data-at='steps/0'] .row-focus").await;
    desk.browser
        .until("return document.querySelector('.source .cm-activeLine')?.textContent.includes('- id: vessel')")
        .await;
    for (workflow, part) in [
        ("arrival-brief", "Together"),
        ("stay-bill", "INSERT INTO bill"),
        ("gather-reports", "list.range(2, first.body.pages + 1)"),
        ("harbour-report", "GROUP BY vessel"),
        ("vessel-dues", "vessel.body.kind"),
    ] {
        desk.open(&format!("/workflows/{workflow}")).await.see(part).await;
    }
    desk.browser.close().await;
}

/// A draft is compared with what is live, and a revision restored as one.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_workflow_is_compared_with_its_draft_and_its_past() {
    let desk = Desk::new("history", |office| {
        let text = |body: &str| {
            format!("workflow: hello\nentries: [{{endpoint: GET /hello, access: open}}]\nsteps:\n  - reply: 200\n    body: {body}\n")
        };
        for body in ["hei", "hallo"] {
            assert_eq!(deploy_texts(office, &[("h.yaml", &text(body))]).status, 200);
        }
        let folder = Folder::new("history", &[("hello.yaml", &text("god dag"))]);
        said(&client_in(Some(office), &folder.0, &["draft", "push", "hello.yaml"]), 0);
    })
    .await;
    desk.open("/workflows/hello").await;
    desk.sees(&["draft · saved"]).await;
    desk.click(".tabs a[href$='/figures']").await;
    desk.sees(&["No run of this revision has ended in this span."]).await;
    desk.click(".tabs a[href$='/history']").await;
    desk.sees(&["hello@draft", "hello@1", "first"]).await;
    desk.click("table tbody tr:first-child button:nth-of-type(2)").await;
    desk.sees(&["The draft can be called here until", "/~/drafts/"]).await;
    desk.browser.press("//*[contains(@class, 'preview')]", "Close").await;
    desk.click("table tbody tr:first-child button").await;
    desk.sees(&["From hello@2 to hello@draft", "god dag"]).await;
    desk.click("table tbody tr:first-child button:last-of-type").await;
    desk.sees(&["The draft is discarded."]).await;
    desk.click("table tbody tr:last-child button:last-of-type").await;
    desk.sees(&["Revision 1 is a draft now.", "hello@draft"]).await;
    desk.browser.close().await;
}

/// A draft is deployed for a share, compared with the live revision, given more and finished; the workflow is held and released.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_draft_serves_a_share_until_it_is_finished() {
    let desk = Desk::new("shares", |office| {
        let text = |body: &str| {
            format!("workflow: hello\nentries: [{{endpoint: GET /hello, access: open}}]\nsteps:\n  - reply: 200\n    body: {body}\n")
        };
        assert_eq!(deploy_texts(office, &[("h.yaml", &text("old"))]).status, 200);
        let folder = Folder::new("shares", &[("hello.yaml", &text("new"))]);
        said(&client_in(Some(office), &folder.0, &["draft", "push", "hello.yaml"]), 0);
    })
    .await;
    let browser = &desk.browser;
    let hello = |ring: &str| http("GET", &format!("{}/hello", desk.office.public()), &[("x-ring", ring)], b"").body;
    desk.open("/workflows/hello/gradual").await.see("Only revision 1 serves what comes.").await;
    desk.open("/workflows/hello/deploy").await.see("Who gets it").await;
    desk.click("fieldset label:last-of-type input").await;
    let share = browser.find("#share-percent").await;
    share.clear().await.expect("clear");
    share.send_keys("0").await.expect("typing");
    browser.find("#share-header").await.send_keys("X-Ring: new").await.expect("typing");
    browser.press("", "Deploy revision 2").await;
    browser.see("Revision 2 serves a share").await;
    assert!(hello("new").contains("new") && hello("other").contains("old"));
    browser.press("", "Compare the two").await;
    desk.sees(&["Revision 2 serves requests with X-Ring: new", "live · revision 1", "200 · succeeded"]).await;
    browser.press("", "Change the share …").await;
    let margin = browser.find(".bx--modal.is-visible #share-margin").await;
    margin.send_keys("5").await.expect("typing");
    browser.press(MODAL, "Change").await;
    browser.see("its share of failures or rejections is 5 points higher").await;
    browser.press("", "Finish …").await;
    browser.press(MODAL, "Finish").await;
    desk.sees(&["Revision 2 is live now", "live · revision 2"]).await;
    assert!(hello("other").contains("new"));
    browser.press("", "Hold …").await;
    browser.find("#hold-reason").await.send_keys("the tides are read anew").await.expect("typing");
    browser.press(MODAL, "Hold").await;
    browser.see("the tides are read anew").await;
    assert_eq!(http("GET", &format!("{}/hello", desk.office.public()), &[], b"").status, 503);
    browser.press("", "Release").await;
    browser.see("Hold …").await;
    assert!(hello("other").contains("new"));
    desk.browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_run_is_shown_as_an_annotated_sheet() {
    let desk = Desk::new("annotated", |office| {
        demo(office);
        for (vessel, code) in [("imo=9074720", 0), ("imo=9999999", 1)] {
            let call = ["call", "berth-quote", "harbour=LIN", vessel, "arrives=2027-03-04T06:00:00Z"];
            said(&client(office, &call), code);
        }
        said(&client(office, &["call", "stay-bill", "harbour=LIN", "imo=9074720", "made=2027-03-04"]), 0);
        said(&client(office, &["call", "gather-reports"]), 0);
    })
    .await;
    desk.browser.see("1 rejected").await;
    desk.open("/runs?state=rejected").await.see("No vessel carries the number 9999999.").await;
    desk.click("tbody tr td a").await;
    desk.sees(&["Run of berth-quote", "rejected", "Unknown vessel", "404 · ", "not reached", "kanzlei run "]).await;
    desk.click("button.paragraph").await;
    desk.browser.see("GET /vessels/9999999").await;
    // Loops by item, and an invoked workflow below its caller.
    for (workflow, part, number, inside) in
        [("stay-bill", "registry.getVessel", "1.1", "GET /vessels/9074720"), ("gather-reports", "× 9", "4.2.1", "[8]")]
    {
        desk.open(&format!("/runs?workflow={workflow}")).await;
        desk.click("tbody tr td a").await;
        desk.browser.see(part).await;
        desk.click(&format!("button[data-number='{number}']")).await;
        desk.browser.see(inside).await;
    }
    desk.open("/runs?workflow=harbour-tides").await.see("No run fits.").await;
    desk.open("/runs?text=9999999&status=4xx&since=2h").await.see("No vessel carries the number 9999999.").await;
    desk.open("/runs?text=9999999&status=5xx").await.see("No run fits.").await;
    desk.browser.close().await;
}

const QUAY: &str = "lane: quay\nabout: One after another.\nat_once: 2\n";
const UNLOAD: &str = "workflow: unload\ninput: {n: {type: integer}, wait: {type: string, default: 1ms}}\nentries:\n  - {endpoint: POST /unload, access: open, answer: later}\n  - {timetable: \"0 6 * * MON-FRI\", zone: Europe/Oslo, send: {n: 1}}\nqueue: {lane: quay, tag: \"crane-${input.n}\"}\nsteps:\n  - note: Crane ${input.n} begins.\n  - progress: 0.5\n  - pause: ${input.wait}\n  - if: input.n == 13\n    then: [{fail: 409, title: The crane is broken}]\n  - reply: 200\n    body: {n: \"${input.n}\"}\n";

fn unloading(office: &Office) {
    let deployed = deploy_texts(office, &[("quay.yaml", QUAY), ("unload.yaml", UNLOAD)]);
    assert_eq!(deployed.status, 200, "{deployed:?}");
}

async fn postpone(desk: &Desk, by: &str) {
    desk.browser.press("", "Postpone …").await;
    let due = desk.browser.find(".bx--modal.is-visible input").await;
    due.clear().await.expect("clear");
    due.send_keys(by).await.expect("typing");
    desk.browser.press(MODAL, "Postpone").await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn queued_jobs_are_postponed_started_and_cancelled() {
    let desk = Desk::new("handles", unloading).await;
    let browser = &desk.browser;
    desk.open("/jobs").await.see("No jobs yet.").await;
    // A lane is held, and what comes waits in it.
    desk.open("/lanes").await.see("Queue depth").await;
    let row = "//tr[td[1][contains(., 'quay')]]";
    browser.press(row, "Hold").await;
    browser.see("held").await;
    let jobs: Vec<String> = (1..=3).map(|n| desk.unload(json!({"n": n}))).collect();
    desk.open("/jobs").await.see("queued 3").await;
    desk.click("thead .bx--checkbox-label").await;
    browser.see("3 selected").await;
    postpone(&desk, "2 fortnights").await;
    browser.see("neither an instant").await;
    postpone(&desk, "2h").await;
    browser.see("scheduled 3").await;
    browser.press("", "Run now").await;
    browser.see("queued 3").await;
    desk.open(&format!("/jobs/{}", jobs[2])).await;
    desk.sees(&["Job of unload", "(held)", "queued by POST /unload", "postponed by", "curl -s", "It has not begun."])
        .await;
    browser.press("", "Cancel").await;
    browser.press(MODAL, "Cancel the job").await;
    browser.see("cancelled by").await;
    // The lane continues: the others are done, and their answer is shown.
    desk.open("/lanes").await.press(row, "Release").await;
    desk.becomes(&jobs[0], "succeeded");
    desk.open(&format!("/jobs/{}", jobs[0])).await;
    desk.sees(&["Crane 1 begins.", "Answer 200", "can be had until", "crane-1"]).await;
    desk.browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_waiting_job_is_followed_and_a_rejected_one_retried() {
    let desk = Desk::new("follows", unloading).await;
    let browser = &desk.browser;
    let slow = desk.unload(json!({"n": 7, "wait": "1h"}));
    desk.becomes(&slow, "waiting");
    desk.open(&format!("/jobs/{slow}")).await.see("for pause until").await;
    browser.see("50 %").await;
    postpone(&desk, "2h").await;
    browser.see("wait moved by").await;
    browser.press("", "Cancel").await;
    browser.press(MODAL, "Cancel the job").await;
    browser.see("cancelled by").await;
    // A pause is ended by hand.
    let paused = desk.unload(json!({"n": 8, "wait": "1h"}));
    desk.becomes(&paused, "waiting");
    desk.open(&format!("/jobs/{paused}")).await.see("for pause until").await;
    browser.press("", "Run now").await;
    desk.becomes(&paused, "succeeded");
    let broken = desk.unload(json!({"n": 13}));
    desk.becomes(&broken, "rejected");
    desk.open(&format!("/jobs/{broken}")).await.see("The crane is broken").await;
    browser.press("", "Retry …").await;
    browser.see("0 of 1 job would be retried.").await;
    browser.see("would fail again; retry it from the start").await;
    browser.click("input[type=radio][value=start] + label").await;
    browser.see("1 of 1 job would be retried.").await;
    browser.press(MODAL, "Retry").await;
    browser.see("retried from the start by").await;
    // Found by its tag; a state nobody is in says so.
    desk.open("/jobs?tag=crane-13").await.see(&broken[broken.len() - 8..]).await;
    desk.open("/jobs?state=scheduled").await.see("No job fits.").await;
    desk.browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn all_jobs_that_fit_are_cancelled_at_once() {
    let desk = Desk::new("many_at_once", unloading).await;
    desk.client(&["lane", "hold", "quay"]);
    (0..53).for_each(|n| _ = desk.unload(json!({"n": 100 + n})));
    // More than are on a page.
    let browser = desk.open("/jobs?lane=quay&state=queued").await;
    desk.click("thead .bx--checkbox-label").await;
    browser.press("", "Choose all that fit").await;
    browser.press("", "Cancel").await;
    browser.press(MODAL, "Cancel them").await;
    browser.see("53 jobs cancelled").await;
    browser.see("No job fits.").await;
    desk.browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_timetable_is_paused_and_fired_by_hand() {
    let desk = Desk::new("by_hand", unloading).await;
    let browser = desk.open("/timetables").await;
    desk.sees(&["0 6 * * MON-FRI", "06:00", "It was never due yet."]).await;
    browser.press("", "Pause").await;
    browser.see("None while it is paused.").await;
    browser.press("", "Fire now").await;
    browser.see("Queued as job").await;
    browser.see("by hand").await;
    browser.press("", "Resume").await;
    browser.see(":00 UTC").await;
    desk.browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn settings_are_changed_where_they_are_listed() {
    let desk = Desk::new("settings_page", |office| {
        let fees = "settings: fees\nvalues:\n  per_metre: {type: number, minimum: 0, default: 3, description: Dues for a metre}\n";
        let quote = "workflow: quote\nsteps: [{reply: 200, body: '${settings.per_metre}'}]\n";
        assert_eq!(deploy_texts(office, &[("fees.yaml", fees), ("quote.yaml", quote)]).status, 200);
    })
    .await;
    desk.open("/settings").await;
    desk.sees(&["per_metre", "Dues for a metre", "default", "quote"]).await;
    let change = async |value: &str| {
        let field = desk.browser.find("table tbody input").await;
        field.clear().await.expect("clears");
        field.send_keys(value).await.expect("typing");
        desk.browser.press("//table", "Set").await;
    };
    desk.browser.press("//table", "Change").await;
    change("-4").await;
    desk.sees(&["less than the minimum of 0"]).await;
    change("4.5").await;
    desk.sees(&["Use the default"]).await;
    desk.browser.press("//table", "Use the default").await;
    desk.sees(&["3 default"]).await;
    desk.browser.close().await;
}

/// The rules of WCAG 2.2 AA and of good practice, as axe-core checks them.
/// A page of another origin reads what its endpoint allows, and nothing else (Fetch standard, as the browser has it).
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn pages_of_other_origins_call_what_allows_them() {
    let desk = Desk::new("origins", demo).await;
    let elsewhere = format!("http://127.0.0.1:{}/~/behaviour", desk.office.ports.standins);
    desk.browser.goto(&elsewhere).await;
    let ask = "const [url, init, done] = arguments; fetch(url, init).then(async (answer) => done([answer.status, answer.headers.get('sunset'), await answer.text()]), (error) => done(String(error)))";
    let tides = format!("{}/tides?draught=6.2&after=2027-03-04T06:00:00Z", desk.office.public());
    for (url, init, readable) in [
        (tides.clone(), json!({}), true),
        (tides.clone(), json!({"headers": {"Authorization": "Bearer x"}}), true),
        (tides.clone(), json!({"headers": {"X-Other": "x"}}), false),
        (format!("{}/harbours/LIN/quotes", desk.office.public()), json!({"method": "POST", "body": "{}"}), false),
    ] {
        let found = desk.browser.client.execute_async(ask, vec![json!(url), init.clone()]).await.expect("an answer");
        assert_eq!(found.is_array(), readable, "{url} {init}: {found}");
        if readable {
            assert_eq!((&found[0], &found[1]), (&json!(200), &json!("Fri, 31 Dec 2027 00:00:00 GMT")), "{found}");
        }
    }
    desk.browser.close().await;
}

const RULES: &str = "const done = arguments[0]; axe.run(document, {runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice']}).then((found) => done(found.violations.map((one) => `${one.id}: ${one.nodes[0].html.slice(0, 160)}`)))";

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn no_page_has_a_barrier_in_light_or_dark() {
    let desk = Desk::new("barriers", demo).await;
    desk.client(&["send-webhook", "customs-recall"]);
    let axe = std::fs::read_to_string(root().join("console/node_modules/axe-core/axe.min.js")).expect("axe-core");
    let mut wrong = Vec::new();
    for theme in ["light", "dark"] {
        let choose = format!("localStorage.setItem('kanzlei-theme', '{theme}')");
        desk.browser.client.execute(&choose, vec![]).await.expect("theme");
        // The page, and what is clicked on it.
        for (path, clicks) in [
            ("/workflows", &[][..]),
            ("/new", &[]),
            ("/workflows/berth-quote", &["[data-at='steps/2'] .row-focus", "[data-at='steps/1'] button.number"]),
            (
                "/workflows/berth-quote",
                &[".bar .bx--btn--tertiary", "[data-at='input'] .row-focus", ".actions [aria-pressed]"],
            ),
            ("/workflows/berth-quote", &["[aria-label='Add step 7']"]),
            ("/workflows/berth-quote", &["[aria-label='Edit the input']"]),
            ("/workflows/berth-quote/cases", &[]),
            ("/workflows/berth-quote/call", &["details summary", "form button[type=submit]"]),
            ("/workflows/berth-quote/runs", &[]),
            ("/workflows/berth-quote/figures", &[]),
            ("/workflows/berth-quote/history", &[]),
            ("/workflows/berth-quote/gradual", &[]),
            ("/workflows/berth-quote/deploy", &[]),
            ("/runs", &[]),
            ("/jobs", &[]),
            ("/overview", &[]),
            ("/lanes", &[]),
            ("/alerts", &["table .acts .bx--btn"]),
            ("/timetables", &[]),
            ("/coming", &[]),
            ("/watches", &[]),
            ("/audit", &[]),
            ("/services/tides", &[".head .bx--btn"]),
            ("/import", &[]),
            ("/keys", &[".head .bx--btn"]),
            ("/deliveries?workflow=customs-recall", &[".acts .bx--btn"]),
            ("/deliveries", &["table a[href^='/deliveries/']"]),
            ("/handbook", &[]),
            ("/handbook/findings", &[]),
            ("/settings", &[]),
        ] {
            desk.open(path).await.find("main h1").await;
            for click in clicks {
                desk.click(click).await;
            }
            // Colours of a transition are not those of the page.
            desk.browser.until("return document.getAnimations().every((one) => one.playState !== 'running')").await;
            desk.browser.client.execute(&axe, vec![]).await.expect("axe-core");
            let found = desk.browser.client.execute_async(RULES, vec![]).await.expect("rules");
            wrong.extend(found.as_array().into_iter().flatten().map(|one| format!("{theme} {path} {clicks:?}: {one}")));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    // Nothing is refused by the page's own policy, which allows no inline styles.
    let policy = http("GET", &desk.control, &[], b"").header("content-security-policy").expect("policy").to_owned();
    assert!(!policy.contains("unsafe-inline"), "{policy}");
    desk.browser.close().await;
}
