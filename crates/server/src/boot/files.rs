//! What a path means, for TFTP and HTTP alike.

use std::net::IpAddr;

use lastmile_core::{
    Id,
    boot::{HttpReach, Loader, Request, Why, grub, menu_for, plan},
    image::FileEntry,
    install::Evidence,
    machine::Machine,
    net::Mac,
    site::Site,
    tftp::{PathError, ServedPath},
};

use crate::{content::Content, state::App};

/// Files that shim asks for beside itself and does without: their absence is no fault.
const OPTIONAL: [&str; 3] = ["revocations_sku.efi", "revocations_sbat.efi", "shim_certificate_0.efi"];

/// Who asks.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Asker {
    pub(crate) address: IpAddr,
    /// The MAC address that holds that address by a lease.
    pub(crate) mac: Option<Mac>,
}

/// What is served, and what its complete delivery says about an install.
#[derive(Debug)]
pub(crate) struct Served {
    pub(crate) content: Content,
    pub(crate) mac: Option<Mac>,
    pub(crate) evidence: Option<(Id<Machine>, Evidence)>,
    /// What it is, for the trace.
    pub(crate) what: String,
}

/// Why nothing is served.
#[derive(Debug, thiserror::Error)]
pub(crate) enum Refusal {
    #[error("{0}")]
    Path(#[from] PathError),
    #[error("nothing is served as '{path}'")]
    NotFound {
        path: String,
        /// The loader asks for it and does without.
        optional: bool,
    },
    #[error("'{path}' is in the record, but {image} misses or has changed {files}")]
    Damaged { path: String, image: String, files: String },
    #[error("it is not known which machine asks: {address} holds no lease here")]
    Stranger { address: IpAddr },
}

impl Asker {
    /// From the source of a request.
    pub(crate) fn new(app: &App, address: IpAddr) -> Self {
        let mac = match address {
            IpAddr::V4(v4) => app.mac_of(v4),
            IpAddr::V6(_) => None,
        };
        Self { address, mac }
    }
}

/// Finds what `name` means to `asker`.
pub(crate) async fn resolve(app: &App, asker: Asker, name: &str) -> Result<Served, Refusal> {
    let path = ServedPath::parse(name)?;
    let site = app.site();
    let not_found = || Refusal::NotFound {
        path: path.as_str().into(),
        optional: OPTIONAL.contains(&path.file_name()) || path.as_str().ends_with(".lst"),
    };
    match Request::recognise(&path) {
        Request::Loader { mac, name, file } => {
            let mac = mac.or(asker.mac);
            let machine = mac.and_then(|mac| site.machine_by_mac(mac));
            let loader = site.loader(name).ok_or_else(not_found)?;
            let file = loader.find(file).ok_or_else(not_found)?;
            let evidence = machine.map(|machine| (machine.id, Evidence::Loader { file: file.path.clone() }));
            Ok(Served {
                content: app.library.content(file),
                mac,
                evidence,
                what: format!("loader file {}", file.path),
            })
        }
        Request::BesideLoader => {
            let file = beside_loader(&site, path.as_str()).ok_or_else(not_found)?;
            let content = app.library.content(file);
            Ok(Served { content, mac: asker.mac, evidence: None, what: format!("loader file {}", file.path) })
        }
        Request::GrubMenu { mac } => {
            let mac = mac.or(asker.mac).ok_or(Refusal::Stranger { address: asker.address })?;
            Ok(menu(app, &site, mac).await)
        }
        Request::Image { mac, image, revision, file } => {
            let revision = site.revision_of(image, revision).ok_or_else(not_found)?;
            let file = revision.manifest.get(file).ok_or_else(not_found)?;
            if !revision.is_ready() {
                return Err(Refusal::Damaged {
                    path: path.as_str().into(),
                    image: format!("{} r{}", revision.image_name, revision.number),
                    files: revision.damaged.join(", "),
                });
            }
            let machine = site.machine_by_mac(mac);
            let open = machine.and_then(|machine| site.open_install(machine.id));
            let evidence = open.filter(|open| open.revision == revision.id).and_then(|open| {
                let (name, size) = (file.path.clone(), file.size);
                if file.path == revision.kernel {
                    Some((open.machine, Evidence::Kernel { file: name, size }))
                } else if revision.initrds.contains(&file.path) {
                    Some((open.machine, Evidence::Initrd { file: name, size }))
                } else {
                    None
                }
            });
            let what = format!("{} of {} r{}", file.path, revision.image_name, revision.number);
            Ok(Served { content: app.library.content(file), mac: Some(mac), evidence, what })
        }
    }
}

/// A module or list that a loader asks for under a prefix built into it. Which loader asks is not said, but
/// the folder (`x86_64-efi`, `i386-pc`) tells their files apart.
fn beside_loader<'a>(site: &'a Site, path: &str) -> Option<&'a FileEntry> {
    site.loaders().find_map(|loader| Loader::find(loader, path))
}

async fn menu(app: &App, site: &Site, mac: Mac) -> Served {
    let machine = site.machine_by_mac(mac);
    let subnet = {
        let book = app.book();
        let key = lastmile_core::dhcp::ClientKey::Mac(mac);
        site.subnets().find(|subnet| book.of_client(subnet.id, &key).is_some()).cloned()
    };
    let plan = plan(site, mac, subnet.as_deref());
    if let Why::Looping(install) = plan.why {
        app.stall(install.machine).await;
    }
    let menu = menu_for(&plan, machine.map(AsRef::as_ref), mac, app.service);
    let text = grub::render(&menu, app.service, reach(app, site, mac));
    let armed = matches!(plan.why, Why::Armed(_));
    Served {
        content: Content::Made(text.into()),
        mac: Some(mac),
        evidence: machine.filter(|_| armed).map(|machine| (machine.id, Evidence::Menu)),
        what: format!("menu: {} ({})", plan.summary(), plan.why),
    }
}

/// How the loader of a machine reaches HTTP. While it is not known what firmware the machine has, the weakest
/// of the loaders counts.
pub(crate) fn reach(app: &App, site: &Site, mac: Mac) -> HttpReach {
    let own = app.firmware_of(mac).and_then(|architecture| site.loader_for(architecture));
    if let Some(loader) = own {
        return loader.http;
    }
    let weakest = site.loaders().map(|loader| loader.http).min_by_key(|reach| match reach {
        HttpReach::None => 0,
        HttpReach::Port80 => 1,
        HttpReach::AnyPort => 2,
    });
    weakest.unwrap_or(HttpReach::None)
}
