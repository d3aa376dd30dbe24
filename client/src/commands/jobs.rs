//! `jobs`, `job`, `cancel`, `retry`, `lanes`, `lane`, `timetables`, `timetable`.

use std::io::IsTerminal;
use std::time::Duration;

use kanzlei_model::run::RunState;
use serde_json::{Value as Json, json};

use super::runs::print_steps;
use super::{print_json, segment};
use crate::api::Api;
use crate::args::{Jobs, LaneAction, Select, TimetableAction};
use crate::{Done, Failure, draw};

/// How often what is followed is asked for again.
const AGAIN: Duration = Duration::from_millis(700);

/// What a selection says, by the names of the control API.
fn parts(select: &Select) -> impl Iterator<Item = (&'static str, &str)> {
    let all = [
        ("state", &select.state),
        ("lane", &select.lane),
        ("workflow", &select.workflow),
        ("tag", &select.tag),
        ("group", &select.group),
        ("due_from", &select.due_from),
        ("due_until", &select.due_until),
        ("text", &select.text),
    ];
    all.into_iter().filter_map(|(name, value)| Some((name, value.as_deref()?)))
}

fn query(select: &Select) -> String {
    parts(select).map(|(name, value)| format!("&{name}={}", segment(value))).collect()
}

fn meant(select: &Select) -> Json {
    Json::Object(parts(select).map(|(name, value)| (name.to_owned(), value.into())).collect())
}

fn text<'j>(value: &'j Json, key: &str) -> &'j str {
    value[key].as_str().unwrap_or_default()
}

pub fn list(api: &Api, args: &Jobs, json: bool) -> Done {
    loop {
        let before = args.before.as_deref().map(|id| format!("&before={}", segment(id))).unwrap_or_default();
        let answer = api.get(&format!("/jobs?limit={}{}{before}", args.limit, query(&args.select)))?;
        if json {
            print_json(&answer);
            return Ok(());
        }
        if args.follow && std::io::stdout().is_terminal() {
            print!("\x1b[2J\x1b[H");
        }
        print_list(&answer);
        if let Some(group) = &args.select.group {
            let group = api.get(&format!("/groups/{}", segment(group)))?;
            print_group(&group);
        }
        if !args.follow {
            return Ok(());
        }
        std::thread::sleep(AGAIN);
    }
}

fn print_list(answer: &Json) {
    let none = Vec::new();
    let counts = answer["counts"].as_object().cloned().unwrap_or_default();
    let counted: Vec<String> = RunState::NAMES
        .iter()
        .filter_map(|state| {
            let n = counts.get(*state)?.as_u64().filter(|n| *n > 0)?;
            let more = if answer["counted_to"] == n { "+" } else { "" };
            Some(format!("{n}{more} {}", draw::state(state)))
        })
        .collect();
    let jobs = answer["jobs"].as_array().unwrap_or(&none);
    if !counted.is_empty() {
        println!("{}\n", draw::dim("in all: ") + &counted.join(" · "));
    }
    if jobs.is_empty() {
        println!("No such jobs. Queue one with a request that prefers it: curl -H 'Prefer: respond-async' …");
        return;
    }
    let rows: Vec<Vec<String>> = jobs
        .iter()
        .map(|job| {
            let mut state = draw::state(text(job, "state"));
            if job["stopping"] == true {
                state.push_str(" (stopping)");
            }
            if let Some(progress) = job["progress"].as_f64().filter(|_| text(job, "state") == "running") {
                state.push_str(&format!(" {:.0}%", progress * 100.0));
            }
            if let Some(waits) = job["waits_for"].as_str() {
                state.push_str(&draw::dim(&format!(" {waits}")));
            }
            let when = if job["due"].is_null() { "open".into() } else { draw::time(&job["due"]) };
            let name = text(job, "workflow").to_owned() + if job["retired"] == true { " (retired)" } else { "" };
            vec![
                text(job, "id").to_owned(),
                name,
                state,
                text(job, "lane").to_owned(),
                when,
                draw::took(&job["delay_us"]),
                draw::took(&job["duration_us"]),
                job["tag"].as_str().or(job["failure"].as_str()).unwrap_or_default().chars().take(50).collect(),
            ]
        })
        .collect();
    draw::table(&["job", "workflow", "state", "lane", "due (UTC)", "delay", "took", "tag or why"], &rows);
    println!("{}", draw::dim(&format!("poll the first: {}", text(&jobs[0], "curl"))));
    if let Some(next) = answer["next_before"].as_str() {
        println!("{}", draw::dim(&format!("older ones: add --before {next}")));
    }
}

fn print_group(group: &Json) {
    println!();
    println!(
        "{} {} · {} of {} succeeded, {} rejected, {} failed, {} cancelled, {} running, {} remaining{}",
        draw::dim("group"),
        text(group, "id"),
        group["succeeded"],
        group["total"],
        group["rejected"],
        group["failed"],
        group["cancelled"],
        group["running"],
        group["remaining"],
        group["expected_end"]
            .as_str()
            .map(|_| format!(" · expected end {} UTC", draw::time(&group["expected_end"])))
            .unwrap_or_default(),
    );
}

/// The id of a job, or of the latest for `last`.
fn meant_id(api: &Api, id: &str) -> Result<String, Failure> {
    if id != "last" {
        return Ok(id.to_owned());
    }
    let answer = api.get("/jobs?limit=1")?;
    answer["jobs"][0]["id"].as_str().map(str::to_owned).ok_or_else(|| Failure::Told("there are no jobs yet".into()))
}

pub fn show(api: &Api, id: &str, follow: bool, full: bool, json: bool) -> Done {
    let id = meant_id(api, id)?;
    let path = format!("/jobs/{}", segment(&id));
    let mut job = api.get(&path)?;
    if follow {
        let mut seen = Json::Null;
        loop {
            if job["changes"] != seen {
                follow_line(&job);
                seen = job["changes"].clone();
            }
            if !job["ended"].is_null() {
                break;
            }
            std::thread::sleep(AGAIN);
            job = api.get(&path)?;
        }
        println!();
    }
    if json {
        print_json(&job);
        return Ok(());
    }
    print_job(&job, full);
    if matches!(text(&job, "state"), "failed" | "rejected") { Err(Failure::Bad) } else { Ok(()) }
}

/// One line each time something changed.
fn follow_line(job: &Json) {
    let bar = job["progress"].as_f64().map(|progress| {
        let filled = (progress * 20.0).round() as usize;
        format!(" [{}{}] {:.0}%", "#".repeat(filled.min(20)), "·".repeat(20 - filled.min(20)), progress * 100.0)
    });
    let left = job["remaining_s"].as_f64().map(|left| draw::dim(&format!(" about {left:.0} s left")));
    let note = job["note"].as_str().map(|note| format!("  {note}"));
    let waits = match (job["waits_for"].as_str(), job["until"].as_str()) {
        (Some(waits), Some(_)) => draw::dim(&format!(" {waits} until {} UTC", draw::time(&job["until"]))),
        (Some(waits), None) => draw::dim(&format!(" {waits}")),
        _ => String::new(),
    };
    println!(
        "{}{waits}{}{}{}",
        draw::state(text(job, "state")),
        bar.unwrap_or_default(),
        left.unwrap_or_default(),
        note.unwrap_or_default()
    );
}

fn print_job(job: &Json, full: bool) {
    println!(
        "{} · revision {}{} · {}{}",
        draw::bold(text(job, "workflow")),
        job["revision"],
        if job["retired"] == true { " (retired meanwhile)" } else { "" },
        draw::state(text(job, "state")),
        if job["stopping"] == true { ", stops before its next step" } else { "" },
    );
    let line = |label: &str, shown: String| {
        if !shown.is_empty() {
            println!("{} {shown}", draw::dim(&format!("{label:<9}")));
        }
    };
    line("job", text(job, "id").to_owned());
    line("poll", text(job, "curl").to_owned());
    line("entry", text(job, "entry").to_owned());
    line(
        "lane",
        format!(
            "{}{}, priority {}",
            text(job, "lane"),
            if job["held"] == true { " (held)" } else { "" },
            job["priority"]
        ),
    );
    line("tag", text(job, "tag").to_owned());
    line("group", text(job, "group").to_owned());
    if job["blocked"] == true {
        line("blocked", format!("another job with the ordering key `{}` goes first", text(job, "ordering_key")));
    }
    line("process", text(job, "process").to_owned());
    line("caller", text(job, "caller").to_owned());
    line("queued", utc(&job["queued"]));
    line("due", utc(&job["due"]));
    let delay = job["delay_us"]
        .as_i64()
        .filter(|delay| *delay >= 1000)
        .map(|_| format!(" ({} after its due time)", draw::took(&job["delay_us"])));
    line(
        "started",
        if job["started"].is_null() { String::new() } else { utc(&job["started"]) + &delay.unwrap_or_default() },
    );
    if let Some(waits) = job["waits_for"].as_str() {
        line(
            "waits for",
            format!(
                "{waits}{}",
                job["until"].as_str().map(|_| format!(" until {}", utc(&job["until"]))).unwrap_or_default()
            ),
        );
    }
    line(
        "ended",
        if job["ended"].is_null() {
            String::new()
        } else {
            let took = draw::took(&job["duration_us"]);
            utc(&job["ended"]) + &if took.is_empty() { ", never begun".to_owned() } else { format!(", took {took}") }
        },
    );
    if let Some(left) = job["remaining_s"].as_f64() {
        line("remaining", format!("about {left:.0} s"));
    }
    if let Some(progress) = job["progress"].as_f64() {
        line("progress", format!("{:.0}%", progress * 100.0));
    }
    let none = Vec::new();
    for note in job["notes"].as_array().unwrap_or(&none) {
        line("note", format!("{} {}", draw::dim(&draw::time(&note["at"])), text(note, "text")));
    }
    for past in job["history"].as_array().unwrap_or(&none) {
        let detail = past["detail"].as_str().map(|detail| format!(": {detail}")).unwrap_or_default();
        line(
            "history",
            format!("{} {} by {}{detail}", draw::dim(&draw::time(&past["at"])), text(past, "what"), text(past, "by")),
        );
    }
    if let Some(url) = job["notice"]["url"].as_str() {
        let told = match (job["notice"]["told"].as_str(), job["notice"]["next"].as_str()) {
            (Some(_), _) => format!("told {}", utc(&job["notice"]["told"])),
            (None, Some(_)) => format!("{} tries, next {}", job["notice"]["tries"], utc(&job["notice"]["next"])),
            (None, None) => format!("given up after {} tries", job["notice"]["tries"]),
        };
        let why = job["notice"]["detail"].as_str().map(|why| format!(" ({why})")).unwrap_or_default();
        line("notifies", format!("{url} · {told}{why}"));
    }
    println!();
    print_steps(job, full);
    println!();
    if !job["status"].is_null() {
        println!("  {} {}", draw::dim("answer"), job["status"]);
        let body = if full {
            serde_json::to_string_pretty(&job["reply"]).unwrap_or_default()
        } else {
            draw::short_json(&job["reply"], 100)
        };
        println!("  {} {body}", draw::dim("body  "));
        if job["result_until"].is_string() {
            println!(
                "  {} {}/result until {} UTC",
                draw::dim("at    "),
                text(job, "url"),
                draw::time(&job["result_until"])
            );
        }
    }
    if let Some(why) = job["failure"]["detail"].as_str() {
        println!("  {} {}: {why}", draw::paint("31", "why"), text(&job["failure"], "kind"));
        if matches!(text(job, "state"), "failed" | "rejected") {
            println!("  {} kanzlei retry {}", draw::dim("retry "), text(job, "id"));
        }
    }
}

fn utc(value: &Json) -> String {
    format!("{} UTC", draw::time(value))
}

/// Does something to jobs, by id or by what they have in common.
pub fn act(api: &Api, action: &str, ids: &[String], select: &Select, more: Json, json: bool) -> Done {
    if ids.is_empty() && select.is_empty() {
        return Err(Failure::Usage(
            "which jobs? give ids, or select them with --tag, --lane, --group, --state …".into(),
        ));
    }
    let mut body = json!({"action": action});
    if ids.is_empty() {
        body["meant"] = meant(select);
    } else {
        let ids = ids.iter().map(|id| meant_id(api, id)).collect::<Result<Vec<_>, _>>()?;
        body["ids"] = json!(ids);
    }
    if let (Json::Object(body), Json::Object(more)) = (&mut body, more) {
        body.extend(more);
    }
    let answer = api.post("/jobs/actions", &body)?.map_err(|refused| api.tell(refused))?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    let none = Vec::new();
    let (done, refused) = (answer["done"].as_array().unwrap_or(&none), answer["refused"].as_array().unwrap_or(&none));
    let did = match action {
        "cancel" => "cancelled, or asked to stop",
        "run-now" => "due now",
        "postpone" => "postponed",
        _ => "retried",
    };
    match done.as_slice() {
        [] if refused.is_empty() => println!("No jobs are meant by this."),
        [] => {}
        [one] => println!("{} {did}", one.as_str().unwrap_or_default()),
        many => println!("{} jobs {did}", many.len()),
    }
    for one in refused.iter().take(20) {
        println!("{} {}: {}", draw::paint("31", "not"), text(one, "id"), text(one, "why"));
    }
    if refused.len() > 20 {
        println!("{}", draw::dim(&format!("and {} more", refused.len() - 20)));
    }
    if refused.is_empty() { Ok(()) } else { Err(Failure::Bad) }
}

pub fn lanes(api: &Api, json: bool) -> Done {
    let answer = api.get("/lanes")?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    let none = Vec::new();
    let dash = |value: &Json| {
        if value.is_null() { "—".to_owned() } else { value.as_str().map_or_else(|| value.to_string(), str::to_owned) }
    };
    let rows: Vec<Vec<String>> = answer["lanes"]
        .as_array()
        .unwrap_or(&none)
        .iter()
        .map(|lane| {
            let name = draw::bold(text(lane, "name"))
                + &if lane["held"] == true { draw::paint("33", " held") } else { String::new() };
            vec![
                name,
                lane["queued"].to_string(),
                lane["running"].to_string(),
                lane["waiting"].to_string(),
                lane["scheduled"].to_string(),
                draw::took(&lane["oldest_us"]),
                dash(&lane["at_once"]),
                dash(&lane["pace"]),
                text(lane, "order").to_owned(),
                dash(&lane["length"]),
                format!(
                    "{} succeeded, {} rejected, {} failed",
                    lane["last_5min"]["succeeded"], lane["last_5min"]["rejected"], lane["last_5min"]["failed"]
                ),
                draw::took(&lane["last_5min"]["max_delay_us"]),
            ]
        })
        .collect();
    draw::table(
        &[
            "lane",
            "queued",
            "running",
            "waiting",
            "scheduled",
            "oldest",
            "at once",
            "pace",
            "order",
            "room",
            "last 5 min",
            "max delay",
        ],
        &rows,
    );
    Ok(())
}

pub fn lane(api: &Api, name: &str, action: LaneAction, json: bool) -> Done {
    let word = match action {
        LaneAction::Hold => "hold",
        LaneAction::Release => "release",
        LaneAction::Empty => "empty",
    };
    let path = format!("/lanes/{}/{word}", segment(name));
    let answer = api.post(&path, &Json::Null)?.map_err(|refused| api.tell(refused))?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    match action {
        LaneAction::Hold => println!("{name} is held: its jobs wait until `kanzlei lane release {name}`."),
        LaneAction::Release => println!("{name} goes on."),
        LaneAction::Empty => {
            println!("{} jobs of {name} were cancelled; those that had begun go on.", answer["cancelled"])
        }
    }
    Ok(())
}

pub fn timetables(api: &Api, json: bool) -> Done {
    let answer = api.get("/timetables")?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    let none = Vec::new();
    let listed = answer["timetables"].as_array().unwrap_or(&none);
    if listed.is_empty() {
        println!("No timetables. A workflow has one with the entry `timetable: \"0 6 * * MON-FRI\"`.");
        return Ok(());
    }
    for (at, timetable) in listed.iter().enumerate() {
        if at > 0 {
            println!();
        }
        println!(
            "{} {} · {}{}",
            draw::bold(text(timetable, "workflow")),
            timetable["number"],
            text(timetable, "when"),
            if timetable["paused"] == true { draw::paint("33", " · paused") } else { String::new() }
        );
        println!("    {}", draw::dim(text(timetable, "words")));
        println!(
            "    {} {} · {} {}",
            draw::dim("missed"),
            text(timetable, "missed"),
            draw::dim("overlap"),
            text(timetable, "overlap")
        );
        let next = timetable["next"].as_array().unwrap_or(&none);
        if next.is_empty() {
            println!(
                "    {} none {}",
                draw::dim("next"),
                if timetable["paused"] == true { "while it is paused" } else { "any more" }
            );
        }
        for next in next {
            println!(
                "    {} {}  {}",
                draw::dim("next"),
                text(next, "zone"),
                draw::dim(&format!("{} UTC", draw::time(&next["due"])))
            );
        }
        for last in timetable["last"].as_array().unwrap_or(&none).iter().take(5) {
            let state = last["state"].as_str().map_or_else(|| text(last, "became").to_owned(), draw::state);
            let hand = if text(last, "became") == "by-hand" { " by hand" } else { "" };
            println!(
                "    {} {} UTC  {state}{hand}  {}",
                draw::dim("last"),
                draw::time(&last["due"]),
                text(last, "job")
            );
        }
    }
    Ok(())
}

pub fn timetable(api: &Api, workflow: &str, number: u16, action: TimetableAction, json: bool) -> Done {
    let word = match action {
        TimetableAction::Pause => "pause",
        TimetableAction::Resume => "resume",
        TimetableAction::Fire => "fire",
    };
    let path = format!("/timetables/{}/{number}/{word}", segment(workflow));
    let answer = api.post(&path, &Json::Null)?.map_err(|refused| api.tell(refused))?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    match action {
        TimetableAction::Pause => {
            println!("{workflow} {number} is paused until `kanzlei timetable resume {workflow} {number}`.")
        }
        TimetableAction::Resume => println!("{workflow} {number} goes on; times that passed meanwhile are left out."),
        TimetableAction::Fire => {
            println!("queued: {}\nlook at it with: kanzlei job {}", text(&answer, "url"), text(&answer, "job"))
        }
    }
    Ok(())
}
