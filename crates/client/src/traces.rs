//! Traces of calls.

use deft_protocol::manage::{Trace, TraceSummary, TracesDeleted, Tracing, TracingRequest};
use reqwest::Method;
use uuid::Uuid;

use super::{Client, ClientError};

impl Client {
    /// Begins to trace the calls of a model.
    ///
    /// # Errors
    /// As all calls; there may be no such model.
    pub async fn trace_on(&self, request: &TracingRequest) -> Result<Tracing, ClientError> {
        self.post("/manage/v1/tracing", request).await
    }

    /// Stops tracing the calls of a model, or of all; returns what is still traced.
    ///
    /// # Errors
    /// As all calls; calls of the model may not be traced.
    pub async fn trace_off(&self, model: Option<&str>) -> Result<Vec<Tracing>, ClientError> {
        let query: Vec<_> = model.map(|model| ("model", model)).into_iter().collect();
        let request = self.request(Method::DELETE, "/manage/v1/tracing")?.query(&query);
        self.json(self.send(request).await?).await
    }

    /// All traces, the newest first.
    ///
    /// # Errors
    /// As all calls.
    pub async fn traces(&self) -> Result<Vec<TraceSummary>, ClientError> {
        self.get("/manage/v1/traces").await
    }

    /// The trace of a call.
    ///
    /// # Errors
    /// As all calls; there may be no such trace.
    pub async fn trace(&self, call: Uuid) -> Result<Trace, ClientError> {
        self.get(&format!("/manage/v1/traces/{call}")).await
    }

    /// Deletes all traces; returns how many there were.
    ///
    /// # Errors
    /// As all calls.
    pub async fn delete_traces(&self) -> Result<usize, ClientError> {
        let request = self.request(Method::DELETE, "/manage/v1/traces")?;
        let TracesDeleted { deleted } = self.json(self.send(request).await?).await?;
        Ok(deleted)
    }
}
