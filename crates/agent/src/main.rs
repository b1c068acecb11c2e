//! `lastmile-agent`: the one program of the survey. As the first process it runs the machine; called by a person it prints what it
//! measures.

use std::io::{self, Write};

use lastmile_agent::{
    collect::{self, Tree},
    init,
};

fn main() -> io::Result<()> {
    if std::process::id() == 1 {
        if let Err(error) = init::run() {
            init::farewell(&error);
        }
        return Ok(());
    }
    let facts = serde_json::to_string_pretty(&collect::facts(&Tree::machine()))?;
    writeln!(io::stdout(), "{facts}")
}
