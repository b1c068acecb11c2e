//! Gannet Sound Ferries: three terminals, their vessels and their machines. All of it is invented; addresses are
//! of the documentation ranges (RFC 5737), MAC addresses of RFC 7042's.

use std::{
    collections::BTreeMap,
    net::{Ipv4Addr, SocketAddr},
};

use lastmile_api::{
    Cpu, DefaultBootDraft, Family, HttpReach, ImageKind, LabelDraft, Language, LoaderDraft, MachineDraft,
    MenuDraft, Newcomers, PasswordInput, RevisionDraft, Settings, SiteSettings, SubnetDraft, WebhookDraft,
};
use lastmile_client::{Client, ClientError};
use lastmile_core::model::answers::{AnswerKind, AtEnd, Question, Software, Storage, Sudo, User};
use lastmile_formats::{
    architecture::Architecture,
    mac::{Mac, MacError},
};
use lastmile_sim::SimError;

use super::rules::PLACES;
use crate::output::Failure;

/// The three terminals' networks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Site {
    SkerryPoint,
    HolmQuay,
    TernBay,
}

impl Site {
    const ALL: [Self; 3] = [Self::SkerryPoint, Self::HolmQuay, Self::TernBay];

    const fn name(self) -> &'static str {
        match self {
            Self::SkerryPoint => "skerry-point",
            Self::HolmQuay => "holm-quay",
            Self::TernBay => "tern-bay",
        }
    }

    const fn octets(self) -> [u8; 3] {
        match self {
            Self::SkerryPoint => [192, 0, 2],
            Self::HolmQuay => [198, 51, 100],
            Self::TernBay => [203, 0, 113],
        }
    }

    pub(super) fn host(self, number: u8) -> Ipv4Addr {
        let [a, b, c] = self.octets();
        Ipv4Addr::new(a, b, c, number)
    }

    /// The address that the relay has there.
    pub(super) fn router(self) -> Ipv4Addr {
        self.host(1)
    }
}

/// One machine of the demo.
#[derive(Debug)]
pub(super) struct Terminal {
    pub(super) machine: &'static str,
    pub(super) subnet: Site,
    pub(super) architecture: Architecture,
    pub(super) image: &'static str,
    pub(super) answers: &'static str,
    number: u8,
}

impl Terminal {
    pub(super) fn mac(&self) -> Result<Mac, SimError> {
        let wrong = |error: MacError| SimError::Installer(error.to_string());
        Mac::new([0x00, 0x00, 0x5e, 0x00, 0x53, self.number]).map_err(wrong)
    }
}

const fn terminal(
    machine: &'static str,
    subnet: Site,
    architecture: Architecture,
    answers: &'static str,
    number: u8,
) -> Terminal {
    Terminal { machine, subnet, architecture, image: "tidewrack-12", answers, number }
}

/// The machines that are installed in the demo.
pub(super) const FLEET: [Terminal; 6] = [
    terminal("skerry-kiosk-1", Site::SkerryPoint, Architecture::UefiX64, "ticket-kiosk", 0x11),
    terminal("skerry-gate-2", Site::SkerryPoint, Architecture::Bios, "ticket-kiosk", 0x12),
    terminal("holm-quay-server", Site::HolmQuay, Architecture::UefiX64, "quay-server", 0x21),
    terminal("auklet-chart", Site::HolmQuay, Architecture::UefiX64, "quay-server", 0x22),
    terminal("fulmar-engine-log", Site::TernBay, Architecture::Bios, "quay-server", 0x31),
    terminal("petrel-display-3", Site::TernBay, Architecture::UefiX64, "ticket-kiosk", 0x32),
];

/// A chart workstation whose answers leave a question open.
pub(super) const KITTIWAKE: Terminal =
    terminal("kittiwake-chart", Site::HolmQuay, Architecture::UefiX64, "bridge-chart", 0x41);

/// The one of them that does not become what it was expected to: a script of its first start fails.
pub(super) const UNEXPECTED: &str = "fulmar-engine-log";

/// Machines that are switched on in the demo and get stuck: one whose firmware no loader is there for, and one that
/// nobody registered.
pub(super) const STUCK: [(&str, Site, Architecture, u8); 2] = [
    ("guillemot-display-1", Site::TernBay, Architecture::UefiArm64, 0x42),
    ("a newcomer", Site::SkerryPoint, Architecture::UefiX64, 0x51),
];

/// Machines that are registered and do nothing in the demo: the list has more than what moves.
const AT_REST: [(&str, u8, &str); 3] = [
    ("kittiwake-chart", 0x41, "local-disk"),
    ("guillemot-display-1", 0x42, "live"),
    ("tern-gate-1", 0x43, "menu"),
];

const MIB: usize = 1024 * 1024;

/// Fills an empty service through its API, as a person would.
pub(super) async fn fill(client: &Client) -> Result<(), Failure> {
    for site in Site::ALL {
        let mut draft = SubnetDraft::new(site.name(), format!("{}/24", site.host(0)));
        draft.router = Some(site.router().to_string());
        draft.dns = vec![site.host(53).to_string()];
        draft.domain = Some("gannet.example".into());
        draft.pools = vec![format!("{}-{}", site.host(100), site.host(199))];
        draft.relays = vec![Ipv4Addr::LOCALHOST.to_string()];
        draft.newcomers = if site == Site::TernBay { Newcomers::Survey } else { Newcomers::Menu };
        client.subnets_create(&draft).await?;
    }
    fill_loaders(client).await?;
    fill_images(client).await?;
    fill_answers(client).await?;
    fill_menus(client).await?;
    for terminal in &FLEET {
        let mac = [0x00, 0x00, 0x5e, 0x00, 0x53, terminal.number].map(|byte| format!("{byte:02x}")).join(":");
        register(client, terminal.machine, mac, DefaultBootDraft::LocalDisk, terminal.number).await?;
    }
    for (name, number, default_boot) in AT_REST {
        let default_boot = match default_boot {
            "live" => DefaultBootDraft::Live("lantern-3".into()),
            "menu" => DefaultBootDraft::Menu,
            _ => DefaultBootDraft::LocalDisk,
        };
        register(client, name, format!("00:00:5e:00:53:{number:02x}"), default_boot, number).await?;
    }
    Ok(())
}

async fn register(
    client: &Client,
    name: &str,
    mac: String,
    default_boot: DefaultBootDraft,
    berth: u8,
) -> Result<(), Failure> {
    // `holm-kiosk-2` is a kiosk; `auklet-chart` a chart workstation.
    let label =
        name.split('-').find(|part| ["kiosk", "gate", "chart", "display", "engine", "server"].contains(part));
    let mut details: BTreeMap<String, String> = [("berth".to_owned(), berth.to_string())].into();
    if let Some((_, place)) = PLACES.iter().find(|(placed, _)| *placed == name) {
        let named = ["hall", "row", "rack", "unit"].into_iter().zip(place);
        details.extend(named.map(|(part, value)| (part.to_owned(), (*value).to_owned())));
    }
    let draft = MachineDraft {
        default_boot,
        labels: label.map(str::to_owned).into_iter().collect(),
        details,
        ..MachineDraft::new(name, vec![mac])
    };
    client.machines_create(&draft).await?;
    Ok(())
}

async fn fill_loaders(client: &Client) -> Result<(), Failure> {
    let files = vec![
        client.upload_bytes("shimx64.efi", made_up(1, MIB)).await?,
        client.upload_bytes("grubx64.efi", made_up(2, 2 * MIB)).await?,
        client.upload_bytes("x86_64-efi/http.mod", made_up(3, 12_000)).await?,
    ];
    let uefi = LoaderDraft {
        http: Some(HttpReach::AnyPort),
        language: Some(Language::Grub),
        ..LoaderDraft::new("signed-x64", "uefi-x64", "shimx64.efi", files)
    };
    client.loaders_create(&uefi).await?;
    let files = vec![
        client.upload_bytes("core.0", made_up(4, 300_000)).await?,
        client.upload_bytes("i386-pc/http.mod", made_up(5, 9_000)).await?,
    ];
    let bios = LoaderDraft {
        http: Some(HttpReach::AnyPort),
        ..LoaderDraft::new("bios-core", "bios", "core.0", files)
    };
    client.loaders_create(&bios).await?;
    Ok(())
}

/// A revision of the installer; another with each seed.
pub(super) async fn tidewrack(client: &Client, seed: u64) -> Result<RevisionDraft, ClientError> {
    Ok(RevisionDraft {
        name: "tidewrack-12".into(),
        title: Some("Tidewrack 12".into()),
        cpu: Some(Cpu::X64),
        kind: Some(ImageKind::Installer),
        family: Some(Family::Preseed),
        kernel: Some("linux".into()),
        initrds: Some(vec!["initrd.gz".into()]),
        parameters: Some(vec!["quiet".into()]),
        files: vec![
            client.upload_bytes("linux", kernel("6.1.0-18-quay", 6 + (seed << 8), 3 * MIB)).await?,
            client.upload_bytes("initrd.gz", made_up(7, 6 * MIB)).await?,
        ],
        ..RevisionDraft::default()
    })
}

async fn fill_images(client: &Client) -> Result<(), Failure> {
    client.images_create(&tidewrack(client, 0).await?).await?;
    let lantern = RevisionDraft {
        name: "lantern-3".into(),
        title: Some("Lantern 3 deck display".into()),
        kind: Some(ImageKind::Live),
        kernel: Some("vmlinuz".into()),
        initrds: Some(vec!["root.img".into()]),
        files: vec![
            client.upload_bytes("vmlinuz", kernel("6.6.30-deck", 8, 2 * MIB)).await?,
            client.upload_bytes("root.img", made_up(9, 4 * MIB)).await?,
        ],
        ..RevisionDraft::default()
    };
    client.images_create(&lantern).await?;
    let plimsoll = RevisionDraft {
        name: "plimsoll-wipe".into(),
        title: Some("Plimsoll disk wipe".into()),
        kind: Some(ImageKind::Tool),
        kernel: Some("wipe".into()),
        initrds: Some(vec![]),
        files: vec![client.upload_bytes("wipe", kernel("6.6.30-plimsoll", 10, MIB)).await?],
        ..RevisionDraft::default()
    };
    client.images_create(&plimsoll).await?;
    let survey = RevisionDraft {
        name: "survey".into(),
        title: Some("Survey".into()),
        kind: Some(ImageKind::Survey),
        kernel: Some("vmlinuz".into()),
        initrds: Some(vec!["survey.cpio.zst".into()]),
        files: vec![
            client.upload_bytes("vmlinuz", kernel("6.1.0-57-quay", 13, MIB)).await?,
            client.upload_bytes("survey.cpio.zst", made_up(14, 2 * MIB)).await?,
        ],
        ..RevisionDraft::default()
    };
    client.images_create(&survey).await?;
    // A tree without its second stage: what is missing is said wherever the image appears.
    let bollard = RevisionDraft {
        name: "bollard-9".into(),
        initrds: Some(vec!["images/pxeboot/initrd.img".into()]),
        files: vec![
            client.upload_bytes(".treeinfo", include_bytes!("bollard.treeinfo").as_slice()).await?,
            client.upload_bytes("images/pxeboot/vmlinuz", kernel("5.14.0-427", 11, MIB)).await?,
            client.upload_bytes("images/pxeboot/initrd.img", made_up(12, 2 * MIB)).await?,
        ],
        ..RevisionDraft::default()
    };
    client.images_create(&bollard).await?;
    Ok(())
}

/// Who is told when installs end: the records, and the monitoring.
pub(super) async fn fill_webhooks(client: &Client, told: [SocketAddr; 2]) -> Result<(), Failure> {
    for (name, address) in ["records", "monitoring"].into_iter().zip(told) {
        let url = format!("http://{address}/installs");
        let draft = WebhookDraft { url, events: WebhookDraft::all_events(), key: None };
        client.webhooks_save(name, &draft).await?;
    }
    Ok(())
}

/// What people at the machines see: the site's menu, and another for kiosks.
async fn fill_menus(client: &Client) -> Result<(), Failure> {
    let read = |text: &str| {
        toml::from_str::<MenuDraft>(text).map_err(|error| Failure::Input {
            place: "the demo's menus".into(),
            what: error.to_string(),
            fix: "Tell whoever made this version.",
        })
    };
    client.menus_save("workshop", &read(include_str!("menus/workshop.toml"))?).await?;
    client.menus_save("kiosk", &read(include_str!("menus/kiosk.toml"))?).await?;
    client.settings_save(&SiteSettings { menu: Some("workshop".into()), ..SiteSettings::default() }).await?;
    let kiosk = LabelDraft {
        image: Some("tidewrack-12".into()),
        answers: Some("ticket-kiosk".into()),
        parameters: vec!["console=tty1".into(), "quiet".into()],
        menu: Some("kiosk".into()),
        ..LabelDraft::default()
    };
    client.labels_save("kiosk", &kiosk).await?;
    Ok(())
}

/// A kernel's head as the x86 boot protocol has it (Linux `Documentation/arch/x86/boot.rst`), and made-up content behind.
fn kernel(version: &str, seed: u64, length: usize) -> Vec<u8> {
    let mut bytes = made_up(seed, length);
    bytes[..0x2000].fill(0);
    bytes[0x1fe..0x200].copy_from_slice(&[0x55, 0xaa]);
    bytes[0x202..0x206].copy_from_slice(b"HdrS");
    bytes[0x206..0x208].copy_from_slice(&0x020f_u16.to_le_bytes());
    bytes[0x20e..0x210].copy_from_slice(&0x1000_u16.to_le_bytes());
    bytes[0x236] = 1;
    let text = format!("{version} (builder@gannet.example) #1 SMP");
    bytes[0x1200..0x1200 + text.len()].copy_from_slice(text.as_bytes());
    bytes
}

fn user(full_name: &str, sudo: Sudo) -> User<PasswordInput> {
    User {
        full_name: Some(full_name.into()),
        password: Some(PasswordInput::Plain("only for the demo".into())),
        sudo: Some(sudo),
        ..User::default()
    }
}

fn packages(names: &[&str]) -> Option<Software> {
    let packages = Some(names.iter().map(ToString::to_string).collect());
    Some(Software { packages, ..Software::default() })
}

/// Settings of the site, and what answers and a label say beside.
async fn fill_answers(client: &Client) -> Result<(), Failure> {
    let site = Settings {
        locale: Some("en_GB.UTF-8".into()),
        keyboard: Some("gb".into()),
        time_zone: Some("Europe/London".into()),
        ntp: Some(vec!["time.gannet.example".into()]),
        ..Settings::default()
    };
    client.answers_save("site:", &site).await?;
    let images = vec!["tidewrack-12".into()];
    let quay = Settings {
        images: images.clone(),
        users: [("purser".into(), user("Ship's purser", Sudo::Password))].into(),
        storage: Some(Storage { logical_volumes: Some(true), ..Storage::default() }),
        software: packages(&["openssh-server"]),
        ..Settings::default()
    };
    client.answers_save("quay-server", &quay).await?;
    client
        .answers_save("quay-server", &Settings { software: packages(&["openssh-server", "chrony"]), ..quay })
        .await?;
    let kiosk = Settings {
        images: images.clone(),
        users: [("clerk".into(), user("Ticket clerk", Sudo::No))].into(),
        kernel_parameters: Some(vec!["quiet".into()]),
        ..Settings::default()
    };
    client.answers_save("ticket-kiosk", &kiosk).await?;
    let bridge = Settings {
        images,
        host_name: Some("{{ name }}-{{ asked.berth }}".into()),
        users: [("navigator".into(), user("Navigator", Sudo::Password))].into(),
        questions: [(
            "berth".into(),
            Question {
                text: "At which berth does it stand?".into(),
                kind: AnswerKind::Number,
                default: Some("7".into()),
            },
        )]
        .into(),
        ..Settings::default()
    };
    client.answers_save("bridge-chart", &bridge).await?;
    let gate = Settings { at_end: Some(AtEnd::PowerOff), ..Settings::default() };
    client.answers_save("label:gate", &gate).await?;
    Ok(())
}

/// Content that no compressor or cache makes easy, the same at every run (SplitMix64).
fn made_up(seed: u64, length: usize) -> Vec<u8> {
    let mut state = seed;
    let words = std::iter::repeat_with(|| {
        state = state.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mixed = (state ^ (state >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        let mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        (mixed ^ (mixed >> 31)).to_le_bytes()
    });
    words.flatten().take(length).collect()
}
