//! Bytes that arrive and become a file on the local disk: counted, hashed and bounded on the way, never whole in memory.
//!
//! Memory: two buffers of [`BUFFER`] bytes for each file that arrives.

use std::io::Write;
use std::path::PathBuf;

use kanzlei_model::file::{ANY, File, essence, plain_name};
use ring::digest::{self, SHA256};
use tokio::task::JoinHandle;
use uuid::Uuid;

use super::media::{LOOKED_AT, judged, of_name};
use super::spool::{Room, Spooled};

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
    spooled: Spooled,
    disk: Option<Disk>,
    writing: Option<JoinHandle<std::io::Result<Disk>>>,
    buffer: Vec<u8>,
    first: Vec<u8>,
    size: u64,
    most: u64,
    room: Room,
}

/// What the blocking pool works with.
struct Disk {
    file: std::fs::File,
    /// Written for the processor, which matters where it has no instructions for SHA-256.
    digest: digest::Context,
    buffer: Vec<u8>,
}

impl Disk {
    /// Writes a buffer; it is empty afterwards.
    fn write(mut self) -> std::io::Result<Self> {
        self.file.write_all(&self.buffer)?;
        self.digest.update(&self.buffer);
        self.buffer.clear();
        Ok(self)
    }
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

impl Incoming {
    /// Begins a file of at most so many bytes.
    pub(super) async fn begin(path: PathBuf, most: u64, room: Room) -> Result<Self, Fault> {
        let target = path.clone();
        let made = tokio::task::spawn_blocking(move || {
            std::fs::OpenOptions::new().read(true).write(true).create_new(true).open(&target)
        });
        let file = made.await.map_err(std::io::Error::other)??;
        let disk = Disk { file, digest: digest::Context::new(&SHA256), buffer: Vec::with_capacity(BUFFER) };
        Ok(Incoming {
            spooled: Spooled::new(path),
            disk: Some(disk),
            writing: None,
            buffer: Vec::with_capacity(BUFFER),
            first: Vec::new(),
            size: 0,
            most,
            room,
        })
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

    /// Hands the buffer over to the blocking pool, behind what it still writes.
    async fn flush(&mut self) -> Result<(), Fault> {
        let mut disk = self.settled().await?;
        std::mem::swap(&mut disk.buffer, &mut self.buffer);
        self.writing = Some(tokio::task::spawn_blocking(move || disk.write()));
        Ok(())
    }

    /// Waits until the disk has what it was given.
    async fn settled(&mut self) -> Result<Disk, Fault> {
        let disk = match self.writing.take() {
            Some(writing) => Some(writing.await.map_err(std::io::Error::other)??),
            None => self.disk.take(),
        };
        disk.ok_or_else(|| Fault::Disk(std::io::Error::other("an earlier write failed")))
    }

    /// The file, when all its bytes have come; `said` is the media type that its sender names.
    ///
    /// # Errors
    /// When the disk does not accept its last bytes.
    pub async fn finish(mut self, name: Option<&str>, said: Option<&str>) -> Result<(File, Spooled), Fault> {
        self.flush().await?;
        let disk = self.settled().await?;
        // What is sent as `application/octet-stream` is what its name says.
        let said = said.filter(|said| essence(said) != ANY).or_else(|| name.and_then(of_name));
        let file = File {
            id: Uuid::now_v7().to_string().into(),
            name: name.and_then(plain_name).map(Into::into),
            media: judged(&self.first, said).into(),
            size: self.size,
            digest: hex(disk.digest.finish().as_ref()).into(),
            held: None,
        };
        Ok((file, self.spooled.counted(self.room)))
    }
}
