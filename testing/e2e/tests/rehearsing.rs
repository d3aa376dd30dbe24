//! Trying, cases and past runs in Chromium: cases fail at their place and are made from what happened, runs are compared, stepped
//! through and answered again.

use kanzlei_e2e::desk::{Desk, keys::*};
use kanzlei_e2e::*;
use serde_json::json;

const DUES: &str = "workflow: dues\ninput:\n  nights: {type: integer, minimum: 1}\n  currency: {type: string, enum: [EUR, NOK], default: EUR}\nentries: [{endpoint: POST /dues, access: open}]\nsteps:\n  - id: rate\n    when: input.currency !== 'EUR'\n    call: rates.latest\n    send: {to: \"${input.currency}\"}\n  - let: {amount: \"${input.nights * 100 * (rate?.body.rate ?? 1)}\"}\n  - if: input.nights > 30\n    then: [{fail: 409, title: Too long}]\n  - reply: 200\n    body: {amount: \"${amount}\"}\n";
const CASES: &str = "cases: dues\nexamples:\n  - name: two nights\n    input: {nights: 2}\n    expect: {reply: {status: 200, body: {amount: 200}}}\n";

async fn office(name: &'static str) -> Desk {
    let desk = Desk::new(name, |office| {
        said(&client(office, &["deploy", "demo/harbour"]), 0);
        assert_eq!(deploy_texts(office, &[("dues.yaml", DUES)]).status, 200);
        let folder = Folder::new("rehearsing", &[("cases.yaml", CASES)]);
        said(&client_in(Some(office), &folder.0, &["draft", "push", "cases.yaml"]), 0);
        for (nights, currency) in [(2, "EUR"), (3, "NOK"), (40, "EUR")] {
            let body = json!({"nights": nights, "currency": currency});
            calls::post(office, "/dues", &[], &body);
        }
    });
    desk.await
}

/// Chooses what a trial has as its input.
async fn choose(desk: &Desk, label: &str) {
    let chosen = format!(
        "const s = document.querySelector('#try-input'); const found = [...s.options].find((o) => o.text.includes('{label}')); if (!found) return false; found.selected = true; s.dispatchEvent(new Event('change', {{bubbles: true}})); return true"
    );
    desk.browser.until(&chosen).await;
}

/// Writes another value into a field of a step of the draft, and waits until it is saved.
async fn write(desk: &Desk, at: &str, field: &str, text: &str) {
    desk.click(&format!("[data-at='{at}'] .row-focus")).await;
    desk.click(&format!("[data-field='{field}'] .cm-content")).await;
    desk.browser.chord(&[CONTROL, 'a']).await;
    desk.browser.keys(text).await;
    desk.settled("dues", &format!("amount: \"${{{text}}}\"")).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn cases_run_beside_the_sheet_and_come_from_trials_and_runs() {
    let desk = office("rehearsed").await;
    let browser = &desk.browser;
    desk.open("/workflows/dues/cases").await;
    // What passes, what it reaches, and what no case gets to.
    desk.sees(&["1 of 1 pass", "3 of 5 steps", "No case takes: then", "No case gets here"]).await;
    // The draft changes: the case fails, and the difference stands at the reply.
    desk.open("/workflows/dues").await;
    write(&desk, "steps/1", "steps/1/let/amount", "input.nights * 120").await;
    browser.click(".tabs a[href$='/cases']").await;
    desk.sees(&["0 of 1 pass"]).await;
    browser.click(".cases li:first-child .case").await;
    browser
        .until(
            "return document.querySelector('[data-at=\"steps/3\"] .mark')?.innerText.includes('wanted 200, got 240')",
        )
        .await;
    browser.see("amount = 240").await;
    // A trial with the input of a run, one of its values changed, becomes a case; so does a run.
    browser.click(".tabs a:first-child").await;
    choose(&desk, "rejected").await;
    browser.press("", "edit").await;
    browser.until("return document.querySelector('#try-nights')?.value === '40'").await;
    let field = browser.find("#try-nights").await;
    field.clear().await.expect("clear");
    field.send_keys("4").await.expect("typing");
    browser.chord(&[CONTROL, ENTER]).await;
    desk.sees(&["succeeded · 200", "{ amount: 480 }"]).await;
    browser.press("", "Make it a case").await;
    browser.at("[aria-label='Name of the case']").await;
    browser.keys(&format!("four nights{ENTER}")).await;
    browser.see("It is the case four nights now.").await;
    desk.open("/runs?workflow=dues&state=rejected").await.click("tbody tr td a.quiet").await;
    browser.press("", "Make it a case").await;
    browser.at("[aria-label='Name of the case']").await;
    browser.keys(&format!("too long{ENTER}")).await;
    browser.see("It is the case too long now.").await;
    desk.open("/workflows/dues/cases").await;
    desk.sees(&["2 of 3 pass", "4 of 5 steps", "four nights", "too long"]).await;
    // A case is the input of a trial, which answers its own way.
    desk.open("/workflows/dues").await;
    choose(&desk, "too long").await;
    browser.chord(&[CONTROL, ENTER]).await;
    desk.sees(&["rejected · 409"]).await;
    // The deploy says which cases fail.
    desk.open("/workflows/dues/deploy").await;
    desk.sees(&["1 of 3 fail", "two nights", "although 1 case fails"]).await;
    // An input without a name keeps its own; with another one the cases follow.
    desk.open("/workflows/dues").await.click("[data-at='input'] .row-focus").await;
    for (name, becomes) in [("", "nights"), ("stay", "stay")] {
        browser.click("[data-input='nights'] [aria-label='Name']").await;
        browser.chord(&[CONTROL, 'a']).await;
        browser.keys(&format!("{DELETE}{name}{TAB}")).await;
        browser.find(&format!("[data-input='{becomes}']")).await;
    }
    browser.see("Also renamed in the drafts of cases dues.").await;
    browser.click(".tabs a[href$='/cases']").await;
    desk.sees(&["2 of 3 pass", "stay: 2"]).await;
    desk.browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn past_runs_are_compared_stepped_through_and_answered_again() {
    let desk = office("looked_back").await;
    let browser = &desk.browser;
    desk.open("/workflows/dues/runs").await;
    for row in [1, 2] {
        desk.click(&format!("tbody tr:nth-child({row}) input[type=checkbox]")).await;
    }
    browser.press("", "Compare these two runs").await;
    desk.sees(&["Compared with", "input.nights 3 → 40", "reply.status 200 → 409", "skipped", "Too long"]).await;
    // What a step knew, by item of the address; an expression evaluated there.
    desk.open("/runs?workflow=dues&text=NOK").await.click("tbody tr td a.quiet").await;
    desk.click("[data-number='2']").await;
    desk.sees(&["Step 2 knew"]).await;
    browser.until("return location.search === '?step=2'").await;
    browser.find("#known-expression").await.send_keys(&format!("rate.body.rate > 1{ENTER}")).await.expect("typing");
    browser.until("return document.querySelector('.value pre')?.innerText === 'true'").await;
    browser.click("[aria-label='The next step']").await;
    desk.sees(&["Step 3 knew", "amount"]).await;
    // Back to the first, and on from the second with a draft that computes otherwise.
    browser.click("[aria-label='The step before']").await;
    desk.sees(&["Step 2 knew"]).await;
    browser.press("", "Continue from here with the draft").await;
    desk.sees(&["Continue from 2", "succeeded · 200", "rates.latest stubbed"]).await;
    write(&desk, "steps/1", "steps/1/let/amount", "input.nights").await;
    // All runs answered again: two replies differ, one run is rejected as before.
    browser.click(".tabs a[href$='/history']").await;
    browser.press("", "Answer them").await;
    desk.sees(&["1 of 3 are answered as before, 2 differ", "reply.body.amount"]).await;
    browser.press("//tbody/tr[1]", "Open on the sheet").await;
    desk.sees(&["all as the run was answered", "succeeded · 200"]).await;
    // The comparison stands on a sheet, the old text struck out.
    browser.click(".tabs a[href$='/history']").await;
    browser.press("", "Compare with live").await;
    browser.until("return document.querySelector('li.changed del')?.innerText.includes('rate?.body.rate')").await;
    // Another name, with all that names it.
    browser.find("#rename-to").await.send_keys("stay-dues").await.expect("typing");
    browser.press("", "Look what changes").await;
    browser.press("", "Rename dues to stay-dues").await;
    browser.until("return location.pathname === '/workflows/stay-dues/history'").await;
    desk.browser.close().await;
}
