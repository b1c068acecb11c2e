//! A computer that boots.

use std::{
    collections::HashMap,
    net::{Ipv4Addr, SocketAddr, SocketAddrV4},
    time::Duration,
};

use lastmile_formats::{architecture::Architecture, mac::Mac, tftp::Wishes};

use crate::{
    SimError,
    dhcp::{Asking, Grant, Relayed},
    fetch::{Http, Tftp, TftpEnd, check},
    grub::{Action, Environment, Menu, Run, Script},
    installer,
};

/// Who the machine is.
#[derive(Debug, Clone)]
pub struct Identity {
    /// Its NIC's address.
    pub mac: Mac,
    /// Its firmware.
    pub architecture: Architecture,
}

/// Where the machine reaches the service.
#[derive(Debug, Clone, Copy)]
pub struct Reached {
    /// The service's port for relays.
    pub dhcp: SocketAddrV4,
    /// Its TFTP port: real firmware knows only 69.
    pub tftp_port: u16,
    /// The port of its boot listener.
    pub http_port: u16,
    /// The relay's address on the machine's subnet: says which subnet it is on.
    pub link: Ipv4Addr,
}

/// How long the machine takes for what a real one takes long for.
#[derive(Debug, Clone, Copy)]
pub struct Pace {
    /// Between power-on and the first question, and between two parts of the boot.
    pub firmware: Duration,
    /// What installing takes.
    pub install: Duration,
    /// Between two questions of a machine that waits until there is something to start.
    pub again: Duration,
}

impl Pace {
    /// No waiting but for something to start.
    pub const FULL: Self =
        Self { firmware: Duration::ZERO, install: Duration::ZERO, again: Duration::from_millis(100) };
}

/// Something the machine did, for whoever watches.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Beat {
    /// It was granted an address.
    Address {
        /// The address.
        address: Ipv4Addr,
        /// The loader it was told.
        file: String,
    },
    /// It fetched a file whose digest was right.
    Fetched {
        /// The file.
        path: String,
        /// By what: `TFTP` or `HTTP`.
        by: &'static str,
        /// Bytes.
        size: usize,
    },
    /// It read its menu.
    Menu {
        /// Bytes.
        size: usize,
    },
    /// It shows a menu and takes this entry.
    Chose {
        /// The entry's title.
        title: String,
    },
    /// It waits on its screen until there is something to start.
    Waits,
    /// Its survey is on record, and it waits.
    Surveyed {
        /// What people call it; nothing while nobody registered it.
        machine: Option<String>,
        /// For what.
        waits_for: String,
    },
    /// It is given a job.
    Job {
        /// The job's number.
        number: i64,
        /// What is to be done.
        what: String,
    },
    /// Its installer read its answers.
    Answers {
        /// The host name they give.
        host_name: String,
    },
    /// Its installer, or the system that it made, reported.
    Reported {
        /// What.
        stage: &'static str,
    },
}

/// The system that an installer made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewSystem {
    /// Its host name.
    pub host_name: String,
    /// Its operating system, as it names itself (os-release(5), `PRETTY_NAME`).
    pub os: String,
    /// Its kernel's release.
    pub kernel: String,
    /// Whether the scripts of its first start end well.
    pub first_boot_ends_well: bool,
    /// Where it says what it is.
    report: String,
}

/// What one boot came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Booted {
    /// An address, but nothing to boot.
    NoLoader,
    /// The local disk.
    LocalDisk,
    /// A menu that waits for a person.
    Menu(Vec<String>),
    /// A kernel that was started.
    Kernel {
        /// The address the firmware had.
        address: Ipv4Addr,
        /// The kernel's parameters.
        parameters: Vec<String>,
    },
    /// Switched off, restarted, or in the firmware's set-up.
    Left,
}

/// A computer that boots over the real sockets.
#[derive(Debug, Clone)]
pub struct Machine {
    identity: Identity,
    reached: Reached,
    pace: Pace,
    speaks_from: SpeaksFrom,
}

/// The address that a machine's packets have.
#[derive(Debug, Clone)]
enum SpeaksFrom {
    /// One of the loopback's: the service takes it for itself, and believes and allows it everything. The client is made before
    /// anything begins: thousands of them made while machines boot would keep others waiting.
    Loopback(Http),
    /// What it was granted, like a real one.
    Granted,
}

/// The vendor class of an installer's DHCP client.
const INSTALLER: &str = "d-i";
/// Folder that the simulated loader was built to ask in.
const LOADER_PREFIX: &str = "boot-loader/grub";

impl Machine {
    /// A machine that is switched off, on the service's own host.
    ///
    /// # Errors
    /// That this host gives no HTTP client.
    pub fn new(identity: Identity, reached: Reached, pace: Pace) -> Result<Self, SimError> {
        let speaks_from = SpeaksFrom::Loopback(Http::new(loopback(identity.mac))?);
        Ok(Self { identity, reached, pace, speaks_from })
    }

    /// The same on another host, or in another network namespace, that stands for the machine's subnet: there,
    /// [`Reached::link`] and whatever is granted are addresses of its own.
    #[must_use]
    pub fn elsewhere(identity: Identity, reached: Reached, pace: Pace) -> Self {
        Self { identity, reached, pace, speaks_from: SpeaksFrom::Granted }
    }

    /// Boots once, as far as a kernel's start.
    ///
    /// # Errors
    /// Where it ended that should have gone on.
    pub async fn boot(&self, watch: &mut (dyn FnMut(Beat) + Send)) -> Result<Booted, SimError> {
        tokio::time::sleep(self.pace.firmware).await;
        let grant = self.lease(Asking::Firmware(self.identity.architecture)).await?;
        watch(Beat::Address { address: grant.address, file: grant.file.clone() });
        if grant.file.is_empty() {
            return Ok(Booted::NoLoader);
        }
        let http = self.http(&grant)?;
        self.load_loader(&grant, &http, watch).await?;
        tokio::time::sleep(self.pace.firmware).await;
        let menu = self.read_menu(&grant, watch).await?;
        if menu.timeout_secs < 0 {
            return Ok(Booted::Menu(menu.titles));
        }
        let title = menu.titles.get(menu.default).cloned().unwrap_or_default();
        watch(Beat::Chose { title });
        let action = match menu.actions.get(menu.default).cloned() {
            Some(Action::Again(path)) => {
                watch(Beat::Waits);
                Some(self.wait(&path, &menu, &grant, &http).await?)
            }
            Some(Action::Source(path)) => {
                let text = self.read(&path, &grant, &http).await?;
                Script::parse(&String::from_utf8_lossy(&text))?.start(&menu.exported)?
            }
            action => action,
        };
        match action {
            Some(Action::Kernel { kernel, parameters, initrds }) => {
                for file in std::iter::once(&kernel).chain(&initrds) {
                    self.load(file, &grant, &http, watch).await?;
                    tokio::time::sleep(self.pace.firmware).await;
                }
                Ok(Booted::Kernel { address: grant.address, parameters })
            }
            Some(Action::LocalDisk) | None => Ok(Booted::LocalDisk),
            // A person would have to be there to go on from these.
            Some(_) => Ok(Booted::Left),
        }
    }

    /// Reads a file of the loader's by device and path.
    async fn read(&self, path: &str, grant: &Grant, http: &Http) -> Result<Vec<u8>, SimError> {
        match Place::of(path)? {
            Place::Http(url) => http.fetch(&url).await,
            Place::Tftp(server, path) => self.loader_tftp(grant, server).fetch(&path).await,
        }
    }

    /// Reads a file again and again until there is something in it to start.
    async fn wait(&self, path: &str, menu: &Menu, grant: &Grant, http: &Http) -> Result<Action, SimError> {
        loop {
            tokio::time::sleep(self.pace.again).await;
            let text = self.read(path, grant, http).await?;
            let script = Script::parse(&String::from_utf8_lossy(&text))?;
            if let Some(action) = script.start(&menu.exported)? {
                return Ok(action);
            }
        }
    }

    /// Runs the installer that [`Self::boot`] started: asks for an address as another client, reads its answers,
    /// reports, installs, reports. Gives the system that it made.
    ///
    /// # Errors
    /// Where it ended that should have gone on.
    pub async fn install(
        &self,
        firmware_address: Ipv4Addr,
        parameters: &[String],
        watch: &mut (dyn FnMut(Beat) + Send),
    ) -> Result<NewSystem, SimError> {
        let (http, orders) = self.begin(firmware_address, parameters, watch).await?;
        for line in installer::LOG {
            tokio::time::sleep(self.pace.install / 4).await;
            if let Some(log) = &orders.log {
                http.get(&format!("{log}?text={}", line.replace(' ', "%20"))).await?;
            }
        }
        http.get(&orders.late_report).await?;
        watch(Beat::Reported { stage: "done" });
        Ok(NewSystem {
            host_name: orders.host_name,
            os: "Tidewrack 12 (simulated)".into(),
            kernel: "6.1.0-simulated".into(),
            first_boot_ends_well: true,
            report: orders.first_start,
        })
    }

    /// Runs the installer that [`Self::boot`] started, as far as its disk: it finds none that its answers describe, reports
    /// that, and stops.
    ///
    /// # Errors
    /// Where it ended that should have gone on.
    pub async fn fail(
        &self,
        firmware_address: Ipv4Addr,
        parameters: &[String],
        watch: &mut (dyn FnMut(Beat) + Send),
    ) -> Result<(), SimError> {
        let (http, orders) = self.begin(firmware_address, parameters, watch).await?;
        tokio::time::sleep(self.pace.install / 4).await;
        http.get(&format!("{}?text=no%20disk%20is%20as%20described", orders.failure)).await?;
        watch(Beat::Reported { stage: "failed" });
        Ok(())
    }

    /// The installer's beginning: an address as another client, its answers, its first report.
    async fn begin(
        &self,
        firmware_address: Ipv4Addr,
        parameters: &[String],
        watch: &mut (dyn FnMut(Beat) + Send),
    ) -> Result<(Http, installer::Orders), SimError> {
        let grant = self.lease(Asking::RunningSystem(INSTALLER)).await?;
        if grant.address != firmware_address {
            return Err(SimError::AddressChanged { firmware: firmware_address, installer: grant.address });
        }
        let http = self.http(&grant)?;
        let file = http.fetch(installer::answers_url(parameters)?).await?;
        let orders = installer::read(&String::from_utf8_lossy(&file))?;
        watch(Beat::Answers { host_name: orders.host_name.clone() });
        http.get(&orders.early_report).await?;
        watch(Beat::Reported { stage: "started" });
        Ok((http, orders))
    }

    /// Starts the system that [`Self::install`] made for the first time: it asks for an address and says what it is.
    ///
    /// # Errors
    /// That it was given no address, or was not heard.
    pub async fn start(
        &self,
        system: &NewSystem,
        watch: &mut (dyn FnMut(Beat) + Send),
    ) -> Result<(), SimError> {
        let grant = self.lease(Asking::RunningSystem(INSTALLER)).await?;
        let mut report = reqwest::Url::parse(&system.report)
            .map_err(|error| SimError::Installer(format!("{} is no address: {error}", system.report)))?;
        report
            .query_pairs_mut()
            .append_pair("host_name", &system.host_name)
            .append_pair("address", &grant.address.to_string())
            .append_pair("os", &system.os)
            .append_pair("kernel", &system.kernel)
            .append_pair("first_boot", if system.first_boot_ends_well { "0" } else { "1" });
        self.http(&grant)?.get(report.as_str()).await?;
        watch(Beat::Reported { stage: "booted" });
        Ok(())
    }

    pub(crate) async fn lease(&self, asking: Asking) -> Result<Grant, SimError> {
        let relay = match &self.speaks_from {
            SpeaksFrom::Loopback(_) => Ipv4Addr::LOCALHOST,
            SpeaksFrom::Granted => self.reached.link,
        };
        let client = Relayed::open(self.identity.mac, self.reached.dhcp, relay, self.reached.link).await?;
        let [.., a, b, c, d] = self.identity.mac.octets();
        let phase = match asking {
            Asking::Firmware(_) => 0x1000_0000,
            Asking::RunningSystem(_) => 0x2000_0000,
        };
        client.lease(asking, u32::from_be_bytes([a, b, c, d]) ^ phase).await
    }

    /// The address it speaks from.
    pub(crate) fn own(&self, grant: &Grant) -> Ipv4Addr {
        match &self.speaks_from {
            SpeaksFrom::Loopback(_) => loopback(self.identity.mac),
            SpeaksFrom::Granted => grant.address,
        }
    }

    fn http(&self, grant: &Grant) -> Result<Http, SimError> {
        match &self.speaks_from {
            SpeaksFrom::Loopback(http) => Ok(http.clone()),
            SpeaksFrom::Granted => Http::new(grant.address),
        }
    }

    fn tftp(&self, grant: &Grant, blksize: u16, windowsize: Option<u16>, probes: bool) -> Tftp {
        Tftp {
            server: SocketAddr::from((grant.next_server, self.reached.tftp_port)),
            own: self.own(grant),
            probes,
            wishes: Wishes { blksize: Some(blksize), windowsize, tsize: true },
        }
    }

    /// The firmware fetches the loader; a shim then fetches the loader proper beside itself.
    async fn load_loader(
        &self,
        grant: &Grant,
        http: &Http,
        watch: &mut (dyn FnMut(Beat) + Send),
    ) -> Result<(), SimError> {
        let firmware = self.tftp(grant, 1468, Some(4), self.identity.architecture.is_uefi());
        self.tftp_file(&firmware, http, &grant.file, watch).await?;
        let Some(folder) = grant.file.strip_suffix("shimx64.efi") else { return Ok(()) };
        let shim = self.tftp(grant, 512, Some(4), false);
        for optional in ["revocations_sku.efi", "revocations_sbat.efi", "shim_certificate_0.efi"] {
            shim.try_fetch(&format!("{folder}{optional}")).await?;
        }
        self.tftp_file(&shim, http, &format!("{folder}grubx64.efi"), watch).await
    }

    async fn tftp_file(
        &self,
        client: &Tftp,
        http: &Http,
        path: &str,
        watch: &mut (dyn FnMut(Beat) + Send),
    ) -> Result<(), SimError> {
        let file = client.fetch(path).await?;
        let url = format!("http://{}:{}/{path}", client.server.ip(), self.reached.http_port);
        check(path, &file, http.digest(&url).await?)?;
        watch(Beat::Fetched { path: path.into(), by: "TFTP", size: file.len() });
        Ok(())
    }

    async fn read_menu(&self, grant: &Grant, watch: &mut (dyn FnMut(Beat) + Send)) -> Result<Menu, SimError> {
        let client = self.tftp(grant, 1024, None, false);
        let uefi = self.identity.architecture.is_uefi();
        let modules = format!("{LOADER_PREFIX}/{}", if uefi { "x86_64-efi" } else { "i386-pc" });
        for list in ["command.lst", "fs.lst", "crypto.lst", "terminal.lst"] {
            client.try_fetch(&format!("{modules}/{list}")).await?;
        }
        let path = format!("{LOADER_PREFIX}/grub.cfg-01-{}", self.identity.mac.dashed());
        let text = client.fetch(&path).await?;
        watch(Beat::Menu { size: text.len() });
        let script = Script::parse(&String::from_utf8_lossy(&text))?;
        let platform = if uefi { "efi" } else { "pc" };
        let mut environment = Environment {
            variables: HashMap::from([("grub_platform".into(), platform.into())]),
            // What Debian's signed GRUB has built in of what our menus ask for.
            modules: HashMap::from([("regexp".into(), true)]),
        };
        loop {
            match script.run(&environment)? {
                Run::Menu(menu) => return Ok(menu),
                Run::Wants(module) => {
                    let end = client.try_fetch(&format!("{modules}/{module}.mod")).await?;
                    environment.modules.insert(module, matches!(end, TftpEnd::File(_)));
                }
            }
        }
    }

    /// Fetches what a menu names by device and path.
    async fn load(
        &self,
        file: &str,
        grant: &Grant,
        http: &Http,
        watch: &mut (dyn FnMut(Beat) + Send),
    ) -> Result<(), SimError> {
        match Place::of(file)? {
            Place::Http(url) => {
                let got = http.fetch(&url).await?;
                let path = file.split_once(")/").map_or(file, |(_, path)| path).into();
                watch(Beat::Fetched { path, by: "HTTP", size: got.len() });
                Ok(())
            }
            Place::Tftp(server, path) => {
                self.tftp_file(&self.loader_tftp(grant, server), http, &path, watch).await
            }
        }
    }

    /// The loader's own client, as it asks a server.
    fn loader_tftp(&self, grant: &Grant, next_server: Ipv4Addr) -> Tftp {
        self.tftp(&Grant { next_server, ..grant.clone() }, 1024, None, false)
    }
}

/// Where a file is that a menu names by device and path.
enum Place {
    /// Its URL.
    Http(String),
    /// Its server and path.
    Tftp(Ipv4Addr, String),
}

impl Place {
    fn of(file: &str) -> Result<Self, SimError> {
        let wrong = || SimError::Fetch { path: file.into(), why: "no device and path".into() };
        let (device, path) =
            file.strip_prefix('(').and_then(|rest| rest.split_once(')')).ok_or_else(wrong)?;
        let path = path.trim_start_matches('/');
        match device.split_once(',').ok_or_else(wrong)? {
            ("http", host) => Ok(Self::Http(format!("http://{host}/{path}"))),
            ("tftp", host) => Ok(Self::Tftp(host.parse().map_err(|_| wrong())?, path.into())),
            _ => Err(wrong()),
        }
    }
}

/// An address of this host that is this machine's alone, as far as the last bytes of MAC addresses differ.
fn loopback(mac: Mac) -> Ipv4Addr {
    let [.., a, b, c] = mac.octets();
    // Neither the network's address nor the one that the service has.
    Ipv4Addr::new(127, a | 0x80, b, c)
}
