//! UEFI applications: PE/COFF files (UEFI 2.10, section 2.1.1), what they say of themselves, and who signed them.

use cms::{
    content_info::ContentInfo,
    signed_data::{SignedData, SignerIdentifier},
};
use der::{Decode, Encode, Reader, SliceReader};
use object::{
    LittleEndian as LE, pe,
    read::pe::{ImageNtHeaders, ImageOptionalHeader, PeFile, PeFile32, PeFile64},
};
use serde::{Deserialize, Serialize};
use x509_cert::Certificate;

use crate::cpu::Cpu;

/// The certificate holds a PKCS #7 signature (Authenticode).
const PKCS_SIGNED_DATA: u16 = 2;

/// What a UEFI application says of itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Program {
    /// The processor it runs on.
    pub cpu: Cpu,
    /// Common names of those who signed it, in the order of the signatures. The signatures are not verified: the
    /// firmware does that, by its own keys.
    pub signers: Vec<String>,
    /// What it consists of, as its SBAT section says.
    pub components: Vec<Component>,
    /// The contents of its section `mods`, where GRUB keeps modules.
    pub modules: Option<Vec<u8>>,
}

/// One line of an SBAT section (shim, `SBAT.md`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Component {
    /// Short name, as `grub`.
    pub name: String,
    /// Who made it.
    pub vendor: String,
    /// Its version.
    pub version: String,
}

impl Program {
    /// Reads a file that may be an application; `None` if it is none.
    #[must_use]
    pub fn read(bytes: &[u8]) -> Option<Self> {
        if !bytes.starts_with(b"MZ") {
            return None;
        }
        match object::FileKind::parse(bytes).ok()? {
            object::FileKind::Pe32 => PeFile32::parse(bytes).ok().and_then(|file| Self::from_file(&file)),
            object::FileKind::Pe64 => PeFile64::parse(bytes).ok().and_then(|file| Self::from_file(&file)),
            _ => None,
        }
    }

    fn from_file<H: ImageNtHeaders>(file: &PeFile<'_, H>) -> Option<Self> {
        // Applications only: boot and run-time drivers are subsystems of their own.
        if file.nt_headers().optional_header().subsystem() != pe::IMAGE_SUBSYSTEM_EFI_APPLICATION {
            return None;
        }
        let cpu = match file.nt_headers().file_header().machine.get(LE) {
            pe::IMAGE_FILE_MACHINE_AMD64 => Cpu::X64,
            pe::IMAGE_FILE_MACHINE_I386 => Cpu::X86,
            pe::IMAGE_FILE_MACHINE_ARM64 => Cpu::Arm64,
            pe::IMAGE_FILE_MACHINE_ARMNT | pe::IMAGE_FILE_MACHINE_THUMB | pe::IMAGE_FILE_MACHINE_ARM => {
                Cpu::Arm32
            }
            pe::IMAGE_FILE_MACHINE_RISCV64 => Cpu::RiscV64,
            _ => return None,
        };
        let section = |name: &[u8]| {
            let sections = file.section_table();
            let section = sections.iter().find(|section| section.raw_name() == name)?;
            section.pe_data(file.data()).ok()
        };
        Some(Self {
            cpu,
            signers: signers(file).unwrap_or_default(),
            components: section(b".sbat").map(components).unwrap_or_default(),
            modules: section(b"mods").map(<[u8]>::to_vec),
        })
    }

    /// Whether it has a module of that name built in: GRUB's modules say their names (`.modname`).
    #[must_use]
    pub fn has_module(&self, name: &str) -> bool {
        let mark = [&[0], name.as_bytes(), &[0]].concat();
        self.modules.as_ref().is_some_and(|modules| modules.windows(mark.len()).any(|window| window == mark))
    }
}

/// The attribute certificates (PE format, "The Attribute Certificate Table"): an address in the file, not in memory.
fn signers<H: ImageNtHeaders>(file: &PeFile<'_, H>) -> Option<Vec<String>> {
    let directory = file.data_directory(pe::IMAGE_DIRECTORY_ENTRY_SECURITY)?;
    let start = usize::try_from(directory.virtual_address.get(LE)).ok()?;
    let length = usize::try_from(directory.size.get(LE)).ok()?;
    let mut table = file.data().get(start..start.checked_add(length)?)?;
    let mut found = Vec::new();
    while let Some(head) = table.get(..8) {
        let length = usize::try_from(u32::from_le_bytes(head[..4].try_into().ok()?)).ok()?;
        let kind = u16::from_le_bytes(head[6..8].try_into().ok()?);
        let Some(certificate) = table.get(8..length) else { break };
        if kind == PKCS_SIGNED_DATA {
            found.push(signer(certificate).unwrap_or_else(|| "somebody unnamed".into()));
        }
        // Entries begin at multiples of eight.
        table = table.get(length.next_multiple_of(8)..).unwrap_or_default();
    }
    Some(found)
}

/// The common name of whoever made a signature (RFC 5652, section 5).
fn signer(bytes: &[u8]) -> Option<String> {
    // The entry may be filled up behind the signature.
    let info = ContentInfo::decode(&mut SliceReader::new(bytes).ok()?).ok()?;
    let signed: SignedData = info.content.decode_as().ok()?;
    let signer = signed.signer_infos.0.iter().next()?;
    let certificates = signed.certificates.as_ref()?.0.iter().filter_map(|choice| match choice {
        cms::cert::CertificateChoices::Certificate(certificate) => Some(certificate),
        cms::cert::CertificateChoices::Other(_) => None,
    });
    let is_signers = |certificate: &&Certificate| match &signer.sid {
        SignerIdentifier::IssuerAndSerialNumber(id) => {
            certificate.tbs_certificate.issuer == id.issuer
                && certificate.tbs_certificate.serial_number == id.serial_number
        }
        SignerIdentifier::SubjectKeyIdentifier(_) => false,
    };
    common_name(certificates.into_iter().find(is_signers)?)
}

fn common_name(certificate: &Certificate) -> Option<String> {
    const COMMON_NAME: &str = "2.5.4.3";
    let subject = &certificate.tbs_certificate.subject;
    let mut parts = subject.0.iter().flat_map(|set| set.0.iter());
    let part = parts.find(|part| part.oid.to_string() == COMMON_NAME)?;
    // Whichever of the string types it is: its bytes are its text.
    let der = part.value.to_der().ok()?;
    let mut reader = SliceReader::new(&der).ok()?;
    let header = der::Header::decode(&mut reader).ok()?;
    Some(String::from_utf8_lossy(reader.read_slice(header.length).ok()?).into_owned())
}

fn components(section: &[u8]) -> Vec<Component> {
    let text = crate::kernel::until_nul(section);
    let line = |line: &str| {
        let mut fields = line.split(',').map(str::trim);
        // Component, generation, vendor, package, version, address.
        let (name, vendor, version) = (fields.next()?, fields.nth(1)?, fields.nth(1)?);
        (name != "sbat").then(|| Component {
            name: name.into(),
            vendor: vendor.into(),
            version: version.into(),
        })
    };
    text.lines().filter_map(line).collect()
}
