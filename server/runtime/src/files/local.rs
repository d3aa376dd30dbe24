//! Bytes of a file on this machine, where they can be read without waiting: in memory, in the spool, or in a copy of a file of a place.
//!
//! ```text
//! let local = holder.local(&file).await?;
//! let mut bytes = local.open()?;
//! ```

use std::fs::File;
use std::io::{Cursor, Read, Result, Seek};
use std::ops::Range;
use std::path::Path;
use std::sync::Arc;

use bytes::Bytes;
use futures_util::StreamExt;

use super::place::{Stream, read_file, read_opened};
use super::spool::Spooled;

/// Bytes of a file on this machine; those of the spool stay at least as long as this.
#[derive(Clone)]
pub enum Local {
    /// They stand beside the file's description.
    Held(Bytes),
    /// They are in the spool.
    Spooled(Arc<Spooled>),
    /// A file without a name.
    Copied(Arc<File>),
}

/// What can be read and sought in.
pub trait Seekable: Read + Seek + Send {}
impl<T: Read + Seek + Send> Seekable for T {}

impl Local {
    /// The bytes, where they are in memory.
    fn bytes(&self) -> Option<&Bytes> {
        match self {
            Local::Held(bytes) => Some(bytes),
            Local::Spooled(spooled) => spooled.bytes(),
            Local::Copied(_) => None,
        }
    }

    /// Where they are on the disk, when they have a path.
    pub fn path(&self) -> Option<&Path> {
        match self {
            Local::Spooled(spooled) => spooled.path(),
            Local::Held(_) | Local::Copied(_) => None,
        }
    }

    /// Reads them from their beginning; it blocks.
    ///
    /// # Errors
    /// When the disk does not.
    pub fn open(&self) -> Result<Box<dyn Seekable>> {
        if let Some(bytes) = self.bytes() {
            return Ok(Box::new(Cursor::new(bytes.clone())));
        }
        Ok(match self {
            Local::Copied(file) => {
                let mut file = file.try_clone()?;
                file.rewind()?;
                Box::new(file)
            }
            other => Box::new(File::open(other.path().unwrap_or(Path::new("")))?),
        })
    }

    /// A part of them as it is read. It can be read to its end when the file has ended meanwhile.
    pub fn stream(&self, range: Range<u64>) -> Stream {
        if let Some(bytes) = self.bytes() {
            let fits = range.start <= range.end && range.end <= bytes.len() as u64;
            let part = if fits { bytes.slice(range.start as usize..range.end as usize) } else { Bytes::new() };
            return futures_util::stream::once(async { Ok(part) }).boxed();
        }
        match self {
            Local::Copied(file) => match file.try_clone() {
                Ok(file) => read_opened(file, range),
                Err(error) => futures_util::stream::once(async { Err(error) }).boxed(),
            },
            other => read_file(other.path().unwrap_or(Path::new("")), range),
        }
    }
}
