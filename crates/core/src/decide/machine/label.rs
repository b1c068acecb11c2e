//! Labels as people enter them.

use serde::{Deserialize, Serialize};

use crate::{
    base::{Fault, Faults, name},
    decide::references::{check_menu, check_parameters},
    model::label::Label,
    site::Site,
};

/// What machines of one label have in common, as a person enters it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct LabelDraft {
    /// Kernel parameters of its machines.
    pub parameters: Vec<String>,
    /// The menu its machines are shown when their standing is `menu`.
    pub menu: Option<String>,
}

impl LabelDraft {
    /// Checks the draft.
    ///
    /// # Errors
    /// Everything that is wrong, in the order of the fields.
    pub fn check(&self, name: &str, site: &Site) -> Result<Label, Vec<Fault>> {
        let mut faults = Faults::new();
        faults.keep("name", name::check_thing_name(name), name::THING_NAME_FIX);
        check_parameters(&mut faults, &self.parameters);
        check_menu(&mut faults, self.menu.as_deref(), site);
        faults.into_result(|| {
            Some(Label { name: name.into(), parameters: self.parameters.clone(), menu: self.menu.clone() })
        })
    }
}
