//! Files named on the command line, on their way into the library.

use std::path::{Path, PathBuf};

use lastmile_api::FileEntry;
use lastmile_client::Client;

use crate::output::{Failure, Output};

/// A file to upload and the path it is to have within its image or loader.
#[derive(Debug, Clone)]
pub(super) struct Upload {
    pub(super) name: String,
    pub(super) path: PathBuf,
}

impl Upload {
    /// A file under its own name.
    pub(super) fn plain(path: &Path) -> Result<Self, Failure> {
        let name = path.file_name().and_then(|name| name.to_str());
        let name = name.ok_or_else(|| wrong(path, "this is no file's name"))?;
        Ok(Self { name: name.into(), path: path.into() })
    }

    /// `PATH`, or `NAME=PATH` to give it another name.
    pub(super) fn named(text: &str) -> Result<Self, Failure> {
        match text.split_once('=') {
            Some((name, path)) => Ok(Self { name: name.into(), path: path.into() }),
            None => Self::plain(Path::new(text)),
        }
    }

    /// Every file below a folder, under its path within it. Links are followed, as images are full of them, but not out of the
    /// folder, nor round in a circle.
    pub(super) fn folder(root: &Path) -> Result<Vec<Self>, Failure> {
        let inside = root.canonicalize().map_err(|error| wrong(root, &error.to_string()))?;
        let mut found = Vec::new();
        for entry in walkdir::WalkDir::new(root).follow_links(true) {
            let entry = match entry {
                Ok(entry) => entry,
                // A link to a folder that it is in: what it leads to is there already.
                Err(error) if error.loop_ancestor().is_some() => continue,
                Err(error) => {
                    return Err(wrong(error.path().unwrap_or(root), &error.to_string()));
                }
            };
            let path = entry.path();
            if entry.path_is_symlink() {
                let target = path.canonicalize().map_err(|error| wrong(path, &error.to_string()))?;
                if !target.starts_with(&inside) {
                    let what = format!("this link leads out of the folder, to {}", target.display());
                    return Err(wrong(path, &what));
                }
            }
            if entry.file_type().is_dir() {
                continue;
            }
            if !entry.file_type().is_file() {
                return Err(wrong(path, "this is neither a file nor a folder"));
            }
            let name = path.strip_prefix(root).ok().and_then(Path::to_str);
            let name = name.ok_or_else(|| wrong(path, "the name is not UTF-8"))?.to_owned();
            found.push(Self { name, path: path.to_path_buf() });
        }
        found.sort_by(|a, b| a.name.cmp(&b.name));
        Ok(found)
    }
}

fn wrong(path: &Path, what: &str) -> Failure {
    Failure::Input {
        place: path.display().to_string(),
        what: what.into(),
        fix: "Name a file or folder that this user may read.",
    }
}

/// Sends what the library lacks, with a bar for whoever watches.
pub(super) async fn upload(
    client: &Client,
    out: &Output,
    files: &[Upload],
) -> Result<Vec<FileEntry>, Failure> {
    let mut bytes = 0;
    for file in files {
        bytes += std::fs::metadata(&file.path).map_err(|error| wrong(&file.path, &error.to_string()))?.len();
    }
    let bar = out.progress("", bytes);
    let mut entries = Vec::with_capacity(files.len());
    for file in files {
        bar.name(&file.name);
        entries.push(client.upload(&file.name, &file.path, bar.clone()).await?);
    }
    bar.done();
    Ok(entries)
}
