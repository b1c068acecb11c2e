//! `lastmile-agent`: the one program of the survey. As the first process it starts itself as the one that runs the machine, and looks
//! after whoever has lost its parent; called by a person it prints what it measures.

use std::io::{self, Write};

use lastmile_agent::{
    collect::{self, Tree},
    init,
};

fn main() -> io::Result<()> {
    if std::process::id() == 1 {
        init::farewell(&init::look_after());
        return Ok(());
    }
    // By nobody but the first process: it would mount over a system that somebody works on.
    let is_by_first = std::os::unix::process::parent_id() == 1;
    if is_by_first && std::env::args_os().nth(1).is_some_and(|word| word == init::RUN) {
        if let Err(error) = init::run() {
            init::farewell(&format!("it cannot run: {error}"));
        }
        return Ok(());
    }
    let facts = serde_json::to_string_pretty(&collect::facts(&Tree::machine()))?;
    writeln!(io::stdout(), "{facts}")
}
