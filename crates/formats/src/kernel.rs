//! Linux kernels: x86 by the boot protocol's header (Linux `Documentation/arch/x86/boot.rst`), ARM64 by its image header
//! (`Documentation/arch/arm64/booting.rst`).

use std::io::Read;

use crate::{compressed::unpacked, cpu::Cpu, read_at::ReadAt};

/// Bytes of an ARM64 kernel in which its version is looked for.
const SEARCHED: u64 = 64 * 1024 * 1024;
const BANNER: &[u8] = b"Linux version ";

/// What a kernel says of itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Kernel {
    /// The processor it is for.
    pub cpu: Cpu,
    /// As `uname -r` prints it, with where it was read.
    pub version: Option<(String, &'static str)>,
    /// Not Linux, but started as it is: a memory test.
    pub memory_test: Option<String>,
}

/// Reads the head of a file that may be a kernel.
pub fn read(source: &impl ReadAt) -> Option<Kernel> {
    let head = source.read_up_to(0, 0x8000).ok()?;
    x86(source, &head).or_else(|| arm64(source))
}

fn x86(source: &impl ReadAt, head: &[u8]) -> Option<Kernel> {
    let word = |at: usize| Some(u16::from_le_bytes(head.get(at..at + 2)?.try_into().ok()?));
    if head.get(0x202..0x206)? != b"HdrS" || word(0x1fe)? != 0xaa55 {
        return None;
    }
    let protocol = word(0x206)?;
    // Bit 0 of xloadflags: there is a 64-bit entry point (protocol 2.12).
    let is_64 = protocol >= 0x020c && word(0x236)? & 1 == 1;
    let pointer = usize::from(word(0x20e)?);
    let text = (pointer > 0).then(|| source.read_up_to(pointer as u64 + 0x200, 256).ok()).flatten();
    let text = text.map(|bytes| until_nul(&bytes)).filter(|text| !text.is_empty());
    let version = text.as_ref().and_then(|text| text.split_whitespace().next()).map(str::to_owned);
    Some(Kernel {
        cpu: if is_64 { Cpu::X64 } else { Cpu::X86 },
        version: version.map(|version| (version, "kernel_version of the boot header")),
        memory_test: memory_test(source, text.as_deref()),
    })
}

/// The name of a memory test: it is started as a kernel is, and says what it is in its text.
fn memory_test(source: &impl ReadAt, text: Option<&str>) -> Option<String> {
    const NAME: &str = "Memtest86+";
    if let Some(text) = text.filter(|text| text.contains(NAME)) {
        return Some(text.into());
    }
    let all = source.read_up_to(0, 512 * 1024).ok()?;
    let at = all.windows(NAME.len()).position(|window| window == NAME.as_bytes())?;
    let line: String = all[at..].iter().take(32).map(|byte| char::from(*byte)).collect();
    Some(line.split(|c: char| !c.is_ascii_graphic() && c != ' ').next()?.trim().into())
}

fn arm64(source: &impl ReadAt) -> Option<Kernel> {
    let (_, mut plain) = unpacked(source).ok()?;
    let mut head = [0; 64];
    plain.read_exact(&mut head).ok()?;
    if &head[0x38..0x3c] != b"ARM\x64" {
        return None;
    }
    let version = banner(plain.take(SEARCHED)).map(|version| (version, "its banner"));
    Some(Kernel { cpu: Cpu::Arm64, version, memory_test: None })
}

/// The version in the banner that the kernel prints first.
fn banner(mut plain: impl Read) -> Option<String> {
    let mut kept: Vec<u8> = Vec::new();
    let mut piece = vec![0; 256 * 1024];
    loop {
        let read = plain.read(&mut piece).ok()?;
        kept.extend_from_slice(&piece[..read]);
        let after = |at: usize| until_space(kept.get(at + BANNER.len()..)?);
        let places = kept.windows(BANNER.len()).enumerate().filter(|(_, window)| *window == BANNER);
        // The format that the banner is printed with stands there, too: a version begins with a digit.
        if let Some(version) =
            places.filter_map(|(at, _)| after(at)).find(|v| v.starts_with(|c: char| c.is_ascii_digit()))
        {
            return Some(version);
        }
        if read == 0 {
            return None;
        }
        let overlap = kept.len().saturating_sub(BANNER.len() + 128);
        kept.drain(..overlap);
    }
}

fn until_space(bytes: &[u8]) -> Option<String> {
    let end = bytes.iter().take(128).position(|byte| *byte == b' ')?;
    Some(String::from_utf8_lossy(&bytes[..end]).into_owned())
}

pub(crate) fn until_nul(bytes: &[u8]) -> String {
    let end = bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len());
    String::from_utf8_lossy(&bytes[..end]).trim().into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_arm64_kernel_says_its_version_though_compressed() {
        let mut image = vec![0; 300_000];
        image[0x38..0x3c].copy_from_slice(b"ARM\x64");
        image[200_000..200_020].copy_from_slice(b"Linux version %s (%s");
        image[262_140..262_176].copy_from_slice(b"Linux version 6.9.1-quay (builder) #");
        let kernel = read(&image).unwrap();
        assert_eq!((kernel.cpu, kernel.version.unwrap().0.as_str()), (Cpu::Arm64, "6.9.1-quay"));
        let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        std::io::Write::write_all(&mut packed, &image).unwrap();
        assert_eq!(read(&packed.finish().unwrap()).unwrap().version.unwrap().0, "6.9.1-quay");
        assert_eq!(read(&vec![0; 4096]), None);
    }
}
