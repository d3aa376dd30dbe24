//! `operators`: tokens for the control API, by name.

use kanzlei_api::audit::{Audit, AuditFilter};
use kanzlei_api::operators::{Issued, NewOperator, Operators, Rotation};
use kanzlei_api::session::{Sessions, SessionsEnded};
use kanzlei_model::role::Role;

use super::{listing, print_json, segment};
use crate::api::Api;
use crate::{Done, draw};

/// Lists operator tokens with their last use.
pub fn list(api: &Api, json: bool) -> Done {
    let answer: Operators = api.get("/operators")?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    let rows = answer.operators.iter().map(|operator| {
        let when = |at: Option<_>, never: &str| at.map_or_else(|| never.to_owned(), draw::time);
        let yours = if operator.yours { "yours" } else { "" };
        let begins = format!("{}…", operator.prefix);
        let (expires, used) = (when(operator.expires, "never"), when(operator.used, "not yet"));
        vec![
            operator.name.clone(),
            operator.role.name().to_owned(),
            begins,
            draw::time(operator.created),
            expires,
            used,
            yours.to_owned(),
        ]
    });
    draw::table(&["operator", "role", "token", "made (UTC)", "expires", "last used", ""], rows);
    Ok(())
}

/// Makes a token and shows it, once.
pub fn add(api: &Api, name: &str, days: Option<u32>, role: &str, json: bool) -> Done {
    issued(&api.post("/operators", &NewOperator { name: name.to_owned(), days, role: Role::of(role) })?, json)
}

/// Replaces a token and shows the new one, once.
pub fn rotate(api: &Api, name: &str, days: Option<u32>, json: bool) -> Done {
    issued(&api.post(&format!("/operators/{}/rotate", segment(name)), &Rotation { days })?, json)
}

/// Removes a token.
pub fn revoke(api: &Api, name: &str) -> Done {
    api.delete(&format!("/operators/{}", segment(name)))?;
    println!("the token of {name} is revoked; its sessions have ended");
    Ok(())
}

fn issued(issued: &Issued, json: bool) -> Done {
    if json {
        print_json(issued);
        return Ok(());
    }
    // The token alone on standard output, so that it can be piped.
    let until = issued.expires.map_or_else(String::new, |at| format!(", valid until {} UTC", draw::time(at)));
    eprintln!("The token of {}{until}; it is shown only now:", issued.name);
    println!("{}", issued.token);
    Ok(())
}

/// `sessions`: lists sessions of the console, or ends them.
pub fn sessions(api: &Api, end: Option<&str>, all: bool, json: bool) -> Done {
    if let Some(id) = end {
        api.delete(&format!("/sessions/{}", segment(id)))?;
        println!("the session has ended");
        return Ok(());
    }
    if all {
        let ended: SessionsEnded = api.delete_for("/sessions")?;
        println!("{} sessions have ended", ended.ended);
        return Ok(());
    }
    let answer: Sessions = api.get("/sessions")?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    if answer.sessions.is_empty() {
        println!("Nobody is signed in to the console.");
        return Ok(());
    }
    let rows = answer.sessions.iter().map(|session| {
        vec![
            session.id.clone(),
            draw::bold(&session.name),
            session.role.name().to_owned(),
            draw::time(session.created),
            draw::time(session.expires),
            session.address.clone().unwrap_or_default(),
            session.agent.chars().take(40).collect(),
        ]
    });
    draw::table(&["session", "who", "role", "begun (UTC)", "ends", "from", "browser"], rows);
    Ok(())
}

/// `audit`: who changed what; with `json` a line of JSON for each.
pub fn audit(api: &Api, filter: &AuditFilter, json: bool) -> Done {
    let answer: Audit = api.get(&listing("audit", filter))?;
    if json {
        answer.lines.iter().for_each(|line| println!("{}", serde_json::to_string(line).unwrap_or_default()));
        return Ok(());
    }
    if answer.lines.is_empty() {
        println!("The audit trail has no such line.");
        return Ok(());
    }
    let rows = answer.lines.iter().map(|line| {
        let change = match (&line.before, &line.after) {
            (Some(before), Some(after)) => format!("{} → {}", short(before), short(after)),
            (None, Some(after)) => format!("→ {}", short(after)),
            (Some(before), None) => format!("{} →", short(before)),
            (None, None) => String::new(),
        };
        vec![
            draw::time(line.at),
            draw::bold(&line.who),
            line.role.clone(),
            line.what.clone(),
            line.subject.clone(),
            line.status.to_string(),
            change,
        ]
    });
    draw::table(&["at (UTC)", "who", "role", "request", "about", "status", "change"], rows);
    if let Some(next) = answer.next {
        println!("{}", draw::dim(&format!("older ones: kanzlei audit --before {next}")));
    }
    Ok(())
}

fn short(text: &str) -> String {
    let line = text.lines().next().unwrap_or_default();
    if line.chars().count() > 40 || text.lines().count() > 1 {
        line.chars().take(39).chain(['…']).collect()
    } else {
        line.to_owned()
    }
}
