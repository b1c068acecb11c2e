//! The structures of a table, one after another.

/// One structure (section 6.1): a head of four bytes, its formatted area, and its strings.
#[derive(Debug, Clone, Copy)]
pub struct Structure<'a> {
    /// What it is of (section 7).
    pub kind: u8,
    /// The number by which others name it.
    pub handle: u16,
    /// Its head and formatted area: offsets in it are those of the specification.
    formatted: &'a [u8],
    /// Its strings, each with its NUL.
    strings: &'a [u8],
}

impl<'a> Structure<'a> {
    /// The byte at an offset; nothing if the structure is shorter: each version of the specification has made some longer.
    #[must_use]
    pub fn byte(&self, offset: usize) -> Option<u8> {
        self.formatted.get(offset).copied()
    }

    /// The 16-bit integer at an offset.
    #[must_use]
    pub fn word(&self, offset: usize) -> Option<u16> {
        self.array(offset).map(u16::from_le_bytes)
    }

    /// The 32-bit integer at an offset.
    #[must_use]
    pub fn dword(&self, offset: usize) -> Option<u32> {
        self.array(offset).map(u32::from_le_bytes)
    }

    /// So many bytes at an offset.
    #[must_use]
    pub fn array<const N: usize>(&self, offset: usize) -> Option<[u8; N]> {
        self.formatted.get(offset..)?.first_chunk().copied()
    }

    /// The string whose number is at an offset, without blanks around it; nothing if there is none, or only blanks.
    #[must_use]
    pub fn string(&self, offset: usize) -> Option<String> {
        let number = self.byte(offset).filter(|number| *number != 0)?;
        let text = self.strings.split(|byte| *byte == 0).nth(usize::from(number) - 1)?;
        // "ASCII" says the specification; vendors write what they like.
        let text = String::from_utf8_lossy(text);
        let text: String = text.chars().filter(|character| !character.is_control()).collect();
        Some(text.trim().to_owned()).filter(|text| !text.is_empty())
    }
}

/// Every structure of a table, up to its end mark (section 7.45) or to where it makes no sense any more.
pub fn structures(table: &[u8]) -> impl Iterator<Item = Structure<'_>> {
    let mut rest = table;
    std::iter::from_fn(move || {
        let [kind, length, low, high, ..] = *rest else { return None };
        let length = usize::from(length);
        if kind == 127 || length < 4 {
            return None;
        }
        let (formatted, after) = rest.split_at_checked(length)?;
        // Strings end with an empty one; without any there are two NULs all the same.
        let end = after.windows(2).position(|pair| pair == [0, 0])?;
        let (strings, next) = after.split_at(end + 2);
        rest = next;
        Some(Structure { kind, handle: u16::from_le_bytes([low, high]), formatted, strings })
    })
}
