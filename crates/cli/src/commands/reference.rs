//! The command reference, made from the commands themselves.

use clap::Command;

use crate::output::{EXIT_CODES, Output};

/// Writes every command with its help as Markdown. Options that all commands have are written once.
pub(crate) fn print(root: &mut Command, out: &Output) {
    root.build();
    out.line("# Commands\n\nMade by `make reference` from the commands' own help.\n");
    let root_help = help(root);
    out.line(&format!("## `lastmile`\n\n```\n{root_help}\n```\n"));
    out.line("## Exit codes\n\n| code | meaning |\n|---|---|");
    for (code, meaning) in EXIT_CODES {
        out.line(&format!("| {code} | {meaning} |"));
    }
    out.line("");
    let globals: Vec<String> = root
        .get_arguments()
        .filter(|argument| argument.is_global_set())
        .map(|argument| argument.get_id().to_string())
        .collect();
    for command in root.get_subcommands_mut() {
        section(command, &globals, out);
    }
}

fn section(command: &Command, globals: &[String], out: &Output) {
    if command.is_hide_set() || command.get_name() == "help" {
        return;
    }
    let name = command.get_bin_name().unwrap_or_else(|| command.get_name()).to_owned();
    let own = command.clone().mut_args(|argument| {
        let is_everywhere = argument.get_id() == "help"
            || argument.get_id() == "version"
            || globals.iter().any(|global| argument.get_id() == global.as_str());
        argument.hide(is_everywhere)
    });
    out.line(&format!("## `{name}`\n\n```\n{}\n```\n", help(&own)));
    for inner in command.get_subcommands() {
        section(inner, globals, out);
    }
}

fn help(command: &Command) -> String {
    let help = command.clone().term_width(100).render_long_help().to_string();
    let lines: Vec<&str> = help.lines().map(str::trim_end).collect();
    lines.join("\n").trim_end().to_owned()
}
