//! Where models come from: sources, what they offer, what an offer would mean here.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{CachePrecision, ModelFacts};
use crate::Problem;

/// What kind of place a source is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum SourceKind {
    /// A folder of a web server with a depot index.
    Index,
    /// An OCI registry.
    Registry,
    /// A git repository, or many where the address has `{repo}`.
    Git,
    /// A hub that lists files as JSON.
    Listing,
    /// A folder of the service's machine.
    Folder,
}

/// How a hub lists its files: templates of addresses with `{repo}`, `{revision}` and `{path}`, and JSON
/// pointers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ListingRules {
    /// Where a file is.
    pub download: String,
    /// Where in the list the entries are; the list itself where it is empty.
    #[serde(default)]
    pub entries: String,
    /// Where in an entry the path is.
    pub path: String,
    /// Where in an entry the length is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bytes: Option<String>,
    /// Where in an entry the SHA-256 is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sha256: Option<String>,
}

/// `POST /manage/v1/sources`. One of the same name and address gets a new token.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SourceRequest {
    /// Its name: letters, digits and dashes.
    pub name: String,
    /// An address, or the absolute path of a folder; of a listing the template of the list of files.
    pub address: String,
    /// Told by the address where absent: a path is a folder, what ends in `.git` or has `{repo}` is git,
    /// anything else an index.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<SourceKind>,
    /// How a listing is read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub listing: Option<ListingRules>,
    /// User name of the token, if the source needs one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// A token; it is stored in a file that only the user of the service can read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    /// Absolute path of a file with a token, read whenever it is needed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token_file: Option<String>,
}

impl std::fmt::Debug for SourceRequest {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let token = self.token.as_ref().map(|_| "(secret)");
        f.debug_struct("SourceRequest")
            .field("name", &self.name)
            .field("address", &self.address)
            .field("kind", &self.kind)
            .field("token", &token)
            .finish_non_exhaustive()
    }
}

/// A source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SourceReport {
    /// Its name.
    pub name: String,
    /// What kind of place it is.
    pub kind: SourceKind,
    /// Where it is.
    pub address: String,
    /// The name its token belongs to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Where its token comes from, in words; nothing where it has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    /// When it was added.
    pub added_at: DateTime<Utc>,
}

/// Result of a check of a source.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SourceCheck {
    /// The source.
    pub name: String,
    /// Number of variants that it offers, if it lists them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub variants: Option<usize>,
    /// How long it took, in seconds.
    pub seconds: f64,
    /// Why it cannot be used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<Problem>,
}

/// Whether something fits into this machine's memory.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Fitting {
    /// As things are.
    Now,
    /// Once something else is unloaded.
    AfterUnloading,
    /// Only with a shorter context, fewer lanes, a smaller cache, in other pools, or with a higher limit.
    OtherSettings,
    /// Never.
    Never,
}

/// Whether something fits, and what it takes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Fit {
    /// The verdict.
    pub fits: Fitting,
    /// Bytes it takes when it is loaded with the usual settings.
    pub memory: u64,
    /// Whether this is estimated from the length of the files; a preview is exact.
    #[serde(default)]
    pub by_size_alone: bool,
}

/// A variant that a source offers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct OfferReport {
    /// How it is referred to: `source:model/variant`.
    pub reference: String,
    /// Its source.
    pub source: String,
    /// The model as the source calls it.
    pub model: String,
    /// The variant as the source calls it.
    pub variant: String,
    /// In a sentence.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// Licence.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub licence: Option<String>,
    /// Kinds of requests it serves.
    #[serde(default)]
    pub serves: Vec<String>,
    /// Family.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub family: Option<String>,
    /// Short name of its mix of tensor types.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quantisation: Option<String>,
    /// Number of values in all tensors.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parameters: Option<u64>,
    /// Longest context in tokens.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub context_length: Option<u32>,
    /// Bytes of its files, if known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
    /// Whether it fits into this machine's memory.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fit: Option<Fit>,
    /// Name of the variant with the same files in the depot.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub known_as: Option<String>,
}

/// A source that could not be asked.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SourceProblem {
    /// The source.
    pub source: String,
    /// Why.
    pub problem: Problem,
}

/// `GET /manage/v1/search`: what sources offer.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SearchReport {
    /// Variants, by reference.
    pub offers: Vec<OfferReport>,
    /// Sources that could not be asked.
    #[serde(alias = "troubles")]
    pub problems: Vec<SourceProblem>,
}

/// `POST /manage/v1/preview`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PreviewRequest {
    /// What: `source:model/variant`, or an address.
    pub reference: String,
}

/// A file of an offer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OfferFile {
    /// Its name.
    pub name: String,
    /// What it is for: `weights`, `projector`, `config`.
    pub role: String,
    /// Its length, if known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
    /// Its digest, if known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sha256: Option<String>,
    /// Whether its content is in the depot already.
    pub here: bool,
}

/// What loading would take with one context and one cache.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PreviewPlan {
    /// Tokens of context in the one lane.
    pub context: u32,
    /// Precision of cached keys and values.
    pub cache: CachePrecision,
    /// Whether it fits.
    pub fit: Fit,
}

/// How fast answers may come; an estimate.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SpeedEstimate {
    /// Tokens a second that one lane may answer: memory speed over size. A model with experts, which
    /// reads a part of itself for each token, may be faster.
    pub tokens_per_second: f64,
    /// Bytes a second that this machine's memory was measured to be read at.
    pub memory_bytes_per_second: f64,
}

/// The disk before and after.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DiskForecast {
    /// Bytes that are free.
    pub free: u64,
    /// Bytes to pull, if known.
    #[serde(alias = "fetch")]
    pub pull: u64,
    /// Bytes free afterwards; absent if there is too little space.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<u64>,
}

/// Facts of an offer, before its weights are pulled.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Preview {
    /// What the source says of it.
    pub offer: OfferReport,
    /// Its state, if the source has states.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revision: Option<String>,
    /// The name it gets in the depot.
    pub name: String,
    /// Its files.
    pub files: Vec<OfferFile>,
    /// What its headers say.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub facts: Option<ModelFacts>,
    /// Why it cannot be used here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refused: Option<Problem>,
    /// What an operator should know.
    #[serde(default)]
    pub notes: Vec<String>,
    /// What loading it would take.
    #[serde(default)]
    pub plans: Vec<PreviewPlan>,
    /// How fast answers may come.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub speed: Option<SpeedEstimate>,
    /// The disk before and after.
    pub disk: DiskForecast,
    /// Bytes that were read to know this.
    pub header_bytes: u64,
}

/// `POST /manage/v1/depot/pull`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PullRequest {
    /// What: `source:model/variant`, or an address.
    pub reference: String,
    /// `model` or `model/variant`; made from the source's names where absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Most that is fetched in a second, such as `20 MiB/s`; as fast as everything may where absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<String>,
}
