//! HTTP to a controller: its resources are JSON, its refusals, too.

use std::{
    net::SocketAddr,
    sync::{Arc, PoisonError},
    time::Duration,
};

use reqwest::{Client, Method, RequestBuilder, Response, StatusCode, header, redirect};
use serde_json::Value;

use super::tls::{Fingerprint, Shown, Trust, config};
use crate::{Account, Failure};

/// How long a controller has for the connection, and for an answer: slow ones take many seconds for a system's resource.
const CONNECT: Duration = Duration::from_secs(5);
const ANSWER: Duration = Duration::from_secs(30);
/// Largest answer that is read: a system's resource has some tens of KiB.
const MOST: usize = 1 << 20;

/// A controller's web server.
#[derive(Debug, Clone)]
pub(super) struct Web {
    client: Client,
    base: String,
    account: Account,
    shown: Shown,
    trust: Trust,
}

/// A resource.
#[derive(Debug)]
pub(super) struct Resource {
    pub(super) body: Value,
    /// Which state of it this is (RFC 9110, section 8.8.3): a change is refused if it is another by then.
    pub(super) tag: Option<String>,
}

impl Web {
    pub(super) fn new(
        address: SocketAddr,
        account: Account,
        trust: Trust,
        is_plain: bool,
    ) -> Result<Self, Failure> {
        let (shown, cannot) =
            (Shown::default(), |error: &dyn std::error::Error| Failure::Unreachable(error.to_string()));
        let tls = config(trust, Arc::clone(&shown)).map_err(|error| cannot(&error))?;
        let client = Client::builder()
            .use_preconfigured_tls(tls)
            .connect_timeout(CONNECT)
            .timeout(ANSWER)
            // The password goes nowhere but to the controller itself.
            .redirect(redirect::Policy::none())
            .no_proxy()
            .build()
            .map_err(|error| cannot(&error))?;
        let scheme = if is_plain { "http" } else { "https" };
        Ok(Self { client, base: format!("{scheme}://{address}"), account, shown, trust })
    }

    pub(super) fn shown(&self) -> Option<Fingerprint> {
        *self.shown.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) async fn get(&self, path: &str) -> Result<Resource, Failure> {
        let response = self.send(self.request(Method::GET, path)).await?;
        let tag = response.headers().get(header::ETAG).and_then(|tag| tag.to_str().ok()).map(str::to_owned);
        let body = read(response).await?;
        let body = serde_json::from_slice(&body)
            .map_err(|error| Failure::Garbled(format!("{path} is no JSON: {error}")))?;
        Ok(Resource { body, tag })
    }

    pub(super) async fn post(&self, path: &str, body: &Value) -> Result<(), Failure> {
        self.send(self.request(Method::POST, path).json(body)).await.map(drop)
    }

    pub(super) async fn patch(&self, path: &str, tag: Option<&str>, body: &Value) -> Result<(), Failure> {
        let request = self.request(Method::PATCH, path).json(body);
        let request = match tag {
            Some(tag) => request.header(header::IF_MATCH, tag),
            None => request,
        };
        self.send(request).await.map(drop)
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        self.client
            .request(method, format!("{}{path}", self.base))
            .basic_auth(&self.account.user, Some(self.account.password.as_str()))
            .header(header::ACCEPT, "application/json")
            .header("OData-Version", "4.0")
    }

    async fn send(&self, request: RequestBuilder) -> Result<Response, Failure> {
        let response = request.send().await.map_err(|error| self.failed(&error))?;
        let status = response.status();
        if status.is_success() {
            return Ok(response);
        }
        let log_in = |why: &str| Failure::LogIn { user: self.account.user.clone(), why: why.into() };
        Err(match status {
            StatusCode::UNAUTHORIZED => log_in("user or password are not those that the controller has"),
            StatusCode::FORBIDDEN => log_in("it may not do this"),
            StatusCode::CONFLICT | StatusCode::PRECONDITION_FAILED | StatusCode::TOO_MANY_REQUESTS => {
                Failure::Busy(said(response).await)
            }
            StatusCode::SERVICE_UNAVAILABLE => Failure::Busy(said(response).await),
            StatusCode::NOT_FOUND | StatusCode::METHOD_NOT_ALLOWED | StatusCode::NOT_IMPLEMENTED => {
                Failure::Unsupported(said(response).await)
            }
            _ => Failure::Refused(said(response).await),
        })
    }

    /// Why no answer came.
    fn failed(&self, error: &reqwest::Error) -> Failure {
        if let (Trust::Pinned(expected), Some(shown)) = (self.trust, self.shown())
            && expected != shown
        {
            let why = format!("its certificate is {shown}, and {expected} is on record");
            return Failure::Impostor(why);
        }
        if error.is_timeout() {
            return Failure::Silent(if error.is_connect() { CONNECT } else { ANSWER });
        }
        let why = innermost(error);
        if error.is_connect() { Failure::Unreachable(why) } else { Failure::Garbled(why) }
    }
}

/// What is at the bottom of an error: those above only say that there is one below.
fn innermost(error: &dyn std::error::Error) -> String {
    let mut inner = error;
    while let Some(source) = inner.source() {
        inner = source;
    }
    inner.to_string()
}

/// An answer's body, as far as it is not larger than any that makes sense.
async fn read(mut response: Response) -> Result<Vec<u8>, Failure> {
    let mut body = Vec::new();
    loop {
        match response.chunk().await {
            Ok(Some(piece)) if body.len() + piece.len() <= MOST => body.extend_from_slice(&piece),
            Ok(Some(_)) => return Err(Failure::Garbled(format!("it is larger than {MOST} bytes"))),
            Ok(None) => return Ok(body),
            Err(error) if error.is_timeout() => return Err(Failure::Silent(ANSWER)),
            Err(error) => return Err(Failure::Garbled(innermost(&error))),
        }
    }
}

/// What a refusal says, in its own words (DSP0266, section 8.6: the extended information's messages).
async fn said(response: Response) -> String {
    let status = response.status();
    let body: Value = match read(response).await {
        Ok(body) => serde_json::from_slice(&body).unwrap_or_default(),
        Err(_) => Value::Null,
    };
    let error = &body["error"];
    let messages = error["@Message.ExtendedInfo"].as_array().into_iter().flatten();
    let mut messages = messages.filter_map(|one| one["Message"].as_str());
    let text = messages.next().or_else(|| error["message"].as_str()).unwrap_or_default();
    // Controllers write what they like.
    let plain: String = text.chars().filter(|character| !character.is_control()).take(300).collect();
    if plain.is_empty() { status.to_string() } else { format!("{plain} ({})", status.as_u16()) }
}
