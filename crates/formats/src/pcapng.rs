//! Capture files that standard tools read (draft-ietf-opsawg-pcapng), written: one section, one Ethernet interface.

/// Block types (section 4).
const SECTION_HEADER: u32 = 0x0a0d_0d0a;
const INTERFACE_DESCRIPTION: u32 = 1;
const ENHANCED_PACKET: u32 = 6;
/// Tells the byte order of what follows.
const BYTE_ORDER_MAGIC: u32 = 0x1a2b_3c4d;
/// Options (section 3.5).
const OPT_COMMENT: u16 = 1;
const SHB_USERAPPL: u16 = 4;
const IF_NAME: u16 = 2;
/// LINKTYPE_ETHERNET.
const ETHERNET: u16 = 1;

/// Writes one capture file into memory, little-endian.
#[derive(Debug)]
pub struct Writer {
    out: Vec<u8>,
}

impl Writer {
    /// A file written by `application`, of one interface.
    #[must_use]
    pub fn new(application: &str, interface: &str) -> Self {
        let mut file = Self { out: Vec::new() };
        let mut body = Vec::new();
        body.extend(BYTE_ORDER_MAGIC.to_le_bytes());
        body.extend(1_u16.to_le_bytes());
        body.extend(0_u16.to_le_bytes());
        // The section's length is not told.
        body.extend((-1_i64).to_le_bytes());
        option(&mut body, SHB_USERAPPL, application);
        end_of_options(&mut body);
        file.block(SECTION_HEADER, &body);
        let mut body = Vec::new();
        body.extend(ETHERNET.to_le_bytes());
        body.extend(0_u16.to_le_bytes());
        // No limit: what is cut keeps its length beside it.
        body.extend(0_u32.to_le_bytes());
        option(&mut body, IF_NAME, interface);
        end_of_options(&mut body);
        file.block(INTERFACE_DESCRIPTION, &body);
        file
    }

    /// Adds a frame that was seen `micros` microseconds after 1970-01-01T00:00Z and was `length` bytes long; `frame` may be
    /// the beginning of it only.
    pub fn packet(&mut self, micros: u64, frame: &[u8], length: usize, comment: Option<&str>) {
        let mut body = Vec::with_capacity(frame.len() + 64);
        body.extend(0_u32.to_le_bytes());
        body.extend(u32::try_from(micros >> 32).unwrap_or(0).to_le_bytes());
        body.extend(((micros & 0xffff_ffff) as u32).to_le_bytes());
        body.extend(u32::try_from(frame.len()).unwrap_or(u32::MAX).to_le_bytes());
        body.extend(u32::try_from(length).unwrap_or(u32::MAX).to_le_bytes());
        body.extend_from_slice(frame);
        pad(&mut body);
        if let Some(comment) = comment {
            option(&mut body, OPT_COMMENT, comment);
            end_of_options(&mut body);
        }
        self.block(ENHANCED_PACKET, &body);
    }

    /// The whole file.
    #[must_use]
    pub fn finish(self) -> Vec<u8> {
        self.out
    }

    fn block(&mut self, kind: u32, body: &[u8]) {
        let length = u32::try_from(body.len() + 12).unwrap_or(u32::MAX);
        self.out.extend(kind.to_le_bytes());
        self.out.extend(length.to_le_bytes());
        self.out.extend_from_slice(body);
        self.out.extend(length.to_le_bytes());
    }
}

fn option(out: &mut Vec<u8>, code: u16, text: &str) {
    let length = u16::try_from(text.len()).unwrap_or(u16::MAX);
    out.extend(code.to_le_bytes());
    out.extend(length.to_le_bytes());
    out.extend_from_slice(&text.as_bytes()[..usize::from(length)]);
    pad(out);
}

fn end_of_options(out: &mut Vec<u8>) {
    out.extend([0; 4]);
}

/// Everything stands on multiples of four bytes.
fn pad(out: &mut Vec<u8>) {
    out.resize(out.len().next_multiple_of(4), 0);
}
