//! Checks of names that several drafts refer to.

use crate::{
    base::{Fault, Faults},
    model::parameter::{Said, check_parameter, check_removed},
    site::Site,
};

/// Checks what one level says of kernel parameters, in the fields `parameters` and `without_parameters` below `place`.
pub(crate) fn check_parameters(faults: &mut Faults, place: &str, said: Said<'_>) {
    let dot = if place.is_empty() { "" } else { "." };
    let mut check = |field: &str, all: &[String], check: fn(&str) -> Result<(), Fault>| {
        for (index, text) in all.iter().enumerate() {
            if let Err(fault) = check(text) {
                faults.add(format!("{place}{dot}{field}[{index}]"), fault.what, fault.fix);
            }
        }
    };
    check("parameters", said.words, check_parameter);
    check("without_parameters", said.without, check_removed);
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

/// Checks names of what machines are armed with, in the fields `image` and `answers`.
pub(crate) fn check_armed(faults: &mut Faults, image: Option<&str>, answers: Option<&str>, site: &Site) {
    match image.map(|name| (name, site.image(name))) {
        Some((name, None)) => faults.add(
            "image",
            format!("no image is named '{name}'"),
            "Import it first, or see `lastmile image list`.",
        ),
        Some((name, Some(image))) if !image.reads_answers() => faults.add(
            "image",
            format!("image '{name}' reads no answers, so nothing is armed with it"),
            "Name an installer, or a live image that reads answers.",
        ),
        _ => {}
    }
    if let Some(name) = answers.filter(|name| site.answers(name).is_none()) {
        faults.add(
            "answers",
            format!("no answers are named '{name}'"),
            "Add them first, or see `lastmile answers list`.",
        );
    }
}
