//! The command reference, made from the commands themselves.

use clap::Command;

use crate::output::Output;

/// Writes every command with its help as Markdown.
pub(crate) fn print(root: &mut Command, out: &Output) {
    root.build();
    out.line("# Commands\n\nMade by `make reference` from the commands' own help.\n");
    section(root, out);
}

fn section(command: &mut Command, out: &Output) {
    let name = command.get_bin_name().unwrap_or_else(|| command.get_name()).to_owned();
    let help = command.clone().term_width(100).render_long_help().to_string();
    let trimmed: Vec<&str> = help.lines().map(str::trim_end).collect();
    out.line(&format!("## `{name}`\n\n```\n{}\n```\n", trimmed.join("\n").trim_end()));
    for inner in command.get_subcommands_mut() {
        if !inner.is_hide_set() && inner.get_name() != "help" {
            section(inner, out);
        }
    }
}
