//! Reading every file of a revision again and holding it against its digest.

use std::{io, sync::Arc, time::Duration};

use jiff::{SignedDuration, Timestamp};
use lastmile_core::{
    Id,
    image::{Extent, FileEntry, Manifest, Revision, Sha256, Volume, VolumePlace},
};
use sha2::Digest;
use tokio_util::sync::CancellationToken;

use super::WorkHandle;
use crate::{
    content::{BlockingReader, Content},
    library::Library,
    state::App,
};

/// Octets read at once.
const PIECE: usize = 1024 * 1024;
/// How often it is looked whether a revision's time has come.
const LOOK_EVERY: Duration = Duration::from_secs(60);

/// What reading a revision came to.
struct Verdict {
    manifest: Manifest,
    /// Paths that are missing or changed.
    damaged: Vec<String>,
}

/// Reads a revision and keeps what came of it. What is found changed is not served from then on; what is found whole
/// again, is.
pub(crate) async fn verify_again(app: &Arc<App>, id: Id<Revision>) -> Result<(), String> {
    let site = app.site();
    let Some(revision) = site.revision(id).cloned() else { return Err("the revision is gone".into()) };
    // One at a time: two would only make the disk seek.
    let _alone = app.verifying.lock().await;
    let what = format!("verify {} r{}", revision.image_name, revision.number);
    let mut work = app.work.begin(what, octets(&revision));
    let library = app.library.clone();
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
    keep(app, id, verdict).await
}

/// Octets that are read: those of the files, and of the ISO as a whole where its publisher gave a digest.
fn octets(revision: &Revision) -> u64 {
    let volume = revision.volume.as_ref().filter(|volume| volume.sha256.is_some());
    let in_place = volume.filter(|volume| matches!(volume.place(), VolumePlace::InPlace { .. }));
    revision.manifest.size() + in_place.map_or(0, |volume| volume.size)
}

async fn keep(app: &Arc<App>, id: Id<Revision>, verdict: Verdict) -> Result<(), String> {
    let _alone = app.admin_write.lock().await;
    // It may have been retired or removed meanwhile.
    let Some(now) = app.site().revision(id).cloned() else { return Ok(()) };
    let mut changed = (*now).clone();
    changed.damaged = verdict.damaged;
    if changed.damaged.is_empty() {
        changed.verified = Some(Timestamp::now());
        changed.manifest = verdict.manifest;
    } else {
        changed.verified = None;
    }
    if changed.damaged != now.damaged {
        let (image, revision, damaged) = (&now.image_name, now.number, &changed.damaged);
        tracing::warn!(image, revision, ?damaged, "what is missing or changed is another now");
    }
    let kept = changed.clone();
    app.store.write(move |tx| tx.put_revision(&kept)).await.map_err(|error| error.to_string())?;
    app.change_site(|site| site.with_revision(changed.clone()));
    app.tell_image(&changed.image_name);
    fill_installs(app, &changed).await
}

/// Installs that were armed before every file was read have their digest now.
async fn fill_installs(app: &Arc<App>, revision: &Revision) -> Result<(), String> {
    let Some(hash) = revision.manifest_hash() else { return Ok(()) };
    let site = app.site();
    let open =
        site.open_installs().filter(|open| open.revision == revision.id && open.manifest_hash.is_none());
    for machine in open.map(|open| open.machine).collect::<Vec<_>>() {
        app.set_manifest_hash(machine, hash).await.map_err(|error| error.to_string())?;
    }
    Ok(())
}

/// An error breaks it off; a file that cannot be read is in the verdict.
fn read(library: &Library, revision: &Revision, work: &mut WorkHandle) -> io::Result<Verdict> {
    let mut damaged = library.missing(revision);
    let mut files: Vec<FileEntry> = revision.manifest.files().to_vec();
    if revision.volume.is_some() && !damaged.is_empty() {
        return Ok(Verdict { manifest: revision.manifest.clone(), damaged });
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
    Ok(Verdict { manifest: Manifest::new(files), damaged })
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
pub(crate) async fn verify_on_schedule(app: Arc<App>, stop: CancellationToken) {
    loop {
        let site = app.site();
        let every = SignedDuration::from_hours(site.settings().verify_hours.into());
        let now = Timestamp::now();
        let is_due = |revision: &&Arc<Revision>| match revision.verified {
            None => revision.damaged.is_empty(),
            Some(at) => !every.is_zero() && now.duration_since(at) > every,
        };
        let due = site.revisions().filter(is_due).min_by_key(|revision| revision.verified).map(|due| due.id);
        let wait = match due {
            Some(id) => {
                let read = tokio::select! {
                    () = stop.cancelled() => return,
                    read = verify_again(&app, id) => read,
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
            () = app.verify_soon.notified() => {}
        }
    }
}
