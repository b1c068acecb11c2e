//! Images as tables.

use lastmile_api::{ImageDetail, ImageRow, Inspection, RevisionDetail, RevisionRow, Start, VolumePlace};

use crate::output::{ago, clock, or_dash, pairs, size, table};

/// Files that are listed without being asked for.
const FEW: usize = 20;

pub(super) fn rows(images: &[ImageRow]) -> String {
    let row = |image: &ImageRow| {
        let current = &image.current;
        [
            image.name.clone(),
            image.kind.as_str().into(),
            current.family.as_str().replace("none", "-"),
            or_dash(current.version.as_ref()),
            or_dash(current.cpu),
            format!("r{}", current.number),
            size(current.size),
            ago(Some(current.created)),
            image.machines.to_string(),
            readiness(current),
        ]
    };
    let head =
        ["name", "kind", "answers", "version", "cpu", "revision", "size", "imported", "machines", "ready"];
    let mut text = table(head, images.iter().map(row));
    for image in images {
        for what in &image.disagreements {
            text.push_str(&format!("\n{}: {what}\n", image.name));
        }
    }
    text
}

fn readiness(revision: &RevisionRow) -> String {
    match (revision.lacking.as_slice(), revision.retired) {
        (_, Some(_)) => "retired".into(),
        ([], None) if revision.verified.is_none() => "yes, being read".into(),
        ([], None) => "yes".into(),
        (lacking, None) => format!("no: {}", lacking.join("; ")),
    }
}

pub(super) fn detail(image: &ImageDetail, all_files: bool) -> String {
    let mut text = pairs([
        ("name", image.image.name.clone()),
        ("title", image.image.title.clone()),
        ("kind", image.image.kind.as_str().into()),
        ("on machines", image.image.machines.to_string()),
        ("in menus", or_dash((!image.menus.is_empty()).then(|| image.menus.join(", ")))),
    ]);
    for what in &image.image.disagreements {
        text.push_str(&format!("\nIt disagrees with itself: {what}\n"));
    }
    let row = |revision: &RevisionRow| {
        let current = if revision.number == image.image.current.number { "current" } else { "" };
        [
            format!("r{}", revision.number),
            current.into(),
            or_dash(revision.version.as_ref()),
            size(revision.size),
            ago(Some(revision.created)),
            revision.machines.to_string(),
            or_dash(revision.verified.map(|at| ago(Some(at)))),
            readiness(revision),
        ]
    };
    let head = ["revision", "", "version", "size", "imported", "machines", "read", "ready"];
    text.push('\n');
    text.push_str(&table(head, image.all.iter().map(row)));
    text.push('\n');
    text + &revision_text(&image.image.name, &image.revision, all_files)
}

pub(super) fn revision_text(name: &str, revision: &RevisionDetail, all_files: bool) -> String {
    let row = &revision.row;
    let words = |words: &[String]| or_dash((!words.is_empty()).then(|| words.join(" ")));
    let started = match &revision.start {
        Start::Kernel { kernel, .. } => ("kernel", kernel),
        Start::Program { path } => ("application", path),
        Start::Disk { path } => ("disk", path),
    };
    let volume = revision.volume.as_ref().map(|place| match place {
        VolumePlace::Kept { sha256 } => format!("in the library, {}", sha256.short()),
        VolumePlace::InPlace { path, .. } => format!("{path}, in place"),
    });
    let mut text = pairs([
        ("revision", format!("{name} r{}, imported {}", row.number, clock(row.created))),
        ("answers", row.family.as_str().into()),
        (started.0, started.1.clone()),
        ("initrds", words(revision.start.initrds())),
        ("parameters", words(&revision.parameters)),
        ("ISO", or_dash(volume)),
        ("manifest", or_dash(revision.manifest_hash.as_ref())),
        ("size", format!("{} in {} files", size(row.size), row.file_count)),
        ("last read", or_dash(row.verified.map(clock))),
        ("ready", readiness(row)),
    ]);
    text.push_str(&recognised(&revision.recognised));
    for note in &revision.notes {
        text.push_str(&format!("note: {note}\n"));
    }
    if revision.files.len() <= FEW || all_files {
        let files = revision.files.iter().map(|file| {
            let digest =
                file.sha256.map(|sha256| if all_files { sha256.to_string() } else { sha256.short() });
            [file.path.clone(), size(file.size), or_dash(digest)]
        });
        text.push('\n');
        text.push_str(&table(["file", "size", "sha-256"], files));
    }
    text
}

fn recognised(rows: &[[String; 3]]) -> String {
    if rows.is_empty() {
        return String::new();
    }
    "\n".to_owned() + &table(["recognised", "value", "read in"], rows.iter().cloned())
}

/// What files are, before anything is saved.
pub(super) fn inspection(found: &Inspection) -> String {
    let draft = &found.draft;
    let what = draft.kernel.as_ref().or(draft.program.as_ref()).or(draft.disk.as_ref());
    let mut text = pairs([
        ("would be", format!("{} r{}", draft.name, found.number)),
        ("title", or_dash(draft.title.as_ref())),
        ("kind", or_dash(draft.kind.map(|kind| kind.as_str()))),
        ("answers", or_dash(draft.family.map(|family| family.as_str()))),
        ("starts", or_dash(what)),
        ("size", format!("{} in {} files", size(found.size), found.files)),
    ]);
    text.push_str(&recognised(&found.recognised));
    for note in &found.notes {
        text.push_str(&format!("note: {note}\n"));
    }
    let faults = |head: &str, faults: &[lastmile_api::Fault]| {
        let lines =
            faults.iter().map(|fault| format!("  {}: {}\n      {}\n", fault.place, fault.what, fault.fix));
        if faults.is_empty() { String::new() } else { format!("\n{head}\n{}", lines.collect::<String>()) }
    };
    text.push_str(&faults("It would not be served:", &found.faults));
    text.push_str(&faults("It cannot be saved:", &found.refused));
    text
}
