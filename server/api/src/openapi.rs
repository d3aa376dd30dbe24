//! The OpenAPI 3.1 document of the control API, made from the types of this crate.

use kanzlei_model::problem::Problem;
use schemars::generate::{SchemaGenerator, SchemaSettings};
use schemars::{JsonSchema, Schema};
use serde_json::{Map, json};

use crate::{
    Json, alerts, audit, coming, databases, deliveries, deploys, drafts, erasures, examples, gradual, issuers, jobs,
    keys, lanes, language, libraries, log, operators, overview, previews, rehearsals, requests, runs, scratch, secrets,
    services, session, settings, statistics, timetables, transfer, trials, watches, workflows,
};

/// One operation, as the document describes it.
struct Operation {
    method: &'static str,
    path: &'static str,
    id: &'static str,
    summary: &'static str,
    query: Option<Schema>,
    body: Option<Schema>,
    /// The status of success, and its body.
    status: u16,
    answer: Option<Schema>,
    /// Statuses of problems, beside 400, 401, 403, 429 and 503.
    problems: &'static [u16],
}

struct Operations {
    generator: SchemaGenerator,
    all: Vec<Operation>,
}

impl Operations {
    fn add(
        &mut self,
        method: &'static str,
        path: &'static str,
        id: &'static str,
        summary: &'static str,
    ) -> &mut Operation {
        self.all.push(Operation {
            method,
            path,
            id,
            summary,
            query: None,
            body: None,
            status: 204,
            answer: None,
            problems: &[],
        });
        let last = self.all.len() - 1;
        &mut self.all[last]
    }

    fn get<T: JsonSchema>(&mut self, path: &'static str, id: &'static str, summary: &'static str) -> &mut Operation {
        let answer = self.generator.subschema_for::<T>();
        let operation = self.add("get", path, id, summary);
        (operation.status, operation.answer) = (200, Some(answer));
        operation
    }

    /// A filtered listing.
    fn list<Q: JsonSchema, T: JsonSchema>(
        &mut self,
        path: &'static str,
        id: &'static str,
        summary: &'static str,
    ) -> &mut Operation {
        // Members of a query stand on their own: their schema is no part of the components.
        let query = SchemaSettings::draft2020_12().into_generator().into_root_schema_for::<Q>();
        let operation = self.get::<T>(path, id, summary);
        operation.query = Some(query);
        operation
    }

    fn post<B: JsonSchema, T: JsonSchema>(
        &mut self,
        path: &'static str,
        id: &'static str,
        summary: &'static str,
    ) -> &mut Operation {
        let (body, answer) = (self.generator.subschema_for::<B>(), self.generator.subschema_for::<T>());
        let operation = self.add("post", path, id, summary);
        (operation.body, operation.status, operation.answer) = (Some(body), 200, Some(answer));
        operation
    }

    /// An action that needs no body.
    fn act<T: JsonSchema>(&mut self, path: &'static str, id: &'static str, summary: &'static str) -> &mut Operation {
        let answer = self.generator.subschema_for::<T>();
        let operation = self.add("post", path, id, summary);
        (operation.status, operation.answer) = (200, Some(answer));
        operation
    }
}

impl Operation {
    fn problems(&mut self, statuses: &'static [u16]) -> &mut Self {
        self.problems = statuses;
        self
    }
}

/// The operations on runs, jobs, lanes and timetables.
fn runs_and_jobs(all: &mut Operations) {
    all.post::<requests::PlainRequest, requests::PlainAnswer>(
        "/requests",
        "sendRequest",
        "Sends a request to the public listener as a client would",
    )
    .problems(&[422, 502]);
    all.list::<runs::RunFilter, runs::RunPage>("/runs", "runs", "Past runs, newest first").problems(&[404, 422]);
    all.get::<runs::Run>("/runs/{id}", "run", "One run with what each step did").problems(&[404]);
    all.list::<runs::CaseName, runs::RecordedCase>(
        "/runs/{id}/case",
        "recordCase",
        "A case that shows what the run did",
    )
    .problems(&[404]);
    all.post::<runs::CaseName, runs::AddedCase>(
        "/runs/{id}/case",
        "addCaseOfRun",
        "Adds the case to the draft of the workflow's cases",
    )
    .problems(&[404, 409, 422]);
    all.list::<runs::ScopeQuery, runs::RunScope>(
        "/runs/{id}/scope",
        "runScope",
        "What a step of a run knew when it began, and an expression evaluated there",
    )
    .problems(&[404, 422]);
    all.get::<runs::RunComparison>(
        "/runs/{id}/comparison/{other}",
        "compareRuns",
        "What differs from one run to another, step by step",
    )
    .problems(&[404]);
    all.list::<deliveries::DeliveryFilter, deliveries::DeliveryPage>(
        "/deliveries",
        "deliveries",
        "Messages of senders as they arrived, newest first",
    );
    all.get::<deliveries::Delivery>("/deliveries/{id}", "delivery", "A message with its headers and body")
        .problems(&[404, 409]);
    all.post::<runs::CaseName, runs::AddedCase>(
        "/deliveries/{id}/case",
        "addCaseOfDelivery",
        "Adds a case with the message to the draft of its workflow's cases",
    )
    .problems(&[404, 409, 422]);
    all.post::<deliveries::ProcessDeliveries, deliveries::Processed>(
        "/deliveries/process",
        "processDeliveries",
        "Queues jobs for messages again, by the live revision or by the one that received each",
    )
    .problems(&[422]);
    all.post::<deliveries::CompareDeliveries, deliveries::Proposed>(
        "/deliveries/input",
        "proposeInput",
        "Proposes inputs and how they are taken from messages, from several of them",
    )
    .problems(&[422]);
    all.post::<deliveries::Signing, deliveries::SignedMessage>(
        "/deliveries/sign",
        "signMessage",
        "Signs a message to a webhook as its sender does, with the secret of the service",
    )
    .problems(&[404, 422]);
    all.list::<runs::RefusalFilter, runs::RefusalPage>(
        "/refusals",
        "refusals",
        "Requests refused before a run began, newest first",
    );
    all.list::<jobs::JobFilter, jobs::JobPage>("/jobs", "jobs", "Jobs, newest first").problems(&[422]);
    all.post::<jobs::JobStart, jobs::JobStarted>("/jobs", "startJob", "Starts a live workflow as a job")
        .problems(&[404, 413, 422]);
    all.get::<jobs::JobsChanged>("/jobs/actions/{id}", "jobOperation", "How a change of many jobs stands")
        .problems(&[404]);
    all.post::<jobs::JobChange, jobs::JobsChanged>(
        "/jobs/actions",
        "changeJobs",
        "Cancels, hastens, postpones or retries jobs, or undoes retries",
    )
    .problems(&[422]);
    let body = all.generator.subschema_for::<jobs::InputChange>();
    let input = all.add("put", "/jobs/{id}/input", "changeInput", "Gives a job that has not begun another input");
    (input.body, input.status) = (Some(body), 204);
    input.problems(&[404, 409, 413, 422]);
    let body = all.generator.subschema_for::<jobs::CallbackAnswer>();
    let answer = all.add("put", "/jobs/{id}/callback", "answerCallback", "Answers a callback that a job waits for");
    (answer.body, answer.status) = (Some(body), 204);
    answer.problems(&[404, 409, 422]);
    all.get::<jobs::Job>("/jobs/{id}", "job", "One job with what each step did").problems(&[404]);
    all.get::<jobs::Group>("/groups/{id}", "group", "How the jobs of a list stand").problems(&[404]);
    let (body, answer) =
        (all.generator.subschema_for::<erasures::NewErasure>(), all.generator.subschema_for::<erasures::Erasure>());
    let erase = all.add("post", "/erasures", "erase", "Erases what belongs to a caller, a tag or a value");
    (erase.body, erase.status, erase.answer) = (Some(body), 202, Some(answer));
    erase.problems(&[409, 422]);
    all.get::<keys::Pseudonym>(
        "/pseudonyms/{name}",
        "pseudonym",
        "What stands in the place of a name in lists with pseudonyms",
    )
    .problems(&[409]);
    all.get::<erasures::Erasure>("/erasures/{id}", "erasure", "How an erasure stands").problems(&[404]);
    all.add("delete", "/restoration", "resume", "A restored installation begins its work").problems(&[409]);
    all.get::<workflows::Holds>("/holds", "holds", "Workflows that are held");
    let (body, answer) =
        (all.generator.subschema_for::<workflows::HoldReason>(), all.generator.subschema_for::<workflows::Hold>());
    let hold = all.add("put", "/holds/{workflow}", "holdWorkflow", "Holds a workflow: none of its jobs begins");
    (hold.body, hold.status, hold.answer) = (Some(body), 200, Some(answer));
    hold.problems(&[404, 409, 422]);
    let answer = all.generator.subschema_for::<workflows::Released>();
    let release = all.add("delete", "/holds/{workflow}", "releaseWorkflow", "Releases a workflow");
    (release.status, release.answer) = (200, Some(answer));
    release.problems(&[404]);
    all.get::<lanes::Lanes>("/lanes", "lanes", "Lanes with their rules and how they stand");
    all.list::<lanes::SampleFilter, lanes::Samples>(
        "/lanes/samples",
        "laneSamples",
        "Depth, throughput and delay over time",
    );
    all.list::<lanes::ForecastQuery, lanes::Forecast>(
        "/lanes/{name}/forecast",
        "laneForecast",
        "When a lane will be empty, as it is and with other rules",
    )
    .problems(&[404, 422]);
    all.act::<lanes::LaneChanged>("/lanes/{name}/{action}", "changeLane", "Holds, releases or empties a lane")
        .problems(&[404]);
    all.list::<coming::ComingQuery, coming::Coming>(
        "/coming",
        "coming",
        "What is to come: jobs that become due, waits that end, timetables",
    )
    .problems(&[422]);
    all.get::<alerts::Alerts>("/alerts", "alerts", "Alerts: how they stand, and when they lasted");
    let body = all.generator.subschema_for::<alerts::NewSilence>();
    let answer = all.generator.subschema_for::<alerts::AlertSilence>();
    let silence = all.add("put", "/alerts/{name}/silence", "silenceAlert", "Silences an alert for a span");
    (silence.body, silence.status, silence.answer) = (Some(body), 200, Some(answer));
    silence.problems(&[404, 409, 422]);
    all.add("delete", "/alerts/{name}", "retireAlert", "Retires an alert").problems(&[404]);
    all.add("delete", "/alerts/{name}/silence", "unsilenceAlert", "Ends the silence of an alert").problems(&[404, 409]);
    all.get::<timetables::Timetables>("/timetables", "timetables", "Timetables with their next and last times");
    all.act::<timetables::TimetableChanged>(
        "/timetables/{workflow}/{number}/{action}",
        "changeTimetable",
        "Pauses, resumes or fires a timetable",
    )
    .problems(&[404]);
}

/// The questions of editors.
fn editing(all: &mut Operations) {
    use language::Question;
    all.post::<Question, deploys::Checked>(
        "/language/diagnostics",
        "languageDiagnostics",
        "The findings of one document",
    )
    .problems(&[404]);
    all.post::<Question, language::Suggestions>("/language/completion", "completion", "What can stand at a place")
        .problems(&[404]);
    all.post::<Question, language::Hovered>("/language/hover", "hover", "What stands at a place").problems(&[404]);
    all.post::<Question, language::Locations>("/language/definition", "definition", "Where it is declared")
        .problems(&[404]);
    all.post::<Question, language::Locations>("/language/references", "references", "Where it is used and declared")
        .problems(&[404]);
    all.post::<Question, language::RenameEdits>("/language/rename", "rename", "The edits that rename it everywhere")
        .problems(&[404, 409]);
    all.post::<Question, language::Outline>("/language/outline", "outline", "The steps of a workflow").problems(&[404]);
    all.post::<Question, language::Scope>("/language/scope", "scope", "The names that a step knows, with types")
        .problems(&[404]);
    all.post::<language::Beginning, language::Begun>("/language/begin", "begin", "Begins a workflow from an example")
        .problems(&[422]);
    all.post::<services::ServiceBeginning, services::ServiceBegun>(
        "/language/service",
        "describeService",
        "The documents of a service, from its description or from samples",
    )
    .problems(&[422]);
    all.post::<Question, language::Composed>("/language/sheet", "sheet", "Changes a document; returns it as a sheet")
        .problems(&[404, 422]);
    all.post::<Question, language::Offers>("/language/offers", "offers", "What could be added at a place")
        .problems(&[404]);
    all.post::<Question, language::Values>("/language/values", "values", "What could be chosen for a field")
        .problems(&[404]);
    all.post::<Question, language::Page>(
        "/language/page",
        "fillTemplate",
        "What the template of a step makes of samples",
    )
    .problems(&[404]);
    all.post::<Question, language::Evaluated>(
        "/language/evaluate",
        "evaluate",
        "The value of an expression over samples",
    )
    .problems(&[404]);
    all.post::<Question, language::Extracted>("/language/extract", "extract", "Makes a workflow of steps")
        .problems(&[404, 409]);
    all.post::<language::EditRequest, language::Edited>("/language/edit", "edit", "Changes a text, keeping its layout")
        .problems(&[422]);
    all.get::<language::Explanations>("/language/findings", "findings", "What the codes of findings mean");
}

fn operations() -> Operations {
    let settings = SchemaSettings::draft2020_12()
        .for_serialize()
        .with(|settings| settings.definitions_path = "/components/schemas".into());
    let mut all = Operations { generator: settings.into_generator(), all: Vec::new() };
    all.post::<session::SignIn, session::Session>(
        "/session",
        "signIn",
        "Signs in with an operator token; sets a session cookie",
    );
    all.get::<session::Session>("/session", "session", "Who is signed in");
    all.add("delete", "/session", "signOut", "Ends the session");
    all.get::<workflows::Status>("/status", "status", "How the service stands");
    all.post::<deploys::Documents, deploys::Checked>("/check", "check", "Checks documents beside what is live")
        .problems(&[404, 409]);
    all.post::<deploys::Documents, deploys::Deployed>("/deploys", "deploy", "Puts documents live, all or none")
        .problems(&[404, 409, 422]);
    editing(&mut all);
    all.get::<drafts::Drafts>("/drafts", "drafts", "Drafts of documents, and how they differ from what is live");
    all.get::<drafts::Draft>("/drafts/{kind}/{name}", "draft", "One draft with its text; its version is the `ETag`")
        .problems(&[404]);
    let body = all.generator.subschema_for::<drafts::DraftText>();
    let answer = all.generator.subschema_for::<drafts::Draft>();
    let save = all.add("put", "/drafts/{kind}/{name}", "saveDraft", "Saves a draft over the version that was read");
    (save.body, save.status, save.answer) = (Some(body), 200, Some(answer));
    save.problems(&[404, 412, 422, 428]);
    all.add("delete", "/drafts/{kind}/{name}", "discardDraft", "Discards a draft").problems(&[404, 412]);
    all.get::<drafts::Revisions>("/revisions/{kind}/{name}", "revisions", "The revisions of a document, newest first")
        .problems(&[404]);
    all.get::<drafts::RevisionText>("/revisions/{kind}/{name}/{number}", "revision", "The text of one revision")
        .problems(&[404]);
    all.post::<rehearsals::RehearsalRequest, rehearsals::Rehearsal>(
        "/rehearsals",
        "rehearse",
        "Runs the cases of a workflow on a virtual clock, with stubs for everything outside",
    )
    .problems(&[404, 422]);
    all.post::<trials::RetraceRequest, trials::Retrace>(
        "/retraces",
        "retrace",
        "Answers past runs by a draft, from what they recorded, and lists what differs",
    )
    .problems(&[404, 409, 422]);
    all.post::<trials::TrialRequest, trials::Trial>(
        "/trials",
        "try",
        "Runs a draft once, simulating what changes something",
    )
    .problems(&[404, 409, 422]);
    all.post::<trials::TrialDecision, trials::Trial>(
        "/trials/{id}/decisions",
        "decide",
        "Decides what comes of the effect before which a trial stopped; returns the trial at its next stop or its end",
    )
    .problems(&[404, 422]);
    all.post::<previews::NewPreview, previews::Preview>(
        "/previews",
        "openPreview",
        "Opens an address at which drafts can be called before they are deployed",
    )
    .problems(&[404, 422]);
    all.get::<previews::Previews>("/previews", "previews", "Addresses of drafts that are open");
    all.add("delete", "/previews/{id}", "closePreview", "Closes an address of drafts").problems(&[404]);
    all.get::<trials::Trials>("/trials", "trials", "Trials, newest first");
    all.get::<trials::Trial>("/trials/{id}", "trial", "One trial with what each step did").problems(&[404]);
    all.list::<runs::CaseName, runs::RecordedCase>(
        "/trials/{id}/case",
        "recordTrial",
        "A case that shows what the trial did",
    )
    .problems(&[404]);
    all.post::<runs::CaseName, runs::AddedCase>(
        "/trials/{id}/case",
        "addCaseOfTrial",
        "Adds the case to the draft of the workflow's cases",
    )
    .problems(&[404, 409, 422]);
    all.post::<drafts::Texts, drafts::Comparison>("/compare", "compare", "How two texts of a document differ");
    all.get::<workflows::Workflows>("/workflows", "workflows", "Live workflows with counts of the last 24 hours");
    all.get::<workflows::Workflow>("/workflows/{name}", "workflow", "One workflow with sheet, source and revisions")
        .problems(&[404]);
    all.post::<workflows::NewName, workflows::Renamed>(
        "/workflows/{name}/rename",
        "renameWorkflow",
        "Gives a live workflow another name, in one deploy with what names it",
    )
    .problems(&[404, 409, 422]);
    all.get::<gradual::Graduals>("/gradual", "graduals", "Gradual deploys that are under way");
    all.get::<gradual::Gradual>(
        "/workflows/{name}/gradual",
        "gradual",
        "The last gradual deploy of a workflow, with what both revisions did since",
    )
    .problems(&[404]);
    let (body, answer) =
        (all.generator.subschema_for::<gradual::NewRules>(), all.generator.subschema_for::<gradual::GradualLine>());
    let change = all.add("put", "/workflows/{name}/gradual", "changeGradual", "Changes what the new revision serves");
    (change.body, change.status, change.answer) = (Some(body), 200, Some(answer));
    change.problems(&[404, 409, 422]);
    for (path, id, about) in [
        ("/workflows/{name}/gradual/finish", "finishGradual", "Makes the new revision the live one"),
        ("/workflows/{name}/gradual/take-back", "takeBackGradual", "Has the live revision serve everything again"),
    ] {
        all.post::<gradual::EndGradual, gradual::GradualEnd>(path, id, about).problems(&[404, 409, 422]);
    }
    all.get::<log::LogLevel>("/log", "logLevel", "The level of the log of the process that answers").problems(&[404]);
    let body = all.generator.subschema_for::<log::NewLogLevel>();
    let answer = all.generator.subschema_for::<log::LogLevel>();
    let level = all.add("put", "/log", "setLogLevel", "Changes the level of the log of the process that answers");
    (level.body, level.status, level.answer) = (Some(body), 200, Some(answer));
    level.problems(&[422]);
    all.list::<overview::OverviewQuery, overview::Overview>(
        "/overview",
        "overview",
        "Runs, failures and times of the last minutes, and how full the process is",
    )
    .problems(&[404, 422]);
    all.list::<statistics::StatisticsQuery, statistics::Statistics>(
        "/workflows/{name}/statistics",
        "statistics",
        "How often the steps of a workflow ran and failed over a span, and how long they took",
    )
    .problems(&[404, 422]);
    all.add("delete", "/workflows/{name}", "retireWorkflow", "Retires a workflow that no other invokes")
        .problems(&[404, 409]);
    all.list::<services::ServicesQuery, services::Services>("/services", "services", "Live services");
    all.get::<services::Service>("/services/{name}", "service", "One service with its operations").problems(&[404]);
    all.add("delete", "/services/{name}", "retireService", "Retires a service that no workflow calls")
        .problems(&[404, 409]);
    all.list::<examples::ExampleQuery, examples::Examples>(
        "/examples",
        "examples",
        "Worked examples, the best for a need first",
    );
    all.list::<examples::ExampleName, examples::Example>(
        "/examples/{name}",
        "example",
        "A worked example with all that it needs",
    )
    .problems(&[404, 422]);
    all.get::<libraries::Libraries>("/libraries", "libraries", "Live libraries, and the workflows that use them");
    all.add("delete", "/libraries/{name}", "retireLibrary", "Retires a library that nothing uses")
        .problems(&[404, 409]);
    all.get::<Json>("/openapi", "publicApi", "The OpenAPI document of all endpoints, as clients read it");
    all.list::<transfer::ExportQuery, transfer::Export>(
        "/export",
        "export",
        "What is live as documents for another installation, without secrets",
    )
    .problems(&[404, 422]);
    all.get::<transfer::KeptValues>("/kept/{workflow}", "keptValues", "What a workflow remembers between runs")
        .problems(&[404]);
    let values = all.generator.subschema_for::<transfer::KeptValues>();
    let keep = all.add(
        "put",
        "/kept/{workflow}",
        "keepValues",
        "Sets what a workflow remembers, over the version that was read",
    );
    (keep.body, keep.status, keep.answer) = (Some(values.clone()), 200, Some(values));
    keep.problems(&[404, 409, 422]);
    all.get::<settings::Settings>("/settings", "settings", "Settings that documents declare; a deploy sets them");
    let answer = all.generator.subschema_for::<secrets::Rotation>();
    let rotate = all.add("post", "/secrets/rotation", "rotateSecretsKey", "Seals everything with the key of today");
    (rotate.status, rotate.answer) = (202, Some(answer));
    rotate.problems(&[409]);
    all.get::<secrets::Rotation>("/secrets/rotation", "secretsKeyRotation", "How the rotation of the key stands")
        .problems(&[404]);
    all.get::<secrets::Secrets>("/secrets", "secrets", "Names of secrets, and what uses them");
    all.get::<watches::Watches>("/watches", "watches", "Tables whose changed rows begin jobs, with their backlog");
    all.list::<audit::AuditFilter, audit::Audit>(
        "/audit",
        "audit",
        "Who changed what, and who looked at runs with confidential values; newest first",
    )
    .problems(&[422]);
    all.get::<session::SignInWays>("/sign-in", "signInWays", "How one can sign in beside with a token");
    all.get::<session::Sessions>("/sessions", "sessions", "Sessions of the console that have not ended");
    let ended = all.generator.subschema_for::<session::SessionsEnded>();
    let end = all.add("delete", "/sessions", "endSessions", "Ends all of one's own sessions");
    (end.status, end.answer) = (200, Some(ended));
    all.add("delete", "/sessions/{id}", "endSession", "Ends a session: one's own, or for an operator any")
        .problems(&[404]);
    all.get::<issuers::Issuers>("/issuers", "issuers", "Issuers of tokens, and whether their keys are known");
    all.get::<keys::Keys>("/keys", "keys", "Keys of callers with their last use");
    all.post::<keys::NewKey, keys::MadeKey>("/keys", "addKey", "Makes a key; it is shown only now")
        .problems(&[409, 422]);
    all.list::<keys::UsageFilter, keys::UsageReport>(
        "/usage",
        "usage",
        "What keys asked for by hour, and what they have left",
    );
    all.post::<keys::KeyRotation, keys::MadeKey>(
        "/keys/{name}/rotate",
        "rotateKey",
        "Puts another key in place of one, which is valid beside it for a while",
    )
    .problems(&[404, 422]);
    all.add("delete", "/keys/{name}", "revokeKey", "Revokes a key").problems(&[404]);
    all.get::<operators::Operators>("/operators", "operators", "Operator tokens: names, expiry, last use");
    all.post::<operators::NewOperator, operators::Issued>("/operators", "addOperator", "Makes an operator token")
        .problems(&[409, 422]);
    all.post::<operators::Rotation, operators::Issued>(
        "/operators/{name}/rotate",
        "rotateOperator",
        "Replaces an operator token and ends its sessions",
    )
    .problems(&[404, 422]);
    all.add("delete", "/operators/{name}", "revokeOperator", "Removes an operator token and ends its sessions")
        .problems(&[404, 409]);
    all.get::<databases::Databases>("/databases", "databases", "Databases that `sql` steps name");
    all.get::<databases::Database>(
        "/databases/{name}",
        "database",
        "One database, with the statement that prepares it",
    )
    .problems(&[404]);
    all.get::<databases::Description>(
        "/databases/{name}/description",
        "describeDatabase",
        "The tables of a database as a document, so that statements are typed offline",
    )
    .problems(&[404, 503]);
    all.act::<databases::Database>(
        "/databases/{name}/prepare",
        "prepareDatabase",
        "Prepares a database for steps that jobs perform once",
    )
    .problems(&[404, 409]);
    let value = all.generator.subschema_for::<secrets::NewSecret>();
    all.add("put", "/secrets/{name}", "setSecret", "Sets or replaces a secret").problems(&[409, 422]).body =
        Some(value);
    all.add("delete", "/secrets/{name}", "removeSecret", "Removes a secret that no service uses").problems(&[404, 409]);
    all.post::<scratch::Seed, scratch::Lent>("/scratch", "lendDatabase", "Lends a fresh database to a rehearsal")
        .problems(&[422, 504])
        .status = 201;
    all.post::<scratch::Statements, scratch::Ran>(
        "/scratch/{name}",
        "runStatements",
        "Runs statements on a lent database",
    )
    .problems(&[404]);
    all.add("delete", "/scratch/{name}", "returnDatabase", "Drops a lent database").problems(&[422, 504]);
    runs_and_jobs(&mut all);
    all.get::<Json>("/openapi.json", "controlApi", "This document");
    // Not answered by this API, but by the public listener; here so that clients share the type.
    all.generator.subschema_for::<jobs::JobDocument>();
    all
}

/// The actions of a path with `{action}`.
fn actions(path: &str) -> Schema {
    let mut plain = SchemaSettings::draft2020_12().into_generator();
    match path.starts_with("/lanes") {
        true => lanes::LaneAction::json_schema(&mut plain),
        false => timetables::TimetableAction::json_schema(&mut plain),
    }
}

fn parameters(operation: &Operation) -> Vec<Json> {
    let names = operation.path.split('{').skip(1).filter_map(|part| part.split_once('}')).map(|(name, _)| name);
    let mut all: Vec<Json> = names
        .map(|name| {
            let schema = match (name, operation.path) {
                ("action", path) => actions(path).to_value(),
                ("number", _) => json!({"type": "integer", "minimum": 1}),
                ("id", _) => json!({"type": "string", "format": "uuid"}),
                _ => json!({"type": "string"}),
            };
            json!({"name": name, "in": "path", "required": true, "schema": schema})
        })
        .collect();
    let query = operation.query.as_ref().and_then(|query| query.as_object()?.get("properties")?.as_object().cloned());
    for (name, mut schema) in query.into_iter().flatten() {
        let about = schema.as_object_mut().and_then(|schema| schema.remove("description"));
        // What is absent is no null.
        if let Some(Json::Array(kinds)) = schema.get_mut("type") {
            kinds.retain(|kind| kind != "null");
            if let [one] = kinds.as_slice() {
                schema["type"] = one.clone();
            }
        }
        if let Some(members) = schema.as_object_mut() {
            members.remove("default");
        }
        let mut parameter = json!({"name": name, "in": "query", "schema": schema});
        if let Some(about) = about {
            parameter["description"] = about;
        }
        all.push(parameter);
    }
    all
}

/// The document.
pub fn document() -> Json {
    let Operations { mut generator, all } = operations();
    let problem = generator.subschema_for::<Problem>();
    let problem = json!({"description": "Why it was refused (RFC 9457)", "content": {"application/problem+json": {"schema": problem}}});
    let mut paths = Map::new();
    for operation in all {
        let mut responses = Map::new();
        let mut success = json!({"description": "Done"});
        if let Some(answer) = &operation.answer {
            success["content"] = json!({"application/json": {"schema": answer}});
        }
        responses.insert(operation.status.to_string(), success);
        let common: &[u16] = if operation.id == "signIn" { &[400, 401, 429, 503] } else { &[400, 401, 403, 429, 503] };
        for status in common.iter().chain(operation.problems) {
            responses.insert(status.to_string(), json!({"$ref": "#/components/responses/Problem"}));
        }
        let mut described = json!({"operationId": operation.id, "summary": operation.summary, "responses": responses});
        let parameters = parameters(&operation);
        if !parameters.is_empty() {
            described["parameters"] = parameters.into();
        }
        if let Some(body) = &operation.body {
            described["requestBody"] = json!({"required": true, "content": {"application/json": {"schema": body}}});
        }
        if operation.id == "signIn" {
            described["security"] = json!([]);
        }
        let path = paths.entry(operation.path).or_insert_with(|| json!({}));
        path[operation.method] = described;
    }
    let mut schemas = generator.take_definitions(true);
    schemas.sort_keys();
    json!({
        "openapi": "3.1.0",
        "info": {
            "title": "Kanzlei control API",
            "version": env!("CARGO_PKG_VERSION"),
            "description": "What the command line and the console use. On the control listener only.",
        },
        "servers": [{"url": "/api/v1"}],
        "security": [{"operatorToken": []}, {"session": [], "csrf": []}],
        "paths": paths,
        "components": {
            "schemas": schemas,
            "responses": {"Problem": problem},
            "securitySchemes": {
                "operatorToken": {"type": "http", "scheme": "bearer"},
                "session": {"type": "apiKey", "in": "cookie", "name": "kanzlei_session"},
                "csrf": {"type": "apiKey", "in": "header", "name": "X-CSRF-Token"},
            },
        },
    })
}

/// Methods and paths of all operations.
pub fn routes() -> Vec<(&'static str, &'static str)> {
    operations().all.iter().map(|operation| (operation.method, operation.path)).collect()
}
