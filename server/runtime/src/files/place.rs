//! Places: named stores for files, each a directory or an S3-compatible bucket (`object_store`).
//!
//! A path cannot leave its place: `..`, empty parts and control characters are refused. A file becomes visible when it is
//! complete, and on a disk when it is durable (`fsync`).

use std::ops::Range;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use futures_util::stream::{BoxStream, StreamExt, TryStreamExt};
use object_store::aws::{AmazonS3, AmazonS3Builder};
use object_store::local::LocalFileSystem;
use object_store::path::Path;
use object_store::signer::Signer;
use object_store::{
    GetOptions, GetRange, GetResultPayload, ObjectMeta, ObjectStore, ObjectStoreExt, PutMode, PutOptions, PutPayload,
    WriteMultipart,
};

use super::local::Local;

/// Bytes of a part that is stored at a time; an S3 bucket accepts at least 5 MiB.
const PART: usize = 8 << 20;
/// Parts that are stored at once.
const AT_ONCE: usize = 2;
/// The longest path, in bytes.
const LONGEST: usize = 900;

/// Why a place does not do what it is asked for.
#[derive(Debug, thiserror::Error)]
pub enum Fault {
    /// The path cannot be one.
    #[error("`{0}` cannot be a path in a place: {1}")]
    Path(String, &'static str),
    /// There is nothing at the path.
    #[error("there is no file `{0}` in the place `{1}`")]
    Missing(String, String),
    /// There is something at the path already.
    #[error("there is a file `{0}` in the place `{1}` already")]
    Exists(String, String),
    /// The configuration of the place is wrong.
    #[error("the place `{0}` cannot be used: {1}")]
    Settings(String, String),
    /// The place, or the disk, does not answer as it should.
    #[error("the place `{0}` is unavailable: {1}")]
    Unavailable(String, String),
}

/// Bytes as they are read.
pub type Stream = BoxStream<'static, std::io::Result<Bytes>>;

/// A file in a place.
#[derive(Clone, Debug, PartialEq)]
pub struct Entry {
    /// Its path in the place.
    pub path: String,
    /// Its bytes.
    pub size: u64,
    /// When it was stored, in microseconds since 1970.
    pub stored: i64,
}

/// How a place is reached, from the configuration.
#[derive(Clone, Debug, Default)]
pub struct Settings {
    /// `file:///var/lib/files`, a path, or `s3://bucket/prefix`.
    pub url: String,
    /// The address of an S3-compatible service, where it is not that of the bucket's region.
    pub endpoint: Option<String>,
    /// The region of a bucket.
    pub region: Option<String>,
    /// `ACCESS KEY:SECRET KEY` of a bucket.
    pub credentials: Option<String>,
}

/// A named store for files.
#[derive(Clone)]
pub struct Place {
    name: String,
    prefix: Path,
    store: Arc<dyn ObjectStore>,
    local: Option<Arc<LocalFileSystem>>,
    bucket: Option<Arc<AmazonS3>>,
}

impl Place {
    /// A place by its settings; a directory is made where it is missing.
    ///
    /// # Errors
    /// When the settings cannot be used.
    pub fn open(name: &str, settings: &Settings) -> Result<Self, Fault> {
        let wrong = |why: String| Fault::Settings(name.to_owned(), why);
        let url = settings.url.as_str();
        if let Some(rest) = url.strip_prefix("s3://") {
            let (bucket, prefix) = rest.split_once('/').unwrap_or((rest, ""));
            let mut builder = AmazonS3Builder::new()
                .with_bucket_name(bucket)
                .with_region(settings.region.as_deref().unwrap_or("us-east-1"));
            if let Some(endpoint) = &settings.endpoint {
                builder = builder.with_endpoint(endpoint).with_allow_http(endpoint.starts_with("http://"));
            }
            let Some((key, secret)) = settings.credentials.as_deref().and_then(|text| text.split_once(':')) else {
                return Err(wrong("its secret must hold `ACCESS KEY:SECRET KEY`".to_owned()));
            };
            builder = builder.with_access_key_id(key).with_secret_access_key(secret);
            let bucket = Arc::new(builder.build().map_err(|error| wrong(error.to_string()))?);
            let prefix = Path::parse(prefix.trim_matches('/')).map_err(|error| wrong(error.to_string()))?;
            return Ok(Place {
                name: name.to_owned(),
                prefix,
                store: bucket.clone(),
                local: None,
                bucket: Some(bucket),
            });
        }
        let folder = PathBuf::from(url.strip_prefix("file://").unwrap_or(url));
        if url.contains("://") && !url.starts_with("file://") {
            return Err(wrong(format!("`{url}` is neither a directory nor `s3://BUCKET`")));
        }
        std::fs::create_dir_all(&folder).map_err(|error| wrong(format!("{}: {error}", folder.display())))?;
        let local = LocalFileSystem::new_with_prefix(&folder).map_err(|error| wrong(error.to_string()))?;
        let local = Arc::new(local.with_fsync(true).with_automatic_cleanup(true));
        Ok(Place {
            name: name.to_owned(),
            prefix: Path::default(),
            store: local.clone(),
            local: Some(local),
            bucket: None,
        })
    }

    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Whether it is a directory.
    pub fn is_local(&self) -> bool {
        self.local.is_some()
    }

    fn at(&self, path: &str) -> Result<Path, Fault> {
        checked(path)?;
        let wrong = |_| Fault::Path(path.to_owned(), "it has a part that no place accepts");
        let below = Path::parse(path).map_err(wrong)?;
        Ok(self.prefix.parts().chain(below.parts()).collect())
    }

    fn fault(&self, path: &str, error: object_store::Error) -> Fault {
        match error {
            object_store::Error::NotFound { .. } => Fault::Missing(path.to_owned(), self.name.clone()),
            object_store::Error::AlreadyExists { .. } | object_store::Error::Precondition { .. } => {
                Fault::Exists(path.to_owned(), self.name.clone())
            }
            // What begins a chain of causes is what a person can mend.
            other => {
                let last = std::iter::successors(std::error::Error::source(&other), |one| one.source()).last();
                Fault::Unavailable(self.name.clone(), last.map_or_else(|| other.to_string(), ToString::to_string))
            }
        }
    }

    /// Stores a file of this machine; `replace` says whether it may take the place of another one.
    ///
    /// # Errors
    /// When there is another one and it may not, or the place is unavailable.
    pub async fn put(&self, path: &str, source: &Local, size: u64, replace: bool) -> Result<(), Fault> {
        match (&self.local, source.path()) {
            (Some(local), Some(source)) => self.link_in(local, path, source, replace).await,
            _ => self.put_stream(path, source.stream(0..size), size, replace).await,
        }
    }

    /// Stores a file of the local disk in a directory: the same bytes under another name where both are on one disk.
    async fn link_in(
        &self,
        local: &Arc<LocalFileSystem>,
        path: &str,
        source: &std::path::Path,
        replace: bool,
    ) -> Result<(), Fault> {
        let broken = |error: std::io::Error| Fault::Unavailable(self.name.clone(), error.to_string());
        let target = local.path_to_filesystem(&self.at(path)?).map_err(|error| self.fault(path, error))?;
        let source = source.to_owned();
        let done = tokio::task::spawn_blocking(move || {
            let folder = target.parent().unwrap_or(&target);
            std::fs::create_dir_all(folder)?;
            // Like the staged files of `object_store`, which lists leave out.
            let staged = folder.join(format!("{}#{}", uuid::Uuid::now_v7(), 1));
            if std::fs::hard_link(&source, &staged).is_err() {
                std::fs::copy(&source, &staged)?;
            }
            let stored = std::fs::File::open(&staged).and_then(|file| file.sync_all()).and_then(|()| match replace {
                true => std::fs::rename(&staged, &target),
                false => std::fs::hard_link(&staged, &target),
            });
            if !replace || stored.is_err() {
                let _ = std::fs::remove_file(&staged);
            }
            stored?;
            std::fs::File::open(folder)?.sync_all()
        });
        match done.await.map_err(std::io::Error::other) {
            Ok(Ok(())) => Ok(()),
            Ok(Err(error)) if error.kind() == std::io::ErrorKind::AlreadyExists => {
                Err(Fault::Exists(path.to_owned(), self.name.clone()))
            }
            Ok(Err(error)) | Err(error) => Err(broken(error)),
        }
    }

    /// Stores bytes as they come. Beyond [`PART`] bytes a bucket cannot refuse in one step: it is asked before.
    ///
    /// # Errors
    /// Like [`Place::put`].
    pub async fn put_stream(&self, path: &str, mut bytes: Stream, size: u64, replace: bool) -> Result<(), Fault> {
        let at = self.at(path)?;
        let broken = |error: std::io::Error| Fault::Unavailable(self.name.clone(), error.to_string());
        if size <= PART as u64 {
            let mut whole = Vec::with_capacity(size as usize);
            while let Some(chunk) = bytes.try_next().await.map_err(broken)? {
                whole.extend_from_slice(&chunk);
            }
            let mode = if replace { PutMode::Overwrite } else { PutMode::Create };
            let options = PutOptions { mode, ..PutOptions::default() };
            let done = self.store.put_opts(&at, PutPayload::from(whole), options).await;
            return done.map(|_| ()).map_err(|error| self.fault(path, error));
        }
        if !replace && self.size(path).await.is_ok() {
            return Err(Fault::Exists(path.to_owned(), self.name.clone()));
        }
        let upload = self.store.put_multipart(&at).await.map_err(|error| self.fault(path, error))?;
        let mut parts = WriteMultipart::new_with_chunk_size(upload, PART);
        loop {
            let chunk = match bytes.try_next().await {
                Ok(Some(chunk)) => chunk,
                Ok(None) => break,
                Err(error) => {
                    let _ = parts.abort().await;
                    return Err(broken(error));
                }
            };
            parts.wait_for_capacity(AT_ONCE).await.map_err(|error| self.fault(path, error))?;
            parts.put(chunk);
        }
        parts.finish().await.map(|_| ()).map_err(|error| self.fault(path, error))
    }

    /// The bytes of a file, and a part of them as they are read.
    ///
    /// # Errors
    /// When there is no such file, or the place is unavailable.
    pub async fn get(&self, path: &str, range: Option<Range<u64>>) -> Result<(u64, Stream), Fault> {
        let at = self.at(path)?;
        let options = GetOptions { range: range.map(GetRange::Bounded), ..GetOptions::default() };
        let got = self.store.get_opts(&at, options).await.map_err(|error| self.fault(path, error))?;
        let size = got.meta.size;
        let bytes = match got.payload {
            GetResultPayload::File(file, _) => read_opened(file, got.range),
            GetResultPayload::Stream(bytes) => bytes.map_err(std::io::Error::other).boxed(),
        };
        Ok((size, bytes))
    }

    /// The bytes of a file.
    ///
    /// # Errors
    /// When there is no such file, or the place is unavailable.
    pub async fn size(&self, path: &str) -> Result<u64, Fault> {
        let at = self.at(path)?;
        self.store.head(&at).await.map(|meta| meta.size).map_err(|error| self.fault(path, error))
    }

    /// Files below a path, as they are found.
    ///
    /// # Errors
    /// When the path cannot be one.
    pub fn walk(&self, below: &str) -> Result<BoxStream<'static, Result<Entry, Fault>>, Fault> {
        let below = below.trim_matches('/').to_owned();
        let at = if below.is_empty() { self.prefix.clone() } else { self.at(&below)? };
        let place = self.clone();
        let found = self.store.list(Some(&at)).filter_map(move |meta| {
            let entry = match meta {
                Ok(meta) => Some(Ok(place.entry(&meta))),
                // It was removed while it was listed.
                Err(object_store::Error::NotFound { .. }) => None,
                Err(error) => Some(Err(place.fault(&below, error))),
            };
            std::future::ready(entry)
        });
        Ok(found.boxed())
    }

    /// At most so many files below a path, by their paths.
    ///
    /// # Errors
    /// When the place is unavailable.
    pub async fn list(&self, below: &str, most: usize) -> Result<Vec<Entry>, Fault> {
        let mut entries: Vec<Entry> = self.walk(below)?.take(most).try_collect().await?;
        entries.sort_by(|a, b| a.path.cmp(&b.path));
        Ok(entries)
    }

    fn entry(&self, meta: &ObjectMeta) -> Entry {
        let path = match meta.location.prefix_match(&self.prefix) {
            Some(parts) => parts.collect::<Path>().to_string(),
            None => meta.location.to_string(),
        };
        Entry { path, size: meta.size, stored: meta.last_modified.timestamp_micros() }
    }

    /// Removes a file; returns whether there was one.
    ///
    /// # Errors
    /// When the place is unavailable.
    pub async fn remove(&self, path: &str) -> Result<bool, Fault> {
        let at = self.at(path)?;
        // A bucket does not say whether there was one.
        let known = self.size(path).await;
        match known {
            Err(Fault::Missing(..)) => return Ok(false),
            known => _ = known?,
        }
        match self.store.delete(&at).await {
            Ok(()) => Ok(true),
            Err(object_store::Error::NotFound { .. }) => Ok(false),
            Err(error) => Err(self.fault(path, error)),
        }
    }

    /// Copies a file of the place to another path.
    ///
    /// # Errors
    /// When there is no such file, or the place is unavailable.
    pub async fn copy(&self, from: &str, to: &str) -> Result<(), Fault> {
        self.store.copy(&self.at(from)?, &self.at(to)?).await.map_err(|error| self.fault(from, error))
    }

    /// An address from which a file of a bucket can be downloaded for a time; nothing for a directory.
    ///
    /// # Errors
    /// When the place has no usable credentials.
    pub async fn signed(&self, path: &str, span: Duration) -> Result<Option<String>, Fault> {
        let Some(bucket) = &self.bucket else { return Ok(None) };
        let at = self.at(path)?;
        let url = bucket.signed_url(http::Method::GET, &at, span).await.map_err(|error| self.fault(path, error))?;
        Ok(Some(url.to_string()))
    }
}

/// Refuses what cannot be a path in a place.
///
/// # Errors
/// Says why it cannot.
pub fn checked(path: &str) -> Result<(), Fault> {
    let why = match path {
        "" => "it is empty",
        _ if path.len() > LONGEST => "it is longer than 900 bytes",
        _ if path.starts_with('/') || path.ends_with('/') => "it begins or ends with `/`",
        _ if path.chars().any(|c| c.is_control() || c == '\\') => "it has a control character or a backslash",
        _ if path.split('/').any(|part| part.is_empty() || part.len() > 240) => {
            "a part of it is empty or longer than 240 bytes"
        }
        _ if path.split('/').any(|part| part == "." || part == "..") => "a part of it is `.` or `..`",
        // Staged files end with `#` and a number.
        _ if path.split('/').any(|part| part.contains('#')) => "it has a `#`",
        _ => return Ok(()),
    };
    Err(Fault::Path(path.to_owned(), why))
}

/// A part of a file of the local disk, as it is read. It is opened at once: it may be removed while it is read.
pub fn read_file(path: &std::path::Path, range: Range<u64>) -> Stream {
    match std::fs::File::open(path) {
        Ok(file) => read_opened(file, range),
        Err(error) => futures_util::stream::once(async { Err(error) }).boxed(),
    }
}

/// The same of one that is open.
pub fn read_opened(file: std::fs::File, range: Range<u64>) -> Stream {
    use tokio::io::{AsyncReadExt, AsyncSeekExt};
    let mut file = tokio::fs::File::from_std(file);
    file.set_max_buf_size(PIECE);
    let begun = (file, range.start, range.end, false);
    let chunks = futures_util::stream::try_unfold(begun, |(mut file, at, end, sought)| async move {
        if at >= end {
            return Ok(None);
        }
        if !sought && at > 0 {
            file.seek(std::io::SeekFrom::Start(at)).await?;
        }
        let most = PIECE.min((end - at) as usize);
        let mut buffer = bytes::BytesMut::with_capacity(most);
        if (&mut file).take(most as u64).read_buf(&mut buffer).await? == 0 {
            return Err(std::io::Error::new(std::io::ErrorKind::UnexpectedEof, "the file is shorter than it was"));
        }
        let read = buffer.len() as u64;
        Ok(Some((buffer.freeze(), (file, at + read, end, true))))
    });
    chunks.boxed()
}

/// Bytes that are read at a time.
const PIECE: usize = 256 << 10;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_stay_below_their_place() {
        for (path, fits) in [
            ("crew/9074720.pdf", true),
            ("året/mars.csv", true),
            ("a b/c", true),
            ("", false),
            ("/etc/passwd", false),
            ("a//b", false),
            ("../x", false),
            ("a/../../x", false),
            ("a/./b", false),
            ("a\\b", false),
            ("a\nb", false),
            ("x#1", false),
            ("folder/", false),
        ] {
            assert_eq!(checked(path).is_ok(), fits, "{path:?}");
        }
        assert!(checked(&"x".repeat(241)).is_err());
    }
}
