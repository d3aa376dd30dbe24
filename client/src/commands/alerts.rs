//! `alerts` and `alert`.

use std::collections::BTreeMap;

use kanzlei_api::alerts::{Alert, AlertState, Alerts, NewSilence};

use super::{print_json, segment};
use crate::api::Api;
use crate::{Done, draw};

/// Lists alerts, and when they lasted.
pub fn list(api: &Api, json: bool) -> Done {
    let answer: Alerts = api.get("/alerts")?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    if answer.alerts.is_empty() {
        println!(
            "No alerts. One is a document of its own: `alert: quotes-fail`, `workflow: berth-quote`, `when: failed > 5`."
        );
        return Ok(());
    }
    let rows = answer.alerts.iter().map(|alert| {
        vec![
            draw::bold(&alert.name),
            state(alert),
            alert.since.map(draw::time).unwrap_or_default(),
            format!("{} {}", alert.kind, alert.of),
            format!("{} · {}", alert.when, draw::took(alert.over_us)),
            alert.fault.clone().unwrap_or_else(|| shown(&alert.measures, &alert.when)),
        ]
    });
    draw::table(&["alert", "state", "since (UTC)", "of", "when", "measures"], rows);
    for alert in &answer.alerts {
        if let Some(silence) = &alert.silence {
            let line = format!(
                "{} is silenced until {} by {}: {}",
                alert.name,
                draw::utc(silence.until),
                silence.by,
                silence.reason
            );
            println!("{}", draw::dim(&line));
        }
    }
    if !answer.spans.is_empty() {
        println!();
        let rows = answer.spans.iter().take(20).map(|span| {
            let long = span.ended.map(|ended| draw::took(ended - span.began));
            vec![
                span.alert.clone(),
                draw::time(span.began),
                long.unwrap_or_else(|| draw::paint("31", "lasts")),
                span.notices.to_string(),
                shown(&span.measures, ""),
            ]
        });
        draw::table(&["lasted", "began (UTC)", "for", "notices", "measures when it began"], rows);
    }
    match answer.checked {
        Some(at) => println!("{}", draw::dim(&format!("looked at {}", draw::utc(at)))),
        None => println!("{}", draw::dim("not looked at yet: a process that works looks every ten seconds")),
    }
    Ok(())
}

fn state(alert: &Alert) -> String {
    let word = match alert.state {
        AlertState::Off => draw::dim("off"),
        AlertState::Rising => draw::paint("33", "rising"),
        AlertState::On => draw::paint("31", "on"),
    };
    match (&alert.silence, alert.quiet) {
        (Some(_), _) => format!("{word}, silenced"),
        (None, true) => format!("{word}, quiet hours"),
        (None, false) => word,
    }
}

/// The measures that a condition names; all that are not 0 where there is none.
fn shown(measures: &BTreeMap<String, f64>, when: &str) -> String {
    let words: Vec<&str> = when.split(|c: char| !c.is_ascii_alphanumeric() && c != '_').collect();
    let named = measures.iter().filter(|(name, value)| match when {
        "" => **value != 0.0,
        _ => words.contains(&name.as_str()),
    });
    let number = |value: f64| match value.fract() == 0.0 {
        true => format!("{value:.0}"),
        false => format!("{value:.3}"),
    };
    named.map(|(name, value)| format!("{name} {}", number(*value))).collect::<Vec<_>>().join(", ")
}

/// Silences an alert for a span.
pub fn silence(api: &Api, name: &str, span: String, reason: String) -> Done {
    api.put(&format!("/alerts/{}/silence", segment(name)), &NewSilence { span: span.clone(), reason })?;
    println!(
        "{name} announces nothing for {span}; it still begins and ends. End that with: kanzlei alert speak {name}"
    );
    Ok(())
}

/// Retires an alert.
pub fn retire(api: &Api, name: &str) -> Done {
    api.delete(&format!("/alerts/{}", segment(name)))?;
    println!("{name} is retired. Deploy its document to bring it back.");
    Ok(())
}

/// Ends a silence.
pub fn unsilence(api: &Api, name: &str) -> Done {
    api.delete(&format!("/alerts/{}/silence", segment(name)))?;
    println!("{name} is announced again.");
    Ok(())
}
