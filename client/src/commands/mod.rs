//! One function per command.

mod against;
mod alerts;
mod assist;
mod begin;
mod call;
mod coming;
mod databases;
mod deliveries;
mod documents;
mod drafts;
mod edit;
mod erase;
mod forecast;
mod form;
mod gradual;
mod jobs;
mod keys;
mod lanes;
mod lend;
mod libraries;
mod live;
mod local;
mod log;
mod operators;
mod overview;
pub mod parts;
mod preview;
mod record;
mod refusals;
mod rehearse;
mod repair;
mod retrace;
mod runs;
mod sample;
mod secrets;
mod settings;
mod stepwise;
mod timetables;
mod transfer;
mod trial;

use std::path::Path;

use kanzlei_api::audit::AuditFilter;
use kanzlei_api::erasures::NewErasure;
use kanzlei_api::keys::{KeyRotation, NewKey, UsageFilter};
use kanzlei_api::lanes::ForecastQuery;
use kanzlei_api::runs::{RefusalFilter, RunFilter};
use kanzlei_model::gradual::Rules;

use crate::api::Api;
use crate::args::{
    AlertAction, Args, Command, Databases, Draft, Format, Keys, Operators, Secrets, Service, Settings, Timetables,
};
use crate::{Done, Error};

pub fn run(args: Args) -> Done {
    let json = args.place.json;
    let api = || Api::new(&args.place);
    match args.command {
        Command::Check { paths, format } => {
            documents::check(&paths, if json && format == Format::Text { Format::Json } else { format })
        }
        Command::Examples { need, show } => begin::gallery(&need, show.as_deref(), json),
        Command::New { name, like, folder } => begin::new(&name, like.as_deref(), &folder),
        Command::Services => begin::services(&api()?, json),
        Command::Service { what: Service::Add { name, api, base, folder } } => {
            begin::add_service(&name, &api, base.as_deref(), &folder)
        }
        Command::Service { what: Service::Sample(args) } => sample::describe(api, &args),
        Command::Service { what: Service::Show { name } } => begin::show_service(&api()?, &name, json),
        Command::Service { what: Service::Retire { name } } => live::retire_service(&api()?, &name, json),
        Command::Openapi => {
            print_json(&api()?.get::<kanzlei_api::Json>("/openapi")?);
            Ok(())
        }
        Command::Rehearse(args) => rehearse::rehearse(&args, api, json),
        Command::Record { id, name, draft } => record::record(&api()?, &id, name.as_deref(), draft, args.place.json),
        Command::Deploy { paths, unrehearsed, draft, over, set, dry_run, share } => {
            let gradual = (!share.is_empty()).then(|| share.over(Rules::default()));
            let how = documents::How { unrehearsed, over, preview: dry_run, set, gradual };
            documents::deploy(&api()?, &paths, &draft, &how, json)
        }
        Command::Gradual { what } => gradual::run(&api()?, what, json),
        Command::Start { name, inputs, follow } => jobs::start(&api()?, &name, &inputs, follow, json),
        Command::Export(args) => transfer::export(&api()?, &args, json),
        Command::Import(args) => transfer::import(&api()?, &args, json),
        Command::Preview(args) => preview::run(&api()?, &args, json),
        Command::Trials { id, full } => trial::kept(&api()?, id.as_deref(), full, json),
        Command::Retrace(args) => retrace::run(&api()?, args, json),
        Command::Try(args) => trial::run(&api()?, &args, json),
        Command::History { name } => drafts::history(&api()?, &name, json),
        Command::Diff { before, after } => drafts::diff(api, &before, &after, json),
        Command::Restore { revision, deploy } => drafts::restore(&api()?, &revision, deploy, json),
        Command::Drafts => drafts::list(&api()?, json),
        Command::Draft { what: Draft::Pull { name, to } } => drafts::pull(&api()?, &name, to.as_deref()),
        Command::Draft { what: Draft::Push { paths, merge } } => drafts::push(&api()?, &paths, merge, json),
        Command::Draft { what: Draft::Discard { name } } => drafts::discard(&api()?, &name, json),
        Command::Databases { what: None } => databases::list(&api()?, json),
        Command::Databases { what: Some(Databases::Describe { name }) } => databases::describe(&api()?, &name, json),
        Command::Databases { what: Some(Databases::Prepare { name, apply }) } => {
            databases::prepare(&api()?, &name, apply, json)
        }
        Command::Keys { what: None | Some(Keys::List) } => keys::list(&api()?, json),
        Command::Keys { what: Some(Keys::Add { name, allowance, owner, note, workflows, tags, days }) } => {
            keys::add(&api()?, &NewKey { name, owner, note, workflows, tags, allowance, days }, json)
        }
        Command::Keys { what: Some(Keys::Rotate { name, days, overlap }) } => {
            keys::rotate(&api()?, &name, &KeyRotation { days, overlap_hours: overlap }, json)
        }
        Command::Keys { what: Some(Keys::Revoke { name }) } => keys::revoke(&api()?, &name),
        Command::Operators { what: None | Some(Operators::List) } => operators::list(&api()?, json),
        Command::Operators { what: Some(Operators::Add { name, days, role }) } => {
            operators::add(&api()?, &name, days, &role, json)
        }
        Command::Sessions { end, end_all } => operators::sessions(&api()?, end.as_deref(), end_all, json),
        Command::Audit { who, text, since, before, last } => {
            let filter = AuditFilter { who, text, since, before, limit: Some(last) };
            operators::audit(&api()?, &filter, json)
        }
        Command::Operators { what: Some(Operators::Rotate { name, days }) } => {
            operators::rotate(&api()?, &name, days, json)
        }
        Command::Operators { what: Some(Operators::Revoke { name }) } => operators::revoke(&api()?, &name),
        Command::Settings { what: None } => settings::list(&api()?, json),
        Command::Settings { what: Some(Settings::Set { name, value }) } => {
            settings::set(&api()?, &name, Some(&value), json)
        }
        Command::Settings { what: Some(Settings::Unset { name }) } => settings::set(&api()?, &name, None, json),
        Command::Secrets { what: None } => secrets::list(&api()?, json),
        Command::Secrets { what: Some(Secrets::Set { name, purposes }) } => secrets::set(&api()?, &name, purposes),
        Command::Secrets { what: Some(Secrets::RotateKey) } => secrets::rotate(&api()?, json),
        Command::Secrets { what: Some(Secrets::Remove { name }) } => secrets::remove(&api()?, &name),
        Command::Retire { name } => live::retire(&api()?, &name, json),
        Command::List { tag } => live::list(&api()?, tag.as_deref(), json),
        Command::Show { name, .. } if name.contains(['@', '/']) => drafts::show_text(&api()?, &name, json),
        Command::Show { name, stats: Some(since), revision, .. } => {
            live::statistics(&api()?, &name, since, revision, json)
        }
        Command::Show { name, source, .. } => live::show(&api()?, &name, source, json),
        Command::Call { name, inputs, headers, curl, output, key } => {
            let how = call::How { key: key.as_deref(), headers, curl, output: output.as_deref(), json };
            call::call(&api()?, &name, &inputs, &how)
        }
        Command::Runs { workflow, which, request_id, before, limit } => {
            let filter = RunFilter { workflow, request_id, before, limit: Some(limit), ..which.filter() };
            runs::list(&api()?, &filter, json)
        }
        Command::Run(args) => runs::show(&api()?, &args, json),
        Command::Erase { caller, tag, text, yes } => {
            erase::erase(&api()?, NewErasure { caller, tag, text, preview: true }, yes, json)
        }
        Command::Resume => repair::resume(&api()?),
        Command::OfJobs(command) => repair::run(&api()?, command, json),
        Command::Refusals { workflow, status, request_id, before, limit, names } => {
            let pseudonyms = names.pseudonyms();
            let filter = RefusalFilter { workflow, status, request_id, before, limit: Some(limit), pseudonyms };
            refusals::list(&api()?, &filter, json)
        }
        Command::Watches => timetables::watches(&api()?, json),
        Command::Issuers => keys::issuers(&api()?, json),
        Command::Add { from, name, into } => parts::add(&from, name.as_deref(), &into),
        Command::Update { parts, force, into } => parts::update(&parts, force, &into),
        Command::Outdated { into } => parts::outdated(&into, json),
        Command::Verify { into } => parts::verify(&into, json),
        Command::Parts { remove: Some(name), into } => parts::remove(&name, &into),
        Command::Parts { remove: None, into } => parts::list(&into, json),
        Command::Mcp { allow_deploy } => assist::serve(api()?, allow_deploy),
        Command::Libraries { retire: Some(name) } => libraries::retire(&api()?, &name),
        Command::Libraries { retire: None } => libraries::list(&api()?, json),
        Command::Pseudonym { name } => keys::pseudonym(&api()?, &name, json),
        Command::Usage { key, days, csv, names } => {
            let filter = UsageFilter { key, days: Some(days), pseudonyms: names.pseudonyms() };
            keys::usage(&api()?, &filter, csv, json)
        }
        Command::Deliveries(which) => deliveries::list(&api()?, &which.filter(), json),
        Command::Delivery { id } => deliveries::show(&api()?, &id, json),
        Command::Redeliver(asked) => deliveries::redeliver(&api()?, asked, json),
        Command::Propose { name } => deliveries::propose(&api()?, &name, json),
        Command::SendWebhook(asked) => deliveries::send(&api()?, &asked, json),
        Command::Find { request_id } => refusals::find(&api()?, &request_id, json),
        Command::Coming { span } => coming::list(&api()?, span.minutes(), json),
        Command::Alerts => alerts::list(&api()?, json),
        Command::Alert { what: AlertAction::Silence { name, span, reason } } => {
            alerts::silence(&api()?, &name, span, reason)
        }
        Command::Alert { what: AlertAction::Retire { name } } => alerts::retire(&api()?, &name),
        Command::Alert { what: AlertAction::Speak { name } } => alerts::unsilence(&api()?, &name),
        Command::Log { level, span } => log::level(&api()?, level, span, json),
        Command::Overview { minutes, workflow } => overview::show(&api()?, minutes, workflow, json),
        Command::Lanes => lanes::list(&api()?, json),
        Command::Forecast { lane, at_once, pace, arriving } => {
            forecast::show(&api()?, &lane, &ForecastQuery { at_once, pace, arriving }, json)
        }
        Command::Lane { action, name } => lanes::change(&api()?, &name, action, json),
        Command::Timetables { what: None } => timetables::list(&api()?, json),
        Command::Timetables { what: Some(Timetables::Preview { pattern, zone, from, count }) } => {
            local::preview(&pattern, &zone, from.as_deref(), count, json)
        }
        Command::Timetable { action, workflow, number } => timetables::change(&api()?, &workflow, number, action, json),
        Command::Eval { expression, script, with } => {
            local::eval(expression.as_deref(), script.as_deref(), with.as_deref(), json)
        }
        Command::Completions { shell } => local::completions(shell),
        Command::Manual { folder } => local::manual(&folder),
        Command::Schema { kind } => local::schema(&kind),
        Command::Explain { code } => local::explain(code.as_deref(), json),
        Command::LanguageServer => crate::language_server::run(),
        Command::Rename { what, dry_run } => match what.as_slice() {
            [folder, place, new] => edit::rename(Path::new(folder), place, new, dry_run, json),
            [from, to] => live::rename(&api()?, from, to, dry_run, json),
            _ => Err(Error::Usage("say what is renamed, and its new name".into())),
        },
        Command::Outline { path, step } => edit::outline(&path, step.as_deref(), json),
        Command::Edit { path, what, dry_run } => edit::edit(&path, what, dry_run, json),
    }
}

/// JSON for a person or a program: indented on a terminal, else on one line.
fn print_json(value: &impl serde::Serialize) {
    use std::io::IsTerminal;
    let text = if std::io::stdout().is_terminal() {
        serde_json::to_string_pretty(value)
    } else {
        serde_json::to_string(value)
    };
    println!("{}", text.unwrap_or_default());
}

/// The path of a listing in the control API, with the filters that are set.
fn listing(name: &str, filter: &impl serde::Serialize) -> String {
    match serde_urlencoded::to_string(filter).unwrap_or_default().as_str() {
        "" => format!("/{name}"),
        query => format!("/{name}?{query}"),
    }
}

/// What a path may not hold as it is, beside letters, digits and `-_.` (RFC 3986 §2.3).
const RESERVED: &percent_encoding::AsciiSet =
    &percent_encoding::NON_ALPHANUMERIC.remove(b'-').remove(b'_').remove(b'.');

/// One part of a path or query, percent-encoded.
fn segment(name: &str) -> String {
    percent_encoding::utf8_percent_encode(name, RESERVED).to_string()
}

/// An action as a path names it.
fn word(action: &impl serde::Serialize) -> String {
    serde_json::to_value(action).ok().and_then(|word| word.as_str().map(str::to_owned)).unwrap_or_default()
}
