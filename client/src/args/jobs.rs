//! Selections of jobs, lanes and timetables.

use clap::{Args as ClapArgs, Subcommand};

/// Selects jobs; all given conditions must match.
#[derive(ClapArgs, Default)]
pub struct Select {
    /// scheduled, queued, running, waiting, succeeded, rejected, failed or cancelled; several with commas
    #[arg(long)]
    pub state: Option<String>,
    #[arg(long)]
    pub lane: Option<String>,
    #[arg(long)]
    pub workflow: Option<String>,
    /// A whole tag
    #[arg(long)]
    pub tag: Option<String>,
    /// How a tag begins: `hold-`
    #[arg(long, value_name = "TEXT", conflicts_with = "tag")]
    pub tag_prefix: Option<String>,
    /// Jobs of one group, by its id
    #[arg(long, value_name = "ID")]
    pub group: Option<String>,
    #[arg(long, value_name = "INSTANT")]
    pub due_from: Option<String>,
    #[arg(long, value_name = "INSTANT")]
    pub due_until: Option<String>,
    /// Jobs that ended then or later
    #[arg(long, value_name = "INSTANT")]
    pub ended_from: Option<String>,
    /// Jobs that ended before
    #[arg(long, value_name = "INSTANT")]
    pub ended_until: Option<String>,
    /// The name of the key, or the subject of the token, that queued them
    #[arg(long, value_name = "NAME")]
    pub caller: Option<String>,
    /// The revision of the workflow
    #[arg(long, value_name = "N")]
    pub revision: Option<u32>,
    /// How they failed: a kind such as `timeout`, or a status such as 503
    #[arg(long, value_name = "KIND")]
    pub failure: Option<String>,
    /// The number of the step that failed: `2.1`
    #[arg(long, value_name = "NUMBER")]
    pub step: Option<String>,
    /// Text that occurs in the input
    #[arg(long)]
    pub text: Option<String>,
}

impl Select {
    pub fn is_empty(&self) -> bool {
        let first = [&self.state, &self.lane, &self.workflow, &self.tag, &self.tag_prefix];
        let more = [&self.group, &self.due_from, &self.due_until, &self.text];
        let last = [&self.ended_from, &self.ended_until, &self.caller, &self.failure, &self.step];
        first.iter().chain(&more).chain(&last).all(|part| part.is_none()) && self.revision.is_none()
    }
}

#[derive(ClapArgs)]
pub struct Jobs {
    #[command(flatten)]
    pub select: Select,
    /// Only jobs before this one, for the next page
    #[arg(long, value_name = "ID")]
    pub before: Option<String>,
    /// Refresh the list until interrupted
    #[arg(long)]
    pub follow: bool,
    #[arg(long, default_value_t = 20)]
    pub limit: u32,
}

/// How far to look ahead.
#[derive(Clone, Copy, Debug, PartialEq, clap::ValueEnum)]
pub enum Ahead {
    Hour,
    Day,
    Week,
}

impl Ahead {
    pub fn minutes(self) -> u32 {
        match self {
            Ahead::Hour => 60,
            Ahead::Day => 24 * 60,
            Ahead::Week => 7 * 24 * 60,
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, clap::ValueEnum)]
pub enum LaneAction {
    Hold,
    Release,
    Empty,
}

#[derive(Clone, Copy, Debug, PartialEq, clap::ValueEnum)]
pub enum TimetableAction {
    Pause,
    Resume,
    Fire,
}

#[derive(Subcommand)]
pub enum Timetables {
    /// Show the due times of a pattern, offline
    Preview {
        /// Five fields: minute, hour, day of month, month, weekday; or a span such as `30min` for a fixed grid
        pattern: String,
        /// Time zone by its IANA name
        #[arg(long, default_value = "UTC")]
        zone: String,
        /// After this instant; now by default
        #[arg(long, value_name = "INSTANT")]
        from: Option<String>,
        /// How many due times to show
        #[arg(long, default_value_t = 5, value_parser = clap::value_parser!(u16).range(1..=1000))]
        count: u16,
    },
}
