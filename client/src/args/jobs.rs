//! Selections of jobs, lanes and timetables.

use clap::{Args as ClapArgs, Subcommand};

use super::Names;

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
    /// A whole tag; several with commas, of which a job has all
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
    #[command(flatten)]
    pub names: Names,
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

/// What is done about jobs.
#[derive(Subcommand)]
pub enum JobCommand {
    /// List jobs, newest first, by anything they have in common
    #[command(
        after_help = "Examples:\n  kanzlei jobs\n  kanzlei jobs --state failed --lane reminders\n  kanzlei jobs --tag hold-17 --follow\n  kanzlei jobs --tag hold-17,harbour-NOBGO\n  kanzlei jobs --tag-prefix hold-\n  kanzlei jobs --group 0195a1b2-0000-7000-8000-000000000001\n  kanzlei jobs --due-from 2027-03-04T00:00:00Z --due-until 2027-03-05T00:00:00Z"
    )]
    Jobs(Jobs),
    /// Show one job: its times, history, journal, and the curl line that polls it
    #[command(
        after_help = "Examples:\n  kanzlei job last --follow\n  kanzlei job 0195a1b2-0000-7000-8000-000000000001"
    )]
    Job {
        /// The job's id, or `last`
        id: String,
        /// Print a line whenever something changes, until it ends
        #[arg(long)]
        follow: bool,
        /// Print values in full
        #[arg(long)]
        full: bool,
    },
    /// Cancel jobs: those that wait at once, those that run before their next step
    #[command(
        after_help = "Examples:\n  kanzlei cancel 0195a1b2-0000-7000-8000-000000000001\n  kanzlei cancel --tag hold-17\n  kanzlei cancel --group 0195a1b2-0000-7000-8000-000000000001 --preview"
    )]
    Cancel {
        #[command(flatten)]
        which: WhichJobs,
    },
    /// Run jobs now that are scheduled, pause or wait for a retry
    #[command(after_help = "Examples:\n  kanzlei run-now last\n  kanzlei run-now --lane reminders --pace 10/s")]
    RunNow {
        #[command(flatten)]
        which: WhichJobs,
        /// How many become due in an interval, such as `10/s`; all at once by default
        #[arg(long, value_name = "PACE")]
        pace: Option<String>,
    },
    /// Reschedule jobs that have not started, or the wait that a job is in
    #[command(
        after_help = "Of several pauses at the same time the one that ends first is moved. Of a callback it is the time until which it is waited for.\n\nExamples:\n  kanzlei postpone 2h last\n  kanzlei postpone 2027-03-04T06:00:00Z --lane reminders --state queued"
    )]
    Postpone {
        /// An instant, or a span from now
        due: String,
        #[command(flatten)]
        which: WhichJobs,
    },
    /// Retry failed or rejected jobs, from the failed step or from the start
    #[command(
        after_help = "With `--live` a job continues with the live revision of its workflow, where that revision asks for the same in all steps that are done; they are not done again.\n\nExamples:\n  kanzlei retry last\n  kanzlei retry --failure 503 --step 3 --ended-from 2027-03-04T12:00:00Z --preview\n  kanzlei retry --state failed --workflow dues-reminder --pace 10/s\n  kanzlei retry last --live\n  kanzlei retry last --from-start"
    )]
    Retry {
        #[command(flatten)]
        which: WhichJobs,
        /// Repeat all steps, with the same input
        #[arg(long)]
        from_start: bool,
        /// Continue with the live revision of the workflow
        #[arg(long)]
        live: bool,
        /// How many become due in an interval, such as `10/s`; all at once by default
        #[arg(long, value_name = "PACE")]
        pace: Option<String>,
    },
    /// Undo a retry of jobs that have not begun again
    #[command(after_help = "Example:\n  kanzlei undo 0195a1b2-0000-7000-8000-000000000001")]
    Undo {
        /// The id that the retry printed
        change: String,
        /// Only these jobs of it
        ids: Vec<String>,
    },
    /// Answer a callback that a job waits for
    #[command(
        after_help = "Examples:\n  kanzlei answer last --body '{\"granted\": true}'\n  kanzlei answer 0195a1b2-0000-7000-8000-000000000001 --step 2.1 --body answer.json"
    )]
    Answer {
        /// The job's id, or `last`
        id: String,
        /// What the step returns: JSON, a file with JSON, or `-` for standard input
        #[arg(long, value_name = "JSON|FILE")]
        body: String,
        /// The number of the step, where several wait
        #[arg(long, value_name = "NUMBER")]
        step: Option<String>,
    },
    /// Correct the input of a job that has not begun
    #[command(
        after_help = "Values are read as JSON where they are JSON. `null` removes a value. The change is kept in the audit trail.\n\nExamples:\n  kanzlei correct last nights=3\n  kanzlei correct 0195a1b2-0000-7000-8000-000000000001 harbour=NOBGO berth='{\"quay\": 7}'"
    )]
    Correct {
        /// The job's id, or `last`
        id: String,
        /// Members of the input to be changed
        #[arg(value_name = "KEY=VALUE", required = true)]
        inputs: Vec<String>,
    },
    /// Hold a workflow: its jobs wait, and its endpoints that answer at once refuse requests
    #[command(
        after_help = "Without a name, the workflows that are held are listed.\n\nExamples:\n  kanzlei hold\n  kanzlei hold dues-reminder --reason 'the mail server is being moved'"
    )]
    Hold {
        /// The workflow
        workflow: Option<String>,
        /// Why, for the others
        #[arg(long, value_name = "TEXT")]
        reason: Option<String>,
    },
    /// Release a workflow that is held
    #[command(after_help = "Example:\n  kanzlei release dues-reminder")]
    Release {
        /// The workflow
        workflow: String,
    },
}

/// The jobs of a change.
#[derive(ClapArgs)]
pub struct WhichJobs {
    /// Jobs by their ids
    pub ids: Vec<String>,
    #[command(flatten)]
    pub select: Select,
    /// Change nothing; show which jobs would be changed, and why others would not
    #[arg(long)]
    pub preview: bool,
}
