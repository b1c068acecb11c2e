//! The screen as a loader shows it on a text console: for whoever is not at the machine.

use crate::{
    decide::boot::{Line, LineAction, Screen},
    model::loader::Language,
};

/// Columns of a text console.
const WIDTH: usize = 80;
/// Rows of a box before it scrolls.
const MOST_ROWS: usize = 18;

/// One screen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Drawn {
    /// Key of the line that opens it; empty for the first.
    pub key: String,
    /// Its rows, each at most 80 columns wide.
    pub rows: Vec<String>,
    /// Which row stands for the line that is chosen first.
    pub chosen: Option<usize>,
}

/// Draws a screen and those that its lines open.
#[must_use]
pub fn draw(screen: &Screen, language: Language) -> Vec<Drawn> {
    let title = match (screen.title.as_str(), language) {
        ("", Language::Pxelinux | Language::Script) => "Last Mile",
        (title, _) => title,
    };
    let mut all = vec![one(screen, language, "", title, &screen.lines)];
    for line in screen.all_lines() {
        if let LineAction::Lines(inner) = &line.action {
            all.push(one(screen, language, &line.key, &line.title, inner));
        }
    }
    all
}

fn one(screen: &Screen, language: Language, key: &str, title: &str, lines: &[Line]) -> Drawn {
    let first = key.is_empty();
    let default = screen.default_line().filter(|_| first).map(|line| line.key.as_str());
    let mut shown: Vec<(String, bool)> =
        lines.iter().map(|line| (label(line, language), Some(line.key.as_str()) == default)).collect();
    match language {
        // GRUB has no title of its own: a line stands in for it.
        Language::Grub if first && !title.is_empty() => shown.insert(0, (format!("-- {title} --"), false)),
        Language::Pxelinux | Language::Script if !first => shown.push(("Back".into(), false)),
        _ => {}
    }
    if !shown.iter().any(|(_, chosen)| *chosen)
        && let Some((_, chosen)) = shown.first_mut()
    {
        *chosen = true;
    }
    let (mut rows, chosen) = match language {
        Language::Grub => boxed(&heading("GNU GRUB  version 2.06"), &shown, "*"),
        Language::Pxelinux => boxed(&titled(title), &shown, " "),
        Language::Script => listed(title, &shown),
    };
    if first && screen.silent {
        let hint = match language {
            Language::Grub => "(hidden: Esc shows this)",
            Language::Pxelinux => "(hidden: any key shows this)",
            Language::Script => "(hidden: \"Press any key for the menu.\")",
        };
        rows.insert(0, hint.into());
    }
    let chosen = chosen.map(|row| row + usize::from(first && screen.silent));
    rows.extend(footer(screen, language, first));
    Drawn { key: key.into(), rows, chosen }
}

fn label(line: &Line, language: Language) -> String {
    match (&line.guard, language) {
        (Some(_), Language::Grub) => format!("{}  (name: {})", line.title, line.key),
        _ => line.title.clone(),
    }
}

fn heading(text: &str) -> Vec<String> {
    vec![centred(text), String::new()]
}

fn titled(title: &str) -> Vec<String> {
    let inner = WIDTH - 4;
    vec![format!(" +{}+", "-".repeat(inner)), format!(" |{:^inner$}|", cut(title, inner))]
}

fn centred(text: &str) -> String {
    format!("{:^WIDTH$}", cut(text, WIDTH)).trim_end().to_owned()
}

/// Lines in a box, the chosen one marked.
fn boxed(head: &[String], lines: &[(String, bool)], mark: &str) -> (Vec<String>, Option<usize>) {
    let inner = WIDTH - 4;
    let mut rows = head.to_vec();
    let (left, right) =
        if head.iter().any(|row| row.contains('┌')) { ('├', '┤') } else { ('┌', '┐') };
    rows.push(format!(" {left}{}{right}", "─".repeat(inner)));
    let mut chosen_row = None;
    for (title, chosen) in lines.iter().take(MOST_ROWS) {
        if *chosen {
            chosen_row = Some(rows.len());
        }
        let mark = if *chosen { mark } else { " " };
        rows.push(format!(" │{mark}{:<width$}│", cut(title, inner - 1), width = inner - 1));
    }
    if lines.len() > MOST_ROWS {
        rows.push(format!(
            " | ... {:<width$}|",
            format!("{} more below", lines.len() - MOST_ROWS),
            width = inner - 5
        ));
    }
    rows.push(format!(" └{}┘", "─".repeat(inner)));
    (rows, chosen_row)
}

/// Lines below a title, without a box.
fn listed(title: &str, lines: &[(String, bool)]) -> (Vec<String>, Option<usize>) {
    let mut rows = vec![centred(title), String::new()];
    let mut chosen_row = None;
    for (title, chosen) in lines {
        if *chosen {
            chosen_row = Some(rows.len());
        }
        rows.push(format!("    {}", cut(title, WIDTH - 8)));
    }
    (rows, chosen_row)
}

fn footer(screen: &Screen, language: Language, first: bool) -> Vec<String> {
    let secs = screen.timeout.filter(|_| first).map(|timeout| timeout.as_secs());
    let mut rows = vec![String::new()];
    match language {
        Language::Grub => {
            rows.push("      Use the arrow keys to select which entry is highlighted.".into());
            let keys = "      Press enter to boot the selected OS, `e' to edit the commands\n      before booting or `c' for a command-line.";
            rows.extend(keys.lines().map(str::to_owned));
            rows.extend(
                secs.map(|secs| {
                    format!("   The highlighted entry will be executed automatically in {secs}s.")
                }),
            );
        }
        Language::Pxelinux => {
            rows.push(centred("Press [Enter] to start the chosen line"));
            rows.extend(secs.map(|secs| centred(&format!("Automatic boot in {secs} seconds..."))));
        }
        Language::Script => rows.extend(secs.map(|secs| format!("{:>WIDTH$}", format!("({secs} s)")))),
    }
    rows
}

fn cut(text: &str, width: usize) -> String {
    text.chars().map(|c| if c.is_control() { ' ' } else { c }).take(width).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::decide::boot::screens::{hostile, sample};

    #[test]
    fn screens_are_drawn_with_the_chosen_line() {
        let mut screen = sample();
        screen.title = "Gannet Sound Ferries".into();
        screen.default = "local-disk".into();
        let drawn = draw(&screen, Language::Grub);
        assert_eq!(
            drawn[0].rows[drawn[0].chosen.unwrap()].trim_end_matches(['│', ' ']),
            " │*Start from the local disk"
        );
        assert_eq!(
            drawn[0].rows.last().unwrap(),
            "   The highlighted entry will be executed automatically in 5s."
        );
        let drawn = draw(&hostile(), Language::Pxelinux);
        assert_eq!(drawn.len(), 2, "a screen of its own for what opens further lines");
        assert!(
            drawn
                .iter()
                .flat_map(|drawn| &drawn.rows)
                .all(|row| row.chars().count() <= WIDTH && !row.contains('\n'))
        );
        assert!(drawn[1].rows.iter().any(|row| row.contains("Back")));
    }
}
