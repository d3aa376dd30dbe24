//! Bytes that arrive and become a file of the spool: counted, hashed and bounded on the way, never whole in memory unless they are few.
//!
//! Memory: two buffers of at most [`BUFFER`] bytes for each file that arrives.

use std::io::Write;
use std::path::PathBuf;
use std::sync::Arc;

use kanzlei_model::file::{ANY, File, essence, plain_name};
use kanzlei_model::hex;
use ring::digest::{self, SHA256};
use tokio::task::JoinHandle;
use uuid::Uuid;

use super::media::{LOOKED_AT, judged, of_name};
use super::spool::{Named, Room, SMALL, Spooled};

/// Bytes that are written at a time.
const BUFFER: usize = 512 << 10;

/// Why bytes do not become a file.
#[derive(Debug, thiserror::Error)]
pub enum Fault {
    /// It has more bytes than it may have.
    #[error("it has more than {0} bytes")]
    TooLarge(u64),
    /// All files of this process together have too many.
    #[error("files of other requests occupy the local disk; try again in a moment")]
    NoRoom,
    /// The disk does not accept them.
    #[error("it cannot be written: {0}")]
    Disk(#[from] std::io::Error),
}

/// A file that arrives; dropping it removes what has come.
pub struct Incoming {
    /// Where it will be on the disk; nothing once it is written there.
    path: Option<PathBuf>,
    writing: Option<Writing>,
    buffer: Vec<u8>,
    first: Vec<u8>,
    size: u64,
    most: u64,
    room: Room,
}

/// What the blocking pool does with a buffer: it writes it and computes the digest at the same time.
struct Writing {
    disk: JoinHandle<std::io::Result<Disk>>,
    digest: JoinHandle<digest::Context>,
    buffer: Arc<Vec<u8>>,
}

/// A file on the disk.
struct Disk {
    named: Named,
    /// Made when there is something to write first.
    file: Option<std::fs::File>,
}

impl Disk {
    fn write(mut self, bytes: &[u8]) -> std::io::Result<Self> {
        let file = match &mut self.file {
            Some(file) => file,
            none => none.insert(std::fs::OpenOptions::new().write(true).create_new(true).open(&self.named.0)?),
        };
        file.write_all(bytes)?;
        Ok(self)
    }
}

/// What has been written, and a buffer that can be used again.
struct Written {
    disk: Disk,
    digest: digest::Context,
    buffer: Vec<u8>,
}

impl Incoming {
    /// Begins a file of at most so many bytes.
    pub(super) fn begin(path: PathBuf, most: u64, room: Room) -> Self {
        Incoming { path: Some(path), writing: None, buffer: Vec::new(), first: Vec::new(), size: 0, most, room }
    }

    /// Adds bytes.
    ///
    /// # Errors
    /// When there are too many, or the disk does not accept them.
    pub async fn write(&mut self, mut bytes: &[u8]) -> Result<(), Fault> {
        self.size += bytes.len() as u64;
        if self.size > self.most {
            return Err(Fault::TooLarge(self.most));
        }
        if !self.room.occupy(bytes.len() as u64) {
            return Err(Fault::NoRoom);
        }
        if self.first.len() < LOOKED_AT {
            let more = bytes.len().min(LOOKED_AT - self.first.len());
            self.first.extend_from_slice(&bytes[..more]);
        }
        while !bytes.is_empty() {
            let fits = bytes.len().min(BUFFER - self.buffer.len());
            self.buffer.extend_from_slice(&bytes[..fits]);
            bytes = &bytes[fits..];
            if self.buffer.len() == BUFFER {
                self.flush().await?;
            }
        }
        Ok(())
    }

    /// Hands the buffer over to the blocking pool, behind what it still works on.
    async fn flush(&mut self) -> Result<(), Fault> {
        let Written { disk, mut digest, buffer } = self.settled().await?;
        let full = Arc::new(std::mem::replace(&mut self.buffer, buffer));
        let (written, hashed) = (full.clone(), full.clone());
        self.writing = Some(Writing {
            disk: tokio::task::spawn_blocking(move || disk.write(&written)),
            digest: tokio::task::spawn_blocking(move || {
                digest.update(&hashed);
                digest
            }),
            buffer: full,
        });
        Ok(())
    }

    /// Waits until all that was handed over is done; after a failure nothing is written any more.
    async fn settled(&mut self) -> Result<Written, Fault> {
        let Some(writing) = self.writing.take() else {
            let Some(path) = self.path.take() else {
                return Err(Fault::Disk(std::io::Error::other("an earlier write failed")));
            };
            let disk = Disk { named: Named(path), file: None };
            return Ok(Written { disk, digest: digest::Context::new(&SHA256), buffer: Vec::new() });
        };
        let disk = writing.disk.await.map_err(std::io::Error::other)??;
        let digest = writing.digest.await.map_err(std::io::Error::other)?;
        let mut buffer = Arc::into_inner(writing.buffer).unwrap_or_default();
        buffer.clear();
        Ok(Written { disk, digest, buffer })
    }

    /// The file, when all its bytes have come; `said` is the media type that its sender names.
    ///
    /// # Errors
    /// When the disk does not accept its last bytes.
    pub async fn finish(mut self, name: Option<&str>, said: Option<&str>) -> Result<(File, Spooled), Fault> {
        let small = self.size <= SMALL as u64 && self.room.fits_memory();
        let (digest, spooled) = if small {
            let digest = digest::digest(&SHA256, &self.buffer);
            (digest, Spooled::in_memory(std::mem::take(&mut self.buffer).into(), self.room))
        } else {
            self.flush().await?;
            let written = self.settled().await?;
            (written.digest.finish(), Spooled::on_disk(written.disk.named, self.room))
        };
        // What is sent as `application/octet-stream` is what its name says.
        let said = said.filter(|said| essence(said) != ANY).or_else(|| name.and_then(of_name));
        let file = File {
            id: Uuid::now_v7().to_string().into(),
            name: name.and_then(plain_name).map(Into::into),
            media: judged(&self.first, said).into(),
            size: self.size,
            digest: hex::of(digest.as_ref()).into(),
            held: None,
        };
        Ok((file, spooled))
    }
}
