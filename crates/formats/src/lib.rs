//! Protocols and file formats, independent of what Last Mile makes of them.
//!
//! Each module reads or writes one format and can be used alone. Bytes come in, values go out, or the other way round;
//! nothing here opens a socket or a file, and nothing knows of machines, subnets or installs.

pub mod architecture;
#[cfg(feature = "content")]
pub mod asciicast;
pub mod ata;
#[cfg(feature = "content")]
pub mod compressed;
#[cfg(feature = "content")]
pub mod cpio;
pub mod cpu;
#[cfg(feature = "content")]
pub mod deb;
pub mod dhcp;
#[cfg(feature = "content")]
pub mod disk;
#[cfg(feature = "content")]
pub mod fat;
#[cfg(feature = "content")]
pub mod initrd;
pub mod ipmi;
#[cfg(feature = "content")]
pub mod iso9660;
#[cfg(feature = "content")]
pub mod kernel;
pub mod lldp;
pub mod mac;
pub mod modules;
pub mod nvme;
pub mod pcapng;
#[cfg(feature = "content")]
pub mod pe;
#[cfg(feature = "content")]
pub mod quote;
pub mod read_at;
pub mod reader;
pub mod scsi;
pub mod smbios;
pub mod tftp;
pub mod volume;
#[cfg(feature = "content")]
pub mod wim;
