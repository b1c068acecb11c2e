//! Changing what others may change at the same time.

use std::path::Path;

use lastmile_client::{Client, ClientError, Edited};
use serde::{Serialize, de::DeserializeOwned};

use crate::output::{Failure, Output};

/// How often a change is made anew because somebody else saved meanwhile.
const TRIES: usize = 100;
/// How the first line of a written file begins that says which saved form it is.
const MARK: &str = "# edition ";

/// Changes something as it is now: reads it, and saves what `change` makes of it. If somebody else saves meanwhile, it is read
/// and changed anew, so that nothing is written that was not named.
pub(super) async fn change<T, R>(
    client: &Client,
    read: impl AsyncFn() -> Result<Edited<T>, ClientError>,
    change: impl AsyncFn(&Client, T) -> Result<R, Failure>,
) -> Result<R, Failure> {
    let mut tries = 0;
    loop {
        let now = read().await?;
        tries += 1;
        match change(&client.based_on(now.etag.as_deref()), now.value).await {
            Err(Failure::Client(ClientError::Problem(problem))) if problem.status == 412 && tries < TRIES => {
            }
            done => return done,
        }
    }
}

/// A file that a person wrote, or changed after `show` had written it.
pub(super) struct Written<T> {
    pub(super) value: T,
    /// The saved form that it was made from, if it says so.
    pub(super) etag: Option<String>,
}

/// Reads a TOML file; `fix` says where an example of one is to be had. `-` is standard input.
pub(super) fn read_toml<T: DeserializeOwned>(path: &Path, fix: &'static str) -> Result<Written<T>, Failure> {
    let wrong = |what: String| Failure::Input { place: path.display().to_string(), what, fix };
    let read = if path.as_os_str() == "-" {
        std::io::read_to_string(std::io::stdin())
    } else {
        std::fs::read_to_string(path)
    };
    let text = read.map_err(|error| wrong(error.to_string()))?;
    let etag = text.lines().find_map(|line| {
        let number = line.strip_prefix(MARK)?.split(|c: char| !c.is_ascii_digit()).next()?;
        (!number.is_empty()).then(|| format!("\"{number}\""))
    });
    Ok(Written { value: toml::from_str(&text).map_err(|error| wrong(error.to_string()))?, etag })
}

/// Shows a thing as the file that `save --from` reads; its first line says which saved form it is.
pub(super) fn show<T: Serialize>(out: &Output, edited: &Edited<T>, text: impl FnOnce(&T) -> String) {
    out.show(edited, |edited| {
        let number = edited.etag.as_deref().map(|etag| etag.trim_matches('"'));
        let mark = number.map(|number| {
            format!("{MARK}{number}: a file with this line is not saved over a later one; take it out to save it all the same\n")
        });
        mark.unwrap_or_default() + &text(&edited.value)
    });
}
