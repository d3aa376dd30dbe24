//! The commands and their help.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Parser, Subcommand};

#[derive(Parser)]
#[command(
    name = "kanzlei",
    version,
    about = "Check, rehearse, deploy, call and look into workflows",
    after_help = "Examples:\n  kanzlei check demo/harbour\n  kanzlei rehearse demo/harbour\n  kanzlei deploy demo/harbour\n  kanzlei call berth-quote harbour=LIN imo=9074729 arrives=2027-03-04T06:00:00Z\n  kanzlei runs --failed\n\n\
                  Exit codes: 0 good, 1 the thing asked about is bad, 2 usage, 3 service not reachable."
)]
pub struct Args {
    #[command(flatten)]
    pub place: Place,
    #[command(subcommand)]
    pub command: Command,
}

/// Where the service is. Without these the nearest `.kanzlei/client.toml` upwards is read.
#[derive(ClapArgs)]
pub struct Place {
    /// Address of the control listener
    #[arg(long, env = "KANZLEI_URL", global = true, value_name = "URL")]
    pub url: Option<String>,
    /// Operator token; better kept in the environment
    #[arg(long, env = "KANZLEI_TOKEN", global = true, hide_env_values = true, value_name = "TOKEN")]
    pub token: Option<String>,
    /// Print JSON
    #[arg(long, global = true)]
    pub json: bool,
}

#[derive(Subcommand)]
pub enum Command {
    /// Report everything that is wrong with documents, without a service
    #[command(
        after_help = "Folders are searched for documents. For single files, the documents around the nearest\n`services` folder upwards are there to be referred to.\n\nExamples:\n  kanzlei check demo/harbour\n  kanzlei check demo/harbour/workflows/berth-quote.yaml --json\n  kanzlei check demo/harbour --format sarif > kanzlei.sarif"
    )]
    Check {
        #[arg(required = true)]
        paths: Vec<PathBuf>,
        /// How findings are written
        #[arg(long, value_enum, default_value_t = Format::Text)]
        format: Format,
    },
    /// Begin a workflow from a worked example, with its cases
    #[command(
        after_help = "Examples to begin from: berth-quote, harbour-tides, vessel-dues, stay-bill, arrival-brief,\ngather-reports, harbour-report.\n\nExample:\n  kanzlei new port-fees --like stay-bill"
    )]
    New {
        name: String,
        /// The example to begin from; berth-quote unless said
        #[arg(long, value_name = "EXAMPLE")]
        like: Option<String>,
        /// The folder with `workflows`, `cases` and `services`
        #[arg(long, default_value = ".", value_name = "FOLDER")]
        folder: PathBuf,
    },
    /// Run cases offline and show what differs and what was not reached
    #[command(
        after_help = "Services and databases are answered by the stubs of the cases, time by a clock that jumps.\n\nExamples:\n  kanzlei rehearse demo/harbour\n  kanzlei rehearse demo/harbour --only berth-quote --watch\n  kanzlei rehearse demo/harbour --junit rehearsal.xml\n  kanzlei rehearse demo/harbour/cases/berth-quote.yaml --against http://127.0.0.1:7080"
    )]
    Rehearse(Rehearse),
    /// Make a case out of a past run
    #[command(after_help = "Prints a document of cases.\n\nExample:\n  kanzlei record last > cases/berth-quote-1.yaml")]
    Record {
        /// The run's id, or `last`
        id: String,
        /// What the case shows
        #[arg(long)]
        name: Option<String>,
    },
    /// Check and rehearse documents and put them live, all or none
    #[command(
        after_help = "Prints the addresses and a curl line with example values.\n\nExample:\n  kanzlei deploy demo/harbour"
    )]
    Deploy {
        #[arg(required = true)]
        paths: Vec<PathBuf>,
        /// Do not run the cases first
        #[arg(long)]
        unrehearsed: bool,
    },
    /// Secrets that services are called with: list, set, remove
    #[command(
        after_help = "A value is read from the prompt or from standard input, is kept encrypted and never shown.\n\nExamples:\n  kanzlei secrets\n  kanzlei secrets set rates-token\n  printf %s \"$TOKEN\" | kanzlei secrets set rates-token"
    )]
    Secrets {
        #[command(subcommand)]
        what: Option<Secrets>,
    },
    /// List services
    Services,
    /// Take in a published API, or show a service's operations
    #[command(
        after_help = "Examples:\n  kanzlei service add weather weather-openapi.json\n  kanzlei service show registry"
    )]
    Service {
        #[command(subcommand)]
        what: Service,
    },
    /// Print the OpenAPI document of everything deployed
    #[command(
        after_help = "Clients read the same at /-/openapi.json of the public listener.\n\nExample:\n  kanzlei openapi > openapi.json"
    )]
    Openapi,
    /// Take a workflow off the air; its revisions stay
    #[command(after_help = "Example:\n  kanzlei retire harbour-tides")]
    Retire { name: String },
    /// List what is live, with the counts of the last 24 hours
    List,
    /// Show a workflow as a sheet, with its addresses
    #[command(after_help = "Example:\n  kanzlei show berth-quote\n  kanzlei show berth-quote --source")]
    Show {
        name: String,
        /// Print the document itself
        #[arg(long)]
        source: bool,
    },
    /// Send a request to a workflow's endpoint, as a client would
    #[command(
        after_help = "Values are JSON where they can be, else text: nights=2 is a number, imo='\"9074729\"' a text.\nInputs that are texts by their schema take digits as they are.\n\nExample:\n  kanzlei call berth-quote harbour=LIN imo=9074729 arrives=2027-03-04T06:00:00Z nights=2"
    )]
    Call {
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
    },
    /// List runs, newest first
    #[command(after_help = "Examples:\n  kanzlei runs\n  kanzlei runs berth-quote --failed --limit 5")]
    Runs {
        /// Only runs of this workflow
        workflow: Option<String>,
        /// Only failed runs
        #[arg(long)]
        failed: bool,
        #[arg(long, default_value_t = 20)]
        limit: u32,
    },
    /// Show what one run did, step by step
    #[command(after_help = "Example:\n  kanzlei run 0195a1b2-0000-7000-8000-000000000001\n  kanzlei run last")]
    Run {
        /// The run's id, or `last`
        id: String,
        /// Print values in full
        #[arg(long)]
        full: bool,
    },
    /// Evaluate an expression
    #[command(
        after_help = "The members of the JSON file are the names in scope; `-` reads standard input.\n\nExamples:\n  kanzlei eval '1 + 2'\n  kanzlei eval 'vessels.filter(v => v.length_m > 90).map(v => v.name)' --with vessels.json"
    )]
    Eval {
        expression: String,
        #[arg(long, value_name = "FILE.json")]
        with: Option<PathBuf>,
    },
    /// Print the JSON Schema of a kind of document, for editors
    #[command(after_help = "Example:\n  kanzlei schema workflow > workflow.schema.json")]
    Schema {
        /// workflow, service or cases
        kind: String,
    },
}

#[derive(Clone, Copy, Debug, PartialEq, clap::ValueEnum)]
pub enum Format {
    /// With the lines they are about
    Text,
    Json,
    /// SARIF 2.1.0, for editors and code hosts
    Sarif,
}

#[derive(ClapArgs)]
pub struct Rehearse {
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

#[derive(Subcommand)]
pub enum Service {
    /// Take an OpenAPI description in, with a document of kind `service` beside it
    Add {
        name: String,
        /// OpenAPI 3 as YAML or JSON
        api: PathBuf,
        /// Base address; the description's first server unless said
        #[arg(long, value_name = "URL")]
        base: Option<String>,
        /// The folder with `services`
        #[arg(long, default_value = ".", value_name = "FOLDER")]
        folder: PathBuf,
    },
    /// List the operations of a live service with what they take and give
    Show { name: String },
}

#[derive(Subcommand)]
pub enum Secrets {
    /// Set or replace a secret; its value is asked for
    Set { name: String },
    /// Remove a secret that no live service uses
    Remove { name: String },
}
