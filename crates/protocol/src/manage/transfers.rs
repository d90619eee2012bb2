//! Changes of the depot: imports, exports, verification, pulls, and the progress of each.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use super::SettingsRequest;
use crate::Problem;

/// `POST /manage/v1/depot/import`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ImportRequest {
    /// Absolute path of the file, or of the first of its parts, on the service's machine.
    pub path: String,
    /// `model` or `model/variant`; made from file name and contents where absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Whether to move the file into the depot instead of copying it.
    #[serde(default, rename = "move", alias = "move_it")]
    pub moves: bool,
    /// Absolute path of an image projector that belongs to it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub projector: Option<String>,
    /// Absolute path of a chat template to use instead of the one in the file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub template: Option<String>,
    /// Default load settings of the variant.
    #[serde(default)]
    pub defaults: SettingsRequest,
}

/// `POST /manage/v1/depot/{model}/{variant}/export`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ExportRequest {
    /// Absolute path of a folder on the service's machine; it is created if it does not exist.
    pub folder: String,
}

/// `POST /manage/v1/depot/{model}/{variant}/rename`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RenameRequest {
    /// `model` or `model/variant`.
    pub name: String,
}

/// `POST /manage/v1/depot/verify`.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct VerifyRequest {
    /// Models or variants; all stored variants where empty.
    #[serde(default)]
    pub models: Vec<String>,
}

/// `POST /manage/v1/depot/scan`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ScanRequest {
    /// Absolute path of a folder on the service's machine.
    pub folder: String,
}

/// A model file that was found in a folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FoundModel {
    /// Path of its first file.
    pub path: String,
    /// Bytes of its files.
    pub file_bytes: u64,
    /// The name it would get.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Name of the variant with the same files in the depot.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub known_as: Option<String>,
    /// Why it cannot be used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refused: Option<String>,
    /// The image projector beside it that belongs to it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub projector: Option<String>,
}

/// A folder of the depot that this version cannot read. It is left unchanged.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NotUnderstood {
    /// `model/variant`, as far as known.
    pub name: String,
    /// Its folder.
    pub place: String,
    /// Why it cannot be read.
    pub why: String,
    /// Bytes of its files.
    pub bytes: u64,
}

/// Effect of removing a variant.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Removal {
    /// The variant.
    pub name: String,
    /// Whether its files are stored in the depot and are deleted; files that are only registered stay.
    #[serde(alias = "kept")]
    pub stored: bool,
    /// Bytes that the removal frees.
    pub frees: u64,
}

/// `GET /manage/v1/depot/usage`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DepotUsage {
    /// The depot's folder.
    pub folder: String,
    /// The variants, largest first.
    pub variants: Vec<VariantUsage>,
    /// Bytes of all stored files; files that variants share are counted once.
    pub total: u64,
    /// Free bytes of its file system.
    pub free: u64,
}

/// Disk usage of a variant.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct VariantUsage {
    /// The variant.
    pub name: String,
    /// Bytes of its files.
    pub bytes: u64,
    /// Whether its files are stored in the depot.
    #[serde(alias = "kept")]
    pub stored: bool,
    /// Bytes that its removal would free.
    pub frees: u64,
}

/// Kind of a transfer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum TransferKind {
    /// Copies or moves a file into the depot.
    Import,
    /// Copies the files of a variant into a folder.
    Export,
    /// Reads stored files and compares their digests.
    Verify,
    /// Copies a model from a source into the depot.
    Pull,
}

/// State of a transfer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum TransferState {
    /// Another transfer runs first.
    Waiting,
    /// It is in progress.
    Running,
    /// It succeeded.
    Done,
    /// It failed; `problem` has the reason.
    Failed,
    /// It was cancelled.
    Cancelled,
}

impl TransferState {
    /// Whether it has ended.
    #[must_use]
    pub const fn has_ended(self) -> bool {
        !matches!(self, Self::Waiting | Self::Running)
    }
}

/// Progress of one file of a transfer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FileProgress {
    /// Its name.
    pub name: String,
    /// Bytes done.
    pub done_bytes: u64,
    /// Length of the file, if known.
    pub total_bytes: u64,
}

/// A running or finished transfer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Transfer {
    /// Its id.
    pub id: Uuid,
    /// Its kind.
    pub kind: TransferKind,
    /// The variant, or what else it is about.
    pub about: String,
    /// Its state.
    pub state: TransferState,
    /// Present stage, if it is not copying: `looking`, `checking`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stage: Option<String>,
    /// The file in progress.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// Progress of its files, if it processes several in parallel.
    #[serde(default)]
    pub files: Vec<FileProgress>,
    /// Bytes done.
    pub done_bytes: u64,
    /// Bytes in total.
    pub total_bytes: u64,
    /// Bytes a second, while it runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate: Option<f64>,
    /// Seconds left at this rate.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seconds_left: Option<f64>,
    /// When it began.
    pub began_at: DateTime<Utc>,
    /// When it ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended_at: Option<DateTime<Utc>>,
    /// The result in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub outcome: Option<String>,
    /// Why it failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<Problem>,
}
