//! Confidential values of runs: sealed beside the masked ones, for what makes a run again; nothing shows them.

use std::collections::BTreeSet;

use kanzlei_lang::confidential::MASK;
use kanzlei_store::journal::Run;
use serde_json::Value as Json;

use crate::secrets::Secrets;

/// The values of `plain` that differ from those of the masked run, sealed; nothing where none differs or there is no key.
pub(super) fn seal(masked: &mut Run, mut plain: Run, secrets: &Secrets) -> Option<String> {
    let differing: Vec<Option<&String>> = masked
        .values()
        .zip(plain.values())
        .map(|(shown, plain)| Some(&*plain).filter(|plain| *plain != shown))
        .collect();
    if differing.iter().all(Option::is_none) {
        return None;
    }
    secrets.guard(serde_json::to_string(&differing).ok()?, true)
}

/// A run with its confidential values, and their texts, which are to be masked in whatever is shown of it. What cannot be opened stays masked.
pub fn opened(mut run: Run, secrets: &Secrets) -> (Run, BTreeSet<String>) {
    let mut confidential = BTreeSet::new();
    let plain = run.sealed.take().and_then(|sealed| secrets.unguard(&sealed));
    let plain: Vec<Option<String>> = plain.and_then(|text| serde_json::from_str(&text).ok()).unwrap_or_default();
    for (shown, plain) in run.values().zip(plain) {
        let Some(plain) = plain else { continue };
        if let (Ok(masked), Ok(plain)) = (serde_json::from_str(shown), serde_json::from_str(&plain)) {
            collect(&masked, &plain, &mut confidential);
        }
        *shown = plain;
    }
    (run, confidential)
}

/// What stands in the place of masks.
fn collect(masked: &Json, plain: &Json, into: &mut BTreeSet<String>) {
    match (masked, plain) {
        (Json::Array(masked), Json::Array(plain)) => {
            masked.iter().zip(plain).for_each(|(masked, plain)| collect(masked, plain, into));
        }
        (Json::Object(masked), Json::Object(plain)) => {
            let pairs = masked.iter().filter_map(|(name, masked)| Some((masked, plain.get(name)?)));
            pairs.for_each(|(masked, plain)| collect(masked, plain, into));
        }
        (Json::String(text), plain) if text.contains(MASK) => leaves(plain, into),
        _ => {}
    }
}

fn leaves(value: &Json, into: &mut BTreeSet<String>) {
    match value {
        Json::Array(items) => items.iter().for_each(|item| leaves(item, into)),
        Json::Object(members) => members.values().for_each(|value| leaves(value, into)),
        Json::String(text) => _ = into.insert(text.clone()),
        Json::Number(number) => _ = into.insert(number.to_string()),
        Json::Null | Json::Bool(_) => {}
    }
}

#[cfg(test)]
mod tests {
    use kanzlei_store::journal::Step;

    use super::*;

    #[test]
    fn confidential_values_are_opened_with_the_key_alone() {
        let key = "QUJDREVGR0hJSktMTU5PUFFSU1RVVldYWVowMTIzNDU=";
        let (own, other) =
            (Secrets::new(key, "", false).expect("secrets"), Secrets::new("", "", false).expect("no key"));
        let of = |pin: &str| Run {
            input: format!("{{\"pin\":{pin},\"port\":\"LIN\"}}"),
            steps: vec![Step::default(), Step { outcome: Some(format!("[{pin}]")), ..Step::default() }],
            ..Run::default()
        };
        let mut masked = of("\"•••\"");
        assert_eq!(seal(&mut masked.clone(), masked.clone(), &own), None, "nothing is confidential");
        assert_eq!(seal(&mut masked.clone(), of("73519"), &other), None, "there is no key");
        masked.sealed = seal(&mut masked.clone(), of("73519"), &own);
        assert!(masked.sealed.as_ref().is_some_and(|sealed| !sealed.contains("73519")), "{masked:?}");
        assert_eq!(opened(masked.clone(), &own), (of("73519"), BTreeSet::from(["73519".to_owned()])));
        assert_eq!(opened(masked.clone(), &other), (Run { sealed: None, ..masked }, BTreeSet::new()));
    }
}
