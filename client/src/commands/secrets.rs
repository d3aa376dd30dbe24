//! `secrets`: set from the prompt or standard input, listed by name, removed.

use std::io::{BufRead, IsTerminal, Write};

use kanzlei_api::secrets::{NewSecret, Rotation, Secrets};

use super::{print_json, segment};
use crate::api::Api;
use crate::{Done, Error, draw};

/// Lists names of secrets, when each was set and what uses it.
pub fn list(api: &Api, json: bool) -> Done {
    let answer: Secrets = api.get("/secrets")?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    if answer.secrets.is_empty() {
        println!("No secrets yet. Set one with: kanzlei secrets set rates-token --for https://rates.lindvik.example");
        return Ok(());
    }
    let rows = answer.secrets.iter().map(|secret| {
        let how = if secret.readable { "" } else { " (cannot be opened with the service's key)" };
        let bound = if secret.purposes.is_empty() { "nothing".to_owned() } else { secret.purposes.join(", ") };
        vec![secret.name.clone(), draw::time(secret.set), bound, format!("{}{how}", secret.services.join(", "))]
    });
    draw::table(&["secret", "set (UTC)", "for", "used by"], rows);
    Ok(())
}

/// Reads the value from the prompt, without showing it, or from standard input; never from an argument,
/// which others on the machine could read.
pub fn set(api: &Api, name: &str, purposes: Vec<String>) -> Done {
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
    let value = value.map_err(|error| Error::Usage(format!("the value cannot be read: {error}")))?;
    let value = value.trim_end_matches(['\r', '\n']);
    if value.is_empty() {
        return Err(Error::Usage(format!(
            "no value was given; try: printf %s \"$TOKEN\" | kanzlei secrets set {name} --for https://…"
        )));
    }
    let bound = purposes.join(", ");
    api.put(&format!("/secrets/{}", segment(name)), &NewSecret { value: value.to_owned(), purposes })?;
    match bound.as_str() {
        "" => println!("{name} is set, and bound to nothing: it is not used until it is set again with --for"),
        bound => println!("{name} is set for {bound}"),
    }
    Ok(())
}

pub fn remove(api: &Api, name: &str) -> Done {
    api.delete(&format!("/secrets/{}", segment(name)))?;
    println!("{name} is removed");
    Ok(())
}

/// Seals everything with the key of today.
pub fn rotate(api: &Api, json: bool) -> Done {
    let mut rotation: Rotation = api.act("/secrets/rotation")?;
    while !rotation.ended {
        if std::io::stderr().is_terminal() && !json {
            eprint!("\r{} values looked at, {} sealed anew", rotation.examined, rotation.sealed);
        }
        std::thread::sleep(std::time::Duration::from_millis(300));
        rotation = api.get("/secrets/rotation")?;
        if rotation.ended && std::io::stderr().is_terminal() {
            eprint!("\r\x1b[K");
        }
    }
    if json {
        print_json(&rotation);
    } else {
        println!("{} values looked at, {} sealed anew", rotation.examined, rotation.sealed);
    }
    match &rotation.failure {
        Some(why) => Err(Error::Failed(format!("the rotation broke off: {why}; ask for it again"))),
        None if rotation.unopened > 0 => Err(Error::Failed(format!(
            "{} values are opened by neither key; they stay, and so does the former key in the records",
            rotation.unopened
        ))),
        None => {
            println!(
                "{}",
                draw::dim(
                    "take `secrets.other_key_file` out of the settings once no process seals with the former key"
                )
            );
            Ok(())
        }
    }
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
