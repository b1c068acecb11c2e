//! What a path means, for TFTP and HTTP alike.

use std::{net::IpAddr, sync::Arc};

use lastmile_core::{
    base::Id,
    decide::{boot::Request, install::Evidence},
    model::{
        image::{FileEntry, ImageKind, Revision, Start},
        loader::{Language, Loader},
        machine::Machine,
    },
    report::trace::{Decision, Role, TransferEnd},
    site::Site,
};
use lastmile_formats::{
    mac::Mac,
    tftp::{PathError, ServedPath},
};

use super::{Parts, listing, menus};
use crate::library::Content;

/// Files that shim asks for beside itself and does without, and modules that our menus try: their absence is no fault.
const OPTIONAL: [&str; 5] =
    ["revocations_sku.efi", "revocations_sbat.efi", "shim_certificate_0.efi", "http.mod", "regexp.mod"];

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
    /// What it is.
    pub(crate) media: Media,
    /// The revision that it is of.
    pub(crate) revision: Option<Id<Revision>>,
    /// In whose trace it is noted.
    pub(crate) mac: Option<Mac>,
    /// And in whose beside.
    pub(crate) also: Option<Mac>,
    /// What follows once it was delivered whole.
    pub(crate) follows: Option<Follows>,
    /// What it is in the boot.
    pub(crate) role: Role,
    /// What it is, for the trace.
    pub(crate) what: String,
    /// The boot plan that it follows from, where it follows from one.
    pub(crate) decision: Option<Decision>,
}

/// What follows from a delivery: a step of its own, after what was decided.
#[derive(Debug, Clone)]
pub(crate) enum Follows {
    /// It is evidence about the machine's install.
    Evidence(Id<Machine>, Evidence),
    /// The machine's install has begun too often, and is stopped.
    Stall(Id<Machine>),
    /// The survey was started too often for a job of that number, which is stopped.
    StallJob(i64),
    /// The survey's kernel was fetched, by whom a job of that number is to be done.
    SurveyFor(i64),
}

impl Parts {
    /// Takes the step that follows from a delivery.
    pub(crate) async fn follow(&self, follows: Follows) {
        match follows {
            Follows::Evidence(machine, evidence) => self.records.see_or_log(machine, evidence).await,
            Follows::Stall(machine) => self.records.stall(machine).await,
            Follows::StallJob(job) => self.records.stall_job(job).await,
            Follows::SurveyFor(job) => self.records.fetched_for_job(job).await,
        }
    }
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
    #[error("'{path}' is in the record, but {image} is not served: {files}")]
    Damaged { path: String, image: String, files: String },
    #[error("it is not known which machine asks: {address} holds no lease here")]
    Stranger { address: IpAddr },
    #[error("it is for another machine than {address}")]
    OtherMachine { address: IpAddr },
    #[error("the phrase is another")]
    Phrase,
    #[error("this cannot be started: {0}")]
    NotArmed(String),
}

impl Refusal {
    /// How the request ended, for the trace.
    pub(crate) fn end(&self) -> TransferEnd {
        match self {
            Self::NotFound { nearest, optional, .. } => {
                TransferEnd::NotFound { nearest: nearest.clone(), optional: *optional }
            }
            Self::Path(_)
            | Self::Damaged { .. }
            | Self::Stranger { .. }
            | Self::OtherMachine { .. }
            | Self::Phrase
            | Self::NotArmed(_) => TransferEnd::Refused(self.to_string()),
        }
    }
}

impl Asker {
    /// From the source of a request.
    pub(crate) fn new(parts: &Parts, address: IpAddr) -> Self {
        let mac = match address {
            IpAddr::V4(v4) => parts.wire.speaker_at(&parts.records.site(), v4),
            IpAddr::V6(_) => None,
        };
        Self { address, mac }
    }
}

/// How something is asked for.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct RequestKind<'a> {
    /// What a person typed, where the loader hands it over.
    pub(crate) phrase: Option<&'a str>,
    /// Only its size is wanted: nothing may come of it.
    pub(crate) head: bool,
    /// Whoever asks reads folders as pages of links.
    pub(crate) folders: bool,
}

/// What something is, for whoever is told.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Media {
    /// Anything.
    Octets,
    /// A whole disc, which firmware starts from memory.
    Disc,
    /// A text that was made for the one who asked.
    Text,
    /// A folder, as a page of links relative to it.
    Folder,
}

impl Media {
    /// As HTTP says it (RFC 9110, section 8.3).
    pub(crate) const fn as_str(self) -> &'static str {
        match self {
            Self::Octets => "application/octet-stream",
            // UEFI 2.10, section 24.7.1.
            Self::Disc => "application/vnd.efi-iso",
            Self::Text => "text/plain; charset=utf-8",
            Self::Folder => "text/html; charset=utf-8",
        }
    }
}

/// Finds what `name` means to `asker`.
pub(crate) async fn resolve(
    parts: &Parts,
    asker: Asker,
    name: &str,
    request_kind: RequestKind<'_>,
) -> Result<Served, Refusal> {
    let path = ServedPath::parse(name)?;
    let site = parts.records.site();
    let not_found = || not_found(&site, &path);
    match Request::recognise(&path) {
        Request::Loader { mac, name, file } => {
            let mac = mac.or(asker.mac);
            // What is in a loader is no secret; whoever asks in another's name changes nothing of it.
            let own = mac.filter(|mac| parts.wire.identify(&site, *mac, asker.address).is_own());
            let machine = own.and_then(|mac| site.machine_by_mac(mac));
            let loader = site.loader(name).ok_or_else(not_found)?;
            let file = loader.find(file).ok_or_else(not_found)?;
            let evidence = machine.map(|machine| (machine.id, Evidence::Loader { file: file.path.clone() }));
            if let (Some(mac), true) = (own, file.path == loader.boot_file) {
                parts.wire.note_loader(mac, loader);
            }
            of_loader(parts, loader, file, mac, evidence).ok_or_else(not_found)
        }
        Request::BesideLoader => beside(parts, &site, asker.mac, &path),
        Request::GrubMenu { mac } | Request::PxelinuxMenu { mac } => {
            let mac = mac.or(asker.mac).ok_or(Refusal::Stranger { address: asker.address })?;
            Ok(menus::menu(parts, mac, asker.address, language(&path), request_kind).await)
        }
        Request::ScriptMenu { mac } => {
            Ok(menus::menu(parts, mac, asker.address, Language::Script, request_kind).await)
        }
        Request::Picked { mac, key, language } => {
            let pick = menus::Pick { mac, address: asker.address, key, language };
            menus::picked(parts, &site, pick, request_kind).await
        }
        Request::Image { mac, image, revision, file } => {
            let revision = site.revision_of(image, revision).ok_or_else(not_found)?;
            let is_own = parts.wire.identify(&site, mac, asker.address).is_own();
            let found = image_file(parts, &site, (mac, is_own), revision, file);
            let folder = || {
                folder(revision, mac, file).filter(|_| request_kind.folders && revision.is_ready()).map(Ok)
            };
            found.or_else(folder).unwrap_or_else(|| Err(not_found()))
        }
    }
}

fn language(path: &ServedPath) -> Language {
    if path.as_str().contains("pxelinux.cfg/") { Language::Pxelinux } else { Language::Grub }
}

fn of_loader(
    parts: &Parts,
    loader: &Loader,
    file: &FileEntry,
    mac: Option<Mac>,
    evidence: Option<(Id<Machine>, Evidence)>,
) -> Option<Served> {
    Some(Served {
        content: parts.library.content(file)?,
        media: Media::Octets,
        revision: None,
        mac,
        also: None,
        follows: evidence.map(|(machine, evidence)| Follows::Evidence(machine, evidence)),
        role: loader_role(loader, file),
        what: format!("loader file {}", file.path),
        decision: None,
    })
}

/// What a loader keeps beside itself, or what an application that a machine started asks for by paths of its own.
fn beside(parts: &Parts, site: &Site, mac: Option<Mac>, path: &ServedPath) -> Result<Served, Refusal> {
    if let Some((loader, file)) = beside_loader(parts, site, mac, path.as_str())
        && let Some(served) = of_loader(parts, loader, file, mac, None)
    {
        return Ok(served);
    }
    let started = mac.and_then(|mac| Some((mac, site.revision(parts.wire.program_of(mac)?)?)));
    if let Some((mac, revision)) = started {
        // Boot managers ask from the root of the server, wherever they themselves came from.
        let whole = path.as_str();
        let ends = std::iter::once(whole).chain(whole.match_indices('/').map(|(at, _)| &whole[at + 1..]));
        if let Some(found) = ends.filter_map(|end| image_file(parts, site, (mac, true), revision, end)).next()
        {
            return found;
        }
    }
    Err(not_found(site, path))
}

/// A file of a revision, or its ISO; `None` if there is no such path. What is in an image is no secret; whoever asks in
/// another's name changes nothing of it.
fn image_file(
    parts: &Parts,
    site: &Site,
    (mac, is_own): (Mac, bool),
    revision: &Arc<Revision>,
    path: &str,
) -> Option<Result<Served, Refusal>> {
    let name = format!("{} r{}", revision.image_name, revision.number);
    let followed = follow(revision, path);
    let found = followed.as_ref().and_then(|path| revision.manifest.find(path));
    let is_iso = found.is_none() && path == format!("{}.iso", revision.image_name);
    let (content, what) = match found {
        Some(file) => (parts.library.content_of(revision, file)?, format!("{} of {name}", file.path)),
        None if is_iso => (parts.library.whole(revision)?, format!("ISO of {name}")),
        None => return None,
    };
    if !revision.is_ready() {
        let files = revision.lacking().join("; ");
        return Some(Err(Refusal::Damaged { path: path.into(), image: name, files }));
    }
    let role = match found {
        Some(file) if file.path == revision.start.path() => Role::Kernel,
        Some(file) if revision.start.initrds().contains(&file.path) => Role::Initrd,
        _ => Role::ImageFile,
    };
    if matches!(revision.start, Start::Program { .. }) && role == Role::Kernel && is_own {
        parts.wire.note_program(mac, revision.id);
    }
    let own = found.filter(|_| is_own);
    let evidence = own.and_then(|file| start_of_install(site, mac, revision, file, &role));
    let is_survey = || site.image_by_id(revision.image).is_some_and(|image| image.kind == ImageKind::Survey);
    let job = || site.open_jobs(mac).first().filter(|_| is_survey()).map(|job| job.number);
    let follows = match evidence {
        Some((machine, evidence)) => Some(Follows::Evidence(machine, evidence)),
        None if own.is_some() && role == Role::Kernel => job().map(Follows::SurveyFor),
        None => None,
    };
    let media = if is_iso { Media::Disc } else { Media::Octets };
    Some(Ok(Served { follows, ..of_revision(revision, mac, content, media, role, what) }))
}

/// That a machine fetched what its install is started with.
fn start_of_install(
    site: &Site,
    mac: Mac,
    revision: &Revision,
    file: &FileEntry,
    role: &Role,
) -> Option<(Id<Machine>, Evidence)> {
    let open = site.open_install(site.machine_by_mac(mac)?.id).filter(|open| open.revision == revision.id)?;
    let (name, size) = (file.path.clone(), file.size);
    match role {
        Role::Kernel => Some((open.machine, Evidence::Kernel { file: name, size })),
        Role::Initrd => Some((open.machine, Evidence::Initrd { file: name, size })),
        _ => None,
    }
}

/// What a folder of a revision holds, as a page; `None` if there is no such folder.
fn folder(revision: &Arc<Revision>, mac: Mac, path: &str) -> Option<Served> {
    let name = format!("{} r{}", revision.image_name, revision.number);
    let page =
        listing::page(&format!("{name}: {path}"), &revision.manifest.folder(&follow(revision, path)?)?);
    let (content, what) = (Content::Made(page.into()), format!("folder {path} of {name}"));
    Some(of_revision(revision, mac, content, Media::Folder, Role::ImageFile, what))
}

/// The path that `path` leads to when symbolic links are followed.
fn follow(revision: &Revision, path: &str) -> Option<String> {
    match &revision.volume {
        _ if path.is_empty() => Some(String::new()),
        Some(volume) => volume.follow(path),
        None => Some(path.to_owned()),
    }
}

fn of_revision(
    revision: &Revision,
    mac: Mac,
    content: Content,
    media: Media,
    role: Role,
    what: String,
) -> Served {
    Served {
        content,
        media,
        revision: Some(revision.id),
        mac: Some(mac),
        also: None,
        follows: None,
        role,
        what,
        decision: None,
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
    parts: &Parts,
    site: &'a Site,
    mac: Option<Mac>,
    path: &str,
) -> Option<(&'a Arc<Loader>, &'a FileEntry)> {
    let given = mac.and_then(|mac| parts.wire.loader_of(site, mac));
    let found = |loader: &'a Arc<Loader>| Some((loader, Loader::find(loader, path)?));
    given.and_then(found).or_else(|| site.loaders().find_map(found))
}
