//! Keeping model files: taking them in, moving them about, and how far that is.

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
    /// Whether the file is in the depot only afterwards.
    #[serde(default)]
    pub move_it: bool,
    /// Absolute path of an image projector that belongs to it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub projector: Option<String>,
    /// Absolute path of a chat template that stands in for the file's own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub template: Option<String>,
    /// How it is loaded where nothing else is said.
    #[serde(default)]
    pub defaults: SettingsRequest,
}

/// `POST /manage/v1/depot/{model}/{variant}/export`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ExportRequest {
    /// Absolute path of a folder on the service's machine; made where it is not there.
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
    /// Models or variants; everything that is kept where there is none.
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
    /// Where.
    pub path: String,
    /// Length of its files.
    pub file_bytes: u64,
    /// The name it would get.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The variant that it is in the depot already.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub known_as: Option<String>,
    /// Why it cannot be used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refused: Option<String>,
    /// The image projector beside it that belongs to it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub projector: Option<String>,
}

/// Something in the depot that this version does not understand. It stays as it is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NotUnderstood {
    /// `model/variant`, as far as that is known.
    pub name: String,
    /// Where its files are.
    pub place: String,
    /// Why it is not understood.
    pub why: String,
    /// Bytes of its files.
    pub bytes: u64,
}

/// What the removal of a variant does.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Removal {
    /// The variant.
    pub name: String,
    /// Whether its files are the depot's own, and go; else they stay where they are.
    pub kept: bool,
    /// Bytes that are free afterwards.
    pub frees: u64,
}

/// `GET /manage/v1/depot/usage`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DepotUsage {
    /// The depot's folder.
    pub folder: String,
    /// Each variant, the largest first.
    pub variants: Vec<VariantUsage>,
    /// Bytes of all that the depot keeps; what variants share is counted once.
    pub total: u64,
    /// Free bytes of its file system.
    pub free: u64,
}

/// What a variant takes of the disk.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct VariantUsage {
    /// The variant.
    pub name: String,
    /// Bytes of its files.
    pub bytes: u64,
    /// Whether its files are the depot's own.
    pub kept: bool,
    /// Bytes that its removal would free.
    pub frees: u64,
}

/// What a transfer does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum TransferKind {
    /// Takes a file into the depot.
    Import,
    /// Writes a variant's files into a folder.
    Export,
    /// Reads everything again and compares digests.
    Verify,
    /// Fetches a model from a source.
    Pull,
}

/// How far a transfer is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum TransferState {
    /// Another one is before it.
    Waiting,
    /// It goes on.
    Running,
    /// All is done.
    Done,
    /// It could not be done.
    Failed,
    /// It was told to stop.
    Cancelled,
}

impl TransferState {
    /// Whether nothing more happens.
    #[must_use]
    pub const fn has_ended(self) -> bool {
        !matches!(self, Self::Waiting | Self::Running)
    }
}

/// How far a transfer is with one file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FileProgress {
    /// Its name.
    pub name: String,
    /// Bytes that are done.
    pub done_bytes: u64,
    /// Its length, where it is told.
    pub total_bytes: u64,
}

/// A running or finished transfer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Transfer {
    /// Its id.
    pub id: Uuid,
    /// What it does.
    pub kind: TransferKind,
    /// About which variant, or what else.
    pub about: String,
    /// How far it is.
    pub state: TransferState,
    /// What it does right now, where that is not its usual work: `looking`, `checking`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stage: Option<String>,
    /// The file it is at.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// Its files, where it works on several at once.
    #[serde(default)]
    pub files: Vec<FileProgress>,
    /// Bytes that are done.
    pub done_bytes: u64,
    /// Bytes of all.
    pub total_bytes: u64,
    /// Bytes a second, while it runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate: Option<f64>,
    /// Seconds that are left at this rate.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seconds_left: Option<f64>,
    /// When it was begun.
    pub began_at: DateTime<Utc>,
    /// When it ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended_at: Option<DateTime<Utc>>,
    /// What came of it, in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub outcome: Option<String>,
    /// Why it failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<Problem>,
}
