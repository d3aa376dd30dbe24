//! Everything that the running jobs of a process share.

use std::sync::Arc;

use super::lease::Lease;
use super::write::Writer;
use crate::effects::Effects;
use crate::journal::Journal;
use crate::queue::Jobs;

/// Everything that running jobs share.
pub struct Shared {
    /// The queue.
    pub jobs: Arc<Jobs>,
    /// Writes outcomes and ends in batches.
    pub writer: Writer,
    /// Performs effects.
    pub effects: Arc<Effects>,
    /// Counts and records runs.
    pub journal: Arc<Journal>,
    /// The lease of this process.
    pub lease: Lease,
}
