//! A template in Chromium: its preview with the styles of the page, changed beside it, saved with the draft, deployed with it.

use kanzlei_e2e::desk::{Desk, keys::*};
use kanzlei_e2e::*;
use kanzlei_harness::office::Office;

const CARD: &str = "workflow: card-page
input: {name: {type: string, examples: [Kvikk]}}
entries: [{endpoint: 'GET /cards/{name}', access: open}]
steps:
  - id: page
    render: html
    template: reports/card.html
    with: {name: '${input.name}'}
  - reply: 200
    headers: {Content-Type: text/html}
    body: ${page}
";

fn prepare(office: &Office) {
    let folder = scratch().join("cards");
    std::fs::create_dir_all(folder.join("reports")).expect("a folder");
    std::fs::write(folder.join("card.yaml"), CARD).expect("a document");
    let page = "<style>h1 { color: rgb(0, 0, 128) }</style><h1>{{ name }}</h1><p style=\"margin: 0\">{% include \"foot.html\" %}";
    std::fs::write(folder.join("reports/card.html"), page).expect("a template");
    std::fs::write(folder.join("reports/foot.html"), "Harbour Office").expect("a template");
    said(&client(office, &["deploy", folder.join("card.yaml").to_str().expect("UTF-8")]), 0);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_template_is_previewed_changed_and_deployed() {
    let desk = Desk::new("templates", prepare).await;
    let browser = desk.open("/workflows/card-page").await;
    browser.click("[data-at='steps/0'] .row-focus").await;
    let shown = |selector: &str, what: &str| {
        let frame = "document.querySelector('[data-template] iframe')?.contentDocument";
        format!("return (({frame})?.querySelector('{selector}')) && ({what})(({frame}).querySelector('{selector}'))")
    };
    browser.until(&shown("h1", "(one) => one.textContent === 'Kvikk'")).await;
    browser.until(&shown("h1", "(one) => getComputedStyle(one).color === 'rgb(0, 0, 128)'")).await;
    browser.until(&shown("p", "(one) => one.style.margin === '0px' && one.textContent === 'Harbour Office'")).await;
    browser.click("[data-template] [role=tab]:last-child").await;
    browser.click("[data-template] textarea").await;
    browser.chord(&[CONTROL, 'a']).await;
    browser.keys("Office of Lindvik, {{ name }}").await;
    browser.until(&shown("p", "(one) => one.textContent === 'Office of Lindvik, Kvikk'")).await;
    let kept = "return fetch('/api/v1/drafts/workflow/card-page').then((r) => r.json()).then((d) => \
        d.file?.includes('Office of Lindvik') && d.file.includes('color: rgb(0, 0, 128)'))";
    browser.until(kept).await;
    desk.client(&["deploy", "--draft", "card-page"]);
    let url = format!("{}/cards/Morild", desk.office.public());
    let answer = tokio::task::block_in_place(|| http("GET", &url, &[], b""));
    assert!(answer.body.contains("<h1>Morild</h1>") && answer.body.contains("Office of Lindvik, Morild"), "{answer:?}");
    desk.browser.close().await;
}
