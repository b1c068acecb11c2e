//! A thing as TOML in the person's editor.

use std::path::PathBuf;

use lastmile_client::ClientError;
use serde::{Serialize, de::DeserializeOwned};

use crate::commands::toml_file;
use crate::output::Failure;

/// What a person wrote, in a file that stays if it cannot be saved.
pub(super) struct Session {
    text: String,
    path: PathBuf,
}

/// Opens the editor; `None` if the person changed nothing.
///
/// # Errors
/// That no editor can be started, or the file cannot be written.
pub(super) fn open<T: Serialize>(noun: &str, name: &str, draft: &T) -> Result<Option<Session>, Failure> {
    let before = head(noun, name, draft) + &toml_file::text(draft);
    let prefix = format!("lastmile-{noun}-");
    let file = tempfile::Builder::new().prefix(&prefix).suffix(".toml").tempfile()?;
    std::fs::write(file.path(), &before)?;
    edit::edit_file(file.path()).map_err(|error| Failure::Input {
        place: "$EDITOR".into(),
        what: error.to_string(),
        fix: "Name your editor in EDITOR or VISUAL, as in EDITOR=nano.",
    })?;
    let text = std::fs::read_to_string(file.path())?;
    if text == before || text.trim().is_empty() {
        return Ok(None);
    }
    // From here on it is the person's work: it goes only once it is saved.
    let (_, path) = file.keep().map_err(|error| Failure::Io(error.error))?;
    Ok(Some(Session { text, path }))
}

/// What stands above the values: how to go on, and which fields are empty.
fn head<T: Serialize>(noun: &str, name: &str, draft: &T) -> String {
    let tree = serde_json::to_value(draft).unwrap_or_default();
    let fields = tree.as_object().into_iter().flatten();
    let empty: Vec<&str> = fields.filter(|(_, value)| value.is_null()).map(|(key, _)| key.as_str()).collect();
    let mut head =
        format!("# {noun} {name}. Save and close to apply it; leave it as it is to change nothing.\n");
    if !empty.is_empty() {
        head.push_str(&format!("# Not set: {}\n", empty.join(", ")));
    }
    head + "\n"
}

impl Session {
    /// What the person wrote.
    ///
    /// # Errors
    /// That it cannot be read; the file stays, and is named.
    pub(super) fn draft<T: DeserializeOwned>(&self, fix: &'static str) -> Result<T, Failure> {
        toml::from_str(&self.text).map_err(|error| {
            self.keep(Failure::Input { place: self.path.display().to_string(), what: error.to_string(), fix })
        })
    }

    /// Leaves the file where it is, and says so beside why it could not be saved.
    pub(super) fn keep(&self, why: Failure) -> Failure {
        let is_conflict =
            matches!(&why, Failure::Client(ClientError::Problem(problem)) if problem.status == 412);
        let next = if is_conflict {
            "Open it again and put your changes in."
        } else {
            "Correct it there and save it with `change --from`."
        };
        Failure::Kept { why: Box::new(why), path: self.path.clone(), next }
    }

    /// Removes the file: what it says is saved.
    pub(super) fn discard(self) {
        // One that stays is in nobody's way.
        let _ = std::fs::remove_file(&self.path);
    }
}
