//! The console in Chromium, on the demo office.

use fantoccini::Locator;
use kanzlei_e2e::browser::Browser;
use kanzlei_e2e::*;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_operator_looks_into_the_office() {
    let office = tokio::task::spawn_blocking(|| {
        let office = office("console", &[]);
        said(&client(&office, &["deploy", "demo/harbour"]), 0);
        said(
            &client(&office, &["call", "berth-quote", "harbour=LIN", "imo=9074729", "arrives=2027-03-04T06:00:00Z"]),
            0,
        );
        said(
            &client(&office, &["call", "berth-quote", "harbour=LIN", "imo=9999999", "arrives=2027-03-04T06:00:00Z"]),
            1,
        );
        said(&client(&office, &["call", "stay-bill", "harbour=LIN", "imo=9074729", "made=2027-03-04"]), 0);
        said(&client(&office, &["call", "gather-reports"]), 0);
        office
    })
    .await
    .expect("office");
    let control = office.control();
    let browser = Browser::start(&std::env::temp_dir().join(format!("kanzlei-console-{}", std::process::id()))).await;

    browser.goto(&format!("{control}/runs")).await;
    browser.see("Sign in").await;
    browser.find("#token").await.send_keys("wrong").await.expect("typing");
    browser.find("form button[type=submit]").await.click().await.expect("click");
    browser.see("Wrong token").await;
    browser.sign_in(&control, &office.token).await;

    // The list: address, counts, last runs.
    for part in
        ["berth-quote", "live · revision 1", &format!("{}/harbours/{{harbour}}/quotes", office.public()), "1 failed"]
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
    browser.goto(&format!("{control}/runs?state=failed")).await;
    browser.see("No vessel carries the number 9999999.").await;
    browser.find("tbody tr td a").await.click().await.expect("click");
    for part in ["Run of berth-quote", "failed", "Unknown vessel", "404 · ", "not reached", "kanzlei run "] {
        browser.see(part).await;
    }
    browser.find("button.paragraph").await.click().await.expect("click");
    browser.see("GET /vessels/9999999").await;

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
        [("stay-bill", "registry.getVessel", "1.1", "GET /vessels/9074729"), ("gather-reports", "× 9", "4.2.1", "[8]")]
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
