//! `lastmile survey …`

use std::{
    fs::File,
    io,
    path::{Path, PathBuf},
};

use clap::{Args, Subcommand};
use lastmile_api::{FileEntry, KernelSource, SurveyBuild};
use lastmile_client::Client;

use super::{
    files::{Upload, upload},
    image,
};
use crate::output::{Failure, Output};

/// `lastmile survey …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Make the system that machines are surveyed by, or its next revision: of a kernel and its drivers, which are those of the
    /// service's host if nothing else is named.
    Build(Build),
}

/// `lastmile survey build`
#[derive(Debug, Args)]
pub(crate) struct Build {
    /// A Debian package of a kernel, and any of firmware; may be given several times.
    #[arg(long, value_name = "FILE", conflicts_with = "kernel")]
    package: Vec<PathBuf>,
    /// A kernel. Its modules are given, too.
    #[arg(long, value_name = "FILE", requires = "modules")]
    kernel: Option<PathBuf>,
    /// The folder of the kernel's modules, as /lib/modules/VERSION.
    #[arg(long, value_name = "FOLDER", requires = "kernel")]
    modules: Option<PathBuf>,
    /// A folder of the site's own files, which are put into the system from its root on; may be given several times.
    #[arg(long, value_name = "FOLDER")]
    add: Vec<PathBuf>,
    /// The image's name, where it is to be another than survey, or survey-arm64.
    #[arg(long)]
    name: Option<String>,
    /// Make it and show what it holds, and save nothing. Its files go when nothing has used them for a while.
    #[arg(long)]
    dry_run: bool,
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    match command {
        Command::Build(build) => build.run(client, out).await,
    }
}

impl Build {
    async fn run(self, client: &Client, out: &Output) -> Result<(), Failure> {
        let asked = SurveyBuild {
            name: self.name.clone(),
            kernel: self.kernel(client, out).await?,
            add: match self.add.as_slice() {
                [] => None,
                folders => Some(send_folders(client, out, "added.tar", folders).await?),
            },
        };
        let client = client.trying(self.dry_run);
        let image = image::watched(&client, out, client.survey_build(&asked)).await?;
        out.show(&image, |image| image::detail(image, false));
        out.say_tried(self.dry_run);
        Ok(())
    }

    async fn kernel(&self, client: &Client, out: &Output) -> Result<KernelSource, Failure> {
        if let (Some(kernel), Some(modules)) = (&self.kernel, &self.modules) {
            let sent = upload(client, out, &[Upload::plain(kernel)?]).await?;
            let modules = send_folders(client, out, "modules.tar", std::slice::from_ref(modules)).await?;
            let kernel =
                sent.into_iter().next().ok_or_else(|| Failure::Io(io::ErrorKind::NotFound.into()))?;
            return Ok(KernelSource::Files { kernel, modules });
        }
        if self.package.is_empty() {
            return Ok(KernelSource::Host);
        }
        let files = self.package.iter().map(|path| Upload::plain(path)).collect::<Result<Vec<_>, _>>()?;
        Ok(KernelSource::Packages { files: upload(client, out, &files).await? })
    }
}

/// Sends folders as one archive, with what is in each of them at its root.
async fn send_folders(
    client: &Client,
    out: &Output,
    name: &str,
    folders: &[PathBuf],
) -> Result<FileEntry, Failure> {
    let work = tempfile::tempdir()?;
    let path = work.path().join(name);
    let mut archive = tar::Builder::new(File::create(&path)?);
    // Links stay what they are: of a kernel's modules two lead to its sources.
    archive.follow_symlinks(false);
    for folder in folders {
        put(&mut archive, folder)?;
    }
    archive.into_inner()?.sync_all()?;
    let sent = upload(client, out, &[Upload { name: name.into(), path: path.clone() }]).await?;
    sent.into_iter().next().ok_or_else(|| Failure::Io(io::ErrorKind::NotFound.into()))
}

fn put(archive: &mut tar::Builder<File>, folder: &Path) -> Result<(), Failure> {
    archive.append_dir_all("", folder).map_err(|error| Failure::Input {
        place: folder.display().to_string(),
        what: error.to_string(),
        fix: "Name a folder that this user may read.",
    })
}
