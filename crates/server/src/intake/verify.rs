//! Reading every file of a revision again and holding it against its digest.

use std::{io, sync::Arc, time::Duration};

use jiff::SignedDuration;
use lastmile_core::{
    base::Id,
    model::image::{FileEntry, Manifest, Revision, Sha256, Volume, VolumePlace},
};
use lastmile_formats::read_at::Extent;
use lastmile_store::{Change, StoreError};
use sha2::Digest;
use tokio_util::sync::CancellationToken;

use crate::{
    clock,
    intake::Parts,
    library::{BlockingReader, Content, Library, modified_ns},
    work::WorkHandle,
};

/// Bytes read at once.
const PIECE: usize = 1024 * 1024;
/// How often it is looked whether a revision's time has come.
const LOOK_EVERY: Duration = Duration::from_secs(60);

/// What reading a revision came to.
struct Verdict {
    manifest: Manifest,
    /// Paths that are missing or changed.
    damaged: Vec<String>,
    /// The ISO, where it was found as it was in a file that was modified at another time.
    restored: Option<Arc<Volume>>,
}

/// Reads a revision and keeps what came of it. What is found changed is not served from then on; what is found whole
/// again, is.
pub(crate) async fn verify_again(parts: &Parts, id: Id<Revision>) -> Result<(), String> {
    let site = parts.records.site();
    let Some(revision) = site.revision(id).cloned() else { return Err("the revision is gone".into()) };
    // One at a time: two would only make the disk seek.
    let _alone = parts.work.verifying.lock().await;
    let what = format!("verify {} r{}", revision.image_name, revision.number);
    let mut work = parts.work.begin(what, octets(&revision));
    let library = parts.library.clone();
    let reading = revision.clone();
    let read = tokio::task::spawn_blocking(move || {
        let verdict = read(&library, &reading, &mut work);
        (verdict, work)
    });
    let (verdict, work) = read.await.map_err(|error| error.to_string())?;
    // Broken off: nothing is known of it that was not known before.
    let verdict = verdict.map_err(|error| error.to_string())?;
    work.end(match verdict.damaged.as_slice() {
        [] => String::new(),
        damaged => format!("missing or changed: {}", damaged.join(", ")),
    });
    keep(parts, id, verdict).await
}

/// Bytes that are read: those of the files, and of the ISO as a whole where its publisher gave a digest.
fn octets(revision: &Revision) -> u64 {
    let volume = revision.volume.as_ref().filter(|volume| volume.sha256.is_some());
    let in_place = volume.filter(|volume| matches!(volume.place(), VolumePlace::InPlace { .. }));
    revision.manifest.size() + in_place.map_or(0, |volume| volume.size)
}

async fn keep(parts: &Parts, id: Id<Revision>, verdict: Verdict) -> Result<(), String> {
    let keep = move |change: &mut Change<'_>| {
        // It may have been retired or removed meanwhile.
        let Some(now) = change.site().revision(id).cloned() else { return Ok(None) };
        let mut changed = (*now).clone();
        changed.damaged = verdict.damaged;
        if changed.damaged.is_empty() {
            changed.verified = Some(clock::now());
            changed.manifest = verdict.manifest;
            if verdict.restored.is_some() {
                changed.volume = verdict.restored;
            }
        } else {
            changed.verified = None;
        }
        if changed.damaged != now.damaged {
            let (image, revision, damaged) = (&now.image_name, now.number, &changed.damaged);
            tracing::warn!(image, revision, ?damaged, "what is missing or changed is another now");
        }
        change.note_revision(changed.clone())?;
        Ok::<_, StoreError>(changed.manifest_hash())
    };
    // Installs that were armed before every file was read have their digest now.
    let filled = match parts.records.store.change(keep).await {
        Ok(Some(hash)) => parts.records.set_manifest_hash(id, hash).await,
        Ok(None) => Ok(()),
        Err(error) => Err(error),
    };
    filled.map_err(|error| error.to_string())
}

/// An error breaks it off; a file that cannot be read is in the verdict.
fn read(library: &Library, revision: &Revision, work: &mut WorkHandle) -> io::Result<Verdict> {
    // Somebody may have put the same bytes back: that is seen by reading all of them.
    let restored = restored(library, revision);
    let again = restored.clone().map(|volume| Revision { volume: Some(volume), ..revision.clone() });
    let revision = again.as_ref().unwrap_or(revision);
    let mut damaged = library.missing(revision);
    let mut files: Vec<FileEntry> = revision.manifest.files().to_vec();
    if revision.volume.is_some() && !damaged.is_empty() {
        return Ok(Verdict { manifest: revision.manifest.clone(), damaged, restored: None });
    }
    // In the order in which they lie on the disk.
    let first = |file: &FileEntry| {
        let extents = revision.volume.as_ref().and_then(|volume| volume.extents(&file.path));
        extents.and_then(<[Extent]>::first).map_or(0, |extent| extent.offset)
    };
    files.sort_by_key(first);
    let mut buffer = vec![0; PIECE];
    for file in &mut files {
        let Some(content) = library.content_of(revision, file) else { continue };
        match digest(&content, &mut buffer, work) {
            Ok(found) if file.sha256.is_none_or(|expected| expected == found) => file.sha256 = Some(found),
            Ok(_) => damaged.push(file.path.clone()),
            Err(error) if error.kind() == io::ErrorKind::Interrupted => return Err(error),
            Err(_) if damaged.contains(&file.path) => {}
            Err(error) => damaged.push(format!("{} ({error})", file.path)),
        }
    }
    damaged.extend(whole(library, revision, &mut buffer, work)?);
    Ok(Verdict { manifest: Manifest::new(files), damaged, restored })
}

/// The ISO of a revision as it lies now, if it was modified since it was looked into, has the size that it had, and the digest
/// of everything in it is known.
fn restored(library: &Library, revision: &Revision) -> Option<Arc<Volume>> {
    let volume = revision.volume.as_ref()?;
    let VolumePlace::InPlace { path, modified_ns: then } = volume.place() else { return None };
    let found = std::fs::metadata(path).ok()?;
    let is_known =
        volume.sha256.is_some() || revision.manifest.files().iter().all(|file| file.sha256.is_some());
    let time = modified_ns(&found);
    if !is_known || time == *then || found.len() != volume.size || library.missing(revision).is_empty() {
        return None;
    }
    Some(Arc::new(volume.found_at(time)))
}

/// That the ISO as a whole has the digest that its publisher gives. An ISO in the library has been held against it when
/// it came.
fn whole(
    library: &Library,
    revision: &Revision,
    buffer: &mut [u8],
    work: &mut WorkHandle,
) -> io::Result<Option<String>> {
    let in_place = |volume: &&Arc<Volume>| matches!(volume.place(), VolumePlace::InPlace { .. });
    let expected = revision.volume.as_ref().filter(in_place).and_then(|volume| volume.sha256);
    let (Some(expected), Some(content)) = (expected, library.whole(revision)) else { return Ok(None) };
    match digest(&content, buffer, work) {
        Ok(found) if found == expected => Ok(None),
        Ok(found) => Ok(Some(format!("the ISO (its digest is {found}, not {expected} as it should be)"))),
        Err(error) if error.kind() == io::ErrorKind::Interrupted => Err(error),
        Err(error) => Ok(Some(format!("the ISO ({error})"))),
    }
}

fn digest(content: &Content, buffer: &mut [u8], work: &mut WorkHandle) -> io::Result<Sha256> {
    let reader: BlockingReader = content.open_blocking()?;
    let (mut digest, mut at, size) = (sha2::Sha256::new(), 0, content.size());
    while at < size {
        let length = usize::try_from(size - at).map_or(buffer.len(), |left| left.min(buffer.len()));
        reader.read_exact_at(&mut buffer[..length], at)?;
        digest.update(&buffer[..length]);
        at += length as u64;
        work.advance(length as u64)?;
    }
    Ok(Sha256::new(digest.finalize().into()))
}

/// Reads every revision again when its time has come; those that were never read, at once.
pub(crate) async fn verify_on_schedule(parts: Parts, stop: CancellationToken) {
    loop {
        let site = parts.records.site();
        let every = SignedDuration::from_hours(site.settings().verify_hours.into());
        let now = clock::now();
        let is_due = |revision: &&Arc<Revision>| match revision.verified {
            None => revision.damaged.is_empty(),
            Some(at) => !every.is_zero() && now.duration_since(at) > every,
        };
        let due = site.revisions().filter(is_due).min_by_key(|revision| revision.verified).map(|due| due.id);
        let wait = match due {
            Some(id) => {
                let read = tokio::select! {
                    () = stop.cancelled() => return,
                    read = verify_again(&parts, id) => read,
                };
                match read {
                    Ok(()) => Duration::ZERO,
                    Err(error) => {
                        tracing::warn!("an image was not read again: {error}");
                        LOOK_EVERY
                    }
                }
            }
            None => LOOK_EVERY,
        };
        tokio::select! {
            () = stop.cancelled() => return,
            () = tokio::time::sleep(wait) => {}
            () = parts.records.verify_soon.notified() => {}
        }
    }
}
