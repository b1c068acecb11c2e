//! What to enter in a DHCP server that somebody else owns, and in the firewall: ready to read out.

use std::net::Ipv4Addr;

use serde::{Deserialize, Serialize};

use crate::{
    decide::dhcp::BOOT_SERVER_PORT,
    model::{
        loader::Loader,
        service::Service,
        subnet::{HttpBoot, Mode, Subnet},
    },
};

/// The values for one kind of client.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AdviceRow {
    /// The platform.
    pub architecture: String,
    /// Which clients: what their options must say, in the order to try.
    pub clients: String,
    /// Next server (`siaddr`); none for clients that are told a URL.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    pub next_server: Option<Ipv4Addr>,
    /// Boot file name, or the URL.
    pub boot_file: String,
    /// The options to send, with their values.
    pub options: Vec<AdviceOption>,
}

/// One option to send.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AdviceOption {
    /// Its code.
    pub code: u8,
    /// Its value.
    pub value: String,
}

/// One line for the firewall.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AdvicePort {
    /// `UDP` or `TCP`.
    pub protocol: String,
    /// From where.
    pub from: String,
    /// To where.
    pub to: String,
    /// What it is for.
    pub purpose: String,
}

/// The whole advice for a subnet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Advice {
    /// What to know before.
    pub remarks: Vec<String>,
    /// The values, a row for each kind of client.
    pub rows: Vec<AdviceRow>,
    /// What the firewall must let through.
    pub ports: Vec<AdvicePort>,
}

/// The ports on which the service listens.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Ports {
    /// DHCP.
    pub dhcp: u16,
    /// TFTP.
    pub tftp: u16,
    /// From which TFTP transfers come (`net.ipv4.ip_local_port_range`).
    pub transfers: (u16, u16),
}

/// Advises for `subnet`, whose machines reach the service at `service`.
#[must_use]
pub fn advise<'a>(
    subnet: &Subnet,
    loaders: impl IntoIterator<Item = &'a Loader>,
    service: Service,
    ports: Ports,
) -> Advice {
    let mut loaders: Vec<&Loader> = loaders.into_iter().collect();
    loaders.sort_by_key(|loader| (loader.architecture, std::cmp::Reverse(loader.closeness())));
    let mut rows = Vec::new();
    for loader in loaders {
        let http_only = loader.class.as_ref().is_some_and(|class| class.starts_with("HTTPClient"));
        let pxe_only = loader.class.as_ref().is_some_and(|class| class.starts_with("PXEClient"));
        if !http_only {
            rows.push(pxe_row(loader, service));
        }
        if let Some(code) =
            loader.architecture.http_code().filter(|_| loader.architecture.is_uefi() && !pxe_only)
        {
            rows.push(http_row(loader, code, subnet.http_boot, service));
        }
    }
    Advice {
        remarks: remarks(subnet, service, rows.is_empty()),
        rows,
        ports: firewall(subnet, service, ports),
    }
}

fn remarks(subnet: &Subnet, service: Service, no_loader: bool) -> Vec<String> {
    let mut remarks = Vec::new();
    match subnet.mode {
        Mode::Lease => remarks.push(format!(
            "{} is in mode `lease`: this service hands out the addresses itself. Enter these values elsewhere only if \
             you change the mode to `off`.",
            subnet.name
        )),
        Mode::Proxy => remarks.push(format!(
            "{} is in mode `proxy`: this service adds the boot file itself, so the other DHCP server must send none. \
             One value is worth entering there: next server {} (siaddr) for every client, because GRUB up to 2.06 \
             asks that one for its menu. With all the values below in it, set the mode to `off`.",
            subnet.name, service.address
        )),
        Mode::Off => {}
    }
    if no_loader {
        remarks.push("No loader is there yet, so there is nothing to fetch: `lastmile loader add`.".into());
    } else {
        remarks.push(
            "The next server is an address, never a name: firmware does not resolve names. Each architecture has a \
             file of its own: the other server must tell clients apart by option 93."
                .into(),
        );
    }
    remarks
}

fn clients(loader: &Loader, kind: &str, code: u16) -> String {
    let mut text = format!("option 60 begins with {kind}, option 93 is {code}");
    if code == 7 {
        text.push_str(" or 9");
    }
    if let Some(class) = loader.class.as_ref().filter(|class| class.as_str() != kind) {
        text.push_str(&format!(", option 60 begins with {class}"));
    }
    if let Some(user_class) = &loader.user_class {
        text.push_str(&format!(", option 77 holds {user_class}"));
    }
    text
}

fn pxe_row(loader: &Loader, service: Service) -> AdviceRow {
    let boot_file = format!("loader/{}/{}", loader.name, loader.boot_file);
    let option = |code, value: &str| AdviceOption { code, value: value.into() };
    AdviceRow {
        architecture: loader.architecture.to_string(),
        clients: clients(loader, "PXEClient", loader.architecture.code()),
        next_server: Some(service.address),
        options: vec![option(66, &service.address.to_string()), option(67, &boot_file)],
        boot_file,
    }
}

fn http_row(loader: &Loader, code: u16, scheme: HttpBoot, service: Service) -> AdviceRow {
    let path = format!("loader/{}/{}", loader.name, loader.boot_file);
    let boot_file = service.url(scheme, &path);
    let option = |code, value: &str| AdviceOption { code, value: value.into() };
    AdviceRow {
        architecture: format!("{} by HTTP", loader.architecture),
        clients: clients(loader, "HTTPClient", code),
        next_server: None,
        options: vec![option(60, "HTTPClient"), option(67, &boot_file)],
        boot_file,
    }
}

fn firewall(subnet: &Subnet, service: Service, ports: Ports) -> Vec<AdvicePort> {
    let machines = subnet.network.to_string();
    let own = service.address;
    let line = |protocol: &str, from: String, to: String, purpose: &str| AdvicePort {
        protocol: protocol.into(),
        from,
        to,
        purpose: purpose.into(),
    };
    let mut lines = Vec::new();
    if subnet.mode != Mode::Off {
        if subnet.relays.is_empty() {
            let clients = "0.0.0.0 and machines, port 68".to_owned();
            lines.push(line(
                "UDP",
                clients,
                format!("broadcast and {own}, port {}", ports.dhcp),
                "DHCP questions",
            ));
            lines.push(line(
                "UDP",
                format!("{own}, port {}", ports.dhcp),
                "machines, port 68".into(),
                "DHCP answers",
            ));
        }
        for relay in &subnet.relays {
            lines.push(line(
                "UDP",
                format!("relay {relay}"),
                format!("{own}, port {}", ports.dhcp),
                "DHCP questions",
            ));
            lines.push(line(
                "UDP",
                format!("{own}, port {}", ports.dhcp),
                format!("relay {relay}, port 67"),
                "DHCP answers",
            ));
        }
    }
    if subnet.mode == Mode::Proxy {
        let to = format!("{own}, port {BOOT_SERVER_PORT}");
        lines.push(line("UDP", machines.clone(), to, "PXE boot server"));
    }
    lines.push(line("UDP", machines.clone(), format!("{own}, port {}", ports.tftp), "TFTP requests"));
    lines.push(line(
        "UDP",
        format!("{own}, ports {} to {}", ports.transfers.0, ports.transfers.1),
        format!("{machines}, any port"),
        "TFTP transfers, which come from ports of their own (RFC 1350, section 4), and their acknowledgements back",
    ));
    lines.push(line(
        "TCP",
        machines.clone(),
        format!("{own}, port {}", service.http_port),
        "kernels, menus, answers, reports",
    ));
    if let Some(port) = service.https_port {
        lines.push(line("TCP", machines, format!("{own}, port {port}"), "UEFI HTTPS boot"));
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        base::Id,
        decide::{loader::LoaderDraft, subnet::SubnetDraft},
        model::image::{FileEntry, Sha256},
        site::Site,
    };

    #[test]
    fn every_loader_has_its_rows_and_the_firewall_its_lines() {
        let draft = SubnetDraft {
            mode: Mode::Proxy,
            interface: Some("eno1".into()),
            ..SubnetDraft::new("holm-quay", "192.0.2.0/24")
        };
        let subnet = draft.check(Id::generate(), &Site::default(), &[]).unwrap();
        let loader = |name: &str, architecture: &str, file: &str| {
            let entry = FileEntry::new(file, 1, Sha256::of(b"x"));
            let draft = LoaderDraft::new(name, architecture, file, vec![entry]);
            draft
                .check(Id::generate(), crate::model::loader::LoaderFacts::default(), [], |_, _| true)
                .unwrap()
        };
        let loaders =
            [loader("signed-x64", "uefi-x64", "shimx64.efi"), loader("bios-core", "bios", "core.0")];
        let service = Service { address: Ipv4Addr::new(192, 0, 2, 2), http_port: 80, https_port: None };
        let ports = Ports { dhcp: 67, tftp: 69, transfers: (32_768, 60_999) };
        let advice = advise(&subnet, &loaders, service, ports);
        let rows: Vec<String> = advice
            .rows
            .iter()
            .map(|row| format!("{}: {} / {}", row.architecture, row.clients, row.boot_file))
            .collect();
        assert_eq!(
            rows,
            [
                "bios: option 60 begins with PXEClient, option 93 is 0 / loader/bios-core/core.0",
                "uefi-x64: option 60 begins with PXEClient, option 93 is 7 or 9 / loader/signed-x64/shimx64.efi",
                "uefi-x64 by HTTP: option 60 begins with HTTPClient, option 93 is 16 / \
                 http://192.0.2.2/loader/signed-x64/shimx64.efi",
            ]
        );
        assert!(advice.ports.iter().any(|line| line.to.ends_with("port 4011")));
        assert!(advice.remarks[0].contains("mode `proxy`"));
    }
}
