//! Bytes that are read up to a bound, which is renewed for each row.

use std::io::{self, BufRead, Read};
use std::sync::Arc;
use std::sync::atomic::{AtomicU8, AtomicUsize, Ordering};

/// How many bytes may still be read, and how the first line that was read ends.
#[derive(Clone, Default)]
pub struct Left(Arc<AtomicUsize>, Arc<AtomicU8>);

const UNKNOWN: u8 = 0;
const FEED: u8 = 1;
const RETURN: u8 = 2;

impl Left {
    /// So many from now on.
    pub fn set(&self, bytes: usize) {
        self.0.store(bytes, Ordering::Relaxed);
    }

    /// Whether lines end with `\r\n`.
    pub fn ends_with_return(&self) -> bool {
        self.1.load(Ordering::Relaxed) == RETURN
    }

    fn notice(&self, before: Option<u8>, piece: &[u8]) {
        if self.1.load(Ordering::Relaxed) == UNKNOWN
            && let Some(at) = piece.iter().position(|byte| *byte == b'\n')
        {
            let before = at.checked_sub(1).map_or(before, |at| Some(piece[at]));
            self.1.store(if before == Some(b'\r') { RETURN } else { FEED }, Ordering::Relaxed);
        }
    }
}

/// Reads so many bytes and no more, until it may read others: then with [`io::ErrorKind::FileTooLarge`].
pub struct Bounded<R> {
    bytes: R,
    left: Left,
    /// The byte that was read last.
    before: Option<u8>,
}

impl<R: BufRead> Bounded<R> {
    pub fn new(bytes: R) -> (Self, Left) {
        let left = Left::default();
        (Bounded { bytes, left: left.clone(), before: None }, left)
    }
}

impl<R: BufRead> Read for Bounded<R> {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        let mut piece = self.fill_buf()?;
        let read = piece.read(out)?;
        self.left.notice(self.before, &out[..read]);
        self.before = out[..read].last().copied().or(self.before);
        self.consume(read);
        Ok(read)
    }
}

impl<R: BufRead> BufRead for Bounded<R> {
    fn fill_buf(&mut self) -> io::Result<&[u8]> {
        let left = self.left.0.load(Ordering::Relaxed);
        let piece = self.bytes.fill_buf()?;
        if left == 0 && !piece.is_empty() {
            return Err(io::ErrorKind::FileTooLarge.into());
        }
        Ok(&piece[..piece.len().min(left)])
    }

    fn consume(&mut self, read: usize) {
        let left = self.left.0.load(Ordering::Relaxed);
        self.left.set(left.saturating_sub(read));
        self.bytes.consume(read);
    }
}
