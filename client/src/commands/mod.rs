//! One function per command.

mod against;
mod begin;
mod call;
mod documents;
mod jobs;
mod lend;
mod live;
mod local;
mod record;
mod refusals;
mod rehearse;
mod runs;
mod secrets;

use serde_json::json;

use crate::Done;
use crate::api::Api;
use crate::args::{Args, Command, Format, Secrets, Service, Timetables};

pub fn run(args: Args) -> Done {
    let json = args.place.json;
    let api = || Api::new(&args.place);
    match args.command {
        Command::Check { paths, format } => {
            documents::check(&paths, if json && format == Format::Text { Format::Json } else { format })
        }
        Command::New { name, like, folder } => begin::new(&name, like.as_deref(), &folder),
        Command::Services => begin::services(&api()?, json),
        Command::Service { what: Service::Add { name, api, base, folder } } => {
            begin::add_service(&name, &api, base.as_deref(), &folder)
        }
        Command::Service { what: Service::Show { name } } => begin::show_service(&api()?, &name, json),
        Command::Service { what: Service::Retire { name } } => live::retire_service(&api()?, &name, json),
        Command::Openapi => {
            print_json(&api()?.get("/openapi")?);
            Ok(())
        }
        Command::Rehearse(args) => rehearse::rehearse(&args, api, json),
        Command::Record { id, name } => record::record(&api()?, &id, name.as_deref(), args.place.json),
        Command::Deploy { paths, unrehearsed } => documents::deploy(&api()?, &paths, unrehearsed, json),
        Command::Secrets { what: None } => secrets::list(&api()?, json),
        Command::Secrets { what: Some(Secrets::Set { name }) } => secrets::set(&api()?, &name),
        Command::Secrets { what: Some(Secrets::Remove { name }) } => secrets::remove(&api()?, &name),
        Command::Retire { name } => live::retire(&api()?, &name, json),
        Command::List => live::list(&api()?, json),
        Command::Show { name, source } => live::show(&api()?, &name, source, json),
        Command::Call { name, inputs, headers, curl } => call::call(&api()?, &name, &inputs, headers, curl, json),
        Command::Runs { workflow, failed, state, request_id, limit } => {
            let state = if failed { Some("failed".to_owned()) } else { state };
            runs::list(&api()?, [("workflow", workflow), ("state", state), ("request_id", request_id)], limit, json)
        }
        Command::Run { id, full } => runs::show(&api()?, &id, full, json),
        Command::Jobs(args) => jobs::list(&api()?, &args, json),
        Command::Job { id, follow, full } => jobs::show(&api()?, &id, follow, full, json),
        Command::Cancel { ids, select } => jobs::act(&api()?, "cancel", &ids, &select, json!({}), json),
        Command::RunNow { ids, select } => jobs::act(&api()?, "run-now", &ids, &select, json!({}), json),
        Command::Postpone { due, ids, select } => {
            jobs::act(&api()?, "postpone", &ids, &select, json!({"due": due}), json)
        }
        Command::Retry { ids, select, from_start } => {
            let from = if from_start { "start" } else { "failed-step" };
            jobs::act(&api()?, "retry", &ids, &select, json!({"from": from}), json)
        }
        Command::Refusals { workflow, status, request_id, before, limit } => {
            let status = status.map(|status| status.to_string());
            let filters = [("workflow", workflow), ("status", status), ("request_id", request_id), ("before", before)];
            refusals::list(&api()?, filters, limit, json)
        }
        Command::Find { request_id } => refusals::find(&api()?, &request_id, json),
        Command::Lanes => jobs::lanes(&api()?, json),
        Command::Lane { action, name } => jobs::lane(&api()?, &name, action, json),
        Command::Timetables { what: None } => jobs::timetables(&api()?, json),
        Command::Timetables { what: Some(Timetables::Preview { pattern, zone, from, count }) } => {
            local::preview(&pattern, &zone, from.as_deref(), count, json)
        }
        Command::Timetable { action, workflow, number } => jobs::timetable(&api()?, &workflow, number, action, json),
        Command::Eval { expression, with } => local::eval(&expression, with.as_deref(), json),
        Command::Schema { kind } => local::schema(&kind),
    }
}

/// JSON for a person or a program: indented on a terminal, else on one line.
fn print_json(value: &serde_json::Value) {
    use std::io::IsTerminal;
    let text = if std::io::stdout().is_terminal() {
        serde_json::to_string_pretty(value)
    } else {
        serde_json::to_string(value)
    };
    println!("{}", text.unwrap_or_default());
}

/// The path of a listing in the control API, with the filters that are set.
fn filtered(listing: &str, limit: u32, filters: &[(&str, Option<String>)]) -> String {
    let set = filters.iter().filter_map(|(name, value)| Some(format!("&{name}={}", segment(value.as_deref()?))));
    format!("/{listing}?limit={limit}{}", set.collect::<String>())
}

/// One part of a path in the control API.
fn segment(name: &str) -> String {
    name.bytes()
        .map(|b| {
            if b.is_ascii_alphanumeric() || b"-_.".contains(&b) {
                char::from(b).to_string()
            } else {
                format!("%{b:02X}")
            }
        })
        .collect()
}
