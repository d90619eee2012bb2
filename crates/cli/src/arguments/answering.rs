//! How to ask, as it is written.

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use deft_protocol::chat::CallPriority;

/// How to answer.
#[derive(Debug, Clone, Args)]
pub(crate) struct Answering {
    /// Tell the model how to behave.
    #[arg(long, value_name = "TEXT")]
    pub(crate) system: Option<String>,
    /// 0 takes the likeliest token always; 1 follows the model.
    #[arg(long)]
    pub(crate) temperature: Option<f32>,
    /// Choose among this many of the likeliest tokens only.
    #[arg(long, value_name = "COUNT")]
    pub(crate) top_k: Option<u32>,
    /// Choose among the likeliest tokens that together reach this share.
    #[arg(long, value_name = "SHARE")]
    pub(crate) top_p: Option<f32>,
    /// Choose among tokens at least this share as likely as the likeliest.
    #[arg(long, value_name = "SHARE")]
    pub(crate) min_p: Option<f32>,
    /// Make tokens of prompt and answer less likely to come again; 1 changes nothing.
    #[arg(long, value_name = "FACTOR")]
    pub(crate) repetition_penalty: Option<f32>,
    /// Draw the same tokens each time.
    #[arg(long)]
    pub(crate) seed: Option<u64>,
    /// End the answer after so many tokens.
    #[arg(long, value_name = "TOKENS")]
    pub(crate) max_tokens: Option<u32>,
    /// End the answer before this text; may be given several times.
    #[arg(long, value_name = "TEXT")]
    pub(crate) stop: Vec<String>,
    /// How the call stands to others that wait for a lane.
    #[arg(long, value_enum)]
    pub(crate) priority: Option<Priority>,
    /// Tell counts, rates and times of each answer.
    #[arg(long)]
    pub(crate) stats: bool,
}

/// How a call stands to others.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Priority {
    /// Before all others.
    Urgent,
    /// In turn with others.
    Usual,
    /// When nothing else waits, or it waited long.
    Background,
}

impl From<Priority> for CallPriority {
    fn from(priority: Priority) -> Self {
        match priority {
            Priority::Urgent => Self::Urgent,
            Priority::Usual => Self::Usual,
            Priority::Background => Self::Background,
        }
    }
}

#[derive(Debug, Args)]
pub(crate) struct Ask {
    /// Model or variant, a path to a model file, or a reference to one that a source offers; with
    /// `--with` the question begins here.
    #[arg(required_unless_present = "with")]
    pub(crate) model: Option<String>,
    /// The question; read from standard input where absent or `-`.
    pub(crate) question: Vec<String>,
    /// Ask several models, or one several times, and show their answers side by side.
    #[arg(long, value_name = "MODEL,MODEL", value_delimiter = ',', help_heading = "Side by side")]
    pub(crate) with: Vec<String>,
    /// Ask them one after the other, not at the same time.
    #[arg(long, requires = "with", help_heading = "Side by side")]
    pub(crate) in_turn: bool,
    /// Ask them one after the other, and unload each after its answer.
    #[arg(long, requires = "with", help_heading = "Side by side")]
    pub(crate) release: bool,
    /// Keep the answers with their figures in this file: Markdown, or JSON where it ends in `.json`.
    #[arg(long, requires = "with", value_name = "FILE", help_heading = "Side by side")]
    pub(crate) export: Option<PathBuf>,
    /// Continue the text without a chat template.
    #[arg(long, conflicts_with = "system")]
    pub(crate) raw: bool,
    /// Fetch a model that is not in the depot without asking.
    #[arg(long)]
    pub(crate) fetch: bool,
    #[command(flatten)]
    pub(crate) answering: Answering,
}

#[derive(Debug, Args)]
pub(crate) struct Talk {
    /// Model or variant, a path to a model file, or a reference to one that a source offers.
    pub(crate) model: String,
    /// Fetch a model that is not in the depot without asking.
    #[arg(long)]
    pub(crate) fetch: bool,
    #[command(flatten)]
    pub(crate) answering: Answering,
}
