//! Bytes that can be read at any place, whatever holds them.

use std::io;

/// Bytes that can be read at any place: a file, a file inside an ISO, a slice in a test.
pub trait ReadAt {
    /// Bytes in all.
    fn size(&self) -> u64;

    /// Fills `buffer` with what begins at `offset`.
    ///
    /// # Errors
    /// [`io::ErrorKind::UnexpectedEof`] if the source ends before, or whatever reading gave.
    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()>;

    /// At most `length` bytes from `offset`: fewer where the source ends before.
    ///
    /// # Errors
    /// Whatever reading gave.
    fn read_up_to(&self, offset: u64, length: usize) -> io::Result<Vec<u8>> {
        let there = self.size().saturating_sub(offset);
        let length = usize::try_from(there).map_or(length, |there| there.min(length));
        let mut buffer = vec![0; length];
        self.read_at(offset, &mut buffer)?;
        Ok(buffer)
    }
}

impl ReadAt for [u8] {
    fn size(&self) -> u64 {
        self.len() as u64
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        let start = usize::try_from(offset).map_err(|_| io::ErrorKind::UnexpectedEof)?;
        let end = start.checked_add(buffer.len()).ok_or(io::ErrorKind::UnexpectedEof)?;
        buffer.copy_from_slice(self.get(start..end).ok_or(io::ErrorKind::UnexpectedEof)?);
        Ok(())
    }
}

impl ReadAt for Vec<u8> {
    fn size(&self) -> u64 {
        self.as_slice().size()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        self.as_slice().read_at(offset, buffer)
    }
}

impl<T: ReadAt + ?Sized> ReadAt for &T {
    fn size(&self) -> u64 {
        (**self).size()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        (**self).read_at(offset, buffer)
    }
}

impl ReadAt for Box<dyn ReadAt + '_> {
    fn size(&self) -> u64 {
        (**self).size()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        (**self).read_at(offset, buffer)
    }
}

/// A run of bytes of some source.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Extent {
    /// Where it begins, in bytes.
    pub offset: u64,
    /// How long it is, in bytes.
    pub length: u64,
}

/// A file that lies in pieces within another source.
#[derive(Debug, Clone)]
pub struct Pieces<'a, S> {
    source: S,
    extents: &'a [Extent],
}

impl<'a, S: ReadAt> Pieces<'a, S> {
    /// The file whose bytes are those of `extents`, one after another.
    pub const fn new(source: S, extents: &'a [Extent]) -> Self {
        Self { source, extents }
    }
}

impl<S: ReadAt> ReadAt for Pieces<'_, S> {
    fn size(&self) -> u64 {
        self.extents.iter().map(|extent| extent.length).sum()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        read_pieces(self.extents, offset, buffer, |at, part| self.source.read_at(at, part))
    }
}

/// Fills `buffer` with what begins at `offset` of the file that `extents` make up; `read` fills from the source.
///
/// # Errors
/// [`io::ErrorKind::UnexpectedEof`] if the extents end before, or whatever `read` gave.
pub fn read_pieces(
    extents: &[Extent],
    mut offset: u64,
    mut buffer: &mut [u8],
    mut read: impl FnMut(u64, &mut [u8]) -> io::Result<()>,
) -> io::Result<()> {
    for extent in extents {
        if buffer.is_empty() {
            return Ok(());
        }
        if offset >= extent.length {
            offset -= extent.length;
            continue;
        }
        let here =
            usize::try_from(extent.length - offset).map_or(buffer.len(), |here| here.min(buffer.len()));
        let (part, rest) = buffer.split_at_mut(here);
        read(extent.offset + offset, part)?;
        (buffer, offset) = (rest, 0);
    }
    if buffer.is_empty() { Ok(()) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn any_range_of_a_file_in_pieces_is_that_range(
            lengths in proptest::collection::vec(0_u64..90, 0..6),
            offset in 0_u64..300,
            length in 0_usize..300,
        ) {
            // Pieces that lie backwards and with gaps in the source, as nothing promises any order.
            let source: Vec<u8> = (0..2000_u32).map(|n| (n % 251) as u8).collect();
            let mut at = 1900;
            let extents: Vec<Extent> = lengths.iter().map(|length| {
                at -= length + 3;
                Extent { offset: at, length: *length }
            }).collect();
            let whole: Vec<u8> = extents.iter()
                .flat_map(|extent| source[extent.offset as usize..(extent.offset + extent.length) as usize].to_vec())
                .collect();
            let file = Pieces::new(&source, &extents);
            prop_assert_eq!(file.size(), whole.len() as u64);
            let mut buffer = vec![0; length];
            let got = file.read_at(offset, &mut buffer);
            match whole.get(offset as usize..offset as usize + length) {
                Some(expected) => { got.unwrap(); prop_assert_eq!(&buffer, expected); }
                None if length == 0 => prop_assert!(got.is_ok()),
                None => prop_assert_eq!(got.unwrap_err().kind(), io::ErrorKind::UnexpectedEof),
            }
        }
    }
}
