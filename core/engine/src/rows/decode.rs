//! Bytes of a character encoding as UTF-8 (Encoding standard). A byte order mark decides; what is no text of the encoding is a fault.

use std::collections::VecDeque;
use std::io::{self, Read};

use encoding_rs::{Decoder, DecoderResult, Encoding, UTF_8};

/// Bytes that are read at a time.
const PIECE: usize = 32 << 10;

/// Text that is decoded as it is read.
pub struct Decoded {
    bytes: Box<dyn Read + Send>,
    decoder: Decoder,
    piece: Vec<u8>,
    at: usize,
    read: u64,
    last: bool,
    ended: bool,
    /// What was decoded and did not fit where it was read to.
    left: VecDeque<u8>,
}

impl Decoded {
    /// Text of an encoding; UTF-8 where none is named. An unknown label was refused when the workflow was checked.
    pub fn new(bytes: Box<dyn Read + Send>, label: Option<&str>) -> Self {
        let encoding = label.and_then(|label| Encoding::for_label(label.as_bytes())).unwrap_or(UTF_8);
        let decoder = encoding.new_decoder();
        Decoded { bytes, decoder, piece: Vec::new(), at: 0, read: 0, last: false, ended: false, left: VecDeque::new() }
    }
}

impl Read for Decoded {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        // A character of four bytes must fit.
        if self.left.is_empty() && out.len() >= 4 {
            return self.decode(out);
        }
        if self.left.is_empty() {
            let mut few = [0; 16];
            let read = self.decode(&mut few)?;
            self.left.extend(&few[..read]);
        }
        self.left.read(out)
    }
}

impl Decoded {
    fn decode(&mut self, out: &mut [u8]) -> io::Result<usize> {
        if self.ended {
            return Ok(0);
        }
        loop {
            if self.at == self.piece.len() && !self.last {
                self.read += self.piece.len() as u64;
                self.piece.resize(PIECE, 0);
                let read = self.bytes.read(&mut self.piece)?;
                self.piece.truncate(read);
                self.at = 0;
                self.last = read == 0;
            }
            let rest = &self.piece[self.at..];
            let (result, read, written) = self.decoder.decode_to_utf8_without_replacement(rest, out, self.last);
            self.at += read;
            match result {
                DecoderResult::Malformed(..) => {
                    let at = self.read + self.at as u64;
                    let name = self.decoder.encoding().name();
                    let why = format!(
                        "byte {at} is no text of {name}; name the `encoding` of the file where it is another one"
                    );
                    return Err(io::Error::new(io::ErrorKind::InvalidData, why));
                }
                DecoderResult::InputEmpty if self.last => {
                    self.ended = true;
                    return Ok(written);
                }
                _ if written > 0 => return Ok(written),
                _ => {}
            }
        }
    }
}
