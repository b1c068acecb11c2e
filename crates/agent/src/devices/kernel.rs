//! The devices of the machine that this runs on.
//!
//! The one module of the agent with `unsafe`: no package that is used has a safe way to these calls. Each hands the kernel a structure
//! of its own headers, whose pointers lead to buffers that live until the call returns.

#![allow(unsafe_code, reason = "these calls of the kernel have no safe form in the packages that are used")]

use std::{
    ffi::{c_int, c_long, c_ulong, c_void},
    fs::{File, OpenOptions},
    io,
    net::UdpSocket,
    os::fd::{AsFd, AsRawFd},
    ptr,
    time::Duration,
};

use lastmile_formats::{ata, ipmi, nvme};
use nix::{
    libc,
    poll::{PollFd, PollFlags, PollTimeout, poll},
};

use super::Devices;

/// `include/uapi/linux/sockios.h`, `ethtool.h`.
const SIOCETHTOOL: c_ulong = 0x8946;
const ETHTOOL_GDRVINFO: u32 = 0x03;
const ETHTOOL_PHYS_ID: u32 = 0x1c;
/// `include/uapi/linux/nvme_ioctl.h`: `_IOWR('N', 0x41, struct nvme_passthru_cmd)`.
const NVME_IOCTL_ADMIN_CMD: c_ulong = 0xc048_4e41;
/// `include/scsi/sg.h`.
const SG_IO: c_ulong = 0x2285;
const SG_DXFER_NONE: c_int = -1;
const SG_DXFER_FROM_DEV: c_int = -3;
/// `include/uapi/linux/ipmi.h`: `_IOR('i', 13, struct ipmi_req)`, `_IOWR('i', 11, struct ipmi_recv)`.
const IPMICTL_SEND_COMMAND: c_ulong = 0x8028_690d;
const IPMICTL_RECEIVE_MSG_TRUNC: c_ulong = 0xc030_690b;
const IPMI_SYSTEM_INTERFACE_ADDR_TYPE: c_int = 0x0c;
const IPMI_BMC_CHANNEL: i16 = 0xf;

/// How long a disk may take to answer.
const DISK: Duration = Duration::from_secs(10);
/// How long a management controller may: slow ones take seconds.
const CONTROLLER: Duration = Duration::from_secs(8);
/// Bytes that a disk says about an error, and that a controller says at most.
const SENSE: usize = 64;
const MOST_IPMI: usize = 272;

/// Those of this machine.
#[derive(Debug, Clone, Copy)]
pub struct Own;

/// `struct ifreq`, with a pointer in its union.
#[repr(C)]
struct InterfaceRequest {
    name: [u8; 16],
    data: *mut c_void,
    rest: [u8; 16],
}

#[repr(C)]
struct DriverInfo {
    command: u32,
    driver: [u8; 32],
    version: [u8; 32],
    firmware: [u8; 32],
    bus: [u8; 32],
    expansion: [u8; 32],
    reserved: [u8; 12],
    counts: [u32; 5],
}

#[repr(C)]
struct EthtoolValue {
    command: u32,
    value: u32,
}

/// `struct nvme_passthru_cmd`.
#[repr(C)]
#[derive(Default)]
struct NvmeCommand {
    opcode: u8,
    flags: u8,
    reserved: u16,
    namespace: u32,
    dwords_2_3: [u32; 2],
    metadata: u64,
    address: u64,
    metadata_length: u32,
    length: u32,
    dwords_10_15: [u32; 6],
    timeout_ms: u32,
    result: u32,
}

/// `struct sg_io_hdr`.
#[repr(C)]
struct ScsiCommand {
    interface: c_int,
    direction: c_int,
    command_length: u8,
    most_sense: u8,
    pieces: u16,
    length: u32,
    data: *mut c_void,
    command: *mut u8,
    sense: *mut u8,
    timeout_ms: u32,
    flags: u32,
    pack: c_int,
    user: *mut c_void,
    status: u8,
    masked_status: u8,
    message_status: u8,
    sense_written: u8,
    host_status: u16,
    driver_status: u16,
    residue: c_int,
    took_ms: u32,
    info: u32,
}

#[repr(C)]
struct IpmiMessage {
    net_function: u8,
    command: u8,
    length: u16,
    data: *mut u8,
}

/// `struct ipmi_system_interface_addr`.
#[repr(C)]
struct IpmiAddress {
    kind: c_int,
    channel: i16,
    lun: u8,
}

#[repr(C)]
struct IpmiRequest {
    address: *mut u8,
    address_length: u32,
    id: c_long,
    message: IpmiMessage,
}

#[repr(C)]
struct IpmiReceived {
    kind: c_int,
    address: *mut u8,
    address_length: u32,
    id: c_long,
    message: IpmiMessage,
}

/// Hands the kernel a structure.
///
/// # Safety
/// The request has to take a pointer to a `T`, and every pointer in it has to lead to memory that the call may use as the request says.
unsafe fn ioctl<T>(device: &impl AsRawFd, request: c_ulong, argument: &mut T) -> io::Result<c_int> {
    // SAFETY: what the caller promises; the descriptor is open for as long as it is borrowed.
    let returned = unsafe { libc::ioctl(device.as_raw_fd(), request as _, ptr::from_mut(argument)) };
    if returned < 0 { Err(io::Error::last_os_error()) } else { Ok(returned) }
}

/// Asks a network card's driver, with a structure of ethtool's.
///
/// # Safety
/// `argument` has to be the structure of the command that is its first word.
unsafe fn ethtool<T>(name: &str, argument: &mut T) -> io::Result<()> {
    let mut request = InterfaceRequest { name: [0; 16], data: ptr::from_mut(argument).cast(), rest: [0; 16] };
    // The last byte stays zero: the name ends there at the latest.
    let place = request.name[..15].get_mut(..name.len());
    place.ok_or(io::ErrorKind::InvalidInput)?.copy_from_slice(name.as_bytes());
    // Any socket will do.
    let socket = UdpSocket::bind(("127.0.0.1", 0)).or_else(|_| UdpSocket::bind(("::", 0)))?;
    // SAFETY: the request is larger than the kernel's structure, and its pointer leads to the caller's.
    unsafe { ioctl(&socket, SIOCETHTOOL, &mut request) }.map(drop)
}

fn device(name: &str) -> io::Result<File> {
    OpenOptions::new().read(true).open(format!("/dev/{name}"))
}

/// Gives a disk a command. Gives what it said of it (SPC-4, section 4.5).
fn scsi(name: &str, command: &mut [u8], data: &mut [u8]) -> io::Result<Vec<u8>> {
    let mut sense = [0; SENSE];
    let mut request = ScsiCommand {
        interface: c_int::from(b'S'),
        direction: if data.is_empty() { SG_DXFER_NONE } else { SG_DXFER_FROM_DEV },
        command_length: u8::try_from(command.len()).map_err(|_| io::ErrorKind::InvalidInput)?,
        most_sense: SENSE as u8,
        pieces: 0,
        length: u32::try_from(data.len()).map_err(|_| io::ErrorKind::InvalidInput)?,
        data: data.as_mut_ptr().cast(),
        command: command.as_mut_ptr(),
        sense: sense.as_mut_ptr(),
        timeout_ms: DISK.as_millis() as u32,
        flags: 0,
        pack: 0,
        user: ptr::null_mut(),
        status: 0,
        masked_status: 0,
        message_status: 0,
        sense_written: 0,
        host_status: 0,
        driver_status: 0,
        residue: 0,
        took_ms: 0,
        info: 0,
    };
    // SAFETY: command, data and sense are as long as the request says, and live until the call returns.
    unsafe { ioctl(&device(name)?, SG_IO, &mut request) }?;
    let said = sense[..usize::from(request.sense_written).min(SENSE)].to_vec();
    // With sense it may have been done: whoever asked for it knows.
    match (request.status, request.host_status) {
        (0, 0) => Ok(said),
        (_, 0) if !said.is_empty() => Ok(said),
        (status, host) => Err(io::Error::other(format!("the disk answered with status {status}, {host}"))),
    }
}

impl Devices for Own {
    fn nic_firmware(&self, name: &str) -> io::Result<String> {
        let mut info = DriverInfo {
            command: ETHTOOL_GDRVINFO,
            driver: [0; 32],
            version: [0; 32],
            firmware: [0; 32],
            bus: [0; 32],
            expansion: [0; 32],
            reserved: [0; 12],
            counts: [0; 5],
        };
        // SAFETY: it is the structure of this command.
        unsafe { ethtool(name, &mut info) }?;
        let text = info.firmware.split(|byte| *byte == 0).next().unwrap_or_default();
        Ok(String::from_utf8_lossy(text).trim().to_owned())
    }

    fn blink_nic(&self, name: &str, time: Duration) -> io::Result<()> {
        // Zero would be for ever.
        let value = u32::try_from(time.as_secs().max(1)).map_err(|_| io::ErrorKind::InvalidInput)?;
        let mut value = EthtoolValue { command: ETHTOOL_PHYS_ID, value };
        // SAFETY: it is the structure of this command.
        unsafe { ethtool(name, &mut value) }
    }

    fn read(&self, name: &str, offset: u64, length: usize) -> io::Result<Vec<u8>> {
        use std::os::unix::fs::FileExt;
        let (file, mut bytes, mut read) = (device(name)?, vec![0; length], 0);
        while read < length {
            match file.read_at(&mut bytes[read..], offset + read as u64)? {
                0 => break,
                more => read += more,
            }
        }
        bytes.truncate(read);
        Ok(bytes)
    }

    fn nvme_health(&self, name: &str) -> io::Result<Vec<u8>> {
        let mut page = vec![0; nvme::HEALTH_BYTES];
        let mut command = NvmeCommand {
            opcode: nvme::GET_LOG_PAGE,
            namespace: nvme::EVERY_NAMESPACE,
            address: page.as_mut_ptr() as u64,
            length: nvme::HEALTH_BYTES as u32,
            timeout_ms: DISK.as_millis() as u32,
            ..NvmeCommand::default()
        };
        command.dwords_10_15[0] = nvme::HEALTH_DWORD_10;
        // SAFETY: the page is as long as the command says, and lives until the call returns.
        match unsafe { ioctl(&device(name)?, NVME_IOCTL_ADMIN_CMD, &mut command) }? {
            0 => Ok(page),
            status => Err(io::Error::other(format!("the disk answered with status {status:#x}"))),
        }
    }

    fn ata(&self, name: &str, command: ata::Read) -> io::Result<ata::Answer> {
        let mut data = vec![0; command.length()];
        let sense = scsi(name, &mut command.through_scsi(), &mut data)?;
        Ok(ata::Answer { data, sense })
    }

    fn scsi_log(&self, name: &str, page: u8) -> io::Result<Vec<u8>> {
        const MOST: u16 = 252;
        let mut data = vec![0; usize::from(MOST)];
        // LOG SENSE, cumulative values (page control 01b).
        let length = MOST.to_be_bytes();
        let mut command = [0x4d, 0, 0x40 | page & 0x3f, 0, 0, 0, 0, length[0], length[1], 0];
        let sense = scsi(name, &mut command, &mut data)?;
        if sense.is_empty() { Ok(data) } else { Err(io::Error::other("the disk does not have this page")) }
    }

    fn ipmi(&self, request: &ipmi::Request) -> io::Result<Vec<u8>> {
        let controller = OpenOptions::new().read(true).write(true).open("/dev/ipmi0")?;
        let mut address =
            IpmiAddress { kind: IPMI_SYSTEM_INTERFACE_ADDR_TYPE, channel: IPMI_BMC_CHANNEL, lun: 0 };
        let mut data = request.data.clone();
        let length = u16::try_from(data.len()).map_err(|_| io::ErrorKind::InvalidInput)?;
        let message = IpmiMessage {
            net_function: request.net_function,
            command: request.command,
            length,
            data: data.as_mut_ptr(),
        };
        let mut sent = IpmiRequest {
            address: ptr::from_mut(&mut address).cast(),
            address_length: size_of::<IpmiAddress>() as u32,
            id: 1,
            message,
        };
        // SAFETY: address and data are as long as the request says, and live until the call returns.
        unsafe { ioctl(&controller, IPMICTL_SEND_COMMAND, &mut sent) }?;
        let timeout = PollTimeout::try_from(CONTROLLER).map_err(|_| io::ErrorKind::InvalidInput)?;
        if poll(&mut [PollFd::new(controller.as_fd(), PollFlags::POLLIN)], timeout)? == 0 {
            return Err(io::ErrorKind::TimedOut.into());
        }
        let (mut from, mut answer) = ([0_u8; 64], [0_u8; MOST_IPMI]);
        let mut received = IpmiReceived {
            kind: 0,
            address: from.as_mut_ptr(),
            address_length: from.len() as u32,
            id: 0,
            message: IpmiMessage {
                net_function: 0,
                command: 0,
                length: MOST_IPMI as u16,
                data: answer.as_mut_ptr(),
            },
        };
        // SAFETY: address and data are as long as the request says, and live until the call returns.
        unsafe { ioctl(&controller, IPMICTL_RECEIVE_MSG_TRUNC, &mut received) }?;
        Ok(answer[..usize::from(received.message.length).min(MOST_IPMI)].to_vec())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The kernel finds the size of the structure in the request itself (`include/uapi/asm-generic/ioctl.h`).
    #[test]
    fn the_structures_are_as_large_as_the_requests_say() {
        let size = |request: c_ulong| usize::try_from(request >> 16 & 0x3fff).unwrap();
        assert_eq!(size(NVME_IOCTL_ADMIN_CMD), size_of::<NvmeCommand>());
        assert_eq!(size(IPMICTL_SEND_COMMAND), size_of::<IpmiRequest>());
        assert_eq!(size(IPMICTL_RECEIVE_MSG_TRUNC), size_of::<IpmiReceived>());
        assert_eq!(size_of::<DriverInfo>(), 196);
        assert_eq!(size_of::<ScsiCommand>(), 88);
        assert_eq!(size_of::<InterfaceRequest>(), size_of::<libc::ifreq>());
        assert_eq!(size_of::<IpmiAddress>(), 8);
    }

    #[test]
    fn what_is_not_there_says_so() {
        assert_eq!(Own.read("no-disk", 0, 512).unwrap_err().kind(), io::ErrorKind::NotFound);
        assert!(Own.nic_firmware("no-card").is_err());
        assert!(Own.nic_firmware("a-name-that-is-longer-than-any").is_err());
        // A device that is no disk does not know the command.
        assert!(Own.nvme_health("null").is_err());
        assert!(Own.ata("null", ata::Read::Health).is_err());
        assert_eq!(Own.read("zero", 512, 8).unwrap(), [0; 8]);
        assert!(Own.read("null", 0, 8).unwrap().is_empty());
    }
}
