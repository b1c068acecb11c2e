//! `lastmile answers …`

use std::{collections::BTreeMap, convert::Infallible, path::PathBuf, process::ExitCode};

use clap::Subcommand;
use lastmile_api::{
    AnswersCompareQuery, AnswersComparison, AnswersPreview, AnswersPreviewRequest, AnswersView, Fault,
    LintReport, PasswordInput, PasswordShown, RenameRequest, Renamed, Settings, Side,
};
use lastmile_client::{Client, ClientError, Edited};

use super::{
    object::{
        self, CanAdd, CanRemove, CanRename, Change, CopyWhole, EditOne, HIDDEN, Object, Remove, Rename,
    },
    toml_file,
};
use crate::{
    complete,
    output::{Cell, Failure, Output, Table, clock, columns},
};

/// Where an example is to be had.
const FIX: &str = "`lastmile answers example` writes a file with every setting and its meaning.";

/// `lastmile answers …`
///
/// A layer is named by its answers' name, or as `site:`, `label:NAME` or `machine:NAME`.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Write an example of a settings file.
    Example,
    /// List all answers, and settings of the site, of labels and of machines.
    List,
    /// Show settings as a settings file. Passwords are never shown.
    Show {
        /// Their name, or `site:`, `label:NAME`, `machine:NAME`.
        #[arg(add = complete::names())]
        name: String,
        /// The version; the current one if left out.
        #[arg(long = "at", value_name = "VERSION")]
        at: Option<u32>,
    },
    /// Add answers, or settings of the site, a label or a machine, from a settings file.
    Add {
        /// What to call them; `site:`, `label:NAME` or `machine:NAME` for settings of those.
        name: String,
        /// The settings file (TOML); `-` for standard input.
        #[arg(long, value_name = "FILE")]
        from: PathBuf,
        /// Check it, and save nothing.
        #[arg(long)]
        dry_run: bool,
    },
    /// Save the next version: with single values changed, or all of it from a settings file. A file that `show` wrote is not
    /// saved over a later version.
    Change(Change),
    /// Change settings in $EDITOR.
    Edit(EditOne),
    /// Add answers like others, with their passwords.
    Copy(CopyWhole),
    /// Rename answers, with all their versions. Machines and menus that use them follow.
    Rename(Rename),
    /// Every version, newest first.
    Versions {
        /// Their name, or `site:`, `label:NAME`, `machine:NAME`.
        name: String,
    },
    /// The answer file as a machine would get it.
    Preview {
        /// The answers' name.
        name: String,
        /// The machine's name; an example if left out.
        #[arg(long)]
        machine: Option<String>,
        /// The image's name; the first that the answers name if left out.
        #[arg(long)]
        image: Option<String>,
        /// The version; the current one if left out.
        #[arg(long = "at", value_name = "VERSION")]
        at: Option<u32>,
        /// Which of the files, where an installer reads several.
        #[arg(long)]
        file: Option<String>,
        /// An answer to a question, as NAME=ANSWER.
        #[arg(long, value_name = "NAME=ANSWER")]
        asked: Vec<String>,
        /// Show each value and the layer it comes from, in the place of the file.
        #[arg(long)]
        origins: bool,
    },
    /// Compare two versions, or the files of two machines.
    Compare {
        /// The answers' name.
        name: String,
        /// The earlier version; the current one if left out.
        #[arg(long, value_name = "VERSION")]
        old: Option<u32>,
        /// The later version; the current one if left out.
        #[arg(long, value_name = "VERSION")]
        new: Option<u32>,
        /// Compare the file of this machine, not the settings.
        #[arg(long)]
        machine: Option<String>,
        /// With that of this one.
        #[arg(long, requires = "machine")]
        other: Option<String>,
        /// The image's name; the first that the answers name if left out.
        #[arg(long)]
        image: Option<String>,
    },
    /// Check every pair of answers and image with every machine. Exits with 1 if something is wrong.
    Lint,
    /// What each installer's format can say.
    Formats,
    /// Retire answers, or settings of the site, a label or a machine. Installs on record keep their versions.
    Remove(Remove),
}

/// Answers and other layers, as they are entered.
struct Answers;

impl Object for Answers {
    type Draft = Settings<PasswordInput>;
    const NOUN: &'static str = "answers";
    const FIX: &'static str = FIX;

    /// Of a layer that has no settings yet, empty ones.
    async fn read(client: &Client, name: &str) -> Result<Edited<Self::Draft>, ClientError> {
        let read = match client.answers_read(name).await {
            Err(ClientError::Problem(problem)) if problem.status == 404 && name.contains(':') => {
                return Ok(Edited { value: Settings::default(), etag: None });
            }
            read => read?,
        };
        // Shown passwords say that they are to stay as they are.
        let entered = serde_json::to_value(&read.value.settings).and_then(serde_json::from_value);
        let value =
            entered.map_err(|source| ClientError::Answer { server: client.server().into(), source })?;
        Ok(Edited { value, etag: read.etag })
    }

    async fn save(client: &Client, name: &str, draft: &Self::Draft) -> Result<(), ClientError> {
        client.answers_save(name, draft).await.map(drop)
    }

    fn without_secrets(draft: &Self::Draft) -> Self::Draft {
        let hide = |_: &str, password: &PasswordInput| {
            Ok::<_, Infallible>(match password {
                PasswordInput::Set => PasswordInput::Set,
                PasswordInput::Plain(_) => PasswordInput::Plain(HIDDEN.into()),
                PasswordInput::Hash(_) => PasswordInput::Hash(HIDDEN.into()),
                PasswordInput::Sealed(_) => PasswordInput::Sealed(HIDDEN.into()),
            })
        };
        let Ok(hidden) = draft.try_map_passwords(hide);
        hidden
    }
}

impl CanAdd for Answers {
    async fn add(client: &Client, name: &str, draft: &Self::Draft) -> Result<(), ClientError> {
        client.new_only().answers_save(name, draft).await.map(drop)
    }
}

impl CanRename for Answers {
    async fn rename(client: &Client, old: &str, new: &str) -> Result<Renamed, ClientError> {
        client.answers_rename(old, &RenameRequest { to: new.into() }).await
    }
}

impl CanRemove for Answers {
    const LOSES: &'static str = "Nothing can be armed with them any more.";

    async fn remove(client: &Client, name: &str) -> Result<(), ClientError> {
        client.answers_remove(name).await
    }
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<ExitCode, Failure> {
    match command {
        Command::Example => out.line(lastmile_api::settings::example().trim_end()),
        Command::Formats => out.line(lastmile_core::decide::answers::support_table().trim_end()),
        Command::List => out.list(&client.answers_list().await?, rows),
        Command::Add { name, from, dry_run } => {
            let written = toml_file::read(&from, FIX)?;
            object::add::<Answers>(&name, &written.value, dry_run, client, out).await?;
        }
        Command::Change(args) => object::change::<Answers>(&args, client, out).await?,
        Command::Edit(args) => object::edit::<Answers>(&args, client, out).await?,
        Command::Copy(args) => {
            let request = RenameRequest { to: args.new_name.clone() };
            let copy = client.trying(args.dry_run).answers_copy(&args.name, &request).await?;
            out.show(&copy, |copy| args.done("answers", &copy.name));
        }
        Command::Rename(args) => object::rename::<Answers>(&args, client, out).await?,
        Command::Show { name, at: None } => toml_file::show(out, &client.answers_read(&name).await?, show),
        Command::Show { name, at: Some(version) } => {
            let versions = client.answers_versions(&name).await?;
            let last = versions.first().map_or(0, |last| last.version);
            let found = versions.into_iter().find(|found| found.version == version);
            let found = found.ok_or_else(|| Failure::Input {
                place: "--at".into(),
                what: format!("{name} has no version {version}; the last is {last}"),
                fix: "See `lastmile answers versions`.",
            })?;
            out.show(&found, show);
        }
        Command::Versions { name } => out.list(&client.answers_versions(&name).await?, rows),
        Command::Preview { name, machine, image, at, file, asked, origins } => {
            let asked = asked_of(&asked)?;
            let request = AnswersPreviewRequest { machine, image, version: at, draft: None, asked };
            let preview = client.answers_preview(&name, &request).await?;
            let is_right = preview.faults.is_empty();
            if !is_right && !out.is_json() {
                return Err(Failure::Faults {
                    what: format!("no file of {name} can be written for {}", preview.machine),
                    faults: preview.faults,
                });
            }
            if let Some(file) = &file
                && !preview.files.iter().any(|known| known.name == *file)
            {
                return Err(Failure::Input {
                    place: "--file".into(),
                    what: format!("there is no '{file}'"),
                    fix: "Leave it out to see which there are.",
                });
            }
            out.show(&preview, |preview| {
                if origins { origin_rows(preview) } else { text_of(preview, file.as_deref()) }
            });
            for warning in &preview.warnings {
                out.warn(&warning.to_string());
            }
            return Ok(if is_right { ExitCode::SUCCESS } else { ExitCode::FAILURE });
        }
        Command::Compare { name, old, new, machine, other, image } => {
            let query = AnswersCompareQuery { from: old, to: new, machine, other, image };
            out.show(&client.answers_compare(&name, &query).await?, compared);
        }
        Command::Lint => {
            let bar = out.spinner("writing the answer file of every machine");
            let report = client.answers_lint().await;
            bar.done();
            let report = report?;
            out.show(&report, linted);
            return Ok(if report.findings.is_empty() { ExitCode::SUCCESS } else { ExitCode::FAILURE });
        }
        Command::Remove(args) => object::remove::<Answers>(&args, client, out).await?,
    }
    Ok(ExitCode::SUCCESS)
}

/// Answers to questions, as they stand on the command line.
pub(crate) fn asked_of(words: &[String]) -> Result<BTreeMap<String, String>, Failure> {
    let pair = |word: &String| {
        word.split_once('=').map(|(key, answer)| (key.to_owned(), answer.to_owned())).ok_or_else(|| {
            Failure::Input {
                place: word.clone(),
                what: "it is no answer to a question".into(),
                fix: "Write NAME=ANSWER, with the question's name.",
            }
        })
    };
    words.iter().map(pair).collect()
}

/// The keys of what settings have beside that which has a column of its own.
fn also_sets(settings: &Settings<PasswordShown>) -> String {
    let tree = serde_json::to_value(settings).unwrap_or_default();
    let keys = tree.as_object().into_iter().flatten().map(|(key, _)| key.as_str());
    keys.filter(|key| !["images", "users", "questions"].contains(key)).collect::<Vec<_>>().join(", ")
}

fn rows(all: &[AnswersView]) -> Table {
    let row = |answers: &AnswersView| {
        let settings = &answers.settings;
        let users: Vec<String> = settings.users.keys().cloned().collect();
        let questions: Vec<String> = settings.questions.keys().cloned().collect();
        [
            answers.name.clone().into(),
            format!("v{}", answers.version).into(),
            Cell::list(&settings.images),
            Cell::list(&users),
            Cell::list(&questions),
            also_sets(settings).into(),
            Cell::ago(Some(answers.created)),
        ]
    };
    let head = ["name", "version", "images", "users", "questions", "also sets", "saved"];
    columns(head, all.iter().map(row))
}

fn show(answers: &AnswersView) -> String {
    let head =
        format!("# answers {}, version {} of {}\n", answers.name, answers.version, clock(answers.created));
    head + &toml::to_string(&answers.settings).unwrap_or_default()
}

/// The file that was asked for, or the main one with a word about the others.
fn text_of(preview: &AnswersPreview, file: Option<&str>) -> String {
    let wanted = preview.files.iter().find(|known| file.is_none_or(|file| known.name == file));
    wanted.map_or_else(String::new, |file| file.text.clone())
}

fn origin_rows(preview: &AnswersPreview) -> String {
    let settings = serde_json::to_value(&preview.settings).unwrap_or_default();
    let row = |(path, layer): (&String, &String)| {
        let value = path.split('.').try_fold(&settings, |at, key| at.get(key));
        let value = value.map_or_else(String::new, |value| match value {
            serde_json::Value::String(text) => text.clone(),
            other => other.to_string(),
        });
        let value: String = value.lines().next().unwrap_or_default().chars().take(60).collect();
        [path.clone().into(), value.into(), layer.clone().into()]
    };
    columns(["setting", "value", "from"], preview.origins.iter().map(row)).text()
}

/// Lines that differ, with those around them.
fn compared(comparison: &AnswersComparison) -> String {
    const AROUND: usize = 3;
    let lines = &comparison.lines;
    let differs: Vec<bool> = lines.iter().map(|line| line.side != Side::Both).collect();
    if !differs.contains(&true) {
        return format!("{} and {} are the same", comparison.left, comparison.right);
    }
    let mut text = format!("- {}\n+ {}\n", comparison.left, comparison.right);
    let mut is_gap = true;
    for (index, line) in lines.iter().enumerate() {
        let near = index.saturating_sub(AROUND)..(index + AROUND + 1).min(lines.len());
        if !differs[near].contains(&true) {
            is_gap = true;
            continue;
        }
        if std::mem::take(&mut is_gap) {
            text.push_str("...\n");
        }
        let mark = match line.side {
            Side::Both => ' ',
            Side::Left => '-',
            Side::Right => '+',
        };
        text.push_str(&format!("{mark} {}\n", line.text));
    }
    text.trim_end().into()
}

fn linted(report: &LintReport) -> String {
    let mut text =
        format!("{} pairs of answers and image, with {} machines each\n", report.pairs, report.machines);
    for finding in &report.findings {
        let on = match finding.machine_count {
            0 => "on every machine".into(),
            count if count > finding.machines.len() => {
                format!("on {} and {} more", finding.machines.join(", "), count - finding.machines.len())
            }
            _ => format!("on {}", finding.machines.join(", ")),
        };
        let Fault { place, what, fix } = &finding.fault;
        text.push_str(&format!(
            "\n{} with {}, {on}:\n  {place}: {what}\n  {fix}\n",
            finding.answers, finding.image
        ));
    }
    if report.findings.is_empty() {
        text.push_str("no problem found\n");
    }
    if !report.unpaired.is_empty() {
        let names = report.unpaired.join(", ");
        text.push_str(&format!("\nnot checked, as nothing names an image for them: {names}\n"));
    }
    text.trim_end().into()
}
