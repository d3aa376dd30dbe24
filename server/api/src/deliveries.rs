//! Deliveries: messages of senders as they arrived at webhooks, and what became of them.

use std::collections::BTreeMap;

use kanzlei_model::problem::Problem;
use kanzlei_model::time::Timestamp;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::{Json, api};

/// Which deliveries to list; everything that is set must fit.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct DeliveryFilter {
    /// The name of a workflow.
    pub workflow: Option<String>,
    /// `accepted`, `repeated`, `unfit` or `captured`.
    pub state: Option<String>,
    /// What tells it apart, as its sender wrote it.
    pub key: Option<String>,
    /// The run or job that came of it.
    pub run: Option<Uuid>,
    /// Only those that arrived since an instant, or since a span before now: `2h`.
    pub since: Option<String>,
    /// Only those that arrived before an instant, or before a span before now.
    pub until: Option<String>,
    /// Only deliveries before this one.
    pub before: Option<Uuid>,
    /// Whether pseudonyms stand in the place of callers and of what tells deliveries apart.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pseudonyms: Option<bool>,
    /// 1 to 500; 50 by default.
    pub limit: Option<u32>,
}

/// Which deliveries to process again: those named, or those that fit; oldest first.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct ProcessDeliveries {
    /// Ids of deliveries; without one those that fit the other members.
    pub ids: Vec<Uuid>,
    /// The name of a workflow.
    pub workflow: Option<String>,
    /// `accepted`, `repeated`, `unfit` or `captured`.
    pub state: Option<String>,
    /// Only those that arrived since an instant, or since a span before now: `2h`.
    pub since: Option<String>,
    /// Only those that arrived before an instant, or before a span before now.
    pub until: Option<String>,
    /// Whether the revision that received each processes it; the live one by default.
    pub as_received: bool,
    /// Whether they are only counted.
    pub dry_run: bool,
}

/// From which deliveries inputs are proposed.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct CompareDeliveries {
    /// Ids of deliveries; without one the last 20 of the workflow.
    pub ids: Vec<Uuid>,
    /// The name of a workflow.
    pub workflow: Option<String>,
}

/// A message to be signed as its sender does.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Signing {
    /// The name of the workflow.
    pub workflow: String,
    /// The entry, where it has several: `POST /from/customs`.
    pub entry: Option<String>,
    /// The query, without a question mark.
    pub query: String,
    /// Further header fields.
    pub headers: BTreeMap<String, String>,
    /// The body as text.
    pub body: String,
    /// The body in base64, where it is no text.
    pub base64: Option<String>,
    /// The id of the message; a fresh one by default.
    pub id: Option<String>,
}

api! {
    /// A page of deliveries, newest first.
    pub struct DeliveryPage {
        pub deliveries: Vec<DeliveryLine>,
        /// What `before` is for the next page; null on the last one.
        pub next_before: Option<Uuid>,
    }

    /// A delivery without its body.
    pub struct DeliveryLine {
        pub id: Uuid,
        pub workflow: String,
        /// `POST /from/customs`.
        pub entry: String,
        pub received: Timestamp,
        /// `accepted`, `repeated`, `unfit` or `captured`.
        pub state: String,
        /// What tells it apart, as its sender wrote it.
        pub key: Option<String>,
        /// The address it came from.
        pub caller: Option<String>,
        /// How it was proven, and with which secret: `standard, customs-webhook`.
        pub proof: String,
        pub media: String,
        /// Bytes of the body.
        pub size: u64,
        /// The run that came of it last.
        pub run: Option<Uuid>,
        /// Whether that is a job.
        pub as_job: bool,
        /// How often it was processed.
        pub processed: u32,
        /// Of a repetition: the first one.
        pub first: Option<Uuid>,
        /// Why its workflow does not accept it.
        pub problem: Option<Problem>,
        pub revision: u32,
    }

    /// A delivery as it is kept.
    pub struct Delivery {
        pub line: DeliveryLine,
        pub request_id: String,
        pub method: String,
        pub query: String,
        /// Header fields in their order, without credentials.
        pub headers: Vec<(String, String)>,
        /// SHA-256 of the body, in hexadecimal digits.
        pub digest: String,
        /// The body, where it is text.
        pub text: Option<String>,
        /// The body in base64, where it is none.
        pub base64: Option<String>,
        /// What expressions know as `delivery`; null where the body cannot be read.
        pub value: Json,
        /// The input that the live revision makes of it.
        pub input: Option<Json>,
        /// Why the live revision makes none.
        pub unfit: Option<Problem>,
        /// The line that processes it again.
        pub command: String,
    }

    /// What became of deliveries that were processed again.
    pub struct Processed {
        pub deliveries: Vec<ProcessedDelivery>,
        /// How many fit.
        pub found: u32,
        /// Whether more deliveries fit than one call processes.
        pub more: bool,
    }

    /// One of them.
    pub struct ProcessedDelivery {
        pub delivery: Uuid,
        pub job: Option<Uuid>,
        pub problem: Option<Problem>,
    }

    /// Inputs that messages suggest.
    pub struct Proposed {
        /// How many messages were compared.
        pub messages: u32,
        pub inputs: Vec<ProposedInput>,
        /// The inputs as a document writes them.
        pub input: String,
        /// How a webhook takes them from the message, as a document writes it.
        pub send: String,
    }

    /// One input.
    pub struct ProposedInput {
        pub name: String,
        /// JSON Schema.
        pub schema: Json,
        /// The expression that takes it from a message.
        pub from: String,
    }

    /// A message as its sender sends it.
    pub struct SignedMessage {
        pub id: String,
        pub method: String,
        pub url: String,
        /// Path and query.
        pub target: String,
        pub headers: BTreeMap<String, String>,
    }
}
