//! Models, sources and transfers.

use deft_protocol::manage::{
    CheckReport, CheckRequest, DepotUsage, ExportRequest, FoundModel, ImportRequest, NotUnderstood,
    Preview, PreviewRequest, PullRequest, RegisterRequest, Removal, RenameRequest, ScanRequest,
    SearchReport, Snippet, SourceCheck, SourceReport, SourceRequest, Transfer, Variant,
    VerifyRequest,
};
use reqwest::Method;
use uuid::Uuid;

use super::{Client, ClientError};

impl Client {
    /// All variants of the depot.
    ///
    /// # Errors
    /// As all calls.
    pub async fn depot(&self) -> Result<Vec<Variant>, ClientError> {
        self.get("/manage/v1/depot").await
    }

    /// What the depot contains that the service's version does not understand.
    ///
    /// # Errors
    /// As all calls.
    pub async fn not_understood(&self) -> Result<Vec<NotUnderstood>, ClientError> {
        self.get("/manage/v1/not-understood").await
    }

    /// One variant of the depot, by model or variant name.
    ///
    /// # Errors
    /// As all calls; there may be no such model.
    pub async fn inspect(&self, name: &str) -> Result<Variant, ClientError> {
        let mut url = self.base.clone();
        if let Ok(mut segments) = url.path_segments_mut() {
            segments.extend(["manage", "v1", "depot"]).extend(name.split('/'));
        }
        let response = self.send(self.http.get(url)).await?;
        self.json(response).await
    }

    /// Working calls of a model of this server.
    ///
    /// # Errors
    /// As all calls; there may be no such model.
    pub async fn snippets(&self, model: &str) -> Result<Vec<Snippet>, ClientError> {
        let request = self.request(Method::GET, "/manage/v1/snippets")?.query(&[("model", model)]);
        let response = self.send(request).await?;
        self.json(response).await
    }

    /// Tests a model; loads it if it is not loaded.
    ///
    /// # Errors
    /// As all calls; the model may not fit, or not be loadable at all.
    pub async fn check(&self, model: &str) -> Result<CheckReport, ClientError> {
        self.post("/manage/v1/checks", &CheckRequest { model: model.to_owned() }).await
    }

    /// Registers a model file.
    ///
    /// # Errors
    /// As all calls; the file may be refused.
    pub async fn register(&self, request: &RegisterRequest) -> Result<Variant, ClientError> {
        self.post("/manage/v1/depot/register", request).await
    }

    /// Begins an import.
    ///
    /// # Errors
    /// As all calls; the file may be refused.
    pub async fn import(&self, request: &ImportRequest) -> Result<Transfer, ClientError> {
        self.post("/manage/v1/depot/import", request).await
    }

    /// Begins an export.
    ///
    /// # Errors
    /// As all calls.
    pub async fn export(&self, name: &str, folder: &str) -> Result<Transfer, ClientError> {
        let request = ExportRequest { folder: folder.to_owned() };
        self.post(&format!("/manage/v1/depot/{name}/export"), &request).await
    }

    /// Begins to verify stored files.
    ///
    /// # Errors
    /// As all calls.
    pub async fn verify(&self, models: &[String]) -> Result<Transfer, ClientError> {
        let request = VerifyRequest { models: models.to_vec() };
        self.post("/manage/v1/depot/verify", &request).await
    }

    /// Finds models in a folder and below it.
    ///
    /// # Errors
    /// As all calls.
    pub async fn scan(&self, folder: &str) -> Result<Vec<FoundModel>, ClientError> {
        self.post("/manage/v1/depot/scan", &ScanRequest { folder: folder.to_owned() }).await
    }

    /// Returns the disk usage of the depot.
    ///
    /// # Errors
    /// As all calls.
    pub async fn usage(&self) -> Result<DepotUsage, ClientError> {
        self.get("/manage/v1/usage").await
    }

    /// Renames a variant.
    ///
    /// # Errors
    /// As all calls; it may be loaded, or the name taken.
    pub async fn rename(&self, variant: &str, name: &str) -> Result<Variant, ClientError> {
        let request = RenameRequest { name: name.to_owned() };
        self.post(&format!("/manage/v1/depot/{variant}/rename"), &request).await
    }

    /// Removes a variant, or returns how much that would free.
    ///
    /// # Errors
    /// As all calls; it may be loaded.
    pub async fn remove(&self, variant: &str, dry_run: bool) -> Result<Removal, ClientError> {
        let path = format!("/manage/v1/depot/{variant}?dry_run={dry_run}");
        let response = self.send(self.request(Method::DELETE, &path)?).await?;
        self.json(response).await
    }

    /// All sources.
    ///
    /// # Errors
    /// As all calls.
    pub async fn sources(&self) -> Result<Vec<SourceReport>, ClientError> {
        self.get("/manage/v1/sources").await
    }

    /// Adds a source, or changes the token of an existing one.
    ///
    /// # Errors
    /// As all calls; the name may be taken.
    pub async fn add_source(&self, request: &SourceRequest) -> Result<SourceReport, ClientError> {
        self.post("/manage/v1/sources", request).await
    }

    /// Checks that a source can be reached.
    ///
    /// # Errors
    /// As all calls. Why the source cannot be reached is in the result.
    pub async fn check_source(&self, name: &str) -> Result<SourceCheck, ClientError> {
        self.post(&format!("/manage/v1/sources/{name}/check"), &()).await
    }

    /// Removes a source.
    ///
    /// # Errors
    /// As all calls.
    pub async fn remove_source(&self, name: &str) -> Result<SourceReport, ClientError> {
        let path = format!("/manage/v1/sources/{name}");
        let response = self.send(self.request(Method::DELETE, &path)?).await?;
        self.json(response).await
    }

    /// Searches the offers of the sources.
    ///
    /// # Errors
    /// As all calls.
    pub async fn search(
        &self,
        words: &[String],
        source: Option<&str>,
    ) -> Result<SearchReport, ClientError> {
        let mut request = self.request(Method::GET, "/manage/v1/search")?;
        request = request.query(&[("words", words.join(" "))]);
        if let Some(source) = source {
            request = request.query(&[("source", source)]);
        }
        let response = self.send(request).await?;
        self.json(response).await
    }

    /// Previews an offer on the service's machine.
    ///
    /// # Errors
    /// As all calls; the offer may not exist.
    pub async fn preview(&self, reference: &str) -> Result<Preview, ClientError> {
        let request = PreviewRequest { reference: reference.to_owned() };
        self.post("/manage/v1/preview", &request).await
    }

    /// Begins a pull.
    ///
    /// # Errors
    /// As all calls; the reference may be invalid.
    pub async fn pull(&self, request: &PullRequest) -> Result<Transfer, ClientError> {
        self.post("/manage/v1/depot/pull", request).await
    }

    /// Running transfers and the latest ended ones, newest first.
    ///
    /// # Errors
    /// As all calls.
    pub async fn transfers(&self) -> Result<Vec<Transfer>, ClientError> {
        self.get("/manage/v1/transfers").await
    }

    /// Returns one transfer.
    ///
    /// # Errors
    /// As all calls; the transfer may not be remembered any more.
    pub async fn transfer(&self, id: Uuid) -> Result<Transfer, ClientError> {
        self.get(&format!("/manage/v1/transfers/{id}")).await
    }

    /// Cancels a transfer.
    ///
    /// # Errors
    /// As all calls.
    pub async fn cancel_transfer(&self, id: Uuid) -> Result<Transfer, ClientError> {
        let path = format!("/manage/v1/transfers/{id}");
        let response = self.send(self.request(Method::DELETE, &path)?).await?;
        self.json(response).await
    }
}
