//! Protocols and file formats, independent of what Last Mile makes of them.
//!
//! Each module reads or writes one format and can be used alone. Bytes come in, values go out, or the other way round;
//! nothing here opens a socket or a file, and nothing knows of machines, subnets or installs.

pub mod architecture;
pub mod compressed;
pub mod cpio;
pub mod cpu;
pub mod deb;
pub mod dhcp;
pub mod disk;
pub mod fat;
pub mod initrd;
pub mod iso9660;
pub mod kernel;
pub mod lldp;
pub mod mac;
pub mod modules;
pub mod pcapng;
pub mod pe;
pub mod quote;
pub mod read_at;
pub mod reader;
pub mod smbios;
pub mod tftp;
pub mod wim;
