//! What is tried before it is live, and how.

use std::path::PathBuf;

use clap::Args as ClapArgs;
use kanzlei_api::runs::RunFilter;

/// What is tried: a workflow with the documents and drafts that it sees.
#[derive(ClapArgs)]
pub struct Target {
    /// A file, or a workflow: its draft, or without one what is live; NAME@live for what is live
    pub target: String,
    /// See this draft too: NAME, or KIND/NAME
    #[arg(long, value_name = "NAME")]
    pub draft: Vec<String>,
    /// See these documents too
    #[arg(long, value_name = "PATH")]
    pub with: Vec<PathBuf>,
}

/// How a trial runs.
#[derive(ClapArgs)]
pub struct Try {
    #[command(flatten)]
    pub target: Target,
    /// Inputs
    #[arg(value_name = "KEY=VALUE")]
    pub inputs: Vec<String>,
    /// A file with the input as JSON; `-` for standard input
    #[arg(long, value_name = "FILE")]
    pub input: Option<PathBuf>,
    /// Use the input as it is, without a sample for what is missing
    #[arg(long)]
    pub exact: bool,
    /// Use the input of a past run: its id, or `last`
    #[arg(long, value_name = "RUN")]
    pub run: Option<String>,
    /// Use the input that it makes of a message: the id of a delivery, or `last`
    #[arg(long, value_name = "DELIVERY", conflicts_with_all = ["run", "case", "refusal"])]
    pub delivery: Option<String>,
    /// Use the input that it makes of a changed row: a file with JSON such as '{"before": null, "after": {"id": 7}}'; `-` for standard input
    #[arg(long, value_name = "FILE", conflicts_with_all = ["run", "case", "refusal", "delivery"])]
    pub change: Option<PathBuf>,
    /// Who calls, as a case has it: JSON such as '{"key": "bridge"}' or '{"name": "alda", "claims": {"scope": "quotes"}}'
    #[arg(long, value_name = "JSON")]
    pub caller: Option<String>,
    /// Use the input of a case: its name, in the folder of the target or among --with
    #[arg(long, value_name = "NAME", conflicts_with_all = ["run", "refusal"])]
    pub case: Option<String>,
    /// Use the body of a refused request: its X-Request-Id
    #[arg(long, value_name = "REQUEST_ID", conflicts_with = "run")]
    pub refusal: Option<String>,
    /// Continue from this step of the run, by number: what was asked before is answered as then
    #[arg(long, value_name = "STEP", requires = "run")]
    pub from: Option<String>,
    /// Perform this step alone, by number or id: what comes before it is simulated, or as in --run
    #[arg(long, value_name = "STEP", conflicts_with_all = ["from", "until"])]
    pub step: Option<String>,
    /// Stop before each effect, and ask what is to come of it
    #[arg(long, short, conflicts_with = "json")]
    pub interactive: bool,
    /// End with this step, by number or id
    #[arg(long, value_name = "STEP")]
    pub until: Option<String>,
    /// Stubs, as `stubs` of a document of cases has them
    #[arg(long, value_name = "FILE")]
    pub stub: Option<PathBuf>,
    /// Perform this although it may change something: `customs.request`, `sql.harbour`, `keep`, `enqueue`, `cancel`
    #[arg(long, value_name = "NAME")]
    pub real: Vec<String>,
    /// Do not perform this although it only reads
    #[arg(long, value_name = "NAME")]
    pub simulate: Vec<String>,
    /// Answer as the run of --run was answered: `registry`, `rates.latest`, `sql.harbour`
    #[arg(long, value_name = "NAME", requires = "run")]
    pub recorded: Vec<String>,
    /// Perform everything as if it were live
    #[arg(long)]
    pub live: bool,
    /// Print values in full
    #[arg(long)]
    pub full: bool,
}

/// Which past runs are answered again, and by what.
#[derive(ClapArgs)]
pub struct Retrace {
    #[command(flatten)]
    pub target: Target,
    /// At most so many, the newest first; up to 1000
    #[arg(long, default_value_t = 100, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=1000))]
    pub last: u32,
    #[command(flatten)]
    pub which: Which,
    /// List each run that is not answered as before
    #[arg(long)]
    pub full: bool,
}

/// What is shown of a run.
#[derive(ClapArgs)]
pub struct RunArgs {
    /// The run's id, or `last`
    pub id: String,
    /// Print values in full, and every item of loops
    #[arg(long)]
    pub full: bool,
    /// Show the names that this step knew when it began, by its number
    #[arg(long, value_name = "STEP")]
    pub at: Option<String>,
    /// Its positions in the loops around it, from 0: 3, or 2.0; default: where it began first
    #[arg(long, value_name = "ITEM", requires = "at")]
    pub item: Option<String>,
    /// Evaluate an expression there
    #[arg(long, value_name = "EXPRESSION", requires = "at")]
    pub eval: Option<String>,
}

/// Which past runs are meant.
#[derive(ClapArgs)]
pub struct Which {
    /// Only failed runs
    #[arg(long, conflicts_with = "state")]
    pub failed: bool,
    /// Only runs with this final state: succeeded, rejected, failed or cancelled
    #[arg(long)]
    pub state: Option<String>,
    /// Only those answered with this status, or one of a class: 422, 5xx
    #[arg(long)]
    pub status: Option<String>,
    /// Only those that began since an instant, or since a span before now: 2h
    #[arg(long, value_name = "WHEN")]
    pub since: Option<String>,
    /// Only those that began before an instant, or before a span before now: 2h
    #[arg(long, value_name = "WHEN")]
    pub until: Option<String>,
    /// Only those that failed in this way: timeout, status, expression …
    #[arg(long)]
    pub kind: Option<String>,
    /// Only those of this caller: the name of a key, ISSUER/SUBJECT of a token, or an address
    #[arg(long)]
    pub caller: Option<String>,
    /// Only those with this text in what they were entered by, such as /quotes
    #[arg(long, value_name = "TEXT")]
    pub entry: Option<String>,
    /// Only those with this text in the input, the reply or the failure
    #[arg(long)]
    pub text: Option<String>,
}

impl Which {
    /// As the service filters by it.
    pub fn filter(self) -> RunFilter {
        RunFilter {
            state: if self.failed { Some("failed".to_owned()) } else { self.state },
            status: self.status,
            since: self.since,
            until: self.until,
            kind: self.kind,
            caller: self.caller,
            entry: self.entry,
            text: self.text,
            ..RunFilter::default()
        }
    }
}

#[derive(ClapArgs)]
pub struct Preview {
    /// Drafts on the service: NAME, or KIND/NAME; without one, what is open is listed
    #[arg(value_name = "NAME")]
    pub names: Vec<String>,
    /// Close an address, by its id, its draft or its URL
    #[arg(long, value_name = "ID|NAME|URL", conflicts_with_all = ["names", "hours", "live", "real", "simulate", "stub"])]
    pub off: Option<String>,
    /// Hours until it closes
    #[arg(long, default_value_t = 8, value_parser = clap::value_parser!(u32).range(1..=168))]
    pub hours: u32,
    /// Perform everything, as if it were live
    #[arg(long)]
    pub live: bool,
    /// Perform this although it may change something: `customs.request`, `sql.harbour`, `keep`, `enqueue`
    #[arg(long, value_name = "NAME")]
    pub real: Vec<String>,
    /// Simulate this although it only reads
    #[arg(long, value_name = "NAME")]
    pub simulate: Vec<String>,
    /// A file with stubs, as a document of cases has them
    #[arg(long, value_name = "FILE")]
    pub stub: Option<PathBuf>,
}
