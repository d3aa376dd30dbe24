//! `try`: runs a draft or a file once on the service, simulating what changes something.

use std::io::Read;
use std::path::{Path, PathBuf};

use kanzlei_api::deploys::Document as Text;
use kanzlei_api::drafts::{Draft, DraftName};
use kanzlei_api::runs::{RefusalFilter, RefusalPage};
use kanzlei_api::trials::{Trial, TrialCaller, TrialChange, TrialEffect, TrialRequest, Trials};
use kanzlei_api::workflows::Workflow;
use kanzlei_lang::diagnostic::Diagnostic;
use kanzlei_lang::document::{self, Document, Source};
use kanzlei_model::run::RunState;
use serde_json::{Map, Value as Json};

use super::runs::{meant, print_steps, print_value};
use super::{deliveries, listing, print_json, segment, stepwise};
use crate::api::Api;
use crate::args::{Target, Try};
use crate::{Done, Error, draw, files};

pub fn run(api: &Api, args: &Try, json: bool) -> Done {
    let mut request = TrialRequest {
        documents: Vec::new(),
        files: Default::default(),
        drafts: Vec::new(),
        workflow: String::new(),
        input: Json::Null,
        exact: args.exact,
        run: None,
        delivery: None,
        change: args.change.as_deref().map(change).transpose()?,
        recorded: args.recorded.clone(),
        stepwise: args.interactive,
        only: args.step.clone().unwrap_or_default(),
        from: args.from.clone().unwrap_or_default(),
        until: args.until.clone().unwrap_or_default(),
        live: args.live,
        real: args.real.clone(),
        simulated: args.simulate.clone(),
        caller: args.caller.as_deref().map(caller).transpose()?,
        stubs: args.stub.as_deref().map(text_of).transpose()?.unwrap_or_default(),
    };
    let chosen = target(api, &args.target)?;
    let before = match (&args.case, &args.refusal) {
        (Some(case), _) => of_case(args, &chosen.workflow, case)?,
        (None, Some(refusal)) => of_refusal(api, refusal)?,
        (None, None) => Map::new(),
    };
    request.exact |= args.case.is_some();
    request.input = input(args, &chosen.text, before)?;
    if let Some(run) = &args.run {
        let id = meant(api, run)?;
        request.run = Some(id.parse().map_err(|_| Error::Usage(format!("`{id}` is not the id of a run")))?);
    }
    if let Some(delivery) = &args.delivery {
        request.delivery = Some(deliveries::id_of(api, delivery)?);
    }
    (request.workflow, request.drafts) = (chosen.workflow, chosen.drafts);
    (request.documents, request.files) = (chosen.documents, chosen.files);
    let mut trial: Trial = answered(api, "/trials", &request, &request.documents, json)?;
    if args.interactive {
        trial = stepwise::to_its_end(api, trial)?;
    }
    if json {
        print_json(&trial);
    } else {
        print(&trial, args.full);
    }
    if matches!(trial.state, RunState::Failed | RunState::Rejected) { Err(Error::Bad) } else { Ok(()) }
}

/// A changed row from a file.
fn change(file: &Path) -> Result<TrialChange, Error> {
    serde_json::from_str(&text_of(file)?).map_err(|error| {
        Error::Usage(format!("--change {}: {error}; write it as JSON with `before` and `after`", file.display()))
    })
}

fn caller(text: &str) -> Result<TrialCaller, Error> {
    serde_json::from_str(text).map_err(|error| {
        Error::Usage(format!("--caller: {error}; write it as JSON with `name`, `key`, `owner` and `claims`"))
    })
}

/// Lists the trials that the service keeps, or shows one.
pub fn kept(api: &Api, id: Option<&str>, full: bool, json: bool) -> Done {
    if let Some(id) = id {
        let trial: Trial = api.get(&format!("/trials/{}", segment(id)))?;
        match json {
            true => print_json(&trial),
            false => print(&trial, full),
        }
        return Ok(());
    }
    let kept: Trials = api.get("/trials")?;
    if json {
        print_json(&kept);
    } else if kept.trials.is_empty() {
        println!("No trials. Run one with: kanzlei try NAME");
    } else {
        let rows = kept.trials.iter().map(|trial| {
            let status = trial.status.map(|status| status.to_string()).unwrap_or_default();
            let state = draw::state(trial.state.name());
            vec![
                trial.id.to_string(),
                draw::time(trial.started),
                trial.workflow.clone(),
                if trial.entry == "trial" { "—".to_owned() } else { trial.entry.clone() },
                state,
                status,
                trial.operator.clone(),
            ]
        });
        draw::table(&["trial", "started (UTC)", "workflow", "called at", "state", "status", "by"], rows);
    }
    Ok(())
}

pub fn text_of(path: &Path) -> Result<String, Error> {
    if path == Path::new("-") {
        let mut text = String::new();
        std::io::stdin().read_to_string(&mut text).map_err(|error| Error::Usage(format!("standard input: {error}")))?;
        return Ok(text);
    }
    std::fs::read_to_string(path).map_err(|error| Error::Usage(format!("{}: {error}", path.display())))
}

/// What a workflow with errors is answered with shows its findings.
pub fn answered<T: serde::de::DeserializeOwned>(
    api: &Api,
    path: &str,
    request: &impl serde::Serialize,
    documents: &[Text],
    json: bool,
) -> Result<T, Error> {
    let refused = match api.try_post::<T>(path, request)? {
        Ok(answer) => return Ok(answer),
        Err(refused) => refused,
    };
    let found: Vec<Diagnostic> = serde_json::from_value(refused.problem["diagnostics"].clone()).unwrap_or_default();
    if !found.is_empty() && !json {
        let own = |path: &str| documents.iter().find(|d| d.path == path).map(|d| d.text.clone());
        draw::diagnostics(&found, &own);
    }
    Err(api.error(refused))
}

/// A workflow that is tried, with all it sees beside what is live.
#[derive(Default)]
pub struct Chosen {
    pub workflow: String,
    /// Its text.
    pub text: String,
    pub documents: Vec<Text>,
    pub files: std::collections::BTreeMap<String, String>,
    pub drafts: Vec<DraftName>,
}

/// What is tried: a file with those beside it, a draft, or what is live.
pub fn target(api: &Api, args: &Target) -> Result<Chosen, Error> {
    let mut chosen = Chosen::default();
    for name in &args.draft {
        let (kind, name) = name.split_once('/').unwrap_or(("workflow", name));
        chosen.drafts.push(DraftName { kind: kind.to_owned(), name: name.to_owned() });
    }
    let file = PathBuf::from(&args.target);
    if !file.is_file() {
        let (name, live) = args.target.strip_suffix("@live").map_or((args.target.as_str(), false), |name| (name, true));
        chosen.workflow = name.to_owned();
        let draft = match live {
            true => None,
            false => match api.try_get::<Draft>(&format!("/drafts/workflow/{}", segment(name)))? {
                Ok(draft) => Some(draft),
                Err(refused) if refused.status == 404 => None,
                Err(refused) => return Err(api.error(refused)),
            },
        };
        if let Some(draft) = draft {
            if !chosen.drafts.iter().any(|known| known.kind == "workflow" && known.name == name) {
                chosen.drafts.push(DraftName { kind: "workflow".into(), name: name.to_owned() });
            }
            chosen.text = draft.text;
            return Ok(chosen);
        }
        chosen.text = api.get::<Workflow>(&format!("/workflows/{}", segment(name)))?.source;
        return Ok(chosen);
    }
    let mut paths = vec![file.clone()];
    paths.extend(args.with.iter().cloned());
    let bundle = files::bundle(&paths)?;
    let own = files::name(&file);
    let text = bundle.documents.iter().find(|source| source.path == own).map(|source| source.text.clone());
    chosen.text = text.unwrap_or_default();
    chosen.documents =
        bundle.documents.into_iter().map(|source| Text { path: source.path, text: source.text }).collect();
    chosen.files = bundle.files;
    match document::read(&Source::new(&own, &chosen.text), &|_| None).0 {
        Some(Document::Workflow(workflow)) => chosen.workflow = workflow.name.text.clone(),
        _ => return Err(Error::Usage(format!("{own} is no workflow that can be read; try `kanzlei check {own}`"))),
    }
    Ok(chosen)
}

/// The input of a case of this name, among the documents beside the target.
fn of_case(args: &Try, workflow: &str, name: &str) -> Result<Map<String, Json>, Error> {
    let target = Path::new(&args.target.target);
    let folder = if target.is_file() { files::folder_of(target) } else { PathBuf::from(".") };
    let mut paths = vec![folder];
    paths.extend(args.target.with.iter().cloned());
    let (_, rehearsals) = kanzlei_rehearsal::check(&files::bundle(&paths)?);
    let own = rehearsals.iter().filter(|prepared| prepared.plan().name == workflow);
    let all: Vec<_> = own.flat_map(|prepared| (0..prepared.len()).map(move |index| (prepared, index))).collect();
    let Some((prepared, index)) = all.iter().find(|(prepared, index)| prepared.name(*index) == name) else {
        let near = kanzlei_lang::suggest::nearest(name, all.iter().map(|(prepared, index)| prepared.name(*index)));
        let hint =
            near.map_or_else(|| "name its document with --with".to_owned(), |near| format!("did you mean `{near}`?"));
        return Err(Error::Usage(format!("there is no case `{name}` of `{workflow}`; {hint}")));
    };
    let input = prepared.given(*index).map_err(|problem| {
        Error::Failed(format!("the request of that case is refused: {}", problem.detail.unwrap_or(problem.title)))
    })?;
    Ok(input.to_serde().as_object().cloned().unwrap_or_default())
}

/// The members of the body of a refused request.
fn of_refusal(api: &Api, request_id: &str) -> Result<Map<String, Json>, Error> {
    let filter = RefusalFilter { request_id: Some(request_id.to_owned()), ..RefusalFilter::default() };
    let page: RefusalPage = api.get(&listing("refusals", &filter))?;
    let refusal = page.refusals.first();
    let refusal = refusal.ok_or_else(|| Error::Failed(format!("no refused request has the id {request_id}")))?;
    let text = refusal.body.text.as_deref().unwrap_or_default();
    serde_json::from_str(text).map_err(|_| {
        Error::Failed("its body is not kept, or is no JSON object; give the input as KEY=VALUE".to_owned())
    })
}

/// The input from a file and from `KEY=VALUE`, by the types that the workflow declares, over what there was before.
fn input(args: &Try, text: &str, before: Map<String, Json>) -> Result<Json, Error> {
    let mut given = before;
    if let Some(path) = &args.input {
        let read: Map<String, Json> = serde_json::from_str(&text_of(path)?)
            .map_err(|error| Error::Usage(format!("{} holds no JSON object: {error}", path.display())))?;
        given.extend(read);
    }
    let declared = match document::read(&Source::new("w.yaml", text), &|_| None).0 {
        Some(Document::Workflow(workflow)) => workflow.input.clone(),
        _ => Vec::new(),
    };
    for pair in &args.inputs {
        let Some((key, value)) = pair.split_once('=') else {
            return Err(Error::Usage(format!("`{pair}` is not KEY=VALUE")));
        };
        let schema = declared.iter().find(|property| property.name.text == key).map(|property| &property.schema);
        let is_text = schema.is_none_or(|schema| schema["type"] == "string");
        let value = match is_text {
            true => Json::from(value),
            false => serde_json::from_str(value).unwrap_or_else(|_| Json::from(value)),
        };
        given.insert(key.to_owned(), value);
    }
    Ok(if given.is_empty() { Json::Null } else { Json::Object(given) })
}

fn print(trial: &Trial, full: bool) {
    println!(
        "{} · trial · {} · {}",
        draw::bold(&trial.workflow),
        draw::state(trial.state.name()),
        draw::took(trial.duration_us)
    );
    println!("{} {}\n", draw::dim("trial   "), trial.id);
    print_steps(&trial.input, &trial.sheet, &trial.steps, full);
    println!();
    let status = trial.status.map_or_else(|| "none".into(), |status| status.to_string());
    println!("  {} {status}", draw::dim("answer"));
    print_value("body  ", &trial.reply, 2, full);
    if trial.effects.is_empty() {
        return;
    }
    println!();
    let mode = |effect: &TrialEffect| match effect.mode.as_str() {
        "real" => draw::paint("33", "real"),
        other => draw::dim(other),
    };
    draw::table(
        &["asked of others", "how", "what"],
        trial.effects.iter().map(|effect| vec![effect.name.clone(), mode(effect), effect.what.clone()]),
    );
    if trial.effects.iter().any(|effect| effect.mode == "simulated") {
        println!("{}", draw::dim("To perform one: --real NAME. To answer it yourself: --stub FILE."));
    }
    println!("{}", draw::dim(&format!("To keep this as a case: kanzlei record {} > cases/NAME.yaml", trial.id)));
}
