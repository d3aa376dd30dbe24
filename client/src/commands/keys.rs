//! `keys`: keys of callers, by name.

use std::collections::BTreeMap;

use kanzlei_api::issuers::Issuers;
use kanzlei_api::keys::{KeyRotation, Keys, MadeKey, NewKey, Pseudonym, UsageFilter, UsageReport};

use super::{listing, print_json, segment};
use crate::api::Api;
use crate::{Done, Error, draw};

/// Lists keys with their last use.
pub fn list(api: &Api, json: bool) -> Done {
    let answer: Keys = api.get("/keys")?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    if answer.keys.is_empty() {
        println!("There are no keys. Make one for endpoints with `access: key`: kanzlei keys add NAME --owner WHOSE");
        return Ok(());
    }
    let rows = answer.keys.iter().map(|key| {
        let when = |at: Option<_>, never: &str| at.map_or_else(|| never.to_owned(), draw::time);
        let tags = key.tags.iter().map(|tag| format!("tag {tag}"));
        let scope: Vec<String> = key.workflows.iter().cloned().chain(tags).collect();
        let workflows = if scope.is_empty() { "all".to_owned() } else { scope.join(", ") };
        vec![
            draw::bold(&key.name),
            format!("{}…", key.prefix),
            key.owner.clone(),
            workflows,
            key.allowance.clone().unwrap_or_else(|| "as entries say".to_owned()),
            draw::time(key.created),
            when(key.expires, "never"),
            when(key.used, "not yet"),
            key.note.clone(),
        ]
    });
    draw::table(
        &["key", "begins", "owner", "workflows", "allowance", "made (UTC)", "expires", "last used", "note"],
        rows,
    );
    for key in &answer.keys {
        if let Some(until) = key.former_until {
            println!("{}", draw::dim(&format!("the key before {} is valid until {} UTC", key.name, draw::time(until))));
        }
    }
    Ok(())
}

/// Lists issuers of tokens with the keys that the service knows.
pub fn issuers(api: &Api, json: bool) -> Done {
    let answer: Issuers = api.get("/issuers")?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    if answer.issuers.is_empty() {
        println!("There are no issuers. One is a document: `issuer: NAME` with `iss`, `audience` and `service`");
        return Ok(());
    }
    let rows = answer.issuers.iter().map(|issuer| {
        let read = match (&issuer.service, issuer.read) {
            (None, _) => "in its document".to_owned(),
            (Some(_), Some(at)) => draw::time(at),
            (Some(_), None) => "not yet".to_owned(),
        };
        vec![
            draw::bold(&issuer.name),
            issuer.iss.clone(),
            issuer.audience.join(", "),
            issuer.keys.to_string(),
            read,
            issuer.allowance.clone().unwrap_or_default(),
            issuer.workflows.join(", "),
        ]
    });
    draw::table(&["issuer", "iss", "audience", "keys", "read (UTC)", "allowance", "workflows"], rows);
    for issuer in &answer.issuers {
        if let Some(trouble) = &issuer.trouble {
            println!("{}", draw::paint("31", &format!("the keys of {} cannot be read: {trouble}", issuer.name)));
        }
    }
    Ok(())
}

/// Makes a key and shows it, once.
pub fn add(api: &Api, key: &NewKey, json: bool) -> Done {
    made(&api.post("/keys", key)?, json)
}

/// Puts another key in place of one and shows it, once.
pub fn rotate(api: &Api, name: &str, rotation: &KeyRotation, json: bool) -> Done {
    made(&api.post(&format!("/keys/{}/rotate", segment(name)), rotation)?, json)
}

/// Revokes a key.
pub fn revoke(api: &Api, name: &str) -> Done {
    api.delete(&format!("/keys/{}", segment(name)))?;
    println!("the key {name} is revoked; other processes of the service refuse it within 8 s");
    Ok(())
}

fn made(made: &MadeKey, json: bool) -> Done {
    if json {
        print_json(made);
        return Ok(());
    }
    // The key alone on standard output, so that it can be piped.
    let until = made.expires.map_or_else(String::new, |at| format!(", valid until {} UTC", draw::time(at)));
    eprintln!("The key {}{until}; it is shown only now:", made.name);
    println!("{}", made.key);
    if let Some(until) = made.former_until {
        eprintln!("The one before it is valid until {} UTC.", draw::time(until));
    }
    Ok(())
}

/// Prints what stands in the place of a name in lists with pseudonyms.
pub fn pseudonym(api: &Api, name: &str, json: bool) -> Done {
    let found: Pseudonym = api.get(&format!("/pseudonyms/{}", segment(name)))?;
    match json {
        true => print_json(&found),
        false => println!("{}", found.pseudonym),
    }
    Ok(())
}

/// Shows what keys asked for, and what they have left.
pub fn usage(api: &Api, filter: &UsageFilter, csv: bool, json: bool) -> Done {
    let days = filter.days.unwrap_or(7);
    let report: UsageReport = api.get(&listing("usage", filter))?;
    if json {
        print_json(&report);
        return Ok(());
    }
    if csv {
        return written(&report).map_err(|error| Error::Failed(format!("the rows cannot be written: {error}")));
    }
    if report.usage.is_empty() {
        println!("No key asked for anything in the last {days} days.");
    }
    let mut sums: BTreeMap<(&str, &str), [u64; 3]> = BTreeMap::new();
    for row in &report.usage {
        let [requests, refused, failed] = sums.entry((&row.key, &row.workflow)).or_default();
        *requests += row.requests;
        *refused += row.refused;
        *failed += row.failed;
    }
    if !sums.is_empty() {
        println!("{}", draw::dim(&format!("the last {days} days")));
        let rows = sums.iter().map(|((key, workflow), [requests, refused, failed])| {
            vec![draw::bold(key), (*workflow).to_owned(), requests.to_string(), refused.to_string(), failed.to_string()]
        });
        draw::table(&["key", "workflow", "requests", "refused", "failed"], rows);
    }
    if !report.meters.is_empty() {
        println!("\n{}", draw::dim("left now"));
        let rows = report.meters.iter().flat_map(|meter| {
            meter.left.iter().map(|left| {
                let of = format!("{} of {}", left.left, left.of);
                vec![draw::bold(&meter.key), left.policy.clone(), of, draw::time(meter.used)]
            })
        });
        draw::table(&["key", "policy", "left", "last counted (UTC)"], rows);
    }
    if report.cut {
        println!("{}", draw::dim("there are more rows: name a key, or fewer --days"));
    }
    Ok(())
}

/// Writes the rows as CSV (RFC 4180).
fn written(report: &UsageReport) -> csv::Result<()> {
    let mut out = csv::Writer::from_writer(std::io::stdout().lock());
    out.write_record(["key", "workflow", "hour", "requests", "refused", "failed"])?;
    for row in &report.usage {
        let [requests, refused, failed] = [row.requests, row.refused, row.failed].map(|count| count.to_string());
        out.write_record([&row.key, &row.workflow, &row.hour.to_string(), &requests, &refused, &failed])?;
    }
    out.flush()?;
    Ok(())
}
