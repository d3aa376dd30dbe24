//! `keys`: keys of callers, by name.

use kanzlei_api::keys::{KeyRotation, Keys, MadeKey, NewKey};

use super::{print_json, segment};
use crate::api::Api;
use crate::{Done, draw};

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
        let workflows = if key.workflows.is_empty() { "all".to_owned() } else { key.workflows.join(", ") };
        vec![
            draw::bold(&key.name),
            format!("{}…", key.prefix),
            key.owner.clone(),
            workflows,
            draw::time(key.created),
            when(key.expires, "never"),
            when(key.used, "not yet"),
            key.note.clone(),
        ]
    });
    draw::table(&["key", "begins", "owner", "workflows", "made (UTC)", "expires", "last used", "note"], rows);
    for key in &answer.keys {
        if let Some(until) = key.former_until {
            println!("{}", draw::dim(&format!("the key before {} is valid until {} UTC", key.name, draw::time(until))));
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
