//! Where machines reach the service.

use std::net::Ipv4Addr;

use crate::model::{
    install::{ReportStage, Token},
    subnet::HttpBoot,
};

/// Where machines reach the service.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Service {
    /// Its address.
    pub address: Ipv4Addr,
    /// Port of the boot listener.
    pub http_port: u16,
    /// Port of the boot listener by HTTPS, if there is one.
    pub https_port: Option<u16>,
}

impl Service {
    /// The boot listener's URL without a closing `/`; port 80 is left out.
    #[must_use]
    pub fn http_base(&self) -> String {
        match self.http_port {
            80 => format!("http://{}", self.address),
            port => format!("http://{}:{port}", self.address),
        }
    }

    /// The URL of a path below the boot listener; by plain HTTP where no HTTPS is there.
    #[must_use]
    pub fn url(&self, scheme: HttpBoot, path: &str) -> String {
        match (scheme, self.https_port) {
            (HttpBoot::Https, Some(443)) => format!("https://{}/{path}", self.address),
            (HttpBoot::Https, Some(port)) => format!("https://{}:{port}/{path}", self.address),
            _ => format!("{}/{path}", self.http_base()),
        }
    }

    /// Where the installer fetches its answer file.
    #[must_use]
    pub fn answers_url(&self, token: &Token, file: &str) -> String {
        format!("{}/answers/{}/{file}", self.http_base(), token.reveal())
    }

    /// Where the machine reports by a plain GET.
    #[must_use]
    pub fn report_url(&self, token: &Token, stage: ReportStage) -> String {
        format!("{}/{stage}", self.report_base(token))
    }

    /// Where its installer sends what it writes: as `text` in the query of a GET, or as the content of a POST.
    #[must_use]
    pub fn log_url(&self, token: &Token) -> String {
        format!("{}/log", self.report_base(token))
    }

    /// The folder of its reports, without a closing `/`.
    #[must_use]
    pub fn report_base(&self, token: &Token) -> String {
        format!("{}/report/{}", self.http_base(), token.reveal())
    }
}
