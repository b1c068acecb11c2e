//! What was learned of how long installs take.

use std::{
    collections::{BTreeSet, HashMap},
    sync::Mutex,
};

use jiff::Timestamp;
use lastmile_core::{
    decide::install::{Pace, Progress},
    model::install::{Install, InstallState},
};
use lastmile_store::StoreError;

use super::Records;
use crate::sync::lock;

/// How installs of each image usually go, by the image's name.
#[derive(Debug, Default)]
pub(crate) struct Paces {
    learned: Mutex<HashMap<String, Pace>>,
    /// Images of which an install has ended since.
    stale: Mutex<BTreeSet<String>>,
}

impl Paces {
    /// How far an install is.
    pub(crate) fn progress(&self, install: &Install, now: Timestamp) -> Option<Progress> {
        if !install.state.is_open() {
            return None;
        }
        lock(&self.learned).get(&install.image)?.progress(install, now)
    }

    /// That there is more to learn from.
    pub(crate) fn ended(&self, install: &Install) {
        if install.state == InstallState::Installed {
            self.forget(&install.image);
        }
    }

    /// That what is known of an image is to be learned anew.
    fn forget(&self, image: &str) {
        lock(&self.stale).insert(image.into());
    }
}

impl Records {
    /// Learns from every image's installs, at the start.
    pub(crate) fn learn_all(&self) {
        for image in self.site().images() {
            self.paces.forget(&image.name);
        }
    }

    /// Learns from the installs that ended since.
    ///
    /// # Errors
    /// What the store refused.
    pub(crate) async fn learn(&self) -> Result<(), StoreError> {
        let stale = std::mem::take(&mut *lock(&self.paces.stale));
        for image in stale {
            let asked = image.clone();
            let past = self.store.read(move |tx| tx.past(&asked)).await?;
            if let Some(pace) = Pace::learn(&past) {
                lock(&self.paces.learned).insert(image, pace);
            }
        }
        Ok(())
    }
}
