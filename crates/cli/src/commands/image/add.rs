//! Files on their way to become an image.

use std::{
    io::IsTerminal,
    path::{Path, PathBuf},
    time::Duration,
};

use clap::{Args, ValueEnum};
use lastmile_api::{Family, ImageKind, Inspection, RevisionDraft, Sha256, Work};
use lastmile_client::{Client, ClientError};

use super::show;
use crate::{
    commands::files::{Upload, upload},
    confirm::agreed,
    output::{Failure, Output},
};

/// How often work of the service is asked after.
const ASKED_EVERY: Duration = Duration::from_millis(250);

/// What is imported.
#[derive(Debug, Args)]
pub(crate) struct Source {
    /// The files: an ISO, a folder, a tar archive, or a kernel and its initrds; NAME=PATH to give a file another name.
    #[arg(required = true, value_name = "[NAME=]PATH")]
    paths: Vec<String>,
    /// Serve the ISO from where it lies on the service's host, without copying it.
    #[arg(long)]
    in_place: bool,
    /// What to call it; what it calls itself if left out.
    #[arg(long)]
    name: Option<String>,
    /// What the person at the machine reads.
    #[arg(long)]
    title: Option<String>,
    /// What it is for, where that is not recognised.
    #[arg(long, value_enum)]
    kind: Option<KindName>,
    /// Which answer file its installer reads, where that is not recognised.
    #[arg(long, value_enum)]
    family: Option<FamilyName>,
    /// The kernel's path within the files.
    #[arg(long, value_name = "PATH")]
    kernel: Option<String>,
    /// An initrd's path within the files; may be repeated, in the order of loading.
    #[arg(long, value_name = "PATH")]
    initrd: Vec<String>,
    /// The path of the UEFI application that is started instead of a kernel.
    #[arg(long, value_name = "PATH")]
    program: Option<String>,
    /// The path of the raw disk image.
    #[arg(long, value_name = "PATH")]
    disk: Option<String>,
    /// The processor it is for: x86, x64, arm32, arm64, riscv64.
    #[arg(long)]
    cpu: Option<lastmile_api::Cpu>,
    /// A kernel parameter it always needs; may be repeated, and then stands for those that are proposed. It
    /// may name values, as in ip={{ address }}.
    #[arg(long, value_name = "WORD")]
    parameter: Vec<String>,
    /// The key of a kernel parameter of its installer's family that it does without, as in priority; may be repeated.
    #[arg(long, value_name = "KEY")]
    without_parameter: Vec<String>,
    /// Digest that the ISO must have, as its publisher gives it.
    #[arg(long, value_name = "HEX")]
    sha256: Option<Sha256>,
}

/// `lastmile image add`
#[derive(Debug, Args)]
pub(crate) struct Import {
    #[command(flatten)]
    source: Source,
    /// Import it although a fault was found.
    #[arg(long)]
    despite_faults: bool,
    /// Import without asking.
    #[arg(long, short)]
    yes: bool,
    /// Show what would be imported, and save nothing. Its files are sent, and go when nothing has used them for a while.
    #[arg(long)]
    dry_run: bool,
    /// Return only once every file was read.
    #[arg(long)]
    wait: bool,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum KindName {
    Installer,
    Live,
    Tool,
    Survey,
    Disk,
    FirmwareApp,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum FamilyName {
    Preseed,
    Kickstart,
    Autoinstall,
    CloudConfig,
    UnattendedXml,
    None,
}

impl From<KindName> for ImageKind {
    fn from(name: KindName) -> Self {
        match name {
            KindName::Installer => Self::Installer,
            KindName::Live => Self::Live,
            KindName::Tool => Self::Tool,
            KindName::Survey => Self::Survey,
            KindName::Disk => Self::Disk,
            KindName::FirmwareApp => Self::FirmwareApp,
        }
    }
}

impl From<FamilyName> for Family {
    fn from(name: FamilyName) -> Self {
        match name {
            FamilyName::Preseed => Self::Preseed,
            FamilyName::Kickstart => Self::Kickstart,
            FamilyName::Autoinstall => Self::Autoinstall,
            FamilyName::CloudConfig => Self::CloudConfig,
            FamilyName::UnattendedXml => Self::UnattendedXml,
            FamilyName::None => Self::None,
        }
    }
}

impl Source {
    /// Brings the files into the library and has them looked into.
    pub(super) async fn inspect(&self, client: &Client, out: &Output) -> Result<Inspection, Failure> {
        let draft = self.draft(client, out).await?;
        Ok(watched(client, out, client.images_inspect(&draft)).await?)
    }

    async fn draft(&self, client: &Client, out: &Output) -> Result<RevisionDraft, Failure> {
        let mut draft = RevisionDraft {
            name: self.name.clone().unwrap_or_default(),
            title: self.title.clone(),
            kind: self.kind.map(Into::into),
            family: self.family.map(Into::into),
            kernel: self.kernel.clone(),
            initrds: (!self.initrd.is_empty()).then(|| self.initrd.clone()),
            program: self.program.clone(),
            disk: self.disk.clone(),
            cpu: self.cpu,
            parameters: (!self.parameter.is_empty()).then(|| self.parameter.clone()),
            without_parameters: self.without_parameter.clone(),
            sha256: self.sha256,
            ..RevisionDraft::default()
        };
        if self.in_place {
            draft.in_place = Some(self.only_path()?);
        } else {
            draft.files = upload(client, out, &self.files()?).await?;
        }
        Ok(draft)
    }

    fn only_path(&self) -> Result<String, Failure> {
        let wrong = |what: &str| Failure::Input {
            place: "--in-place".into(),
            what: what.into(),
            fix: "Name one ISO on the service's host.",
        };
        let [path] = self.paths.as_slice() else { return Err(wrong("more than one file is given")) };
        // The service has another working folder. On another host, it knows the path better than we do.
        let absolute = std::path::absolute(path).map_err(|error| wrong(&error.to_string()))?;
        absolute.to_str().map(str::to_owned).ok_or_else(|| wrong("the path is not UTF-8"))
    }

    fn files(&self) -> Result<Vec<Upload>, Failure> {
        let mut files = Vec::new();
        for text in &self.paths {
            if Path::new(text).is_dir() {
                files.extend(Upload::folder(&PathBuf::from(text))?);
            } else {
                files.push(Upload::named(text)?);
            }
        }
        Ok(files)
    }
}

impl Import {
    pub(super) async fn run(self, client: &Client, out: &Output) -> Result<(), Failure> {
        let found = self.source.inspect(client, out).await?;
        if self.dry_run {
            out.show(&found, show::inspection);
            out.say("Dry run: nothing was saved.");
            return Ok(());
        }
        let asks = !self.yes && !out.is_json() && std::io::stdin().is_terminal();
        if asks {
            out.line(&show::inspection(&found));
        }
        if asks && found.refused.is_empty() && !agreed(&format!("Import it as {}?", found.draft.name))? {
            return Err(Failure::Declined);
        }
        let draft = RevisionDraft { despite_faults: self.despite_faults, ..found.draft };
        let mut image = client.images_create(&draft).await?;
        let is_read = |image: &lastmile_api::ImageDetail| image.image.current.verified.is_some();
        if !is_read(&image) && (self.wait || std::io::stderr().is_terminal() && !out.is_json()) {
            let what = format!("verify {} r{}", image.image.name, image.image.current.number);
            out.say(&format!(
                "{} r{} can be booted; its files are being read.",
                image.image.name, image.image.current.number
            ));
            ended(client, out, &what).await?;
            image = client.images_read(&image.image.name).await?.value;
        }
        out.show(&image, |image| show::detail(image, false));
        let current = &image.image.current;
        if !current.lacking.is_empty() && !self.despite_faults {
            return Err(Failure::Input {
                place: format!("{} r{}", image.image.name, current.number),
                what: format!("it is not served: {}", current.lacking.join("; ")),
                fix: "Fetch the file again and import it anew.",
            });
        }
        Ok(())
    }
}

/// Waits for a call, with a bar for what the service does meanwhile.
pub(in crate::commands) async fn watched<T>(
    client: &Client,
    out: &Output,
    call: impl Future<Output = Result<T, ClientError>>,
) -> Result<T, ClientError> {
    let mut bar: Option<(u64, crate::output::Bar)> = None;
    let known: u64 = client.work_list().await?.iter().map(|work| work.id).max().unwrap_or(0);
    tokio::pin!(call);
    loop {
        let asked = tokio::time::sleep(ASKED_EVERY);
        tokio::select! {
            done = &mut call => {
                if let Some((_, bar)) = bar {
                    bar.done();
                }
                return done;
            }
            () = asked => {}
        }
        let all = client.work_list().await?;
        let Some(work) = all.iter().rfind(|work| work.id > known && work.ended.is_none()) else { continue };
        draw(&mut bar, out, work);
    }
}

/// Waits until the service has ended a piece of work of that name, and its end is not older than this call.
async fn ended(client: &Client, out: &Output, what: &str) -> Result<(), Failure> {
    let mut bar = None;
    loop {
        let all = client.work_list().await?;
        match all.iter().rfind(|work| work.what == what) {
            Some(work) if work.ended.is_some() => {
                if let Some((_, bar)) = bar {
                    crate::output::Bar::done(&bar);
                }
                return Ok(());
            }
            Some(work) => draw(&mut bar, out, work),
            None => {}
        }
        tokio::time::sleep(ASKED_EVERY).await;
    }
}

fn draw(bar: &mut Option<(u64, crate::output::Bar)>, out: &Output, work: &Work) {
    let (done, shown) = bar.get_or_insert_with(|| (0, out.progress(&work.what, work.total)));
    lastmile_client::UploadProgress::advance(shown, work.done.saturating_sub(*done));
    *done = work.done;
}
