//! The commands and their help.

mod alerts;
mod deliveries;
mod edit;
mod gradual;
mod jobs;
mod names;
mod office;
mod services;
mod transfer;
mod trials;

use std::path::PathBuf;

use clap::{Args as ClapArgs, Parser, Subcommand};

pub use alerts::AlertAction;
pub use deliveries::{Deliveries, Redeliver, SendWebhook};
pub use edit::{Draft, Edit};
pub use gradual::{GradualAction, Share};
pub use jobs::{Ahead, JobCommand, Jobs, LaneAction, Select, TimetableAction, Timetables, WhichJobs};
pub use names::Names;
pub use office::{Databases, Keys, Operators, Secrets, Settings};
pub use services::{Sample, Service};
pub use transfer::{Exporting, Importing};
pub use trials::{Preview, Retrace, RunArgs, Target, Try, Which};

#[derive(Parser)]
#[command(
    name = "kanzlei",
    version,
    about = "Check, rehearse, deploy, call and inspect workflows",
    after_help = "Examples:\n  kanzlei check demo/harbour\n  kanzlei rehearse demo/harbour\n  kanzlei deploy demo/harbour\n  kanzlei call berth-quote harbour=LIN imo=9074720 arrives=2027-03-04T06:00:00Z\n  kanzlei runs --failed\n\n\
                  Exit codes: 0 good, 1 the thing asked about is bad, 2 usage, 3 service not reachable."
)]
pub struct Args {
    #[command(flatten)]
    pub place: Place,
    #[command(subcommand)]
    pub command: Command,
}

/// Address and token of the service; by default from the nearest `.kanzlei/client.toml` in this folder or above.
#[derive(ClapArgs)]
pub struct Place {
    /// Address of the control listener
    #[arg(long, env = "KANZLEI_URL", global = true, display_order = 900, value_name = "URL")]
    pub url: Option<String>,
    /// Operator token; better kept in the environment
    #[arg(
        long,
        env = "KANZLEI_TOKEN",
        global = true,
        display_order = 901,
        hide_env_values = true,
        value_name = "TOKEN"
    )]
    pub token: Option<String>,
    /// Certificates (PEM) one of which signs that of the listeners; by default those that the operating system trusts
    #[arg(long, env = "KANZLEI_CA", global = true, display_order = 902, value_name = "FILE")]
    pub ca: Option<PathBuf>,
    /// Print JSON
    #[arg(long, global = true, display_order = 903)]
    pub json: bool,
}

#[derive(Subcommand)]
pub enum Command {
    /// Check documents offline and report all findings
    #[command(
        after_help = "Folders are searched for documents. A single file may refer to the documents of the nearest folder above it\nthat contains `services`.\n\nExamples:\n  kanzlei check demo/harbour\n  kanzlei check demo/harbour/workflows/berth-quote.yaml --json\n  kanzlei check demo/harbour --format sarif > kanzlei.sarif"
    )]
    Check {
        /// Documents, or folders with documents
        #[arg(required = true)]
        paths: Vec<PathBuf>,
        /// Output format of the findings
        #[arg(long, value_enum, default_value_t = Format::Text)]
        format: Format,
    },
    /// Explain the code of a finding, with a wrong and a corrected example
    #[command(
        after_help = "Without a code it lists all.\n\nExamples:\n  kanzlei explain maybe-missing\n  kanzlei explain"
    )]
    Explain {
        /// The code, as `check` prints it
        code: Option<String>,
    },
    /// Serve an editor: the Language Server Protocol over standard input and output
    #[command(
        after_help = "Editors start it themselves; the handbook says how to set it up (docs/editors.md). It offers findings while typing,\ncompletion, hover, definition, references, rename, fixes, an outline with the numbers of the sheet, and folding."
    )]
    LanguageServer,
    /// Rename a live workflow, or anything with a name in a folder of documents
    #[command(
        after_help = "Without a folder it renames a workflow on the service, in one deploy: its address stays, its runs, jobs, revisions and drafts are found under the new name, and the workflows that invoke or queue it are deployed with it.\n\nIn a folder, PLACE is a workflow, service or lane by its name, or a name of a workflow behind a dot: `berth-quote.tide` is a step or value, `berth-quote.input.imo` an input, `settings.remind_from` a setting.\n\nExamples:\n  kanzlei rename vessel-dues stay-dues\n  kanzlei rename demo/harbour vessel-dues stay-dues --dry-run\n  kanzlei rename demo/harbour berth-quote.tide window"
    )]
    Rename {
        /// The folder of documents, where files are changed; then what is renamed, then the new name
        #[arg(required = true, num_args = 2..=3, value_names = ["[FOLDER] PLACE", "NEW"])]
        what: Vec<String>,
        /// Show the changes and write nothing
        #[arg(long)]
        dry_run: bool,
    },
    /// List the steps of a workflow with their numbers, or the names that one of them knows
    #[command(
        after_help = "Examples:\n  kanzlei outline demo/harbour/workflows/berth-quote.yaml\n  kanzlei outline demo/harbour/workflows/berth-quote.yaml --step 3"
    )]
    Outline {
        /// The document
        path: PathBuf,
        /// Show the names in scope at this step, with their types
        #[arg(long, value_name = "NUMBER")]
        step: Option<String>,
    },
    /// Change the steps of a workflow, keeping comments and layout
    #[command(
        after_help = "Steps go by their numbers on the sheet (`kanzlei outline`).\n\nExamples:\n  kanzlei edit workflows/berth-quote.yaml move 3 --before 1\n  kanzlei edit workflows/berth-quote.yaml off 3\n  kanzlei edit workflows/berth-quote.yaml set 3 within 4s\n  kanzlei edit workflows/berth-quote.yaml insert --before 3 'note: asking for the tide'\n  kanzlei edit workflows/berth-quote.yaml wrap 3 --count 2 --with 'if: input.nights > 1' --under then\n  kanzlei edit workflows/berth-quote.yaml extract 3 --count 2 --name tide-and-rate"
    )]
    Edit {
        /// The document
        path: PathBuf,
        #[command(subcommand)]
        what: Edit,
        /// Show the changes and write nothing
        #[arg(long, global = true)]
        dry_run: bool,
    },
    /// Find worked examples by what you need, or read one
    #[command(
        after_help = "Examples:\n  kanzlei examples\n  kanzlei examples check an IBAN\n  kanzlei examples --show statement-totals"
    )]
    Examples {
        /// What you need, in your words
        need: Vec<String>,
        /// Show the document of an example
        #[arg(long, value_name = "EXAMPLE")]
        show: Option<String>,
    },
    /// Create a workflow from a worked example, with its cases
    #[command(
        after_help = "Find examples with: kanzlei examples WORDS\n\nExample:\n  kanzlei new port-fees --like stay-bill"
    )]
    New {
        /// The name of the workflow: lower-case letters, digits and hyphens
        name: String,
        /// The example to start from; default: berth-quote
        #[arg(long, value_name = "EXAMPLE")]
        like: Option<String>,
        /// The folder with `workflows`, `cases` and `services`
        #[arg(long, default_value = ".", value_name = "FOLDER")]
        folder: PathBuf,
    },
    /// Run cases offline; report differences and coverage
    #[command(
        after_help = "The stubs of the cases answer for services and databases, and a virtual clock skips waits.\n\nExamples:\n  kanzlei rehearse demo/harbour\n  kanzlei rehearse demo/harbour --only berth-quote --watch\n  kanzlei rehearse demo/harbour --junit rehearsal.xml\n  kanzlei rehearse demo/harbour/cases/berth-quote.yaml --against http://127.0.0.1:7080"
    )]
    Rehearse(Rehearse),
    /// Record a past run or a trial as a case
    #[command(
        after_help = "Prints a document of cases, or adds the case to the draft of them.\n\nExamples:\n  kanzlei record last > cases/berth-quote-1.yaml\n  kanzlei record last --name \"two nights in euros\" --draft"
    )]
    Record {
        /// The id of a run or a trial, or `last` for the newest run
        id: String,
        /// Name of the case: what it shows
        #[arg(long)]
        name: Option<String>,
        /// Add it to the draft of the workflow's cases on the service
        #[arg(long)]
        draft: bool,
    },
    /// Check, rehearse and deploy documents, all or none
    #[command(
        after_help = "Prints the addresses and a curl line with example values. With a share, the live revision stays, and the new one serves a part of what comes; `kanzlei gradual show NAME` compares the two.\n\nExamples:\n  kanzlei deploy demo/harbour\n  kanzlei deploy workflows/berth-quote.yaml --share 10% --margin 2%\n  kanzlei deploy workflows/berth-quote.yaml --header 'X-Ring: new' --key bridge"
    )]
    Deploy {
        /// Documents, or folders with documents
        #[arg(required_unless_present = "draft")]
        paths: Vec<PathBuf>,
        /// Skip the cases
        #[arg(long)]
        unrehearsed: bool,
        /// Deploy this draft on the service too: NAME, or KIND/NAME
        #[arg(long, value_name = "NAME")]
        draft: Vec<String>,
        /// Deploy drafts although another revision went live since they began
        #[arg(long)]
        over: bool,
        /// Set a setting in the same deploy
        #[arg(long, value_name = "NAME=VALUE")]
        set: Vec<String>,
        /// Show what would change, and deploy nothing
        #[arg(long)]
        dry_run: bool,
        #[command(flatten)]
        share: Share,
    },
    /// List gradual deploys, compare the two revisions of one, change it, finish it or take it back
    #[command(
        after_help = "A gradual deploy begins with a share: `kanzlei deploy FILE --share 10%`.\n\nExamples:\n  kanzlei gradual\n  kanzlei gradual show berth-quote\n  kanzlei gradual change berth-quote --share 50%\n  kanzlei gradual finish berth-quote\n  kanzlei gradual take-back berth-quote --reason 'quotes for tankers are wrong'"
    )]
    Gradual {
        #[command(subcommand)]
        what: Option<GradualAction>,
    },
    /// Run a draft, a file or what is live once, simulating what changes something
    #[command(
        after_help = "GET calls and statements that only read are real; everything else is simulated from the descriptions of services, or\nanswered by stubs. What is missing of the input comes from a sample. Waits are skipped.\n\nExamples:\n  kanzlei try workflows/berth-quote.yaml nights=3 currency=NOK\n  kanzlei try berth-quote --until tide\n  kanzlei try berth-quote --interactive\n  kanzlei try berth-quote --run last --from 4\n  kanzlei try berth-quote --step rate\n  kanzlei try berth-quote --stub stubs.yaml --simulate registry.getVessel\n  kanzlei try customs-clearance --real customs.request"
    )]
    Try(Try),
    /// Write what is live into a folder or a ZIP archive, for another installation
    #[command(
        after_help = "Documents with the files that they name: workflows, services, lanes, and cases that were saved as drafts. Secrets are\nlisted, never contained.\n\nExamples:\n  kanzlei export office.zip\n  kanzlei export berth-quote stay-bill quotes/ --kept"
    )]
    Export(Exporting),
    /// Check, rehearse and deploy what an export wrote, all or none
    #[command(after_help = "Examples:\n  kanzlei import office.zip --dry-run\n  kanzlei import quotes/ --kept")]
    Import(Importing),
    /// List the trials that the service keeps, or show one
    #[command(
        after_help = "They are kept for `journal.trial_days` days, apart from the runs of live traffic.\n\nExamples:\n  kanzlei trials\n  kanzlei trials 0195a1b2-0000-7000-8000-000000000001 --full"
    )]
    Trials {
        /// The id of a trial
        id: Option<String>,
        /// Print values in full
        #[arg(long)]
        full: bool,
    },
    /// Give drafts an address at which a front end can call them before they are deployed
    #[command(
        after_help = "Everything that is live can be called below the address too. Each call is a trial: GET calls and statements that only read are real, everything else is simulated, unless --real or --live says otherwise; `kanzlei trials` lists them. The address follows the draft as it is saved, pages of any origin may call it, and who knows it may: it cannot be guessed, and it closes.\n\nExamples:\n  kanzlei preview berth-quote\n  kanzlei preview berth-quote vessel-dues --hours 24 --stub stubs.yaml\n  kanzlei preview\n  kanzlei preview --off berth-quote"
    )]
    Preview(Preview),
    /// Answer past runs again by a draft or a file, from what they recorded, and list what differs
    #[command(
        after_help = "Performs nothing: what services and databases answered then is what they answer now. A request that a run did not make has no answer, and its run diverges; runs whose values were masked or cut are skipped.\n\nExamples:\n  kanzlei retrace berth-quote --last 100\n  kanzlei retrace workflows/berth-quote.yaml --since 2h\n  kanzlei retrace berth-quote --state failed --full"
    )]
    Retrace(Retrace),
    /// Start a live workflow as a job, whether or not it has an entry
    #[command(
        after_help = "Examples:\n  kanzlei start vessel-dues imo=9074720 nights=2\n  kanzlei start night-watch --follow"
    )]
    Start {
        /// The workflow
        name: String,
        /// Inputs
        #[arg(value_name = "KEY=VALUE")]
        inputs: Vec<String>,
        /// Follow it until it ends
        #[arg(long)]
        follow: bool,
    },
    /// List the revisions of a document
    #[command(after_help = "Examples:\n  kanzlei history berth-quote\n  kanzlei history service/registry")]
    History {
        /// The workflow, or KIND/NAME
        name: String,
    },
    /// Compare two texts of a document, by steps and by lines, or two runs
    #[command(
        after_help = "A text is NAME (what is live), NAME@3 (a revision), NAME@draft, or a file; other kinds are written KIND/NAME.\nTwo ids of runs are compared step by step; `last` is the newest run.\n\nExamples:\n  kanzlei diff 0195a1b2-0000-7000-8000-000000000001 last\n  kanzlei diff berth-quote@2 berth-quote@3\n  kanzlei diff berth-quote workflows/berth-quote.yaml\n  kanzlei diff berth-quote berth-quote@draft"
    )]
    Diff {
        /// The text or run before
        before: String,
        /// The text or run after
        after: String,
    },
    /// Make a revision a draft again, or put it live
    #[command(after_help = "Examples:\n  kanzlei restore berth-quote@3\n  kanzlei restore berth-quote@3 --deploy")]
    Restore {
        /// The revision: NAME@3
        revision: String,
        /// Put it live at once
        #[arg(long)]
        deploy: bool,
    },
    /// List drafts on the service, and how they differ from what is live
    Drafts,
    /// Exchange drafts with the service: pull, push, discard
    #[command(
        after_help = "A draft is saved over the version that this folder pulled or pushed last. Where another author saved in between, both\nversions are shown; changes that do not touch are merged with --merge.\n\nExamples:\n  kanzlei draft push workflows/berth-quote.yaml\n  kanzlei draft pull berth-quote --to workflows/berth-quote.yaml\n  kanzlei draft discard berth-quote\n  kanzlei deploy --draft berth-quote"
    )]
    Draft {
        #[command(subcommand)]
        what: Draft,
    },
    /// Databases that `sql` steps name: list, describe, prepare
    #[command(
        after_help = "A job performs a writing step once, even if its process is killed in the middle: the database keeps a marker beside\nwhat the step wrote. `prepare` prints the statement that makes the table of markers, for an administrator.\n\nExamples:\n  kanzlei databases\n  kanzlei databases describe harbour > harbour.database.yaml\n  kanzlei databases prepare harbour\n  kanzlei databases prepare harbour --apply"
    )]
    Databases {
        #[command(subcommand)]
        what: Option<Databases>,
    },
    /// Secrets for calls of services: list, set, remove
    #[command(
        after_help = "A value is read from the prompt or from standard input, is kept encrypted and never shown. It is used for what\n--for names and for nothing else; to change that, set it again.\n\nExamples:\n  kanzlei secrets\n  kanzlei secrets set rates-token --for https://rates.lindvik.example\n  printf %s \"$TOKEN\" | kanzlei secrets set rates-token --for https://rates.lindvik.example\n  kanzlei secrets set notify-key --for signing"
    )]
    Secrets {
        #[command(subcommand)]
        what: Option<Secrets>,
    },
    /// Settings, the values that differ between installations: list, set, unset
    #[command(
        after_help = "Documents of kind `settings` declare them; expressions read them as `settings.NAME`, and services and lanes may have them in place of a constant. Setting one is a deploy: what is live is checked with it, and jobs that wait keep the values they were queued with.\n\nExamples:\n  kanzlei settings\n  kanzlei settings set free_nights 2\n  kanzlei settings unset free_nights"
    )]
    Settings {
        #[command(subcommand)]
        what: Option<Settings>,
    },
    /// Keys of callers, for endpoints with `access: key`: list, add, rotate, revoke
    #[command(
        after_help = "A key is shown once, when it is made. Callers send it as `Authorization: Bearer KEY` or in `X-Api-Key`.\nRotating makes another one; the former is valid beside it for a day, or as --overlap sets it.\n\nExamples:\n  kanzlei keys\n  kanzlei keys add northern-line --owner \"Northern Line\" --for harbour-tides --days 365\n  kanzlei keys rotate northern-line --overlap 2\n  kanzlei keys revoke northern-line"
    )]
    Keys {
        #[command(subcommand)]
        what: Option<Keys>,
    },
    /// Tokens for the control API: list, add, rotate, revoke
    #[command(
        after_help = "A token has a name, so that it can be told from others and revoked alone. It is shown once, when it is made.\nRotating replaces it; the old token and the console sessions begun with it end.\n\nExamples:\n  kanzlei operators\n  kanzlei operators add berit --days 90\n  kanzlei operators rotate berit\n  kanzlei operators revoke berit"
    )]
    Operators {
        #[command(subcommand)]
        what: Option<Operators>,
    },
    /// List who changed what, and who looked at runs with confidential values, newest first
    #[command(
        after_help = "With --json each line is a JSON object of its own. `audit.file` in the configuration appends the same lines to a file.\n\nExamples:\n  kanzlei audit\n  kanzlei audit --who berit --since 2027-03-04T00:00:00Z\n  kanzlei audit --text secret --json"
    )]
    Audit {
        /// Only those of somebody
        #[arg(long)]
        who: Option<String>,
        /// Only those whose subject, method or path has this text
        #[arg(long)]
        text: Option<String>,
        /// Only those from this instant on
        #[arg(long, value_name = "INSTANT")]
        since: Option<String>,
        /// Only those before this line, for older ones
        #[arg(long, value_name = "LINE")]
        before: Option<uuid::Uuid>,
        /// At most so many
        #[arg(long, default_value_t = 50, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=1000))]
        last: u32,
    },
    /// List sessions of the console, or end them
    #[command(
        after_help = "Examples:\n  kanzlei sessions\n  kanzlei sessions --end 3f2a9c01d4e5b6f7\n  kanzlei sessions --end-all"
    )]
    Sessions {
        /// End this one
        #[arg(long, value_name = "SESSION")]
        end: Option<String>,
        /// End all of your own
        #[arg(long, conflicts_with = "end")]
        end_all: bool,
    },
    /// List tables whose changed rows begin jobs, with their backlog
    #[command(
        after_help = "Entries of kind `change` watch tables; a deploy makes the triggers, a retirement removes them.\n\nExample:\n  kanzlei watches"
    )]
    Watches,
    /// List issuers of tokens, and whether their keys are known
    #[command(
        after_help = "Documents of kind `issuer` declare them, and entries ask for their tokens with `access: {jwt: ISSUER}`. Keys are read when the first token comes.\n\nExample:\n  kanzlei issuers"
    )]
    Issuers,
    /// Serve assistants over standard input and output (Model Context Protocol)
    #[command(
        after_help = "An assistant reads the handbook, examples, live workflows and services, checks and rehearses documents, and saves drafts. It deploys only with --allow-deploy.\n\nA client of the protocol starts it as:\n  kanzlei mcp\nThe service has the same over HTTP, for an operator token: POST /api/v1/mcp"
    )]
    Mcp {
        /// Offer the tool `deploy`
        #[arg(long)]
        allow_deploy: bool,
    },
    /// Take documents from a Git repository at a tag, beside one's own
    #[command(
        after_help = "Files below the path are copied to parts/NAME/ as they are; kanzlei.lock keeps their digests. Nothing of the repository is run.\n\nExamples:\n  kanzlei add https://git.example/harbour-parts.git@v1.2.0\n  kanzlei add git@git.example:office/parts.git#libraries@v1.2.0 --as office\n  kanzlei add file:///srv/harbour-parts.bundle@v1.0.0"
    )]
    Add {
        /// GIT-URL[#path]@TAG
        from: String,
        /// The name of the part; default: that of the repository
        #[arg(long = "as", value_name = "NAME")]
        name: Option<String>,
        /// The folder with the documents and kanzlei.lock
        #[arg(long, default_value = ".", value_name = "FOLDER")]
        into: PathBuf,
    },
    /// Take parts at a newer tag
    #[command(
        after_help = "Without a tag the newest version counts; copies that were changed are not replaced without --force.\n\nExamples:\n  kanzlei update\n  kanzlei update harbour-parts\n  kanzlei update harbour-parts@v1.1.0"
    )]
    Update {
        /// NAME or NAME@TAG; default: all parts
        parts: Vec<String>,
        /// Replace copies that were changed
        #[arg(long)]
        force: bool,
        /// The folder with kanzlei.lock
        #[arg(long = "in", default_value = ".", value_name = "FOLDER")]
        into: PathBuf,
    },
    /// List parts that have newer tags
    #[command(after_help = "Example:\n  kanzlei outdated")]
    Outdated {
        /// The folder with kanzlei.lock
        #[arg(long = "in", default_value = ".", value_name = "FOLDER")]
        into: PathBuf,
    },
    /// Compare the copies of parts with kanzlei.lock, without network
    #[command(after_help = "Exit status 1 where they differ.\n\nExample:\n  kanzlei verify")]
    Verify {
        /// The folder with kanzlei.lock
        #[arg(long = "in", default_value = ".", value_name = "FOLDER")]
        into: PathBuf,
    },
    /// List parts, or remove one
    #[command(after_help = "Examples:\n  kanzlei parts\n  kanzlei parts --remove harbour-parts")]
    Parts {
        /// Remove a part and its copies
        #[arg(long, value_name = "NAME")]
        remove: Option<String>,
        /// The folder with kanzlei.lock
        #[arg(long = "in", default_value = ".", value_name = "FOLDER")]
        into: PathBuf,
    },
    /// List libraries, and the workflows that use them
    #[command(
        after_help = "Documents of kind `library` hold functions, types and groups of steps; workflows name them under `use`. `kanzlei add` takes them from a repository.\n\nExamples:\n  kanzlei libraries\n  kanzlei libraries --retire old-rules"
    )]
    Libraries {
        /// Retire a library that nothing uses; its revisions are kept
        #[arg(long, value_name = "NAME")]
        retire: Option<String>,
    },
    /// List services
    Services,
    /// Add a service from its published API or from samples, or show its operations
    #[command(
        after_help = "Examples:\n  kanzlei service add weather weather-openapi.json\n  kanzlei service sample weather --recorded > services/weather.openapi.json\n  kanzlei service show registry"
    )]
    Service {
        #[command(subcommand)]
        what: Service,
    },
    /// Print the OpenAPI document of everything deployed
    #[command(
        after_help = "Clients read the same at /~/openapi.json of the public listener.\n\nExample:\n  kanzlei openapi > openapi.json"
    )]
    Openapi,
    /// Retire a workflow; its revisions are kept
    #[command(after_help = "Example:\n  kanzlei retire harbour-tides")]
    Retire {
        /// The workflow
        name: String,
    },
    /// List what is live, with the counts of the last 24 hours
    #[command(after_help = "Examples:\n  kanzlei list\n  kanzlei list --tag partners")]
    List {
        /// Only workflows with this tag
        #[arg(long)]
        tag: Option<String>,
    },
    /// Show a workflow as a sheet, with its addresses
    #[command(
        after_help = "Examples:\n  kanzlei show berth-quote\n  kanzlei show berth-quote --source\n  kanzlei show berth-quote --stats 24h"
    )]
    Show {
        /// The workflow
        name: String,
        /// Print the document itself
        #[arg(long)]
        source: bool,
        /// Print how often each step ran and failed since then, and how long it took: a span such as 24h, or an instant
        #[arg(long, value_name = "SINCE", num_args = 0..=1, default_missing_value = "24h")]
        stats: Option<String>,
        /// With --stats, a revision other than the live one
        #[arg(long, requires = "stats")]
        revision: Option<u32>,
    },
    /// Send a request to a workflow's endpoint, as a client would
    #[command(
        after_help = "Values are JSON where they can be, else text: nights=2 is a number, imo='\"9074720\"' a text.\nInputs that are strings by their schema keep digits as they are.\nA file is named by an at sign: crew=@crew.csv.\n\nExamples:\n  kanzlei call berth-quote harbour=LIN imo=9074720 arrives=2027-03-04T06:00:00Z nights=2\n  kanzlei call crew-list imo=9074720 crew=@crew.csv\n  kanzlei call crew-list-copy imo=9074720 --output crew.csv"
    )]
    Call {
        /// The workflow
        name: String,
        /// Inputs
        #[arg(value_name = "KEY=VALUE")]
        inputs: Vec<String>,
        /// Also print the answer's headers
        #[arg(short = 'i', long)]
        headers: bool,
        /// Print the curl line instead of sending
        #[arg(long)]
        curl: bool,
        /// Write the body of the answer to a file
        #[arg(short, long, value_name = "FILE")]
        output: Option<std::path::PathBuf>,
        /// A key of the caller, where the endpoint asks for one
        #[arg(long, env = "KANZLEI_KEY", hide_env_values = true)]
        key: Option<String>,
    },
    /// List runs, newest first
    #[command(
        after_help = "Examples:\n  kanzlei runs\n  kanzlei runs berth-quote --failed --limit 5\n  kanzlei runs --state rejected\n  kanzlei runs --since 2h --status 5xx\n  kanzlei runs --kind timeout --caller northern-line\n  kanzlei runs --text 9074720 --entry /quotes"
    )]
    Runs {
        /// Only runs of this workflow
        workflow: Option<String>,
        #[command(flatten)]
        which: Which,
        /// Only the run that answered the request with this X-Request-Id
        #[arg(long)]
        request_id: Option<String>,
        /// Only runs before this one
        #[arg(long, value_name = "ID")]
        before: Option<uuid::Uuid>,
        #[arg(long, default_value_t = 20)]
        limit: u32,
    },
    /// List requests that were refused before a run began, newest first
    #[command(after_help = "Examples:\n  kanzlei refusals\n  kanzlei refusals berth-quote --status 422")]
    Refusals {
        /// Only requests to this workflow
        workflow: Option<String>,
        /// Only those answered with this status
        #[arg(long)]
        status: Option<u16>,
        /// Only the one with this X-Request-Id
        #[arg(long)]
        request_id: Option<String>,
        /// Only those before this one
        #[arg(long, value_name = "ID")]
        before: Option<uuid::Uuid>,
        #[arg(long, default_value_t = 20)]
        limit: u32,
        #[command(flatten)]
        names: Names,
    },
    /// Show the pseudonym of a caller, a key or a tag, to find it in a list that was passed on
    #[command(
        after_help = "Examples:\n  kanzlei pseudonym northern-line\n  grep \"$(kanzlei pseudonym northern-line)\" usage.csv"
    )]
    Pseudonym { name: String },
    /// Show what keys asked for, and what they have left of their allowances
    #[command(
        after_help = "Examples:\n  kanzlei usage\n  kanzlei usage northern-line --days 30\n  kanzlei usage --days 90 --csv --pseudonyms > usage.csv"
    )]
    Usage {
        /// Only this key
        key: Option<String>,
        /// How many days back
        #[arg(long, default_value_t = 7)]
        days: u32,
        /// Print a row for each key, workflow and hour, as CSV (RFC 4180)
        #[arg(long)]
        csv: bool,
        #[command(flatten)]
        names: Names,
    },
    /// List messages of senders as they arrived at webhooks, newest first
    #[command(
        after_help = "Examples:\n  kanzlei deliveries\n  kanzlei deliveries customs-recall --state unfit --since 2h\n  kanzlei deliveries --key msg_2KWPBgLlAfxdpx2AI54pPJ85f4W"
    )]
    Deliveries(Deliveries),
    /// Show one message: headers, body, and the input that the live revision makes of it
    #[command(
        after_help = "Examples:\n  kanzlei delivery last\n  kanzlei delivery 0195a1b2-0000-7000-8000-000000000001 --json"
    )]
    Delivery {
        /// Its id, or `last`
        id: String,
    },
    /// Process messages again, with the live revision or the one that received them
    #[command(
        after_help = "Each becomes a job of its own; a message that was a repetition is processed too when it is named.\n\nExamples:\n  kanzlei redeliver last\n  kanzlei redeliver --workflow customs-recall --state unfit\n  kanzlei redeliver --workflow customs-recall --since 2h --dry-run"
    )]
    Redeliver(Redeliver),
    /// Propose inputs for a workflow from the last messages that arrived for it
    #[command(after_help = "Example:\n  kanzlei propose customs-recall")]
    Propose {
        /// The workflow, or the draft whose address collects messages
        name: String,
    },
    /// Sign a message as its sender does, and send it to a webhook
    #[command(
        after_help = "The service signs with its own secret, which is not shown.\n\nExamples:\n  kanzlei send-webhook customs-recall\n  kanzlei send-webhook customs-recall --body decision.json --id msg_1\n  echo '{\"id\":\"P-1\"}' | kanzlei send-webhook payment-notice --body - --curl"
    )]
    SendWebhook(SendWebhook),
    /// Find the run, the job or the refusal of a request by its X-Request-Id
    #[command(after_help = "Example:\n  kanzlei find 01a21301-a8c5-70cd-ad69-18ba2780c433")]
    Find {
        /// The header `X-Request-Id` of the answer
        request_id: String,
    },
    /// Show what one run did, step by step, or what one of its steps knew
    #[command(
        after_help = "With --at, the run is made again from what it recorded up to that step: nothing is performed. What was masked or cut\nthen is masked or cut.\n\nExamples:\n  kanzlei run 0195a1b2-0000-7000-8000-000000000001\n  kanzlei run last --full\n  kanzlei run last --at 4\n  kanzlei run last --at 2.1 --item 3 --eval 'next.body.items.length'"
    )]
    Run(RunArgs),
    #[command(flatten)]
    OfJobs(JobCommand),
    /// Erase what belongs to a caller, a tag or a value: jobs, runs, messages, files, refused requests
    #[command(
        after_help = "Without `--yes` it counts what would be erased. Jobs that have not ended stay, and are counted. The audit trail keeps that something was erased, without the value.\n\nExamples:\n  kanzlei erase --text 9074720\n  kanzlei erase --caller tide-4417 --yes\n  kanzlei erase --tag hold-17 --yes"
    )]
    #[command(group = clap::ArgGroup::new("whose").required(true))]
    Erase {
        /// The name of a key, the subject of a token, or an address
        #[arg(long, group = "whose", value_name = "NAME")]
        caller: Option<String>,
        /// A tag of jobs
        #[arg(long, group = "whose")]
        tag: Option<String>,
        /// A text that occurs in inputs and messages
        #[arg(long, group = "whose")]
        text: Option<String>,
        /// Erase it for good
        #[arg(long)]
        yes: bool,
    },
    /// Resume an installation that was restored from a backup: its jobs, timetables and notices begin
    #[command(
        after_help = "Look at it before: kanzlei overview, kanzlei coming, kanzlei jobs.\n\nExample:\n  kanzlei resume"
    )]
    Resume,
    /// Show or change the level of the service's log while it runs
    #[command(
        after_help = "It is that of the process that answers. A level is off, error, warn, info, debug or trace, or a list for parts of the program.\n\nExamples:\n  kanzlei log\n  kanzlei log debug --for 10m\n  kanzlei log info,sqlx=debug"
    )]
    Log {
        /// The level
        level: Option<String>,
        /// For how long, at most a day; until the process ends by default
        #[arg(long = "for", value_name = "SPAN", requires = "level")]
        span: Option<String>,
    },
    /// Show runs, failures and times of the last minutes, and how full the service is
    #[command(
        after_help = "Percentiles are read from counts by minute, with an error of at most an eighth.\n\nExamples:\n  kanzlei overview\n  kanzlei overview --minutes 15 --workflow berth-quote\n  kanzlei overview --json"
    )]
    Overview {
        /// Minutes up to now, at most 1440
        #[arg(long, default_value_t = 60)]
        minutes: u32,
        /// One workflow
        #[arg(long)]
        workflow: Option<String>,
    },
    /// List lanes with their depth and limits
    Lanes,
    /// Forecast when a lane will be empty, as it is and with another pace or concurrency
    #[command(
        after_help = "The jobs that wait are played on a clock that jumps, by the rules of the lane and the times that their steps took in the last day. New jobs arrive as in the last five minutes.\n\nExamples:\n  kanzlei forecast reminders\n  kanzlei forecast reminders --pace 120/min --at-once 4\n  kanzlei forecast reminders --arriving 0"
    )]
    Forecast {
        /// The lane
        lane: String,
        /// Most jobs at the same time
        #[arg(long, value_name = "N")]
        at_once: Option<u32>,
        /// Most jobs that begin in an interval
        #[arg(long, value_name = "PACE")]
        pace: Option<String>,
        /// Jobs that arrive in a minute
        #[arg(long, value_name = "N")]
        arriving: Option<f64>,
    },
    /// Hold a lane, release it, or cancel the jobs that wait in it
    #[command(
        after_help = "Examples:\n  kanzlei lane hold reminders\n  kanzlei lane release reminders\n  kanzlei lane empty reminders"
    )]
    Lane {
        #[arg(value_enum)]
        action: LaneAction,
        /// The lane
        name: String,
    },
    /// List what is to come: jobs that become due, pauses that end, retries, timetables
    #[command(after_help = "Examples:\n  kanzlei coming\n  kanzlei coming day\n  kanzlei coming week --json")]
    Coming {
        /// How far to look
        #[arg(value_enum, default_value_t = Ahead::Hour)]
        span: Ahead,
    },
    /// List alerts: how they stand, what they measure, and when they lasted
    Alerts,
    /// Silence an alert, end its silence, or retire it
    #[command(
        after_help = "Examples:\n  kanzlei alert silence quotes-fail --for 2h --reason 'the registry is being moved'\n  kanzlei alert speak quotes-fail"
    )]
    Alert {
        #[command(subcommand)]
        what: AlertAction,
    },
    /// List timetables with their next and last times, or preview a pattern
    #[command(
        after_help = "Examples:\n  kanzlei timetables\n  kanzlei timetables preview '45 2,14 * * *' --zone Europe/Oslo --from 2027-03-27T12:00:00Z --count 4"
    )]
    Timetables {
        #[command(subcommand)]
        what: Option<Timetables>,
    },
    /// Pause a timetable, resume it, or fire it now
    #[command(after_help = "Examples:\n  kanzlei timetable fire night-watch\n  kanzlei timetable pause night-watch 1")]
    Timetable {
        #[arg(value_enum)]
        action: TimetableAction,
        workflow: String,
        /// Number of the timetable in the workflow
        #[arg(default_value_t = 1)]
        number: u16,
    },
    /// Evaluate an expression
    #[command(
        after_help = "The members of the JSON file are the names in scope; `-` reads standard input.\n\nExamples:\n  kanzlei eval '1 + 2'\n  kanzlei eval 'vessels.filter(v => v.length_m > 90).map(v => v.name)' --with vessels.json\n  kanzlei eval --script totals.js --with vessels.json"
    )]
    Eval {
        /// An expression in the ECMAScript subset of documents
        #[arg(required_unless_present = "script")]
        expression: Option<String>,
        /// A file with the statements of a script, in place of an expression
        #[arg(long, value_name = "FILE", conflicts_with = "expression")]
        script: Option<PathBuf>,
        #[arg(long, value_name = "FILE.json")]
        with: Option<PathBuf>,
    },
    /// Print completions for a shell
    #[command(after_help = "Example:\n  kanzlei completions bash > ~/.local/share/bash-completion/completions/kanzlei")]
    Completions { shell: clap_complete::Shell },
    /// Write the man pages into a folder
    #[command(hide = true)]
    Manual { folder: PathBuf },
    /// Print the JSON Schema of a kind of document, for editors
    #[command(after_help = "Example:\n  kanzlei schema workflow > workflow.schema.json")]
    Schema {
        /// workflow, service, lane, allowance, issuer, alert, settings, database, library or cases
        kind: String,
    },
}

#[derive(Clone, Copy, Debug, PartialEq, clap::ValueEnum)]
pub enum Format {
    /// Text with source lines
    Text,
    Json,
    /// SARIF 2.1.0, for editors and code hosts
    Sarif,
}

#[derive(ClapArgs)]
pub struct Rehearse {
    /// Documents, or folders with documents; those of kind `cases` are run
    #[arg(required = true)]
    pub paths: Vec<PathBuf>,
    /// Only cases with this text in `workflow/name`
    #[arg(long, value_name = "TEXT")]
    pub only: Option<String>,
    /// Run again whenever a file changes
    #[arg(long)]
    pub watch: bool,
    /// Also write the results as JUnit XML
    #[arg(long, value_name = "FILE")]
    pub junit: Option<PathBuf>,
    /// Send the requests to a deployed service instead, and compare replies, steps and final states
    #[arg(long, value_name = "URL")]
    pub against: Option<String>,
}
