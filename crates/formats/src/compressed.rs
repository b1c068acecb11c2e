//! What a compressed file holds.

use std::{
    io,
    io::{BufRead, BufReader, Read},
};

use crate::read_at::ReadAt;

/// Bytes read from the source at once.
const PIECE: usize = 128 * 1024;
/// Memory that unpacking may take (xz).
const XZ_MEMORY: u64 = 512 * 1024 * 1024;

/// How a file is compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::IntoStaticStr)]
#[strum(serialize_all = "lowercase")]
pub enum Compression {
    /// gzip (RFC 1952).
    Gzip,
    /// xz.
    Xz,
    /// Zstandard (RFC 8878).
    Zstd,
}

impl Compression {
    /// What the first bytes of a file say.
    #[must_use]
    pub fn of(head: &[u8]) -> Option<Self> {
        match head {
            [0x1f, 0x8b, ..] => Some(Self::Gzip),
            [0xfd, b'7', b'z', b'X', b'Z', 0, ..] => Some(Self::Xz),
            [0x28, 0xb5, 0x2f, 0xfd, ..] => Some(Self::Zstd),
            _ => None,
        }
    }

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }

    /// Unpacks `reader` as it is read.
    ///
    /// # Errors
    /// The head is none of this compression, or cannot be read.
    pub fn unpack<'a>(self, reader: impl BufRead + 'a) -> io::Result<Box<dyn Read + 'a>> {
        Ok(match self {
            Self::Gzip => Box::new(flate2::bufread::MultiGzDecoder::new(reader)),
            Self::Xz => {
                let stream =
                    liblzma::stream::Stream::new_stream_decoder(XZ_MEMORY, liblzma::stream::CONCATENATED)
                        .map_err(io::Error::other)?;
                Box::new(liblzma::bufread::XzDecoder::new_stream(reader, stream))
            }
            Self::Zstd => {
                Box::new(ruzstd::decoding::StreamingDecoder::new(reader).map_err(io::Error::other)?)
            }
        })
    }
}

/// Reads a source from `at` to its end.
#[derive(Debug)]
pub struct Reading<S> {
    source: S,
    at: u64,
}

impl<S: ReadAt> Reading<S> {
    /// From the byte `at` on.
    pub fn new(source: S, at: u64) -> BufReader<Self> {
        BufReader::with_capacity(PIECE, Self { source, at })
    }
}

impl<S: ReadAt> Read for Reading<S> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let there = usize::try_from(self.source.size().saturating_sub(self.at)).unwrap_or(usize::MAX);
        let length = there.min(buffer.len());
        self.source.read_at(self.at, &mut buffer[..length])?;
        self.at += length as u64;
        Ok(length)
    }
}

/// The source as it is when unpacked, whatever it is compressed with.
///
/// # Errors
/// Whatever reading gave.
pub fn unpacked<'a>(source: impl ReadAt + 'a) -> io::Result<(Option<Compression>, Box<dyn Read + 'a>)> {
    let compression = Compression::of(&source.read_up_to(0, 6)?);
    let reader = Reading::new(source, 0);
    Ok(match compression {
        Some(compression) => (Some(compression), compression.unpack(reader)?),
        None => (None, Box::new(reader)),
    })
}
