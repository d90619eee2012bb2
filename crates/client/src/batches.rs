//! Batches and their files.

use deft_protocol::batches::{Batch, BatchList, BatchRequest, FileObject};
use futures_util::StreamExt;
use reqwest::multipart::{Form, Part};
use reqwest::{Body, Method};
use tokio::io::{AsyncWrite, AsyncWriteExt};
use tokio_util::io::ReaderStream;

use super::{Client, ClientError};

impl Client {
    /// Uploads a file of calls with this name and size.
    ///
    /// # Errors
    /// As all calls; it may be too large.
    pub async fn upload(
        &self,
        name: String,
        file: tokio::fs::File,
        bytes: u64,
    ) -> Result<FileObject, ClientError> {
        let content = Body::wrap_stream(ReaderStream::new(file));
        let part = Part::stream_with_length(content, bytes).file_name(name);
        let form = Form::new().text("purpose", "batch").part("file", part);
        let request = self.request(Method::POST, "/v1/files")?.multipart(form);
        self.json(self.send(request).await?).await
    }

    /// Begins a batch.
    ///
    /// # Errors
    /// As all calls.
    pub async fn begin_batch(&self, request: &BatchRequest) -> Result<Batch, ClientError> {
        self.post("/v1/batches", request).await
    }

    /// The latest batches, the newest first.
    ///
    /// # Errors
    /// As all calls.
    pub async fn batches(&self) -> Result<Vec<Batch>, ClientError> {
        let list: BatchList = self.get("/v1/batches?limit=1000").await?;
        Ok(list.data)
    }

    /// A batch with its progress.
    ///
    /// # Errors
    /// As all calls; there may be no such batch.
    pub async fn batch(&self, id: &str) -> Result<Batch, ClientError> {
        self.get(&format!("/v1/batches/{id}")).await
    }

    /// Ends a batch.
    ///
    /// # Errors
    /// As all calls; it may have ended.
    pub async fn cancel_batch(&self, id: &str) -> Result<Batch, ClientError> {
        let request = self.request(Method::POST, &format!("/v1/batches/{id}/cancel"))?;
        self.json(self.send(request).await?).await
    }

    /// Writes the content of a file to `target`.
    ///
    /// # Errors
    /// As all calls; `target` may not take it.
    pub async fn download(
        &self,
        id: &str,
        target: &mut (impl AsyncWrite + Unpin),
    ) -> Result<(), ClientError> {
        let broken = |error: &dyn std::fmt::Display| ClientError::Broken(error.to_string());
        let request = self.request(Method::GET, &format!("/v1/files/{id}/content"))?;
        let mut content = self.send(request).await?.bytes_stream();
        while let Some(piece) = content.next().await {
            let piece = piece.map_err(|error| broken(&error))?;
            target.write_all(&piece).await.map_err(|error| broken(&error))?;
        }
        target.flush().await.map_err(|error| broken(&error))
    }
}
