//! `operators`: tokens for the control API, by name.

use kanzlei_api::operators::{Issued, NewOperator, Operators, Rotation};

use super::{print_json, segment};
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
        vec![operator.name.clone(), begins, draw::time(operator.created), expires, used, yours.to_owned()]
    });
    draw::table(&["operator", "token", "made (UTC)", "expires", "last used", ""], rows);
    Ok(())
}

/// Makes a token and shows it, once.
pub fn add(api: &Api, name: &str, days: Option<u32>, json: bool) -> Done {
    issued(&api.post("/operators", &NewOperator { name: name.to_owned(), days })?, json)
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
