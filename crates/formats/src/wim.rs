//! Windows imaging files: what they offer, from the XML that they carry (WIM file format, "XML data").

use quick_xml::{Reader, events::Event};

use crate::{cpu::Cpu, read_at::ReadAt};

/// Longest XML that is read.
const MOST_XML: u64 = 8 * 1024 * 1024;

/// One image of a file.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct WimImage {
    /// Its number, from 1.
    pub index: String,
    /// Its name.
    pub name: String,
    /// The edition that it installs.
    pub edition: Option<String>,
    /// Processor, by its number in Windows (`PROCESSOR_ARCHITECTURE_…`).
    arch: Option<String>,
    major: String,
    minor: String,
    build: String,
}

impl WimImage {
    /// The version of the system in it.
    #[must_use]
    pub fn version(&self) -> Option<String> {
        (!self.major.is_empty()).then(|| format!("{}.{}.{}", self.major, self.minor, self.build))
    }

    /// The processor it is for.
    #[must_use]
    pub fn cpu(&self) -> Option<Cpu> {
        match self.arch.as_deref()? {
            "0" => Some(Cpu::X86),
            "5" => Some(Cpu::Arm32),
            "9" => Some(Cpu::X64),
            "12" => Some(Cpu::Arm64),
            _ => None,
        }
    }
}

/// Reads the images of a file; `None` if it is no such file.
pub fn read(source: &impl ReadAt) -> Option<Vec<WimImage>> {
    let head = source.read_up_to(0, 208).ok()?;
    if head.get(..8)? != b"MSWIM\0\0\0" {
        return None;
    }
    // The XML's entry: seven bytes of size, one of flags, then where it lies.
    let number = |at: usize, bytes: usize| {
        let mut wide = [0; 8];
        wide[..bytes].copy_from_slice(head.get(at..at + bytes)?);
        Some(u64::from_le_bytes(wide))
    };
    let (size, offset) = (number(0x48, 7)?, number(0x50, 8)?);
    let bytes = source.read_up_to(offset, usize::try_from(size.min(MOST_XML)).ok()?).ok()?;
    let units = bytes.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]]));
    let text: String =
        char::decode_utf16(units).map(|unit| unit.unwrap_or(char::REPLACEMENT_CHARACTER)).collect();
    images(text.trim_start_matches('\u{feff}'))
}

fn images(xml: &str) -> Option<Vec<WimImage>> {
    let mut reader = Reader::from_str(xml);
    let mut path: Vec<String> = Vec::new();
    let mut found: Vec<WimImage> = Vec::new();
    loop {
        match reader.read_event().ok()? {
            Event::Start(tag) => {
                let name = String::from_utf8_lossy(tag.name().as_ref()).into_owned();
                if path.len() == 1 && name == "IMAGE" {
                    let index = tag.try_get_attribute("INDEX").ok().flatten();
                    let index = index.map(|index| String::from_utf8_lossy(&index.value).into_owned());
                    found.push(WimImage { index: index.unwrap_or_default(), ..WimImage::default() });
                }
                path.push(name);
            }
            Event::End(_) => drop(path.pop()),
            Event::Text(text) => {
                let value = text.decode().ok()?.trim().to_owned();
                let Some(image) = found.last_mut().filter(|_| !value.is_empty()) else { continue };
                let inner: Vec<&str> = path.iter().skip(2).map(String::as_str).collect();
                match inner.as_slice() {
                    ["NAME"] => image.name.push_str(&value),
                    ["WINDOWS", "EDITIONID"] => image.edition = Some(value),
                    ["WINDOWS", "ARCH"] => image.arch = Some(value),
                    ["WINDOWS", "VERSION", "MAJOR"] => image.major = value,
                    ["WINDOWS", "VERSION", "MINOR"] => image.minor = value,
                    ["WINDOWS", "VERSION", "BUILD"] => image.build = value,
                    _ => {}
                }
            }
            // `&amp;` and its like come by themselves.
            Event::GeneralRef(reference) if path.last().is_some_and(|tag| tag == "NAME") => {
                let name: &[u8] = &reference;
                let resolved = match name {
                    b"amp" => " & ",
                    b"lt" => "<",
                    b"gt" => ">",
                    _ => " ",
                };
                if let Some(image) = found.last_mut() {
                    image.name.push_str(resolved);
                }
            }
            Event::Eof => return Some(found),
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A file of that XML and nothing else.
    pub(super) fn wim(xml: &str) -> Vec<u8> {
        let mut bytes = b"MSWIM\0\0\0".to_vec();
        bytes.resize(208, 0);
        let wide: Vec<u8> = format!("\u{feff}{xml}").encode_utf16().flat_map(u16::to_le_bytes).collect();
        bytes[0x48..0x4f].copy_from_slice(&(wide.len() as u64).to_le_bytes()[..7]);
        bytes[0x50..0x58].copy_from_slice(&208_u64.to_le_bytes());
        bytes.extend(wide);
        bytes
    }

    #[test]
    fn editions_are_read_from_the_xml() {
        let xml = "<WIM><TOTALBYTES>9</TOTALBYTES><IMAGE INDEX=\"1\"><NAME>Setup Standard</NAME><WINDOWS>\
            <ARCH>9</ARCH><EDITIONID>ServerStandard</EDITIONID><VERSION><MAJOR>10</MAJOR><MINOR>0</MINOR>\
            <BUILD>20348</BUILD></VERSION></WINDOWS></IMAGE><IMAGE INDEX=\"2\"><NAME>Core &amp; more</NAME></IMAGE></WIM>";
        let images = read(&wim(xml)).unwrap();
        assert_eq!(images.len(), 2);
        assert_eq!((images[0].name.as_str(), images[0].cpu()), ("Setup Standard", Some(Cpu::X64)));
        assert_eq!(images[0].version().as_deref(), Some("10.0.20348"));
        assert_eq!((images[1].name.as_str(), images[1].version()), ("Core & more", None));
        assert_eq!(read(&vec![0; 300]), None);
    }
}
