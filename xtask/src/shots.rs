//! `cargo xtask shots`: the pictures of `docs/screenshots/`, taken anew from demo data.

use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode, Output};
use std::time::Duration;

use kanzlei_harness::office::{Ports, Whole};
use kanzlei_harness::{packages, wait};

use crate::{Done, Fault, build, root, run};

/// A document with slips, for the picture of `check`.
const SLIPS: &str = "workflow: arrival-notice\nabout: Takes the notice of a vessel's arrival.\n\ninput:\n  imo:    {type: string, pattern: \"^[0-9]{7}$\"}\n  nights: {type: integer, optional: true}\n\nsteps:\n  - id: vessel\n    call: registry.getVessel\n    send: {imo: \"${input.imo}\"}\n    accept: [200, 404]\n\n  - let:\n      dues: ${vessel.body.length_m * 3.2 * input.nights}\n\n  - if: vessel.status === 500\n    then: [{fail: 502, title: The registry is broken}]\n\n  - reply: 200\n    body:\n      dues: ${dues}\n";

pub fn take() -> Done {
    packages::install(&[packages::MARIADB, packages::CHROMIUM, packages::CHROMEDRIVER, packages::WEASYPRINT])?;
    build::console()?;
    let bins = build::programs(false)?;
    let dir = kanzlei_harness::scratch::folder("shots");
    // The usual ports where they are free, because the pictures show addresses.
    let ports = if Ports::USUAL.taken().is_none() { Ports::USUAL } else { Ports::free()? };
    let whole = Whole::start(&bins, &dir, ports, &[])?;
    let (control, token) = (whole.office.control(), whole.office.token.clone());
    let path = format!("{}:{}", bins.display(), std::env::var("PATH").unwrap_or_default());
    let shell = |line: &str| {
        let mut command = Command::new("bash");
        command
            .args(["-c", line])
            .current_dir(root())
            .env("PATH", &path)
            .env("KANZLEI_URL", &control)
            .env("KANZLEI_TOKEN", &token);
        command.output()
    };
    perform(&shell, &ports)?;
    // A draft that differs from what is live.
    let changed = "sed 's/within: 2s/within: 4s/; s/title: Unknown vessel/title: No such vessel/'";
    shell(&format!(
        "mkdir -p {0} && {changed} demo/harbour/workflows/berth-quote.yaml > {0}/berth-quote.yaml && cp demo/drafts/mooring-offer.yaml {0} && cd {0} && kanzlei draft push berth-quote.yaml mooring-offer.yaml {1}",
        dir.join("draft").display(),
        root().join("demo/harbour/cases/berth-quote.yaml").display()
    ))?;
    let job_of = |workflow: &str, state: &str| {
        wait::until(Duration::from_secs(20), || {
            let listed = shell(&format!("kanzlei jobs --workflow {workflow} --state {state} --json")).ok()?;
            let listed: serde_json::Value = serde_json::from_slice(&listed.stdout).ok()?;
            listed["jobs"][0]["id"].as_str().map(str::to_owned)
        })
        .ok_or(format!("no job of {workflow} is {state}"))
    };
    let held = job_of("hold-watch", "waiting")?;
    let runs = wait::until(Duration::from_secs(10), || {
        let listed = shell("kanzlei runs --limit 400 --json").ok()?;
        let listed: serde_json::Value = serde_json::from_slice(&listed.stdout).ok()?;
        let runs = listed["runs"].as_array()?.clone();
        (runs.len() >= 8).then_some(runs)
    })
    .ok_or("the runs do not arrive in the journal")?;
    let id = |run: Option<&serde_json::Value>| run.and_then(|run| run["id"].as_str()).unwrap_or_default().to_owned();
    let last = id(runs.iter().find(|run| run["workflow"] == "berth-quote"));
    // What failed on purpose is well again: the trial of the pictures calls for real.
    shell(&format!("curl -sS -X PUT 'http://127.0.0.1:{}/~/behaviour/registry?fail_next=0'", ports.standins))?;
    let cases = documents(&dir)?;
    let pictures = root().join("docs/screenshots");
    let take = |pages: &[String]| {
        run(Command::new(bins.join("kanzlei-shots"))
            .args([&control, &token])
            .arg(&pictures)
            .env("PATH", &path)
            .env("KANZLEI_URL", &control)
            .env("KANZLEI_TOKEN", &token)
            .args(pages))
    };
    let done = take(&pages(&dir, &cases, &Shown { last, held }))
        // The charts of lanes begin with their first samples, ten seconds each.
        .and_then(|()| {
            wait::until(Duration::from_secs(90), || {
                let samples =
                    format!("curl -s -H 'Authorization: Bearer {token}' '{control}/api/v1/lanes/samples?minutes=5'");
                let samples: serde_json::Value = serde_json::from_slice(&shell(&samples).ok()?.stdout).ok()?;
                (samples["lanes"]["reminders"].as_array()?.len() >= 5).then_some(())
            });
            take(&["console-lanes=/lanes".to_owned()])
        })
        .and_then(|()| {
            // Quotes fail for a while, and an alert begins.
            let failing =
                format!("curl -sS -X PUT 'http://127.0.0.1:{}/~/behaviour/tides?fail_next=9'", ports.standins);
            shell(&failing)?;
            for _ in 0..3 {
                shell("kanzlei call berth-quote harbour=LIN imo=9074720 arrives=2027-03-04T06:00:00Z")?;
            }
            shell("kanzlei alert silence registry-slow --for 2h --reason 'the registry is being moved'")?;
            wait::until(Duration::from_secs(60), || {
                let alerts: serde_json::Value =
                    serde_json::from_slice(&shell("kanzlei alerts --json").ok()?.stdout).ok()?;
                alerts["alerts"].as_array()?.iter().any(|one| one["state"] == "on").then_some(())
            });
            take(&["console-alerts=/alerts".to_owned()])
        });
    whole.stop();
    let _ = std::fs::remove_dir_all(&dir);
    done.map(|()| ExitCode::SUCCESS)
}

/// Runs, jobs and refusals for the pictures.
fn perform(shell: &impl Fn(&str) -> std::io::Result<Output>, ports: &Ports) -> Result<(), Fault> {
    shell("kanzlei deploy demo/harbour")?;
    let call = "kanzlei call berth-quote harbour=LIN imo=9074720 arrives=2027-03-04T06:00:00Z currency=NOK nights=3";
    let behave = format!("curl -sS -X PUT 'http://127.0.0.1:{}/~/behaviour", ports.standins);
    for line in [
        "kanzlei call gather-reports".to_owned(),
        "kanzlei call stay-bill harbour=LIN imo=9074720 nights=2 made=2027-03-04".into(),
        call.to_owned(),
        call.replace("9074720", "9417350"),
        "kanzlei call harbour-tides draught=6.2 after=2027-03-04T06:00:00Z".into(),
        call.replace("9074720", "9999999"),
        format!("{behave}/tides?fail_next=3'; {call}"),
        format!("{behave}/tides?fail_next=1&delay_ms=60'; {call}"),
        "kanzlei send-webhook customs-recall --id msg_C-1001".into(),
        "kanzlei send-webhook customs-recall --id msg_C-1001".into(),
        "echo '{\"data\":{\"reference\":\"C-1002\",\"decision\":\"perhaps\"}}' | kanzlei send-webhook customs-recall --body - --id msg_C-1002".into(),
    ] {
        shell(&line)?;
    }
    let post =
        |path: &str, body: &str| format!("curl -sS -X POST http://127.0.0.1:{}{path} --json '{body}'", ports.public);
    let mut jobs = vec![post("/clearances", r#"{"imo":"9417350","cargo":"diesel oil","code":"tide-4417"}"#)];
    jobs.push(post("/harbours/LIN/holds", r#"{"imo":"9748694","berth":"B4","pauses":["2s","40s","80s"]}"#));
    jobs.push(post("/harbours/LIN/dues-rounds", r#"{"spacing":"0s"}"#));
    jobs.push(post("/harbours/NES/arrivals", r#"{"imo":"9305478","arrives":"2027-03-04T06:00:00Z"}"#));
    jobs.push(format!("{behave}/registry?fail_next=9'"));
    jobs.push(post("/harbours/LIN/arrivals", r#"{"imo":"9631073","arrives":"2027-03-04T09:00:00Z"}"#));
    // Requests that are refused.
    jobs.push(post("/clearances", r#"{"imo":"941735","cargo":"diesel oil"}"#));
    jobs.push(post("/harbours/OSL/quotes", r#"{"imo":"9074720"}"#));
    jobs.push(format!("curl -sS -X PUT http://127.0.0.1:{}/clearances", ports.public));
    jobs.push(format!("curl -sS http://127.0.0.1:{}/harbours/LIN/tide", ports.public));
    for line in &jobs {
        shell(line)?;
    }
    Ok(())
}

/// Folders with documents of which something is wrong; returns the one with cases.
fn documents(dir: &Path) -> Result<PathBuf, Fault> {
    // Cases of which one fails and one branch is not reached.
    let cases = dir.join("cases");
    run(Command::new("cp").arg("-r").arg(root().join("demo/harbour")).arg(&cases))?;
    for (file, from, to) in [
        ("vessel-dues.yaml", "dues_eur: 153.6", "dues_eur: 153.7"),
        ("harbour-report.yaml", "sql.harbour: {rows: []}", "sql.harbour: {rows: [{vessel: Kvikk, stays: 1}]}"),
    ] {
        let file = cases.join("cases").join(file);
        let text = std::fs::read_to_string(&file)?.replace(from, to);
        std::fs::write(&file, text)?;
    }
    let slips = dir.join("services");
    std::fs::create_dir_all(&slips)?;
    let document = dir.join("arrival-notice.yaml");
    std::fs::write(&document, SLIPS)?;
    for file in std::fs::read_dir(root().join("demo/harbour/services"))? {
        let file = file?;
        std::fs::copy(file.path(), slips.join(file.file_name()))?;
    }
    Ok(cases)
}

/// Ids that pages show.
struct Shown {
    last: String,
    held: String,
}

/// Names of the pictures with the pages and terminal lines that they show.
fn pages(dir: &Path, cases: &Path, shown: &Shown) -> Vec<String> {
    vec![
        "console-list=/workflows".to_owned(),
        "console-new=/new".into(),
        "console-compose=/workflows/mooring-offer@[data-at='steps/2'] .row-focus".into(),
        "console-try=/workflows/berth-quote@.bar .bx--btn--tertiary@[data-at='steps/4'] .row-focus".into(),
        "console-deploy=/workflows/berth-quote/deploy".into(),
        format!("console-run=/runs/{}", shown.last),
        "console-history=/workflows/berth-quote/history@table tbody tr:first-child button@[aria-label='Past runs answered again'] .bx--btn".into(),
        "console-cases=/workflows/berth-quote/cases@.cases li:nth-child(4) .case".into(),
        "console-services=/services/registry".into(),
        "console-figures=/workflows/berth-quote/figures".into(),
        "console-deliveries=/deliveries?workflow=customs-recall!dark@.acts .bx--btn".into(),
        "console-jobs=/jobs".into(),
        format!("console-job=/jobs/{}", shown.held),
        format!("client-check=$cd {} && kanzlei check arrival-notice.yaml", dir.display()),
        format!("client-run=$kanzlei run {}", shown.last),
        "console-overview=/overview".into(),
        format!("client-rehearse=$cd {} && kanzlei rehearse .", cases.display()),
    ]
}
