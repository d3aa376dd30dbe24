//! Parts from repositories: where they come from, the lock that says what was taken, and the copies on disk.
//!
//! [`source`] reads addresses, [`git`] asks Git, [`lock`] is the file `kanzlei.lock`, and [`copies`] writes and compares files. Nothing
//! of a repository is run, and nothing is checked out: files are read from Git's own store.
//!
//! ```text
//! let from = source::Source::read("https://git.example/parts.git#libraries@v1.2.0")?;
//! let taken = git::Repository::fetch(&from.url)?.files(&from.tag, from.path.as_deref())?;
//! ```

pub mod copies;
pub mod git;
pub mod lock;
pub mod source;

/// The most files of a part.
pub const MOST_FILES: usize = 500;
/// The most bytes of a part.
pub const MOST_BYTES: u64 = 16 << 20;

/// Files by their paths below a part.
pub type Files = std::collections::BTreeMap<String, Vec<u8>>;
