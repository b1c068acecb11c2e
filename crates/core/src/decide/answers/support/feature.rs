//! One thing that settings may ask of a format, with all that is known of it.

use super::{accounts, network, software, storage};
use crate::{decide::answers::Resolved, model::image::Family};

/// Something that settings may ask of a format.
#[derive(Debug)]
pub struct Feature {
    /// What it is, as a person reads it.
    pub name: &'static str,
    /// The places of the settings of one machine that ask for it.
    pub(super) asked: fn(&Resolved) -> Vec<String>,
    /// The formats that cannot say it, each with what to do instead.
    pub(super) lacks: &'static [(Family, &'static str)],
}

impl Feature {
    /// Every feature, in the order of the settings.
    pub fn all() -> impl Iterator<Item = &'static Self> {
        [network::FEATURES, accounts::FEATURES, storage::FEATURES, software::FEATURES].into_iter().flatten()
    }

    /// Why a format cannot say it and what to do instead; `None` if it can.
    #[must_use]
    pub fn lacks(&self, family: Family) -> Option<&'static str> {
        self.lacks.iter().find(|(lacking, _)| *lacking == family).map(|(_, fix)| *fix)
    }
}

/// The place, if it asks for something.
pub(super) fn at(place: &str, asks: bool) -> Vec<String> {
    if asks { vec![place.into()] } else { Vec::new() }
}
