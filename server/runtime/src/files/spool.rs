//! The spool: files of this process on the local disk, for as long as a request or a run needs them.
//!
//! Each process has a folder of its own, locked while it lives. What a process left that has ended is removed by
//! the next one that begins.

use std::fs::{self, TryLockError};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use uuid::Uuid;

use super::incoming::{Fault, Incoming};

/// The folder of this process.
pub struct Spool {
    folder: PathBuf,
    /// Locked while the process lives.
    _lock: fs::File,
    bytes: Arc<AtomicU64>,
    most: u64,
}

impl Spool {
    /// Makes the folder of this process below another one, for at most so many bytes, and removes those of processes
    /// that have ended.
    ///
    /// # Errors
    /// When the folder cannot be made.
    pub fn open(below: &Path, most: u64) -> std::io::Result<Self> {
        fs::create_dir_all(below)?;
        for found in fs::read_dir(below)?.flatten() {
            let path = found.path();
            let lock = path.with_extension("lock");
            if found.file_type().is_ok_and(|of| of.is_dir()) && !is_locked(&lock) {
                tracing::info!(folder = %path.display(), "files of a process that has ended are removed");
                let _ = fs::remove_dir_all(&path);
                let _ = fs::remove_file(&lock);
            }
        }
        let folder = below.join(Uuid::now_v7().to_string());
        let lock =
            fs::OpenOptions::new().create(true).truncate(false).write(true).open(folder.with_extension("lock"))?;
        lock.lock()?;
        fs::create_dir_all(&folder)?;
        Ok(Spool { folder, _lock: lock, bytes: Arc::default(), most })
    }

    /// Begins a file of at most so many bytes.
    pub async fn begin(&self, most: u64) -> Result<Incoming, Fault> {
        let room = Room { all: self.bytes.clone(), most: self.most, own: 0 };
        Incoming::begin(self.folder.join(Uuid::now_v7().to_string()), most, room).await
    }

    /// A file without a name, which ends when it is closed.
    pub fn unnamed(&self) -> std::io::Result<fs::File> {
        let path = self.folder.join(Uuid::now_v7().to_string());
        let file = fs::OpenOptions::new().read(true).write(true).create_new(true).open(&path)?;
        fs::remove_file(&path)?;
        Ok(file)
    }

    /// The bytes that files of this process occupy.
    pub fn bytes(&self) -> u64 {
        self.bytes.load(Ordering::Relaxed)
    }
}

impl Drop for Spool {
    fn drop(&mut self) {
        let _ = fs::remove_dir_all(&self.folder);
        let _ = fs::remove_file(self.folder.with_extension("lock"));
    }
}

fn is_locked(lock: &Path) -> bool {
    fs::File::open(lock).is_ok_and(|file| matches!(file.try_lock(), Err(TryLockError::WouldBlock)))
}

/// What one file occupies of the bytes of all; given back when it is dropped.
pub(super) struct Room {
    all: Arc<AtomicU64>,
    most: u64,
    own: u64,
}

impl Room {
    /// Occupies more; false where all files together have too many.
    pub fn occupy(&mut self, bytes: u64) -> bool {
        self.own += bytes;
        self.all.fetch_add(bytes, Ordering::Relaxed) + bytes <= self.most
    }
}

impl Drop for Room {
    fn drop(&mut self) {
        self.all.fetch_sub(self.own, Ordering::Relaxed);
    }
}

/// A file on the local disk; dropping it removes it.
pub struct Spooled {
    path: PathBuf,
    _room: Option<Room>,
}

impl Spooled {
    pub(super) fn new(path: PathBuf) -> Self {
        Spooled { path, _room: None }
    }

    pub(super) fn counted(mut self, room: Room) -> Self {
        self._room = Some(room);
        self
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }
}

impl Drop for Spooled {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.path);
    }
}
