//! Typed client for the service's API, used by the command line and by tests.
#![forbid(unsafe_code)]

mod batches;
mod depot;
mod error;
mod profiles;
mod stream;
mod traces;

use std::time::Duration;

use deft_protocol::chat::{ChatRequest, ChatResponse, ErrorBody, ModelList};
use deft_protocol::manage::{
    CallRecord, ConsoleLink, ConsoleLinkRequest, InstanceReport, LimitRequest, LoadRequest,
    PlanReport, PlanRequest, Pool, RunningCall, ServiceStatus,
};
use deft_protocol::text::TextRequest;
use deft_protocol::{Problem, VERSION_HEADER};
use reqwest::{Method, RequestBuilder, Response, Url};
use serde::Serialize;
use serde::de::DeserializeOwned;
use uuid::Uuid;

pub use error::ClientError;
pub use stream::{AnswerStream, StatusStream, StreamedPiece};

/// Longest time that connecting may take.
const CONNECT: Duration = Duration::from_secs(5);

/// A client of one service.
#[derive(Debug, Clone)]
pub struct Client {
    http: reqwest::Client,
    base: Url,
    key: Option<String>,
}

/// A result together with the service's version, if the response has one.
type Versioned<T> = (T, Option<String>);

impl Client {
    /// A client for the service at `address`.
    ///
    /// # Errors
    /// The address is invalid.
    pub fn new(address: &str) -> Result<Self, ClientError> {
        let wrong = || ClientError::Address(address.to_owned());
        let base: Url = address.parse().map_err(|_| wrong())?;
        if !matches!(base.scheme(), "http" | "https") || base.host().is_none() {
            return Err(wrong());
        }
        // If another part of the program has installed one already, it is the same.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let mut http = reqwest::Client::builder()
            .user_agent(concat!("deft/", env!("CARGO_PKG_VERSION")))
            .connect_timeout(CONNECT)
            .no_proxy();
        if base.scheme() == "http" {
            // Reading all of the system's certificates would take most of a command's time.
            http = http.tls_certs_only([]);
        }
        let http = http.build().map_err(|error| ClientError::Broken(error.to_string()))?;
        Ok(Self { http, base, key: None })
    }

    /// The same, with a key that is sent with every request.
    #[must_use]
    pub fn with_key(mut self, key: Option<String>) -> Self {
        self.key = key;
        self
    }

    /// The address of the service.
    #[must_use]
    pub fn address(&self) -> &str {
        self.base.as_str().trim_end_matches('/')
    }

    fn request(&self, method: Method, path: &str) -> Result<RequestBuilder, ClientError> {
        let url = self.base.join(path).map_err(|_| ClientError::Address(path.to_owned()))?;
        Ok(self.http.request(method, url))
    }

    async fn send(&self, request: RequestBuilder) -> Result<Response, ClientError> {
        let request = match &self.key {
            Some(key) => request.bearer_auth(key),
            None => request,
        };
        let response = request.send().await.map_err(|error| {
            if error.is_connect() || error.is_timeout() {
                ClientError::NoService { address: self.address().to_owned() }
            } else {
                ClientError::Broken(error.to_string())
            }
        })?;
        if response.status().is_success() {
            return Ok(response);
        }
        let status = response.status();
        let body =
            response.bytes().await.map_err(|error| ClientError::Broken(error.to_string()))?;
        Err(self.refusal(status.as_u16(), &body))
    }

    fn refusal(&self, status: u16, body: &[u8]) -> ClientError {
        if let Ok(problem) = serde_json::from_slice::<Problem>(body) {
            return ClientError::Refused(problem);
        }
        if let Ok(ErrorBody { error }) = serde_json::from_slice(body) {
            return ClientError::Refused(stream::problem_of(&error, status));
        }
        let what = format!("status {status}: {}", String::from_utf8_lossy(body));
        ClientError::NotUnderstood { address: self.address().to_owned(), what }
    }

    async fn json<T: DeserializeOwned>(&self, response: Response) -> Result<T, ClientError> {
        let body =
            response.bytes().await.map_err(|error| ClientError::Broken(error.to_string()))?;
        serde_json::from_slice(&body).map_err(|error| ClientError::NotUnderstood {
            address: self.address().to_owned(),
            what: error.to_string(),
        })
    }

    async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, ClientError> {
        let response = match self.send(self.request(Method::GET, path)?).await {
            // The service closes idle connections, possibly at this very moment.
            Err(ClientError::Broken(_)) => self.send(self.request(Method::GET, path)?).await?,
            answered => answered?,
        };
        self.json(response).await
    }

    async fn post<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &(impl Serialize + Sync),
    ) -> Result<T, ClientError> {
        let response = self.send(self.request(Method::POST, path)?.json(body)).await?;
        self.json(response).await
    }

    /// Checks that the service answers; returns its version.
    ///
    /// # Errors
    /// No service answers, or another program does.
    pub async fn greet(&self) -> Result<Option<String>, ClientError> {
        let response = self.send(self.request(Method::GET, "/health/live")?).await?;
        Ok(version_of(&response))
    }

    /// The service's status, and its version.
    ///
    /// # Errors
    /// As all calls: no service answers, or it refused.
    pub async fn status(&self) -> Result<Versioned<ServiceStatus>, ClientError> {
        let response = self.send(self.request(Method::GET, "/manage/v1/status")?).await?;
        let version = version_of(&response);
        Ok((self.json(response).await?, version))
    }

    /// A link that gives a browser permission, once; optionally only a browser of this user.
    ///
    /// # Errors
    /// As all calls.
    pub async fn console_link(&self, own_browser: bool) -> Result<ConsoleLink, ClientError> {
        self.post("/manage/v1/console/links", &ConsoleLinkRequest { own_browser }).await
    }

    /// The status, now and after each change.
    ///
    /// # Errors
    /// As all calls.
    pub async fn events(&self) -> Result<StatusStream, ClientError> {
        let request = self.request(Method::GET, "/manage/v1/events")?;
        Ok(StatusStream::new(self.send(request).await?))
    }

    /// Plans several loads together.
    ///
    /// # Errors
    /// As all calls.
    pub async fn plan(&self, request: &PlanRequest) -> Result<PlanReport, ClientError> {
        self.post("/manage/v1/plans", request).await
    }

    /// Loads an instance, and waits until it is ready.
    ///
    /// # Errors
    /// As all calls; it may not fit.
    pub async fn load(&self, request: &LoadRequest) -> Result<InstanceReport, ClientError> {
        self.post("/manage/v1/instances", request).await
    }

    /// Unloads an instance, and waits until it has ended.
    ///
    /// # Errors
    /// As all calls.
    pub async fn unload(&self, id: Uuid, now: bool) -> Result<(), ClientError> {
        let path = format!("/manage/v1/instances/{id}?now={now}");
        self.send(self.request(Method::DELETE, &path)?).await.map(|_| ())
    }

    /// Retries to load a failed instance, and waits until it is ready.
    ///
    /// # Errors
    /// As all calls; it may fail again.
    pub async fn retry(&self, id: Uuid) -> Result<InstanceReport, ClientError> {
        self.post(&format!("/manage/v1/instances/{id}/retry"), &()).await
    }

    /// Changes a pool's limit until the service stops.
    ///
    /// # Errors
    /// As all calls; the pool may not exist, or the machine may have less memory.
    pub async fn limit(&self, pool: &str, limit: &str) -> Result<Pool, ClientError> {
        let mut url = self.base.clone();
        if let Ok(mut segments) = url.path_segments_mut() {
            segments.extend(["manage", "v1", "pools", pool]);
        }
        let request = LimitRequest { limit: limit.to_owned() };
        let response = self.send(self.http.put(url).json(&request)).await?;
        self.json(response).await
    }

    /// Waits until a model is ready.
    ///
    /// # Errors
    /// As all calls; it may not be ready in time.
    pub async fn wait_for(&self, model: &str, seconds: u64) -> Result<InstanceReport, ClientError> {
        let request = self
            .request(Method::GET, "/manage/v1/wait")?
            .query(&[("model", model), ("seconds", &seconds.to_string())]);
        let response = self.send(request).await?;
        self.json(response).await
    }

    /// The latest calls, newest first.
    ///
    /// # Errors
    /// As all calls.
    pub async fn calls(&self, count: u32) -> Result<Vec<CallRecord>, ClientError> {
        self.get(&format!("/manage/v1/calls?count={count}")).await
    }

    /// Running calls, oldest first.
    ///
    /// # Errors
    /// As all calls.
    pub async fn running_calls(&self) -> Result<Vec<RunningCall>, ClientError> {
        self.get("/manage/v1/calls/running").await
    }

    /// Cancels a running call.
    ///
    /// # Errors
    /// As all calls; it may have ended.
    pub async fn cancel_call(&self, id: Uuid) -> Result<(), ClientError> {
        let path = format!("/manage/v1/calls/{id}");
        self.send(self.request(Method::DELETE, &path)?).await.map(|_| ())
    }

    /// The models that can answer.
    ///
    /// # Errors
    /// As all calls.
    pub async fn models(&self) -> Result<ModelList, ClientError> {
        self.get("/v1/models").await
    }

    /// Asks a chat, and returns the whole answer.
    ///
    /// # Errors
    /// As all calls.
    pub async fn chat(&self, request: &ChatRequest) -> Result<ChatResponse, ClientError> {
        self.post("/v1/chat/completions", request).await
    }

    /// Sends a chat, and returns the answer as a stream. The request must have `stream` set.
    ///
    /// # Errors
    /// As all calls; later errors are in the stream.
    pub async fn chat_stream(&self, request: &ChatRequest) -> Result<AnswerStream, ClientError> {
        let request = self.request(Method::POST, "/v1/chat/completions")?.json(request);
        Ok(AnswerStream::new(self.send(request).await?))
    }

    /// Sends a text to continue, and returns the answer as a stream. The request must have `stream` set.
    ///
    /// # Errors
    /// As all calls; later errors are in the stream.
    pub async fn text_stream(&self, request: &TextRequest) -> Result<AnswerStream, ClientError> {
        let request = self.request(Method::POST, "/v1/completions")?.json(request);
        Ok(AnswerStream::new(self.send(request).await?))
    }
}

fn version_of(response: &Response) -> Option<String> {
    response.headers().get(VERSION_HEADER)?.to_str().ok().map(str::to_owned)
}

#[cfg(test)]
mod tests;
