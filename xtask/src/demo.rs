//! `cargo xtask demo`: the demo office, running; and `--once`: the README's example, checked.

use std::path::Path;
use std::process::{Command, ExitCode};
use std::sync::mpsc;
use std::time::{Duration, Instant};

use kanzlei_harness::office::{Ports, Whole, port_taken};
use kanzlei_harness::packages;

use crate::{Done, Fault, build, root};

#[derive(clap::Args)]
pub struct Demo {
    /// Run the README's worked example on throwaway data, check every answer, and end
    #[arg(long)]
    once: bool,
    /// Build with optimisation (takes longer)
    #[arg(long)]
    release: bool,
    /// Port of the public listener
    #[arg(long, default_value_t = Ports::USUAL.public)]
    public_port: u16,
    /// Port of the control listener and console
    #[arg(long, default_value_t = Ports::USUAL.control)]
    control_port: u16,
    /// Port of the stand-ins
    #[arg(long, default_value_t = Ports::USUAL.standins)]
    standins_port: u16,
    /// Port of the stand-ins' mail server
    #[arg(long, default_value_t = Ports::USUAL.mail)]
    mail_port: u16,
}

pub fn run(demo: Demo) -> Done {
    packages::install(&[packages::MARIADB, packages::CURL, packages::WEASYPRINT])?;
    build::console()?;
    let bins = build::demo(demo.release)?;
    if demo.once { once(&bins) } else { stay(&bins, &demo) }
}

fn stay(bins: &Path, demo: &Demo) -> Done {
    let ports = Ports {
        public: demo.public_port,
        control: demo.control_port,
        standins: demo.standins_port,
        mail: demo.mail_port,
    };
    if let Some((port, what)) = ports.taken() {
        let flag = match port {
            p if p == ports.public => "--public-port",
            p if p == ports.control => "--control-port",
            p if p == ports.mail => "--mail-port",
            _ => "--standins-port",
        };
        return Err(port_taken(port, what, flag).into());
    }
    let (stop, stopped) = mpsc::channel();
    let signal = stop.clone();
    ctrlc::set_handler(move || {
        let _ = signal.send(());
    })?;
    let begun = Instant::now();
    let dir = root().join(".kanzlei");
    let mut whole = Whole::start(bins, &dir, ports, &[])?;
    let office = &whole.office;
    write_client_settings(&dir, &office.control(), &office.token)?;
    let deployed =
        client(bins, &office.control(), &office.token).args(["deploy", "demo/harbour"]).current_dir(root()).output()?;
    if !deployed.status.success() {
        return Err(format!(
            "the demo office could not be deployed:\n{}{}",
            text(&deployed.stdout),
            text(&deployed.stderr)
        )
        .into());
    }
    // A draft to play with, and the cases of the office; what was saved or discarded before stays so.
    if !dir.join("played").exists() {
        let push = ["draft", "push", "demo/drafts/mooring-offer.yaml", "demo/harbour/cases"];
        client(bins, &office.control(), &office.token).args(push).current_dir(root()).output()?;
        std::fs::write(dir.join("played"), "")?;
    }
    let shown = text(&deployed.stdout);
    let curl = shown
        .lines()
        .map(str::trim)
        .find(|line| line.starts_with("curl") && line.contains("quotes"))
        .unwrap_or_default()
        .to_owned();
    println!("\nKanzlei is up ({:.1} s).\n", begun.elapsed().as_secs_f64());
    println!("  public    {}", office.public());
    println!("  console   {}", office.control());
    println!("  token     {}   (asked for at sign-in; also in .kanzlei/client.toml)", office.token);
    println!("\nA draft to play with, in the console: {}/workflows/mooring-offer", office.control());
    println!("\nA request that works:\n\n  {curl}\n");
    println!("What to try next, in another terminal (the client is {}):\n", bins.join("kanzlei").display());
    println!("  alias kanzlei={}", bins.join("kanzlei").display());
    println!("  kanzlei list");
    println!("  kanzlei call berth-quote harbour=LIN imo=9074720 arrives=2027-03-04T06:00:00Z currency=NOK");
    println!("  kanzlei run last");
    println!("  kanzlei rehearse demo/harbour");
    println!("  kanzlei call gather-reports");
    println!(
        "  curl -X PUT 'http://127.0.0.1:{}/~/behaviour/tides?fail_next=1'     # then call again and see the retry",
        ports.standins
    );
    println!("\nJobs:\n");
    let public = office.public();
    println!(
        "  curl -sS {public}/clearances --json '{{\"imo\":\"9417350\",\"cargo\":\"diesel oil\",\"code\":\"tide-4417\"}}'     # 202; customs call back"
    );
    println!("  kanzlei job last --follow");
    println!(
        "  curl -sS {public}/bank-statements --json '{{\"statement\":\"20270304ZZ27HAVN0000123456789000000084480LIN\"}}'     # columns of fixed width, read by a script"
    );
    println!(
        "  curl -sS {public}/harbours/LIN/dues-rounds --json '{{\"spacing\":\"0s\"}}'     # one for each open bill, in a slow lane"
    );
    println!("  kanzlei lanes");
    println!("  kanzlei timetables");
    println!("\nMessages of others, signed:\n");
    println!("  kanzlei send-webhook customs-recall --id msg_1     # twice: the second is a repetition");
    println!("  kanzlei send-webhook payment-notice     # the bank's own scheme; it waits for the answer");
    println!("  kanzlei deliveries");
    println!("\nA partner with a key of its own:\n");
    println!("  kanzlei keys add northern-line --owner \"Northern Line\" --for harbour-tides     # shown once");
    println!(
        "  curl -sS '{public}/partners/tides?draught=6.2&after=2027-03-04T06:00:00Z' -H 'X-Api-Key: …'     # 401 without it"
    );
    println!(
        "  kanzlei keys add guest --for harbour-tides --allowance guests     # two requests a minute: the third gets 429"
    );
    println!("\nA shipping line with a token of the harbour's identity:\n");
    println!(
        "  TOKEN=$(curl -sS -u northern-line:northern-secret -d grant_type=client_credentials http://127.0.0.1:{}/identity/token | sed 's/.*access_token\":\"\\([^\"]*\\).*/\\1/')",
        ports.standins
    );
    println!(
        "  curl -sS {public}/v2/harbours/LIN/quotes --json '{{\"imo\":\"9074720\"}}' -H \"Authorization: Bearer $TOKEN\"     # 401 without it, 403 where it allows no quotes"
    );
    println!(
        "  curl -sS {public}/v2/harbours/LIN/quotes -H 'Host: api.lindvik.example' --json '{{\"imo\":\"9074720\"}}' -H \"Authorization: Bearer $TOKEN\"     # the same at the host that partners know"
    );
    println!("  kanzlei service show pilots     # called with a token that identity issues");
    println!("  kanzlei usage");
    println!(
        "  printf 'name,rank\\nTare Holm,master\\n' | curl -sS -T - -H 'Content-Type: text/csv' {public}/vessels/9074720/crew-list     # a file, kept in a folder and in a bucket"
    );
    println!("  curl -sS {public}/vessels/9074720/crew-list     # answered with its bytes");
    println!(
        "  kanzlei call cargo-manifests imo=9305478 manifests=@demo/files/manifests.zip     # a zip of JSON files becomes rows of the database"
    );
    println!("\nReports and mail:\n");
    println!(
        "  curl -sS {public}/harbours/LIN/months/2027-02/report -o report.pdf     # SQL, a chart, a template, printed"
    );
    println!("  http://127.0.0.1:{}/mail     # what the office mailed, in a browser", ports.standins);
    println!("\nCtrl-C stops everything.");
    loop {
        match stopped.recv_timeout(Duration::from_millis(500)) {
            Ok(()) => break,
            Err(mpsc::RecvTimeoutError::Disconnected) => break,
            Err(mpsc::RecvTimeoutError::Timeout) => {
                for process in [&mut whole.office.service, &mut whole.office.standins] {
                    if let Some(status) = process.ended() {
                        let words = process.last_words(15);
                        let log = process.log.display();
                        return Err(format!("a process ended by itself ({status}); the end of {log}:\n{words}").into());
                    }
                }
            }
        }
    }
    println!("\nStopping …");
    whole.stop();
    println!("Stopped. The data is kept in .kanzlei/; `cargo xtask demo` goes on with it.");
    Ok(ExitCode::SUCCESS)
}

pub fn client(bins: &Path, control: &str, token: &str) -> Command {
    let mut command = Command::new(bins.join("kanzlei"));
    command.env("KANZLEI_URL", control).env("KANZLEI_TOKEN", token);
    command
}

fn write_client_settings(dir: &Path, control: &str, token: &str) -> Result<(), Fault> {
    use std::os::unix::fs::PermissionsExt;
    let file = dir.join("client.toml");
    std::fs::write(
        &file,
        format!(
            "# Written by the demo; read by the client in this folder and below.\nurl = {control:?}\ntoken = {token:?}\n"
        ),
    )?;
    std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o600))?;
    Ok(())
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

/// Runs the README's example line by line; each answer must be what stands below its command.
fn once(bins: &Path) -> Done {
    let dir = kanzlei_harness::scratch::folder("once");
    let ports = if Ports::USUAL.taken().is_none() { Ports::USUAL } else { Ports::free()? };
    let whole = Whole::start(bins, &dir, ports, &[])?;
    let done = example(bins, &whole);
    whole.stop();
    let _ = std::fs::remove_dir_all(&dir);
    let wrong = done?;
    if wrong > 0 {
        eprintln!("{wrong} answers were not as the README says");
        return Ok(ExitCode::FAILURE);
    }
    println!("Every answer was as the README says.");
    Ok(ExitCode::SUCCESS)
}

fn example(bins: &Path, whole: &Whole) -> Result<usize, Fault> {
    let ports = whole.office.ports;
    let usual = [
        (Ports::USUAL.public, ports.public),
        (Ports::USUAL.control, ports.control),
        (Ports::USUAL.standins, ports.standins),
    ];
    let readme = std::fs::read_to_string(root().join("README.md"))?;
    let path = format!("{}:{}", bins.display(), std::env::var("PATH").unwrap_or_default());
    let mut wrong = 0;
    let steps = commands(&readme);
    if steps.is_empty() {
        return Err("the README has no example in a ```console block".into());
    }
    for (command, wanted) in steps {
        println!("$ {command}");
        let real = usual.iter().fold(command, |c, (from, to)| c.replace(&format!(":{from}"), &format!(":{to}")));
        let output = Command::new("bash")
            .args(["-c", &real])
            .current_dir(root())
            .env("PATH", &path)
            .env("KANZLEI_URL", whole.office.control())
            .env("KANZLEI_TOKEN", &whole.office.token)
            .output()?;
        let got = format!("{}{}", text(&output.stdout), text(&output.stderr));
        let got = usual.iter().fold(got, |g, (from, to)| g.replace(&format!(":{to}"), &format!(":{from}")));
        let got: Vec<&str> = got.trim_end().lines().map(str::trim_end).collect();
        println!("{}", got.join("\n"));
        if !matches(&wanted, &got) {
            wrong += 1;
            println!("--- the README says:\n{}\n---", wanted.join("\n"));
        }
    }
    Ok(wrong)
}

/// Commands and their answers in the ```console blocks.
fn commands(readme: &str) -> Vec<(String, Vec<String>)> {
    let mut found: Vec<(String, Vec<String>)> = Vec::new();
    let mut inside = false;
    for line in readme.lines() {
        if line.starts_with("```") {
            inside = line == "```console";
        } else if inside {
            match (line.strip_prefix("$ "), found.last_mut()) {
                (Some(command), _) => found.push((command.to_owned(), Vec::new())),
                (None, Some((command, _))) if command.ends_with('\\') => {
                    command.pop();
                    command.push_str(line.trim_start());
                }
                (None, Some((_, answer))) => answer.push(line.trim_end().to_owned()),
                (None, None) => {}
            }
        }
    }
    found
}

/// Whether an answer is as wanted; `…` stands for any text within a line, alone for any lines.
fn matches(wanted: &[String], got: &[&str]) -> bool {
    match wanted.split_first() {
        None => got.is_empty(),
        Some((first, rest)) if first.trim() == "…" => (0..=got.len()).any(|skip| matches(rest, &got[skip..])),
        Some((first, rest)) => {
            got.split_first().is_some_and(|(line, others)| line_matches(first, line) && matches(rest, others))
        }
    }
}

fn line_matches(wanted: &str, got: &str) -> bool {
    let mut parts = wanted.split('…');
    let Some(mut left) = parts.next().and_then(|first| got.strip_prefix(first)) else { return false };
    let parts: Vec<&str> = parts.collect();
    for (index, part) in parts.iter().enumerate() {
        if index + 1 == parts.len() {
            return left.ends_with(part);
        }
        match left.find(part) {
            Some(at) => left = &left[at + part.len()..],
            None => return false,
        }
    }
    left.is_empty()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn answers_are_compared_with_gaps() {
        let wanted: Vec<String> = ["a … c", "…", "end"].map(str::to_owned).to_vec();
        assert!(matches(&wanted, &["a b c", "x", "y", "end"]));
        assert!(matches(&wanted, &["a b c", "end"]));
        assert!(!matches(&wanted, &["a b", "end"]));
        assert!(!matches(&wanted, &["a b c", "x"]));
    }

    #[test]
    fn examples_are_found_with_their_answers() {
        let found = commands("x\n```console\n$ a \\\n    b\nout\n$ c\n```\n```sh\n$ no\n```\n");
        assert_eq!(found, [("a b".to_owned(), vec!["out".to_owned()]), ("c".to_owned(), vec![])]);
    }
}
