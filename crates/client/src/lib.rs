//! The typed client over the admin API: for the command line, rehearsals and tests.

mod calls;
mod error;
mod upload;

pub use error::ClientError;
use reqwest::{Method, RequestBuilder, Response, StatusCode};
use serde::{Serialize, de::DeserializeOwned};
pub use upload::{UploadProgress, digest_file};

/// Where the API is if nobody says otherwise.
pub const DEFAULT_SERVER: &str = "http://127.0.0.1:8480";

/// A connection to one service.
#[derive(Debug, Clone)]
pub struct Client {
    http: reqwest::Client,
    server: String,
    user: String,
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
        Ok(Self { http, server, user: user.to_owned() })
    }

    /// The service's address as it was given.
    #[must_use]
    pub fn server(&self) -> &str {
        &self.server
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        let url = format!("{}{}{path}", self.server, lastmile_api::BASE);
        self.http.request(method, url).header("lastmile-user", &self.user)
    }

    async fn send(&self, request: RequestBuilder) -> Result<Response, ClientError> {
        let unreachable = |source| ClientError::Unreachable { server: self.server.clone(), source };
        let response = request.send().await.map_err(unreachable)?;
        let status = response.status();
        if status.is_success() {
            return Ok(response);
        }
        let body = response.bytes().await.map_err(unreachable)?;
        Err(match serde_json::from_slice(&body) {
            Ok(problem) => ClientError::Problem(problem),
            Err(_) => ClientError::NotOurs { server: self.server.clone(), status },
        })
    }

    async fn read<T: DeserializeOwned>(&self, request: RequestBuilder) -> Result<T, ClientError> {
        let response = self.send(request).await?;
        let body = response
            .bytes()
            .await
            .map_err(|source| ClientError::Unreachable { server: self.server.clone(), source })?;
        serde_json::from_slice(&body)
            .map_err(|source| ClientError::Answer { server: self.server.clone(), source })
    }

    async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, ClientError> {
        self.read(self.request(Method::GET, path)).await
    }

    async fn put_or_post<T: DeserializeOwned>(
        &self,
        method: Method,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T, ClientError> {
        self.read(self.request(method, path).json(body)).await
    }

    async fn delete(&self, path: &str) -> Result<(), ClientError> {
        let response = self.send(self.request(Method::DELETE, path)).await?;
        debug_assert_eq!(response.status(), StatusCode::NO_CONTENT);
        Ok(())
    }
}

/// A name as one part of a path.
fn part(name: &str) -> String {
    percent_encoding::utf8_percent_encode(name, percent_encoding::NON_ALPHANUMERIC).to_string()
}
