//! Services: added, described from samples, shown and retired.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand};

#[derive(Subcommand)]
pub enum Service {
    /// Add an OpenAPI description with a document of kind `service`
    Add {
        /// The name of the service, by which workflows call it
        name: String,
        /// OpenAPI 3 as YAML or JSON
        api: PathBuf,
        /// Base address; default: the description's first server
        #[arg(long, value_name = "URL")]
        base: Option<String>,
        /// The folder with `services`
        #[arg(long, default_value = ".", value_name = "FOLDER")]
        folder: PathBuf,
    },
    /// Describe a service from samples of its answers
    #[command(
        after_help = "Prints an OpenAPI document. The samples are JSON files of one call, or what runs recorded of calls by address.\n\nExamples:\n  kanzlei service sample weather --call 'GET /now/{place}' oslo.json bergen.json > services/weather.openapi.json\n  kanzlei service sample weather --recorded --last 500 > services/weather.openapi.json"
    )]
    Sample(Sample),
    /// List the operations of a live service with their parameters and answers
    Show {
        /// The service
        name: String,
    },
    /// Retire a service that no live workflow calls; its revisions are kept
    #[command(after_help = "Example:\n  kanzlei service retire tides")]
    Retire {
        /// The service
        name: String,
    },
}

/// Samples of answers.
#[derive(ClapArgs)]
pub struct Sample {
    /// The name of the service
    pub service: String,
    /// Files with an answer each, as JSON; `-` for standard input
    #[arg(value_name = "FILE", required_unless_present = "recorded", requires = "call")]
    pub files: Vec<PathBuf>,
    /// The call that they answer: a method and a path below the base, such as `GET /now/{place}`
    #[arg(long, value_name = "CALL")]
    pub call: Option<String>,
    /// Their status
    #[arg(long, default_value_t = 200, value_parser = clap::value_parser!(u16).range(100..=599))]
    pub status: u16,
    /// Use the answers that runs recorded
    #[arg(long, conflicts_with_all = ["files", "call"])]
    pub recorded: bool,
    /// How many runs are read, the newest first; up to 500
    #[arg(long, default_value_t = 100, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=500))]
    pub last: u32,
}
