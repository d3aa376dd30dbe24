//! An office, and a browser that is signed in to its console.

use fantoccini::actions::{InputSource, KeyAction, KeyActions};
use kanzlei_harness::office::Office;
use kanzlei_harness::wait::Deadline;

use crate::browser::{Browser, PATIENCE};
use crate::calls::{becomes, id_of, post};
use crate::{client, office, said};

/// An office, and a browser that is signed in to its console.
pub struct Desk {
    pub office: Office,
    pub browser: Browser,
    pub control: String,
}

impl Desk {
    pub async fn new(name: &'static str, prepare: fn(&Office)) -> Desk {
        let made = tokio::task::spawn_blocking(move || {
            let office = office(name, &[]);
            prepare(&office);
            office
        });
        let office = made.await.expect("office");
        let control = office.control();
        let browser = Browser::start(&kanzlei_harness::scratch::folder(&format!("browser-{name}"))).await;
        browser.sign_in(&control, &office.token).await;
        Desk { office, browser, control }
    }

    /// A second browser at the same office.
    pub async fn beside(&self, name: &str) -> Browser {
        let browser = Browser::start(&kanzlei_harness::scratch::folder(&format!("browser-{name}"))).await;
        browser.sign_in(&self.control, &self.office.token).await;
        browser
    }

    pub async fn open(&self, path: &str) -> &Browser {
        self.browser.goto(&format!("{}{path}", self.control)).await;
        &self.browser
    }

    pub async fn sees(&self, parts: &[&str]) {
        for part in parts {
            self.browser.see(part).await;
        }
    }

    pub async fn click(&self, selector: &str) {
        self.browser.click(selector).await;
    }

    /// Waits until what was typed arrived in the draft of a workflow.
    pub async fn settled(&self, name: &str, part: &str) {
        let text = format!(
            "return fetch('/api/v1/drafts/workflow/{name}').then((r) => r.json()).then((d) => d.text?.includes({}))",
            serde_json::json!(part)
        );
        self.browser.until(&text).await;
    }

    /// Queues a job of `unload` and returns its id.
    pub fn unload(&self, body: serde_json::Value) -> String {
        tokio::task::block_in_place(|| id_of(&post(&self.office, "/unload", &[], &body)))
    }

    pub fn becomes(&self, id: &str, state: &str) {
        tokio::task::block_in_place(|| becomes(&self.office, id, state));
    }

    pub fn client(&self, args: &[&str]) -> String {
        tokio::task::block_in_place(|| said(&client(&self.office, args), 0))
    }
}

/// Keys that are no characters, as WebDriver names them.
pub mod keys {
    pub const ENTER: char = '\u{e007}';
    pub const ESCAPE: char = '\u{e00c}';
    pub const TAB: char = '\u{e004}';
    pub const DOWN: char = '\u{e015}';
    pub const UP: char = '\u{e013}';
    pub const LEFT: char = '\u{e012}';
    pub const RIGHT: char = '\u{e014}';
    pub const DELETE: char = '\u{e017}';
    pub const INSERT: char = '\u{e016}';
    pub const CONTROL: char = '\u{e009}';
    pub const SHIFT: char = '\u{e008}';
    pub const ALT: char = '\u{e00a}';
    pub const F8: char = '\u{e038}';
}

impl Browser {
    /// Presses keys one after the other where the cursor is.
    pub async fn keys(&self, text: &str) {
        let mut actions = KeyActions::new("keys".into());
        for value in text.chars() {
            actions = actions.then(KeyAction::Down { value }).then(KeyAction::Up { value });
        }
        self.client.perform_actions(actions).await.expect("keys");
    }

    /// Presses keys together: `[CONTROL, 'z']`.
    pub async fn chord(&self, keys: &[char]) {
        let mut actions = KeyActions::new("keys".into());
        for value in keys {
            actions = actions.then(KeyAction::Down { value: *value });
        }
        for value in keys.iter().rev() {
            actions = actions.then(KeyAction::Up { value: *value });
        }
        self.client.perform_actions(actions).await.expect("keys");
    }

    /// Waits for an element, brings it into view, and clicks it.
    pub async fn click(&self, selector: &str) {
        let end = Deadline::after(PATIENCE);
        loop {
            // Drawn anew meanwhile: what was found may be gone.
            let element = self.find(selector).await;
            let value = serde_json::to_value(&element).unwrap_or_default();
            let _ = self.client.execute("arguments[0].scrollIntoView({block: 'center'})", vec![value]).await;
            if !self.is_still(&element).await && !end.is_over() {
                continue;
            }
            match element.click().await {
                Ok(()) => return,
                Err(error) => assert!(!end.is_over(), "{selector}: {error}"),
            }
        }
    }

    /// Waits until a script returns something, and returns it.
    pub async fn until(&self, script: &str) -> serde_json::Value {
        let end = Deadline::after(PATIENCE);
        loop {
            let found = self.client.execute(script, vec![]).await;
            if let Ok(value) = &found
                && !matches!(value, serde_json::Value::Null | serde_json::Value::Bool(false))
            {
                return value.clone();
            }
            assert!(!end.is_over(), "{script} returns {found:?}; the page says: {}", self.text().await);
            tokio::time::sleep(std::time::Duration::from_millis(30)).await;
        }
    }

    /// Waits until the cursor is in an element.
    pub async fn at(&self, selector: &str) {
        self.until(&format!("return document.activeElement?.closest({}) !== null", serde_json::json!(selector))).await;
    }
}
