//! Deliveries: listing, looking, processing again, and sending like a sender.

use std::path::PathBuf;

use clap::Args;
use kanzlei_api::deliveries::DeliveryFilter;
use uuid::Uuid;

use super::Names;

#[derive(Args)]
pub struct Deliveries {
    /// Only those to this workflow
    workflow: Option<String>,
    /// Only those in this state: accepted, repeated, unfit, captured
    #[arg(long)]
    state: Option<String>,
    /// Only those that the sender tells apart by this text
    #[arg(long)]
    key: Option<String>,
    /// Only those of which this run or job came
    #[arg(long, value_name = "ID")]
    run: Option<Uuid>,
    /// Only those that arrived since an instant, or since a span before now: 2h
    #[arg(long, value_name = "WHEN")]
    since: Option<String>,
    /// Only those that arrived before an instant, or before a span before now: 2h
    #[arg(long, value_name = "WHEN")]
    until: Option<String>,
    /// Only those before this one
    #[arg(long, value_name = "ID")]
    before: Option<Uuid>,
    #[arg(long, default_value_t = 20)]
    limit: u32,
    #[command(flatten)]
    names: Names,
}

impl Deliveries {
    /// The filter that they are.
    pub fn filter(self) -> DeliveryFilter {
        let Deliveries { workflow, state, key, run, since, until, before, limit, names } = self;
        DeliveryFilter {
            workflow,
            state,
            key,
            run,
            since,
            until,
            before,
            limit: Some(limit),
            pseudonyms: names.pseudonyms(),
        }
    }
}

#[derive(Args)]
pub struct Redeliver {
    /// Deliveries by their ids, or `last`
    pub ids: Vec<String>,
    /// All of this workflow
    #[arg(long)]
    pub workflow: Option<String>,
    /// All in this state: accepted, repeated, unfit, captured
    #[arg(long)]
    pub state: Option<String>,
    /// All that arrived since an instant, or since a span before now: 2h
    #[arg(long, value_name = "WHEN")]
    pub since: Option<String>,
    /// All that arrived before an instant, or before a span before now: 2h
    #[arg(long, value_name = "WHEN")]
    pub until: Option<String>,
    /// Use the revision that received each, not the live one
    #[arg(long)]
    pub as_received: bool,
    /// Count them and queue nothing
    #[arg(long)]
    pub dry_run: bool,
}

#[derive(Args)]
pub struct SendWebhook {
    /// The workflow that receives it
    pub name: String,
    /// The file with the body; `-` for standard input; by default an example from the document
    #[arg(long, value_name = "FILE")]
    pub body: Option<PathBuf>,
    /// The webhook, where the workflow has several: its path
    #[arg(long, value_name = "PATH")]
    pub entry: Option<String>,
    /// A header field, such as `X-Event: paid`; repeatable
    #[arg(long = "header", value_name = "NAME: VALUE")]
    pub headers: Vec<String>,
    /// The id of the message; a fresh one by default
    #[arg(long)]
    pub id: Option<String>,
    /// Print the line of curl instead of sending it; a signature with a time is good for some minutes
    #[arg(long)]
    pub curl: bool,
}
