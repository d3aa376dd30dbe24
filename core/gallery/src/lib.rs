//! Worked examples: workflows of the made-up harbour office that others begin from, each with its cases and all that it needs.
//!
//! The texts are those of `demo/harbour` and `demo/gallery`. What an example needs follows from its plan: services, libraries,
//! lanes, issuers, allowances, databases, templates and the workflows that it invokes or queues.
//!
//! ```
//! let found = kanzlei_gallery::search("page through a list");
//! assert_eq!(found[0].name, "collect-reports");
//! assert!(found[0].files().iter().any(|(path, _)| *path == "services/pilots.yaml"));
//! ```

use std::collections::{BTreeMap, BTreeSet};
use std::sync::OnceLock;

use kanzlei_compiler::check::{Bundle, Checked, check};
use kanzlei_compiler::plan::{Action, Plan};
use kanzlei_lang::document::kind_of;

mod list;

pub use list::EXAMPLES;

/// All texts, by their paths.
const TEXTS: &[(&str, &str)] = include!(concat!(env!("OUT_DIR"), "/texts.rs"));

/// Words that say nothing of a need.
const COMMON: &[&str] = &[
    "an", "and", "are", "as", "at", "be", "by", "do", "each", "for", "from", "has", "how", "in", "into", "is", "it",
    "its", "my", "need", "not", "of", "on", "or", "our", "so", "that", "the", "them", "then", "this", "to", "want",
    "we", "what", "when", "where", "which", "why", "with",
];

/// A worked example.
#[derive(Clone, Copy, Debug)]
pub struct Example {
    /// The name of its workflow.
    pub name: &'static str,
    /// What it shows, in a sentence.
    pub about: &'static str,
    /// Words of needs that it meets, beside those of `about`.
    pub needs: &'static str,
}

/// The example of a name.
pub fn example(name: &str) -> Option<&'static Example> {
    EXAMPLES.iter().find(|example| example.name == name)
}

/// Examples for a need, the best first; all for an empty one.
pub fn search(need: &str) -> Vec<&'static Example> {
    let all = need.split(|c: char| !c.is_alphanumeric()).map(str::to_lowercase);
    let words: Vec<String> = all.filter(|word| word.len() > 1 && !COMMON.contains(&word.as_str())).collect();
    if words.is_empty() {
        return EXAMPLES.iter().collect();
    }
    let mut found: Vec<(usize, &Example)> = EXAMPLES
        .iter()
        .filter_map(|example| {
            let has = |text: &str, word: &String| {
                let text = text.to_lowercase();
                let mut of = text.split(|c: char| !c.is_alphanumeric());
                of.any(|one| one.starts_with(word.as_str()) || stem(one) == stem(word))
            };
            let rest = format!("{} {} {}", example.about, example.needs, example.kinds().join(" "));
            // Its name says best what it is.
            let of = |word: &String| 2 * usize::from(has(example.name, word)) + usize::from(has(&rest, word));
            let count: usize = words.iter().map(of).sum();
            (count > 0).then_some((count, example))
        })
        .collect();
    found.sort_by_key(|(count, _)| std::cmp::Reverse(*count));
    // What meets less than half of the best is noise.
    let best = found.first().map_or(0, |(count, _)| *count);
    found.into_iter().filter(|(count, _)| count * 2 > best).map(|(_, example)| example).collect()
}

/// A word without the ending of a plural.
fn stem(word: &str) -> &str {
    word.strip_suffix("es").or_else(|| word.strip_suffix('s')).unwrap_or(word)
}

fn text(path: &str) -> Option<&'static str> {
    TEXTS.iter().find(|(known, _)| *known == path).map(|(_, text)| *text)
}

/// All documents, checked together once.
fn office() -> &'static Checked {
    static OFFICE: OnceLock<Checked> = OnceLock::new();
    OFFICE.get_or_init(|| check(&Bundle::of(TEXTS.iter().map(|(path, text)| ((*path).to_owned(), (*text).to_owned())))))
}

impl Example {
    /// The text of its workflow.
    pub fn workflow(&self) -> &'static str {
        text(&format!("workflows/{}.yaml", self.name)).unwrap_or_default()
    }

    /// The text of its cases.
    pub fn cases(&self) -> &'static str {
        text(&format!("cases/{}.yaml", self.name)).unwrap_or_default()
    }

    /// Its workflow and its cases under another name, with endpoints below a path of that name, so that both can be live.
    pub fn renamed(&self, to: &str) -> (String, String) {
        (renamed(self.workflow(), self.name, to), renamed(self.cases(), self.name, to))
    }

    fn plans(&self) -> Vec<&'static Plan> {
        let plans = &office().plans;
        let mut found: Vec<&Plan> = Vec::new();
        let mut open = vec![self.name.to_owned()];
        while let Some(name) = open.pop() {
            if let Some(plan) = plans.get(&name).filter(|_| found.iter().all(|known| known.name != name)) {
                open.extend(plan.invokes.iter().chain(&plan.enqueues).chain(&plan.wakes).cloned());
                // A library is checked as a whole, with all its groups of steps.
                let of = |name: &&String| {
                    name.split_once('.').is_some_and(|(of, _)| plan.libraries.iter().any(|one| one == of))
                };
                open.extend(plans.keys().filter(of).cloned());
                found.push(plan);
            }
        }
        found
    }

    /// The kinds of its entries and steps, each once: `endpoint`, `call`, `match`.
    pub fn kinds(&self) -> Vec<String> {
        let Some(plan) = office().plans.get(self.name) else { return Vec::new() };
        let mut kinds: BTreeSet<String> = plan.sheet.iter().map(|paragraph| paragraph.kind.clone()).collect();
        for line in self.workflow().lines() {
            let key = line.trim_start().trim_start_matches("- ").split(':').next().unwrap_or_default();
            if ["endpoint", "webhook", "change", "timetable", "every"].contains(&key) {
                kinds.insert(key.to_owned());
            }
        }
        kinds.into_iter().filter(|kind| !kind.is_empty()).collect()
    }

    /// Its documents and all that they need, by path: `workflows/…`, `cases/…`, `services/…`.
    pub fn files(&self) -> Vec<(&'static str, &'static str)> {
        let mut wanted: BTreeSet<String> = BTreeSet::new();
        let mut services: BTreeSet<&str> = BTreeSet::new();
        for plan in self.plans() {
            if !plan.is_group() {
                wanted.insert(format!("workflows/{}.yaml", plan.name));
                wanted.insert(format!("cases/{}.yaml", plan.name));
            }
            services.extend(plan.services.iter().map(String::as_str));
            wanted.extend(plan.libraries.iter().map(|name| format!("libraries/{name}.yaml")));
            let lanes = plan.queue.lane.iter().flat_map(|lane| &lane.lanes);
            wanted.extend(lanes.map(|name| format!("lanes/{name}.yaml")));
            for step in plan.blocks.iter().flatten() {
                if let Action::Enqueue(enqueue) = &step.action {
                    let lanes = enqueue.lane.iter().flat_map(|lane| &lane.lanes);
                    wanted.extend(lanes.map(|name| format!("lanes/{name}.yaml")));
                }
            }
            wanted.extend(plan.statements.iter().map(|(database, _)| format!("databases/{database}.database.yaml")));
            wanted.extend(plan.watches.iter().map(|watch| format!("databases/{}.database.yaml", watch.database)));
            if plan.settings.is_some() {
                wanted.insert("settings/office.yaml".to_owned());
            }
            let allowances = plan.endpoints.iter().filter_map(|endpoint| endpoint.allowance.as_ref());
            wanted.extend(allowances.map(|name| format!("allowances/{name}.yaml")));
            for issuer in plan.issuers().filter_map(|name| office().issuers.get(name)) {
                wanted.insert(format!("issuers/{}.yaml", issuer.name));
                wanted.extend(issuer.allowance.iter().map(|name| format!("allowances/{name}.yaml")));
                services.extend(issuer.keys.service().map(|service| service.text.as_str()));
            }
        }
        // The services that issue the tokens of others come along.
        let issuers: Vec<&str> =
            services.iter().filter_map(|name| Some(office().services.get(*name)?.issuer()?.text.as_str())).collect();
        services.extend(issuers);
        wanted.extend(services.iter().map(|name| format!("services/{name}.yaml")));
        let mut files: BTreeMap<&str, &str> =
            TEXTS.iter().filter(|(path, _)| wanted.contains(*path)).map(|(path, text)| (*path, *text)).collect();
        // What documents name beside themselves: descriptions of services, templates, seeds of cases, settings of a database.
        loop {
            let texts: Vec<&str> = files.values().copied().collect();
            let before = files.len();
            for (path, text) in TEXTS.iter().filter(|(_, text)| kind_of(text).is_none()) {
                let name = path.rsplit('/').next().unwrap_or_default();
                let names = |line: &str| line.contains(name) && !line.trim_start().starts_with('#');
                if texts.iter().any(|document| document.lines().any(names)) {
                    files.insert(path, text);
                }
            }
            if files.len() == before {
                break;
            }
        }
        files.into_iter().collect()
    }
}

/// A text of an example under another name.
fn renamed(text: &str, from: &str, to: &str) -> String {
    let methods = kanzlei_lang::document::values::METHODS;
    let mut out = String::new();
    for (index, line) in text.lines().enumerate() {
        let mut line = match index {
            0 => line.replace(from, to),
            _ => line.to_owned(),
        };
        if from != to {
            for key in ["endpoint: ", "request: "] {
                for method in methods {
                    line = line.replace(&format!("{key}{method} /"), &format!("{key}{method} /{to}/"));
                }
            }
        }
        out.push_str(&line);
        out.push('\n');
    }
    out
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use kanzlei_compiler::check::Bundle;
    use kanzlei_lang::document::keys::STEP_KINDS;

    use super::{EXAMPLES, search};

    #[test]
    fn every_example_checks_and_passes_its_cases_with_what_it_brings() {
        for example in EXAMPLES {
            let texts = example.files().into_iter().map(|(path, text)| (path.to_owned(), text.to_owned()));
            let bundle = Bundle::of(texts);
            let (checked, rehearsals) = kanzlei_rehearsal::check(&bundle);
            assert_eq!(checked.errors(), 0, "{}: {:?}", example.name, checked.diagnostics);
            let own: Vec<_> = rehearsals.iter().filter(|one| one.plan().name == example.name).collect();
            let cases: usize = own.iter().map(|prepared| prepared.len()).sum();
            assert!(cases > 0, "{} has cases", example.name);
            for prepared in own {
                for index in 0..prepared.len() {
                    assert!(prepared.run(index).passed(), "{} {}", example.name, prepared.name(index));
                }
            }
        }
    }

    #[test]
    fn examples_cover_every_kind_of_entry_and_step() {
        let kinds: BTreeSet<String> = EXAMPLES.iter().flat_map(|example| example.kinds()).collect();
        let entries = ["endpoint", "webhook", "change", "timetable", "every"];
        let wanted = STEP_KINDS.iter().map(|(name, _)| *name).chain(entries);
        let missing: Vec<&str> = wanted.filter(|kind| !kinds.contains(*kind)).collect();
        assert!(EXAMPLES.len() >= 15 && missing.is_empty(), "{} examples, without {missing:?}", EXAMPLES.len());
    }

    #[test]
    fn examples_are_found_by_need() {
        for (need, first) in [
            ("check an IBAN", "iban-check"),
            ("Check an IBAN and say why it is not valid", "iban-check"),
            ("fixed width file with running totals", "statement-totals"),
            ("next working day", "next-working-day"),
            ("page through a list and remove duplicates", "collect-reports"),
            ("receive a signed webhook", "customs-recall"),
            ("wait for a callback", "customs-clearance"),
            ("PDF report", "month-report"),
        ] {
            assert_eq!(search(need).first().map(|example| example.name), Some(first), "{need}");
        }
        assert_eq!((search("").len(), search("quantum").len()), (EXAMPLES.len(), 0));
    }
}
