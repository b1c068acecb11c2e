//! Removing content that nothing names any more.

use std::collections::HashSet;

use lastmile_core::model::image::{Sha256, VolumePlace};
use tokio_util::sync::CancellationToken;

use super::Parts;

/// Sweeps the library each time that an image or a loader was removed, until the service stops.
pub(crate) async fn sweep_when_told(parts: Parts, stop: CancellationToken) {
    loop {
        tokio::select! {
            () = stop.cancelled() => return,
            () = parts.records.sweep_soon.notified() => sweep(&parts).await,
        }
    }
}

/// Removes the content that a removed image or loader leaves without a name.
async fn sweep(parts: &Parts) {
    let site = parts.records.site();
    let loose = site.revisions().filter(|revision| revision.volume.is_none());
    let files = loose.flat_map(|revision| revision.manifest.files());
    let loaders = site.loaders().flat_map(|loader| loader.manifest.files());
    let volumes = site.revisions().filter_map(|revision| match revision.volume.as_ref()?.place() {
        VolumePlace::Kept { sha256 } => Some(*sha256),
        VolumePlace::InPlace { .. } => None,
    });
    let named: HashSet<Sha256> = files.chain(loaders).filter_map(|file| file.sha256).chain(volumes).collect();
    let library = parts.library.clone();
    let swept = tokio::task::spawn_blocking(move || library.sweep(&named)).await;
    if let Err(error) = swept.map_err(std::io::Error::other).flatten() {
        tracing::warn!("content that nothing names was not removed: {error}");
    }
}
