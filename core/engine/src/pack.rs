//! Packing files into one and unpacking them (ZIP, APPNOTE 6.3.10), as they are read: nothing is held as a whole.
//!
//! An archive may be hostile: its entries are bounded in number, in bytes, and in their ratio of compression; paths that leave the
//! archive, links and encrypted entries are refused.
//!
//! ```
//! use std::io::Cursor;
//! use kanzlei_engine::pack::{Bounds, pack, unpack};
//! let mut archive = Cursor::new(Vec::new());
//! pack([("crew/tare.txt".to_owned(), &b"Tare Holm"[..])], &mut archive).unwrap();
//! let mut found = Vec::new();
//! unpack(&mut archive, &Bounds::default(), |path, bytes| {
//!     found.push((path.to_owned(), std::io::read_to_string(bytes)?));
//!     Ok(())
//! }).unwrap();
//! assert_eq!(found, [("crew/tare.txt".to_owned(), "Tare Holm".to_owned())]);
//! ```

use std::io::{self, Read, Seek, Write};

use kanzlei_model::run::FailureKind;
use zip::CompressionMethod;
use zip::read::ZipArchive;
use zip::result::ZipError;
use zip::write::{SimpleFileOptions, ZipWriter};

/// What bounds an archive that is unpacked.
#[derive(Clone, Copy, Debug)]
pub struct Bounds {
    /// Entries.
    pub entries: usize,
    /// Bytes of all of them, unpacked.
    pub bytes: u64,
    /// How many times more bytes than packed ones an entry may have, beyond [`SMALL`].
    pub ratio: u64,
}

/// Bytes that an entry may have whatever its ratio.
const SMALL: u64 = 1 << 20;

impl Default for Bounds {
    fn default() -> Self {
        Bounds { entries: 10_000, bytes: 2 << 30, ratio: 200 }
    }
}

/// Why an archive is not unpacked, or files are not packed.
#[derive(Debug, thiserror::Error)]
pub enum Fault {
    /// It is no archive, or a broken one.
    #[error("this is no ZIP archive that can be read: {0}")]
    Broken(String),
    /// It is beyond its bounds.
    #[error("the archive has more than {0}")]
    TooLarge(String),
    /// An entry that is refused.
    #[error("the entry `{0}` {1}")]
    Refused(String, &'static str),
    /// A path that no entry can have.
    #[error("`{0}` cannot be packed: it {1}")]
    Path(String, &'static str),
    /// Reading or writing failed.
    #[error(transparent)]
    Io(io::Error),
}

impl Fault {
    /// The kind of failure that workflows see.
    pub fn kind(&self) -> FailureKind {
        match self {
            Fault::TooLarge(_) => FailureKind::TooLarge,
            Fault::Broken(_) | Fault::Refused(..) => FailureKind::Unreadable,
            Fault::Path(..) => FailureKind::Input,
            Fault::Io(_) => FailureKind::Place,
        }
    }
}

impl From<io::Error> for Fault {
    /// An archive whose bytes are not what its directory says fails while it is read.
    fn from(error: io::Error) -> Self {
        match error.kind() {
            io::ErrorKind::InvalidData | io::ErrorKind::InvalidInput | io::ErrorKind::UnexpectedEof => {
                Fault::Broken(error.to_string())
            }
            _ => Fault::Io(error),
        }
    }
}

fn fault(error: ZipError) -> Fault {
    match error {
        ZipError::Io(error) => error.into(),
        other => Fault::Broken(other.to_string()),
    }
}

/// Writes an archive of files, by their paths in it. All entries have the same date, so that the same files make the same bytes.
///
/// # Errors
/// When a path cannot be one, or a file cannot be read or the archive written.
pub fn pack<R: Read>(files: impl IntoIterator<Item = (String, R)>, out: impl Write + Seek) -> Result<(), Fault> {
    let mut archive = ZipWriter::new(out);
    let options = SimpleFileOptions::default().compression_method(CompressionMethod::Deflated).unix_permissions(0o644);
    for (path, mut file) in files {
        if let Some(why) = misplaced(&path) {
            return Err(Fault::Path(path, why));
        }
        archive.start_file(path.as_str(), options.large_file(true)).map_err(fault)?;
        io::copy(&mut file, &mut archive)?;
    }
    archive.finish().map_err(fault)?;
    Ok(())
}

/// Passes the path and the bytes of each entry on, in the order of the archive; folders are left out.
///
/// # Errors
/// When the archive cannot be read, is beyond its bounds, or has an entry that is refused; and the first error of `each`.
pub fn unpack(
    archive: impl Read + Seek,
    bounds: &Bounds,
    mut each: impl FnMut(&str, &mut dyn Read) -> Result<(), Fault>,
) -> Result<(), Fault> {
    let mut archive = ZipArchive::new(archive).map_err(fault)?;
    if archive.len() > bounds.entries {
        return Err(Fault::TooLarge(format!("{} entries", bounds.entries)));
    }
    let mut left = bounds.bytes;
    for index in 0..archive.len() {
        let entry = archive.by_index(index).map_err(fault)?;
        let path = entry.name().map_err(fault)?.into_owned();
        if entry.is_dir() {
            continue;
        }
        let why = match () {
            () if entry.encrypted() => Some("is encrypted"),
            () if entry.is_symlink() => Some("is a link"),
            () => misplaced(&path),
        };
        if let Some(why) = why {
            return Err(Fault::Refused(path, why));
        }
        let most = entry.compressed_size().saturating_mul(bounds.ratio).max(SMALL);
        let mut bytes = Counted { inner: entry, left: left.min(most), beyond: false };
        let done = each(&path, &mut bytes);
        let (unread, beyond) = (bytes.left, bytes.beyond);
        if beyond {
            return Err(match most < left {
                true => Fault::Refused(path, "becomes far more bytes than it has in the archive"),
                false => Fault::TooLarge(format!("{} bytes unpacked", bounds.bytes)),
            });
        }
        done?;
        left -= left.min(most) - unread;
    }
    Ok(())
}

/// Why a path cannot be one of an entry.
fn misplaced(path: &str) -> Option<&'static str> {
    match path {
        _ if path.is_empty() || path.len() > 900 => Some("has no path, or one of more than 900 bytes"),
        _ if path.contains('\\') || path.chars().any(char::is_control) => {
            Some("has a backslash or a control character in its path")
        }
        _ if path.starts_with('/') || path.split('/').any(|part| matches!(part, "" | "." | "..")) => {
            Some("has a path that leads elsewhere")
        }
        _ if path.as_bytes().get(1) == Some(&b':') => Some("has a path that leads elsewhere"),
        _ => None,
    }
}

/// Reads at most so many bytes; one more is remembered.
struct Counted<R> {
    inner: R,
    left: u64,
    beyond: bool,
}

impl<R: Read> Read for Counted<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        if read as u64 > self.left {
            self.beyond = true;
            return Err(io::Error::other("too many bytes"));
        }
        self.left -= read as u64;
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Cursor;

    fn archive(files: &[(&str, &[u8])]) -> Vec<u8> {
        let mut out = ZipWriter::new(Cursor::new(Vec::new()));
        for (path, bytes) in files {
            out.start_file(*path, SimpleFileOptions::default()).expect("an entry");
            out.write_all(bytes).expect("bytes");
        }
        out.finish().expect("an archive").into_inner()
    }

    fn unpacked(archive: Vec<u8>, bounds: &Bounds) -> Result<Vec<(String, usize)>, String> {
        let mut found = Vec::new();
        let done = unpack(Cursor::new(archive), bounds, |path, bytes| {
            found.push((path.to_owned(), io::copy(bytes, &mut io::sink())? as usize));
            Ok(())
        });
        done.map(|()| found).map_err(|fault| fault.to_string())
    }

    #[test]
    fn hostile_archives_are_refused() {
        let bounds = Bounds { entries: 3, bytes: 3 << 20, ratio: 10 };
        let zeros = vec![0; 2 << 20];
        // Nothing that can be packed (xorshift).
        let mut state = 88_172_645_463_325_252_u64;
        let noise: Vec<u8> = std::iter::repeat_with(|| {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            state as u8
        })
        .take(2 << 20)
        .collect();
        for (files, wanted) in [
            (
                &[("a/b.txt", &b"x"[..]), ("å.txt", b"")][..],
                Ok(vec![("a/b.txt".to_owned(), 1), ("å.txt".to_owned(), 0)]),
            ),
            (&[("../x", b"")], Err("the entry `../x` has a path that leads elsewhere")),
            (&[("/etc/x", b"")], Err("the entry `/etc/x` has a path that leads elsewhere")),
            (&[("c:/x", b"")], Err("the entry `c:/x` has a path that leads elsewhere")),
            (&[("a\\x", b"")], Err("the entry `a\\x` has a backslash or a control character in its path")),
            (&[("1", b""), ("2", b""), ("3", b""), ("4", b"")], Err("the archive has more than 3 entries")),
            (&[("zeros", &zeros)], Err("the entry `zeros` becomes far more bytes than it has in the archive")),
            (&[("1", &noise), ("2", &noise)], Err("the archive has more than 3145728 bytes unpacked")),
        ] {
            assert_eq!(unpacked(archive(files), &bounds), wanted.map_err(str::to_owned), "{:?}", files[0].0);
        }
        let mut cut = archive(&[("a", b"bytes")]);
        cut.truncate(cut.len() - 4);
        assert!(unpacked(cut, &bounds).expect_err("broken").contains("no ZIP archive"));
        assert!(unpacked(b"%PDF".to_vec(), &bounds).is_err());
        let mut linked = ZipWriter::new(Cursor::new(Vec::new()));
        linked.add_symlink("l", "/etc/passwd", SimpleFileOptions::default()).expect("a link");
        let linked = linked.finish().expect("an archive").into_inner();
        assert_eq!(unpacked(linked, &bounds), Err("the entry `l` is a link".to_owned()));
        let refused = pack([("../x".to_owned(), &b""[..])], Cursor::new(Vec::new()));
        assert!(refused.is_err());
    }
}
