//! The survey: its system, and what it measured.

use axum::extract::State;
use lastmile_api::{ImageDetail, ImageKind, KernelSource, Problem, RevisionDraft, SurveyBuild};
use lastmile_core::{
    base::Fault,
    decide::survey::system::{INITRD, KERNEL, default_name, parameters},
};

use super::{
    Admin,
    edition::Edited,
    images,
    reject::{Json, Reject},
};
use crate::{
    records,
    survey::{self, BuildError, Built},
};

/// Makes the system that machines are surveyed by, and imports it as an image's next revision. It takes half a minute, and is
/// finished also if nobody waits for it.
#[utoipa::path(
    post, operation_id = "survey_build", path = "/survey/system", tag = "survey", request_body = SurveyBuild,
    responses((status = 201, body = ImageDetail), (status = 409, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn build(
    State(admin): State<Admin>,
    Json(asked): Json<SurveyBuild>,
) -> Result<Edited<ImageDetail>, Reject> {
    let Ok(alone) = admin.app.work.building.clone().try_lock_owned() else {
        return Err(Reject::conflict("the survey's system is being made already. Wait for its end"));
    };
    let work = async move {
        let app = &admin.app;
        let (library, work, wanted) = (app.library.clone(), app.work.clone(), asked.clone());
        let built = tokio::task::spawn_blocking(move || survey::build(&library, &work, &wanted)).await;
        let built = built?.map_err(|error| reject(&error, &asked))?;
        drop(alone);
        let notes = built.notes.clone();
        images::import(app, draft(&asked, built), notes).await
    };
    records::to_the_end(work).await?
}

fn draft(asked: &SurveyBuild, built: Built) -> RevisionDraft {
    RevisionDraft {
        name: asked.name.clone().unwrap_or_else(|| default_name(built.cpu).into()),
        title: Some(format!("Survey, Linux {}", built.release)),
        kind: Some(ImageKind::Survey),
        files: built.files,
        kernel: Some(KERNEL.into()),
        initrds: Some(vec![INITRD.into()]),
        cpu: Some(built.cpu),
        parameters: Some(parameters(built.cpu)),
        ..RevisionDraft::default()
    }
}

fn reject(error: &BuildError, asked: &SurveyBuild) -> Reject {
    let (place, fix) = match error {
        BuildError::Missing { .. } => ("kernel", "Upload the content first, then name it here."),
        BuildError::NoKernel { .. } => ("kernel", "Name a Linux kernel as distributions package it."),
        BuildError::NoPackage { .. } => ("kernel", "Name Debian packages: of a kernel, and any of firmware."),
        BuildError::NotOnHost { .. } => (
            "kernel",
            "Give a kernel's package with --package, or a kernel and its modules with --kernel and --modules.",
        ),
        BuildError::LacksKernel => {
            ("kernel", "Give the kernel's own package, as linux-image-6.1.0-57-amd64.")
        }
        BuildError::SeveralKernels(_) => ("kernel", "Give the package of one kernel."),
        BuildError::LacksModules { .. } => ("kernel", "Give the kernel and the modules of one version."),
        BuildError::NoAgent(_) => {
            ("kernel", "Use a package of the service that has it; from source, run make agents.")
        }
        BuildError::Outside { .. } => ("add", "Leave it out: files are put below the system's root."),
        BuildError::Io(error) if error.kind() == std::io::ErrorKind::StorageFull => {
            ("files", "Free space on the disk that the service's data folder is on.")
        }
        BuildError::Io(_) => match asked.kernel {
            KernelSource::Host => {
                ("kernel", "Look whether the service's user may read /boot and /lib/modules.")
            }
            _ => ("kernel", "Look whether the files are whole."),
        },
    };
    vec![Fault { place: place.into(), what: error.to_string(), fix: fix.into() }].into()
}
