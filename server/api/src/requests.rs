//! Requests to the public listener, for pages that cannot send them themselves.

use std::collections::BTreeMap;

use kanzlei_model::time::Span;
use uuid::Uuid;

use crate::api;

api! {
    /// A request as a client sends it.
    pub struct PlainRequest {
        pub method: String,
        /// Path and query: `/harbours/LIN/quotes?nights=2`.
        pub target: String,
        #[serde(default)]
        pub headers: BTreeMap<String, String>,
        /// The body as it is sent; empty for none.
        #[serde(default)]
        pub body: String,
        /// The body in base64, where it is no text.
        #[serde(default)]
        pub base64: Option<String>,
    }

    /// What a client receives.
    pub struct PlainAnswer {
        pub status: u16,
        /// Header fields in their order.
        pub headers: Vec<(String, String)>,
        /// The body as text, up to 256 KiB.
        pub body: String,
        /// Whether there was more.
        pub cut: bool,
        /// Until the whole body arrived.
        pub duration_us: Span,
        /// The id by which its run or refusal is found.
        pub request_id: String,
        /// The run, where it ended and the journal has it.
        pub run: Option<Uuid>,
        /// The job that was queued, where the answer names one.
        pub job: Option<String>,
    }
}
