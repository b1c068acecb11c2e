//! The options that have a standard name, and the type of their value.
//!
//! Names are those of IANA's registry "BOOTP Vendor Extensions and DHCP Options", in lower case and joined by
//! hyphens; types are those of the RFC that defines the option.

use crate::dhcp::code;

/// What an option's value is made of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ValueType {
    /// One IPv4 address.
    Address,
    /// One IPv4 address or more.
    Addresses,
    /// Pairs of IPv4 addresses.
    AddressPairs,
    /// 8 bits, unsigned.
    U8,
    /// 16 bits, unsigned.
    U16,
    /// 16-bit numbers.
    U16s,
    /// 32 bits, unsigned.
    U32,
    /// 32 bits, signed.
    I32,
    /// 0 or 1.
    Flag,
    /// Text.
    Text,
    /// Domain names, as RFC 3397 writes them.
    Domains,
    /// Classless routes (RFC 3442).
    Routes,
    /// Bytes.
    Octets,
}

impl ValueType {
    /// How a value of it is written, for a person.
    #[must_use]
    pub const fn form(self) -> &'static str {
        match self {
            Self::Address => "an IPv4 address, as in 192.0.2.5",
            Self::Addresses => "IPv4 addresses joined by commas, as in 192.0.2.5,192.0.2.6",
            Self::AddressPairs => "an even number of IPv4 addresses joined by commas",
            Self::U8 => "a number from 0 to 255",
            Self::U16 => "a number from 0 to 65535",
            Self::U16s => "numbers from 0 to 65535 joined by commas",
            Self::U32 => "a number from 0 to 4294967295",
            Self::I32 => "a number from -2147483648 to 2147483647",
            Self::Flag => "yes or no",
            Self::Text => "a text of 1 to 255 bytes",
            Self::Domains => "domain names joined by commas, as in gannet.example,quay.gannet.example",
            Self::Routes => "routes joined by commas, as in 198.51.100.0/24 via 192.0.2.1",
            Self::Octets => "bytes in hexadecimal, as in 01:0a:ff",
        }
    }

    /// The type that a word names, for an option that has no standard type.
    #[must_use]
    pub fn by_word(word: &str) -> Option<Self> {
        Some(match word {
            "address" => Self::Address,
            "addresses" => Self::Addresses,
            "u8" => Self::U8,
            "u16" => Self::U16,
            "u32" => Self::U32,
            "i32" => Self::I32,
            "flag" => Self::Flag,
            "text" => Self::Text,
            "domains" => Self::Domains,
            "routes" => Self::Routes,
            "hex" => Self::Octets,
            _ => return None,
        })
    }
}

/// An option with a standard name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Known {
    /// Its code.
    pub code: u8,
    /// Its name.
    pub name: &'static str,
    /// The type of its value.
    pub value: ValueType,
}

const fn known(code: u8, name: &'static str, value: ValueType) -> Known {
    Known { code, name, value }
}

/// Options that may be set freely, in order of their codes.
pub const KNOWN: [Known; 66] = [
    known(2, "time-offset", ValueType::I32),
    known(4, "time-server", ValueType::Addresses),
    known(5, "name-server", ValueType::Addresses),
    known(7, "log-server", ValueType::Addresses),
    known(8, "quotes-server", ValueType::Addresses),
    known(9, "lpr-server", ValueType::Addresses),
    known(10, "impress-server", ValueType::Addresses),
    known(11, "rlp-server", ValueType::Addresses),
    known(13, "boot-file-size", ValueType::U16),
    known(14, "merit-dump-file", ValueType::Text),
    known(16, "swap-server", ValueType::Address),
    known(17, "root-path", ValueType::Text),
    known(18, "extensions-path", ValueType::Text),
    known(19, "ip-forwarding", ValueType::Flag),
    known(20, "non-local-source-routing", ValueType::Flag),
    known(21, "policy-filter", ValueType::AddressPairs),
    known(22, "max-datagram-reassembly", ValueType::U16),
    known(23, "default-ip-ttl", ValueType::U8),
    known(24, "path-mtu-aging-timeout", ValueType::U32),
    known(25, "path-mtu-plateau-table", ValueType::U16s),
    known(26, "interface-mtu", ValueType::U16),
    known(27, "all-subnets-local", ValueType::Flag),
    known(29, "mask-discovery", ValueType::Flag),
    known(30, "mask-supplier", ValueType::Flag),
    known(31, "router-discovery", ValueType::Flag),
    known(32, "router-solicitation-address", ValueType::Address),
    known(33, "static-route", ValueType::AddressPairs),
    known(34, "trailer-encapsulation", ValueType::Flag),
    known(35, "arp-cache-timeout", ValueType::U32),
    known(36, "ethernet-encapsulation", ValueType::Flag),
    known(37, "default-tcp-ttl", ValueType::U8),
    known(38, "tcp-keepalive-interval", ValueType::U32),
    known(39, "tcp-keepalive-garbage", ValueType::Flag),
    known(40, "nis-domain", ValueType::Text),
    known(41, "nis-servers", ValueType::Addresses),
    known(43, "vendor-specific", ValueType::Octets),
    known(44, "netbios-name-server", ValueType::Addresses),
    known(45, "netbios-dd-server", ValueType::Addresses),
    known(46, "netbios-node-type", ValueType::U8),
    known(47, "netbios-scope", ValueType::Text),
    known(48, "x-window-font-server", ValueType::Addresses),
    known(49, "x-window-display-manager", ValueType::Addresses),
    known(64, "nis-plus-domain", ValueType::Text),
    known(65, "nis-plus-servers", ValueType::Addresses),
    known(68, "mobile-ip-home-agent", ValueType::Addresses),
    known(69, "smtp-server", ValueType::Addresses),
    known(70, "pop3-server", ValueType::Addresses),
    known(71, "nntp-server", ValueType::Addresses),
    known(72, "www-server", ValueType::Addresses),
    known(73, "finger-server", ValueType::Addresses),
    known(74, "irc-server", ValueType::Addresses),
    known(75, "streettalk-server", ValueType::Addresses),
    known(76, "stda-server", ValueType::Addresses),
    known(78, "directory-agent", ValueType::Octets),
    known(79, "service-scope", ValueType::Octets),
    known(85, "nds-servers", ValueType::Addresses),
    known(86, "nds-tree-name", ValueType::Text),
    known(87, "nds-context", ValueType::Text),
    known(100, "posix-timezone", ValueType::Text),
    known(101, "tzdb-timezone", ValueType::Text),
    known(108, "ipv6-only-preferred", ValueType::U32),
    known(114, "captive-portal", ValueType::Text),
    known(116, "auto-config", ValueType::Flag),
    known(119, "domain-search", ValueType::Domains),
    known(121, "classless-static-route", ValueType::Routes),
    known(150, "tftp-server-address", ValueType::Addresses),
];

/// The option that a name or number means; `None` for a number without a standard name.
pub fn find(name: &str) -> Option<&'static Known> {
    let code = name.parse::<u8>().ok();
    KNOWN.iter().find(|known| known.name == name || Some(known.code) == code)
}

/// What option `code` is called, for a person: its standard name, or its number.
#[must_use]
pub fn option_name(code: u8) -> String {
    let own = match code {
        code::SUBNET_MASK => "subnet-mask",
        code::ROUTER => "router",
        code::DOMAIN_NAME_SERVER => "domain-name-server",
        code::HOST_NAME => "host-name",
        code::DOMAIN_NAME => "domain-name",
        code::BROADCAST_ADDRESS => "broadcast-address",
        code::NTP_SERVERS => "ntp-servers",
        code::REQUESTED_ADDRESS => "requested-address",
        code::LEASE_TIME => "lease-time",
        code::MESSAGE_TYPE => "message-type",
        code::SERVER_IDENTIFIER => "server-identifier",
        code::PARAMETER_REQUEST_LIST => "parameter-request-list",
        code::MESSAGE => "message",
        code::MAX_MESSAGE_SIZE => "max-message-size",
        code::RENEWAL_TIME => "renewal-time",
        code::REBINDING_TIME => "rebinding-time",
        code::VENDOR_CLASS => "vendor-class",
        code::CLIENT_IDENTIFIER => "client-identifier",
        code::TFTP_SERVER_NAME => "tftp-server-name",
        code::BOOT_FILE_NAME => "boot-file-name",
        code::USER_CLASS => "user-class",
        code::RELAY_AGENT_INFORMATION => "relay-agent-information",
        code::CLIENT_ARCHITECTURE => "client-architecture",
        code::CLIENT_INTERFACE => "client-interface",
        code::CLIENT_MACHINE_IDENTIFIER => "client-machine-identifier",
        _ => "",
    };
    if !own.is_empty() {
        return own.into();
    }
    KNOWN.iter().find(|known| known.code == code).map_or_else(|| code.to_string(), |known| known.name.into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_code_and_name_stands_once_and_in_order() {
        assert!(KNOWN.windows(2).all(|pair| pair[0].code < pair[1].code));
        for known in KNOWN {
            assert_eq!(KNOWN.iter().filter(|other| other.name == known.name).count(), 1, "{}", known.name);
        }
    }
}
