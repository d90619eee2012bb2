//! Files of calls, and batches that answer them in the background.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;
use uuid::Uuid;

/// Begins the ids of files.
pub const FILE_PREFIX: &str = "file-";
/// Begins the ids of batches.
pub const BATCH_PREFIX: &str = "batch_";

/// The number in an id with this prefix.
#[must_use]
pub fn id_of(prefix: &str, id: &str) -> Option<Uuid> {
    Uuid::try_parse(id.strip_prefix(prefix)?).ok()
}

/// What a file is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum FilePurpose {
    /// Calls, one JSON object in each line.
    Batch,
    /// Answers of a batch.
    BatchOutput,
}

/// A file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FileObject {
    /// Its id.
    pub id: String,
    /// `file`.
    pub object: String,
    /// Its size.
    pub bytes: u64,
    /// Unix time.
    pub created_at: i64,
    /// Its name.
    pub filename: String,
    /// What it is for.
    pub purpose: FilePurpose,
    /// `processed`: it can be used.
    pub status: String,
}

/// `GET /v1/files`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FileList {
    /// `list`.
    pub object: String,
    /// The files, the newest first.
    pub data: Vec<FileObject>,
    /// Whether there are older ones: ask again with `after` and the last id.
    pub has_more: bool,
}

/// A file that is deleted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FileDeleted {
    /// Its id.
    pub id: String,
    /// `file`.
    pub object: String,
    /// True.
    pub deleted: bool,
}

/// The upload of a file, as a form of several parts.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FileUpload {
    /// `batch`.
    pub purpose: String,
    /// The file.
    #[schema(format = Binary, content_media_type = "application/octet-stream")]
    pub file: String,
}

/// `POST /v1/batches`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BatchRequest {
    /// The file with the calls.
    pub input_file_id: String,
    /// The path of all calls: `/v1/chat/completions`, `/v1/completions`, `/v1/embeddings`, `/v1/responses`, `/v1/messages` or
    /// `/v1/rerank`.
    pub endpoint: String,
    /// Longest duration in hours, such as `24h`; at most a week.
    pub completion_window: String,
    /// Returned as it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Object>)]
    pub metadata: Option<Map<String, Value>>,
}

/// A batch. Times are Unix times.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Batch {
    /// Its id.
    pub id: String,
    /// `batch`.
    pub object: String,
    /// The path of all calls.
    pub endpoint: String,
    /// Why it failed: lines of the file that are not calls.
    pub errors: Option<BatchErrors>,
    /// The file with the calls.
    pub input_file_id: String,
    /// From the request.
    pub completion_window: String,
    /// How far it is.
    pub status: BatchStatus,
    /// The file with the answers, when it has ended.
    pub output_file_id: Option<String>,
    /// The file with the calls that failed, when it has ended and there are some.
    pub error_file_id: Option<String>,
    /// When it was created.
    pub created_at: i64,
    /// When its first call began.
    pub in_progress_at: Option<i64>,
    /// When it ends at the latest.
    pub expires_at: i64,
    /// When all calls were answered.
    pub finalizing_at: Option<i64>,
    /// When it was complete.
    pub completed_at: Option<i64>,
    /// When it failed.
    pub failed_at: Option<i64>,
    /// When its time was over.
    pub expired_at: Option<i64>,
    /// When its end was requested.
    pub cancelling_at: Option<i64>,
    /// When it ended by request.
    pub cancelled_at: Option<i64>,
    /// How many calls it has.
    pub request_counts: BatchCounts,
    /// From the request.
    #[schema(value_type = Option<Object>)]
    pub metadata: Option<Map<String, Value>>,
}

/// How far a batch is.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum BatchStatus {
    /// The lines of its file are checked.
    #[default]
    Validating,
    /// Its file has lines that are not calls, or cannot be read.
    Failed,
    /// Calls are answered.
    InProgress,
    /// All calls are answered.
    Finalizing,
    /// The answers are there.
    Completed,
    /// Its time was over; the answers so far are there.
    Expired,
    /// Its end was requested.
    Cancelling,
    /// It was ended by request; the answers so far are there.
    Cancelled,
}

impl BatchStatus {
    /// Whether nothing will change any more.
    #[must_use]
    pub const fn has_ended(self) -> bool {
        matches!(self, Self::Failed | Self::Completed | Self::Expired | Self::Cancelled)
    }
}

/// How many calls a batch has.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct BatchCounts {
    /// All.
    pub total: u32,
    /// Answered.
    pub completed: u32,
    /// Failed.
    pub failed: u32,
}

/// Why a batch failed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct BatchErrors {
    /// `list`.
    pub object: String,
    /// The first defects.
    pub data: Vec<BatchError>,
}

/// A defect of a batch's file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct BatchError {
    /// Our stable code.
    pub code: String,
    /// What is wrong.
    pub message: String,
    /// The field at fault.
    pub param: Option<String>,
    /// The line, from 1.
    pub line: Option<u32>,
}

/// `GET /v1/batches`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BatchList {
    /// `list`.
    pub object: String,
    /// The batches, the newest first.
    pub data: Vec<Batch>,
    /// Whether there are older ones: ask again with `after` and the last id.
    pub has_more: bool,
}

/// A line of a batch's file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BatchLine {
    /// Name of the call, which its answer repeats.
    pub custom_id: String,
    /// `POST`.
    pub method: String,
    /// The path.
    pub url: String,
    /// The request.
    pub body: Map<String, Value>,
}

/// A line of the answers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BatchAnswer {
    /// Its id.
    pub id: String,
    /// Name of the call.
    pub custom_id: String,
    /// The answer, or the refusal.
    pub response: Option<BatchResponse>,
    /// Why the call was not answered at all.
    pub error: Option<BatchError>,
}

/// The response to a call.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BatchResponse {
    /// HTTP status.
    pub status_code: u16,
    /// Id of the call's record.
    pub request_id: String,
    /// Body.
    pub body: Value,
}
