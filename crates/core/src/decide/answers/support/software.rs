//! What settings ask for in software, security and scripts.

use Family::{Autoinstall, CloudConfig, Kickstart, Preseed, UnattendedXml};

use super::feature::{Feature, at};
use crate::{
    decide::answers::{Resolved, Source},
    model::{
        answers::{AtEnd, Firewall, Repository},
        image::Family,
    },
};

const NO_PACKAGES: (Family, &str) =
    (UnattendedXml, "Set-up installs no packages: fetch them in a first-boot script.");
const AS_IT_IS: (Family, &str) = (CloudConfig, "A live host is the image as it is: add packages.");
const NO_KEY: &str = "There is no key to give.";
const ONE_EDITION: (Family, &str) = (Preseed, "There is one edition, without a key: use packages and sets.");
const FROM_WHERE_IT_STARTED: (Family, &str) =
    (UnattendedXml, "Set-up installs from where it was started: leave source out.");
const NO_REPOSITORIES: (Family, &str) = (UnattendedXml, "There are no repositories: leave them out.");
const WITH_SUITE: &str = "Give the repository a suite, as those of Debian packages have.";
const NO_SELINUX: &str = "SELinux is not set up by this installer; do it in a last step.";
const NO_FIREWALL: (Family, &str) =
    (Preseed, "No firewall is set up by this installer; do it in a last step.");
const IN_THE_IMAGE: (Family, &str) = (CloudConfig, "Set it up in the image, or in a last step.");

/// Every repository that asks for something.
fn repositories(settings: &Resolved, asks: impl Fn(&Repository) -> bool) -> Vec<String> {
    let asking = settings.software.repositories.iter().filter(|(_, repository)| asks(repository));
    asking.map(|(name, _)| format!("software.repositories.{name}")).collect()
}

pub(super) const FEATURES: &[Feature] = &[
    Feature {
        name: "packages",
        asked: |settings| at("software.packages", !settings.software.packages().is_empty()),
        lacks: &[NO_PACKAGES],
    },
    Feature {
        name: "sets of packages",
        asked: |settings| at("software.sets", !settings.software.sets().is_empty()),
        lacks: &[AS_IT_IS, NO_PACKAGES],
    },
    Feature {
        name: "an edition or environment",
        asked: |settings| at("software.edition", settings.software.edition.is_some()),
        lacks: &[ONE_EDITION, AS_IT_IS],
    },
    Feature {
        name: "a product key",
        asked: |settings| at("software.product_key", settings.software.product_key.is_some()),
        lacks: &[ONE_EDITION, (Kickstart, NO_KEY), (Autoinstall, NO_KEY), AS_IT_IS],
    },
    Feature {
        name: "a mirror as source",
        asked: |settings| at("software.source", matches!(settings.source, Source::Mirror(_))),
        lacks: &[FROM_WHERE_IT_STARTED],
    },
    Feature {
        name: "the image itself as source",
        asked: |settings| at("software.source", matches!(settings.source, Source::Image(_))),
        lacks: &[
            (Preseed, "The netboot installer fetches packages from a mirror: give its URL."),
            (
                Autoinstall,
                "The installer takes its system from the image it runs from by itself: leave source out.",
            ),
            (CloudConfig, "A live host runs from its image by itself: leave source out."),
            FROM_WHERE_IT_STARTED,
        ],
    },
    Feature {
        name: "a source by HTTPS",
        asked: |settings| {
            let is_https = matches!(&settings.source, Source::Mirror(url) if url.starts_with("https:"));
            at("software.source", is_https)
        },
        lacks: &[
            (Preseed, "The installer has no certificates of its own; give an http:// URL."),
            FROM_WHERE_IT_STARTED,
        ],
    },
    Feature {
        name: "repositories of RPM packages",
        asked: |settings| repositories(settings, |repository| repository.suite.is_none()),
        lacks: &[
            (Preseed, "Give the repository a suite, as Debian's have."),
            (Autoinstall, WITH_SUITE),
            (CloudConfig, WITH_SUITE),
            NO_REPOSITORIES,
        ],
    },
    Feature {
        name: "repositories of Debian packages (with a suite)",
        asked: |settings| {
            repositories(settings, |repository| repository.suite.is_some() || repository.components.is_some())
        },
        lacks: &[
            (Kickstart, "A repository of RPM packages has neither suite nor components: leave them out."),
            NO_REPOSITORIES,
        ],
    },
    Feature {
        name: "kernel parameters of the installed system",
        asked: |settings| at("kernel_parameters", !settings.kernel_parameters.is_empty()),
        lacks: &[
            (
                CloudConfig,
                "A live host is started by the parameters of its image, its labels and its machine.",
            ),
            (UnattendedXml, "Its kernel takes none."),
        ],
    },
    Feature {
        name: "SELinux's policy",
        asked: |settings| at("security.mandatory_access", settings.security.mandatory_access.is_some()),
        lacks: &[
            (Preseed, NO_SELINUX),
            (Autoinstall, NO_SELINUX),
            IN_THE_IMAGE,
            (UnattendedXml, "There is no SELinux."),
        ],
    },
    Feature {
        name: "a firewall, on",
        asked: |settings| at("security.firewall", settings.security.firewall == Some(Firewall::On)),
        lacks: &[NO_FIREWALL, IN_THE_IMAGE],
    },
    Feature {
        name: "a firewall, off",
        asked: |settings| at("security.firewall", settings.security.firewall == Some(Firewall::Off)),
        lacks: &[NO_FIREWALL, IN_THE_IMAGE],
    },
    Feature {
        name: "switching off at the end",
        asked: |settings| at("at_end", settings.at_end == AtEnd::PowerOff),
        lacks: &[(
            CloudConfig,
            "A live host works on: leave at_end out, or switch it off in a first-boot script.",
        )],
    },
    Feature {
        name: "last steps",
        asked: |settings| at("last_steps", !settings.last_steps.is_empty()),
        lacks: &[],
    },
    Feature {
        name: "first-boot scripts",
        asked: |settings| at("first_boot", !settings.first_boot.is_empty()),
        lacks: &[],
    },
];
