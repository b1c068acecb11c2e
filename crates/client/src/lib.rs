//! The typed client over the admin API: for the command line, rehearsals and tests.

mod calls;
mod edited;
mod error;
mod shell;
mod upload;

pub use edited::Edited;
pub use error::ClientError;
use eventsource_stream::Eventsource;
use futures_util::{Stream, StreamExt};
use reqwest::{
    Method, RequestBuilder, Response,
    header::{ETAG, IF_MATCH, IF_NONE_MATCH},
};
use serde::de::DeserializeOwned;
pub use shell::{Heard, Shell};
pub use upload::{UploadProgress, digest_file};

/// Where the API is if nobody says otherwise.
pub const DEFAULT_SERVER: &str = "http://127.0.0.1:8480";

/// A connection to one service.
#[derive(Debug, Clone)]
pub struct Client {
    http: reqwest::Client,
    server: String,
    user: String,
    /// The saved form that changes are based on.
    base: Option<String>,
    /// Whether changes are only tried.
    is_trying: bool,
    /// Whether what is saved must not be there yet.
    is_new: bool,
}

impl Client {
    /// A client of the service at `server` (`http://host:port`), calling as `user`.
    ///
    /// # Errors
    /// [`ClientError::Address`] if `server` is no URL.
    pub fn new(server: &str, user: &str) -> Result<Self, ClientError> {
        let server = server.trim_end_matches('/').to_owned();
        let address = |reason: String| ClientError::Address { server: server.clone(), reason };
        let url = reqwest::Url::parse(&server).map_err(|error| address(error.to_string()))?;
        if url.scheme() != "http" {
            return Err(address("it does not begin with http://".into()));
        }
        // A proxy of the environment never leads to a service on this host.
        let http =
            reqwest::Client::builder().no_proxy().build().map_err(|error| address(error.to_string()))?;
        Ok(Self { http, server, user: user.to_owned(), base: None, is_trying: false, is_new: false })
    }

    /// The service's address as it was given.
    #[must_use]
    pub fn server(&self) -> &str {
        &self.server
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        let url = format!("{}{}{path}", self.server, lastmile_api::BASE);
        let mut request = self.http.request(method, url).header("lastmile-user", &self.user);
        if self.is_trying {
            request = request.header(lastmile_api::DRY_RUN, "true");
        }
        if self.is_new {
            request = request.header(IF_NONE_MATCH, "*");
        }
        match &self.base {
            Some(etag) => request.header(IF_MATCH, etag),
            None => request,
        }
    }

    async fn send(&self, request: RequestBuilder) -> Result<Response, ClientError> {
        let response = request.send().await.map_err(|source| self.unreachable(source))?;
        let status = response.status();
        if status.is_success() {
            return Ok(response);
        }
        let body = response.bytes().await.map_err(|source| self.unreachable(source))?;
        Err(match serde_json::from_slice(&body) {
            Ok(problem) => ClientError::Problem(problem),
            Err(_) => ClientError::NotOurs { server: self.server.clone(), status },
        })
    }

    /// The same client for a change of what was read as `etag`: the service refuses it with status 412 if somebody has changed
    /// that since. Without an ETag nothing is held against it.
    #[must_use]
    pub fn based_on(&self, etag: Option<&str>) -> Self {
        Self { base: etag.map(str::to_owned), ..self.clone() }
    }

    /// The same client for something that is to be added: the service refuses it if there is one of that name.
    #[must_use]
    pub fn new_only(&self) -> Self {
        Self { is_new: true, ..self.clone() }
    }

    /// The same client for changes that are only tried: everything is checked and answered as if it were done, and nothing
    /// is changed.
    #[must_use]
    pub fn trying(&self, is_trying: bool) -> Self {
        Self { is_trying, ..self.clone() }
    }

    /// Reads one thing together with which saved form of it this is.
    async fn read_edited<T: DeserializeOwned>(
        &self,
        request: RequestBuilder,
    ) -> Result<Edited<T>, ClientError> {
        let response = self.send(request).await?;
        let etag = response.headers().get(ETAG).and_then(|etag| etag.to_str().ok()).map(str::to_owned);
        Ok(Edited { value: self.parse(response).await?, etag })
    }

    async fn read<T: DeserializeOwned>(&self, request: RequestBuilder) -> Result<T, ClientError> {
        let response = self.send(request).await?;
        self.parse(response).await
    }

    async fn parse<T: DeserializeOwned>(&self, response: Response) -> Result<T, ClientError> {
        let body = response.bytes().await.map_err(|source| self.unreachable(source))?;
        serde_json::from_slice(&body)
            .map_err(|source| ClientError::Answer { server: self.server.clone(), source })
    }

    async fn text(&self, request: RequestBuilder) -> Result<String, ClientError> {
        self.send(request).await?.text().await.map_err(|source| self.unreachable(source))
    }

    async fn bytes(&self, request: RequestBuilder) -> Result<Vec<u8>, ClientError> {
        let bytes = self.send(request).await?.bytes().await;
        Ok(bytes.map_err(|source| self.unreachable(source))?.to_vec())
    }

    /// What comes for as long as the connection lasts.
    async fn stream<T: DeserializeOwned>(
        &self,
        request: RequestBuilder,
    ) -> Result<impl Stream<Item = T> + use<T>, ClientError> {
        let events = self.send(request).await?.bytes_stream().eventsource();
        // What this version cannot read is of a newer one, and passed over.
        Ok(events.filter_map(async |event| serde_json::from_str(&event.ok()?.data).ok()))
    }

    /// A call that answers nothing.
    async fn done(&self, request: RequestBuilder) -> Result<(), ClientError> {
        self.send(request).await.map(drop)
    }

    fn unreachable(&self, source: reqwest::Error) -> ClientError {
        ClientError::Unreachable { server: self.server.clone(), source }
    }
}

/// A name as one part of a path.
fn part(name: &str) -> String {
    percent_encoding::utf8_percent_encode(name, percent_encoding::NON_ALPHANUMERIC).to_string()
}
