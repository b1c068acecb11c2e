//! The one bounds-checked cursor that all decoding goes through.

/// Reads forward over borrowed bytes; every read checks what is left.
#[derive(Debug, Clone)]
pub struct Reader<'a> {
    rest: &'a [u8],
}

impl<'a> Reader<'a> {
    /// A reader at the start of `bytes`.
    #[must_use]
    pub const fn new(bytes: &'a [u8]) -> Self {
        Self { rest: bytes }
    }

    /// How many bytes are left.
    #[must_use]
    pub const fn left(&self) -> usize {
        self.rest.len()
    }

    /// Everything that is left; the reader is then at its end.
    pub fn rest(&mut self) -> &'a [u8] {
        std::mem::take(&mut self.rest)
    }

    /// The next `count` bytes, or `None` (and no movement) if fewer are left.
    pub fn take(&mut self, count: usize) -> Option<&'a [u8]> {
        let (head, tail) = self.rest.split_at_checked(count)?;
        self.rest = tail;
        Some(head)
    }

    /// The next `N` bytes as an array.
    pub fn array<const N: usize>(&mut self) -> Option<[u8; N]> {
        let (head, tail) = self.rest.split_first_chunk::<N>()?;
        self.rest = tail;
        Some(*head)
    }

    /// One byte.
    pub fn u8(&mut self) -> Option<u8> {
        self.array::<1>().map(|[byte]| byte)
    }

    /// A 16-bit integer in network order.
    pub fn u16(&mut self) -> Option<u16> {
        self.array().map(u16::from_be_bytes)
    }

    /// A 32-bit integer in network order.
    pub fn u32(&mut self) -> Option<u32> {
        self.array().map(u32::from_be_bytes)
    }

    /// An IPv4 address.
    pub fn ipv4(&mut self) -> Option<std::net::Ipv4Addr> {
        self.array::<4>().map(Into::into)
    }

    /// The bytes before the next NUL, which is consumed; `None` if no NUL is left.
    pub fn until_nul(&mut self) -> Option<&'a [u8]> {
        let end = self.rest.iter().position(|byte| *byte == 0)?;
        let text = self.take(end)?;
        self.u8()?;
        Some(text)
    }
}
