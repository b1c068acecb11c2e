//! What calls name: found, held against what the caller has seen of it, and changed or removed, the same way for each kind.

use std::sync::Arc;

use axum::http::StatusCode;
use lastmile_core::site::{Entity, Site};
use lastmile_store::Change;
use serde::Serialize;

use super::{
    Admin,
    edition::{Base, Edited},
    reject::Reject,
};

/// A kind of entity that calls name.
pub(super) trait Named: Send + Sync + Sized + 'static {
    /// Finds the one of that name.
    ///
    /// # Errors
    /// 404, if there is none.
    fn find<'a>(site: &'a Site, name: &str) -> Result<&'a Arc<Self>, Reject>;

    /// What its editions are counted under.
    fn entity(&self) -> Entity;
}

/// Shows the one of that name, with the edition it has.
///
/// # Errors
/// 404, if there is none.
pub(super) fn read<T: Named, View>(
    admin: &Admin,
    name: &str,
    view: impl FnOnce(&Site, &Arc<T>) -> View,
) -> Result<Edited<View>, Reject> {
    let site = admin.app.records.site();
    let one = T::find(&site, name)?;
    Ok(Edited::new(&site, &one.entity(), view(&site, one)))
}

/// Changes the one of that name. `entered` gives it in the form of `wanted`, so that a caller who has seen an older one is
/// told what has changed.
///
/// # Errors
/// 404, 412, or what `save` gives; then nothing has changed.
pub(super) async fn change<T: Named, Draft: Serialize + Send + 'static, Done: Send + 'static>(
    admin: &Admin,
    name: String,
    base: Base,
    wanted: Draft,
    entered: impl FnOnce(&Site, &T) -> Draft + Send + 'static,
    save: impl FnOnce(&mut Change<'_>, Arc<T>, Draft) -> Result<Done, Reject> + Send + 'static,
) -> Result<Done, Reject> {
    let change = move |change: &mut Change<'_>| {
        let site = change.site();
        let one = T::find(site, &name)?.clone();
        base.check(site, &one.entity(), || entered(site, &one), Some(&wanted))?;
        save(change, one, wanted)
    };
    admin.app.records.change(change).await
}

/// Removes the one of that name.
///
/// # Errors
/// 404, 412, or what `remove` gives; then nothing has changed.
pub(super) async fn remove<T: Named>(
    admin: &Admin,
    name: String,
    base: Base,
    remove: impl FnOnce(&mut Change<'_>, Arc<T>) -> Result<(), Reject> + Send + 'static,
) -> Result<StatusCode, Reject> {
    let remove = move |change: &mut Change<'_>| {
        let one = T::find(change.site(), &name)?.clone();
        base.check_removal(change.site(), &one.entity())?;
        remove(change, one)
    };
    admin.app.records.change(remove).await?;
    Ok(StatusCode::NO_CONTENT)
}
