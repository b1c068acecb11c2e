//! Checks of names that several drafts refer to.

use crate::{base::Faults, site::Site};

/// Checks kernel parameters that stand in the field `parameters`.
pub(crate) fn check_parameters(faults: &mut Faults, words: &[String]) {
    for (index, word) in words.iter().enumerate() {
        if let Err(fault) = crate::model::parameter::check_parameter(word) {
            faults.add(format!("parameters[{index}]"), fault.what, fault.fix);
        }
    }
}

/// Checks a menu's name that stands in the field `menu`.
pub(crate) fn check_menu(faults: &mut Faults, menu: Option<&str>, site: &Site) {
    if let Some(menu) = menu.filter(|menu| site.menu(menu).is_none()) {
        faults.add(
            "menu",
            format!("no menu is named '{menu}'"),
            "Save it first, or see `lastmile menu list`.",
        );
    }
}
