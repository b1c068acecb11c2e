//! Labels as people enter them.

use serde::{Deserialize, Serialize};

use crate::{
    base::{Fault, Faults, name},
    decide::references::{check_armed, check_menu, check_parameters},
    model::{
        label::{Label, USUAL_RANK},
        parameter::Said,
    },
    site::Site,
};

/// What machines of one label have in common, as a person enters it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct LabelDraft {
    /// Of several labels of one machine, what the one of the highest rank says is used; of equal ranks, the last by name.
    pub rank: i32,
    /// Kernel parameters of its machines.
    pub parameters: Vec<String>,
    /// Keys of kernel parameters of earlier levels that its machines do without, as in `quiet`.
    pub without_parameters: Vec<String>,
    /// The menu its machines are shown when their default boot is `menu`.
    pub menu: Option<String>,
    /// The image that its machines are armed with where nobody names another.
    pub image: Option<String>,
    /// The answers that they are armed with where nobody names others.
    pub answers: Option<String>,
}

impl Default for LabelDraft {
    fn default() -> Self {
        Self {
            rank: USUAL_RANK,
            parameters: Vec::new(),
            without_parameters: Vec::new(),
            menu: None,
            image: None,
            answers: None,
        }
    }
}

impl From<&Label> for LabelDraft {
    fn from(label: &Label) -> Self {
        Self {
            rank: label.rank,
            parameters: label.parameters.clone(),
            without_parameters: label.without_parameters.clone(),
            menu: label.menu.clone(),
            image: label.image.clone(),
            answers: label.answers.clone(),
        }
    }
}

impl LabelDraft {
    /// Checks the draft.
    ///
    /// # Errors
    /// Everything that is wrong, in the order of the fields.
    pub fn check(&self, name: &str, site: &Site) -> Result<Label, Vec<Fault>> {
        let mut faults = Faults::new();
        faults.keep("name", name::check_thing_name(name), name::THING_NAME_FIX);
        let said = Said { words: &self.parameters, without: &self.without_parameters };
        check_parameters(&mut faults, "", said);
        check_menu(&mut faults, self.menu.as_deref(), site);
        check_armed(&mut faults, self.image.as_deref(), self.answers.as_deref(), site);
        faults.into_result(|| {
            Some(Label {
                name: name.into(),
                rank: self.rank,
                parameters: self.parameters.clone(),
                without_parameters: self.without_parameters.clone(),
                menu: self.menu.clone(),
                image: self.image.clone(),
                answers: self.answers.clone(),
            })
        })
    }
}
