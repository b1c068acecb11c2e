use std::{collections::BTreeMap, path::PathBuf, process::ExitCode};

use clap::Subcommand;
use lastmile_api::{
    AnswersCompareQuery, AnswersComparison, AnswersPreview, AnswersPreviewRequest, AnswersView, Fault,
    LintReport, PasswordShown, Settings, Side,
};
use lastmile_client::Client;

use super::edited::{self, read_toml};
use crate::output::{Failure, Output, ago, clock, table};

/// Where an example is to be had.
const FIX: &str = "`lastmile answers example` writes a file with every setting and its meaning.";

/// `lastmile answers …`
///
/// A layer is named by its answers' name, or as `site:`, `label:NAME` or `machine:NAME`.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Write an example of a settings file.
    Example,
    /// Save a settings file as answers, or as the next version of them.
    Save {
        /// What to call them; `site:`, `label:NAME` or `machine:NAME` for settings of those.
        name: String,
        /// The settings file (TOML); `-` for standard input. One that `show` wrote is not saved over a later version.
        #[arg(long, value_name = "FILE")]
        from: PathBuf,
    },
    /// List all answers, and settings of the site, of labels and of machines.
    List,
    /// Show settings. Passwords are never shown.
    Show {
        /// Their name, or `site:`, `label:NAME`, `machine:NAME`.
        name: String,
        /// The version; the current one if left out.
        #[arg(long = "at", value_name = "VERSION")]
        at: Option<u32>,
    },
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
    /// Hold two versions, or the files of two machines, against each other.
    Compare {
        /// The answers' name.
        name: String,
        /// The version on the left; the current one if left out.
        #[arg(long)]
        from: Option<u32>,
        /// The version on the right; the current one if left out.
        #[arg(long)]
        to: Option<u32>,
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
    /// Look at every pair of answers and image, with every machine. Exits 1 if something is wrong.
    Lint,
    /// What each installer's format can say.
    Formats,
    /// Take answers, or settings of the site, a label or a machine, out of use.
    Remove {
        /// Their name, or `site:`, `label:NAME`, `machine:NAME`.
        name: String,
    },
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<ExitCode, Failure> {
    match command {
        Command::Example => out.line(lastmile_api::settings::example().trim_end()),
        Command::Formats => out.line(lastmile_core::decide::answers::support_table().trim_end()),
        Command::Save { name, from } => {
            let written = read_toml(&from, FIX)?;
            let client = client.based_on(written.etag.as_deref());
            out.show(&client.answers_save(&name, &written.value).await?, show);
        }
        Command::List => out.show(&client.answers_list().await?, |all| rows(all)),
        Command::Show { name, at: None } => edited::show(out, &client.answers_read(&name).await?, show),
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
        Command::Versions { name } => out.show(&client.answers_versions(&name).await?, |all| rows(all)),
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
        Command::Compare { name, from, to, machine, other, image } => {
            let query = AnswersCompareQuery { from, to, machine, other, image };
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
        Command::Remove { name } => {
            client.answers_remove(&name).await?;
            out.say(&format!("answers {name} taken out of use"));
        }
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

/// The keys of what settings say beside that which has a column of its own.
fn also_says(settings: &Settings<PasswordShown>) -> String {
    let tree = serde_json::to_value(settings).unwrap_or_default();
    let keys = tree.as_object().into_iter().flatten().map(|(key, _)| key.as_str());
    keys.filter(|key| !["images", "users", "questions"].contains(key)).collect::<Vec<_>>().join(", ")
}

fn rows(all: &[AnswersView]) -> String {
    let row = |answers: &AnswersView| {
        let settings = &answers.settings;
        let users: Vec<&str> = settings.users.keys().map(String::as_str).collect();
        [
            answers.name.clone(),
            format!("v{}", answers.version),
            settings.images.join(", "),
            users.join(", "),
            settings.questions.keys().cloned().collect::<Vec<_>>().join(", "),
            also_says(settings),
            ago(Some(answers.created)),
        ]
    };
    let head = ["name", "version", "for", "users", "asks", "also says", "saved"];
    table(head, all.iter().map(row))
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
        [path.clone(), value.lines().next().unwrap_or_default().chars().take(60).collect(), layer.clone()]
    };
    table(["setting", "value", "from"], preview.origins.iter().map(row))
}

/// Lines that differ, with those around them.
fn compared(comparison: &AnswersComparison) -> String {
    const AROUND: usize = 3;
    let lines = &comparison.lines;
    let differs: Vec<bool> = lines.iter().map(|line| line.side != Side::Both).collect();
    if !differs.contains(&true) {
        return format!("{} and {} are alike", comparison.left, comparison.right);
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
        text.push_str("nothing is wrong\n");
    }
    if !report.unpaired.is_empty() {
        let names = report.unpaired.join(", ");
        text.push_str(&format!("\nnot looked at, as nothing names an image for them: {names}\n"));
    }
    text.trim_end().into()
}
