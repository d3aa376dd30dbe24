//! Files of requests, runs and jobs, and the places they are stored in. Their bytes stand in memory as a whole only where they are few.
//!
//! A direct run has its files in the [`spool`](spool) of its process; they end with it. Jobs and uploads
//! have theirs in the *work place*, which all processes share, below `jobs/ID/` and `uploads/`, before 202 is sent. Files without
//! a job are swept.
//!
//! ```text
//! let mut incoming = holder.begin(most)?;
//! incoming.write(&chunk).await?;
//! let file = holder.keep(incoming.finish(Some("crew.pdf"), Some("application/pdf")).await?).await?;
//! let bytes = holder.open(&file, None).await?;
//! ```

pub mod incoming;
pub mod link;
pub mod local;
pub mod media;
pub mod place;
pub mod rows;
pub mod spool;

use std::collections::{BTreeMap, HashMap};
use std::ops::Range;
use std::path::PathBuf;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::time::Duration;

use bytes::Bytes;
use futures_util::stream::{self, StreamExt};
use kanzlei_lang::document::purpose::Purpose;
use kanzlei_model::file::{File, files_of};
use kanzlei_model::value::{Str, Value};
use tokio::io::AsyncWriteExt;
use uuid::Uuid;

use crate::secrets::Secrets;
use incoming::Incoming;
use local::Local;
use place::{Place, Stream};
use spool::{Spool, Spooled};

/// Why files are not what a request or a step needs.
#[derive(Debug, thiserror::Error)]
pub enum Fault {
    /// The bytes that arrive.
    #[error(transparent)]
    Incoming(#[from] incoming::Fault),
    /// A place.
    #[error(transparent)]
    Place(#[from] place::Fault),
    /// No such place is configured.
    #[error("there is no place `{0}`; set `places.{0}.url` in the configuration of the service")]
    NoPlace(String),
    /// The bytes are gone.
    #[error("the bytes of the file are not kept any more")]
    Gone,
    /// The folder of the spool.
    #[error("files cannot be kept in {0}: {1}; set `files.spool` to a folder that can be written")]
    Folder(String, std::io::Error),
    /// The secret of a place.
    #[error("the place `{0}` cannot be used: {1}")]
    Secret(String, String),
}

/// What bounds files.
#[derive(Clone, Debug)]
pub struct Bounds {
    /// The folder of the spool.
    pub spool: PathBuf,
    /// Bytes of all files in it.
    pub spool_bytes: u64,
    /// Bytes of those of one caller.
    pub spool_of_caller: u64,
    /// Bytes of a file.
    pub file: u64,
    /// Bytes of all files of one request.
    pub request: u64,
    /// Bytes of the uploads of one caller.
    pub upload_bytes: u64,
    /// How long an upload can be used.
    pub upload_time: Duration,
}

/// A place as the configuration names it.
#[derive(Clone, Debug, Default)]
pub struct Named {
    /// How it is reached, without its credentials.
    pub settings: place::Settings,
    /// The secret with its credentials.
    pub secret: Option<String>,
}

/// Files of a process, and its places.
pub struct Files {
    /// What bounds them.
    pub bounds: Bounds,
    spool: OnceLock<Spool>,
    /// By name; the one of jobs and uploads has none.
    named: BTreeMap<String, Named>,
    secrets: Arc<Secrets>,
    /// Opened places, with the credentials they were opened with.
    opened: Mutex<HashMap<String, (Option<String>, Place)>>,
}

/// The name of the work place in messages.
const WORK: &str = "work";

impl Files {
    /// Files with these bounds and places; `work` is the place of jobs and uploads. Nothing is opened before it is needed.
    pub fn new(bounds: Bounds, work: Named, mut named: BTreeMap<String, Named>, secrets: Arc<Secrets>) -> Arc<Self> {
        named.insert(String::new(), work);
        Arc::new(Files { bounds, spool: OnceLock::new(), named, secrets, opened: Mutex::default() })
    }

    /// The names of the places.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.named.keys().map(String::as_str).filter(|name| !name.is_empty())
    }

    /// How a place is reached.
    pub fn named(&self, name: &str) -> Option<&Named> {
        self.named.get(name).filter(|_| !name.is_empty())
    }

    /// The spool, made when it is needed first.
    fn spool(&self) -> Result<&Spool, Fault> {
        if let Some(spool) = self.spool.get() {
            return Ok(spool);
        }
        let folder = self.bounds.spool.clone();
        let made = Spool::open(&folder, self.bounds.spool_bytes, self.bounds.spool_of_caller);
        let made = made.map_err(|error| Fault::Folder(folder.display().to_string(), error))?;
        // Another thread may have made one meanwhile; this one ends then.
        Ok(self.spool.get_or_init(|| made))
    }

    /// A file without a name, which ends when it is closed.
    ///
    /// # Errors
    /// When the disk does not accept it.
    pub fn unnamed(&self) -> Result<std::fs::File, Fault> {
        Ok(self.spool()?.unnamed().map_err(incoming::Fault::Disk)?)
    }

    /// A folder on the local disk, for as long as it is held.
    ///
    /// # Errors
    /// When the disk does not accept it.
    pub fn folder(&self) -> Result<spool::Folder, Fault> {
        Ok(self.spool()?.folder().map_err(incoming::Fault::Disk)?)
    }

    /// Bytes that the spool of this process occupies.
    pub fn spooled(&self) -> u64 {
        self.spool.get().map_or(0, Spool::bytes)
    }

    /// A place by its name.
    ///
    /// # Errors
    /// When there is none, or it cannot be used.
    pub fn place(&self, name: &str) -> Result<Place, Fault> {
        let named = self.named.get(name).ok_or_else(|| Fault::NoPlace(name.to_owned()))?;
        let shown = if name.is_empty() { WORK } else { name };
        let credentials = match &named.secret {
            None => None,
            Some(secret) => {
                let address = named.settings.endpoint.as_deref().unwrap_or(&named.settings.url);
                let text = self.secrets.get(secret, Purpose::address(address));
                Some(text.map_err(|withheld| Fault::Secret(shown.to_owned(), withheld.to_string()))?.to_string())
            }
        };
        let mut opened = self.opened.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((with, place)) = opened.get(name)
            && *with == credentials
        {
            return Ok(place.clone());
        }
        let settings = place::Settings { credentials: credentials.clone(), ..named.settings.clone() };
        let place = Place::open(shown, &settings)?;
        opened.insert(name.to_owned(), (credentials, place.clone()));
        Ok(place)
    }

    /// The place of jobs and uploads.
    ///
    /// # Errors
    /// When it cannot be used.
    pub fn work(&self) -> Result<Place, Fault> {
        self.place("")
    }

    /// Whether the work place may hold something: a folder is made when it is needed first.
    fn has_work(&self) -> bool {
        let url = self.named.get("").map_or("", |work| work.settings.url.as_str());
        url.starts_with("s3://") || PathBuf::from(url.strip_prefix("file://").unwrap_or(url)).is_dir()
    }

    /// Removes the files of a job; returns how many.
    ///
    /// # Errors
    /// When the work place cannot be used.
    pub async fn remove_job(&self, job: Uuid) -> Result<u64, Fault> {
        if !self.has_work() {
            return Ok(0);
        }
        let work = self.work()?;
        let (mut found, mut removed) = (work.walk(&format!("jobs/{job}"))?, 0);
        while let Some(entry) = found.next().await {
            removed += u64::from(work.remove(&entry?.path).await?);
        }
        Ok(removed)
    }

    /// Removes what jobs left in the work place that exist no more; `known` returns those of the given jobs that do. Returns
    /// how many files it removed.
    ///
    /// # Errors
    /// When the place cannot be used, or it is not known which jobs exist.
    pub async fn sweep<F, A, E>(&self, older_than: i64, known: F) -> Result<usize, Fault>
    where
        F: Fn(Vec<Uuid>) -> A,
        A: Future<Output = Result<Vec<Uuid>, E>>,
        E: std::fmt::Display,
    {
        if !self.has_work() {
            return Ok(0);
        }
        let work = self.work()?;
        let job_of = |path: &str| path.split('/').nth(1).and_then(|id| Uuid::parse_str(id).ok());
        let (mut found, mut removed) = (work.walk("jobs")?.ready_chunks(SWEPT), 0);
        while let Some(some) = found.next().await {
            let some = some.into_iter().collect::<Result<Vec<_>, _>>()?;
            let old: Vec<_> = some.iter().filter(|entry| entry.stored < older_than).collect();
            let mut ids: Vec<Uuid> = old.iter().filter_map(|entry| job_of(&entry.path)).collect();
            ids.dedup();
            if ids.is_empty() {
                continue;
            }
            let live = known(ids).await;
            let live = live.map_err(|error| place::Fault::Unavailable("records".to_owned(), error.to_string()))?;
            for entry in old {
                if job_of(&entry.path).is_some_and(|id| !live.contains(&id)) && work.remove(&entry.path).await? {
                    removed += 1;
                }
            }
        }
        Ok(removed)
    }
}

/// The files that a sweep looks at together.
const SWEPT: usize = 500;

/// Where the bytes of a file are.
enum Where {
    /// In the spool.
    Spool(Arc<Spooled>),
    /// In the work place.
    Work(String),
}

/// The files of one request, run or job; those on the local disk end with it.
pub struct Holder {
    files: Arc<Files>,
    job: Option<Uuid>,
    caller: OnceLock<String>,
    /// Bytes of all that it keeps.
    bytes: AtomicU64,
    known: Mutex<HashMap<Str, Where>>,
}

impl Holder {
    fn new(files: Arc<Files>, job: Option<Uuid>) -> Self {
        Holder { files, job, caller: OnceLock::new(), bytes: AtomicU64::new(0), known: Mutex::default() }
    }

    /// Files of a request and the run that answers it.
    pub fn direct(files: Arc<Files>) -> Arc<Self> {
        Arc::new(Holder::new(files, None))
    }

    /// Files of a job.
    pub fn of_job(files: Arc<Files>, job: Uuid) -> Arc<Self> {
        Arc::new(Holder::new(files, Some(job)))
    }

    /// Counts the files that come for a caller.
    pub fn count_for(&self, caller: String) {
        let _ = self.caller.set(caller);
    }

    /// All files of the process.
    pub fn files(&self) -> &Arc<Files> {
        &self.files
    }

    /// Begins a file of at most so many bytes. All that one request or run keeps is bounded like the files of a request.
    ///
    /// # Errors
    /// When the disk does not accept it.
    pub fn begin(&self, most: u64) -> Result<Incoming, Fault> {
        let left = self.files.bounds.request.saturating_sub(self.bytes.load(Ordering::Relaxed));
        let caller = self.caller.get().map(String::as_str);
        Ok(self.files.spool()?.begin(most.min(self.files.bounds.file).min(left), caller))
    }

    /// Keeps a file that has come: with the run, or durably with the job.
    ///
    /// # Errors
    /// When the work place does not accept it.
    pub async fn keep(&self, (file, spooled): (File, Spooled)) -> Result<File, Fault> {
        self.bytes.fetch_add(file.size, Ordering::Relaxed);
        let spooled = Arc::new(spooled);
        match self.job {
            None => self.know(&file, Where::Spool(spooled)),
            Some(job) => {
                let path = path_of(job, &file.id);
                self.files.work()?.put(&path, &Local::Spooled(spooled), file.size, true).await?;
            }
        }
        Ok(file)
    }

    /// Keeps bytes that are read from elsewhere, such as a file of a place.
    ///
    /// # Errors
    /// When there are more of them than a file may have, or they cannot be read or kept.
    pub async fn keep_stream(&self, mut bytes: Stream, name: Option<&str>, media: Option<&str>) -> Result<File, Fault> {
        let mut incoming = self.begin(u64::MAX)?;
        while let Some(chunk) = bytes.next().await {
            incoming.write(&chunk.map_err(incoming::Fault::Disk)?).await?;
        }
        self.keep(incoming.finish(name, media).await?).await
    }

    /// A file of the work place, as an upload is.
    pub fn know_work(&self, file: &File, path: String) {
        self.know(file, Where::Work(path));
    }

    fn know(&self, file: &File, at: Where) {
        self.known.lock().unwrap_or_else(PoisonError::into_inner).insert(file.id.clone(), at);
    }

    /// The bytes of a file, where they are on this machine and in no place.
    pub(crate) fn here(&self, file: &File) -> Option<Local> {
        if let Some(held) = &file.held {
            return Some(Local::Held(Bytes::from_owner(held.clone())));
        }
        match self.known.lock().unwrap_or_else(PoisonError::into_inner).get(&file.id) {
            Some(Where::Spool(spooled)) => Some(Local::Spooled(spooled.clone())),
            _ => None,
        }
    }

    /// The bytes of a file on this machine; those of a place are copied.
    ///
    /// # Errors
    /// Like [`Holder::open`], and when the disk does not accept the copy.
    pub async fn local(&self, file: &File) -> Result<Local, Fault> {
        if let Some(here) = self.here(file) {
            return Ok(here);
        }
        let copy = self.files.unnamed()?;
        let copy = self.copy(file, tokio::fs::File::from_std(copy)).await?;
        Ok(Local::Copied(Arc::new(copy.into_std().await)))
    }

    /// Writes the bytes of a file into one of the local disk.
    ///
    /// # Errors
    /// Like [`Holder::local`].
    pub async fn copy(&self, file: &File, mut to: tokio::fs::File) -> Result<tokio::fs::File, Fault> {
        let mut bytes = self.open(file, None).await?;
        while let Some(chunk) = bytes.next().await {
            to.write_all(&chunk.map_err(incoming::Fault::Disk)?).await.map_err(incoming::Fault::Disk)?;
        }
        to.flush().await.map_err(incoming::Fault::Disk)?;
        Ok(to)
    }

    fn in_work(&self, file: &File) -> Option<String> {
        match self.known.lock().unwrap_or_else(PoisonError::into_inner).get(&file.id) {
            Some(Where::Work(path)) => Some(path.clone()),
            Some(Where::Spool(_)) => None,
            None => self.job.map(|job| path_of(job, &file.id)),
        }
    }

    /// The bytes of a file, or a part of them, as they are read. They can be read to their end also when the run has ended.
    ///
    /// # Errors
    /// When they are gone, or the work place is unavailable.
    pub async fn open(&self, file: &File, range: Option<Range<u64>>) -> Result<Stream, Fault> {
        let range = range.unwrap_or(0..file.size);
        if let Some(here) = self.here(file) {
            return Ok(here.stream(range));
        }
        let Some(path) = self.in_work(file) else { return Err(Fault::Gone) };
        // A range of nothing is none that a store accepts.
        if range.is_empty() {
            return Ok(stream::empty().boxed());
        }
        match self.files.work()?.get(&path, Some(range)).await {
            Ok((_, bytes)) => Ok(bytes),
            Err(place::Fault::Missing(..)) => Err(Fault::Gone),
            Err(fault) => Err(fault.into()),
        }
    }

    /// Stores a file in a place.
    ///
    /// # Errors
    /// When its bytes are gone, there is another file at the path, or the place is unavailable.
    pub async fn store(&self, file: &File, place: &Place, path: &str, replace: bool) -> Result<(), Fault> {
        match self.here(file) {
            Some(local) => place.put(path, &local, file.size, replace).await?,
            None => place.put_stream(path, self.open(file, None).await?, file.size, replace).await?,
        }
        Ok(())
    }

    /// Keeps all files of an input durably for a job that is about to be queued.
    ///
    /// # Errors
    /// When their bytes are gone, or the work place does not accept them.
    pub async fn hand_over(&self, input: &Value, job: Uuid) -> Result<(), Fault> {
        let files = files_of(input);
        if files.is_empty() {
            return Ok(());
        }
        let work = self.files.work()?;
        for (_, file) in files {
            let target = path_of(job, &file.id);
            match self.in_work(file).filter(|_| file.held.is_none()) {
                Some(path) if path == target => {}
                Some(path) => work.copy(&path, &target).await.map_err(|fault| match fault {
                    place::Fault::Missing(..) => Fault::Gone,
                    other => other.into(),
                })?,
                None => self.store(file, &work, &target, true).await?,
            }
        }
        Ok(())
    }
}

fn path_of(job: Uuid, file: &str) -> String {
    format!("jobs/{job}/{file}")
}
