//! The spool: files of this process for as long as a request or a run needs them. They are on the local disk; small ones, up to
//! [`SMALL`] bytes, stay in memory while all of them together have at most [`IN_MEMORY`].
//!
//! Each process has a folder of its own, locked while it lives. What a process left that has ended is removed by
//! the next one that begins.

use std::collections::HashMap;
use std::fs::{self, TryLockError};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use bytes::Bytes;
use uuid::Uuid;

use super::incoming::Incoming;

/// Bytes up to which a file stays in memory.
pub(super) const SMALL: usize = 32 << 10;
/// Bytes of all files of this process that are in memory.
const IN_MEMORY: u64 = 32 << 20;

/// The folder of this process.
pub struct Spool {
    folder: PathBuf,
    /// Locked while the process lives.
    _lock: fs::File,
    bytes: Arc<AtomicU64>,
    most: u64,
    /// Those of them that are in memory.
    in_memory: Arc<AtomicU64>,
    /// Bytes of each caller that has some, and how many it may have.
    of_callers: Mutex<HashMap<String, Arc<AtomicU64>>>,
    most_of_caller: u64,
}

/// A folder for a time.
pub struct Folder(PathBuf);

impl Folder {
    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.0
    }
}

impl Drop for Folder {
    fn drop(&mut self) {
        let _ = fs::remove_dir_all(&self.0);
    }
}

impl Spool {
    /// Makes the folder of this process below another one, for at most so many bytes in all and of one caller, and removes the folders
    /// of processes that have ended.
    ///
    /// # Errors
    /// When the folder cannot be made.
    pub fn open(below: &Path, most: u64, most_of_caller: u64) -> std::io::Result<Self> {
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
        Ok(Spool {
            folder,
            _lock: lock,
            bytes: Arc::default(),
            most,
            in_memory: Arc::default(),
            of_callers: Mutex::default(),
            most_of_caller,
        })
    }

    /// Begins a file of at most so many bytes, of a caller where it is one's.
    pub fn begin(&self, most: u64, caller: Option<&str>) -> Incoming {
        let of_caller = caller.map(|caller| (self.of_caller(caller), self.most_of_caller));
        let in_memory = Small { all: self.in_memory.clone(), own: 0 };
        let room = Room { all: self.bytes.clone(), most: self.most, of_caller, own: 0, in_memory };
        Incoming::begin(self.folder.join(Uuid::now_v7().to_string()), most, room)
    }

    /// A file without a name, which ends when it is closed.
    pub fn unnamed(&self) -> std::io::Result<fs::File> {
        let path = self.folder.join(Uuid::now_v7().to_string());
        let file = fs::OpenOptions::new().read(true).write(true).create_new(true).open(&path)?;
        fs::remove_file(&path)?;
        Ok(file)
    }

    /// A folder that is removed with what is in it when it is dropped.
    pub fn folder(&self) -> std::io::Result<Folder> {
        let path = self.folder.join(Uuid::now_v7().to_string());
        fs::create_dir(&path)?;
        Ok(Folder(path))
    }

    /// The count of a caller; those of callers without files are dropped.
    fn of_caller(&self, caller: &str) -> Arc<AtomicU64> {
        let mut all = self.of_callers.lock().unwrap_or_else(PoisonError::into_inner);
        all.retain(|_, count| Arc::strong_count(count) > 1);
        all.entry(caller.to_owned()).or_default().clone()
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
    of_caller: Option<(Arc<AtomicU64>, u64)>,
    own: u64,
    in_memory: Small,
}

/// What of it is in memory.
struct Small {
    all: Arc<AtomicU64>,
    own: u64,
}

impl Drop for Small {
    fn drop(&mut self) {
        self.all.fetch_sub(self.own, Ordering::Relaxed);
    }
}

impl Room {
    /// Occupies more; false where all files together have too many, or those of the caller.
    pub fn occupy(&mut self, bytes: u64) -> bool {
        self.own += bytes;
        let fits = |count: &AtomicU64, most: u64| count.fetch_add(bytes, Ordering::Relaxed) + bytes <= most;
        let all = fits(&self.all, self.most);
        all & self.of_caller.as_ref().is_none_or(|(count, most)| fits(count, *most))
    }

    /// Whether what it occupies may stay in memory.
    pub fn fits_memory(&mut self) -> bool {
        let all = self.in_memory.all.fetch_add(self.own, Ordering::Relaxed) + self.own;
        if all > IN_MEMORY {
            self.in_memory.all.fetch_sub(self.own, Ordering::Relaxed);
            return false;
        }
        self.in_memory.own = self.own;
        true
    }
}

impl Drop for Room {
    fn drop(&mut self) {
        self.all.fetch_sub(self.own, Ordering::Relaxed);
        if let Some((count, _)) = &self.of_caller {
            count.fetch_sub(self.own, Ordering::Relaxed);
        }
    }
}

/// A file of the spool; dropping it removes it.
pub struct Spooled {
    at: At,
    _room: Room,
}

enum At {
    Disk(Named),
    Memory(Bytes),
}

/// A file with a path; dropping it removes it.
pub(super) struct Named(pub PathBuf);

impl Drop for Named {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.0);
    }
}

impl Spooled {
    pub(super) fn on_disk(named: Named, room: Room) -> Self {
        Spooled { at: At::Disk(named), _room: room }
    }

    pub(super) fn in_memory(bytes: Bytes, room: Room) -> Self {
        Spooled { at: At::Memory(bytes), _room: room }
    }

    /// Where it is on the disk.
    pub fn path(&self) -> Option<&Path> {
        match &self.at {
            At::Disk(named) => Some(&named.0),
            At::Memory(_) => None,
        }
    }

    /// Its bytes, where they are in memory.
    pub fn bytes(&self) -> Option<&Bytes> {
        match &self.at {
            At::Disk(_) => None,
            At::Memory(bytes) => Some(bytes),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::files::incoming::Fault;

    #[test]
    fn bytes_are_bounded_in_all_and_for_each_caller() {
        let folder = std::env::temp_dir().join(format!("kanzlei-spool-{}", Uuid::now_v7()));
        // What a process left that has ended is removed.
        let left = folder.join("left");
        fs::create_dir_all(&left).expect("a folder");
        fs::write(left.join("file"), "x").expect("a file");
        let spool = Spool::open(&folder, 100, 60).expect("a spool");
        assert!(!left.exists());
        let other = Spool::open(&folder, 100, 60).expect("another process");
        assert!(spool.folder.exists() && other.folder.exists(), "both live");
        let runtime = tokio::runtime::Builder::new_current_thread().build().expect("a runtime");
        runtime.block_on(async {
            let mut first = spool.begin(1000, Some("tare"));
            assert!(first.write(&[0; 40]).await.is_ok());
            let mut second = spool.begin(1000, Some("tare"));
            assert!(matches!(second.write(&[0; 30]).await, Err(Fault::NoRoom)), "the caller has 70 of 60");
            drop(second);
            let mut third = spool.begin(1000, Some("una"));
            assert!(third.write(&[0; 50]).await.is_ok());
            let mut run = spool.begin(5, None);
            assert!(matches!(run.write(&[0; 6]).await, Err(Fault::TooLarge(5))));
            assert!(matches!(third.write(&[0; 20]).await, Err(Fault::NoRoom)), "all have 110 of 100");
            drop((first, third, run));
            assert_eq!(spool.bytes(), 0);
            // Small files are in memory while there is room, others on the disk.
            for (size, occupied, on_disk) in [(9, 0, false), (SMALL + 1, 0, true), (9, IN_MEMORY, true)] {
                let spool = Spool::open(&folder, u64::MAX, u64::MAX).expect("a spool");
                spool.in_memory.store(occupied, Ordering::Relaxed);
                let mut incoming = spool.begin(u64::MAX, None);
                incoming.write(&vec![b'x'; size]).await.expect("written");
                let (file, spooled) = incoming.finish(Some("a/b.csv"), None).await.expect("done");
                assert_eq!((file.name.as_deref(), file.size, &*file.media), (Some("b.csv"), size as u64, "text/csv"));
                assert_eq!(spool.bytes(), size as u64);
                let path = spooled.path().map(Path::to_owned);
                assert_eq!(path.as_ref().is_some_and(|path| path.exists()), on_disk, "{size} {occupied}");
                let local = super::super::local::Local::Spooled(Arc::new(spooled));
                let mut read = Vec::new();
                std::io::Read::read_to_end(&mut local.open().expect("open"), &mut read).expect("read");
                assert_eq!(read.len(), size);
                drop(local);
                assert!(path.is_none_or(|path| !path.exists()));
                assert_eq!((spool.bytes(), spool.in_memory.load(Ordering::Relaxed)), (0, occupied));
            }
        });
        drop((spool, other));
        let _ = fs::remove_dir_all(&folder);
    }
}
