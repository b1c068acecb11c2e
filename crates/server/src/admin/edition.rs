//! Which saved form a caller has in front of them, so that nobody's change is lost by another's (RFC 9110, section 13.1.1).

use axum::{
    extract::FromRequestParts,
    http::{HeaderValue, StatusCode, header, request::Parts},
    response::{IntoResponse, Response},
};
use lastmile_api::{differences, parse_etag};
use lastmile_core::site::{Edition, Entity, Site};
use serde::Serialize;

use super::reject::{Json, Reject};

/// The editions that a caller names in `If-Match`; none if the header is not there, or is `*`. With `If-None-Match: *`, nothing
/// may be there yet.
#[derive(Debug, Clone)]
pub(super) struct Base {
    editions: Option<Vec<Edition>>,
    is_new: bool,
}

impl<S: Send + Sync> FromRequestParts<S> for Base {
    type Rejection = Reject;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Reject> {
        let is_new = parts.headers.get(header::IF_NONE_MATCH).is_some_and(|value| value == "*");
        let any = Self { editions: None, is_new };
        let Some(value) = parts.headers.get(header::IF_MATCH) else { return Ok(any) };
        let unreadable = || {
            let said = "If-Match names an ETag that this service gave, as in \"17\", or is *";
            Reject::new(StatusCode::BAD_REQUEST, "A header cannot be read", said)
        };
        let text = value.to_str().map_err(|_| unreadable())?.trim();
        if text == "*" {
            return Ok(any);
        }
        let editions: Option<Vec<Edition>> = text.split(',').map(|tag| parse_etag(tag.trim())).collect();
        Ok(Self { editions: Some(editions.ok_or_else(unreadable)?), ..any })
    }
}

impl Base {
    /// That the caller has seen `entity` as it is now. `current` is what is saved and `yours` what the caller wants saved, in
    /// the form in which it is entered.
    ///
    /// # Errors
    /// 412 with the differences, if somebody has changed it since.
    pub(super) fn check<Saved: Serialize, Wanted: Serialize>(
        &self,
        site: &Site,
        entity: &Entity,
        current: impl FnOnce() -> Saved,
        yours: Option<&Wanted>,
    ) -> Result<(), Reject> {
        let now = site.edition(entity);
        match &self.editions {
            Some(editions) if !editions.contains(&now) => {}
            _ => return Ok(()),
        }
        let current = serde_json::to_value(current()).unwrap_or_default();
        let yours = yours.and_then(|yours| serde_json::to_value(yours).ok());
        let differences = yours.map(|yours| differences(&yours, &current)).unwrap_or_default();
        Err(Reject::outdated(now, differences))
    }

    /// That nothing is there yet, if the caller means to add it.
    ///
    /// # Errors
    /// 409, if it is there.
    pub(super) fn check_new(&self, is_there: bool, kind: &str, name: &str) -> Result<(), Reject> {
        if self.is_new && is_there {
            return Err(Reject::conflict(format!(
                "{kind} '{name}' exists already. Choose another name, or change it"
            )));
        }
        Ok(())
    }

    /// The same for a removal.
    ///
    /// # Errors
    /// 412, if somebody has changed it since.
    pub(super) fn check_removal(&self, site: &Site, entity: &Entity) -> Result<(), Reject> {
        self.check(site, entity, || (), None::<&()>)
    }
}

/// An answer with the edition of what it shows.
#[derive(Debug)]
pub(super) struct Edited<T> {
    value: T,
    edition: Edition,
    status: StatusCode,
}

impl<T> Edited<T> {
    /// With the edition that `entity` has in the snapshot that `value` was read from.
    pub(super) fn new(site: &Site, entity: &Entity, value: T) -> Self {
        Self { value, edition: site.edition(entity), status: StatusCode::OK }
    }

    /// As the answer to a call that made it.
    pub(super) fn created(self) -> Self {
        Self { status: StatusCode::CREATED, ..self }
    }
}

impl<T: Serialize> IntoResponse for Edited<T> {
    fn into_response(self) -> Response {
        let mut response = (self.status, Json(self.value)).into_response();
        if let Ok(tag) = HeaderValue::from_str(&lastmile_api::etag(self.edition)) {
            response.headers_mut().insert(header::ETAG, tag);
        }
        response
    }
}
