//! What a path means, for TFTP and HTTP alike.

use std::{net::IpAddr, sync::Arc};

use lastmile_core::{
    Id,
    boot::{HttpReach, Loader, Request, Why, grub, menu_for, plan},
    image::FileEntry,
    install::Evidence,
    machine::Machine,
    net::{Mac, Subnet},
    site::Site,
    tftp::{PathError, ServedPath},
    trace::{Decision, Role, TransferEnd},
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
    /// What it is in the boot.
    pub(crate) role: Role,
    /// What it is, for the trace.
    pub(crate) what: String,
    /// The boot plan that it follows from, where it follows from one.
    pub(crate) decision: Option<Decision>,
}

/// Why nothing is served.
#[derive(Debug, thiserror::Error)]
pub(crate) enum Refusal {
    #[error("{0}")]
    Path(#[from] PathError),
    #[error("nothing is served as '{path}'")]
    NotFound {
        path: String,
        /// The name that is most like it, of those that are served.
        nearest: Option<String>,
        /// The loader asks for it and does without.
        optional: bool,
    },
    #[error("'{path}' is in the record, but {image} misses or has changed {files}")]
    Damaged { path: String, image: String, files: String },
    #[error("it is not known which machine asks: {address} holds no lease here")]
    Stranger { address: IpAddr },
}

impl Refusal {
    /// How the request ended, for the trace.
    pub(crate) fn end(&self) -> TransferEnd {
        match self {
            Self::NotFound { nearest, optional, .. } => {
                TransferEnd::NotFound { nearest: nearest.clone(), optional: *optional }
            }
            Self::Path(_) | Self::Damaged { .. } | Self::Stranger { .. } => {
                TransferEnd::Refused(self.to_string())
            }
        }
    }
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
    let not_found = || not_found(&site, &path);
    match Request::recognise(&path) {
        Request::Loader { mac, name, file } => {
            let mac = mac.or(asker.mac);
            let machine = mac.and_then(|mac| site.machine_by_mac(mac));
            let loader = site.loader(name).ok_or_else(not_found)?;
            let file = loader.find(file).ok_or_else(not_found)?;
            let evidence = machine.map(|machine| (machine.id, Evidence::Loader { file: file.path.clone() }));
            if let (Some(mac), true) = (mac, file.path == loader.boot_file) {
                app.note_loader(mac, loader);
            }
            Ok(Served {
                content: app.library.content(file),
                mac,
                evidence,
                role: loader_role(loader, file),
                what: format!("loader file {}", file.path),
                decision: None,
            })
        }
        Request::BesideLoader => {
            let (loader, file) = beside_loader(app, &site, asker.mac, path.as_str()).ok_or_else(not_found)?;
            Ok(Served {
                content: app.library.content(file),
                mac: asker.mac,
                evidence: None,
                role: loader_role(loader, file),
                what: format!("loader file {}", file.path),
                decision: None,
            })
        }
        Request::GrubMenu { mac } => {
            let mac = mac.or(asker.mac).ok_or(Refusal::Stranger { address: asker.address })?;
            Ok(menu(app, &site, mac, asker.address).await)
        }
        Request::Image { mac, image, revision, file } => {
            let revision = site.revision_of(image, revision).ok_or_else(not_found)?;
            let file = revision.manifest.find(file).ok_or_else(not_found)?;
            if !revision.is_ready() {
                return Err(Refusal::Damaged {
                    path: path.as_str().into(),
                    image: format!("{} r{}", revision.image_name, revision.number),
                    files: revision.damaged.join(", "),
                });
            }
            let machine = site.machine_by_mac(mac);
            let open = machine.and_then(|machine| site.open_install(machine.id));
            let role = if file.path == revision.kernel {
                Role::Kernel
            } else if revision.initrds.contains(&file.path) {
                Role::Initrd
            } else {
                Role::ImageFile
            };
            let evidence = open.filter(|open| open.revision == revision.id).and_then(|open| {
                let (name, size) = (file.path.clone(), file.size);
                match role {
                    Role::Kernel => Some((open.machine, Evidence::Kernel { file: name, size })),
                    Role::Initrd => Some((open.machine, Evidence::Initrd { file: name, size })),
                    _ => None,
                }
            });
            let what = format!("{} of {} r{}", file.path, revision.image_name, revision.number);
            Ok(Served {
                content: app.library.content(file),
                mac: Some(mac),
                evidence,
                role,
                what,
                decision: None,
            })
        }
    }
}

/// That there is no such file, with the name that is most like it: for whoever mistyped it in another DHCP server.
fn not_found(site: &Site, path: &ServedPath) -> Refusal {
    let of_loader = |loader: &Arc<Loader>| {
        let inner =
            path.as_str().split_once(&format!("{}/", loader.name)).map_or(path.as_str(), |(_, inner)| inner);
        let near = loader.manifest.nearest(inner).or_else(|| loader.manifest.nearest(path.file_name()))?;
        Some(format!("loader/{}/{near}", loader.name))
    };
    let likeness = |name: &String| strsim::jaro_winkler(name, path.as_str());
    let nearest = site.loaders().filter_map(of_loader).max_by(|a, b| likeness(a).total_cmp(&likeness(b)));
    Refusal::NotFound {
        path: path.as_str().into(),
        nearest,
        optional: OPTIONAL.contains(&path.file_name()) || path.as_str().ends_with(".lst"),
    }
}

fn loader_role(loader: &Loader, file: &FileEntry) -> Role {
    if file.path == loader.boot_file { Role::Loader(loader.architecture) } else { Role::BesideLoader }
}

/// A module or list that a loader asks for under a prefix built into it. Of the loader that the machine was given
/// first; where that is not known, the folder (`x86_64-efi`, `i386-pc`) tells the loaders' files apart.
fn beside_loader<'a>(
    app: &App,
    site: &'a Site,
    mac: Option<Mac>,
    path: &str,
) -> Option<(&'a Arc<Loader>, &'a FileEntry)> {
    let given = mac.and_then(|mac| app.loader_of(site, mac));
    let found = |loader: &'a Arc<Loader>| Some((loader, Loader::find(loader, path)?));
    given.and_then(found).or_else(|| site.loaders().find_map(found))
}

/// The subnet that a machine boots on: where it has or had an address of ours, else the one that holds the address
/// it asks from.
fn subnet_of(app: &App, site: &Site, mac: Mac, address: IpAddr) -> Option<Arc<Subnet>> {
    let of_lease = {
        let book = app.book();
        let key = lastmile_core::dhcp::ClientKey::Mac(mac);
        site.subnets().find(|subnet| book.of_client(subnet.id, &key).is_some()).cloned()
    };
    let IpAddr::V4(address) = address else { return of_lease };
    of_lease.or_else(|| site.subnets().find(|subnet| subnet.network.contains(&address)).cloned())
}

async fn menu(app: &App, site: &Site, mac: Mac, address: IpAddr) -> Served {
    let machine = site.machine_by_mac(mac);
    let subnet = subnet_of(app, site, mac, address);
    let service = app.service_for(subnet.as_deref());
    let plan = plan(site, mac, subnet.as_deref());
    if let Why::Looping(install) = plan.why {
        app.stall(install.machine).await;
    }
    let menu = menu_for(&plan, machine.map(AsRef::as_ref), mac, service);
    let text = grub::render(&menu, service, reach(app, site, mac));
    let armed = matches!(plan.why, Why::Armed(_));
    Served {
        content: Content::Made(text.into()),
        mac: Some(mac),
        evidence: machine.filter(|_| armed).map(|machine| (machine.id, Evidence::Menu)),
        role: Role::Menu,
        what: "menu".into(),
        decision: Some(Decision::from(&plan)),
    }
}

/// How the loader of a machine reaches HTTP. While it is not known what firmware the machine has, the weakest
/// of the loaders counts.
pub(crate) fn reach(app: &App, site: &Site, mac: Mac) -> HttpReach {
    if let Some(loader) = app.loader_of(site, mac) {
        return loader.http;
    }
    let weakest = site.loaders().map(|loader| loader.http).min_by_key(|reach| match reach {
        HttpReach::None => 0,
        HttpReach::Port80 => 1,
        HttpReach::AnyPort => 2,
    });
    weakest.unwrap_or(HttpReach::None)
}
