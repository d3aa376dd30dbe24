//! Attacks on a running instance, as tables of cases by area. An attack is *held* when the service answers as it should
//! and nothing of what must not happen has happened.
//!
//! Requests are written byte for byte by [`raw`]; a helpful library would correct them. Everything goes to loopback.
//!
//! ```text
//! let target = Target::prepare(&office);
//! let mut report = Report::default();
//! public::run(&target, &mut report);
//! println!("{report}");
//! ```

pub mod bodies;
pub mod control;
pub mod documents;
pub mod files;
pub mod jobs;
pub mod load;
pub mod public;
pub mod raw;

use std::collections::BTreeMap;
use std::fmt;

use kanzlei_harness::office::Office;

use crate::{deploy_texts, http};

/// The instance under attack.
pub struct Target {
    /// Port of the public listener.
    pub public: u16,
    /// Port of the control listener.
    pub control: u16,
    /// A valid operator token.
    pub token: String,
    /// The process of the service.
    pub process: u32,
    /// The log of the service, in the folder of the office.
    pub log: std::path::PathBuf,
}

/// Endpoints for the attacks; none of them calls anything.
const WORKFLOWS: &[(&str, &str)] = &[
    (
        "echo.yaml",
        "workflow: attack-echo\ninput: {text: {type: string, optional: true}, any: {optional: true}}\nentries: [{endpoint: POST /attack/echo, access: open}]\nsteps:\n  - {reply: 200, body: \"${input.any ?? input.text ?? null}\"}\n",
    ),
    (
        "get.yaml",
        "workflow: attack-get\ninput: {n: {type: integer, default: 1}}\nentries: [{endpoint: GET /attack/get, access: open}]\nsteps:\n  - {reply: 200, body: {n: \"${input.n}\"}}\n",
    ),
    (
        "smuggled.yaml",
        "workflow: attack-smuggled\nentries: [{endpoint: GET /attack/smuggled, access: open}]\nsteps:\n  - {reply: 200, body: SMUGGLED}\n",
    ),
    (
        "header.yaml",
        "workflow: attack-header\ninput: {text: {type: string}}\nentries: [{endpoint: POST /attack/header, access: open}]\nsteps:\n  - {reply: 200, headers: {X-Echo: \"${input.text}\"}, body: ok}\n",
    ),
    (
        "cookie.yaml",
        "workflow: attack-cookie\ninput: {c: {type: string, optional: true, secret: true}}\nentries: [{endpoint: GET /attack/cookie, access: open, from: {c: header.Cookie}}]\nsteps:\n  - {reply: 200, headers: {Set-Cookie: kanzlei_session=forged}, body: \"${(input.c ?? '').includes('kanzlei') ? 'SEEN' : 'clean'}\"}\n",
    ),
    (
        "match.yaml",
        "workflow: attack-match\ninput: {text: {type: string}}\nentries: [{endpoint: POST /attack/match, access: open, limits: {time: 1s}}]\nsteps:\n  - {reply: 200, body: {n: \"${(input.text.match(/<[^>]*>|</g) ?? []).length}\"}}\n",
    ),
    (
        "path.yaml",
        "workflow: attack-path\ninput: {p: {type: string}}\nentries: [{endpoint: 'GET /attack/path/{p}', access: open}]\nsteps:\n  - {reply: 200, body: {p: \"${input.p}\"}}\n",
    ),
    (
        "job.yaml",
        "workflow: attack-job\ninput: {n: {type: integer, default: 1}, who: {type: string, optional: true}}\nentries: [{endpoint: POST /attack/job, access: open, answer: later, from: {who: header.X-Who}}]\nsteps:\n  - pause: 1h\n  - {reply: 200, body: {n: \"${input.n}\"}}\n",
    ),
    (
        "quick.yaml",
        "workflow: attack-quick\ninput: {who: {type: string, optional: true}}\nentries: [{endpoint: POST /attack/quick, access: open, from: {who: header.X-Who}}]\nsteps:\n  - {reply: 200, body: {who: \"${input.who ?? null}\"}}\n",
    ),
];

impl Target {
    /// Deploys the endpoints that are attacked.
    pub fn prepare(office: &Office) -> Self {
        let files = files::documents();
        let files = files.iter().map(|(path, text)| (path.as_str(), text.as_str()));
        let all: Vec<_> = WORKFLOWS.iter().copied().chain(files).collect();
        let deployed = deploy_texts(office, &all);
        assert_eq!(deployed.status, 200, "{}", deployed.body);
        Target {
            public: office.ports.public,
            control: office.ports.control,
            token: office.token.clone(),
            process: office.service.id(),
            log: office.service.log.clone(),
        }
    }

    /// Whether an ordinary request is answered as always.
    pub fn serves(&self) -> bool {
        let answer = crate::try_http("GET", &format!("http://127.0.0.1:{}/attack/get?n=7", self.public), &[], b"");
        answer.is_some_and(|answer| answer.status == 200 && answer.body == "{\"n\":7}")
    }

    /// A request to the control API with the token.
    pub fn api(&self, method: &str, path: &str, body: &serde_json::Value) -> crate::Answer {
        let bearer = format!("Bearer {}", self.token);
        let headers = [("authorization", bearer.as_str()), ("content-type", "application/json")];
        let text = if body.is_null() { String::new() } else { body.to_string() };
        http(method, &format!("http://127.0.0.1:{}/api/v1{path}", self.control), &headers, text.as_bytes())
    }
}

/// What came of the attacks, by area.
#[derive(Default)]
pub struct Report {
    held: BTreeMap<&'static str, usize>,
    /// Area, attack and what happened.
    pub fell: Vec<(&'static str, String, String)>,
}

impl Report {
    /// Records an attack: `Ok` when it was held, otherwise what happened.
    pub fn record(&mut self, area: &'static str, attack: impl Into<String>, outcome: Result<(), String>) {
        *self.held.entry(area).or_default() += usize::from(outcome.is_ok());
        if let Err(what) = outcome {
            let what: String = what.chars().take(400).collect();
            self.fell.push((area, attack.into(), what));
        }
    }

    /// Records whether something holds.
    pub fn holds(&mut self, area: &'static str, attack: impl Into<String>, held: bool, seen: impl fmt::Debug) {
        self.record(area, attack, if held { Ok(()) } else { Err(format!("{seen:?}")) });
    }

    /// Attacks in all.
    pub fn count(&self) -> usize {
        self.held.values().sum::<usize>() + self.fell.len()
    }
}

impl fmt::Display for Report {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        writeln!(f, "{:<22} {:>6} {:>6}", "area", "held", "fell")?;
        for (area, held) in &self.held {
            let fell = self.fell.iter().filter(|(of, ..)| of == area).count();
            writeln!(f, "{area:<22} {held:>6} {fell:>6}")?;
        }
        writeln!(f, "{:<22} {:>6} {:>6}", "all", self.held.values().sum::<usize>(), self.fell.len())?;
        for (area, attack, what) in &self.fell {
            writeln!(f, "\nfell: {area}: {attack}\n  {what}")?;
        }
        Ok(())
    }
}
