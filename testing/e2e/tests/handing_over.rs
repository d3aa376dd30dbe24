//! What comes in and goes out of an office in Chromium: services described, documents imported, requests sent, the handbook searched.

use kanzlei_e2e::desk::{Desk, keys::*};
use kanzlei_e2e::*;
use serde_json::{Value as Json, json};

const WIND: &str = "workflow: wind\ninput: {place: {type: string, enum: [LIN, NES]}}\nentries: [{endpoint: 'GET /wind/{place}', access: open}]\nsteps:\n  - reply: 200\n    body: {place: \"${input.place}\"}\n";

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_service_is_added_from_answers_and_used() {
    let desk = Desk::new("described", |_| {}).await;
    let browser = &desk.browser;
    desk.open("/services").await.see("No service is live.").await;
    browser.press("", "Add a service").await;
    let fill = async |css: &str, text: &str| {
        let field = browser.find(css).await;
        field.clear().await.expect("clear");
        field.send_keys(text).await.expect("typing");
    };
    fill("#service-name", "weather").await;
    browser.press("", "Read it").await;
    browser.find("#service-how").await.select_by_value("samples").await.expect("select");
    fill("#service-base", "ftp://weather.example").await;
    fill("[aria-label='Call 1']", "GET /now/{place}").await;
    fill("[aria-label='Body 1, as JSON']", "{\"wind\": 3.5}").await;
    browser.press("", "Read it").await;
    browser.see("The description has errors").await;
    fill("#service-base", &desk.office.public()).await;
    browser.press("", "Read it").await;
    desk.sees(&["1 operation:", "weather.getNowPlace", "The address is private"]).await;
    browser.press("", "Deploy it").await;
    desk.sees(&["weather.getNowPlace", "GET /now/{place}", "no calls"]).await;
    let shown: Json = serde_json::from_str(&desk.client(&["service", "show", "weather", "--json"])).expect("JSON");
    assert_eq!(shown["operations"][0]["answers"][0]["status"], "200", "{shown}");
    desk.browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn documents_are_imported_called_and_exported() {
    let desk = Desk::new("imported", |_| {}).await;
    let browser = &desk.browser;
    let cases = "cases: wind\nexamples: [{name: Lindvik, request: GET /wind/LIN, expect: {reply: {status: 200}}}]\n";
    let broken = "workflow: broken\nsteps: [{replay: 1}]\n";
    let folder = Folder::new(
        "imported",
        &[("wind.yaml", WIND), ("cases.yaml", cases), ("broken.yaml", broken), ("notes.yaml", "a: b\n")],
    );
    let path = |name: &str| folder.0.join(name).display().to_string();
    desk.open("/import").await;
    let give = async |names: &[&str]| {
        let all: Vec<String> = names.iter().map(|name| path(name)).collect();
        browser.find("#import-files").await.send_keys(&all.join("\n")).await.expect("files");
    };
    give(&["notes.yaml"]).await;
    browser.see("None of these files is a document").await;
    desk.open("/import").await;
    give(&["broken.yaml"]).await;
    desk.sees(&["does not say what it does", "can be saved as drafts and mended"]).await;
    browser.press("", "Save as drafts").await;
    browser.see("They are saved as drafts.").await;
    // Dropped on the page, and chosen.
    let drop = format!(
        "const drop = new DataTransfer(); drop.items.add(new File([{}], 'wind.yaml')); document.querySelector('.drop').dispatchEvent(new DragEvent('drop', {{dataTransfer: drop, bubbles: true, cancelable: true}})); return true",
        json!(WIND)
    );
    desk.open("/import").await.find(".drop").await;
    browser.until(&drop).await;
    desk.sees(&["workflow wind", "wind.yaml"]).await;
    desk.open("/import").await;
    give(&["wind.yaml", "cases.yaml"]).await;
    desk.sees(&["workflow wind", "new", "saved as a draft"]).await;
    browser.press("", "Deploy all").await;
    browser.see("They are live.").await;
    browser.press("//table", "wind").await;
    // Its tab shows how it is called, and calls it.
    browser.click(".tabs a[href$='/call']").await;
    desk.sees(&["Lines for fetch", "Send a request, for real"]).await;
    let lines =
        "document.querySelectorAll('details').forEach((one) => (one.open = true)); return document.body.innerText";
    let lines = browser.until(lines).await;
    assert!(lines.as_str().is_some_and(|text| text.contains("client.GET('/wind/{place}'")), "{lines}");
    browser.press("//form", "Send").await;
    desk.sees(&["\"place\": \"LIN\"", "Header fields"]).await;
    browser.press("", "Its run").await;
    desk.sees(&["Run of wind", "GET /wind/{place}"]).await;
    desk.open("/workflows/wind/call").await;
    let target = browser.find("[aria-label='Path and query']").await;
    target.clear().await.expect("clear");
    target.send_keys(&format!("/wind/OSL{ENTER}")).await.expect("typing");
    browser.see("Refused before a run").await;
    browser.click(".tabs a[href$='/cases']").await;
    browser.see("1 of 1 pass").await;
    // An archive of it, as it is downloaded: read again, it has what was put in.
    let packed = "const done = arguments[0]; const made = URL.createObjectURL; URL.createObjectURL = (blob) => { blob.arrayBuffer().then((bytes) => done([bytes.byteLength, blob.type])); return made(blob); }; [...document.querySelectorAll('.export button')][0].click()";
    desk.open("/workflows/wind/history").await.find(".export button").await;
    let packed = browser.client.execute_async(packed, vec![]).await.expect("an archive");
    assert!(packed[0].as_u64() > Some(300) && packed[1] == json!("application/zip"), "{packed}");
    desk.browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_handbook_is_searched_and_linked_from_findings() {
    let desk = Desk::new("handbook", |office| {
        let folder = Folder::new("handbook", &[("wind.yaml", &WIND.replace("input.place", "input.plaice"))]);
        said(&client_in(Some(office), &folder.0, &["draft", "push", "wind.yaml"]), 0);
    })
    .await;
    let browser = desk.open("/workflows/wind").await;
    browser.click("[data-at='steps/0'] a[href='/handbook/findings#unknown-input']").await;
    let tabs = browser.client.windows().await.expect("windows");
    browser.client.switch_to_window(tabs[1].clone()).await.expect("the new one");
    browser.until("const title = document.getElementById('unknown-input'); return title && title.getBoundingClientRect().top < innerHeight").await;
    browser.find("#handbook-search").await.send_keys("unsafe retry").await.expect("typing");
    browser.see("Findings · unsafe-retry").await;
    browser.press("", "Findings · unsafe-retry").await;
    browser.until("return location.hash === '#unsafe-retry' && document.querySelector('article') !== null").await;
    // Its pictures are served.
    desk.open("/handbook/console").await;
    browser.until("const picture = document.querySelector('article img'); picture?.scrollIntoView(); return picture?.naturalWidth > 600").await;
    desk.browser.close().await;
}
