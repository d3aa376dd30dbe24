//! `secrets`: set from the prompt or standard input, listed by name, removed.

use std::io::{BufRead, IsTerminal, Write};

use serde_json::{Value as Json, json};

use super::{print_json, segment};
use crate::api::Api;
use crate::{Done, Failure, draw};

pub fn list(api: &Api, json: bool) -> Done {
    let answer = api.get("/secrets")?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    let empty = Vec::new();
    let listed = answer["secrets"].as_array().unwrap_or(&empty);
    if listed.is_empty() {
        println!("No secrets yet. Set one with: kanzlei secrets set rates-token");
        return Ok(());
    }
    let rows: Vec<Vec<String>> = listed
        .iter()
        .map(|secret| {
            let users: Vec<&str> =
                secret["services"].as_array().unwrap_or(&empty).iter().filter_map(Json::as_str).collect();
            let name = secret["name"].as_str().unwrap_or_default().to_owned();
            let how = if secret["readable"] == false { " (cannot be opened with the service's key)" } else { "" };
            vec![name, draw::time(&secret["set"]), format!("{}{how}", users.join(", "))]
        })
        .collect();
    draw::table(&["SECRET", "SET", "USED BY"], &rows);
    Ok(())
}

/// Reads the value from the prompt, without showing it, or from standard input; never from an argument,
/// which others on the machine could read.
pub fn set(api: &Api, name: &str) -> Done {
    let stdin = std::io::stdin();
    let value = if stdin.is_terminal() {
        eprint!("Value of {name} (not shown): ");
        let _ = std::io::stderr().flush();
        let line = hidden_line();
        eprintln!();
        line
    } else {
        let mut line = String::new();
        stdin.lock().read_line(&mut line).map(|_| line)
    };
    let value = value.map_err(|error| Failure::Usage(format!("the value cannot be read: {error}")))?;
    let value = value.trim_end_matches(['\r', '\n']);
    if value.is_empty() {
        return Err(Failure::Usage(format!(
            "no value was given; try: printf %s \"$TOKEN\" | kanzlei secrets set {name}"
        )));
    }
    api.put(&format!("/secrets/{}", segment(name)), &json!({"value": value}))?;
    println!("{name} is set");
    Ok(())
}

pub fn remove(api: &Api, name: &str) -> Done {
    api.delete(&format!("/secrets/{}", segment(name)))?;
    println!("{name} is removed");
    Ok(())
}

/// One line from the terminal with its echo turned off.
fn hidden_line() -> std::io::Result<String> {
    // SAFETY: a zeroed termios is filled in by tcgetattr before it is used, and what was set before is
    // set again after the line.
    unsafe {
        let mut before: libc::termios = std::mem::zeroed();
        if libc::tcgetattr(libc::STDIN_FILENO, &mut before) != 0 {
            return Err(std::io::Error::last_os_error());
        }
        let mut silent = before;
        silent.c_lflag &= !libc::ECHO;
        libc::tcsetattr(libc::STDIN_FILENO, libc::TCSANOW, &silent);
        let mut line = String::new();
        let read = std::io::stdin().lock().read_line(&mut line);
        libc::tcsetattr(libc::STDIN_FILENO, libc::TCSANOW, &before);
        read.map(|_| line)
    }
}
