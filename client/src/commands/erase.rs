//! `erase`: erases what belongs to a caller, a tag or a value.

use std::io::IsTerminal;
use std::time::Duration;

use kanzlei_api::erasures::{Erasure, NewErasure};

use super::print_json;
use crate::api::Api;
use crate::{Done, Error, draw};

/// How often an erasure is polled.
const POLL: Duration = Duration::from_millis(300);

/// Erases, or counts what would be erased where `yes` is not given.
pub fn erase(api: &Api, what: NewErasure, yes: bool, json: bool) -> Done {
    let asked = NewErasure { preview: !yes, ..what };
    let mut erasure: Erasure = api.post("/erasures", &asked)?;
    while !erasure.ended {
        if std::io::stderr().is_terminal() && !json {
            eprint!("\r{} runs looked at", erasure.examined);
        }
        std::thread::sleep(POLL);
        erasure = api.get(&format!("/erasures/{}", erasure.id))?;
        if erasure.ended && std::io::stderr().is_terminal() {
            eprint!("\r\x1b[K");
        }
    }
    if json {
        print_json(&erasure);
    } else {
        print(&erasure);
    }
    match &erasure.failure {
        Some(why) => Err(Error::Failed(format!("the erasure broke off: {why}; ask for it again"))),
        None if erasure.open + erasure.sealed > 0 => Err(Error::Bad),
        None => Ok(()),
    }
}

fn print(erasure: &Erasure) {
    let did = if erasure.preview { "would be erased" } else { "erased" };
    let counts = [
        (erasure.jobs, "jobs with what is recorded of them"),
        (erasure.runs, "runs"),
        (erasure.deliveries, "messages of senders"),
        (erasure.refusals, "refused requests"),
        (erasure.files, "files"),
        (erasure.others, "kept answers, values passed on and counts"),
    ];
    for (count, what) in counts {
        println!("{count:>8} {what} {did}");
    }
    println!("{}", draw::dim(&format!("{} runs looked at", erasure.examined)));
    if erasure.open > 0 {
        println!(
            "{} {} jobs have not ended and stay: cancel them, and erase again",
            draw::paint("31", "not"),
            erasure.open
        );
    }
    if erasure.sealed > 0 {
        let why = "values cannot be opened with the key of the secrets: they may be meant, and stay";
        println!("{} {} jobs or messages whose {why}", draw::paint("31", "not"), erasure.sealed);
    }
    if erasure.preview {
        println!("{}", draw::dim("nothing was erased; to erase it for good, add --yes"));
    }
}
