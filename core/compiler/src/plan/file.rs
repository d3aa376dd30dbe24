//! A compiled `file` step.

use std::sync::Arc;
use std::time::Duration;

use super::Maker;
use super::rows::{Reading, Source, Writing};

/// A `file` step.
#[derive(Debug)]
pub struct FileStep {
    /// What it does.
    pub work: Work,
    /// Timeout.
    pub within: Duration,
}

/// A path in a place.
pub type InPlace = (String, Maker);

/// What a `file` step does.
#[derive(Debug)]
#[allow(missing_docs)]
pub enum Work {
    /// Stores a file in places; `replace` says whether it may take the place of another one.
    Store { of: Maker, to: Vec<InPlace>, replace: bool },
    /// Reads a file of a place.
    Fetch(InPlace),
    /// Lists the files below a path.
    List { from: InPlace, most: u32 },
    /// Removes files of a place.
    Remove(InPlace),
    /// Makes an address from which a file can be downloaded for a time.
    Link { from: InPlace, span: Option<Maker> },
    /// Packs files into one.
    Zip { of: Maker, name: Option<Maker> },
    /// Unpacks a file.
    Unzip(Maker),
    /// Reads rows: where they are used, or the whole of them as a list.
    Read { of: Maker, reading: Arc<Reading>, whole: bool },
    /// Writes rows that are read from files, or a list, into a new file.
    Write { of: Maker, rows: Source, writing: Arc<Writing>, name: Option<Maker> },
}
