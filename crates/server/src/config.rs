//! `lastmile.toml`: what must be known before the database opens. Everything else lives in the database.

use std::{
    net::{Ipv4Addr, SocketAddr, SocketAddrV4},
    path::{Path, PathBuf},
};

use serde::Deserialize;
use thiserror::Error;

/// The configuration file's content.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Config {
    /// Folder for the database and the image library.
    #[serde(default = "Config::default_data_dir")]
    pub data_dir: PathBuf,
    /// What machines reach.
    #[serde(default)]
    pub boot: BootConfig,
    /// What people and programs reach.
    #[serde(default)]
    pub admin: AdminConfig,
    /// The log.
    #[serde(default)]
    pub log: LogConfig,
}

/// What machines reach.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct BootConfig {
    /// The interfaces on whose wires DHCP is answered, VLAN interfaces among them; none if only relays are.
    pub interfaces: Vec<String>,
    /// Address that machines behind relays are told; the first interface's first if left out. With a single
    /// interface, the address that its machines are told, too.
    pub address: Option<Ipv4Addr>,
    /// Address and port on which relayed DHCP is answered beside the interface.
    pub relay_listen: Option<SocketAddrV4>,
    /// Port of DHCP on the interfaces.
    pub dhcp_port: u16,
    /// Port on which PXE boot servers are asked, on the interfaces.
    pub boot_server_port: u16,
    /// Port of TFTP.
    pub tftp_port: u16,
    /// Port of the boot listener.
    pub http_port: u16,
    /// Port of the boot listener by HTTPS; none if it is not wanted.
    pub https_port: Option<u16>,
    /// The certificate chain for HTTPS (PEM). Without one the service makes its own in the data folder.
    pub certificate: Option<PathBuf>,
    /// The private key that belongs to it (PEM).
    pub private_key: Option<PathBuf>,
}

/// What people and programs reach.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct AdminConfig {
    /// Address and port of the API and the console. Only the loopback is taken: there is no log-in yet.
    pub listen: SocketAddr,
}

/// The log, on standard error.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct LogConfig {
    /// Least severity that is written, or a filter such as `info,lastmile_server::dhcp=debug`.
    pub level: String,
    /// How lines are written.
    pub format: LogFormat,
}

/// How lines are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LogFormat {
    /// For people.
    Text,
    /// For programs: one JSON object a line.
    Json,
}

impl Default for BootConfig {
    fn default() -> Self {
        Self {
            interfaces: Vec::new(),
            address: None,
            relay_listen: None,
            dhcp_port: 67,
            boot_server_port: 4011,
            tftp_port: 69,
            http_port: 80,
            https_port: None,
            certificate: None,
            private_key: None,
        }
    }
}

impl Default for AdminConfig {
    fn default() -> Self {
        Self { listen: SocketAddr::from((Ipv4Addr::LOCALHOST, 8480)) }
    }
}

impl Default for LogConfig {
    fn default() -> Self {
        Self { level: "info".into(), format: LogFormat::Text }
    }
}

/// What is wrong with the configuration.
#[derive(Debug, Error)]
pub enum ConfigError {
    /// The file cannot be read.
    #[error("cannot read {}: {source}. Name the file with --config, or begin with `lastmile serve --example-config`", path.display())]
    Read {
        /// The file.
        path: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// The file is not the TOML that is wanted.
    #[error("{}: {source}", path.display())]
    Parse {
        /// The file.
        path: PathBuf,
        /// Where and what.
        source: Box<toml::de::Error>,
    },
    /// Nothing names where machines are.
    #[error(
        "[boot] names neither `interfaces` nor `relay_listen`, so no machine could reach the service. \
         Name the interface that `ip link` shows for the wire the machines are on"
    )]
    NoWire,
    /// Relays only, and no address to tell machines.
    #[error("[boot] names no interface, so `address` must say which address machines are told")]
    NoAddress,
    /// A certificate without its key, or the other way round.
    #[error(
        "[boot] `certificate` and `private_key` belong together: give both, or neither for one of the service's own"
    )]
    HalfCertificate,
    /// An interface is named twice.
    #[error("[boot] interfaces names '{name}' twice. Name each interface once")]
    InterfaceTwice {
        /// The interface.
        name: String,
    },
    /// The admin listener would be open to the network.
    #[error(
        "[admin] listen = {listen} is not on the loopback. There is no log-in yet, so only 127.0.0.1 or [::1] \
         is taken; reach it from elsewhere through an SSH tunnel"
    )]
    AdminNotLoopback {
        /// The address given.
        listen: SocketAddr,
    },
}

impl Config {
    /// An example with every key and its meaning.
    pub const EXAMPLE: &str = include_str!("../lastmile.example.toml");

    fn default_data_dir() -> PathBuf {
        "/var/lib/lastmile".into()
    }

    /// Reads and checks a file.
    ///
    /// # Errors
    /// What is wrong, where, and how to fix it.
    pub fn read(path: &Path) -> Result<Self, ConfigError> {
        let text = std::fs::read_to_string(path)
            .map_err(|source| ConfigError::Read { path: path.into(), source })?;
        let config: Self = toml::from_str(&text)
            .map_err(|source| ConfigError::Parse { path: path.into(), source: Box::new(source) })?;
        config.check()?;
        Ok(config)
    }

    /// Checks what belongs together.
    ///
    /// # Errors
    /// The first thing that does not.
    pub fn check(&self) -> Result<(), ConfigError> {
        let names = &self.boot.interfaces;
        if let Some((_, name)) = names.iter().enumerate().find(|(place, name)| names[..*place].contains(name))
        {
            return Err(ConfigError::InterfaceTwice { name: name.clone() });
        }
        if self.boot.certificate.is_some() != self.boot.private_key.is_some() {
            return Err(ConfigError::HalfCertificate);
        }
        if self.boot.interfaces.is_empty() {
            if self.boot.relay_listen.is_none() {
                return Err(ConfigError::NoWire);
            }
            if self.boot.address.is_none() {
                return Err(ConfigError::NoAddress);
            }
        }
        if !self.admin.listen.ip().is_loopback() {
            return Err(ConfigError::AdminNotLoopback { listen: self.admin.listen });
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn check(text: &str) -> String {
        match toml::from_str::<Config>(text) {
            Ok(config) => config.check().map_or_else(|error| error.to_string(), |()| "good".into()),
            Err(error) => error.to_string(),
        }
    }

    #[test]
    fn the_example_is_a_good_file() {
        assert_eq!(check(Config::EXAMPLE), "good");
    }

    #[test]
    fn what_is_wrong_is_said_with_its_place() {
        assert!(check("").contains("neither `interfaces` nor `relay_listen`"));
        assert!(check("[boot]\nrelay_listen = '127.0.0.1:1067'").contains("`address` must say"));
        assert!(
            check("[boot]\ninterfaces = ['eno1']\n[admin]\nlisten = '0.0.0.0:8480'").contains("SSH tunnel")
        );
        let unknown = check("[boot]\ninterface = 'eno1'");
        assert!(unknown.contains("line 2") && unknown.contains("interfaces"), "{unknown}");
        assert!(check("[boot]\ninterfaces = ['eno1', 'eno1']").contains("'eno1' twice"));
        let half = check("[boot]\ninterfaces = ['eno1']\ncertificate = 'quay.pem'");
        assert!(half.contains("belong together"), "{half}");
    }
}
