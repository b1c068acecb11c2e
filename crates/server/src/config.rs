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
    /// The one interface on whose wire DHCP is answered; none if only relays are.
    pub interface: Option<String>,
    /// Address that machines are told; the interface's first if left out.
    pub address: Option<Ipv4Addr>,
    /// Address and port on which relayed DHCP is answered beside the interface.
    pub relay_listen: Option<SocketAddrV4>,
    /// Port of DHCP on the interface.
    pub dhcp_port: u16,
    /// Port of TFTP.
    pub tftp_port: u16,
    /// Port of the boot listener.
    pub http_port: u16,
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
            interface: None,
            address: None,
            relay_listen: None,
            dhcp_port: 67,
            tftp_port: 69,
            http_port: 80,
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
        "[boot] names neither `interface` nor `relay_listen`, so no machine could reach the service. \
         Name the interface that `ip link` shows for the wire the machines are on"
    )]
    NoWire,
    /// Relays only, and no address to tell machines.
    #[error("[boot] names no interface, so `address` must say which address machines are told")]
    NoAddress,
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
    /// What is wrong, where, and how to mend it.
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
        if self.boot.interface.is_none() {
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
        assert!(check("").contains("neither `interface` nor `relay_listen`"));
        assert!(check("[boot]\nrelay_listen = '127.0.0.1:1067'").contains("`address` must say"));
        assert!(check("[boot]\ninterface = 'eno1'\n[admin]\nlisten = '0.0.0.0:8480'").contains("SSH tunnel"));
        let unknown = check("[boot]\ninterfaces = 'eno1'");
        assert!(unknown.contains("line 2") && unknown.contains("interfaces"), "{unknown}");
    }
}
