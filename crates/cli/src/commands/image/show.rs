//! Images as tables.

use lastmile_api::{ImageDetail, ImageRow, Inspection, RevisionDetail, RevisionRow, Start, VolumePlace};

use crate::output::{Cell, Table, clock, columns, or_dash, pairs, size};

/// Files that are listed without being asked for.
const FEW: usize = 20;

pub(super) fn rows(images: &[ImageRow]) -> Table {
    let row = |image: &ImageRow| {
        let current = &image.current;
        [
            image.name.clone().into(),
            image.kind.as_str().into(),
            current.family.as_str().replace("none", "-").into(),
            Cell::maybe(current.version.as_ref()),
            Cell::maybe(current.cpu),
            format!("r{}", current.number).into(),
            Cell::size(current.size),
            Cell::ago(Some(current.created)),
            image.machines.to_string().into(),
            readiness(current).into(),
        ]
    };
    let head =
        ["name", "kind", "answers", "version", "cpu", "revision", "size", "imported", "machines", "ready"];
    let notes = images
        .iter()
        .flat_map(|image| image.disagreements.iter().map(move |what| format!("\n{}: {what}\n", image.name)));
    columns(head, images.iter().map(row)).note(notes.collect::<String>())
}

fn readiness(revision: &RevisionRow) -> String {
    match (revision.lacking.as_slice(), revision.retired) {
        (_, Some(_)) => "retired".into(),
        ([], None) if revision.verified.is_none() => "yes, being verified".into(),
        ([], None) => "yes".into(),
        (lacking, None) => format!("no: {}", lacking.join("; ")),
    }
}

pub(in crate::commands) fn detail(image: &ImageDetail, all_files: bool) -> String {
    let mut text = pairs([
        ("name", image.image.name.clone()),
        ("title", image.image.title.clone()),
        ("kind", image.image.kind.as_str().into()),
        ("machines", image.image.machines.to_string()),
        ("menus", or_dash((!image.menus.is_empty()).then(|| image.menus.join(", ")))),
    ]);
    for what in &image.image.disagreements {
        text.push_str(&format!("\nInconsistent: {what}\n"));
    }
    let row = |revision: &RevisionRow| {
        let current = if revision.number == image.image.current.number { "current" } else { "" };
        [
            format!("r{}", revision.number).into(),
            Cell::from(current),
            Cell::maybe(revision.version.as_ref()),
            Cell::size(revision.size),
            Cell::ago(Some(revision.created)),
            revision.machines.to_string().into(),
            Cell::ago(revision.verified),
            readiness(revision).into(),
        ]
    };
    let head = ["revision", "", "version", "size", "imported", "machines", "verified", "ready"];
    text.push('\n');
    text.push_str(&columns(head, image.all.iter().map(row)).text());
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
        ("without parameters", words(&revision.without_parameters)),
        ("ISO", or_dash(volume)),
        ("manifest", or_dash(revision.manifest_hash.as_ref())),
        ("size", format!("{} in {} files", size(row.size), row.file_count)),
        ("verified", or_dash(row.verified.map(clock))),
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
            [file.path.clone().into(), Cell::size(file.size), Cell::maybe(digest)]
        });
        text.push('\n');
        text.push_str(&columns(["file", "size", "sha-256"], files).text());
    }
    text
}

fn recognised(rows: &[[String; 3]]) -> String {
    if rows.is_empty() {
        return String::new();
    }
    let row = |row: &[String; 3]| row.clone().map(Cell::from);
    "\n".to_owned() + &columns(["recognised", "value", "read in"], rows.iter().map(row)).text()
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
