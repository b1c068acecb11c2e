//! DHCP option codes (IANA "BOOTP Vendor Extensions and DHCP Options"), by their RFC 2132 names.

/// Filler without length (RFC 2132, section 3.1).
pub const PAD: u8 = 0;
/// Subnet mask (3.3).
pub const SUBNET_MASK: u8 = 1;
/// Routers in order of preference (3.5).
pub const ROUTER: u8 = 3;
/// Domain name servers (3.8).
pub const DOMAIN_NAME_SERVER: u8 = 6;
/// Host name of the client (3.14).
pub const HOST_NAME: u8 = 12;
/// Domain name of the client (3.17).
pub const DOMAIN_NAME: u8 = 15;
/// Broadcast address (5.3).
pub const BROADCAST_ADDRESS: u8 = 28;
/// NTP servers (8.3).
pub const NTP_SERVERS: u8 = 42;
/// Vendor-specific information (8.4): PXE's own options (PXE 2.1, section 2.2).
pub const VENDOR_SPECIFIC: u8 = 43;
/// The address a client would like (9.1).
pub const REQUESTED_ADDRESS: u8 = 50;
/// Lease time in seconds (9.2).
pub const LEASE_TIME: u8 = 51;
/// Whether `file` and `sname` hold options (9.3).
pub const OVERLOAD: u8 = 52;
/// Message type (9.6).
pub const MESSAGE_TYPE: u8 = 53;
/// Server identifier (9.7).
pub const SERVER_IDENTIFIER: u8 = 54;
/// Options a client asks for (9.8).
pub const PARAMETER_REQUEST_LIST: u8 = 55;
/// Text for a person (9.9).
pub const MESSAGE: u8 = 56;
/// Largest message a client takes, in bytes (9.10).
pub const MAX_MESSAGE_SIZE: u8 = 57;
/// Renewal time T1 in seconds (9.11).
pub const RENEWAL_TIME: u8 = 58;
/// Rebinding time T2 in seconds (9.12).
pub const REBINDING_TIME: u8 = 59;
/// Vendor class identifier (9.13).
pub const VENDOR_CLASS: u8 = 60;
/// Client identifier (9.14).
pub const CLIENT_IDENTIFIER: u8 = 61;
/// TFTP server name (9.4).
pub const TFTP_SERVER_NAME: u8 = 66;
/// Boot file name (9.5).
pub const BOOT_FILE_NAME: u8 = 67;
/// User class (RFC 3004).
pub const USER_CLASS: u8 = 77;
/// Relay agent information (RFC 3046).
pub const RELAY_AGENT_INFORMATION: u8 = 82;
/// Client system architecture (RFC 4578, section 2.1).
pub const CLIENT_ARCHITECTURE: u8 = 93;
/// Client network interface identifier (RFC 4578, section 2.2).
pub const CLIENT_INTERFACE: u8 = 94;
/// Client machine identifier (RFC 4578, section 2.3).
pub const CLIENT_MACHINE_IDENTIFIER: u8 = 97;
/// Last option (RFC 2132, section 3.2).
pub const END: u8 = 255;
